package files

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// What is made in a directory that a group shares can be changed by the group,
// whatever the umask; elsewhere it cannot.
func TestShared(t *testing.T) {
	old := unix.Umask(0o077)
	defer unix.Umask(old)
	for _, c := range []struct {
		above, dir, file fs.FileMode
	}{
		{0o775 | fs.ModeSetgid, 0o775 | fs.ModeSetgid, 0o664},
		{0o755, 0o700, 0o644},
		{0o755 | fs.ModeSetgid, 0o700 | fs.ModeSetgid, 0o644},
	} {
		top := t.TempDir()
		if err := os.Chmod(top, c.above); err != nil {
			t.Fatal(err)
		}
		dir := filepath.Join(top, "a/b c")
		if err := errors.Join(MkdirAll(dir), MkdirAll(dir), WriteDurable(filepath.Join(dir, "x"), []byte("1")), Write(filepath.Join(dir, "x"), []byte("2"))); err != nil {
			t.Fatal(err)
		}
		unlock, err := Lock(t.Context(), filepath.Join(dir, "lock"))
		if err != nil {
			t.Fatal(err)
		}
		unlock()
		for name, want := range map[string]fs.FileMode{"": c.dir | fs.ModeDir, "x": c.file, "lock": c.file} {
			if info, err := os.Stat(filepath.Join(dir, name)); err != nil || info.Mode() != want {
				t.Errorf("below %s: %q has %s, want %s (%v)", c.above, name, info.Mode(), want, err)
			}
		}
		if left, _ := filepath.Glob(filepath.Join(dir, ".new-*")); len(left) > 0 {
			t.Errorf("left: %v", left)
		}
	}
	file := filepath.Join(t.TempDir(), "file")
	os.WriteFile(file, nil, 0o644)
	if err := MkdirAll(filepath.Join(file, "x")); !errors.Is(err, unix.ENOTDIR) {
		t.Errorf("below a file: %v", err)
	}
}

// A lock that is held is waited for, as long as the context lasts.
func TestLock(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	unlock, err := Lock(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := Lock(ctx, path); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a lock that is held: %v", err)
	}
	time.AfterFunc(30*time.Millisecond, func() { unlock() })
	again, err := Lock(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	again()
}

func TestFlush(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "x")
	os.WriteFile(file, []byte("x"), 0o644)
	if err := Flush(t.Context(), file, dir, filepath.Join(dir, "gone")); err != nil {
		t.Error(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := Flush(ctx, file); !errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %v", err)
	}
}

func TestReadRegular(t *testing.T) {
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	os.WriteFile(path("file"), []byte("12345"), 0o644)
	unix.Mkfifo(path("pipe"), 0o644)
	for name, c := range map[string]struct {
		limit int64
		want  string
	}{"file": {5, ""}, "file ": {4, "at most 4 are read"}, "pipe": {5, "not a regular file"}, ".": {5, "not a regular file"}} {
		f, err := os.OpenFile(path(strings.TrimSpace(name)), os.O_RDONLY|unix.O_NONBLOCK, 0)
		if err != nil {
			t.Fatal(err)
		}
		data, err := ReadRegular(f, c.limit)
		if c.want == "" && (err != nil || string(data) != "12345") || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %q, %v", name, data, err)
		}
		f.Close()
	}
}

// Directories that several make at once below a shared one are all shared.
func TestSharedAtOnce(t *testing.T) {
	for range 50 {
		top := filepath.Join(t.TempDir(), "shared")
		if err := errors.Join(os.Mkdir(top, 0o755), os.Chmod(top, 0o775|fs.ModeSetgid)); err != nil {
			t.Fatal(err)
		}
		var g sync.WaitGroup
		for n := range 8 {
			g.Go(func() {
				if err := MkdirAll(filepath.Join(top, "a", "b", fmt.Sprint(n%2), fmt.Sprint(n))); err != nil {
					t.Error(err)
				}
			})
		}
		g.Wait()
		filepath.WalkDir(top, func(p string, d fs.DirEntry, err error) error {
			if err != nil {
				t.Fatal(err)
			}
			if info, err := d.Info(); err != nil || !isShared(info) || strings.HasPrefix(d.Name(), ".new-") {
				t.Fatalf("%s: %v, %v", p, info.Mode(), err)
			}
			return nil
		})
	}
}
