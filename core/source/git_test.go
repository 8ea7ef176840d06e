package source

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
)

// upstreamGit makes a git repository with two commits, the first of which has
// a tag, and returns its directory and the commits.
func upstreamGit(t *testing.T) (dir, first, second string) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "tide gauge.git")
	os.MkdirAll(dir, 0o755)
	run := func(args ...string) string {
		cmd := exec.Command("git", append([]string{"-c", "user.name=Ines", "-c", "user.email=ines@saltmarsh.example", "-C", dir}, args...)...)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	run("init", "-q", "-b", "main")
	for _, text := range []string{"one", "two"} {
		os.WriteFile(filepath.Join(dir, "tide.txt"), []byte(text), 0o644)
		run("add", ".")
		run("commit", "-q", "-m", text)
		if text == "one" {
			run("tag", "-a", "v1", "-m", "first")
			first = run("rev-parse", "HEAD")
		}
	}
	return dir, first, run("rev-parse", "HEAD")
}

func TestGit(t *testing.T) {
	dir, first, second := upstreamGit(t)
	f := NewFetcher(Cache{t.TempDir()}, progress.None)
	text := func(s recipe.Source) (string, Fetched, error) {
		got, err := f.Fetch(context.Background(), &recipe.Recipe{Sources: []recipe.Source{s}}, 0)
		if err != nil {
			return "", got, err
		}
		to := filepath.Join(t.TempDir(), "tree")
		os.Mkdir(to, 0o755)
		if _, err := Unpack(context.Background(), to, Job{Path: got.Path, Name: got.Name, SHA256: got.SHA256}, progress.None); err != nil {
			return "", got, err
		}
		data, err := os.ReadFile(filepath.Join(to, "tide.txt"))
		return string(data), got, err
	}
	address := "file://" + dir
	if s, got, err := text(recipe.Source{Git: address, Tag: "v1"}); err != nil || s != "one" || got.Commit != first || got.Name != "tide gauge-v1.tar" || !got.New {
		t.Errorf("a tag: %q, %+v, %v", s, got, err)
	}
	if s, got, err := text(recipe.Source{Git: address, Commit: second}); err != nil || s != "two" || got.Name != "tide gauge-"+second[:12]+".tar" {
		t.Errorf("a commit: %q, %+v, %v", s, got, err)
	}
	os.RemoveAll(dir)
	if s, got, err := text(recipe.Source{Git: address, Commit: first, Tag: "v1"}); err != nil || s != "one" || got.New {
		t.Errorf("from the cache alone: %q, %+v, %v", s, got, err)
	}
	for want, s := range map[string]recipe.Source{
		"git:":      {Git: "file:///nothing/here", Tag: "v1"},
		"not reach": {Git: address, Commit: strings.Repeat("0", 40)},
	} {
		if _, _, err := text(s); err == nil || !strings.Contains(err.Error(), "git") {
			t.Errorf("%s: %v", want, err)
		}
	}
}
