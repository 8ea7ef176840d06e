package image

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"ellwand.example/core/root"
)

// changesOf are the changes of a root in which lines were put, as made understands them, on a
// system of such lines.
func changesOf(t *testing.T, description string, system, files []string) Changes {
	t.Helper()
	below := t.TempDir()
	put(t, below, system)
	dir := filepath.Join(t.TempDir(), "root")
	r, err := root.Create(dir, root.Settings{Target: "saltmarsh-7", Arch: "x86_64", System: below})
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, files)
	tree, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	on, err := os.OpenRoot(below)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close(); tree.Close(); on.Close() })
	d, err := Parse("images/station.toml", []byte("format = 1\npackages = [\"tide\"]\n"+description), "station", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return Changes{
		Root: r, Tree: tree, System: on, Owned: func(string) bool { return false }, Description: d, When: time.Unix(1e9, 0).UTC(),
		Numbers: root.Numbers{Users: map[string]int{"root": 0, "tide": 300}, Groups: map[string]int{"root": 0, "tide": 301}}, Settings: root.Settings{Format: 1, Target: "saltmarsh-7", System: root.SystemNone},
	}
}

// put makes directories ("/a/"), files ("/a = text") and links ("/a -> b").
func put(t *testing.T, dir string, lines []string) {
	t.Helper()
	for _, line := range lines {
		var err error
		switch name, link, isLink := strings.Cut(line, " -> "); {
		case isLink:
			err = os.Symlink(link, filepath.Join(dir, name))
		case strings.HasSuffix(line, "/"):
			err = os.MkdirAll(filepath.Join(dir, line), 0o755)
		default:
			name, text, _ := strings.Cut(line, " = ")
			err = os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// ofChanges lists the layer of changes, without the record of the packages.
func ofChanges(t *testing.T, c Changes) []string {
	t.Helper()
	l, err := c.Layer(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return slices.DeleteFunc(lines(t, l.Each), func(s string) bool { return strings.HasPrefix(s, "/var/") })
}

// The last layer has what belongs to no package, and what the description adds.
func TestChanges(t *testing.T) {
	system := []string{"/etc/", "/usr/bin/", "/etc/passwd = old", "/bin -> usr/bin"}
	for _, c := range []struct {
		name, description string
		files             []string
		owned, changed    []string
		want              []string
	}{
		{"nothing", "", nil, nil, nil, nil},
		{"a new file in a directory of the system", "", []string{"/etc/", "/etc/new = 1"}, nil, nil, []string{"/etc/new = 1"}},
		{"a file of the system that a script changed", "", []string{"/etc/", "/etc/passwd = new"}, nil, nil, []string{"/etc/passwd = new"}},
		{"a new directory", "", []string{"/srv/x/", "/srv/x/a = 1"}, nil, nil, []string{"/srv/", "/srv/x/", "/srv/x/a = 1"}},
		{"a link", "", []string{"/srv -> etc"}, nil, nil, []string{"/srv -> etc"}},
		{"files of packages", "", []string{"/usr/bin/", "/usr/bin/tide = 1"}, []string{"/usr/bin/tide"}, nil, nil},
		{"a file of a package that a script changed", "", []string{"/usr/bin/", "/usr/bin/tide = 2"}, []string{"/usr/bin/tide"}, []string{"/usr/bin/tide"}, []string{"/usr/bin/tide = 2"}},
		{"a file of a package that a script removed", "", []string{"/usr/bin/"}, []string{"/usr/bin/tide"}, []string{"/usr/bin/tide"}, []string{"removed /usr/bin/tide"}},
		{"an added file", "[[file]]\npath = \"/etc/motd\"\ntext = \"hello\"", nil, nil, nil, []string{"/etc/motd = hello"}},
		{"an added file below directories that are not there", "[[file]]\npath = \"/srv/a/b\"\ntext = \"hello\"", nil, nil, nil, []string{"/srv/", "/srv/a/", "/srv/a/b = hello"}},
		{"an added file through a link of the system", "[[file]]\npath = \"/bin/tide\"\ntext = \"hello\"", nil, nil, nil, []string{"/usr/bin/tide = hello"}},
		{"an added file in the place of another", "[[file]]\npath = \"/etc/new\"\ntext = \"hello\"", []string{"/etc/", "/etc/new = 1"}, nil, nil, []string{"/etc/new = hello"}},
		{"an added directory and link", "[[directory]]\npath = \"/srv\"\nmode = \"0700\"\n[[link]]\npath = \"/srv/to\"\ntarget = \"/etc\"", nil, nil, nil, []string{"/srv/", "/srv/to -> /etc"}},
	} {
		ch := changesOf(t, c.description, system, c.files)
		ch.Owned = func(p string) bool { return slices.Contains(c.owned, p) }
		ch.Changed = c.changed
		if got := ofChanges(t, ch); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// Owners are numbers, modes those that were asked for, and times the image's.
func TestAddedOwners(t *testing.T) {
	c := changesOf(t, "[[file]]\npath = \"/etc/key\"\ntext = \"x\"\nmode = \"0640\"\nowner = \"tide\"\ngroup = \"tide\"\n[[directory]]\npath = \"/srv\"\nowner = \"tide\"", []string{"/etc/"}, nil)
	l, err := c.Layer(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]Entry{}
	if err := l.List(t.Context(), func(e Entry) error { found[e.Path] = e; return nil }); err != nil {
		t.Fatal(err)
	}
	if e := found["/etc/key"]; e.UID != 300 || e.GID != 301 || e.Mode != 0o640 || !e.Modified.Equal(c.When) {
		t.Errorf("%+v", e)
	}
	if e := found["/srv"]; e.UID != 300 || e.GID != 0 || e.Mode != 0o755 {
		t.Errorf("%+v", e)
	}
	c.Numbers.Users = map[string]int{"root": 0}
	if _, err := c.Layer(t.Context()); err == nil || !strings.Contains(err.Error(), "has no account tide:") {
		t.Error(err)
	}
}

// The record in an image has no history, no lock, and the settings of an image.
func TestRecordInside(t *testing.T) {
	c := changesOf(t, "", []string{"/etc/"}, []string{"/var/lib/ellwand/history/", "/var/lib/ellwand/history/1.json = x", "/var/lib/ellwand/lock = ", "/var/lib/ellwand/state.json = {}", "/var/cache/ldconfig/", "/var/cache/ldconfig/aux-cache = x"})
	l, err := c.Layer(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	got := strings.Join(lines(t, l.Each), "\n")
	for _, want := range []string{"/var/lib/ellwand/history/", "/var/lib/ellwand/state.json = {}", `"system":"none"`} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is not in\n%s", want, got)
		}
	}
	for _, not := range []string{"1.json", "/lock", "aux-cache"} {
		if strings.Contains(got, not) {
			t.Errorf("%q is in\n%s", not, got)
		}
	}
	again, err := c.Layer(t.Context())
	if err != nil || again.Key != l.Key {
		t.Errorf("the same has the keys %s and %s, %v", l.Key, again.Key, err)
	}
}

// What the kernel notes of removed files and emptied directories of the system becomes the marks
// of an image.
func TestKernelMarks(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make the kernel's marks here")
	}
	c := changesOf(t, "", []string{"/etc/", "/etc/old = 1", "/srv/", "/srv/a = 1"}, []string{"/etc/", "/srv/", "/srv/b = 2"})
	dir := c.Root.Dir
	if err := unix.Mknod(filepath.Join(dir, "etc/old"), unix.S_IFCHR, 0); err != nil {
		t.Skip(err)
	}
	if err := unix.Setxattr(filepath.Join(dir, "srv"), "trusted.overlay.opaque", []byte("y"), 0); err != nil {
		t.Skip(err)
	}
	if err := unix.Mkfifo(filepath.Join(dir, "etc/pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	got := ofChanges(t, c)
	slices.Sort(got)
	if !slices.Equal(got, []string{"/srv/b = 2", "emptied /srv", "removed /etc/old"}) {
		t.Errorf("%q", got)
	}
}

// Two images are compared by what is in them.
func TestCompare(t *testing.T) {
	contents := func(files ...string) *Contents {
		c := &Contents{}
		l := made(files...)
		l.List(t.Context(), func(e Entry) error {
			one := e.asPath()
			one.SHA256 = "x"
			c.Entries = append(c.Entries, one)
			c.Bytes += e.Size
			return nil
		})
		return c
	}
	d := Compare(contents("/a = 1", "/b = 1", "/c/"), contents("/a = 1", "/b = 12", "/d = 1"))
	states := map[string]string{}
	for _, p := range d.Paths {
		states[p.Path] = p.State
	}
	if !d.Differ() || d.Same != 1 || states["/b"] != PathChanged || states["/c"] != PathGone || states["/d"] != PathAdded || len(states) != 3 || d.Bytes != [2]int64{2, 4} {
		t.Errorf("%+v", d)
	}
	if d := Compare(contents("/a = 1", "/var/lib/ellwand/state.json = 1"), contents("/a = 1", "/var/lib/ellwand/state.json = 22")); d.Differ() {
		t.Errorf("the record alone differs: %+v", d)
	}
}
