package image

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/root"
	"ellwand.example/core/staging"
)

// content makes a package of lines as made understands them, as an image has it. The owner of
// everything is an account.
func content(t *testing.T, name, owner string, files ...string) Content {
	t.Helper()
	dir := t.TempDir()
	spec := ell.Spec{Facts: ell.Facts{Name: name, Version: "1", Release: 1, Arch: "x86_64", Target: "saltmarsh-7", Summary: "x", License: "MIT", Recipe: name, Date: "2031-04-02"}, Time: time.Unix(1e9, 0)}
	inodes := map[string]staging.Inode{}
	texts := map[string]string{}
	for i, line := range files {
		c := staging.Claim{Owner: owner, Group: owner}
		c.Disk = filepath.Join(dir, fmt.Sprint(i))
		p, text, isFile := strings.Cut(line, " = ")
		if linked, of, is := strings.Cut(line, " == "); is {
			p, text, isFile = linked, texts[of], true
			if inodes[of] == (staging.Inode{}) {
				inodes[of] = staging.Inode{Dev: 1, Ino: uint64(i + 1)}
			}
			inodes[linked] = inodes[of]
		}
		link, target, isLink := strings.Cut(line, " -> ")
		switch {
		case isLink:
			c.Path.Path, c.Type, c.Link, c.Mode = link, staging.Symlink, target, 0o777
		case isFile:
			c.Path.Path, c.Type, c.Mode, c.Size = p, staging.File, 0o644, int64(len(text))
			texts[p] = text
			if err := os.WriteFile(c.Disk, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		default:
			c.Path.Path, c.Type, c.Mode = strings.TrimSuffix(line, "/"), staging.Directory, 0o750
		}
		spec.Claims = append(spec.Claims, c)
	}
	for i := range spec.Claims {
		spec.Claims[i].Inode = inodes[spec.Claims[i].Path.Path]
	}
	slices.SortFunc(spec.Claims, func(a, b staging.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	written, err := ell.Write(t.Context(), dir, spec, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ell.Open(written.Path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	layout, err := p.Layout()
	if err != nil {
		t.Fatal(err)
	}
	return Content{
		Installed: root.Installed{Name: name, Version: "1", Release: 1, Arch: "x86_64", SHA256: fact.SHA256([]byte(name))}, Package: p,
		Record: &root.Record{Facts: p.Facts, Layout: layout}, Numbers: root.Numbers{Users: map[string]int{"root": 0, "tide": 300}, Groups: map[string]int{"root": 0, "tide": 301}},
	}
}

// A layer has all that its packages have: directories, links of both kinds, and files with the
// same contents.
func TestPackageLayer(t *testing.T) {
	tide := content(t, "tide", "tide", "/srv/tide/", "/srv/tide/a = one", "/srv/tide/b = one", "/srv/tide/c == /srv/tide/a", "/srv/tide/d -> a", "/srv/tide/empty = ", "/usr/bin/tide = program")
	there := func(dir string) bool { return dir == "/usr" || dir == "/" }
	layers, err := PackageLayers([]Content{tide}, there)
	if err != nil || len(layers) != 1 {
		t.Fatal(layers, err)
	}
	got := lines(t, layers[0].Each)
	listed := map[string]Entry{}
	if err := layers[0].List(t.Context(), func(e Entry) error { listed[e.Path] = e; return nil }); err != nil {
		t.Fatal(err)
	}
	if len(got) != len(listed) {
		t.Errorf("%d entries are listed, and %d read", len(listed), len(got))
	}
	slices.Sort(got)
	want := []string{"/srv/", "/srv/tide/", "/srv/tide/a = one", "/srv/tide/b = one", "/srv/tide/c == /srv/tide/a", "/srv/tide/d -> a", "/srv/tide/empty = ", "/usr/bin/", "/usr/bin/tide = program"}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	// Directories that nobody lists are root's; the time of everything is the package's.
	if e := listed["/srv"]; e.UID != 0 || e.Mode != 0o755 {
		t.Errorf("%+v", e)
	}
	if e := listed["/srv/tide"]; e.UID != 300 || e.GID != 301 || e.Mode != 0o750 || e.Modified.Format(time.DateOnly) != "2031-04-02" {
		t.Errorf("%+v", e)
	}
	// Directories come before what is in them, and files before their hard links.
	seen := map[string]bool{"/": true, "/usr": true}
	err = layers[0].Each(t.Context(), func(e Entry, _ io.Reader) error {
		if !seen[filepath.Dir(e.Path)] || e.Type == Hardlink && !seen[e.Link] {
			t.Errorf("%s comes too early", e.Path)
		}
		seen[e.Path] = true
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	tide.Numbers.Users = map[string]int{"root": 0}
	if _, err := PackageLayers([]Content{tide}, there); err == nil || !strings.Contains(err.Error(), "the image has no such account") {
		t.Errorf("an owner that is no account: %v", err)
	}
}

// Kinds of path that are left out take nothing with them: a link to a file that is not there
// becomes the file.
func TestWithout(t *testing.T) {
	tide := content(t, "tide", "root", "/usr/share/a = text", "/usr/share/b == /usr/share/a", "/usr/share/c = text")
	tide.Record.Layout = slices.DeleteFunc(slices.Clone(tide.Record.Layout), func(e ell.Entry) bool { return e.Path == "/usr/share/a" })
	layers, err := PackageLayers([]Content{tide}, func(string) bool { return true })
	if err != nil {
		t.Fatal(err)
	}
	got := lines(t, layers[0].Each)
	slices.Sort(got)
	if !slices.Equal(got, []string{"/usr/share/b = text", "/usr/share/c = text"}) {
		t.Errorf("%q", got)
	}
}

// A package whose file is another one than its record says is noticed.
func TestOtherPackage(t *testing.T) {
	tide := content(t, "tide", "root", "/usr/share/a = text")
	tide.Package = content(t, "tide", "root", "/usr/share/a = other").Package
	layers, err := PackageLayers([]Content{tide}, func(string) bool { return true })
	if err != nil {
		t.Fatal(err)
	}
	err = layers[0].Each(t.Context(), func(Entry, io.Reader) error { return nil })
	if err == nil || !strings.Contains(err.Error(), "1 of 1 files are not in the package as its record has them") {
		t.Error(err)
	}
}

// The key of a layer changes with its contents, and with nothing else.
func TestKeys(t *testing.T) {
	there := func(string) bool { return true }
	key := func(all ...Content) map[string]string {
		layers, err := PackageLayers(all, there)
		if err != nil {
			t.Fatal(err)
		}
		keys := map[string]string{}
		for _, l := range layers {
			keys[l.Name] = l.Key
		}
		return keys
	}
	one, same, other := content(t, "tide", "root", "/usr/share/a = text"), content(t, "tide", "root", "/usr/share/a = text"), content(t, "tide", "root", "/usr/share/a = texts")
	owned := content(t, "tide", "tide", "/usr/share/a = text")
	for name, k := range key(one) {
		if key(same)[name] != k || key(other)[name] == k || key(owned)[name] == k {
			t.Errorf("%s: %s, %s, %s, %s", name, k, key(same)[name], key(other)[name], key(owned)[name])
		}
	}
	// Another package beside it is in another layer, or changes the key.
	more := content(t, "gauge", "root", "/usr/share/b = text")
	for name, k := range key(one) {
		if both := key(one, more); len(both) == 1 && both[name] == k {
			t.Error("a layer with one more package has the same key")
		}
	}
}
