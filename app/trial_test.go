package app

import (
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"ellwand.example/core/root"
)

// An edit is looked for in the root alone, and what a script put in its place is not
// waited for.
func TestHasEdit(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(t.TempDir(), "edited")
	write(t, outside, editMark+"\n")
	write(t, filepath.Join(dir, "kept"), "port = 1\n"+editMark+"\n")
	write(t, filepath.Join(dir, "lost"), "port = 1\n")
	for name, to := range map[string]string{"zero": "/dev/zero", "out": outside, "in": "kept"} {
		if err := os.Symlink(to, filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := unix.Mkfifo(filepath.Join(dir, "pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	tree, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer tree.Close()
	for name, want := range map[string]bool{"kept": true, "lost": false, "none": false, "zero": false, "out": false, "in": true, "pipe": false} {
		if got := hasEdit(tree, name); got != want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func TestAllowedLeft(t *testing.T) {
	kept := map[string]bool{"/var/lib/tide": true}
	for p, want := range map[string]bool{
		"/etc/passwd": true, "/etc/ld.so.cache": true, "/etc/tide.conf" + root.DefaultSuffix: true, "/var/lib/tide/data": true, "/var/lib/tide/a/b": true,
		"/var/lib/tides/data": false, "/etc/tide.conf": false, "/usr/bin/tide": false,
	} {
		if got := allowedLeft(p, kept); got != want {
			t.Errorf("%s: %v", p, got)
		}
	}
}
