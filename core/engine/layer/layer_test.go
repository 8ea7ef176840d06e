package layer

import (
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// write makes files: "path" → contents; a path that ends in / is a directory,
// contents that begin with -> make a link.
func write(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, name)
		var err error
		switch target, link := strings.CutPrefix(text, "->"); {
		case strings.HasSuffix(name, "/"):
			err = os.MkdirAll(path, 0o755)
		case link:
			os.MkdirAll(filepath.Dir(path), 0o755)
			err = os.Symlink(target, path)
		default:
			os.MkdirAll(filepath.Dir(path), 0o755)
			err = os.WriteFile(path, []byte(text), 0o640)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// read lists what is in a directory, one line a path.
func read(t *testing.T, dir string) string {
	t.Helper()
	var lines []string
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || path == dir {
			return err
		}
		line := strings.TrimPrefix(path, dir+"/")
		switch {
		case e.IsDir():
			line += "/"
		case e.Type()&fs.ModeSymlink != 0:
			target, _ := os.Readlink(path)
			line += "->" + target
		default:
			data, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			line += "=" + string(data)
		}
		lines = append(lines, line)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return strings.Join(lines, " ")
}

func TestMerge(t *testing.T) {
	dir := t.TempDir()
	upper, middle, lower := filepath.Join(dir, "upper"), filepath.Join(dir, "middle"), filepath.Join(dir, "lower")
	write(t, lower, map[string]string{"kept": "1", "changed": "1", "gone": "1", "dir/a": "1", "dir/b": "1", "hidden/old": "1", "was-dir/x": "1", "was-file": "1", "empty/": ""})
	write(t, middle, map[string]string{"changed": "2", "dir/b": "2", "new": "2", "hidden/new": "2", "was-dir": "2", "was-file/y": "2", "link": "->kept"})
	write(t, upper, map[string]string{"dir/c": "3"})
	if err := unix.Lsetxattr(filepath.Join(middle, "hidden"), "user.overlay.opaque", []byte("y"), 0); err != nil {
		t.Skipf("this file system has no attributes: %v", err)
	}
	for _, name := range []string{"gone", "dir/a"} {
		if err := syscall.Mknod(filepath.Join(upper, name), syscall.S_IFCHR, 0); err != nil {
			t.Fatal(err)
		}
	}
	os.Chmod(filepath.Join(lower, "dir"), 0o700)
	os.Chmod(filepath.Join(upper, "dir"), 0o711)
	for name, place := range map[string]Place{"linked": Link, "copied": Copy} {
		to := filepath.Join(dir, name)
		if err := Merge(to, []string{upper, middle, lower}, place); err != nil {
			t.Fatal(err)
		}
		want := "changed=2 dir/ dir/b=2 dir/c=3 empty/ hidden/ hidden/new=2 kept=1 link->kept new=2 was-dir=2 was-file/ was-file/y=2"
		if got := read(t, to); got != want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, want)
		}
		if info, err := os.Stat(filepath.Join(to, "dir")); err != nil || info.Mode().Perm() != 0o711 {
			t.Errorf("%s: the directory's mode is that of the uppermost: %v, %v", name, info.Mode(), err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "copied/kept"), []byte("9"), 0o644); err != nil {
		t.Fatal(err)
	}
	if data, _ := os.ReadFile(filepath.Join(lower, "kept")); string(data) != "1" {
		t.Errorf("a copy shares its contents with a layer: %q", data)
	}
}

func TestWhole(t *testing.T) {
	dir := t.TempDir()
	layers := []string{filepath.Join(dir, "2"), filepath.Join(dir, "1")}
	write(t, layers[1], map[string]string{"stage/": "", "work/a": "1"})
	write(t, layers[0], map[string]string{"stage/usr/x": "2", "work/b": "2"})
	if got, ok := Whole(layers, "stage"); !ok || got != filepath.Join(layers[0], "stage") {
		t.Errorf("what one layer has alone: %q, %v", got, ok)
	}
	if got, ok := Whole(layers, "work"); ok {
		t.Errorf("what two have: %q", got)
	}
	if got, ok := Whole(layers[1:], "stage"); !ok || got != filepath.Join(layers[1], "stage") {
		t.Errorf("an empty directory: %q, %v", got, ok)
	}
}

func TestStore(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	commit := func(key, below string) {
		t.Helper()
		tree, work, err := s.Begin(below, "work")
		if err != nil {
			t.Fatal(err)
		}
		write(t, tree, map[string]string{"work/" + key: key})
		write(t, work, map[string]string{"work/": ""})
		os.Chmod(filepath.Join(work, "work"), 0) // as the kernel leaves it
		if err := s.Commit(Layer{Key: key, Below: below, Step: key}); err != nil {
			t.Fatal(err)
		}
	}
	commit("unpack", "")
	commit("build", "unpack")
	commit("stage", "build")
	if !s.Has("stage") || len(s.Trees("stage")) != 3 || s.Has("other") || len(s.Trees("other")) != 0 {
		t.Errorf("three layers: %v", s.Trees("stage"))
	}
	// A step that is done again takes those above it along.
	commit("build", "unpack")
	if s.Has("stage") || !s.Has("build") || !s.Has("unpack") {
		t.Error("a layer whose lower one changed is still there")
	}
	// A copy of a layer is none, and is cleared away.
	copied := Store{Dir: t.TempDir()}
	if err := Merge(copied.Dir, []string{s.Dir}, Copy); err != nil {
		t.Fatal(err)
	}
	if copied.Has("unpack") {
		t.Error("a copy of a layer passes for one")
	}
	if err := copied.Clear(); err != nil {
		t.Error(err)
	}
	if left, _ := os.ReadDir(copied.Dir); len(left) != 0 {
		t.Errorf("copies are left: %v", left)
	}
	if _, _, err := s.Begin("build"); err != nil {
		t.Fatal(err)
	}
	if err := s.Fail(Layer{Key: "stage", Below: "build", Step: "stage"}); err != nil {
		t.Fatal(err)
	}
	if f, ok := s.Failed(); !ok || f.Step != "stage" || s.Has("stage") {
		t.Errorf("a failed step: %+v, %v", f, ok)
	}
	old := time.Now().Add(-time.Hour)
	os.Chtimes(filepath.Join(s.Dir, "unpack"), old, old)
	all, err := s.List()
	if err != nil || len(all) != 3 || all[0].Key != "unpack" {
		t.Errorf("the one used longest ago comes first: %+v, %v", all, err)
	}
	if err := s.Remove("unpack"); err != nil {
		t.Fatal(err)
	}
	if left, _ := os.ReadDir(s.Dir); len(left) != 0 {
		t.Errorf("after the lowest is removed: %v", left)
	}
	copies := Store{Dir: t.TempDir(), Copies: true}
	s = copies
	commit("unpack", "")
	tree, _, err := s.Begin("unpack")
	if err != nil || read(t, tree) != "work/ work/unpack=unpack" || !slices.Equal(s.Trees("unpack"), []string{filepath.Join(s.Dir, "unpack/tree")}) {
		t.Errorf("without overlay mounts: %q, %v", read(t, tree), err)
	}
}

// After a restart of the machine, a layer counts only if it was written to
// disk before: what a power failure took from the others, nobody knows.
func TestRestart(t *testing.T) {
	dir := t.TempDir()
	before, after := Store{Dir: dir, Boot: "one"}, Store{Dir: dir, Boot: "two"}
	for _, key := range []string{"flushed", "not"} {
		tree, _, err := before.Begin("")
		if err != nil {
			t.Fatal(err)
		}
		os.WriteFile(filepath.Join(tree, "file"), []byte(key), 0o644)
		if err := before.Commit(Layer{Key: key}); err != nil {
			t.Fatal(err)
		}
	}
	made := time.Now().Add(-2 * settled)
	l, _ := before.Get("flushed")
	l.Made = made
	data, _ := json.Marshal(l)
	os.WriteFile(filepath.Join(dir, "flushed", facts), data, 0o644)
	for _, key := range []string{"flushed", "not"} {
		if err := before.Flush(t.Context(), key); err != nil {
			t.Fatal(err)
		}
		if !before.Has(key) {
			t.Errorf("%s is gone before any restart", key)
		}
	}
	if !after.Has("flushed") || after.Has("not") {
		t.Errorf("after a restart: %v, %v", after.Has("flushed"), after.Has("not"))
	}
	if err := after.Clear(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "not")); err == nil {
		t.Error("a layer that does not count is still there")
	}
}
