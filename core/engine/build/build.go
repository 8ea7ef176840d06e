// Package build makes packages from recipes. A build runs the steps unpack,
// prepare, build, test, stage and pack in this order; a step without a script
// is skipped. Each step has a key, made of all that it and the steps
// before it depend on. What a step changed is kept as a layer under its key
// (package layer), and a step whose key has a layer is not run again; while
// the key of the whole build stays the same, nothing is.
package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/history"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/layout"
	"ellwand.example/core/source"
	"ellwand.example/core/staging"
	"ellwand.example/core/workspace"
)

// developmentVersion is the version of programs that were not built from a tag.
const developmentVersion = "0.1.0"

// Version is Ellwand's own version, which packages record: that of the tag it was
// built from (runtime/debug.BuildInfo), or developmentVersion.
var Version = sync.OnceValue(func() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return developmentVersion
	}
	tag, ok := strings.CutPrefix(info.Main.Version, "v")
	if !ok || strings.ContainsAny(tag, "-+") {
		return developmentVersion
	}
	return tag
})

// Builder builds the recipes of one workspace.
type Builder struct {
	*satisfy.Resolver
	Fetcher *source.Fetcher
	Runner  sandbox.Runner
	History *history.Store // may be nil

	// share is among how many builds at once the cores are divided.
	share int
	// varied is set for the second of two builds whose packages are compared.
	varied *variation
}

// Options choose how a build goes.
type Options struct {
	From  string // run this step and those after it, even where nothing changed
	Until string // the last step to run; empty for all
	// Needs watches what the steps use, and compares it with the needs that
	// the recipe declares. All steps run.
	Needs bool
	// Tests bounds how long the test step may take; 0 for the workspace's limit alone.
	Tests time.Duration
	// After is called once the packages of a recipe are made, or were unchanged;
	// it can add to the result. The recipe is still locked. It may be nil.
	After func(ctx context.Context, r *recipe.Recipe, result *Result) error
}

// Result is the result of a build.
type Result struct {
	Recipe   string         `json:"recipe"`
	Version  string         `json:"version"`
	State    string         `json:"state"` // one of the states below
	Packages []ell.Written  `json:"packages"`
	Steps    []StepResult   `json:"steps"`
	Needs    *NeedsReport   `json:"needs,omitempty"`
	Findings []fact.Finding `json:"findings,omitempty"`
	Linted   bool           `json:"linted"`         // Findings are all that there are
	Logs     string         `json:"logs,omitempty"` // the directory with a log for each step
	Work     string         `json:"work,omitempty"` // the work tree, when the build stopped before pack
}

// States of a result.
const (
	Built     = "built"
	Repacked  = "repacked"
	Unchanged = "unchanged"
	Stopped   = "stopped" // as Options.Until asked
)

// StepResult is one step that ran.
type StepResult struct {
	Step    string  `json:"step"`
	Seconds float64 `json:"seconds"`
	Reused  bool    `json:"reused,omitempty"` // done by an earlier build
	Skipped bool    `json:"skipped,omitempty"`
	Memory  int64   `json:"memory,omitempty"` // bytes resident at the most
	CPU     float64 `json:"cpu,omitempty"`    // seconds
	// Warnings are those of compilers that its log has.
	Warnings int `json:"warnings,omitempty"`
	Status   int `json:"status,omitempty"` // of its script, where it failed
}

// StepError is a step whose script failed.
type StepError struct {
	Recipe  string   `json:"recipe"`
	Step    string   `json:"step"`
	File    string   `json:"file"`             // of the recipe
	Line    int      `json:"line"`             // in it, of the statement that failed; 0 if unknown
	Command string   `json:"command"`          // that line
	Method  string   `json:"method,omitempty"` // that wrote the script, where the recipe did not
	Ended   string   `json:"ended"`            // how the script ended
	Causes  []Cause  `json:"causes,omitempty"` // what it failed of, the most likely first
	Tests   []string `json:"tests,omitempty"`  // those that failed, in the test step
	Tail    []string `json:"tail"`             // the log's last lines
	Log     string   `json:"log"`
}

func (e *StepError) Error() string {
	return fmt.Sprintf("%s: step %s %s (log: %s)", e.Recipe, e.Step, e.Ended, e.Log)
}

// Status is that of a failed step.
func (e *StepError) Status() fact.Status { return fact.StatusStep }

// PackError is a staged tree that does not fit the recipe's layouts.
type PackError struct {
	Recipe   string
	Mismatch *layout.Mismatch
}

func (e *PackError) Error() string { return e.Recipe + ": " + e.Mismatch.Error() }

// Status is that of a failed step.
func (e *PackError) Status() fact.Status { return fact.StatusStep }

// ErrBusy says that another process builds the same recipe.
var ErrBusy = fact.Errorf(fact.StatusMachine, "another process is building this recipe")

// record is what an earlier build left behind.
type record struct {
	Key      string         `json:"key"` // of the whole build
	Packages []packageState `json:"packages"`
	Written  []ell.Written  `json:"written"`
}

type packageState struct {
	Path     string    `json:"path"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// Build makes the packages of a recipe. Errors are *StepError, *PackError,
// *ChangeError, *MissingError, those of package source, and document.Problems
// for sources without a digest.
func (b *Builder) Build(ctx context.Context, r *recipe.Recipe, o Options) (Result, error) {
	j, err := b.begin(ctx, r)
	if err != nil {
		return Result{}, err
	}
	defer j.close()
	j.options = o
	began := time.Now()
	err = j.run(ctx)
	j.recordEnd(ctx, time.Since(began), err)
	if err == nil && o.After != nil && j.result.State != Stopped {
		err = o.After(ctx, r, &j.result)
	}
	return j.result, err
}

// begin takes hold of a recipe's state.
func (b *Builder) begin(ctx context.Context, r *recipe.Recipe) (*job, error) {
	j := &job{Builder: b, recipe: r, state: b.Workspace.State("build", r.Name)}
	j.result = Result{Recipe: r.Name, Version: r.Full(), Packages: []ell.Written{}, Steps: []StepResult{}}
	if err := os.MkdirAll(j.state, 0o755); err != nil {
		return nil, err
	}
	j.lock = flock.New(filepath.Join(j.state, "lock"))
	if ok, err := j.lock.TryLock(); err != nil {
		return nil, err
	} else if !ok {
		return nil, fmt.Errorf("%s: %w", r.Name, ErrBusy)
	}
	// What a killed build was about to write.
	left, _ := filepath.Glob(filepath.Join(j.state, ".*"))
	for _, path := range left {
		os.Remove(path)
	}
	if err := j.newWorktree(); err != nil {
		j.close()
		return nil, err
	}
	return j, nil
}

// Staged runs the steps up to stage, where they have to be, and lists what
// is in the staging directory, but for the debug information that was split
// off. What it names on disk is gone with the next
// build of the recipe.
func (b *Builder) Staged(ctx context.Context, r *recipe.Recipe, o Options) ([]staging.Path, error) {
	j, err := b.begin(ctx, r)
	if err != nil {
		return nil, err
	}
	defer j.close()
	j.options = o
	chain, _, err := j.ready(ctx)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	_, err = j.steps(ctx, chain, len(chain))
	if err == nil {
		j.result.State = Stopped
	}
	j.recordEnd(ctx, time.Since(began), err)
	if err != nil {
		return nil, err
	}
	dir, err := j.worktree.merged(chain, "stage")
	if err != nil {
		return nil, err
	}
	staged, err := staging.Walk(dir)
	if err != nil {
		return nil, err
	}
	staged, _ = j.separateDebug(staged)
	return staged, nil
}

// Isolate finds out how this machine can keep steps apart. The error is a
// *sandbox.RefusedError where it cannot. What was found out holds until the
// machine starts again; should it not, the first step says so.
func Isolate(ctx context.Context, w *workspace.Workspace) (sandbox.Namespaces, error) {
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	now := checked{Boot: strings.TrimSpace(string(boot)), User: os.Geteuid()}
	file := w.State("isolation.json")
	if last := readJSON[checked](file); last.Boot == now.Boot && last.User == now.User && now.Boot != "" {
		return sandbox.Namespaces{Copies: last.Copies}, nil
	}
	n, err := check(ctx, w)
	if err != nil {
		return n, err
	}
	now.Copies = n.Copies
	return n, writeJSON(file, now)
}

// checked is what was found out of namespaces since the machine started.
type checked struct {
	Boot   string `json:"boot"`
	User   int    `json:"user"`
	Copies bool   `json:"copies"`
}

func check(ctx context.Context, w *workspace.Workspace) (sandbox.Namespaces, error) {
	all := w.State("check")
	if err := os.MkdirAll(all, 0o755); err != nil {
		return sandbox.Namespaces{}, err
	}
	entries, _ := os.ReadDir(all)
	for _, e := range entries {
		// What a killed process left; others may be checking right now.
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > time.Minute {
			layer.RemoveAll(filepath.Join(all, e.Name()))
		}
	}
	dir, err := os.MkdirTemp(all, "")
	if err != nil {
		return sandbox.Namespaces{}, err
	}
	n, err := sandbox.Check(ctx, dir)
	return n, errors.Join(err, layer.RemoveAll(dir))
}
