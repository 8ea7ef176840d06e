package cli

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// The tutorial works as written, in an empty directory: every block of it, one after
// the other, in one shell.
func TestTutorial(t *testing.T) {
	text, err := os.ReadFile("../docs/tutorial.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := regexp.MustCompile("(?ms)^```sh\n(.*?)^```$").FindAllStringSubmatch(string(text), -1)
	if len(blocks) < 10 {
		t.Fatalf("%d blocks", len(blocks))
	}
	var script strings.Builder
	for _, b := range blocks {
		script.WriteString(b[1])
	}
	// compare exits with 1 if there are differences.
	lines := strings.ReplaceAll(script.String(), "\nellwand compare harbour@1.0-1\n", "\n! ellwand compare harbour@1.0-1\n")
	dir := t.TempDir()
	work := filepath.Join(dir, "work")
	for _, d := range []string{work, filepath.Join(dir, "tmp")} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-euxc", lines)
	cmd.Dir, cmd.Env = work, environment(dir)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, want := range []string{
		"harbour 1.0-1  built in", "harbour 1.0-1  unchanged", "harbour 1.0-2  built in", "1 package: 1 added", "local, channel stable, is at serial 3", "all can be installed",
	} {
		if !strings.Contains(string(out), want) {
			t.Errorf("%q is not in what it prints:\n%s", want, out)
		}
	}
	if strings.Contains(string(out), "error") && regexp.MustCompile(`\b\d+ errors?\b`).Match(out) {
		t.Errorf("it reports errors:\n%s", out)
	}
}
