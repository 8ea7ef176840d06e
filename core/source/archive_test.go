package source

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"
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
