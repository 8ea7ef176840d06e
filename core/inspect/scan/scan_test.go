package scan

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/staging"
	"ellwand.example/core/testtool"
)

// compile builds a C program or library; source is on standard input.
func compile(t testing.TB, source, out string, args ...string) string {
	t.Helper()
	cc := testtool.Find(t, "cc")
	cmd := exec.Command(cc, append([]string{"-x", "c", "-", "-x", "none", "-o", out}, args...)...)
	cmd.Stdin = strings.NewReader(source)
	if b, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("cc %v: %v\n%s", args, err, b)
	}
	return out
}

func contents(t testing.TB, p, disk string) File {
	t.Helper()
	data, err := os.ReadFile(disk)
	if err != nil {
		t.Fatal(err)
	}
	f, err := Contents(p, bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func TestELF(t *testing.T) {
	dir := t.TempDir()
	lib := compile(t, "int tide(void) { return 1; }", filepath.Join(dir, "libtide.so"), "-shared", "-fPIC", "-Wl,-soname,libtide.so.1", "-Wl,-z,relro,-z,now", "-Wl,--build-id=0xabcd")
	e := contents(t, "/usr/lib/libtide.so.1", lib).ELF
	if e == nil || e.Type != Shared || e.Soname != "libtide.so.1" || !e.FullRelro || e.ExecStack || e.TextRel || e.BuildID != "abcd" || !e.SymbolTable {
		t.Errorf("library: %+v", e)
	}
	program := compile(t, "#include <stdio.h>\nint tide(void); int main(void) { printf(\"%d\", tide()); return 0; }", filepath.Join(dir, "tide"),
		"-pie", "-fPIE", lib, "-Wl,-rpath,/opt/odd:$ORIGIN/../lib", "-Wl,-z,execstack", "-Wl,-z,norelro", "-s")
	e = contents(t, "/usr/bin/tide", program).ELF
	if e.Type != PIE || !slices.Equal(e.Needed, []string{"libtide.so.1", "libc.so.6"}) || e.FullRelro || !e.ExecStack || e.SymbolTable ||
		!slices.Equal(e.Runpath, []string{"/opt/odd", "$ORIGIN/../lib"}) || e.Interpreter == "" || !strings.HasPrefix(strings.Join(e.Symbols["libc.so.6"], " "), "GLIBC_") {
		t.Errorf("program: %+v", e)
	}
	if e := contents(t, "/x", compile(t, "int main(void) { return 0; }", filepath.Join(dir, "fixed"), "-no-pie", "-fno-pie")).ELF; e.Type != Program {
		t.Errorf("at fixed addresses: %+v", e)
	}
	if e := contents(t, "/x", compile(t, "int x;", filepath.Join(dir, "x.o"), "-c")).ELF; e.Type != Relocatable {
		t.Errorf("object: %+v", e)
	}
	whole, _ := os.ReadFile(program)
	strong, weak, err := Undefined(bytes.NewReader(whole))
	if err != nil || !slices.Contains(strong, "tide") || !slices.Contains(strong, "printf") || !slices.Contains(weak, "__gmon_start__") || slices.Contains(strong, "main") {
		t.Errorf("undefined: %q, %q, %v", strong, weak, err)
	}
	odd := compile(t, "__asm__(\".section .both,\\\"awx\\\",@progbits\\n.byte 0\\n.text\"); int main(void) { return 0; }", filepath.Join(dir, "odd"), "-g", "-Wl,-rpath,/x,--disable-new-dtags")
	if e := contents(t, "/x", odd).ELF; !e.WriteExec || !e.DebugInfo || !e.RPath || e.Code == 0 || e.Language != "" {
		t.Errorf("odd: %+v", e)
	}
	head, _ := os.ReadFile(program)
	broken, _ := Contents("/x", bytes.NewReader(head[:100]), 100)
	if broken.ELF == nil || broken.ELF.Broken == "" {
		t.Errorf("cut short: %+v", broken.ELF)
	}
}

func TestText(t *testing.T) {
	for _, c := range []struct{ path, text, want string }{
		{"/usr/bin/a", "#!/bin/sh\n", "/bin/sh"}, {"/usr/bin/a", "#! /usr/bin/env -S LANG=C python3 -u\n", "python3"}, {"/usr/bin/a", "#!\n", ""}, {"/usr/bin/a", "", ""},
		{"/usr/lib/pkgconfig/x.pc", "prefix=/usr\nv=1.2\nVersion: ${v}.3 # c\nRequires: zlib >= 1.2, glib-2.0 \\\n odd >= ? \nRequires.private: m<2", "x 1.2.3 [pkgconfig/zlib >= 1.2 pkgconfig/glib-2.0 pkgconfig/odd pkgconfig/m < 2]"},
		{"/usr/share/doc/x.pc", "Version: 1", ""},
	} {
		f, err := Contents(c.path, strings.NewReader(c.text), int64(len(c.text)))
		got := f.Interpreter
		if f.PkgConfig != nil {
			got = fmt.Sprint(f.PkgConfig.Name, " ", f.PkgConfig.Version, " ", f.PkgConfig.Requires)
		}
		if err != nil || got != c.want {
			t.Errorf("%q: %q, %v; want %q", c.text, got, err, c.want)
		}
	}
}

func TestNeedsAndProvides(t *testing.T) {
	dir := t.TempDir()
	lib := compile(t, "int tide(void) { return 1; }", filepath.Join(dir, "libtide.so.1"), "-shared", "-fPIC", "-nostdlib", "-Wl,-soname,libtide.so.1")
	os.WriteFile(filepath.Join(dir, "tide.pc"), []byte("Version: 1.4\nRequires: other >= 2\n"), 0o644)
	os.WriteFile(filepath.Join(dir, "script"), []byte("#!/usr/bin/env tideplot\n"), 0o755)
	program := compile(t, "int tide(void); int main(void) { return tide(); }", filepath.Join(dir, "tide"), lib)
	at := func(p, disk string, mode os.FileMode) staging.Claim {
		return staging.Claim{Path: staging.Path{Path: p, Type: staging.File, Mode: mode, Disk: disk}}
	}
	claims := []staging.Claim{
		at("/usr/bin/tide", program, 0o755), at("/usr/bin/script", filepath.Join(dir, "script"), 0o755), at("/usr/lib/libtide.so.1", lib, 0o755),
		at("/usr/lib/plugins/deep/libplug.so", lib, 0o755), at("/usr/lib/pkgconfig/tide.pc", filepath.Join(dir, "tide.pc"), 0o644), at("/usr/bin/data", filepath.Join(dir, "tide.pc"), 0o644),
	}
	found := collect(t, claims)
	provides := Provides(claims, found)
	var p, n []string
	for _, x := range provides {
		p = append(p, x.String())
	}
	for _, x := range Needs(found, provides) {
		s := x.Need.String()
		if x.Need.Kind == need.File && strings.Contains(s, "ld") { // its name is the machine's
			s = "the linker"
		}
		n = append(n, s)
	}
	if got := strings.Join(p, ", "); got != "command/script, command/tide, pkgconfig/tide = 1.4, soname/libtide.so.1" {
		t.Errorf("provides %s", got)
	}
	if got := strings.Join(n, ", "); got != "command/tideplot, the linker, pkgconfig/other >= 2, soname/libc.so.6" {
		t.Errorf("needs %s", got)
	}
}

// A library in a directory of the RUNPATH is the package's own affair; elsewhere,
// somebody has to bring it.
func TestPrivateLibraries(t *testing.T) {
	for _, c := range []struct {
		runpath, at string
		want        int
	}{
		{"/usr/lib/tide", "/usr/lib/tide/libtide.so.1", 0}, {"$ORIGIN/../lib/tide", "/usr/lib/tide/libtide.so.1", 0}, {"${ORIGIN}", "/usr/bin/libtide.so.1", 0},
		{"/usr/lib/tide", "/usr/lib/ebb/libtide.so.1", 1}, {"", "/usr/lib/tide/libtide.so.1", 1},
	} {
		files := []File{
			{Path: "/usr/bin/tide", ELF: &ELF{Type: PIE, Needed: []string{"libtide.so.1"}, Runpath: []string{c.runpath}}},
			{Path: c.at, ELF: &ELF{Type: Shared, Soname: "libtide.so.1"}},
		}
		if got := Needs(files, nil); len(got) != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
}

// collect looks into all claims.
func collect(t *testing.T, claims []staging.Claim) []File {
	t.Helper()
	c := Collect(claims)
	for i, claim := range claims {
		data, err := os.ReadFile(claim.Disk)
		if err == nil {
			err = c.Look(i, bytes.NewReader(data), int64(len(data)))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return c.Files()
}

// Modules, menus and services: what they offer and what they need.
func TestModules(t *testing.T) {
	dir := t.TempDir()
	for i, c := range []struct {
		path, text      string
		provides, needs string
	}{
		{"/usr/lib/python3/dist-packages/tide/__init__.py", "", "python/tide", ""},
		{"/usr/lib/python3/dist-packages/tide/inner/__init__.py", "", "", ""},
		{"/usr/lib/python3.11/site-packages/_tide.cpython-311-x86_64-linux-gnu.so", "", "python/_tide", ""},
		{"/usr/lib/python3/dist-packages/Salt_Marsh-2.0.dist-info/METADATA",
			"Metadata-Version: 2.1\nName: Salt.Marsh\nVersion: 2.0\nRequires-Dist: tide-table[plot] (>=1.2,!=1.3)\nRequires-Dist: odd ; extra == 'x'\nRequires-Dist: any>=1.*\n\nName: text",
			"python/salt_marsh = 2.0", "python/any, python/tide_table >= 1.2, != 1.3"},
		{"/usr/share/perl5/Tide/Table.pm", "package Tide::Table;\nour $VERSION = '1.04';\n", "perl/Tide::Table = 1.04", ""},
		{"/usr/lib/x86_64-linux-gnu/perl5/5.36/Tide.pm", "package Tide;", "perl/Tide", ""},
		{"/usr/bin/tide plot", "#!/usr/bin/env two|words\n", "", ""},
		{"/usr/share/doc/Tide.pm", "package Tide;", "", ""},
		{"/usr/share/applications/tide.desktop", "[Desktop Entry]\nName=Tides\nExec=tideplot %f\n[Desktop Action x]\nExec=other", "", "command/tideplot"},
		{"/usr/share/applications/quoted.desktop", "[Desktop Entry]\nExec=\"/usr/bin/tide plot\" x", "", ""},
		{"/usr/lib/systemd/system/tide.service", "[Service]\nUser=tide\nExecStartPre=-/bin/mkdir -p \\\n /x\nExecStart=!/usr/bin/tided $ARGS\nExecReload=/opt/x/reload\n# ExecStop=no\nExecStop=${STOP}", "", "command/mkdir, command/tided"},
	} {
		disk := filepath.Join(dir, fmt.Sprint(i))
		os.WriteFile(disk, []byte(c.text), 0o644)
		claims := []staging.Claim{{Path: staging.Path{Path: c.path, Type: staging.File, Mode: 0o644, Disk: disk}}}
		found := collect(t, claims)
		provides := Provides(claims, found)
		var p, n []string
		for _, x := range provides {
			p = append(p, x.String())
		}
		for _, x := range Needs(found, provides) {
			n = append(n, x.Need.String())
		}
		if strings.Join(p, ", ") != c.provides || strings.Join(n, ", ") != c.needs {
			t.Errorf("%s: provides %q, needs %q; want %q and %q", c.path, p, n, c.provides, c.needs)
		}
	}
	for p, want := range map[string]string{
		"/usr/share/man/man1/tide.1.gz": "tide(1)", "/usr/share/man/man3/Tide::Table.3pm": "Tide::Table(3pm)", "/usr/share/man/de/man1/tide.1": "", "/usr/share/man/man1/": "",
	} {
		if got := Manual(p); got != want {
			t.Errorf("%s is the page %q, want %q", p, got, want)
		}
	}
	if l := Language("/usr/share/locale/pt_BR/LC_MESSAGES/tide.mo"); l != "pt_BR" {
		t.Errorf("language %q", l)
	}
}

func FuzzContents(f *testing.F) {
	f.Add("/usr/lib/pkgconfig/x.pc", []byte("a=${a}${a}\nVersion: ${a}\nRequires: x >= 1"))
	f.Add("/usr/lib/python3/dist-packages/x.dist-info/METADATA", []byte("Name: x\nRequires-Dist: y (>=1)"))
	f.Add("/usr/lib/systemd/system/x.service", []byte("[Service]\nExecStart=-/usr/bin/x"))
	f.Add("/usr/bin/x", []byte("#!/usr/bin/env -S a=b python3"))
	dir := f.TempDir()
	if program, err := os.ReadFile(compile(f, "int main(void) { return 0; }", filepath.Join(dir, "x"), "-nostdlib", "-shared", "-fPIC", "-s", "-Wl,-soname,x.so.1")); err == nil {
		f.Add("/usr/lib/x.so", program)
	}
	f.Fuzz(func(t *testing.T, p string, data []byte) {
		found, err := Contents(p, bytes.NewReader(data), int64(len(data)))
		if err != nil {
			t.Fatal(err)
		}
		claims := []staging.Claim{{Path: staging.Path{Path: p, Type: staging.File}}}
		Needs([]File{found}, Provides(claims, []File{found}))
	})
}
