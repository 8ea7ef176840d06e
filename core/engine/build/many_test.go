package build

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ellwand.example/core/engine/history"
	"ellwand.example/core/recipe"
)

// recipes reads recipes that must be sound.
func (y *fixture) recipes(names ...string) (all []*recipe.Recipe) {
	y.t.Helper()
	for _, name := range names {
		r, err := y.w.Recipe(name)
		if err != nil {
			y.t.Fatal(err)
		}
		all = append(all, r)
	}
	return all
}

// A recipe is built after those that it depends on; what depends on one that
// failed is skipped, and the others go on.
func TestBuildAll(t *testing.T) {
	y := newFixture(t)
	stage := "[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share/%[1]s\"; date +%%s%%N > \"$DESTDIR/usr/share/%[1]s/x\"'\n"
	add := func(name, needs, steps string) {
		if steps == "" {
			steps = fmt.Sprintf(stage, name)
		}
		if needs != "" {
			needs = "[needs]\nbuild = [\"" + strings.ReplaceAll(needs, " ", "\", \"") + "\"]\n"
		}
		y.write(name, "arch = \"independent\"\n"+needs+steps)
	}
	add("base", "", "")
	add("left", "base", "")
	add("right", "base", "[steps]\nbuild = 'echo no tide; exit 7'\n")
	add("top", "left right", "")
	add("roof", "top", "")
	add("alone", "", "")
	names := []string{"roof", "top", "alone", "right", "left", "base"}
	var mu sync.Mutex
	var order []string
	outcomes, err := y.b.BuildAll(t.Context(), y.recipes(names...), Options{}, func(o Outcome) {
		mu.Lock()
		defer mu.Unlock()
		order = append(order, o.Recipe)
	})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, o := range outcomes {
		got = append(got, strings.TrimSpace(o.Recipe+" "+o.State+" "+strings.Join(o.SkippedFor, ",")))
	}
	if want := []string{"roof skipped top", "top skipped right", "alone built", "right failed", "left built", "base built"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if len(order) != len(names) || slices.Index(order, "base") > slices.Index(order, "left") || slices.Index(order, "right") > slices.Index(order, "top") {
		t.Errorf("they ended in the order %q", order)
	}
	failed := outcomes[3]
	if failed.Failure == nil || failed.Failure.Step != recipe.Build || !slices.Contains(failed.Failure.Tail, "no tide") || failed.Err == nil || failed.Failure.Status() == 0 {
		t.Errorf("the failure: %+v", failed)
	}
	// Again, and only what failed is run.
	outcomes, err = y.b.BuildAll(t.Context(), y.recipes(names...), Options{}, func(Outcome) {})
	if err != nil || outcomes[2].State != Unchanged || outcomes[3].State != Failed || outcomes[5].State != Unchanged {
		t.Errorf("the second time: %v, %v", outcomes, err)
	}
}

func TestBuildAllInterrupted(t *testing.T) {
	y := newFixture(t)
	for _, name := range []string{"a", "b", "c"} {
		y.write(name, "arch = \"independent\"\n[steps]\nbuild = 'sleep 60'\n")
	}
	y.write("d", "arch = \"independent\"\n[needs]\nbuild = [\"a\"]\n[steps]\nstage = 'true'\n")
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(300*time.Millisecond, cancel)
	began := time.Now()
	_, err := y.b.BuildAll(ctx, y.recipes("a", "b", "c", "d"), Options{}, func(Outcome) {})
	if !errors.Is(err, context.Canceled) || time.Since(began) > 20*time.Second {
		t.Errorf("after an interruption: %v, %v", err, time.Since(began))
	}
}

// A recipe that another process builds is left alone.
func TestBusy(t *testing.T) {
	y := newFixture(t)
	y.write("tide", "arch = \"independent\"\n[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share/tide\"'\n")
	j, err := y.b.begin(t.Context(), y.recipes("tide")[0])
	if err != nil {
		t.Fatal(err)
	}
	if _, err := y.build("tide", Options{}); !errors.Is(err, ErrBusy) {
		t.Errorf("while it is built: %v", err)
	}
	j.close()
	if got := y.state("tide"); got != Built {
		t.Errorf("after that: %s", got)
	}
}

// The history has each build that ran, with how it ended, its steps and its packages.
func TestRecorded(t *testing.T) {
	y := newFixture(t)
	var err error
	if y.b.History, err = history.Open(t.Context(), filepath.Join(t.TempDir(), "history.sqlite")); err != nil {
		t.Fatal(err)
	}
	defer y.b.History.Close()
	good := "arch = \"independent\"\n[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share/tide\"'\n"
	y.write("tide", good)
	y.state("tide")
	y.state("tide")
	y.write("tide", good+"build = '''\necho tide.c:1:10: fatal error: moon.h: No such file or directory\nexit 3\n'''\n")
	if _, err := y.build("tide", Options{}); err == nil {
		t.Fatal("it builds")
	}
	stopped, cancel := context.WithCancel(t.Context())
	y.write("tide", good+"build = 'sleep 60'\n")
	time.AfterFunc(200*time.Millisecond, cancel)
	if _, err := y.b.Build(stopped, y.recipes("tide")[0], Options{}); err == nil {
		t.Fatal("it builds")
	}
	builds, err := y.b.History.List(t.Context(), "tide", 10)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, b := range builds {
		got = append(got, strings.TrimSpace(b.State+" "+b.Cause))
	}
	if want := []string{Interrupted, Failed + " the header moon.h is missing", Built}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	first, err := y.b.History.Get(t.Context(), builds[len(builds)-1].ID)
	if err != nil || len(first.Packages) != 1 || first.Packages[0].Name != "tide@1.0-1" || len(first.Steps) == 0 {
		t.Errorf("the first build: %+v, %v", first, err)
	}
}

// After is called with the result of a build, and its error is the build's.
func TestAfter(t *testing.T) {
	y := newFixture(t)
	y.write("tide", "arch = \"independent\"\n[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share/tide\"'\n")
	late := errors.New("too late")
	calls := 0
	o := Options{After: func(_ context.Context, r *recipe.Recipe, result *Result) error {
		calls++
		if r.Name != "tide" || len(result.Packages) != 1 {
			t.Errorf("after: %s, %+v", r.Name, result)
		}
		return late
	}}
	if _, err := y.build("tide", o); !errors.Is(err, late) || calls != 1 {
		t.Errorf("%v after %d calls", err, calls)
	}
	o.Until = recipe.Stage
	if res, err := y.build("tide", o); err != nil || res.State != Stopped || calls != 1 {
		t.Errorf("until stage: %v, %v, %d calls", res.State, err, calls)
	}
}

// What is staged can be listed without packing.
func TestStaged(t *testing.T) {
	y := newFixture(t)
	y.write("tide", "arch = \"independent\"\n[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share/the tide\"; echo x > \"$DESTDIR/usr/share/the tide/a b\"'\n[package.tide.layout]\n\"/nothing\" = {}\n")
	staged, err := y.b.Staged(t.Context(), y.recipes("tide")[0], Options{})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range staged {
		got = append(got, p.Path)
	}
	if want := "/usr/share/the tide/a b"; !slices.Contains(got, want) {
		t.Errorf("%q has no %s", got, want)
	}
	// The layout does not fit, which packing says.
	var pack *PackError
	if _, err := y.build("tide", Options{}); !errors.As(err, &pack) || !strings.Contains(err.Error(), "tide: ") || pack.Status() == 0 {
		t.Errorf("packing it: %v", err)
	}
}
