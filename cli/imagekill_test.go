package cli

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// imageWorkspace makes the workspace of tideImage, and returns what runs commands in it.
func imageWorkspace(t *testing.T) (dir string, run func(shell string) (string, error)) {
	t.Helper()
	top := t.TempDir()
	os.Mkdir(filepath.Join(top, "tmp"), 0o755)
	run = func(shell string) (string, error) {
		cmd := exec.Command("sh", "-ec", shell)
		cmd.Env = environment(top)
		if cmd.Dir = filepath.Join(top, "tides"); dir == "" {
			cmd.Dir = top
		}
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	if out, err := run(tideImage); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	dir = filepath.Join(top, "tides")
	return dir, run
}

// An image that is killed while it is made leaves the one of before whole, and nothing that the
// next one stumbles over or leaves lying.
func TestKilledImages(t *testing.T) {
	dir, run := imageWorkspace(t)
	digest := func() string {
		t.Helper()
		out, err := run("ellwand show images/made/tide.oci --json && ellwand show images/made/tide.tar.zst >/dev/null")
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		_, rest, _ := strings.Cut(out, `"digest": "`)
		return rest[:64]
	}
	known := map[string]bool{digest(): true}
	began := time.Now()
	change := func(n string) string {
		return `sed -i 's/^TZ = .*/TZ = "` + n + `"/' images/tide.toml`
	}
	if out, err := run(change("usual") + " && ellwand image tide -q"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	usual := time.Since(began)
	known[digest()] = true
	for n := range 6 {
		zone := []string{"UTC", "usual"}[n%2]
		if out, err := run(change(zone)); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		cmd := exec.Command(filepath.Join(programDir, "ellwand"), "image", "tide", "-q")
		cmd.Dir, cmd.Env = dir, environment(filepath.Dir(dir))
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(rand.Int64N(int64(usual))))
		cmd.Process.Kill()
		cmd.Wait()
		if now := digest(); !known[now] {
			t.Fatalf("kill %d: the image is neither the old nor the new one", n)
		}
	}
	if out, err := run("ellwand image tide -q"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "images/made/.new-*")); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
}

// What is wrong with an image's surroundings is told as what it is, and nothing is left behind.
func TestImageTroubles(t *testing.T) {
	dir, run := imageWorkspace(t)
	for _, c := range []struct{ name, shell, want string }{
		{"a full disk", `printf 'format = 1\npackages = []\nsystem = "minimal"\n' >images/plain.toml; rm -rf images/made && mkdir images/made && unshare -Urm sh -c 'mount -t tmpfs -o size=700k none images/made && ellwand image plain; status=$?; ls -A images/made; exit $status'`, "no space left on device"},
		{"a system that is gone", "mv minimal gone; ellwand image tide", "there is no system minimal"},
		{"a system that is an empty archive", "mv gone minimal; : >empty.tar; sed -i 's/^system = .*/system = \"empty.tar\"/' images/tide.toml; ellwand image tide --update", "needs command/sh"},
		{"a system that is cut short", "tar -C minimal -cf whole.tar . && head -c 100000 whole.tar >cut.tar && sed -i 's/^system = .*/system = \"cut.tar\"/' images/tide.toml && ellwand image tide --update", "unexpected EOF"},
		{"a system whose files lead out of it", `mkdir -p evil/usr && ln -s / evil/etc && (cd evil && tar -cf ../evil.tar etc && rm etc && mkdir etc && echo evil >etc/evil-was-here && tar -rf ../evil.tar etc/evil-was-here) && sed -i 's/^system = .*/system = "evil.tar"/' images/tide.toml; ellwand image tide --update; status=$?; test ! -e /evil-was-here || echo ESCAPED; exit $status`, ""},
		{"a script of a package that fails", `sed -i 's/^system = .*/system = "minimal"/' images/tide.toml && sed -i "s/^post-install = .*/post-install = 'echo no tides; exit 3'/" recipes/tide/recipe.toml && ellwand build -q tide && ellwand image tide --update`, "the post-install script of tide ended with exit status 3"},
	} {
		out, err := run(c.shell)
		if err == nil || !strings.Contains(strings.Join(strings.Fields(out), " "), c.want) || strings.Contains(out, "ESCAPED") || strings.Contains(out, "panic") {
			t.Errorf("%s: %v, want %q\n%s", c.name, err, c.want, out)
		}
		if left, _ := filepath.Glob(filepath.Join(dir, "images/made/.new-*")); len(left) > 0 || strings.Contains("\n"+out, "\n.new-") {
			t.Errorf("%s: left: %q\n%s", c.name, left, out)
		}
	}
}
