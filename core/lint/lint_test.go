package lint

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

	"ellwand.example/core/layout"
	"ellwand.example/core/pack"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
)

const good = `edition = 1
name = "tide"
version = "1.2"
release = 1
summary = "Tables of the tides"
license = "MIT"
homepage = "https://tide.example/"
maintainer = "Ines Quarrell <ines@saltmarsh.example>"
[[source]]
url = "https://files.example/tide-{version}.tar.gz"
sha256 = "0000000000000000000000000000000000000000000000000000000000000000"
[steps]
build = "make"
test = "make check"
[[change]]
version = "1.2-1"
date = 2031-04-02
text = ["x"]
[[change]]
version = "1.1-1"
date = 2031-03-02
text = ["x"]
`

func codes(findings []Finding) string {
	var all []string
	for _, f := range findings {
		code := f.Code
		if f.Waived != "" {
			code += "-"
		}
		all = append(all, code)
	}
	return strings.Join(slices.Compact(all), " ")
}

func TestRecipeRules(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"", "", ""},
		{"Tables of", "Tide:", "R101"},
		{"the tides", "the tides.", "R102"},
		{"sha256 = \"" + strings.Repeat("0", 64) + "\"", "", "R103"},
		{"https://tide.example", "http://tide.example", "R104"},
		{"https://files", "http://files", "R104"},
		{"release = 1", "release = 2", "R105"},
		{"2031-03-02", "2031-05-02", "R106"},
		{"maintainer = \"Ines Quarrell <ines@saltmarsh.example>\"", "", "R107"},
		{"tide-{version}", "tide-1.2", "R108"},
		{"test = \"make check\"", "", "R109"},
		{"[[change]]", "[[waive]]\ncode=\"R999\"\nbecause=\"x\"\n[[change]]", "R110"},
		{"[steps]", "[option.tls]\ndefault = false\n[let]\nx = \"1\"\n[steps]", "R112"},
		{"[steps]\nbuild = \"make\"", "[option.tls]\ndefault = false\n[let]\nx = \"1\"\n[steps]\nbuild = \"make $ELL_OPT_TLS\"\nconfigure=[\"{x}\"]\nmethod=\"make\"", ""},
		{"Tables of the tides\"", "Tide\"\n[[waive]]\ncode=\"r101\"\nbecause=\"it is called so\"", "R101-"},
	} {
		text := strings.Replace(good, c.old, c.new, 1)
		if i := strings.Index(text, "[[waive]]\ncode=\"r101\""); i >= 0 { // tables go behind the facts
			waiver := "[[waive]]\ncode=\"r101\"\nbecause=\"it is called so\""
			text = strings.Replace(text, "\n"+waiver, "", 1) + waiver
		}
		r, err := recipe.Parse("recipe.toml", []byte(text), recipe.Target{Arch: "x86_64"}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if got := codes(Recipe(r)); got != c.want {
			t.Errorf("%q → %q: %q, want %q", c.old, c.new, got, c.want)
		}
	}
}

// file describes a path in a package: TYPE MODE OWNER KIND, with what is in it.
type file struct {
	path, text  string
	mode, owner string
	kind, link  string
	disk        string
}

func lintPackage(t *testing.T, facts func(*pack.Facts), isolation string, files ...file) []Finding {
	t.Helper()
	dir := t.TempDir()
	var claims []layout.Claim
	for i, f := range append(files, file{path: "/usr/share/licenses/tide/COPYING", kind: recipe.License}) {
		c := layout.Claim{Path: layout.Path{Path: f.path, Type: layout.File, Disk: f.disk, Link: f.link}, Kind: f.kind, Owner: "root", Group: "root"}
		c.Mode = 0o644
		if f.mode != "" {
			c.Mode = layout.ParseMode(f.mode)
		}
		if f.owner != "" {
			c.Owner = f.owner
		}
		if f.link != "" {
			c.Type, c.Mode = layout.Symlink, 0o777
		} else if f.disk == "" {
			c.Disk = filepath.Join(dir, fmt.Sprint(i))
			if err := os.WriteFile(c.Disk, []byte(f.text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		claims = append(claims, c)
	}
	slices.SortFunc(claims, func(a, b layout.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	s := pack.Spec{
		Facts:  pack.Facts{Name: "tide", Version: "1.2", Release: 1, Arch: "any", Target: "t", Summary: "x", License: "MIT", Recipe: "tide"},
		Claims: claims, Recipe: []byte(good + "[[waive]]\ncode=\"L202\"\npath=\"/usr/bin/*\"\nbecause=\"it has to\"\n[package.tide]\nlayout={}\n[package.tide-data]\nlayout={}\n"), Time: time.Unix(1e9, 0),
		Build: pack.BuildRecord{Isolation: isolation},
	}
	if facts != nil {
		facts(&s.Facts)
	}
	if s.Facts.Category == "script" {
		s.Scripts = map[string]string{"after-install": "if true; then"}
	}
	if s.Facts.Category == "empty" {
		s.Claims = nil
	}
	w, err := pack.Write(context.Background(), dir, s, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	p, err := pack.Open(w.Path)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	findings, err := Package(context.Background(), p)
	if err != nil {
		t.Fatal(err)
	}
	return findings
}

func compile(t *testing.T, source string, args ...string) string {
	t.Helper()
	cc, err := exec.LookPath("cc")
	if err != nil {
		t.Skip("no C compiler on this machine to make test programs with")
	}
	out := filepath.Join(t.TempDir(), "out")
	cmd := exec.Command(cc, append([]string{"-x", "c", "-", "-o", out, "-s"}, args...)...)
	cmd.Stdin = strings.NewReader(source)
	if b, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("cc %v: %v\n%s", args, err, b)
	}
	return out
}

const program = "#include <stdio.h>\nint main(void) { puts(\"tide\"); return 0; }"

var hardened = []string{"-pie", "-fPIE", "-Wl,-z,relro,-z,now"}

func TestPackageRules(t *testing.T) {
	machine := func(f *pack.Facts) { f.Arch = machineArch() }
	lib := func(args ...string) string {
		return compile(t, "#include <stdio.h>\nint tide(void) { return puts(\"\"); }", append([]string{"-shared", "-fPIC", "-Wl,-z,relro,-z,now"}, args...)...)
	}
	for _, c := range []struct {
		want  string
		facts func(*pack.Facts)
		files []file
	}{
		{"", nil, []file{{path: "/usr/share/tide/a"}}},
		{"L201", nil, []file{{path: "/usr/share/a", mode: "0666"}}},
		{"L202-", nil, []file{{path: "/usr/bin/a", text: "#!/bin/sh\n", mode: "4755"}}},
		{"L202", nil, []file{{path: "/usr/libexec/a", text: "#!/bin/sh\n", mode: "2755"}}},
		{"L203", nil, []file{{path: "/usr/local/share/a"}}},
		{"L204", nil, []file{{path: "/etc/a"}}},
		{"", nil, []file{{path: "/etc/a", kind: recipe.Config}}},
		{"L205", nil, []file{{path: "/usr/share/a.orig"}}},
		{"L206", nil, []file{{path: "/usr/share/a", link: "gone"}}},
		{"L206", nil, []file{{path: "/usr/share/a", link: "/w/.ellwand/build/x/stage/usr/share/b"}}},
		{"", nil, []file{{path: "/usr/share/a", link: "b"}, {path: "/usr/share/b"}}},
		{"L207", func(f *pack.Facts) { f.Category = "empty"; f.Needs = []pack.Need{{Need: "x"}} }, nil},
		{"L208", nil, []file{{path: "/usr/share/a", owner: "tide"}}},
		{"", func(f *pack.Facts) { f.Accounts = map[string]recipe.Account{"tide": {}} }, []file{{path: "/usr/share/a", owner: "tide"}}},
		{"L209", nil, []file{{path: "/usr/share/a"}, {path: "/usr/share/A"}}},
		{"L210", func(f *pack.Facts) { f.Provides = []pack.Provide{{Provide: "command/tide"}} }, []file{{path: "/usr/include/a.h"}}},
		{"S401", func(f *pack.Facts) { f.Category = "script" }, nil},
		{"S402", nil, []file{{path: "/usr/share/a", text: "hello", mode: "0755"}}},
		{"S403", nil, []file{{path: "/usr/bin/a", text: "#!/usr/local/bin/tideplot\n", mode: "0755"}}},
		{"M502", nil, []file{{path: "/usr/share/a", text: "at /home/ines/salt/.ellwand/build/tide/work/x here"}}},
		{"M503", func(f *pack.Facts) { f.Category = "empty"; f.Name = "tide-data" }, nil},
		{"M504", func(f *pack.Facts) { f.Needs = []pack.Need{{Need: "tide-data = 1.1-1"}} }, nil},
		{"", func(f *pack.Facts) { f.Needs = []pack.Need{{Need: "tide-data = 1.2-1"}, {Need: "tidy = 9"}} }, nil},
		{"E310", machine, []file{{path: "/usr/share/a"}}},
		{"E311", machine, []file{{path: "/usr/bin/a", text: "\x7fELF?", mode: "0755"}}},
		{"", machine, []file{{path: "/usr/bin/a", disk: compile(t, program, hardened...), mode: "0755"}}},
		{"E305", nil, []file{{path: "/usr/bin/a", disk: compile(t, program, hardened...), mode: "0755"}}},
		{"E301", machine, []file{{path: "/usr/bin/a", disk: compile(t, program, append(hardened, "-Wl,-z,execstack")...), mode: "0755"}}},
		{"E303", machine, []file{{path: "/usr/bin/a", disk: compile(t, program, "-no-pie", "-fno-pie", "-Wl,-z,relro,-z,now"), mode: "0755"}}},
		{"E303", machine, []file{{path: "/usr/bin/a", disk: compile(t, program, "-pie", "-fPIE", "-Wl,-z,norelro"), mode: "0755"}}},
		{"E304", machine, []file{{path: "/usr/bin/a", disk: compile(t, program, append(hardened, "-Wl,-rpath,/opt/x")...), mode: "0755"}}},
		{"E306", func(f *pack.Facts) { f.Arch = "vax" }, []file{{path: "/usr/bin/a", disk: compile(t, program, hardened...), mode: "0755"}}},
		{"E307", machine, []file{{path: "/usr/lib/libtide.so", disk: lib()}}},
		{"E308", machine, []file{{path: "/usr/lib/libtide.so.1.2", disk: lib("-Wl,-soname,libtide.so.1")}}},
		{"", machine, []file{{path: "/usr/lib/libtide.so.1.2", disk: lib("-Wl,-soname,libtide.so.1")}, {path: "/usr/lib/libtide.so.1", link: "libtide.so.1.2"}}},
	} {
		if got := codes(lintPackage(t, c.facts, "namespaces", c.files...)); got != c.want {
			t.Errorf("%+v: %q, want %q", c.files, got, c.want)
		}
	}
	if got := codes(lintPackage(t, nil, "none")); got != "M501" {
		t.Errorf("without isolation: %q", got)
	}
}

func machineArch() string {
	out, err := exec.Command("uname", "-m").Output()
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(out))
}

func TestCatalogue(t *testing.T) {
	seen := map[string]bool{}
	for _, r := range Rules() {
		if seen[r.Code] || r.Title == "" || r.Why == "" || r.Remedy == "" || (r.recipe == nil) == (r.pkg == nil) && !slices.ContainsFunc(repositoryRules, func(o Rule) bool { return o.Code == r.Code }) || ranks[r.Severity] == 0 && r.Severity != Error {
			t.Errorf("%s is not complete, or stands twice", r.Code)
		}
		seen[r.Code] = true
	}
	if _, ok := Find("r105"); !ok {
		t.Error("codes are not found in small letters")
	}
}
