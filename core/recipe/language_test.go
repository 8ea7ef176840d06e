package recipe

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
)

const language = `format = 1
name    = "tide"
version = "2.4.1"
release = 1
summary = "Tides"
license = "MIT"

[let]
major = "2"
lib   = "libtide.so.{major}"

[option.tls]
summary = "Serve over TLS"
default = false
[option.gauge]
default = "pressure"
choices = ["pressure", "radar"]

[needs]
build = ["command/cc"]
[[needs.when]]
if    = "option.tls"
build = ["pkgconfig/openssl"]
[[needs.when]]
if  = 'target.arch == "x86_64" && compare(version, "2.10") < 0'
run = ["x86-{option.gauge}"]

[[patch]]
file = "a.patch"
[[patch]]
file = "tls.patch"
if   = "option.tls"

[[rewrite]]
after   = "unpack"
path    = "src/*.h"
find    = "0.0.0"
replace = "{version}"
times   = 2

[steps]
method    = "autotools"
configure = ["--with-gauge={option.gauge}", "--name=a b"]
build     = "make V=1"

[package.tide.layout]
"/usr/lib/{lib}" = {}
`

const facts = "format = 1\nname = \"tide\"\nversion = \"1.0\"\nrelease = 1\nsummary = \"Tides\"\nlicense = \"MIT\"\n"

func TestLanguage(t *testing.T) {
	r, err := Parse("recipe.toml", []byte(language), target, nil)
	if err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(r.Set) != "map[gauge:pressure tls:false]" || fmt.Sprint(r.Needs.Build, r.Needs.Run) != "[command/cc] [x86-pressure]" ||
		len(r.Patches) != 1 || r.Patches[0].Line != 28 || r.Rewrites[0].Replace != "2.4.1" {
		t.Errorf("%+v", r)
	}
	if _, ok := r.Packages["tide"].Layout["/usr/lib/libtide.so.2"]; !ok {
		t.Errorf("a value of one's own: %v", r.Packages["tide"].Layout)
	}
	prepare := r.Script(Prepare)
	if !strings.Contains(prepare, "--localstatedir=/var '--with-gauge=pressure' '--name=a b'") || r.Script(Build) != "make V=1" || r.Script(Test) != "make check" || r.Script(Pack) != "" {
		t.Errorf("prepare: %s", prepare)
	}
	r, err = Parse("recipe.toml", []byte(language), target, Values{"tls": "true", "gauge": "radar", "other": "1"})
	if err != nil || r.CheckValues() != nil || len(r.Patches) != 2 || fmt.Sprint(r.Needs.Build, r.Needs.Run) != "[command/cc pkgconfig/openssl] [x86-radar]" {
		t.Errorf("set: %v, %+v", err, r)
	}
	for _, bad := range []Values{{"tls": "yes"}, {"gauge": "sonar"}} {
		if r, _ := Parse("recipe.toml", []byte(language), target, bad); r.CheckValues() == nil {
			t.Errorf("%v is accepted", bad)
		}
	}
	copies, err := Parse("recipe.toml", []byte(facts+"[steps]\nmethod = \"copy\"\n[steps.copy]\n\"bin dir/{name}*\" = \"/usr/bin/\"\nREADME = \"/usr/share/doc/{name}/read me\"\n"), target, nil)
	if err != nil {
		t.Fatal(err)
	}
	if want := `mkdir -p "$DESTDIR"/usr/share/doc/tide
cp -a ./README "$DESTDIR"'/usr/share/doc/tide/read me'
mkdir -p "$DESTDIR"/usr/bin
cp -a ./'bin dir/tide'* "$DESTDIR"/usr/bin/`; copies.Script(Stage) != want {
		t.Errorf("copy:\n%s\nwant\n%s", copies.Script(Stage), want)
	}
}

// Each mistake is made alone in a recipe that is otherwise right.
func TestLanguageMistakes(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{`major = "2"`, `version = "2"`, "{version} has a value already"},
		{`{major}`, `{mayor}`, "unknown value {mayor} (did you mean {major}?)"},
		{`default = false`, ``, "option \"tls\" has no `default`"},
		{`default = false`, `default = 3`, "`default` is an integer where a string, or true or false is expected"},
		{`"pressure"` + "\n", `"sonar"` + "\n", `"sonar" is not among the choices (they are pressure, radar)`},
		{`[option.gauge]`, `[option.Gauge]`, `cannot be an option's name`},
		{`"option.tls"` + "\nbuild", `"option.tsl"` + "\nbuild", `has no option "tsl" (did you mean option.tls?)`},
		{`"option.tls"` + "\nbuild", `"option.tls &&"` + "\nbuild", "this condition cannot be read: unexpected token"},
		{`"option.tls"` + "\nbuild", `"version"` + "\nbuild", "this condition cannot be read: expected bool"},
		{`"option.tls"` + "\nbuild", `'option.gauge == "sonar"'` + "\nbuild", "never holds"},
		{`"option.tls"` + "\nbuild", `"option.tls && !option.tls"` + "\nbuild", "never holds"},
		{`file = "a.patch"`, ``, "`file` is missing in this [[patch]]"},
		{`file = "a.patch"`, `file = "/a.patch"`, "does not name a file beside the recipe"},
		{`after   = "unpack"`, `after   = "pack"`, `"pack" is not a step that a rewrite can follow`},
		{`after   = "unpack"`, `after   = "stage"`, `"src/*.h" is not a staged path`},
		{`find    = "0.0.0"`, ``, "a rewrite says what to `find`"},
		{`find    = "0.0.0"`, `regexp = "("`, "this is not a regular expression: missing closing )"},
		{`times   = 2`, `times   = -1`, "`times` is negative"},
		{`"autotools"`, `"autotool"`, `unknown method "autotool" (did you mean "autotools"?)`},
		{`method    = "autotools"`, ``, "`configure` is passed on by a method"},
		{`build     = "make V=1"`, `build = "if make; then"`, "this is not valid shell"},
		{`build     = "make V=1"`, `stage = "make install; install -m 644 x /etc/x"`, "step stage writes to /etc/x, outside $DESTDIR (write \"$DESTDIR/etc/x\")"},
		{`build     = "make V=1"`, `stage = 'echo x > "/usr/share/$ELL_NAME"'`, "step stage writes to /usr/share/, outside $DESTDIR"},
		{`build     = "make V=1"`, `copy = { a = "usr" }`, "`copy` belongs to the method copy"},
	} {
		text := strings.Replace(language, c.old, c.new, 1)
		if text == language {
			t.Fatalf("%q is not in the recipe", c.old)
		}
		_, err := Parse("recipe.toml", []byte(text), target, nil)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q → %q:\n got %v\nwant %s", c.old, c.new, err, c.want)
		}
	}
	for _, fine := range []string{`ln -s /usr/bin/tide "$DESTDIR/usr/bin/x"`, `install x "${DESTDIR}/etc/x"`, `cp x "$DESTDIR"/usr`, `sed s,/usr,/opt, x > y`, `cp /etc/hosts .`} {
		if _, err := Parse("recipe.toml", []byte(facts+"[steps]\nstage = '''\n"+fine+"\n'''\n"), target, nil); err != nil {
			t.Errorf("%s: %v", fine, err)
		}
	}
}

func FuzzLanguage(f *testing.F) {
	f.Add([]byte(language))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := Parse("recipe.toml", data, target, Values{"tls": "true"})
		if err == nil {
			for _, step := range StepNames {
				r.Script(step)
			}
		}
	})
}

func TestOverlap(t *testing.T) {
	for _, c := range []struct{ a, b, want string }{
		{"/usr/bin/*", "/usr/bin/?", "/usr/bin/x"}, {"/usr/bin/*a", "/usr/bin/*b", ""}, {"/usr/bin/*a", "/usr/bin/b*", "/usr/bin/ba"},
		{"/usr/[a-c]", "/usr/[c-e]", "/usr/c"}, {"/usr/[!a-y]", "/usr/[^0-9]", "/usr/z"}, {"/usr/[a-c]", "/usr/[d-e]", ""}, {"/usr/{a,b}*", "/usr/*{b,c}", "/usr/ab"},
		{"/usr/*/x", "/usr/**", "/usr/x/x"}, {"/usr/*", "/usr/?/x", ""}, {"/usr/**/a", "/usr/*/b", ""}, {"/usr/é*", "/usr/é?", "/usr/éx"},
	} {
		got := overlap(c.a, c.b)
		if (got == "") != (c.want == "") || overlap(c.b, c.a) == "" != (c.want == "") {
			t.Errorf("%s and %s overlap in %q, want %q", c.a, c.b, got, c.want)
		}
	}
}

// Packages, and what is in them, can be named by options and come with
// them.
func TestConditionalPackages(t *testing.T) {
	text := facts + `[option.tls]
default = false
[package."tide-{option.tls}"]
[package."tide-{option.tls}".layout]
"/usr/bin/tide" = {}
"/usr/lib/{name}/{option.tls}" = {}
"/etc/tide/tls.conf" = { kind = "config", if = "option.tls" }
[package."tide-{option.tls}".account.tide]
if = "option.tls"
[package."tide-{option.tls}".script]
if = "option.tls"
post-install = "true"
[package.tide-keys]
if = "option.tls"
[package.tide-keys.layout]
"/usr/share/keys/**" = {}
[package.tide-plain]
if = "!option.tls"
[package.tide-plain.layout]
"/usr/share/keys/**" = {}
`
	for value, want := range map[string]string{
		"false": "tide-false: /usr/bin/tide /usr/lib/tide/false accounts 0 scripts 0; tide-plain: /usr/share/keys/** accounts 0 scripts 0; ",
		"true":  "tide-keys: /usr/share/keys/** accounts 0 scripts 0; tide-true: /etc/tide/tls.conf /usr/bin/tide /usr/lib/tide/true accounts 1 scripts 1; ",
	} {
		r, err := Parse("recipe.toml", []byte(text), target, Values{"tls": value})
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, name := range r.PackageNames() {
			p := r.Packages[name]
			got += name + ": " + strings.Join(slices.Sorted(maps.Keys(p.Layout)), " ") + fmt.Sprintf(" accounts %d scripts %d; ", len(p.Accounts), len(p.Scripts.All()))
		}
		if got != want {
			t.Errorf("tls=%s: %s\nwant %s", value, got, want)
		}
	}
	for what, c := range map[string]struct{ text, says string }{
		"both at once":      {strings.Replace(text, "if = \"!option.tls\"\n", "", 1), "is in the layout of \"tide-keys\" too"},
		"a condition":       {strings.Replace(text, "if = \"!option.tls\"", "if = \"option.nothing\"", 1), "has no option \"nothing\""},
		"none at all":       {facts + "[option.x]\ndefault = false\n[package.tide]\nif = \"option.x\"\n", "makes no package at all"},
		"two of one name":   {facts + "[option.x]\ndefault = false\n[package.tide-false]\n[package.\"tide-{option.x}\"]\n", "is in this table already"},
		"an unknown option": {facts + "[package.\"tide-{option.y}\"]\n", "unknown value {option.y}"},
	} {
		if _, err := Parse("recipe.toml", []byte(c.text), target, Values{"tls": "true"}); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %s", what, err, c.says)
		}
	}
}
