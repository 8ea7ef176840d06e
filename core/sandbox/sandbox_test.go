package sandbox

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
)

func run(t *testing.T, ctx context.Context, script string) (string, error) {
	t.Helper()
	var out bytes.Buffer
	err := None{}.Run(ctx, Command{Name: "build", Script: script, Dir: t.TempDir(), Env: []string{"PATH=/usr/bin:/bin"}, Files: t.TempDir(), Output: &out})
	return out.String(), err
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
