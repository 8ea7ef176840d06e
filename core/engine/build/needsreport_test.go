package build

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/satisfy"
)

// A traced build reports what it used of the system without declaring it, and what
// it declares without using it.
func TestNeedsReport(t *testing.T) {
	y := newFixture(t)
	y.write("lib", "arch = \"independent\"\n[steps]\nstage = '''\nmkdir -p \"$DESTDIR/usr/share/lib\" \"$DESTDIR/usr/share/other\"\necho x > \"$DESTDIR/usr/share/lib/x\"; echo > \"$DESTDIR/usr/share/other/x\"\n'''\n[package.lib.layout]\n\"/usr/share/lib/**\" = {}\n[package.other.layout]\n\"/usr/share/other/**\" = {}\n")
	y.state("lib")
	y.write("tide", "arch = \"independent\"\n[needs]\nbuild = [\"command/awk\", \"command/perl\", \"lib\", \"other\"]\n[steps]\nstage = '''\nmkdir -p \"$DESTDIR/usr/share\"; awk 'BEGIN { print 1 }'; cat /usr/share/lib/x > \"$DESTDIR/usr/share/tide\"\nmake --version\n'''\n")
	res, err := y.build("tide", Options{Needs: true})
	if err != nil {
		t.Fatal(err)
	}
	if want := []string{"command/perl", "other"}; !slices.Equal(res.Needs.Unused, want) {
		t.Errorf("unused %q, want %q", res.Needs.Unused, want)
	}
	if len(res.Needs.Undeclared) != 1 || res.Needs.Undeclared[0].Need != "command/make" {
		t.Errorf("undeclared %+v, want make", res.Needs.Undeclared)
	}
	// The next lint has it, until the recipe changes.
	r := y.recipes("tide")[0]
	if last := y.b.LastUsage(r); last == nil || !slices.Equal(last.Unused, res.Needs.Unused) {
		t.Errorf("the last usage: %+v", last)
	}
	r.Doc.Data = append(r.Doc.Data, '\n')
	if last := y.b.LastUsage(r); last != nil {
		t.Errorf("after a change: %+v", last)
	}
}

func TestUndeclared(t *testing.T) {
	for _, c := range []struct{ path, by, want string }{
		{"/usr/bin/bison", "/usr/bin/make", "command/bison"},
		{"/usr/bin/bison", "/usr/bin/bash", "command/bison"},
		{"/usr/local/bin/tidegen", "/bin/sh", "command/tidegen"},
		{"/usr/bin/cat", "/usr/bin/make", ""}, // on every system
		{"/usr/bin/as", "/usr/bin/gcc", ""},   // the compiler's own affair
		{"/build/tidegen", "/bin/sh", ""},     // its own program
		{"/usr/include/zlib.h", "", "header/zlib.h"},
		{"/usr/include/x86_64-linux-gnu/curl/curl.h", "", "header/curl/curl.h"},
		{"/usr/include/stdio.h", "", ""},
		{"/usr/include/x86_64-linux-gnu/sys/types.h", "", ""},
		{"/build/tide.h", "", ""},
		{"/usr/lib/libz.so", "", ""},
	} {
		u, ok := undeclared(sandbox.Touch{Path: c.path, By: c.by})
		if ok != (c.want != "") || u.Need != c.want {
			t.Errorf("%s by %q: %q, %v, want %q", c.path, c.by, u.Need, ok, c.want)
		}
	}
}

func TestIsOf(t *testing.T) {
	root := t.TempDir()
	bin := filepath.Join(root, "usr", "bin")
	if err := os.MkdirAll(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(bin, "mawk"), nil, 0o755)
	os.Symlink("mawk", filepath.Join(bin, "awk"))
	j := &job{Builder: &Builder{Resolver: &satisfy.Resolver{Root: root}}}
	for _, c := range []struct {
		need, path string
		want       bool
	}{
		{"command/awk", "/usr/bin/awk", true},
		{"command/awk", "/usr/bin/mawk", true}, // what the link leads to
		{"command/awk", "/usr/bin/gawk", false},
		{"command/awk", "/home/ines/awk", false},
		{"pkgconfig/zlib", "/usr/lib/pkgconfig/zlib.pc", true},
		{"pkgconfig/zlib", "/usr/lib/pkgconfig/zlib-ng.pc", false},
		{"header/curl/curl.h", "/usr/include/x86_64-linux-gnu/curl/curl.h", true},
		{"header/curl.h", "/build/curl.h", false},
		{"soname/libz.so.1", "/usr/lib/libz.so.1", true},
		{"file/usr/share/misc/magic", "/usr/share/misc/magic", true},
		{"python/setuptools", "/usr/lib/python3/dist-packages/setuptools/__init__.py", true},
		{"python/six", "/usr/lib/python3/dist-packages/six.py", true},
		{"python/six", "/usr/share/six.py", false},
		{"perl/Text::Template", "/usr/share/perl5/Text/Template.pm", true},
		{"tide", "/usr/bin/tide", false}, // a package is known by what it owns
	} {
		n, err := need.Parse(c.need)
		if err != nil {
			t.Fatal(err)
		}
		if got := j.isOf(n.Alternatives[0], c.path); got != c.want {
			t.Errorf("%s has %s: %v", c.need, c.path, got)
		}
	}
}

func TestCovers(t *testing.T) {
	for _, c := range []struct {
		need, header string
		want         bool
	}{
		{"pkgconfig/libcurl", "header/curl/curl.h", true},
		{"pkgconfig/glib-2.0", "header/glib-2.0/glib.h", true},
		{"header/zlib.h", "header/zconf.h", false},
		{"header/zlib.h", "header/zlib/extra.h", true},
		{"command/curl", "header/curl/curl.h", false},
		{"pkgconfig/zlib", "command/zlib", false},
	} {
		n, err := need.Parse(c.need)
		if err != nil {
			t.Fatal(err)
		}
		if got := covers(n.Alternatives[0], c.header); got != c.want {
			t.Errorf("%s covers %s: %v", c.need, c.header, got)
		}
	}
}

// What a step failed of is looked for among the workspace's packages.
func TestCauseNamesPackage(t *testing.T) {
	y := newFixture(t)
	y.write("harmonic", "arch = \"independent\"\n[steps]\nstage = '''\nmkdir -p \"$DESTDIR/usr/include\" \"$DESTDIR/usr/lib/pkgconfig\" \"$DESTDIR/usr/bin\"\necho > \"$DESTDIR/usr/include/harmonic.h\"; printf 'Version: 1\\n' > \"$DESTDIR/usr/lib/pkgconfig/harmonic.pc\"\nprintf '#!/bin/sh\\n' > \"$DESTDIR/usr/bin/tidegen\"; chmod +x \"$DESTDIR/usr/bin/tidegen\"\n'''\n")
	y.state("harmonic")
	for log, want := range map[string]string{
		"tide.c:1:10: fatal error: harmonic.h: No such file or directory": `build = ["pkgconfig/harmonic"]`,
		"build: 3: tidegen: not found":                                    `build = ["command/tidegen"]`,
		"No package 'harmonic' found":                                     `build = ["pkgconfig/harmonic"]`,
	} {
		y.write("tide", "[steps]\nbuild = '''\necho \""+log+"\"\nexit 1\n'''\n")
		_, err := y.build("tide", Options{})
		var step *StepError
		if !errors.As(err, &step) || len(step.Causes) == 0 || !strings.Contains(step.Causes[0].Remedy, want) {
			t.Errorf("%s: %+v, want %s", log, err, want)
		}
	}
}
