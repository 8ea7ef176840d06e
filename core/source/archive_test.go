package source

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
)

// A directory gives the same archive wherever it lies, and unpacks to what it was.
func TestPackDirectory(t *testing.T) {
	directory := func() string {
		dir := filepath.Join(t.TempDir(), "tide-1.0")
		for name, mode := range map[string]os.FileMode{"a b": 0o600, "sub/run": 0o711, ".git/config": 0o644, "sub/.git/x": 0o644, "sub/.gitignore": 0o644} {
			os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
			if err := os.WriteFile(filepath.Join(dir, name), []byte(name), mode); err != nil {
				t.Fatal(err)
			}
		}
		os.Symlink("a b", filepath.Join(dir, "link"))
		syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644)
		return dir
	}
	var archives []string
	for range 2 {
		dir := directory()
		out := filepath.Join(t.TempDir(), "x.tar.gz")
		if err := PackDirectory(context.Background(), dir, out); err != nil {
			t.Fatal(err)
		}
		os.Chtimes(filepath.Join(dir, "a b"), time.Now(), time.Unix(1, 0))
		data, _ := os.ReadFile(out)
		archives = append(archives, string(data))
	}
	if archives[0] != archives[1] {
		t.Error("two directories with the same contents give two archives")
	}
	dir, out, err := unpack(t, []byte(archives[0]), Job{})
	if got := tree(t, dir); err != nil || got != "a b link sub/.gitignore sub/run" || out.Dropped != "tide-1.0" {
		t.Errorf("%q, %+v, %v", got, out, err)
	}
	if info, _ := os.Stat(filepath.Join(dir, "sub/run")); info.Mode().Perm() != 0o755 {
		t.Errorf("a program has mode %s", info.Mode())
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	target := filepath.Join(t.TempDir(), "x.tar.gz")
	if err := PackDirectory(ctx, directory(), target); err == nil {
		t.Error("an interrupted archive is written")
	}
	if left, _ := os.ReadDir(filepath.Dir(target)); len(left) != 0 {
		t.Errorf("left behind: %v", left)
	}
}

// A directory beside the recipe is a source: the same contents have the same digest, and no
// link leads out of it.
func TestDirectorySource(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"tables/a": "1\n", "tables/deep/b c": "2\n", "tables/.git/config": "x"} {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	f := NewFetcher(Cache{t.TempDir()}, progress.None)
	r := &recipe.Recipe{Dir: dir, Sources: []recipe.Source{{File: "tables"}}}
	fetch := func() (Fetched, error) { return f.Fetch(t.Context(), r, 0) }
	got, err := fetch()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(filepath.Join(dir, "tables/a"), time.Unix(1, 0), time.Unix(1, 0)); err != nil {
		t.Fatal(err)
	}
	if again, err := fetch(); err != nil || again.SHA256 != got.SHA256 {
		t.Errorf("the same directory: %+v, %v", again, err)
	}
	tree := t.TempDir()
	if _, err := Unpack(t.Context(), tree, Job{Path: got.Path, Name: got.Name, SHA256: got.SHA256}, progress.None); err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(filepath.Join(tree, "deep/b c")); string(text) != "2\n" || err != nil {
		t.Errorf("%q, %v", text, err)
	}
	if _, err := os.Stat(filepath.Join(tree, ".git")); err == nil {
		t.Error("version control's directory is in it")
	}
	os.WriteFile(filepath.Join(dir, "tables/a"), []byte("3\n"), 0o644)
	if other, err := fetch(); err != nil || other.SHA256 == got.SHA256 {
		t.Errorf("another directory: %+v, %v", other, err)
	}
	if err := os.Symlink("/etc", filepath.Join(dir, "out")); err != nil {
		t.Fatal(err)
	}
	r.Sources[0].File = "out"
	if _, err := fetch(); err == nil {
		t.Error("a link that leads out is packed")
	}
}
