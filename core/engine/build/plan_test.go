package build

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"ellwand.example/core/plan"
	"ellwand.example/core/recipe"
)

// plan plans recipes, and writes the result on one line each.
func (y *fixture) plan(names ...string) string {
	y.t.Helper()
	var all []*recipe.Recipe
	for _, name := range names {
		r, err := y.w.Recipe(name)
		if err != nil {
			y.t.Fatal(err)
		}
		all = append(all, r)
	}
	plan, err := plan.Make(context.Background(), y.b.Resolver, all)
	if err != nil {
		return err.Error()
	}
	var out []string
	for _, p := range plan {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%d %s %s %s", p.Level, p.Recipe, p.State, strings.Join(p.Reasons, "; "))))
	}
	return strings.Join(out, "\n")
}

// Each reason to build again is found, and nothing is without one.
func TestPlan(t *testing.T) {
	y := newFixture(t)
	stage := "[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share/%[1]s\"; echo > \"$DESTDIR/usr/share/%[1]s/x\"'\n"
	lib := func(provides, rest string) {
		y.write("lib", "arch = \"independent\"\n"+rest+fmt.Sprintf(stage, "lib")+"[package.lib]\nprovides = [\""+provides+"\"]\n")
	}
	lib("soname/libtide.so.1", "")
	y.write("tool", "arch = \"independent\"\n[needs]\nrun = [\"soname/libtide.so.1\"]\nbuild = [\"lib\"]\n"+fmt.Sprintf(stage, "tool"))
	y.write("alone", "arch = \"independent\"\n"+fmt.Sprintf(stage, "alone"))
	if got, want := y.plan("tool", "lib", "alone"), "1 alone new it was never built here\n1 lib new it was never built here\n2 tool new it was never built here; depends on lib, which is built again"; got != want {
		t.Errorf("at first:\n%s\nwant\n%s", got, want)
	}
	for _, name := range []string{"lib", "tool", "alone"} {
		y.state(name)
	}
	if got, want := y.plan("lib", "tool", "alone"), "1 alone up to date\n1 lib up to date\n2 tool up to date"; got != want {
		t.Errorf("all built:\n%s", got)
	}
	// A new soname: what needs the old one has to be built again.
	lib("soname/libtide.so.2", "epoch = 1\n")
	y.state("lib")
	if got, want := y.plan("tool"), "1 tool changed lib is met by lib@1:1.0-1 now; it was lib@1.0-1; tool needs soname/libtide.so.1, which nothing here provides any more"; got != want {
		t.Errorf("a new soname:\n%s\nwant\n%s", got, want)
	}
	// Recipes that need each other have no order.
	y.write("alone", "arch = \"independent\"\n[needs]\ntest = [\"tool\"]\n"+fmt.Sprintf(stage, "alone"))
	y.write("tool", "arch = \"independent\"\n[needs]\nbuild = [\"lib\", \"alone\"]\n"+fmt.Sprintf(stage, "tool"))
	r, _ := y.w.Recipe("alone")
	s, _ := y.w.Recipe("tool")
	_, err := plan.Make(context.Background(), y.b.Resolver, []*recipe.Recipe{r, s})
	var cycle *plan.CycleError
	if !errors.As(err, &cycle) || cycle.Cut != "alone" || !cycle.Test || fmt.Sprint(cycle.Needs) != "[tool]" {
		t.Errorf("a circle: %v", err)
	}
}

// Who has what is missing is named; what repositories have is brought.
func TestHolders(t *testing.T) {
	y := newFixture(t)
	y.write("maker", "arch = \"independent\"\n[package.maker]\nprovides = [\"command/tideplot\"]\n")
	y.write("wants", "[needs]\nbuild = [\"command/tideplot\", \"pkgconfig/nosuch\"]\ntest = [\"pkgconfig/nosuch\"]\nrun = [\"wants\"]\n")
	r, err := y.w.Recipe("wants")
	if err != nil {
		t.Fatal(err)
	}
	states, err := y.b.Needs(context.Background(), r)
	if err != nil || len(states) != 3 {
		t.Fatalf("%+v, %v", states, err)
	}
	for i, want := range []string{"recipe maker provides it", "no repository and no recipe provides it"} {
		if states[i].Met || !strings.Contains(states[i].Reason(), want) {
			t.Errorf("%s: %s", states[i].Need, states[i].Reason())
		}
	}
	if fmt.Sprint(states[1].For) != "[build test]" || !states[2].Met {
		t.Errorf("%+v", states)
	}
}
