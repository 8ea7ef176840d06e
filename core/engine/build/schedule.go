package build

import (
	"context"
	"errors"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/plan"
	"ellwand.example/core/recipe"
)

// More states of an outcome.
const (
	Failed  = "failed"
	Skipped = "skipped" // a recipe that it depends on failed
	// Interrupted is the state in the history of a build that was broken off.
	Interrupted = "interrupted"
)

// Outcome is the result of one of several recipes.
type Outcome struct {
	Result
	SkippedFor []string   `json:"skipped_for,omitempty"` // the recipes that it was skipped for
	Seconds    float64    `json:"seconds"`
	Err        error      `json:"-"`
	Error      string     `json:"error,omitempty"`
	Failure    *StepError `json:"failure,omitempty"` // the step that failed, if it was one
}

// BuildAll builds several recipes, each after those that it depends on, and
// independent ones at once, as far as cores and memory go. Where one fails,
// its dependents are skipped and everything else continues. Done is called for each
// as it ends; its calls do not overlap. The error is a *CycleError, or that of
// the context.
func (b *Builder) BuildAll(ctx context.Context, all []*recipe.Recipe, o Options, done func(Outcome)) ([]Outcome, error) {
	stands, err := plan.Order(b.Resolver, all)
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
	stands  map[string][]string // recipe → those of the others that it depends on
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
			s.end(&Outcome{Result: nothing(r, Skipped), SkippedFor: failed})
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
