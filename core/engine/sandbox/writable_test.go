package sandbox

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// rooted is a box whose command has a root of its own, with something in it.
func rooted(t *testing.T) (*box, string) {
	t.Helper()
	b := newBox(t)
	root := filepath.Join(t.TempDir(), "a root")
	for name, text := range map[string]string{"usr/share/tide/x": "tide\n", "etc/tide.conf": "port = 1\n", "var/lib/ellwand/state.json": "{}"} {
		p := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b.command.Root, b.command.Protected, b.command.Dir = root, "var/lib/ellwand", "/"
	b.command.Tree = Tree{}
	return b, root
}

// A script in a root is root there, sees the system below, and changes only the root.
func TestRoot(t *testing.T) {
	b, root := rooted(t)
	_, err := b.run(t.Context(), `id -u; cat /usr/share/tide/x /etc/tide.conf; test -d /usr/lib; echo port = 2 >/etc/tide.conf
mkdir -p /var/lib/tide; echo high >/var/lib/tide/data; chmod 0600 /var/lib/tide/data; echo mark >/usr/share/tide/y;
grep -c : /proc/net/dev; hostname; ls /var/lib`)
	if err != nil || b.out.String() != "0\ntide\nport = 1\n1\nellwand\nellwand\ntide\n" {
		t.Fatalf("%v\n%s", err, b.out.String())
	}
	for name, want := range map[string]string{"etc/tide.conf": "port = 2\n", "var/lib/tide/data": "high\n", "usr/share/tide/y": "mark\n"} {
		if got, err := os.ReadFile(filepath.Join(root, name)); err != nil || string(got) != want {
			t.Errorf("%s has %q, %v", name, got, err)
		}
	}
	entries, err := os.ReadDir(root)
	if err != nil || len(entries) != 3 {
		t.Errorf("in the root are %v, %v", entries, err)
	}
}

// What a script writes into a directory of the system goes into the root.
func TestRootCopies(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("the directory belongs to root, whom an ordinary user's sandbox does not have")
	}
	b, root := rooted(t)
	if _, err := b.run(t.Context(), "echo /opt/lib >/etc/ld.so.conf.d/tide.conf"); err != nil {
		t.Fatalf("%v\n%s", err, b.out.String())
	}
	if got, err := os.ReadFile(filepath.Join(root, "etc/ld.so.conf.d/tide.conf")); err != nil || string(got) != "/opt/lib\n" {
		t.Errorf("%q, %v", got, err)
	}
	if _, err := os.Lstat("/etc/ld.so.conf.d/tide.conf"); err == nil {
		t.Error("the machine's own files were changed")
	}
}

// What a script must not do in a root, it cannot.
func TestRootBounds(t *testing.T) {
	b, root := rooted(t)
	for what, script := range map[string]string{
		"the state is protected":      "echo x >/var/lib/ellwand/state.json",
		"the state cannot be removed": "rm -r /var/lib/ellwand",
		"no mounts":                   "mount -t tmpfs none /etc",
		"no device nodes":             "mknod /var/lib/null c 1 3",
		"no escape to the outer tree": "ls /proc/1/root/" + t.TempDir(),
		"no namespaces of its own":    "unshare -U true",
	} {
		if _, err := b.run(t.Context(), script); err == nil {
			t.Errorf("%s: it can\n%s", what, b.out.String())
		}
	}
	if got, err := os.ReadFile(filepath.Join(root, "var/lib/ellwand/state.json")); err != nil || string(got) != "{}" {
		t.Errorf("the state has %q, %v", got, err)
	}
}

// A root that stands on nothing has only its own files.
func TestRootAlone(t *testing.T) {
	b, _ := rooted(t)
	b.command.Alone = true
	if _, err := b.run(t.Context(), "true"); err == nil || !strings.Contains(err.Error(), "/bin/sh") {
		t.Errorf("without a shell: %v", err)
	}
}

func TestRootOwners(t *testing.T) {
	if os.Geteuid() != 0 || !allUsers() {
		t.Skip("only root can give files away") // as .ci/run does, in its first pass
	}
	b, root := rooted(t)
	if _, err := b.run(t.Context(), "mkdir /var/lib/tide; chown 345:678 /var/lib/tide"); err != nil {
		t.Fatalf("%v\n%s", err, b.out.String())
	}
	info, err := os.Stat(filepath.Join(root, "var/lib/tide"))
	if err != nil {
		t.Fatal(err)
	}
	if uid, gid := ownerOf(info); uid != 345 || gid != 678 {
		t.Errorf("it belongs to %d:%d", uid, gid)
	}
}

func ownerOf(info os.FileInfo) (uid, gid uint32) {
	s := info.Sys().(*syscall.Stat_t)
	return s.Uid, s.Gid
}
