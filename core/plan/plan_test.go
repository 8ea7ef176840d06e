package plan

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/staging"
	"ellwand.example/core/workspace"
)

func newResolver(t *testing.T) *satisfy.Resolver {
	t.Helper()
	w, err := workspace.Init(filepath.Join(t.TempDir(), "w"))
	if err != nil {
		t.Fatal(err)
	}
	return &satisfy.Resolver{Workspace: w, Progress: progress.None}
}

func addRecipe(t *testing.T, b *satisfy.Resolver, name, text string) *recipe.Recipe {
	t.Helper()
	dir := filepath.Join(b.Workspace.Dir, workspace.RecipesDir, name)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	head := "format = 1\nname = \"" + name + "\"\nversion = \"1.0\"\nrelease = 1\nsummary = \"x\"\nlicense = \"MIT\"\narch = \"independent\"\n"
	if err := os.WriteFile(filepath.Join(dir, recipe.FileName), []byte(head+text), 0o644); err != nil {
		t.Fatal(err)
	}
	r, err := b.Workspace.Recipe(name)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// made puts the package of a recipe into the workspace, as if it had just been
// built.
func made(t *testing.T, b *satisfy.Resolver, r *recipe.Recipe, edit func(*ell.Spec)) {
	t.Helper()
	s := ell.Spec{Time: time.Unix(1e9, 0), Facts: ell.Facts{Name: r.Name, Version: r.Version, Release: r.Release, Arch: fact.Independent, Target: b.Workspace.Target.Name, Summary: "x", License: "MIT", Recipe: r.Name},
		Build:  ell.BuildRecord{Recipe: fact.SHA256(r.Doc.Data), Needs: map[string]string{}, Options: r.Set, Files: map[string]string{}},
		Claims: []staging.Claim{{Path: staging.Path{Path: "/usr/share/" + r.Name, Type: staging.File, Mode: 0o644, Disk: "plan_test.go"}, Owner: "root", Group: "root"}}}
	if edit != nil {
		edit(&s)
	}
	if _, err := ell.Write(t.Context(), b.Workspace.Packages(), s, progress.None); err != nil {
		t.Fatal(err)
	}
}

// Each reason to build a recipe is found, and there is none without a change.
func TestReasons(t *testing.T) {
	for _, c := range []struct {
		title  string
		edit   func(*ell.Spec) // of the package that is there
		change func(t *testing.T, b *satisfy.Resolver)
		state  string
		reason string // part of the first
	}{
		{title: "as it was", state: StateCurrent},
		{title: "another version", edit: func(s *ell.Spec) { s.Facts.Version = "0.9" }, state: StateNew, reason: "a package of 0.9-1, and none of 1.0-1"},
		{title: "another recipe", edit: func(s *ell.Spec) { s.Build.Recipe = "x" }, state: StateChanged, reason: "its recipe changed"},
		{title: "a file beside it", edit: func(s *ell.Spec) { s.Build.Files = map[string]string{"tide.service": fact.SHA256([]byte("a"))} }, state: StateChanged, reason: "tide.service, beside the recipe, changed"},
		{title: "another dependency", edit: func(s *ell.Spec) { s.Build.Needs = map[string]string{"moon": "moon@0.9-1"} }, state: StateChanged, reason: "moon is met by moon@1.0-1 now; it was moon@0.9-1"},
		{title: "a soname that is gone", edit: func(s *ell.Spec) { s.Facts.Needs = []ell.Need{{Need: need.Must("soname/libnowhere.so.1")}} }, state: StateChanged, reason: "which nothing here provides any more"},
		{title: "a soname of an older package", edit: func(s *ell.Spec) { s.Facts.Needs = []ell.Need{{Need: need.Must("soname/libmoon.so.1")}} }, state: StateChanged,
			change: func(t *testing.T, b *satisfy.Resolver) {
				r := addRecipe(t, b, "moon", "")
				made(t, b, r, func(s *ell.Spec) {
					s.Facts.Release, s.Facts.Provides = 9, []ell.Provide{{Provide: need.MustProvide("soname/libmoon.so.2")}}
				})
				made(t, b, r, func(s *ell.Spec) {
					s.Facts.Release, s.Facts.Provides = 8, []ell.Provide{{Provide: need.MustProvide("soname/libmoon.so.1")}}
				})
			}, reason: "which moon@1.0-8 provides and moon@1.0-9 does not"},
	} {
		t.Run(c.title, func(t *testing.T) {
			b := newResolver(t)
			tide := addRecipe(t, b, "tide", "[needs]\nbuild = [\"moon\"]\n")
			moon := addRecipe(t, b, "moon", "")
			made(t, b, moon, nil)
			made(t, b, tide, c.edit)
			if c.change != nil {
				c.change(t, b)
			}
			plan, err := Make(t.Context(), b, []*recipe.Recipe{tide})
			if err != nil || len(plan) != 1 {
				t.Fatal(plan, err)
			}
			p := plan[0]
			if p.State != c.state || len(p.Reasons) == 0 != (c.reason == "") || c.reason != "" && !strings.Contains(p.Reasons[0], c.reason) {
				t.Errorf("%s: %q, want %s: %s", p.State, p.Reasons, c.state, c.reason)
			}
		})
	}
}

// What depends on a recipe that must be built follows it, in a later batch.
func TestMake(t *testing.T) {
	b := newResolver(t)
	base := addRecipe(t, b, "base", "")
	tide := addRecipe(t, b, "tide", "[needs]\nbuild = [\"base\"]\n")
	gauge := addRecipe(t, b, "gauge", "[needs]\ntest = [\"tide\"]\n")
	alone := addRecipe(t, b, "alone", "")
	for _, r := range []*recipe.Recipe{tide, gauge, alone} {
		made(t, b, r, nil)
	}
	plan, err := Make(t.Context(), b, []*recipe.Recipe{gauge, tide, base, alone})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range plan {
		got = append(got, fmt.Sprintf("%d %s %s %s", p.Level, p.Recipe, p.State, strings.Join(p.Direct, ",")))
	}
	if want := []string{"1 alone up to date ", "1 base new ", "2 tide follows base", "3 gauge follows tide"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	dot := Dot(plan)
	for _, want := range []string{"digraph plan {", `"gauge" -> "tide";`, `"base" [label = "base\n1.0-1", fillcolor`} {
		if !strings.Contains(dot, want) {
			t.Errorf("the graph has no %s:\n%s", want, dot)
		}
	}
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Make(stopped, b, []*recipe.Recipe{base}); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
}

func TestOrder(t *testing.T) {
	stage := "[steps]\nstage = 'true'\n"
	for _, c := range []struct {
		name    string
		recipes map[string]string
		want    string // dependencies, or the cycle
	}{
		{"nothing", map[string]string{"a": "", "b": ""}, ""},
		{"by name", map[string]string{"a": "[needs]\nbuild = [\"b\"]\n", "b": ""}, "a:b"},
		{"to test", map[string]string{"a": "[needs]\ntest = [\"b >= 1\"]\n", "b": ""}, "a:b"},
		{"a version that is not there", map[string]string{"a": "[needs]\nbuild = [\"b >= 9\"]\n", "b": ""}, ""},
		{"to run only", map[string]string{"a": "[needs]\nrun = [\"b\"]\n", "b": "[needs]\nrun = [\"a\"]\n"}, ""},
		{"what that needs to run", map[string]string{"a": "[needs]\nbuild = [\"b\"]\n", "b": "[needs]\nrun = [\"c\"]\n", "c": "[needs]\nrun = [\"b\"]\n"}, "a:b,c"},
		{"a sibling's name", map[string]string{"a": "[needs]\nbuild = [\"b-dev\"]\n", "b": "[package.b.layout]\n\"/x\" = {}\n[package.b-dev.layout]\n\"/y\" = {}\n"}, "a:b"},
		{"what is provided", map[string]string{"a": "[needs]\nbuild = [\"command/nosuch\"]\n", "b": "[package.b]\nprovides = [\"command/nosuch\"]\n"}, "a:b"},
		{"a path of a layout", map[string]string{"a": "[needs]\nbuild = [\"pkgconfig/nosuch\"]\n", "b": "[package.b.layout]\n\"/usr/lib/pkgconfig/nosuch.pc\" = {}\n"}, "a:b"},
		{"a namesake", map[string]string{"a": "[needs]\nbuild = [\"pkgconfig/nosuch\"]\n", "libnosuch": ""}, "a:libnosuch"},
		{"what the system has", map[string]string{"a": "[needs]\nbuild = [\"command/sh\"]\n", "sh": ""}, ""},
		{"its own", map[string]string{"a": "[needs]\nbuild = [\"a\"]\n"}, ""},
		{"a cycle", map[string]string{"a": "[needs]\nbuild = [\"b\"]\n", "b": "[needs]\nbuild = [\"c\"]\n", "c": "[needs]\nbuild = [\"b\"]\n"}, "b → c → b"},
	} {
		b := newResolver(t)
		var all []*recipe.Recipe
		for _, name := range []string{"a", "b", "c", "libnosuch", "sh"} {
			text, ok := c.recipes[name]
			if !ok {
				continue
			}
			all = append(all, addRecipe(t, b, name, text+stage))
		}
		stands, err := Order(b, all)
		var cycle *CycleError
		if errors.As(err, &cycle) {
			if first, _, _ := strings.Cut(err.Error(), "\n"); !strings.HasSuffix(first, c.want) {
				t.Errorf("%s: %v", c.name, err)
			}
			continue
		}
		var got []string
		for _, r := range all {
			if below := stands[r.Name]; len(below) > 0 {
				got = append(got, fmt.Sprintf("%s:%s", r.Name, strings.Join(below, ",")))
			}
		}
		if err != nil || strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v, %v, want %s", c.name, got, err, c.want)
		}
	}
}

// A cycle names where it is the easiest to break.
func TestCut(t *testing.T) {
	for _, c := range []struct {
		title, a, b string
		cut         string
		test        bool
	}{
		{"a dependency of tests", "build = [\"b\"]", "test = [\"a\"]", "b", true},
		{"the fewer", "build = [\"b\", \"b >= 1\"]", "build = [\"a\"]", "b", false},
	} {
		t.Run(c.title, func(t *testing.T) {
			r := newResolver(t)
			all := []*recipe.Recipe{addRecipe(t, r, "a", "[needs]\n"+c.a+"\n"), addRecipe(t, r, "b", "[needs]\n"+c.b+"\n")}
			_, err := Order(r, all)
			var cycle *CycleError
			if !errors.As(err, &cycle) || cycle.Cut != c.cut || cycle.Test != c.test || !strings.Contains(err.Error(), "recipe "+c.cut) {
				t.Errorf("%v: %+v", err, cycle)
			}
		})
	}
}
