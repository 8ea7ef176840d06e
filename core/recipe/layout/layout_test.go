package layout

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/staging"
)

const facts = "format=1\nname=\"tide\"\nversion=\"1.0\"\nrelease=1\nsummary=\"x\"\nlicense=\"MIT\"\n"

func parse(t *testing.T, text string) *recipe.Recipe {
	t.Helper()
	r, err := recipe.Parse("recipe.toml", []byte(facts+text), recipe.Target{Name: "t", Arch: "x86_64"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// paths makes staged paths from a list: a / at the end is a directory, -> a
// link.
func paths(list string) []staging.Path {
	var out []staging.Path
	for s := range strings.FieldsSeq(list) {
		p := staging.Path{Path: s, Type: staging.File, Mode: 0o644, Size: 1}
		if dir, ok := strings.CutSuffix(s, "/"); ok {
			p = staging.Path{Path: dir, Type: staging.Directory, Mode: 0o755}
		} else if name, target, ok := strings.Cut(s, "->"); ok {
			p = staging.Path{Path: name, Type: staging.Symlink, Mode: 0o777, Link: target}
		}
		out = append(out, p)
	}
	return out
}

func describe(claims map[string][]staging.Claim, names ...string) string {
	var b strings.Builder
	for _, name := range names {
		fmt.Fprintf(&b, "%s:", name)
		for _, c := range claims[name] {
			fmt.Fprintf(&b, " %s", c.Path.Path)
			if c.Kind != "" || c.Owner != staging.Root || c.Type == staging.File && c.Mode != 0o644 {
				fmt.Fprintf(&b, "[%s %s %s:%s]", c.Kind, fact.Octal(c.Mode), c.Owner, c.Group)
			}
		}
		b.WriteString("; ")
	}
	return b.String()
}

func TestResolve(t *testing.T) {
	for _, c := range []struct{ name, recipe, staged, want string }{
		{"no layout takes everything", "", "/usr/ /usr/bin/ /usr/bin/tide /etc/ /etc/tide.conf /usr/share/man/man1/tide.1",
			"tide: /etc/tide.conf[config 0644 root:root] /usr/bin/tide /usr/share/man/man1/tide.1[documentation 0644 root:root]; "},
		{"a literal beats a pattern, a longer start a shorter", `
[package.tide.layout]
"/usr/**" = {}
"/usr/bin/tide" = { mode = "4755" }
[package.tide-dev.layout]
"/usr/lib/*.so" = {}
"/usr/include/**" = {}
`, "/usr/bin/tide /usr/lib/libtide.so->libtide.so.1 /usr/lib/libtide.so.1 /usr/include/ /usr/include/tide/ /usr/include/tide/tide.h",
			"tide: /usr/bin/tide[ 4755 root:root] /usr/lib/libtide.so.1; tide-dev: /usr/include/tide /usr/include/tide/tide.h /usr/lib/libtide.so; "},
		{"directories: named, filled, empty, shared", `
[package.tide.layout]
"/var/lib/tide/" = { kind = "state", owner = "tide", mode = "0750" }
"/usr/share/tide/**" = { mode = "0600" }
`, "/usr/ /usr/share/ /usr/share/tide/ /usr/share/tide/a /usr/share/tide/empty/ /var/ /var/lib/",
			"tide: /usr/share/tide /usr/share/tide/a[ 0600 root:root] /usr/share/tide/empty /var/lib/tide[state 0750 tide:tide]; "},
		{"discarded", "discard = [\"/usr/lib/*.la\"]\n[package.tide.layout]\n\"/usr/lib/**\" = {}\n", "/usr/lib/a /usr/lib/a.la", "tide: /usr/lib/a; "},
		{"braces", "[package.tide.layout]\n\"/usr/{{a,b}}/x\" = {}\n", "/usr/a/x /usr/b/x", "tide: /usr/a/x /usr/b/x; "},
	} {
		r := parse(t, c.recipe)
		claims, err := Resolve(r, paths(c.staged))
		if got := describe(claims, r.PackageNames()...); err != nil || got != c.want {
			t.Errorf("%s:\n got %s (%v)\nwant %s", c.name, got, err, c.want)
		}
	}
}

func TestMismatch(t *testing.T) {
	r := parse(t, `
[package.tide.layout]
"/usr/bin/tidee" = {}
"/usr/lib/*/x" = {}
"/usr/lib/a*/x" = {}
"/usr/lib/?b/x" = {}
[package.tide-dev.layout]
"/usr/lib/b?/x" = {}
"/usr/lib/?a/x" = {}
`)
	_, err := Resolve(r, paths("/usr/bin/tide /usr/share/tide/1 /usr/share/tide/2 /usr/share/tide/3 /usr/share/tide/{4} /usr/include/tide.h /usr/lib/tide.la /usr/lib/ab/x /usr/lib/bb/x /usr/lib/aa/x /srv/empty/"))
	var m *Mismatch
	if !errors.As(err, &m) {
		t.Fatalf("got %v", err)
	}
	if want := `discard = ["/usr/lib/tide.la"] # above the first [table]

[package.tide.layout]
"/usr/bin/tide"      = {}
"/usr/share/tide/**" = {}
"/srv/empty/"        = {}

[package.tide-dev.layout]
"/usr/include/tide.h" = {}
`; m.Lines() != want {
		t.Errorf("lines to paste:\n%s\nwant:\n%s", m.Lines(), want)
	}
	for _, want := range []string{
		"8 staged paths are in no layout", `recipe.toml:9: "/usr/bin/tidee" matches nothing that was staged (did you mean "/usr/bin/tide"?)`,
	} {
		if !strings.Contains(m.Error(), want) {
			t.Errorf("%s\nwant %s", m, want)
		}
	}
	// Of patterns with the same start, the one that says more wins.
	if len(m.Tied) != 0 {
		t.Errorf("tied: %+v", m.Tied)
	}
	// What the recipe's own check does not see through.
	tie := parse(t, "[package.tide.layout]\n'/usr/lib/*\\a{{x,y}}' = {}\n[package.tide-dev.layout]\n'/usr/lib/?\\a{{x,z}}' = {}\n")
	if _, err := Resolve(tie, paths("/usr/lib/aax /usr/lib/bax")); !errors.As(err, &m) || len(m.Tied) != 1 || m.Tied[0].Path != "/usr/lib/aax" {
		t.Errorf("a tie: %v", err)
	}
	covered := parse(t, "[package.tide.layout]\n\"/usr/x\" = { from = \"x\" }\n")
	if _, err := Resolve(covered, paths("/usr/x")); !errors.As(err, &m) || len(m.Covered) != 1 {
		t.Errorf("staged, and brought by the recipe: %v", err)
	}
	replaced := parse(t, "[package.tide.layout]\n\"/etc/tide\" = { from = \"x\", replace = true }\n\"/usr/*\" = {}\n")
	if got, err := Resolve(replaced, paths("/etc/tide /usr/x")); err != nil || len(got["tide"]) != 2 || got["tide"][0].Disk != "x" {
		t.Errorf("brought in place of what was staged: %+v, %v", got, err)
	}
	if _, err := Resolve(replaced, paths("/usr/x")); !errors.As(err, &m) || len(m.Unmatched) != 1 {
		t.Errorf("brought in place of nothing: %v", err)
	}
}

// What a first recipe is proposed: by package, in patterns that the next
// version fits too, and nothing that a program loads in the package to build
// with.
func TestSuggest(t *testing.T) {
	staged := paths("/usr/bin/tide /usr/bin/tide-config /usr/lib/libtide.so /usr/lib/libtide.so.1 /usr/lib/libtide.so.1.4.2 /usr/lib/libone.so.2 /usr/lib/tide/plugins/radio.so /usr/lib/libtide.a /usr/lib/libtide.la /usr/include/tide.h /usr/include/quay.h /usr/share/doc/tide/a.html /usr/share/doc/tide/b.html /usr/share/doc/tide/c.html /usr/share/doc/tide/d.html /usr/share/man/man1/tide.1 /usr/share/man/man3/tide.3 /usr/share/locale/de/LC_MESSAGES/tide.mo")
	got := Lines(Suggest([]string{"tide", "tide-dev", "tide-doc"}, staged))
	for _, want := range []string{
		"[package.tide.layout]\n\"/usr/bin/tide\" ", "\"/usr/lib/libtide.so.1*\" ", "\"/usr/lib/libone.so.2\" ", "\"/usr/lib/tide/plugins/radio.so\" ", "\"/usr/share/man/man1/tide.1\" ", "\"/usr/share/locale/de/LC_MESSAGES/tide.mo\" ",
		"[package.tide-dev.layout]\n\"/usr/bin/tide-config\" ", "\"/usr/lib/libtide.so\" ", "\"/usr/lib/libtide.a\" ", "\"/usr/include/**\" ", "\"/usr/share/man/man3/tide.3\" ",
		"[package.tide-doc.layout]\n\"/usr/share/doc/tide/**\" = {}\n", "discard = [\"/usr/lib/libtide.la\"]",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("%s is not in\n%s", want, got)
		}
	}
	if strings.Count(got, "libtide.so.1") != 1 || strings.Contains(got, "quay.h") {
		t.Errorf("patterns do not stand for all that they are for:\n%s", got)
	}
}

// Capabilities go into a file's attributes, and come out by name.
func TestCapabilities(t *testing.T) {
	r := parse(t, "[package.tide.layout]\n\"/usr/bin/*\" = { capabilities = [\"net_raw\", \"checkpoint_restore\"] }\n")
	claims, err := Resolve(r, paths("/usr/bin/tide"))
	if err != nil {
		t.Fatal(err)
	}
	value := claims["tide"][0].Xattrs[staging.Capability]
	if names := staging.Capabilities(value); fmt.Sprint(names) != "[net_raw checkpoint_restore]" {
		t.Errorf("%x is %v", value, names)
	}
}
