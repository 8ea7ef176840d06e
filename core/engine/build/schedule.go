package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/recipe"
)

// More states of an outcome.
const (
	Failed  = "failed"
	Skipped = "skipped" // a recipe that it depends on failed
	// Interrupted is the state in the history of a build that was broken off.
	Interrupted = "interrupted"
)

// Outcome is what came of one of several recipes.
type Outcome struct {
	Result
	Because []string   `json:"because,omitempty"` // the recipes that it was skipped for
	Seconds float64    `json:"seconds"`
	Err     error      `json:"-"`
	Error   string     `json:"error,omitempty"`
	Failure *StepError `json:"failure,omitempty"` // the step that failed, if it was one
}

// CycleError is recipes that need each other to be built.
type CycleError struct {
	Recipes []string
	// Cut is a recipe whose need of another is the easiest to do without, and
	// Needs are what it needs of that one.
	Cut   string
	Needs []string
	Test  bool // they are needed to test only
}

func (e *CycleError) Error() string {
	s := "these recipes need each other to be built: " + strings.Join(append(slices.Clone(e.Recipes), e.Recipes[0]), " → ")
	if e.Cut == "" {
		return s
	}
	why := "the fewest needs hold it together there"
	if e.Test {
		why = "they are needed to test only"
	}
	return fmt.Sprintf("%s\nit could be cut at recipe %s, by an [option] that leaves out %s: %s", s, e.Cut, strings.Join(e.Needs, ", "), why)
}

// cut finds where a cycle is the easiest to break: at needs of tests, or else
// where one recipe needs the least of the next.
func (b *Builder) cut(e *CycleError, all []*recipe.Recipe, offers []offer) {
	byName := map[string]*recipe.Recipe{}
	for _, r := range all {
		byName[r.Name] = r
	}
	for i, name := range e.Recipes {
		r, next := byName[name], e.Recipes[(i+1)%len(e.Recipes)]
		of := func(needs []string) []string {
			return slices.DeleteFunc(slices.Clone(needs), func(text string) bool { return !slices.Contains(b.makers(r, []string{text}, offers), next) })
		}
		build, test := of(r.Needs.Build), of(r.Needs.Test)
		needs := slices.Concat(build, test)
		if len(needs) == 0 {
			continue // it is needed by something that this one needs, to run
		}
		forTest := len(build) == 0
		if e.Cut == "" || forTest && !e.Test || forTest == e.Test && len(needs) < len(e.Needs) {
			e.Cut, e.Needs, e.Test = name, needs, forTest
		}
	}
}

// BuildAll builds several recipes, each after those that it stands on, and
// independent ones at once, as far as cores and memory go. Where one fails,
// its dependents are skipped and everything else continues. Done is called for each
// as it ends; its calls do not overlap. The error is a *CycleError, or that of
// the context.
func (b *Builder) BuildAll(ctx context.Context, all []*recipe.Recipe, o Options, done func(Outcome)) ([]Outcome, error) {
	stands, err := b.order(all)
	if err != nil {
		return nil, err
	}
	s := &schedule{Builder: b, options: o, stands: stands, ended: map[string]*Outcome{}, running: map[string]bool{}, done: done}
	s.changed = sync.NewCond(&s.mu)
	stop := context.AfterFunc(ctx, func() {
		// With the lock: a worker that has just looked at the context, and is
		// about to wait, would not hear of it otherwise.
		s.mu.Lock()
		defer s.mu.Unlock()
		s.changed.Broadcast()
	})
	defer stop()
	var workers sync.WaitGroup
	at := min(len(all), runtime.NumCPU())
	b.share = at
	for range at {
		workers.Go(func() { s.work(ctx, all) })
	}
	workers.Wait()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	out := make([]Outcome, len(all))
	for i, r := range all {
		out[i] = *s.ended[r.Name]
	}
	return out, nil
}

// schedule is the state of a BuildAll.
type schedule struct {
	*Builder
	options Options
	stands  map[string][]string // recipe → those of the others that it stands on
	done    func(Outcome)

	mu      sync.Mutex
	changed *sync.Cond
	running map[string]bool
	ended   map[string]*Outcome
}

func (s *schedule) work(ctx context.Context, all []*recipe.Recipe) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for {
		r, left := s.next(all)
		if !left || ctx.Err() != nil {
			return
		}
		if r == nil {
			s.changed.Wait()
			continue
		}
		if failed := s.failedBelow(r.Name); len(failed) > 0 {
			s.end(&Outcome{Result: nothing(r, Skipped), Because: failed})
			continue
		}
		s.running[r.Name] = true
		s.mu.Unlock()
		outcome := s.one(ctx, r)
		s.mu.Lock()
		delete(s.running, r.Name)
		if ctx.Err() != nil {
			return
		}
		s.end(outcome)
	}
}

func (s *schedule) end(o *Outcome) {
	s.ended[o.Recipe] = o
	s.done(*o)
	s.changed.Broadcast()
}

func (s *schedule) one(ctx context.Context, r *recipe.Recipe) *Outcome {
	began := time.Now()
	res, err := s.Build(ctx, r, s.options)
	o := &Outcome{Result: res, Seconds: time.Since(began).Seconds(), Err: err}
	if err != nil {
		o.Result = nothing(r, Failed)
		o.Error = err.Error()
		errors.As(err, &o.Failure)
	}
	return o
}

// nothing is the result of what was not built.
func nothing(r *recipe.Recipe, state string) Result {
	return Result{Recipe: r.Name, Version: r.Full(), State: state, Packages: []ell.Written{}, Steps: []StepResult{}}
}

// next chooses a recipe whose turn it is; none while all that are left wait
// for others. Left is whether any is left.
func (s *schedule) next(all []*recipe.Recipe) (ready *recipe.Recipe, left bool) {
	for _, r := range all {
		if s.ended[r.Name] != nil || s.running[r.Name] {
			continue
		}
		left = true
		waits := slices.ContainsFunc(s.stands[r.Name], func(name string) bool { return s.ended[name] == nil })
		if !waits && (len(s.running) == 0 || roomForMore()) {
			return r, true
		}
	}
	return nil, left
}

func (s *schedule) failedBelow(name string) []string {
	var out []string
	for _, below := range s.stands[name] {
		if e := s.ended[below]; e.State == Failed || e.State == Skipped {
			out = append(out, below)
		}
	}
	return out
}

// spareMemory is how much must be free for another build to begin beside the
// ones that run, in KiB.
const spareMemory = 1 << 20

func roomForMore() bool {
	data, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return true
	}
	_, rest, ok := strings.Cut(string(data), "MemAvailable:")
	fields := strings.Fields(rest)
	if !ok || len(fields) == 0 {
		return true
	}
	free, err := strconv.ParseInt(fields[0], 10, 64)
	return err != nil || free > spareMemory
}

// order finds which of the recipes stand on which others of them.
func (b *Builder) order(all []*recipe.Recipe) (map[string][]string, error) {
	offers := b.offers(all)
	build, run := map[string][]string{}, map[string][]string{}
	for _, r := range all {
		build[r.Name] = b.makers(r, slices.Concat(r.Needs.Build, r.Needs.Test), offers)
		wanted := slices.Clone(r.Needs.Run)
		for _, p := range r.Packages {
			wanted = append(wanted, p.Needs...)
		}
		run[r.Name] = b.makers(r, wanted, offers)
	}
	stands := map[string][]string{}
	for _, r := range all {
		// What is laid over the system brings along what it needs to run.
		seen := map[string]bool{}
		var add func(name string)
		add = func(name string) {
			if name == r.Name || seen[name] {
				return
			}
			seen[name] = true
			stands[r.Name] = append(stands[r.Name], name)
			for _, other := range run[name] {
				add(other)
			}
		}
		for _, name := range build[r.Name] {
			add(name)
		}
		slices.Sort(stands[r.Name])
	}
	if cycle := findCycle(all, stands); cycle != nil {
		e := &CycleError{Recipes: cycle}
		b.cut(e, all, offers)
		return nil, e
	}
	return stands, nil
}

func findCycle(all []*recipe.Recipe, stands map[string][]string) []string {
	const open, closed = 1, 2
	state := map[string]int{}
	var path []string
	var visit func(name string) []string
	visit = func(name string) []string {
		switch state[name] {
		case closed:
			return nil
		case open:
			return slices.Clone(path[slices.Index(path, name):])
		}
		state[name] = open
		path = append(path, name)
		for _, below := range stands[name] {
			if cycle := visit(below); cycle != nil {
				return cycle
			}
		}
		path = path[:len(path)-1]
		state[name] = closed
		return nil
	}
	for _, r := range all {
		if cycle := visit(r.Name); cycle != nil {
			return cycle
		}
	}
	return nil
}

// offer is what one recipe makes, as far as that can be told before it is
// built.
type offer struct {
	recipe   string
	provides []need.Provide
	paths    map[string]bool
}

// offers gathers what recipes make: by the names of their packages and what
// these declare to provide, by the paths of their layouts, and by the packages
// that were made of them before.
func (b *Builder) offers(all []*recipe.Recipe) []offer {
	made := map[string][]need.Provide{}
	if packages, err := b.packages(); err == nil {
		for _, p := range packages {
			made[p.facts.Recipe] = append(made[p.facts.Recipe], p.facts.AllProvides()...)
		}
	}
	var out []offer
	for _, r := range all {
		o := offer{recipe: r.Name, provides: made[r.Name], paths: map[string]bool{}}
		for name, p := range r.Packages {
			o.provides = append(o.provides, need.Provide{Kind: need.Package, Name: name, Version: r.Full()})
			for _, text := range p.Provides {
				if provide, err := need.ParseProvide(text); err == nil {
					o.provides = append(o.provides, provide)
				}
			}
			for pattern := range p.Layout {
				o.paths[pattern] = true
			}
		}
		out = append(out, o)
	}
	return out
}

// places are where what a need of a kind names stands.
var places = map[string][]string{
	need.Command: {"/usr/bin/%", "/usr/sbin/%"}, need.PkgConfig: {"/usr/lib/pkgconfig/%.pc", "/usr/share/pkgconfig/%.pc"},
	need.Header: {"/usr/include/%"}, need.Soname: {"/usr/lib/%"}, need.File: {"%"},
}

// makers lists the recipes that make what is needed. Where nothing tells and
// the system has nothing either, one that is named like what is needed is taken.
func (b *Builder) makers(r *recipe.Recipe, needs []string, offers []offer) []string {
	var out []string
	for _, text := range needs {
		n, err := need.Parse(text)
		if err != nil {
			continue // the recipe's check has told of it
		}
		maker := maker(n, offers)
		if maker == "" && b.answer(n) == "" {
			maker = namesake(n, offers)
		}
		if maker != "" && maker != r.Name && !slices.Contains(out, maker) {
			out = append(out, maker)
		}
	}
	return out
}

func maker(n need.Need, offers []offer) string {
	for _, o := range offers {
		if slices.ContainsFunc(o.provides, n.MetBy) {
			return o.recipe
		}
	}
	for _, a := range n.Alternatives {
		for _, place := range places[a.Kind] {
			for _, o := range offers {
				if o.paths[strings.ReplaceAll(place, "%", a.Name)] {
					return o.recipe
				}
			}
		}
	}
	return ""
}

func namesake(n need.Need, offers []offer) string {
	for _, a := range n.Alternatives {
		name := strings.TrimPrefix(strings.TrimSuffix(path.Base(a.Name), path.Ext(a.Name)), "lib")
		for _, o := range offers {
			if a.Kind != need.Package && strings.TrimPrefix(o.recipe, "lib") == name {
				return o.recipe
			}
		}
	}
	return ""
}
