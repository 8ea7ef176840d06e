package lint

import (
	"context"
	"errors"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/testtool"
)

// together lints packages of one recipe, and returns the findings of rules on all of
// them.
func together(t *testing.T, l *Linter, codes string, packages ...*ell.Package) string {
	t.Helper()
	findings, err := l.Together(t.Context(), packages)
	if err != nil {
		t.Fatal(err)
	}
	findings = slices.DeleteFunc(findings, func(f fact.Finding) bool { return !strings.Contains(codes, f.Code) })
	return told(findings)
}

func TestSiblings(t *testing.T) {
	dev := func(needs ...string) *ell.Package {
		return packed(t, func(f *ell.Facts) {
			f.Name = "tide-dev"
			for _, n := range needs {
				f.Needs = append(f.Needs, ell.Need{Need: need.Must(n)})
			}
		}, file{path: "/usr/include/tide.h", text: "x"})
	}
	for _, c := range []struct {
		title, want string
		needs       []string
	}{
		{"the exact version", "", []string{"tide = 1.2-1"}},
		{"another version", "ELL504:error", []string{"tide = 1.1-1"}},
		{"a newer one", "ELL504:error", []string{"tide > 1.2-1"}},
		{"any version", "ELL506:hint", []string{"tide"}},
		{"something else", "", []string{"moon = 1"}},
	} {
		t.Run(c.title, func(t *testing.T) {
			if got := together(t, &Linter{}, "ELL504 ELL506", packed(t, nil), dev(c.needs...)); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
	// Two packages with one path.
	both := func(name string) *ell.Package {
		return packed(t, func(f *ell.Facts) { f.Name = name }, file{path: "/usr/share/both", text: "x"})
	}
	if got := together(t, &Linter{}, "ELL507", both("tide"), both("tide-extra")); !strings.Contains(got, "ELL507:error") {
		t.Errorf("a path in both: %s", got)
	}
}

func TestUnmetNeeds(t *testing.T) {
	p := packed(t, func(f *ell.Facts) {
		f.Needs = []ell.Need{{Need: need.Must("moon")}, {Need: need.Must("sun >= 2")}, {Need: need.Must("command/tide")}}
		f.Provides = []ell.Provide{{Provide: need.MustProvide("command/tide")}}
	})
	l := &Linter{Target: "t", System: probe.Open(t.TempDir()), Meets: func(n need.Need) bool { return n.String() == "moon" }}
	if got := together(t, l, "ELL505", p); got != "ELL505:warning" {
		t.Errorf("%s, want sun alone", got)
	}
	if got := together(t, &Linter{}, "ELL505", p); got != "" {
		t.Errorf("where nothing is known: %s", got)
	}
}

// What is published of a package's name is compared with it.
func TestPublished(t *testing.T) {
	old := func(edit func(*ell.Facts), files ...file) func(context.Context, ell.Facts) (*ell.Package, error) {
		return func(context.Context, ell.Facts) (*ell.Package, error) {
			return packed(t, func(f *ell.Facts) {
				f.Version = "1.1"
				if edit != nil {
					edit(f)
				}
			}, files...), nil
		}
	}
	big := strings.Repeat("x", 1<<20)
	for _, c := range []struct {
		title, want string
		published   func(context.Context, ell.Facts) (*ell.Package, error)
		now         func(*ell.Facts)
		files       []file
	}{
		{"nothing", "", func(context.Context, ell.Facts) (*ell.Package, error) { return nil, nil }, nil, nil},
		{"the same", "", old(nil), nil, nil},
		{"ten times the size", "ELL510:warning", old(func(f *ell.Facts) { f.Size = 1 << 20 }, file{path: "/usr/share/a", text: big}), func(f *ell.Facts) { f.Size = 12 << 20 }, []file{{path: "/usr/share/a", text: strings.Repeat(big, 12)}}},
		{"a little more", "", old(nil, file{path: "/usr/share/a", text: big}), nil, []file{{path: "/usr/share/a", text: big + big[:99]}}},
		{"a command that is gone", "ELL513:warning", old(func(f *ell.Facts) { f.Provides = []ell.Provide{{Provide: need.MustProvide("command/tides")}} }), nil, nil},
		{"a module that is gone", "ELL513:warning", old(func(f *ell.Facts) { f.Provides = []ell.Provide{{Provide: need.MustProvide("pkgconfig/tide")}} }), nil, nil},
		{"a library that is gone", "ELL511:warning", old(func(f *ell.Facts) { f.Provides = []ell.Provide{{Provide: need.MustProvide("soname/libtide.so.1")}} }), nil, nil},
		{"what stays", "", old(func(f *ell.Facts) { f.Provides = []ell.Provide{{Provide: need.MustProvide("command/tide")}} }), func(f *ell.Facts) { f.Provides = []ell.Provide{{Provide: need.MustProvide("command/tide")}} }, nil},
		{"configuration that is gone", "ELL514:hint", old(nil, file{path: "/etc/tide.conf", text: "a", kind: fact.KindConfig}), nil, nil},
		{"configuration that stays", "", old(nil, file{path: "/etc/tide.conf", text: "a", kind: fact.KindConfig}), nil, []file{{path: "/etc/tide.conf", text: "b", kind: fact.KindConfig}}},
		{"an epoch for nothing", "ELL519:warning", old(nil), func(f *ell.Facts) { f.Epoch = 1 }, nil},
		{"an epoch for an older version", "", old(func(f *ell.Facts) { f.Version = "2031.1" }), func(f *ell.Facts) { f.Epoch = 1 }, nil},
	} {
		t.Run(c.title, func(t *testing.T) {
			got := together(t, &Linter{Published: c.published}, "ELL510 ELL511 ELL512 ELL513 ELL514 ELL519", packed(t, c.now, c.files...))
			if got != c.want {
				t.Errorf("%q, want %q", got, c.want)
			}
		})
	}
	// What is published and cannot be read is an error, and no finding.
	damaged := errors.New("damaged")
	l := &Linter{Published: func(context.Context, ell.Facts) (*ell.Package, error) { return nil, damaged }}
	if _, err := l.Together(t.Context(), []*ell.Package{packed(t, nil)}); !errors.Is(err, damaged) {
		t.Errorf("damaged: %v", err)
	}
}

// A library that keeps its soname keeps its symbols.
func TestSymbolsGone(t *testing.T) {
	testtool.Find(t, "cc")
	library := func(source string) *ell.Package {
		out := filepath.Join(t.TempDir(), "libtide.so.1")
		cmd := exec.Command("cc", "-x", "c", "-", "-o", out, "-shared", "-fPIC", "-nostdlib", "-Wl,-soname,libtide.so.1")
		cmd.Stdin = strings.NewReader(source)
		if b, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, b)
		}
		return packed(t, func(f *ell.Facts) {
			f.Provides = []ell.Provide{{Provide: need.MustProvide("soname/libtide.so.1"), Path: "/usr/lib/libtide.so.1"}}
		}, file{path: "/usr/lib/libtide.so.1", disk: out})
	}
	const both, one = "int high(void) { return 1; } int low(void) { return 2; }", "int high(void) { return 1; }"
	for _, c := range []struct{ before, now, want string }{{both, one, "ELL512:error"}, {one, both, ""}, {both, both, ""}} {
		l := &Linter{Published: func(context.Context, ell.Facts) (*ell.Package, error) { return library(c.before), nil }}
		if got := together(t, l, "ELL512", library(c.now)); got != c.want {
			t.Errorf("%q, then %q: %q, want %q", c.before, c.now, got, c.want)
		}
	}
}

func TestGroups(t *testing.T) {
	facts := []ell.Facts{
		{Recipe: "tide", Version: "1", Release: 1, Target: "t"}, {Recipe: "moon", Version: "1", Release: 1, Target: "t"}, {Recipe: "tide", Version: "1", Release: 1, Target: "t"},
		{Recipe: "tide", Version: "1", Release: 2, Target: "t"}, {Recipe: "tide", Version: "1", Release: 1, Target: "u"},
	}
	want := [][]int{{0, 2}, {1}, {3}, {4}}
	if got := Groups(facts); !slices.EqualFunc(got, want, slices.Equal) {
		t.Errorf("%v, want %v", got, want)
	}
}
