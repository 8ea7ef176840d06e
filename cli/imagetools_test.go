package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"ellwand.example/core/testtool"
)

// tideImage is a workspace with an image that other people's tools are to read.
const tideImage = `
mkdir -p tides/recipes/tide tides/images && cd tides
cat >ellwand.toml <<'END'
name = "tides"
END
cat >recipes/tide/recipe.toml <<'END'
format = 1
name = "tide"
version = "1"
release = 1
arch = "independent"
summary = "Tides"
license = "MIT"
[steps]
stage = '''
mkdir -p "$DESTDIR/usr/bin" "$DESTDIR/etc/tide" "$DESTDIR/usr/share/tide"
printf '#!/bin/sh\necho "high tide at $(cat /etc/tide/hour) [$TZ]"\n' >"$DESTDIR/usr/bin/tide"
chmod 755 "$DESTDIR/usr/bin/tide"
echo 7 >"$DESTDIR/etc/tide/hour"
echo 1,2 >"$DESTDIR/usr/share/tide/a table"
ln -s "a table" "$DESTDIR/usr/share/tide/link"
'''
[package.tide.layout]
"/usr/bin/tide" = {}
"/etc/tide/*" = { kind = "config", mode = "0600" }
"/usr/share/tide/*" = {}
[package.tide.script]
post-install = 'echo done >/etc/tide/installed'
END
cat >images/tide.toml <<'END'
format = 1
packages = ["tide"]
system = "minimal"
forms = ["oci", "archive"]
[environment]
TZ = "UTC"
[run]
command = ["/usr/bin/tide"]
[oci]
archive = true
END
mkdir -p minimal/usr/bin minimal/etc minimal/dev minimal/proc minimal/sys
ln -s usr/bin minimal/bin
for program in $(command -v sh) $(command -v cat) $(ldd "$(command -v sh)" "$(command -v cat)" | grep -o '/[^ :]*' | sort -u); do
	case $program in */bin/*) path=/usr/bin/${program##*/} ;; *) path=$program ;; esac
	mkdir -p "minimal${path%/*}"
	cp -L "$program" "minimal$path"
done
ellwand build -q tide
ellwand image tide -q
`

// Other people's tools read an image, copy it, unpack it to the tree that an installation makes,
// and run it as an ordinary user.
func TestImageTools(t *testing.T) {
	skopeo, umoci, runc := testtool.Find(t, "skopeo"), testtool.Find(t, "umoci"), testtool.Find(t, "runc")
	dir := t.TempDir()
	var user *syscall.Credential
	if os.Geteuid() == 0 {
		user = &syscall.Credential{Uid: 1234, Gid: 1234}
		if err := os.Chown(dir, 1234, 1234); err != nil {
			t.Fatal(err)
		}
		for up := dir; up != os.TempDir() && up != "/"; up = filepath.Dir(up) {
			os.Chmod(up, 0o755)
		}
	}
	run := func(args ...string) string {
		t.Helper()
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "HOME="+dir, "XDG_RUNTIME_DIR="+dir, "TMPDIR="+dir, "XDG_CACHE_HOME="+dir+"/cache", "PATH="+programDir+":"+os.Getenv("PATH")+":/usr/sbin:/sbin")
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: user}
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%q: %v\n%s", args, err, out)
		}
		return string(out)
	}
	run("sh", "-ec", tideImage)
	layout := filepath.Join(dir, "tides/images/made/tide.oci")
	var inspected struct {
		Architecture, Os string
		Env              []string
	}
	if err := json.Unmarshal([]byte(run(skopeo, "inspect", "oci:"+layout+":latest")), &inspected); err != nil {
		t.Fatal(err)
	}
	if inspected.Os != "linux" || inspected.Architecture == "" || !slices.Contains(inspected.Env, "TZ=UTC") {
		t.Errorf("%+v", inspected)
	}
	run(skopeo, "copy", "--insecure-policy", "oci:"+layout+":latest", "oci:"+dir+"/copied:tide")
	run(skopeo, "copy", "--insecure-policy", "oci-archive:"+layout+".tar:latest", "oci:"+dir+"/copied:again")
	run(umoci, "unpack", "--rootless", "--image", dir+"/copied:again", dir+"/bundle")

	// The same packages in a root on the same system, and that system around them.
	run("sh", "-ec", `cd tides && ellwand root create station --system minimal -q && ellwand root install station tide -q && cp -a minimal tree && cp -a station/. tree/`)
	list := `cd "$0" && find . \( -path ./var/lib/ellwand -o -path ./dev -o -path ./proc -o -path ./sys \) -prune -o \( -type f -printf '%p %m %s\n' -o -type l -printf '%p -> %l\n' -o -type d -printf '%p %m\n' \) | grep -v '^\. ' | sort; find . -type f -not -path './var/lib/ellwand/*' -print0 | sort -z | xargs -0 sha256sum`
	unpacked, installed := run("sh", "-ec", list, dir+"/bundle/rootfs"), run("sh", "-ec", list, dir+"/tides/tree")
	if unpacked != installed || !strings.Contains(unpacked, "./etc/tide/installed") {
		t.Errorf("the image unpacks to\n%s\nand the installation is\n%s", unpacked, installed)
	}
	// So does the archive.
	run("sh", "-ec", "mkdir flat && tar --zstd -xf tides/images/made/tide.tar.zst -C flat")
	if flat := run("sh", "-ec", list, dir+"/flat"); flat != installed {
		t.Errorf("the archive unpacks to\n%s\nand the installation is\n%s", flat, installed)
	}
	config := filepath.Join(dir, "bundle/config.json")
	data, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	var settings map[string]any
	if err := json.Unmarshal(data, &settings); err != nil {
		t.Fatal(err)
	}
	settings["process"].(map[string]any)["terminal"] = false
	data, _ = json.Marshal(settings)
	if err := os.WriteFile(config, data, 0o644); err != nil {
		t.Fatal(err)
	}
	if out := run(runc, "--root", dir+"/runc", "run", "--bundle", dir+"/bundle", "tide"+strconv.Itoa(os.Getpid())); !strings.Contains(out, "high tide at 7 [UTC]") {
		t.Errorf("the container says %q", out)
	}
}
