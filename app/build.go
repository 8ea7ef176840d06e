package app

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/engine/history"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/lint"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/recipe"
	"ellwand.example/core/workspace"
)

// Isolation is how steps are separated from the machine.
type Isolation string

// The kinds of isolation.
const (
	Namespaces Isolation = "namespaces"
	NoSandbox  Isolation = "none" // steps can do whatever the user can
)

// HistoryFile is the file with the history of the workspace's builds.
func HistoryFile(w *workspace.Workspace) string { return w.State("history.sqlite") }

// Builder returns what builds the workspace's recipes. Errors are
// *sandbox.RefusedError, *build.SystemError and usage errors.
func (a *App) Builder(ctx context.Context, isolation Isolation) (*build.Builder, error) {
	w := a.Workspace
	if err := w.MakeState(); err != nil {
		return nil, err
	}
	b := &build.Builder{Resolver: &satisfy.Resolver{Workspace: w, Progress: a.Progress}, Fetcher: a.Fetcher(ctx), Runner: sandbox.None{}}
	var err error
	if b.History, err = history.Open(ctx, HistoryFile(w)); err != nil {
		a.Progress.Note("this build is not recorded in the history: " + err.Error())
		b.History = nil
	}
	if isolation == NoSandbox {
		if w.On.System != "" && w.On.System != workspace.HostSystem {
			return nil, fact.Errorf(fact.StatusUsage, "target %s has a system of its own, which steps can only use in a sandbox", w.Target.Name)
		}
		return b, nil
	}
	system, err := build.System(ctx, w, a.Progress)
	if err != nil {
		return nil, err
	}
	runner, err := build.Isolate(ctx, w)
	runner.System, b.Root = system, system
	if runner.Copies {
		a.Progress.Note("overlay mounts are unavailable here: each step works on a copy of all files")
	}
	b.Runner = runner
	return b, err
}

// Planner returns a builder that only looks: it can plan and list dependencies, and
// not run steps.
func (a *App) Planner(ctx context.Context) (*build.Builder, error) {
	system, err := build.System(ctx, a.Workspace, a.Progress)
	if err != nil {
		return nil, err
	}
	return &build.Builder{Resolver: &satisfy.Resolver{Workspace: a.Workspace, Root: system, Progress: a.Progress}, Fetcher: a.Fetcher(ctx), Runner: sandbox.Namespaces{System: system}}, nil
}

// keptFindings are those of a recipe's last build, while its packages stay the same.
type keptFindings struct {
	Profile  lint.Profile   `json:"profile"`
	Findings []fact.Finding `json:"findings"`
}

// LintAfter returns a function for build.Options.After that lints a recipe and its
// packages, and puts the findings into the result. If nothing was built, the
// findings of the last time are used.
func (a *App) LintAfter(b *build.Builder) func(context.Context, *recipe.Recipe, *build.Result) error {
	return func(ctx context.Context, r *recipe.Recipe, result *build.Result) error {
		profile := a.Workspace.Settings.Lint
		kept := a.Workspace.State("build", r.Name, "findings.json")
		if result.State == build.Unchanged {
			var last keptFindings
			data, err := os.ReadFile(kept)
			if err == nil && json.Unmarshal(data, &last) == nil && last.Findings != nil && reflect.DeepEqual(last.Profile, profile) {
				result.Findings, result.Linted = last.Findings, true
				return nil
			}
		}
		t := a.Progress.Begin("lint "+r.Name, 0, "")
		defer t.End("done")
		l := a.linterOf(ctx, b)
		findings := append([]fact.Finding{}, l.Recipe(ctx, r)...)
		var opened []*ell.Package
		defer func() {
			for _, p := range opened {
				p.Close()
			}
		}()
		for _, written := range result.Packages {
			p, err := ell.Open(written.Path)
			if err != nil {
				return err
			}
			opened = append(opened, p)
		}
		found, err := l.Together(ctx, opened)
		if err != nil {
			return err
		}
		result.Findings, result.Linted = append(findings, found...), true
		data, err := json.Marshal(keptFindings{profile, result.Findings})
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(kept), 0o755); err != nil {
			return err
		}
		return files.Write(kept, data)
	}
}
