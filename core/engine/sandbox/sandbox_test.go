package sandbox

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/engine/layer"
)

func TestMain(m *testing.M) {
	Enter()
	// What is started again in a sandbox leaves its coverage data there too.
	if dir := os.Getenv("GOCOVERDIR"); dir != "" {
		os.Chmod(dir, 0o777)
	}
	os.Exit(m.Run())
}

// run runs a script without isolation.
func run(t *testing.T, ctx context.Context, script string) (string, error) {
	t.Helper()
	var out bytes.Buffer
	_, err := None{}.Run(ctx, Command{Name: "build", Script: script, Dir: t.TempDir(), Env: []string{"PATH=/usr/bin:/bin"}, Files: t.TempDir(), Output: &out})
	return out.String(), err
}

// box is a sandbox of namespaces for tests.
type box struct {
	Namespaces
	command Command
	out     bytes.Buffer
}

func newBox(t *testing.T) *box {
	t.Helper()
	dir := t.TempDir()
	os.Chmod(dir, 0o755)
	check := filepath.Join(dir, "check")
	// The kernel leaves directories there that nobody may enter.
	t.Cleanup(func() { layer.RemoveAll(dir) })
	os.Mkdir(check, 0o755)
	n, err := Check(t.Context(), check)
	if err != nil {
		t.Fatal(err)
	}
	tree := Tree{Lower: []string{filepath.Join(dir, "lower")}, Upper: filepath.Join(dir, "upper, with: signs"), Work: filepath.Join(dir, "kernel")}
	for _, d := range []string{tree.Lower[0], tree.Upper, tree.Work, filepath.Join(dir, "files")} {
		os.Mkdir(d, 0o755)
	}
	b := &box{Namespaces: n}
	b.command = Command{Name: "build", Dir: TreeDir, Env: []string{"PATH=/usr/bin:/bin"}, Files: filepath.Join(dir, "files"), Output: &b.out, Tree: tree}
	return b
}

// run runs a script in the sandbox.
func (b *box) run(ctx context.Context, script string) (Usage, error) {
	b.out.Reset()
	b.command.Script = script
	return b.Run(ctx, b.command)
}

// What a step sees: an unprivileged user, the system, its tree, and nothing else.
func TestInside(t *testing.T) {
	b := newBox(t)
	os.WriteFile(filepath.Join(b.command.Tree.Lower[0], "below"), []byte("below\n"), 0o644)
	over := t.TempDir()
	os.Chmod(over, 0o755)
	os.MkdirAll(filepath.Join(over, "usr/share/ellwand-test"), 0o755)
	os.MkdirAll(filepath.Join(over, "var/lib/ellwand-test"), 0o755)
	os.WriteFile(filepath.Join(over, "usr/share/ellwand-test/it"), []byte("laid over\n"), 0o644)
	b.command.Over = []string{over}
	b.command.Recipe = t.TempDir()
	os.Chmod(b.command.Recipe, 0o755)
	os.WriteFile(filepath.Join(b.command.Recipe, "beside"), []byte("beside\n"), 0o644)
	usage, err := b.run(t.Context(), `id -u; id -un; hostname; pwd; cat below /recipe/beside /usr/share/ellwand-test/it
grep -c : /proc/net/dev; ls /home /root /sys | grep -vc :; ls /proc | grep -c '^[0-9]' >/dev/null; ls /var/lib
echo above >above; rm below; echo x >/tmp/x; test -w /dev/null; test -d /usr/lib; umask`)
	want := "1000\nbuild\nellwand\n/build\nbelow\nbeside\nlaid over\n1\n2\nellwand-test\n0022\n"
	if err != nil || b.out.String() != want {
		t.Errorf("%v\n%s", err, b.out.String())
	}
	if usage.Memory == 0 || usage.CPU == 0 {
		t.Errorf("usage: %+v", usage)
	}
	if _, err := os.Stat(filepath.Join(b.command.Tree.Lower[0], "below")); err != nil {
		t.Errorf("the directory below changed: %v", err)
	}
	if text, err := os.ReadFile(filepath.Join(b.command.Tree.Upper, "above")); err != nil || string(text) != "above\n" {
		t.Errorf("what was written: %q, %v", text, err)
	}
	b.command.Tree.Lower, b.Copies = nil, true
	if _, err := b.run(t.Context(), "cat above; id -un; echo more >more"); err != nil || b.out.String() != "above\nbuild\n" {
		t.Errorf("without overlay mounts: %v\n%s", err, b.out.String())
	}
}

// What a step opens and runs of the system is told, on request.
func TestTrace(t *testing.T) {
	b := newBox(t)
	b.command.Trace = true
	usage, err := b.run(t.Context(), "cd /usr/share; sh -c 'cat base-files/../../lib/os-release; env true' >/dev/null; cat /nothing /build/x 2>/dev/null || true; (exec /bin/cat /usr/lib/os-release | head -c 3)")
	if err != nil || b.out.String() != "PRE" && len(b.out.String()) != 3 {
		t.Fatalf("%v\n%s", err, b.out.String())
	}
	seen := map[string]string{}
	for _, touch := range usage.Touched {
		if seen[touch.Path] == "" {
			seen[touch.Path] = touch.By
		}
		if strings.HasPrefix(touch.Path, "/build") || touch.Path == "/nothing" {
			t.Errorf("%+v is not of the system", touch)
		}
	}
	if _, ok := seen["/usr/lib/os-release"]; !ok || !strings.Contains(seen["/usr/bin/true"], "env") || !strings.Contains(seen["/usr/bin/env"], "sh") {
		t.Errorf("touched: %v", seen)
	}
}

// If a machine refuses namespaces, the reason is reported.
func TestRefused(t *testing.T) {
	if os.Getenv("ELLWAND_TEST_REFUSED") != "" {
		_, err := Check(t.Context(), t.TempDir())
		var refused *RefusedError
		if !errors.As(err, &refused) || !strings.Contains(err.Error(), "max_user_namespaces") {
			t.Errorf("refused: %v", err)
		}
		return
	}
	cmd := exec.Command("unshare", "-Ur", "sh", "-c", `echo 0 >/proc/sys/user/max_user_namespaces; exec "$0" -test.run='^TestRefused$'`, os.Args[0])
	cmd.Env = append(os.Environ(), "ELLWAND_TEST_REFUSED=1")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
}

// A failed script names the line of the statement that failed.
func TestFailingLine(t *testing.T) {
	for _, c := range []struct {
		script       string
		status, line int
	}{
		{"true\n\nfalse\ntrue\n", 1, 3},
		{"true; exit 7", 7, 1},
		{"for i in 1 2; do\n  true\n  false\ndone\n", 1, 3},
		{"if true; then\n  false\nfi", 1, 2},
		{"f() {\n  false\n}\nf\n", 1, 2},
		{"case x in\nx)\n  false ;;\nesac", 1, 3},
		{"cat <<EOF\n$(echo one)\nEOF\n# comment\necho \"$unset\"\n", 2, 5},
		{"! true\nfalse ||\n false\n", 1, 2},
		{"(\n true\n false\n)\n", 1, 1},
		{"x=$( { echo out; echo err >&2; } 2>&1 )\ntest \"$x\" = \"out\nerr\"\nfalse", 1, 4},
		{"kill -TERM $$; sleep 5", 143, 1},
	} {
		_, err := run(t, context.Background(), c.script)
		var exit *ExitError
		if !errors.As(err, &exit) || exit.Status != c.status || exit.Line != c.line && exit.Signal == "" {
			t.Errorf("%q: %+v, want status %d on line %d", c.script, err, c.status, c.line)
		}
	}
	if out, err := run(t, context.Background(), "umask; set -- a 'b c'; for x; do echo \"$x\"; done"); err != nil || out != "0022\na\nb c\n" {
		t.Errorf("a script that works: %q, %v", out, err)
	}
	if out, err := run(t, context.Background(), "if true; then\n"); err == nil || !strings.Contains(out, "build") {
		t.Errorf("no shell at all: %q, %v", out, err)
	}
}

// Nothing that a script started is left when it ends, or is interrupted.
func TestNothingLeft(t *testing.T) {
	alive := func(pid string) bool {
		state, err := os.ReadFile("/proc/" + pid + "/stat")
		return err == nil && !strings.Contains(string(state), ") Z ")
	}
	for _, c := range []struct {
		script string
		limit  time.Duration
	}{{"sleep 60 & echo $!", time.Minute}, {"sleep 60 & echo $!; wait", 300 * time.Millisecond}, {"trap '' TERM; sleep 60 & echo $!; wait", 300 * time.Millisecond}} {
		ctx, cancel := context.WithTimeout(context.Background(), c.limit)
		began := time.Now()
		out, err := run(t, ctx, c.script)
		if ctx.Err() != nil && !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("%s: %v", c.script, err)
		}
		cancel()
		pid := strings.TrimSpace(out)
		for range 50 {
			if !alive(pid) {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		if pid == "" || alive(pid) || time.Since(began) > grace+5*time.Second {
			t.Errorf("%s: process %s is alive: %v, after %s", c.script, pid, alive(pid), time.Since(began))
		}
	}
}

func FuzzInstrument(f *testing.F) {
	f.Add("if a; then b; fi <<E\nx\nE\nfor i in 1; do c & done; case $x in a) b;; esac")
	f.Fuzz(func(t *testing.T, script string) {
		out := instrument(script, "/x")
		if strings.Count(out, "\n") != strings.Count(script, "\n") {
			t.Errorf("%q: lines moved: %q", script, out)
		}
		if got := fmt.Sprint(len(out) > len(script)); got != "true" {
			t.Errorf("%q: nothing was added", script)
		}
	})
}
