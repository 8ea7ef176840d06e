package compare

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/staging"
	"ellwand.example/core/testtool"
)

// item is a path of a package that a test makes.
type item struct {
	path, text, mode, kind string
	capabilities           []string
}

func made(t *testing.T, facts func(*ell.Facts), items ...item) *ell.Package {
	t.Helper()
	dir := t.TempDir()
	f := ell.Facts{Name: "tide", Version: "1.0", Release: 1, Arch: "independent", Target: "saltmarsh-7", Summary: "Tides", License: "MIT", Recipe: "tide"}
	facts(&f)
	s := ell.Spec{Facts: f, Time: time.Unix(1e9, 0)}
	slices.SortFunc(items, func(a, b item) int { return strings.Compare(a.path, b.path) })
	for i, x := range items {
		disk := filepath.Join(dir, fmt.Sprint(i))
		if err := os.WriteFile(disk, []byte(x.text), 0o644); err != nil {
			t.Fatal(err)
		}
		mode := "0644"
		if x.mode != "" {
			mode = x.mode
		}
		c := staging.Claim{Path: staging.Path{Path: x.path, Type: staging.File, Mode: fact.ParseMode(mode), Size: int64(len(x.text)), Disk: disk}, Kind: x.kind, Owner: "root", Group: "root"}
		if len(x.capabilities) > 0 {
			c.Xattrs = map[string][]byte{staging.Capability: staging.CapabilityValue(fact.CapabilitySet(x.capabilities))}
		}
		s.Claims = append(s.Claims, c)
	}
	w, err := ell.Write(context.Background(), t.TempDir(), s, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ell.Open(w.Path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

// What a difference means is told once, with its weight.
func TestVerdicts(t *testing.T) {
	same := func(*ell.Facts) {}
	next := func(f *ell.Facts) { f.Release = 2 }
	text := item{path: "/usr/share/a", text: "a"}
	needs := func(symbols ...string) func(*ell.Facts) {
		return func(f *ell.Facts) {
			f.Release++
			f.Needs = []ell.Need{{Need: need.Must("soname/libc.so.6"), Path: "/x", Symbols: symbols}, {Need: need.Must("saltmarsh-stations >= 2")}}
		}
	}
	for _, c := range []struct {
		name   string
		before func(*ell.Facts)
		a      []item
		after  func(*ell.Facts)
		b      []item
		want   string
	}{
		{"nothing", same, []item{text}, same, []item{text}, ""},
		{"same release", same, []item{text}, same, []item{{path: "/usr/share/a", text: "b"}}, "look: they differ but have the same version and release"},
		{"older", next, []item{text}, same, []item{text}, "look: 1.0-1 sorts before 1.0-2"},
		{"license", same, nil, func(f *ell.Facts) { f.Release, f.License = 2, "Apache-2.0" }, nil, "look: the license changed from MIT to Apache-2.0"},
		{"license text", same, []item{{path: "/l", text: "a", kind: "license"}}, next, []item{{path: "/l", text: "b", kind: "license"}}, "look: the license text changed"},
		{"settings gone", same, []item{{path: "/etc/a", text: "a", kind: "config"}}, next, nil, "look: this configuration file is gone"},
		{"settings", same, []item{{path: "/etc/a", text: "a", kind: "config"}}, next, []item{{path: "/etc/a", text: "b", kind: "config"}}, "look: the default of this configuration file changed"},
		{"setuid", same, []item{{path: "/a", mode: "0755"}}, next, []item{{path: "/a", mode: "4755"}}, "look: the program now runs with the privileges of root:root (setuid)"},
		{"no setgid", same, []item{{path: "/a", mode: "2755"}}, next, []item{{path: "/a", mode: "0755"}}, "breaks: the program lost its setgid bit"},
		{"capabilities", same, []item{{path: "/a", capabilities: []string{"net_raw"}}}, next, []item{{path: "/a"}}, `look: the capabilities of the program changed: "may net_raw" before, "" now`},
		{"everybody", same, []item{{path: "/a"}}, next, []item{{path: "/a", mode: "0666"}}, "look: it is now writable by everybody on the machine"},
		{"not run", same, []item{{path: "/a", mode: "0755"}}, next, []item{{path: "/a"}}, "breaks: it is no longer executable"},
		{"command gone", func(f *ell.Facts) { f.Provides = []ell.Provide{{Provide: need.MustProvide("command/tide")}} }, nil, next, nil, "breaks: it no longer provides command/tide"},
		{"newer symbols", needs("GLIBC_2.4", "GLIBC_2.34"), nil, func(f *ell.Facts) { f.Release = 2; needs("GLIBC_2.38", "GLIBC_2.4")(f) }, nil, "look: it needs GLIBC_2.38 of soname/libc.so.6; before, it needed GLIBC_2.34"},
		{"older symbols", needs("GLIBC_2.4", "GLIBC_2.38"), nil, func(f *ell.Facts) { f.Release = 2; needs("GLIBC_2.34", "GLIBC_2.4")(f) }, nil, ""},
		{"new need", same, nil, func(f *ell.Facts) { f.Release, f.Needs = 2, []ell.Need{{Need: need.Must("command/sh")}} }, nil, "note: it needs command/sh now"},
		{"larger", same, nil, next, []item{{path: "/a", text: strings.Repeat("x", 2<<20)}}, "its installed size grew by"},
		{"two things", same, []item{text}, func(f *ell.Facts) { f.Name, f.License = "other", "ISC" }, nil, ""},
	} {
		d, err := Built(context.Background(), made(t, c.before, c.a...), made(t, c.after, c.b...))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, v := range d.Verdicts {
			got = append(got, fmt.Sprintf("%s: %s", v.Weight, v.Text))
		}
		if all := strings.Join(got, "\n"); !strings.Contains(all, c.want) || len(got) > 1 || (c.want == "") != (len(got) == 0) {
			t.Errorf("%s: %q, want %q", c.name, all, c.want)
		}
	}
}

// A file with the same contents elsewhere was moved, also where it has twins;
// one that differs in numbers alone too.
func TestMoved(t *testing.T) {
	nothing := func(*ell.Facts) {}
	a := made(t, nothing, item{path: "/usr/a", text: "same"}, item{path: "/usr/b", text: "same"}, item{path: "/usr/lib/libtide.so.1.4", text: "one"}, item{path: "/usr/x1", text: "x"}, item{path: "/usr/z", text: "z"})
	b := made(t, nothing, item{path: "/usr/c", text: "same"}, item{path: "/usr/d", text: "same"}, item{path: "/usr/e", text: "same"}, item{path: "/usr/lib/libtide.so.1.5", text: "two"}, item{path: "/usr/y2", text: "x"}, item{path: "/usr/z", text: "z"})
	d, err := Built(context.Background(), a, b)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range d.Files {
		got = append(got, strings.Join(strings.Fields(fmt.Sprint(f.Path, " ", f.State, " ", f.From, " ", f.Contents)), " "))
	}
	want := "/usr/c moved /usr/a false; /usr/d moved /usr/b false; /usr/e added false; /usr/lib/libtide.so.1.5 moved /usr/lib/libtide.so.1.4 true; /usr/y2 moved /usr/x1 false"
	if all := strings.Join(got, "; "); all != want || d.Same != 1 {
		t.Errorf("%s, %d the same; want %s", all, d.Same, want)
	}
	if len(d.Directories) != 1 || d.Directories[0] != (DirectoryChange{"/usr", 13, 17}) {
		t.Errorf("directories %+v", d.Directories)
	}
}

// Of two states, the newest of each package counts, and what stops to be met
// is told.
func TestStates(t *testing.T) {
	record := func(name, version string, release int, digest string, needs ...string) index.Record {
		r := index.Record{Name: name, Version: version, Release: release, Arch: "independent", SHA256: digest, Provides: []ell.Provide{{Provide: need.MustProvide("command/" + name)}}}
		for _, n := range needs {
			r.Needs = append(r.Needs, ell.Need{Need: need.Must(n)})
		}
		return r
	}
	a := repo.State{Records: map[string][]index.Record{"saltmarsh-7": {
		record("lib", "1", 1, "a"), record("tool", "1", 2, "b", "lib < 2", "command/sh"), record("old", "1", 1, "c"), record("same", "1", 1, "d"), record("again", "1", 1, "e"), record("back", "2", 1, "f"),
	}}}
	b := repo.State{Records: map[string][]index.Record{"saltmarsh-7": {
		record("lib", "2", 1, "g"), record("tool", "1", 2, "b", "lib < 2", "command/sh"), record("new", "1", 1, "h"), record("same", "1", 1, "d"), record("again", "1", 1, "i"), record("back", "1", 1, "j"),
	}}}
	c := States(a, b)
	var got []string
	for _, x := range c.Changes {
		got = append(got, x.Name+" "+x.State)
	}
	if all := strings.Join(got, ", "); all != "again rebuilt, back older, lib newer, new added, old gone" || c.Same != 2 {
		t.Errorf("%s; %d the same", all, c.Same)
	}
	b.Records["saltmarsh-7"] = append(b.Records["saltmarsh-7"], record("lib", "1", 1, "a"))
	if again := States(a, b); len(again.Broken) != 0 {
		t.Errorf("the older one is still there: %+v", again.Broken)
	}
	if len(c.Broken) != 1 || c.Broken[0] != (Broken{"saltmarsh-7", "tool@1-2", "lib < 2", "lib@1-1"}) {
		t.Errorf("broken: %+v", c.Broken)
	}
}

// Libraries are compared by soname, and by name where the soname changed.
func TestLibraries(t *testing.T) {
	cc := testtool.Find(t, "cc")
	lib := func(soname, source string) string {
		out := filepath.Join(t.TempDir(), "lib.so")
		cmd := exec.Command(cc, "-x", "c", "-", "-x", "none", "-shared", "-fPIC", "-nostdlib", "-Wl,-z,relro,-z,now", "-Wl,-soname,"+soname, "-o", out)
		cmd.Stdin = strings.NewReader(source)
		if b, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, b)
		}
		data, err := os.ReadFile(out)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	both, more, less := "void high(void) {} void low(void) {}", "void high(void) {} void low(void) {} void ebb(void) {}", "void low(void) {}"
	for _, c := range []struct {
		name, before, beforeText, after, afterText string
		want                                       string
	}{
		{"the same", "libtide.so.1", both, "libtide.so.1", both, ""},
		{"more", "libtide.so.1", both, "libtide.so.1", more, "note libtide.so.1→libtide.so.1 +[ebb] -[]"},
		{"less", "libtide.so.1", both, "libtide.so.1", less, "breaks libtide.so.1→libtide.so.1 +[] -[high]"},
		{"raised", "libtide.so.1", both, "libtide.so.2", less, "breaks libtide.so.1→libtide.so.2 +[] -[high]"},
		{"raised for nothing", "libtide.so.1", both, "libtide.so.2", more, "breaks libtide.so.1→libtide.so.2 +[ebb] -[]"},
		{"another", "libtide.so.1", both, "libquay.so.1", both, "breaks →libquay.so.1 +[high low] -[] libtide.so.1→ +[] -[high low]"},
	} {
		next := func(f *ell.Facts) { f.Release = 2 }
		d, err := Built(context.Background(), made(t, func(*ell.Facts) {}, item{path: "/usr/lib/" + c.before, text: lib(c.before, c.beforeText)}), made(t, next, item{path: "/usr/lib/" + c.after, text: lib(c.after, c.afterText)}))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, v := range d.Verdicts[:min(1, len(d.Verdicts))] {
			got = append(got, string(v.Weight))
		}
		for _, l := range d.Libraries {
			got = append(got, fmt.Sprintf("%s→%s +%v -%v", l.Before, l.After, l.Added, l.Gone))
		}
		if all := strings.Join(got, " "); all != c.want {
			t.Errorf("%s: %s, want %s", c.name, all, c.want)
		}
	}
}
