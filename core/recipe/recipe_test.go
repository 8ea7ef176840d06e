package recipe

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

var target = Target{Name: "saltmarsh-7", Arch: "x86_64"}

const good = `format = 1
name    = "tidegauge"
version = "2.4.1"
release = 3
summary = "Record tide heights on {target.arch} in {{braces}}"
license = "MIT"

[[source]]
url    = "https://files.example/tidegauge-{version}.tar.gz"
sha256 = "0000000000000000000000000000000000000000000000000000000000000000"

[steps]
build = '''
make {not-a-value}
'''

[package.tidegauge.layout]
"/usr/lib/libtide.so.{version}" = { mode = "0644" }
"/usr/bin/*" = {}

[package.tidegauge-dev]
needs  = ["tidegauge = {full}"]
layout = { "/usr/include/**" = {} }

[[change]]
version = "2.4.1-3"
date    = 2031-04-02
by      = "Ines Quarrell <ines@saltmarsh.example>"
text    = ["Listen on 8080"]

[[change]]
version = "2.4.1-1"
date    = 2031-03-02
text    = ["First"]
`

func TestParse(t *testing.T) {
	r, err := Parse("recipe.toml", []byte(good), target, nil)
	if err != nil {
		t.Fatal(err)
	}
	if r.Full() != "2.4.1-3" || r.Sources[0].URL != "https://files.example/tidegauge-2.4.1.tar.gz" ||
		r.Summary != "Record tide heights on x86_64 in {braces}" || r.Packages["tidegauge-dev"].Needs[0].String() != "tidegauge = 2.4.1-3" ||
		!strings.Contains(r.Steps.Build, "{not-a-value}") {
		t.Errorf("values are not filled in: %+v", r)
	}
	if _, ok := r.Packages["tidegauge"].Layout["/usr/lib/libtide.so.2.4.1"]; !ok {
		t.Errorf("a layout's key is not filled in: %v", r.Packages["tidegauge"].Layout)
	}
	if got := r.Date().Format("2006-01-02"); got != "2031-04-02" {
		t.Errorf("the newest change is of %s", got)
	}
	if fmt.Sprint(r.PackageNames()) != "[tidegauge tidegauge-dev]" || r.ScriptLine(Build, 1) != 14 {
		t.Errorf("packages %v, the build script begins on line %d", r.PackageNames(), r.ScriptLine(Build, 1))
	}
}

// A source under a condition is used if that holds; pins find it in the file.
func TestSourcesUnderConditions(t *testing.T) {
	text := "format = 1\nname = \"tide\"\nversion = \"1\"\nrelease = 1\nsummary = \"Tides\"\nlicense = \"MIT\"\n" +
		"[[source]]\nurl = \"https://x.example/a\"\nif = \"target.arch == 'riscv64'\"\n[[source]]\nurl = \"https://x.example/b\"\n"
	r, err := Parse("recipe.toml", []byte(text), Target{Arch: "x86_64"}, nil)
	if err != nil || len(r.Sources) != 1 || r.Sources[0].URL != "https://x.example/b" || r.Sources[0].Place != 1 {
		t.Fatalf("%+v, %v", r.Sources, err)
	}
	line, _ := r.Doc.Position(r.Origin(0).Offset)
	pinned, err := r.WithPins([]Pin{{Source: 0, SHA256: strings.Repeat("a", 64)}})
	if err != nil || line != 11 || !strings.HasSuffix(string(pinned), "/b\"\nsha256 = \""+strings.Repeat("a", 64)+"\"\n") {
		t.Errorf("line %d, %v\n%s", line, err, pinned)
	}
	if r, err = Parse("recipe.toml", []byte(text), Target{Arch: "riscv64"}, nil); err != nil || len(r.Sources) != 2 {
		t.Errorf("%+v, %v", r.Sources, err)
	}
}

// Each mistake is made alone in a recipe that is otherwise right.
func TestMistakes(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{`format = 1`, `format = 2`, "1:10: this recipe has format 2"},
		{`"tidegauge"`, `"Tide Gauge"`, `2:11: "Tide Gauge" cannot be a name`},
		{`version = "2.4.1"` + "\n", `version = "2-4"` + "\n", `3:11: "2-4" cannot be a version`},
		{`release = 3`, `release = 0`, "4:11: a release is counted from 1"},
		{`license = "MIT"`, `license = "MTI"`, `6:12: "MTI" is not an SPDX license identifier (did you mean "MIT"?)`},
		{`license = "MIT"`, ``, "`license` is missing"},
		{`license = "MIT"`, "license = \"MIT\"\nhomepage = \"tide.example\"", "7:12: \"tide.example\" is not a web address"},
		{`license = "MIT"`, "license = \"MIT\"\narch = \"x86_64\"", `7:8: "x86_64" cannot be given as an architecture`},
		{`{version}.tar`, `{verison}.tar`, "9:43: unknown value {verison} (did you mean {version}?)"},
		{`{version}.tar`, `{version.tar`, "9:43: a { without a }"},
		{`https://files`, `ftp://files`, "is not an address that can be fetched"},
		{`url    =`, "file = \"x\"\nurl    =", "9:1: a source has a `url`, a `file`, a `git` repository or `modules`, and one of them alone"},
		{`url    = "https://files.example/tidegauge-{version}.tar.gz"`, ``, "8:3: a source needs a `url`, a `file`, a `git` repository or `modules`"},
		{`url    = "https://files.example/tidegauge-{version}.tar.gz"`, `file = "../x"`, `"../x" does not name a file beside the recipe`},
		{`[steps]`, "[upstream]\npage = \"tide\"\n[steps]", `13:8: "tide" is not a web address`},
		{`[steps]`, "[upstream]\ngit = \"tide\"\n[steps]", `13:7: "tide" is not the address of a git repository`},
		{`[steps]`, "[upstream]\npackage = \"pkg:deb/x\"\n[steps]", `is not a package URL of Go or npm`},
		{`[steps]`, "[upstream]\npackage = \"pkg:npm/x\"\npage = \"https://x.example\"\n[steps]", "13:1: versions are announced in one place"},
		{`[steps]`, "[upstream]\nmatch = \"v\"\n[steps]", `"v" has no version in it`},
		{`[steps]`, "[[source]]\nmodules = \"gp\"\n[steps]", `13:11: modules of "gp" cannot be fetched (did you mean "go"?)`},
		{`[steps]`, "[[source]]\nmodules = \"npm\"\nskip = [\"x\"]\n[steps]", "14:1: `skip` leaves out paths of an archive"},
		{`[steps]`, "[[source]]\nmodules = \"npm\"\nrun = \"x\"\n[steps]", "14:1: `run` belongs to modules = \"script\""},
		{`[steps]`, "[[source]]\nmodules = \"script\"\nrun = \"x\"\n[steps]", "12:3: `keep` is missing in this [[source]]"},
		{`[steps]`, "[[source]]\nmodules = \"script\"\nrun = \"x (\"\nkeep = [\"a\"]\n[steps]", "14:8: this is not valid shell"},
		{`[steps]`, "[[source]]\nmodules = \"script\"\nrun = \"x\"\nkeep = [\"../a\"]\n[steps]", `"../a" does not name a path in the work tree`},
		{strings.Repeat("0", 64), "abc", "10:10: a SHA-256 digest has 64 characters"},
		{`[steps]`, "[needs]\nbuild = [\"comand/cc\"]\n[steps]", `13:11: unknown kind of dependency "comand"`},
		{`build = '''`, `biuld = '''`, "13:1: unknown key `biuld` in `steps` (did you mean `build`?)"},
		{`"/usr/bin/*"`, `"usr/bin/*"`, `19:1: "usr/bin/*" is not a path in the package`},
		{`"/usr/bin/*"`, `"/usr/bin/[a"`, `is not a pattern`},
		{`"/usr/bin/*"`, `"/usr/../etc"`, `is not a clean path`},
		{`"/usr/bin/*" = {}`, `"/usr/bin/*" = { kind = "confg" }`, `unknown kind of path "confg" (did you mean "config"?)`},
		{`"/usr/bin/*" = {}`, `"/usr/bin/*" = { from = "x" }`, "`from` puts one file at one path"},
		{`"/usr/bin/*" = {}`, `"/usr/bin/*" = { replace = true }`, "`replace` belongs to `from`"},
		{`"/usr/bin/*" = {}`, `"/usr/bin/*" = { owner = "0" }`, "owners and groups are given by name"},
		{`mode = "0644"`, `mode = "rw"`, `"rw" is not a mode`},
		{`"/usr/include/**" = {}`, `"/usr/bin/*" = {}`, `is in the layout of "tidegauge" too, on line 19`},
		{`layout = { "/usr/include/**" = {} }`, ``, `package "tidegauge-dev" has no layout`},
		{`"/usr/lib/libtide.so.{version}" = { mode = "0644" }`, "\"/usr/a-{version}\" = {}\n\"/usr/a-2.4.1\" = {}", `is in this table already`},
		{`tidegauge = {full}`, `tidegauge = {full} x`, `is not a bound on a version`},
		{`date    = 2031-04-02`, `date    = 2031-13-02`, "27:11: 2031-13-02 is not a valid date"},
		{`version = "2.4.1-3"`, ``, "`version` is missing in this [[change]]"},
		{`text    = ["First"]`, ``, "`text` is missing in this [[change]]"},
		{`[[change]]`, "[[waive]]\ncode = \"ELL101\"\n[[change]]", "a waiver gives its reason"},
	} {
		text := strings.Replace(good, c.old, c.new, 1)
		if text == good {
			t.Fatalf("%q is not in the recipe", c.old)
		}
		_, err := Parse("recipe.toml", []byte(text), target, nil)
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Count(err.Error(), "recipe.toml:") != 1 {
			t.Errorf("%q → %q:\n got %v\nwant one mistake: %s", c.old, c.new, err, c.want)
		}
	}
}

func TestLoad(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "other")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("tidegauge.service", "")
	write(FileName, strings.Replace(good, `"/usr/bin/*" = {}`, `"/usr/x" = { from = "tidegauge.servce" }`, 1))
	_, err := Load(dir, "recipe.toml", target, nil)
	for _, want := range []string{`the recipe is named "tidegauge" and its directory "other"`, `there is no file "tidegauge.servce" beside the recipe (did you mean "tidegauge.service"?)`} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("got %v, want %s", err, want)
		}
	}
	if _, err := Load(filepath.Dir(dir), "recipe.toml", target, nil); err == nil || !strings.Contains(err.Error(), "there is no recipe here") {
		t.Errorf("a directory without a recipe: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("format = 1\n[[source]]\nfile = 3\n[package.x]\nlayout = []\n[[change]]\ndate = 1"))
	f.Add([]byte("package = 1\nsource = 2\nchange = [1]\nwaive = {}\nneeds = []\nsteps = \"\""))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := Parse("recipe.toml", data, target, nil)
		if err == nil && (r.Name == "" || r.Version == "" || len(r.Packages) == 0) {
			t.Errorf("accepted without its facts: %+v", r)
		}
	})
}

// Arguments of `configure` refer to variables of steps, and to nothing else.
func TestConfigureVariables(t *testing.T) {
	for in, want := range map[string]string{
		"CFLAGS=$CFLAGS -DTIDES":    `'CFLAGS='"$CFLAGS"' -DTIDES'`,
		"--libdir=${PREFIX}/lib":    `'--libdir='"$PREFIX"/lib`,
		"-Wl,-rpath,$ORIGIN/../lib": `'-Wl,-rpath,$ORIGIN/../lib'`,
		"$(id) '$PREFIX'":           `"\$(id) '""$PREFIX""'"`,
		"":                          `''`,
	} {
		if got := argument(in); got != want {
			t.Errorf("%s is passed on as %s, want %s", in, got, want)
		}
	}
	r, err := Parse("recipe.toml", []byte("format = 1\nname = \"tide\"\nversion = \"1\"\nrelease = 1\nsummary = \"Tides\"\nlicense = \"MIT\"\n[steps]\nmethod = \"make\"\nconfigure = [\"CFLAGS=$CFLGAS\"]\n"), Target{}, nil)
	if err == nil || !strings.Contains(err.Error(), "did you mean $CFLAGS?") {
		t.Errorf("%v, %v", r, err)
	}
}
