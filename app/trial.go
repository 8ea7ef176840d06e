package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/recipe"
	"ellwand.example/core/root"
	"ellwand.example/core/trial"
)

// TrialOptions say how packages are tried.
type TrialOptions struct {
	System  string // as in RootSettings
	Channel string // of the repositories; empty for the configured ones
	Keep    string // a directory for the root, which stays; empty for none
	// Shell, if set, opens a shell on this terminal in the root, before the removal.
	Shell *os.File
}

// TrialReport is the result of a trial.
type TrialReport struct {
	Packages []string      `json:"packages"` // identities
	System   string        `json:"system"`
	Checks   []trial.Check `json:"checks"`
}

// Failed lists the checks that failed.
func (r TrialReport) Failed() []trial.Check {
	return slices.DeleteFunc(slices.Clone(r.Checks), func(c trial.Check) bool { return c.State != trial.Failed })
}

// Trial rehearses packages in a throwaway root: their installation with everything that
// they need, the checks of package trial, an upgrade from the published version with
// edited configuration, and the removal. Words are packages as for an installation, or
// recipes. The error is of what prevents a trial; what fails in one is in the report.
func (a *App) Trial(ctx context.Context, words []string, o TrialOptions) (report TrialReport, err error) {
	if w := a.Workspace; w != nil && !w.RunsHere() {
		return report, &build.SystemError{Target: w.Target.Name, Reason: fmt.Sprintf("nothing is tried: programs for %s do not run on this machine", w.Target.Arch)}
	}
	if words, err = a.trialWords(words); err != nil {
		return report, err
	}
	dir, remove, err := a.trialDir(o.Keep)
	if err != nil {
		return report, err
	}
	defer func() { err = errors.Join(err, remove()) }()
	t := &rehearsal{app: a, options: o, words: words, dir: dir, report: &report}
	err = t.run(ctx)
	if err == nil && a.Workspace != nil {
		for _, p := range t.asked {
			if err := a.saveTrial(p.Name, p.Identity(), p.SHA256, report); err != nil {
				return report, err
			}
		}
	}
	slices.SortStableFunc(report.Checks, func(x, y trial.Check) int { return cmp.Compare(t.order(x.Package), t.order(y.Package)) })
	return report, err
}

// trialWords replaces recipes by the packages that they make.
func (a *App) trialWords(words []string) ([]string, error) {
	var out []string
	for _, word := range words {
		if !a.isRecipe(word) {
			out = append(out, word)
			continue
		}
		r, err := a.Workspace.Recipe(word)
		if err != nil {
			return nil, err
		}
		out = append(out, r.PackageNames()...)
	}
	return out, nil
}

// trialDir is where the roots of a trial are.
func (a *App) trialDir(keep string) (dir string, remove func() error, err error) {
	if keep != "" {
		if err := os.MkdirAll(keep, 0o755); err != nil {
			return "", nil, err
		}
		return keep, func() error { return nil }, nil
	}
	above := ""
	if a.Workspace != nil {
		if err := a.Workspace.MakeState(); err != nil {
			return "", nil, err
		}
		above = a.Workspace.State("trials")
		if err := os.MkdirAll(above, 0o755); err != nil {
			return "", nil, err
		}
	}
	dir, err = os.MkdirTemp(above, "trial-")
	return dir, func() error { return layer.RemoveAll(dir) }, err
}

// rehearsal is one trial under way.
type rehearsal struct {
	app     *App
	options TrialOptions
	words   []string
	dir     string
	report  *TrialReport
	asked   []root.Installed // the packages that are tried
}

// order is where a package is among those that are tried.
func (t *rehearsal) order(name string) int {
	return slices.IndexFunc(t.asked, func(p root.Installed) bool { return p.Name == name })
}

func (t *rehearsal) add(checks ...trial.Check) { t.report.Checks = append(t.report.Checks, checks...) }

func (t *rehearsal) newRoot(ctx context.Context, name string) (*root.Root, error) {
	return t.app.CreateRoot(ctx, filepath.Join(t.dir, name), RootSettings{System: t.options.System, Channel: t.options.Channel})
}

func (t *rehearsal) run(ctx context.Context) error {
	r, err := t.newRoot(ctx, "root")
	if err != nil {
		return err
	}
	defer r.Close()
	t.report.System = r.Settings.System
	before, err := contentsOf(r.Dir)
	if err != nil {
		return err
	}
	task := t.app.Progress.Begin("trial: install", 0, "")
	installed, err := t.install(ctx, r)
	task.End("")
	if err != nil || !installed {
		return err
	}
	task = t.app.Progress.Begin("trial: checks", 0, "")
	err = t.check(ctx, r)
	task.End("")
	if err != nil {
		return err
	}
	if t.options.Shell != nil {
		if err := t.app.RunInRoot(ctx, r, nil, os.Stdout, t.options.Shell); err != nil {
			return err
		}
	}
	task = t.app.Progress.Begin("trial: upgrade and removal", 0, "")
	defer task.End("")
	if err := t.upgrades(ctx); err != nil || t.options.Keep != "" {
		return err
	}
	return t.remove(ctx, r, before)
}

// install installs the packages; ok is false if they cannot be.
func (t *rehearsal) install(ctx context.Context, r *root.Root) (ok bool, err error) {
	began := time.Now()
	result, err := t.app.ChangeRoot(ctx, r, RootChange{Action: "install", Install: t.words})
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	check := trial.Check{Package: t.title(), Name: trial.Install, State: trial.Passed, Time: time.Since(began)}
	if err != nil {
		var unsolved *solve.NoAnswerError
		var old *SymbolsError
		if isMachine(err) || result.Plan == nil && !errors.As(err, &unsolved) && !errors.As(err, &old) {
			return false, err // nothing was learned about the packages
		}
		check = failedChange(check, err)
	}
	if result.Entry == nil {
		t.add(check)
		return false, nil
	}
	for _, c := range result.Entry.Changes {
		if c.To != nil && c.To.Asked {
			t.asked = append(t.asked, *c.To)
			t.report.Packages = append(t.report.Packages, c.To.Identity())
		}
	}
	others := len(result.Entry.Changes) - len(t.asked)
	for _, p := range t.asked {
		one := check
		one.Package = p.Name
		if one.State == trial.Passed && others > 0 {
			one.Message = fmt.Sprintf("with %s that %s needed", fact.Count(others, "package", "packages"), verb(others, "is", "are"))
		}
		t.add(one)
	}
	return true, nil
}

// title names what is tried, before it is known which packages that is.
func (t *rehearsal) title() string {
	const few = 3
	var names []string
	for _, word := range t.words {
		names = append(names, strings.TrimSuffix(filepath.Base(word), ell.Extension))
	}
	if more := len(names) - few; more > 1 {
		names = append(names[:few], fmt.Sprintf("%d more", more))
	}
	return strings.Join(names, ", ")
}

// isMachine reports whether an error is of the machine, so that nothing was learned
// about the packages.
func isMachine(err error) bool {
	var refused *sandbox.RefusedError
	var setup *sandbox.SetupError
	return errors.As(err, &refused) || errors.As(err, &setup)
}

// failedChange makes a check of a change that failed.
func failedChange(c trial.Check, err error) trial.Check {
	c.State, c.Message = trial.Failed, err.Error()
	var script *root.ScriptError
	var unfit *root.UnfitError
	var unsolved *solve.NoAnswerError
	switch {
	case errors.As(err, &script):
		c.Message, c.Command, c.Output = script.Error(), script.Call.Script, script.Call.Output
		c.Remedy = "correct the script; it has to work in a system that is not running, and more than once"
	case errors.As(err, &unsolved):
		c.Message = strings.Join(unsolved.Sentences(), "\n")
	case errors.As(err, &unfit):
		c.Remedy = unfit.Problems[0].Remedy
	}
	return c
}

// check makes the checks of each package.
func (t *rehearsal) check(ctx context.Context, r *root.Root) error {
	runner, err := t.app.rootRunner(r)
	if err != nil {
		return err
	}
	defer runner.Close()
	tree, err := os.OpenRoot(r.Dir)
	if err != nil {
		return err
	}
	defer tree.Close()
	c := &trial.Checker{Tree: tree}
	if dir := r.Settings.SystemDir(); dir != "" {
		if c.System, err = os.OpenRoot(dir); err != nil {
			return err
		}
		defer c.System.Close()
	}
	seen := map[string]bool{} // recipes
	for _, p := range t.asked {
		rec, err := r.Record(p)
		if err != nil {
			return err
		}
		s := trial.Subject{Facts: rec.Facts, Layout: rec.Layout, At: rec.At, First: !seen[rec.Facts.Recipe]}
		seen[rec.Facts.Recipe] = true
		if s.Settings, err = t.settings(ctx, r, p); err != nil {
			return err
		}
		c.Sandbox = trialSandbox{runner, []string{"ELL_NAME=" + rec.Facts.Name, "ELL_VERSION=" + rec.Facts.Version}}
		checks, err := c.Check(ctx, s)
		t.add(checks...)
		if err != nil {
			return err
		}
	}
	return nil
}

// settings reads what the recipe in a package says about its trial.
func (t *rehearsal) settings(ctx context.Context, r *root.Root, p root.Installed) (trial.Settings, error) {
	u := &supply{app: t.app, root: r}
	defer u.Close()
	in, err := u.find(ctx, p)
	if err != nil || in.Package == nil {
		return trial.Settings{}, err
	}
	text, ok := in.Package.Meta(recipe.FileName)
	if !ok {
		return trial.Settings{}, nil
	}
	f := in.Package.Facts
	// A recipe with mistakes has been built by another version: what can be read of it counts.
	rec, _ := recipe.Parse(recipe.FileName, text, recipe.Target{Name: f.Target, Arch: f.Arch}, in.Package.Build.Options)
	if rec == nil {
		return trial.Settings{}, nil
	}
	return trial.Settings{Run: rec.Trial.Run, Commands: rec.Trial.Commands, Skip: rec.Trial.Skip}, nil
}
