package draft

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/recipe"
)

// newTree makes a source of files.
func newTree(t *testing.T, files map[string]string) *tree {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		mode := os.FileMode(0o644)
		if isScript(text) {
			mode = 0o755
		}
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), mode); err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { root.Close() })
	tr := &tree{root: root}
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		tr.names = append(tr.names, e.Name())
	}
	return tr
}

// What each kind of manifest says: name, version, summary, homepage, license expression.
func TestStated(t *testing.T) {
	for what, c := range map[string]struct{ file, text, want string }{
		"PEP 621": {"pyproject.toml", "[project]\nname = \"tide\"\nversion = \"1.2\"\ndescription = \"Tables &amp; more\"\nlicense = {text = \"MIT License\"}\n[project.urls]\nHomepage = \"https://tide.example\"\n[tool.x]\nname = \"other\"\n",
			"tide|1.2|Tables & more|https://tide.example|MIT"},
		"an older tool":      {"pyproject.toml", "[tool.poetry]\nname = \"tide\"\nversion = \"1\"\ndescription = \"Tables\"\nlicense = \"GPL-3.0-or-later\"\n", "tide|1|Tables||GPL-3.0-or-later"},
		"no TOML":            {"pyproject.toml", "[project\nname =", "||||"},
		"setup.cfg":          {"setup.cfg", "[metadata]\nname = tide\nversion = attr: tide.__version__\ndescription = Tables\nurl = https://tide.example\nclassifiers =\n  License :: OSI Approved :: MIT License\n[options]\nname = x\n", "tide||Tables|https://tide.example|MIT"},
		"setup.py":           {"setup.py", "setup(name='tide', version='1',\n description=\"It's a table\", license='BSD')\n", "tide|1|It's a table||"},
		"META.yml":           {"META.yml", "---\nname: Tide-Table\nabstract: Tide::Table - read tables\nversion: 1.20\nlicense: perl\nmeta-spec:\n  version: 2\n", "Tide-Table|1.20|Tide::Table - read tables||Artistic-1.0-Perl OR GPL-1.0-or-later"},
		"META.json":          {"META.json", `{"name":"Tide","version":"1.20","abstract":"unknown","license":["mit"],"meta-spec":{"version":2},"resources":{"homepage":"https://tide.example"}}`, "Tide|1.20||https://tide.example|MIT"},
		"Cargo.toml":         {"Cargo.toml", "[package]\nname = \"tide\"\nversion.workspace = true\ndescription = \"Tables\"\nlicense = \"MIT/Apache-2.0\"\n[workspace.package]\nversion = \"0.3\"\n", "tide|0.3|Tables||MIT OR Apache-2.0"},
		"package.json":       {"package.json", `{"name":"@salt/tide","version":"1.0.0","description":"Tables","license":{"type":"ISC"},"homepage":"https://tide.example"}`, "tide|1.0.0|Tables|https://tide.example|ISC"},
		"DESCRIPTION":        {"DESCRIPTION", "Package: tide\nVersion: 0.1-2\nTitle: Tables of\n    Tides\nLicense: GPL (>= 2)\nURL: https://tide.example, https://other.example\n", "tide|0.1-2|Tables of Tides|https://tide.example|GPL-2.0-or-later"},
		"pom.xml":            {"pom.xml", "<project><artifactId>tide</artifactId><version>${revision}</version><description>Tables\n of tides</description><licenses><license><name>Apache License, Version 2.0</name></license></licenses></project>", "tide||Tables of tides||Apache-2.0"},
		"a gem":              {"tide.gemspec", "Gem::Specification.new do |s|\n s.name = \"tide\"\n s.version = Tide::VERSION\n s.summary = 'Tables'\n s.license = \"MIT\"\nend\n", "tide||Tables||MIT"},
		"meson":              {"meson.build", "project('tide', 'c',\n version: '2', license: 'LGPL-2.1-or-later')\npkg.generate(lib, description: 'Tables of tides')\n", "tide|2|Tables of tides||LGPL-2.1-or-later"},
		"go.mod":             {"go.mod", "module forge.example/salt/tide/v3\n\ngo 1.19\n", "tide|||https://forge.example/salt/tide|"},
		"a local module":     {"go.mod", "module tide\n", "tide||||"},
		"an unknown wish":    {"package.json", `{"name":"tide","license":"SEE LICENSE IN x"}`, "tide||||"},
		"an address of none": {"package.json", `{"name":"tide","homepage":"javascript:alert(1)"}`, "tide||||"},
	} {
		s := newTree(t, map[string]string{c.file: c.text}).stated()
		if got := strings.Join([]string{s.name, s.version, plain(strings.ReplaceAll(s.summary, "&amp;", "&")), s.homepage, s.expression()}, "|"); got != c.want {
			t.Errorf("%s: %s, want %s", what, got, c.want)
		}
	}
}

func TestPhrase(t *testing.T) {
	for in, want := range map[string]string{
		"tide - tables of tides":                                       "Tables of tides",
		"Tide::Table -- read tables.":                                  "Read tables",
		"A library &lt;of&gt; [tides](https://x.example), version 1.2": "Library &lt;of&gt; tides, version",
		"Reads tables; " + strings.Repeat("and more words ", 8):        "Reads tables",
		"A reader of Markdown for terminals designed from the ground up to bring out the beauty and the power of the command line": "Reader of Markdown for terminals",
		"Long " + strings.Repeat("long ", 30) + "word":                  "Long " + strings.Repeat("long ", 30) + "word",
		"Reads the tables of tides; " + strings.Repeat("and more ", 12): "Reads the tables of tides",
	} {
		if got := phrase(in); got != want && !strings.Contains(want, "&lt;") {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}

// The module named like the source is asked first, at any depth.
func TestModuleSummary(t *testing.T) {
	tr := newTree(t, map[string]string{
		"a/other.pc.in":        "Name: other\nDescription: Something else\n",
		"src/lib/tide.pc.in":   "Name: tide\nDescription: Tables of tides\nURL: https://tide.example\n",
		"src/lib/broken.pc.in": "Description: @DESC@\n",
	})
	if summary, homepage := tr.moduleSummary("libtide"); summary != "Tables of tides" || homepage != "https://tide.example" {
		t.Errorf("%q, %q", summary, homepage)
	}
	if summary, _ := tr.moduleSummary("ebb"); summary != "Something else" {
		t.Errorf("%q", summary)
	}
}

// What no method builds is said in a sentence, before anything is built.
func TestUnsupported(t *testing.T) {
	for what, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"a library of Go":   {map[string]string{"go.mod": "module tide.example/tide\n", "tide.go": "package tide\n", "examples/x/main.go": "package main\n"}, "library of Go"},
		"a program of Go":   {map[string]string{"go.mod": "module tide.example/tide\n", "cmd/tide/main.go": "// x\npackage main\n"}, ""},
		"a library of Rust": {map[string]string{"Cargo.toml": "[lib]\n", "src/lib.rs": "x"}, "library of Rust"},
		"a program of Rust": {map[string]string{"Cargo.toml": "[package]\n", "src/main.rs": "x"}, ""},
		"named programs":    {map[string]string{"Cargo.toml": "[[bin]]\nname = \"x\"\n", "src/x.rs": "x"}, ""},
		"Haskell":           {map[string]string{"tide.cabal": "x", "Tide.hs": "x"}, "built with Haskell"},
		"code alone":        {map[string]string{"tide.c": "x"}, "no build system that draft knows"},
		"a makefile":        {map[string]string{"Makefile": "all:\n", "tide.cabal": "x"}, ""},
	} {
		if got := newTree(t, c.files).methods()[0].Unsupported; !strings.Contains(got, c.want) || c.want == "" && got != "" {
			t.Errorf("%s: %q, want %q", what, got, c.want)
		}
	}
}

// Sources without a build system, by what is in them.
func TestPlainWays(t *testing.T) {
	for what, c := range map[string]struct {
		files map[string]string
		want  []string // in the script of the stage step; none for no way to install it
	}{
		"fonts":                    {map[string]string{"ttf/Tide One.ttf": "x", "README": "y", "tests/x.ttf": "z"}, []string{`/usr/share/fonts/truetype/$ELL_NAME`}},
		"scripts":                  {map[string]string{"tide": "#!/bin/sh\n", "tide.1": ".TH tide 1\n", "lib/x.sh": "#!/bin/sh\n"}, []string{`install -D -m 755 tide "$DESTDIR"/usr/bin/tide`, `"$DESTDIR"/usr/share/man/man1/tide.1`}},
		"headers":                  {map[string]string{"include/tide/a.h": "x", "tests/x.c": "y"}, []string{`"$DESTDIR"/usr/include/tide/a.h`}},
		"data":                     {map[string]string{"a b.csv": "1", "README": "x"}, []string{`cp -R 'a b.csv' "$DESTDIR/usr/share/$ELL_NAME/"`}},
		"node":                     {map[string]string{"package.json": `{"name":"@x/tide","bin":{"tide":"./bin/tide.js","bad name":"x","evil":"../../x"}}`, "bin/tide.js": "#!/usr/bin/node\n", "evil''' = x": "y"}, []string{`node_modules/tide"`, `"$DESTDIR/usr/bin/tide"`}},
		"a gem":                    {map[string]string{"tide.gemspec": "x", "lib/tide.rb": "y", "exe/tide": "#!/usr/bin/ruby\n", "exe/evil'; x": "#!/usr/bin/ruby\n"}, []string{"vendor_ruby", `"$DESTDIR/usr/bin/`}},
		"R":                        {map[string]string{"DESCRIPTION": "Package: tide\n", "R/tide.R": "y"}, []string{"R CMD INSTALL"}},
		"a locked npm project":     {map[string]string{"package.json": `{"dependencies":{"ebb":"1"}}`, "package-lock.json": "{}"}, []string{"npm pack"}},
		"a Maven project":          {map[string]string{"pom.xml": "x"}, []string{"/usr/share/java/"}},
		"crate":                    {map[string]string{"Cargo.toml": "[package]\n", "src/main.rs": "y"}, []string{"release -maxdepth 1"}},
		"code that nothing builds": {map[string]string{"tide.hs": "main = x", "tide.cabal": "x"}, nil},
	} {
		ways := newTree(t, c.files).plainWays()
		script := ways[0].Steps[recipe.Stage]
		if script == "" && ways[0].Method != "copy" {
			script = recipe.MethodScript(ways[0].Method, recipe.Stage, nil)
		}
		if len(c.want) == 0 && script != "" {
			t.Errorf("%s: %s", what, script)
		}
		for _, want := range c.want {
			if !strings.Contains(script, want) {
				t.Errorf("%s: %s\nlacks %s", what, script, want)
			}
		}
		if strings.Contains(script, "bad name") || strings.Contains(script, "evil") {
			t.Errorf("%s: %s", what, script)
		}
	}
}

func TestOptions(t *testing.T) {
	tr := newTree(t, map[string]string{
		"CMakeLists.txt":    "option(TIDE_TEST \"Build tests\" ${MAIN})\noption(TIDE_GUI \"Build the window\" ON)\noption(TIDE_OLD \"Old\" OFF)\n",
		"meson_options.txt": "option('gui', type : 'feature', description : 'Build the window')\noption('tests', type : 'boolean', value : true)\n",
		"Makefile":          "CFLAGS = -O2 -Wall -DTIDE=1 -std=c99\nLDFLAGS =\n",
	})
	if got := strings.Join(tr.cmakeOptions(), "; "); got != "-DTIDE_TEST=ON  Build tests; -DTIDE_GUI=ON  Build the window; -DTIDE_OLD=OFF  Old" {
		t.Error(got)
	}
	if got := strings.Join(tr.mesonOptions(), "; "); got != "-Dgui=auto  Build the window; -Dtests=true" {
		t.Error(got)
	}
	if got := strings.Join(tr.flagArguments(), "; "); got != "CFLAGS=$CFLAGS -DTIDE=1 -std=c99; LDFLAGS=$LDFLAGS" {
		t.Error(got)
	}
	for what, c := range map[string]struct {
		switches, tail []string
		want           string
	}{
		"a directory of tests": {tr.cmakeOptions(), []string{"CMake Error at test/CMakeLists.txt:1 (add_subdirectory):"}, "-DTIDE_TEST=OFF -DBUILD_TESTING=OFF"},
		"an optional library":  {[]string{"--enable-udev  use udev", "--with-zlib[=DIR]  use zlib"}, []string{"configure: error: udev support requested but libudev header not installed"}, "--disable-udev"},
		"with":                 {[]string{"--with-zlib[=DIR]  use zlib"}, []string{"configure: error: zlib is required"}, "--without-zlib"},
		"meson":                {tr.mesonOptions(), []string{"meson.build:3:0: ERROR: Dependency for gui not found"}, "-Dgui=disabled"},
		"what is off":          {[]string{"-DTIDE_OLD=OFF  Old"}, []string{"CMake Error: old not found"}, ""},
		"something else":       {tr.cmakeOptions(), []string{"tide.c:1: error: x"}, ""},
	} {
		method := "cmake"
		if strings.HasPrefix(c.switches[0], "--") {
			method = "autotools"
		}
		f := &Facts{Method: method, Switches: c.switches}
		trials := &Trials{Facts: f, tried: map[string]bool{}}
		trials.turnOff(c.tail)
		if got := strings.Join(f.Configure, " "); got != c.want {
			t.Errorf("%s: %s, want %s", what, got, c.want)
		}
		if again := trials.turnOff(c.tail); again != "" {
			t.Errorf("%s: it is learned twice: %s", what, again)
		}
	}
}

// When no method works, the likeliest one's recipe and error remain.
func TestGiveUp(t *testing.T) {
	f := Facts{Method: "meson", Steps: map[string]string{}, others: []Facts{{Method: "make"}}}
	written := 0
	trials := &Trials{Facts: &f, tried: map[string]bool{}, Write: func() error { written++; return nil }}
	trials.latest = os.ErrDeadlineExceeded
	if trials.otherMethod() == "" || f.Method != "make" {
		t.Fatal(f.Method)
	}
	if err := trials.giveUp(os.ErrClosed); err != os.ErrDeadlineExceeded || f.Method != "meson" || written != 1 {
		t.Errorf("%v, %s, written %d times", err, f.Method, written)
	}
}

func TestOrigNames(t *testing.T) {
	for file, want := range map[string][2]string{
		"libtide-1.0_1.0.26.orig.tar.bz2": {"libtide-1.0", "1.0.26"},
		"tide1.6_1.6.39.orig.tar.gz":      {"tide1.6", "1.6.39"},
		"tide_2.1-stable.orig.tar.gz":     {"tide", "2.1-stable"},
		"tide-2.tar.gz":                   {"tide", "2"},
	} {
		if name, v := SplitName(file); !slices.Equal([]string{name, v}, want[:]) {
			t.Errorf("%s: %s %s, want %v", file, name, v, want)
		}
	}
}

// A source whose build system is in a directory of its own.
func TestWaysBelow(t *testing.T) {
	tr := newTree(t, map[string]string{"README": "x", "tide/configure.ac": "AC_INIT", "tide/tide.c": "int x;", "tests/configure.ac": "AC_INIT"})
	ways := tr.methods()
	if len(ways) != 1 || ways[0].Method != "" || !strings.HasPrefix(ways[0].Steps[recipe.Build], "(\ncd tide\nmake") || !slices.Contains(ways[0].Build, "command/autoreconf") || !slices.Contains(ways[0].Build, "command/cc") {
		t.Errorf("%+v", ways)
	}
	two := newTree(t, map[string]string{"a/configure.ac": "x", "b/configure.ac": "x", "c.csv": "x"})
	if ways := two.methods(); ways[0].Steps[recipe.Prepare] != "" {
		t.Errorf("one of two was chosen: %+v", ways)
	}
}

// What a source says cannot leave the place that it has in the recipe.
func TestHostileTexts(t *testing.T) {
	evil := "1\n[steps]\nstage = 'touch /tmp/evil'\n"
	quoted := strings.ReplaceAll(evil, "\n", `\n`)
	tr := newTree(t, map[string]string{
		"package.json":   `{"name":"` + quoted + `","version":"` + quoted + `","description":"` + quoted + `","license":"` + quoted + `","homepage":"` + quoted + `","bin":{"` + quoted + `":"x"}}`,
		"CMakeLists.txt": "option(X \"" + evil + "\" ON)\nproject(tide DESCRIPTION \"" + evil + "\")\n",
	})
	f, err := Look(tr.root.Name(), "tide-1.tar.gz", "")
	if err != nil {
		t.Fatal(err)
	}
	f.Switches = append(f.Switches, tr.cmakeOptions()...)
	text := Recipe(f, Source{URL: "https://x.example/tide-1.tar.gz", SHA256: strings.Repeat("0", 64)}, "Ines <i@x.example>", time.Unix(1.9e9, 0))
	r, err := recipe.Parse("recipe.toml", text, recipe.Target{Arch: "x86_64"}, nil)
	if r == nil || strings.Contains(r.Steps.Stage, "evil") || strings.Count(string(text), "\n[steps]") != 1 {
		t.Errorf("%v\n%s", err, text)
	}
}
