package staging

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"ellwand.example/core/fact"
)

func TestWalk(t *testing.T) {
	dir := t.TempDir()
	os.MkdirAll(filepath.Join(dir, "usr/bin"), 0o755)
	os.WriteFile(filepath.Join(dir, "usr/bin/a b"), []byte("x"), 0o755)
	os.Chmod(filepath.Join(dir, "usr/bin/a b"), 0o755|os.ModeSetuid)
	os.Link(filepath.Join(dir, "usr/bin/a b"), filepath.Join(dir, "usr/bin/c"))
	os.Symlink("a b", filepath.Join(dir, "usr/bin/l"))
	found, err := Walk(dir)
	if err != nil || len(found) != 5 {
		t.Fatalf("%v, %v", found, err)
	}
	if p := found[2]; p.Path != "/usr/bin/a b" || fact.Octal(p.Mode) != "4755" || p.Inode == (Inode{}) || p.Inode != found[3].Inode || found[4].Link != "a b" {
		t.Errorf("%+v", found)
	}
	syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644)
	var unfit *UnfitError
	if _, err := Walk(dir); !errors.As(err, &unfit) || len(unfit.Paths) != 1 {
		t.Errorf("unpackable paths: %v", err)
	}
}

func TestWalkUnreadable(t *testing.T) {
	if os.Getuid() == 0 {
		t.Skip("root reads everything")
	}
	for _, dir := range []bool{true, false} {
		root := t.TempDir()
		name := filepath.Join(root, "private")
		if dir {
			os.Mkdir(name, 0)
		} else {
			os.WriteFile(name, nil, 0)
		}
		var unreadable *UnreadableError
		if _, err := Walk(root); !errors.As(err, &unreadable) || unreadable.Path != "/private" || unreadable.Dir != dir {
			t.Errorf("directory %v: %v", dir, err)
		}
	}
}

func TestCapabilities(t *testing.T) {
	value := CapabilityValue(fact.CapabilitySet([]string{"net_raw", "checkpoint_restore"}))
	if names := Capabilities(value); len(value) != 20 || fmt.Sprint(names) != "[net_raw checkpoint_restore]" || len(Capabilities(value[:19])) != 0 {
		t.Errorf("%x is %v", value, names)
	}
	// An attribute that was set in a user namespace names the root user of that
	// namespace.
	inside := append(append([]byte{}, value...), 0xd2, 4, 0, 0)
	inside[3] = 3
	if plain := plainCapability(inside); string(plain) != string(value) {
		t.Errorf("%x became %x, want %x", inside, plain, value)
	}
	for name, want := range map[string]bool{Capability: true, "user.tide": true, "user.overlay.opaque": false, "trusted.x": false, "security.selinux": false, "user.a=b": false} {
		if ValidXattr(name) != want {
			t.Errorf("ValidXattr(%q) is %v", name, !want)
		}
	}
}

func TestDefaultKind(t *testing.T) {
	for path, want := range map[string]string{
		"/usr/share/licenses/tide/COPYING": fact.KindLicense, "/usr/share/man/man1/tide.1": fact.KindDocumentation, "/usr/share/doc/tide/a": fact.KindDocumentation,
		"/usr/share/locale/de/LC_MESSAGES/tide.mo": fact.KindTranslation, "/usr/bin/tide": "", "/etc/tide.conf": "",
	} {
		if got := DefaultKind(path); got != want {
			t.Errorf("%s: %q, want %q", path, got, want)
		}
	}
	if !IsShared("/usr/share/man/man8") || IsShared("/usr/share/tide") {
		t.Error("the directories that packages share are not known")
	}
}
