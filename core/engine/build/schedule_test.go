package build

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"ellwand.example/core/plan"
	"ellwand.example/core/recipe"
)

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
		y := newFixture(t)
		var all []*recipe.Recipe
		for _, name := range []string{"a", "b", "c", "libnosuch", "sh"} {
			text, ok := c.recipes[name]
			if !ok {
				continue
			}
			y.write(name, text+stage)
			r, err := y.w.Recipe(name)
			if err != nil {
				t.Fatal(c.name, err)
			}
			all = append(all, r)
		}
		stands, err := plan.Order(y.b.Resolver, all)
		var cycle *plan.CycleError
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

// Exactly the steps that a change touches run again.
func TestLayers(t *testing.T) {
	y := newFixture(t)
	write := func(prepare, build, stage, rest string) {
		y.write("tide", rest+"[[source]]\nfile = \"a\"\n[steps]\nprepare = '"+prepare+"'\nbuild = '"+build+"'\nstage = '''\nmkdir -p \"$DESTDIR/usr/share\"\ncat a p b > \"$DESTDIR/usr/share/tide\"\n"+stage+"'''\n", "a", "a", "note", "n")
	}
	const prepare, build = "echo p >p", "echo b >b"
	write(prepare, build, "", "")
	for _, c := range []struct {
		name   string
		change func()
		o      Options
		want   string
	}{
		{"at first", func() {}, Options{}, "unpack prepare build stage pack"},
		{"nothing", func() {}, Options{}, ""},
		{"the stage script", func() { write(prepare, build, "true\n", "") }, Options{}, "stage pack"},
		{"the build script", func() { write(prepare, "echo c >b", "true\n", "") }, Options{}, "build stage pack"},
		{"back to what was before", func() { write(prepare, build, "", "") }, Options{}, "pack"},
		{"a rewrite after build", func() {
			write(prepare, build, "", "[[rewrite]]\nafter = \"build\"\npath = \"b\"\nfind = \"b\"\nreplace = \"B\"\n")
		}, Options{}, "build stage pack"},
		{"a file that no script names", func() { write(prepare, build, "", ""); y.write("other", "[steps]\nstage = \"true\"\n") }, Options{}, "pack"},
		{"a file that a script may read", func() { write(prepare, build, "cat \"$ELL_RECIPE/note\"\n", "") }, Options{}, "stage pack"},
		{"from a step on", func() {}, Options{From: recipe.Build}, "build stage pack"},
		{"until a step", func() {}, Options{From: recipe.Prepare, Until: recipe.Prepare}, "prepare"},
		{"the rest", func() {}, Options{}, "build stage pack"},
	} {
		c.change()
		res, err := y.build("tide", c.o)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		var ran []string
		for _, s := range res.Steps {
			if !s.Reused && !s.Skipped {
				ran = append(ran, s.Step)
			}
		}
		if got := strings.Join(ran, " "); got != c.want {
			t.Errorf("%s: %q ran, want %q", c.name, got, c.want)
		}
	}
	// A step that failed is taken up again where it began.
	write(prepare, "echo b >b; test ! -e half || exit 3; touch half; test -e /nothing", "", "")
	for range 2 {
		var step *StepError
		if _, err := y.build("tide", Options{}); !errors.As(err, &step) || step.Ended != "ended with exit status 1" {
			t.Errorf("a failed step leaves something for the next try: %v", err)
		}
	}
}
