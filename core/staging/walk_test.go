package staging

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"
)

func TestWalkTypes(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, err := range []error{
		os.MkdirAll(at("usr/share/the tide"), 0o755), os.WriteFile(at("usr/share/the tide/Höhe\n"), []byte("x"), 0o640), os.Link(at("usr/share/the tide/Höhe\n"), at("usr/b")),
		os.Symlink("../nowhere", at("usr/link")), os.WriteFile(at("usr/set"), nil, 0o755), os.Chmod(at("usr/set"), 0o755|os.ModeSetuid),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	paths, err := Walk(dir)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range paths {
		got = append(got, fmt.Sprintf("%q %v %v %d %s", p.Path, p.Type, p.Mode, p.Size, p.Link))
	}
	want := []string{`"/usr" dir -rwxr-xr-x 0 `, `"/usr/b" file -rw-r----- 1 `, `"/usr/link" symlink -rwxrwxrwx 0 ../nowhere`, `"/usr/set" file urwxr-xr-x 0 `,
		`"/usr/share" dir -rwxr-xr-x 0 `, `"/usr/share/the tide" dir -rwxr-xr-x 0 `, `"/usr/share/the tide/Höhe\n" file -rw-r----- 1 `}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant\n%q", got, want)
	}
	if a, b := paths[1].Inode, paths[6].Inode; a != b || a == (Inode{}) {
		t.Errorf("two names of one file have the inodes %v and %v", a, b)
	}
}

func TestWalkUnfit(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a", "b"} {
		if err := unix.Mkfifo(filepath.Join(dir, name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var unfit *UnfitError
	if _, err := Walk(dir); !errors.As(err, &unfit) || len(unfit.Paths) != 2 || !strings.Contains(err.Error(), `"/a": a device, pipe or socket`) {
		t.Errorf("two pipes: %v", err)
	}
	if _, err := Walk(filepath.Join(dir, "missing")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a missing directory: %v", err)
	}
}

func TestXattrs(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if got, err := xattrs(file); err != nil || got != nil {
		t.Errorf("none: %v, %v", got, err)
	}
	err := unix.Setxattr(file, "user.tide", []byte("high"), 0)
	if errors.Is(err, syscall.ENOTSUP) {
		t.Skip("this file system has no extended attributes")
	}
	if err != nil {
		t.Fatal(err)
	}
	if got, err := xattrs(file); err != nil || len(got) != 1 || string(got["user.tide"]) != "high" {
		t.Errorf("%q, %v", got, err)
	}
	for name, want := range map[string]bool{"user.tide": true, "user.overlay.opaque": false, "security.selinux": false, "system.posix_acl_access": false, Capability: true, "user.a=b": false, "user." + strings.Repeat("x", 255): false} {
		if ValidXattr(name) != want {
			t.Errorf("%s can be carried: %v", name, !want)
		}
	}
}
