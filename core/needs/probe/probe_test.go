package probe

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/testtool"
)

// root makes a directory with a system in it; "->x" is a link, a name with "!"
// behind it may be run.
func root(t testing.TB, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		name, runs := strings.CutSuffix(name, "!")
		p := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(p), 0o755)
		var err error
		if target, link := strings.CutPrefix(text, "->"); link {
			err = os.Symlink(target, p)
		} else {
			mode := os.FileMode(0o644)
			if runs {
				mode = 0o755
			}
			err = os.WriteFile(p, []byte(text), mode)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// A system has what whatever uses it would find there, and nothing of the
// machine that it depends on.
func TestLook(t *testing.T) {
	b := Open(root(t, map[string]string{
		"usr/bin/tide!": "", "usr/bin/data": "", "usr/sbin/tided!": "", "usr/bin/absolute": "->/usr/lib/tide/real", "usr/lib/tide/real!": "", "usr/bin/loop": "->loop", "usr/bin/outside": "->/../../../../../../bin/sh",
		"usr/lib/x86_64-linux-gnu/pkgconfig/tide.pc": "Version: 1.4\n", "usr/share/pkgconfig/odd.pc": "Version: odd version\n",
		"etc/ld.so.conf": "include ld.so.conf.d/*.conf\n# no\n", "etc/ld.so.conf.d/tide.conf": "/opt/tide/lib\n", "opt/tide/lib/libtide.so.1": "->libtide.so.1.4", "opt/tide/lib/libtide.so.1.4": "", "usr/lib/libplain.so.2": "",
		"usr/include/tide.h": "", "usr/include/x86_64-linux-gnu/sys/quay.h": "", "usr/lib/gcc/x86_64-linux-gnu/12/include/stdarg.h": "",
		"usr/lib/python3/dist-packages/tide/__init__.py": "", "usr/lib/python3/dist-packages/tide-2.0.dist-info/METADATA": "Name: tide\nVersion: 2.0\n\n", "usr/lib/python3.11/json/__init__.py": "", "usr/lib/python3.11/lib-dynload/_quay.cpython-311-x86_64-linux-gnu.so": "",
		"usr/lib/python3/dist-packages/Salt_Marsh-1.5.egg-info/PKG-INFO": "Name: Salt-Marsh\nVersion: 1.5\n",
		"usr/share/perl5/Tide/Table.pm":                                  "package Tide::Table;\nour $VERSION = '1.04';\n", "usr/share/perl/5.36/strict.pm": "package strict;\n",
	}))
	for _, c := range []struct{ need, want string }{
		{"command/tide", "/usr/bin/tide"}, {"command/tided", "/usr/sbin/tided"}, {"command/data", ""}, {"command/absolute", "/usr/bin/absolute"}, {"command/loop", ""}, {"command/outside", ""}, {"command/sh", ""}, {"command/none | command/tide", "/usr/bin/tide"},
		{"pkgconfig/tide", "/usr/lib/x86_64-linux-gnu/pkgconfig/tide.pc 1.4"}, {"pkgconfig/tide >= 1.4", "/usr/lib/x86_64-linux-gnu/pkgconfig/tide.pc 1.4"}, {"pkgconfig/tide > 1.4", "not /usr/lib/x86_64-linux-gnu/pkgconfig/tide.pc 1.4"}, {"pkgconfig/odd", "/usr/share/pkgconfig/odd.pc"}, {"pkgconfig/odd >= 1", "not /usr/share/pkgconfig/odd.pc"}, {"pkgconfig/zlib", ""},
		{"soname/libtide.so.1", "/opt/tide/lib/libtide.so.1"}, {"soname/libplain.so.2", "/usr/lib/libplain.so.2"}, {"soname/libc.so.6", ""},
		{"header/tide.h", "/usr/include/tide.h"}, {"header/sys/quay.h", "/usr/include/x86_64-linux-gnu/sys/quay.h"}, {"header/stdarg.h", "/usr/lib/gcc/x86_64-linux-gnu/12/include/stdarg.h"}, {"header/stdio.h", ""},
		{"python/tide >= 2", "/usr/lib/python3/dist-packages/tide/__init__.py 2.0"}, {"python/json", "/usr/lib/python3.11/json/__init__.py"}, {"python/_quay", "/usr/lib/python3.11/lib-dynload/_quay.cpython-311-x86_64-linux-gnu.so"}, {"python/salt_marsh = 1.5", "/usr/lib/python3/dist-packages 1.5"}, {"python/none", ""},
		{"perl/Tide::Table >= 1", "/usr/share/perl5/Tide/Table.pm 1.04"}, {"perl/strict", "/usr/share/perl/5.36/strict.pm"}, {"perl/Tide", ""},
		{"file/etc/ld.so.conf", "/etc/ld.so.conf"}, {"file/etc/passwd", ""}, {"tide", ""},
	} {
		n, err := need.Parse(c.need)
		if err != nil {
			t.Fatal(err)
		}
		found, ok := b.Look(n, nil)
		got := strings.TrimSpace(found.Path + " " + found.Provide.Version)
		if ok && !found.Enough {
			got = "not " + got
		}
		if got != c.want || ok != (c.want != "") {
			t.Errorf("%s: %q, want %q", c.need, got, c.want)
		}
	}
	for text, want := range map[string]string{"command/tied": "command/tide", "pkgconfig/tid": "pkgconfig/tide", "header/sys/quary.h": "header/sys/quay.h", "soname/libtide.so.2": "soname/libtide.so.1", "perl/X": ""} {
		n, _ := need.Parse(text)
		if got := b.Near(n); got != want {
			t.Errorf("near %s: %q, want %q", text, got, want)
		}
	}
}

// With a toolchain, compilers, libraries, headers and modules are those of its architecture.
func TestOpenFor(t *testing.T) {
	const triplet = "aarch64-linux-gnu"
	pc := "Name: x\nDescription: x\nVersion: 1\n"
	dir := root(t, map[string]string{
		"usr/bin/cc": "", "usr/bin/" + triplet + "-gcc": "", "usr/bin/make": "",
		"usr/lib/x86_64-linux-gnu/pkgconfig/here.pc": pc, "usr/lib/" + triplet + "/pkgconfig/there.pc": pc, "usr/share/pkgconfig/both.pc": pc,
		"usr/" + triplet + "/include/there.h": "", "usr/include/both.h": "", "usr/include/x86_64-linux-gnu/here.h": "",
		"usr/" + triplet + "/lib/libc.so.6": "", "usr/" + triplet + "/lib/ld-linux-aarch64.so.1": "", "lib64/ld-linux-x86-64.so.2": "", "usr/lib/x86_64-linux-gnu/libhere.so.1": "",
	})
	for _, name := range []string{"usr/bin/cc", "usr/bin/" + triplet + "-gcc", "usr/bin/make"} {
		os.Chmod(filepath.Join(dir, name), 0o755)
	}
	b := OpenFor(dir, triplet)
	for text, want := range map[string]string{
		"command/cc": "/usr/bin/" + triplet + "-gcc", "command/make": "/usr/bin/make", "command/c++": "", "file/lib/ld-linux-aarch64.so.1": "/usr/" + triplet + "/lib/ld-linux-aarch64.so.1", "file/lib64/ld-linux-x86-64.so.2": "",
		"pkgconfig/here": "", "pkgconfig/there": "/usr/lib/" + triplet + "/pkgconfig/there.pc", "pkgconfig/both": "/usr/share/pkgconfig/both.pc",
		"header/there.h": "/usr/" + triplet + "/include/there.h", "header/both.h": "/usr/include/both.h", "header/here.h": "",
		"soname/libc.so.6": "/usr/" + triplet + "/lib/libc.so.6", "soname/libhere.so.1": "",
	} {
		n, err := need.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if found, _ := b.Look(n, nil); found.Path != want {
			t.Errorf("%s: %q, want %q", text, found.Path, want)
		}
	}
}

// A library is asked for the symbol versions that are needed of it.
func TestSymbolVersions(t *testing.T) {
	cc := testtool.Find(t, "cc")
	dir := root(t, map[string]string{"usr/lib/map": "TIDE_1.0 { global: one; local: *; }; TIDE_1.1 { global: two; };"})
	cmd := exec.Command(cc, "-x", "c", "-", "-x", "none", "-shared", "-fPIC", "-nostdlib", "-Wl,-soname,libtide.so.1", "-Wl,--version-script="+filepath.Join(dir, "usr/lib/map"), "-o", filepath.Join(dir, "usr/lib/libtide.so.1"))
	cmd.Stdin = strings.NewReader("void one(void) {} void two(void) {}")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	n, _ := need.Parse("soname/libtide.so.1")
	b := Open(dir)
	if found, ok := b.Look(n, []string{"TIDE_1.0", "TIDE_1.1"}); !ok || !found.Enough {
		t.Errorf("%+v", found)
	}
	if found, ok := b.Look(n, []string{"TIDE_1.0", "TIDE_1.2"}); !ok || found.Enough || strings.Join(found.Lacks, " ") != "TIDE_1.2" {
		t.Errorf("%+v", found)
	}
}

// The machine itself has what Go's tests run with.
func TestHere(t *testing.T) {
	n, _ := need.Parse("command/sh")
	if found, ok := Open("").Look(n, nil); !ok || !strings.HasSuffix(found.Path, "/sh") {
		t.Errorf("%+v", found)
	}
}
