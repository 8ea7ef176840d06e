package root

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

func TestLanguageOf(t *testing.T) {
	for p, want := range map[string]string{
		"/usr/share/locale/de/LC_MESSAGES/tide.mo": "de", "/usr/share/locale/pt_BR/LC_MESSAGES/tide.mo": "pt_BR", "/usr/share/man/fr/man1/tide.1": "fr",
		"/usr/share/help/nl/tide/index.docbook": "nl", "/usr/share/tide/lang/de.json": "de", "/usr/share/tide/da": "da",
	} {
		if got := languageOf(p); got != want {
			t.Errorf("%s is %q, want %q", p, got, want)
		}
	}
}

func TestSameFile(t *testing.T) {
	file := ell.Entry{Path: "/a", Type: staging.File, Mode: "0644", Owner: "root", Group: "root", SHA256: "1", Xattrs: map[string][]byte{"user.x": {1}}}
	for what, edit := range map[string]func(*ell.Entry){
		"type": func(e *ell.Entry) { e.Type = staging.Symlink }, "mode": func(e *ell.Entry) { e.Mode = "0755" }, "owner": func(e *ell.Entry) { e.Owner = "tide" },
		"group": func(e *ell.Entry) { e.Group = "tide" }, "contents": func(e *ell.Entry) { e.SHA256 = "2" }, "link": func(e *ell.Entry) { e.Link = "b" },
		"an attribute": func(e *ell.Entry) { e.Xattrs = map[string][]byte{"user.x": {2}} }, "attributes": func(e *ell.Entry) { e.Xattrs = nil },
	} {
		other := file
		edit(&other)
		if sameFile(file, other) || sameFile(other, file) {
			t.Errorf("another %s is the same", what)
		}
	}
	moved := file
	moved.Path, moved.At = "/b", 512
	if !sameFile(file, moved) {
		t.Error("where it is in the payload makes a difference")
	}
}

// A database is refreshed once for all that changed, if the root has the program.
func TestRefresh(t *testing.T) {
	b := newBuilder(t)
	tide := b.pkg(t, "tide", "1", `/usr/lib/libtide.so.1 (0755) = x
		/usr/lib/libtide.so -> libtide.so.1
		/usr/share/applications/tide.desktop = x
		/usr/share/man/man1/tide.1 = x
		/usr/lib/systemd/system/tide.service = x`)
	for _, c := range []struct {
		programs string
		want     []string
	}{
		{"", nil},
		{"usr/sbin/ldconfig", []string{"ldconfig"}},
		{"sbin/ldconfig usr/bin/mandb usr/bin/fc-cache usr/bin/update-desktop-database", []string{"ldconfig", "update-desktop-database", "mandb"}},
	} {
		r := newRoot(t)
		for _, p := range strings.Fields(c.programs) {
			edit(t, r, p, "")
		}
		runner := &recorder{}
		p, _, err := change(t, r, runner, Request{Install: []Incoming{tide}})
		if err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(p.Refresh, c.want) || len(runner.ran) != len(c.want) {
			t.Errorf("with %q: %v, and ran %v", c.programs, p.Refresh, runner.ran)
		}
		if !slices.Equal(p.Units, []string{"tide.service"}) {
			t.Errorf("units: %v", p.Units)
		}
		v, err := r.Verify(t.Context(), nil, func(name string) bool { return slices.Contains(c.want, name) }, progress.None)
		if err != nil || len(v.NotRefreshed) != 3-len(c.want) {
			t.Errorf("not refreshed: %v, %v", v.NotRefreshed, err)
		}
		// Nothing of it changes: nothing is refreshed.
		runner.ran = nil
		if _, _, err := change(t, r, runner, Request{Install: []Incoming{b.pkg(t, "ebb", "1", "/usr/share/ebb = 1")}}); err != nil || len(runner.ran) != 0 {
			t.Errorf("ran %v, %v", runner.ran, err)
		}
	}
}

// Handles reach the same as the whole path, close what is too much, and know what is not
// there.
func TestHandles(t *testing.T) {
	dir := t.TempDir()
	for n := range maxHandles + 40 {
		p := filepath.Join(dir, "a", strings.Repeat("x", n%7+1), strings.Repeat("y", n/7+1))
		if err := os.MkdirAll(p, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(p, "file"), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/etc", filepath.Join(dir, "out")); err != nil {
		t.Fatal(err)
	}
	tree, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer tree.Close()
	h := newHandles(tree)
	defer h.Close()
	for n := range 2 * (maxHandles + 40) {
		n %= maxHandles + 40
		p := "/a/" + strings.Repeat("x", n%7+1) + "/" + strings.Repeat("y", n/7+1) + "/file"
		if _, there, err := h.exists(p); !there || err != nil {
			t.Fatalf("%s: %v, %v", p, there, err)
		}
	}
	for _, p := range []string{"/b", "/b/c/d", "/a/x/y/file/below", "/out/passwd"} {
		if _, there, err := h.exists(p); there || err != nil && p != "/out/passwd" {
			t.Errorf("%s is there: %v", p, err)
		}
	}
	if _, there, err := h.exists("/out"); !there || err != nil {
		t.Errorf("the link itself: %v, %v", there, err)
	}
}

func TestAccountNumbers(t *testing.T) {
	a := accounts{users: map[string]int{}, groups: map[string]int{}, taken: map[int]bool{}, text: map[string][]byte{}, base: map[string][]byte{passwdFile: []byte("root:x:0:0::/:/bin/sh"), groupFile: nil}}
	first, ok := a.free("tide")
	if !ok || first < firstAccount || first > lastAccount {
		t.Fatalf("the number is %d, %v", first, ok)
	}
	a.add("tide", first, fact.Account{Home: "/var:lib", Summary: "x"})
	second, ok := a.free("tide")
	if !ok || second == first {
		t.Errorf("the number is given twice: %d", second)
	}
	if text := string(a.text[passwdFile]); text != "root:x:0:0::/:/bin/sh\ntide:x:"+strings.Split(text, ":")[8]+":"+strings.Split(text, ":")[9]+":x:/var lib:/usr/sbin/nologin\n" {
		t.Errorf("passwd has %q", text)
	}
	for n := firstAccount; n <= lastAccount; n++ {
		a.taken[n] = true
	}
	if n, ok := a.free("ebb"); ok {
		t.Errorf("of none that is free, %d", n)
	}
}
