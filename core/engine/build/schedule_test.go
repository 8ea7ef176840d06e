package build

import (
	"errors"
	"strings"
	"testing"

	"ellwand.example/core/recipe"
)

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
