package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/workspace"
)

// targetBuild is what became of the builds for one target.
type targetBuild struct {
	Target   string          `json:"target"`
	Outcomes []build.Outcome `json:"outcomes"`
	Error    string          `json:"error,omitempty"` // why nothing could be built for it

	err error
}

// targetNames are the targets to build for: those named with commas between them, or all
// that the workspace's configuration has.
func targetNames(w *workspace.Workspace, named string, every bool) ([]string, error) {
	if every {
		if named != "" {
			return nil, usageError{errors.New("--every-target builds for all targets; leave --target out")}
		}
		names := slices.Sorted(maps.Keys(w.Settings.Targets))
		if len(names) == 0 {
			return nil, usageError{fmt.Errorf("there are no targets: tables [target.NAME] in %s make them", workspace.SettingsFile)}
		}
		return names, nil
	}
	var names []string
	for name := range strings.SplitSeq(named, ",") {
		if name = strings.TrimSpace(name); name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names, nil
}

// buildTargets builds recipes for several targets, one after the other, and shows what
// became of each recipe for each target.
func (a *program) buildTargets(ctx context.Context, names, words []string, set []string, o build.Options, lint bool) error {
	began := time.Now()
	var all []targetBuild
	for _, name := range names {
		if !a.json && !a.quiet {
			a.out.Printf("%s\n", a.out.Style(term.Strong, "target "+name))
		}
		one := targetBuild{Target: name, Outcomes: []build.Outcome{}}
		one.Outcomes, one.err = a.buildTarget(ctx, name, words, set, o, lint)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if one.err != nil {
			one.Error = one.err.Error()
			if !a.json {
				a.progress.Together(func() { a.explainError(one.err) })
			}
		}
		all = append(all, one)
	}
	a.progress.Close()
	if a.json {
		if err := a.printJSON(all); err != nil {
			return err
		}
	} else {
		a.showMatrix(all, time.Since(began))
	}
	for _, t := range all {
		if t.err != nil {
			return statusError(exitStatuses[fact.StatusOf(t.err)])
		}
		for _, o := range t.Outcomes {
			if o.Err != nil {
				return statusError(exitStatuses[fact.StatusOf(o.Err)])
			}
		}
	}
	return nil
}

// buildTarget builds recipes for one target: the named ones, or all of them.
func (a *program) buildTarget(ctx context.Context, name string, words, set []string, o build.Options, lint bool) ([]build.Outcome, error) {
	a.target = name // also for the commands that are suggested
	one := *a
	u, err := one.app()
	if err != nil {
		return nil, err
	}
	w := u.Workspace
	if w.Set, err = optionValues(set); err != nil {
		return nil, err
	}
	var all []*recipe.Recipe
	var broken error
	if len(words) == 0 {
		all, broken, err = soundRecipes(w)
	} else {
		all, err = recipes(w, words)
	}
	if err == nil {
		err = checkOptions(all, w.Set)
	}
	if err != nil {
		return nil, err
	}
	b, err := one.builder(ctx, u)
	if err != nil {
		return nil, err
	}
	if lint {
		o.After = u.LintAfter(b)
	}
	outcomes, err := b.BuildAll(ctx, all, o, one.showOutcome)
	if err != nil {
		return outcomes, err
	}
	return outcomes, broken
}

// showMatrix shows the recipes with what became of each for every target.
func (a *program) showMatrix(all []targetBuild, took time.Duration) {
	w := a.out
	heads := []string{"recipe"}
	names := map[string]bool{}
	counts := map[string]int{}
	for _, t := range all {
		heads = append(heads, t.Target)
		for _, o := range t.Outcomes {
			names[o.Recipe] = true
		}
	}
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(names)) {
		row := []string{w.Style(term.Name, name)}
		for _, t := range all {
			i := slices.IndexFunc(t.Outcomes, func(o build.Outcome) bool { return o.Recipe == name })
			if i < 0 {
				row = append(row, w.Style(term.Faint, "-"))
				continue
			}
			o := t.Outcomes[i]
			counts[o.State]++
			row = append(row, w.Style(stateRoles[o.State], o.State)+w.Style(term.Faint, "  "+seconds(o.Seconds)))
		}
		rows = append(rows, row)
	}
	if len(rows) > 0 {
		w.Printf("\n")
		w.Table(heads, rows)
	}
	for _, t := range all {
		if t.err != nil {
			text, _, _ := strings.Cut(t.Error, "\n")
			w.Printf("%s: %s\n", w.Style(term.Name, t.Target), w.Style(term.Bad, text))
		}
		for _, o := range t.Outcomes {
			if o.Err != nil {
				w.Printf("%s: %s\n", w.Style(term.Name, t.Target), w.Wrapped(o.Recipe+": "+w.Style(term.Bad, reason(o.Err)), len(t.Target)+2))
			}
		}
	}
	w.Printf("%s, %s in %s: %s\n", fact.Count(len(names), "recipe", "recipes"), fact.Count(len(all), "target", "targets"), seconds(took.Seconds()), a.countedStates(counts))
}

// countedStates is how many builds ended in which state, in words.
func (a *program) countedStates(counts map[string]int) string {
	var parts []string
	for _, state := range []string{build.Built, build.Repacked, build.Stopped, build.Unchanged, build.Failed, build.Skipped} {
		if counts[state] > 0 {
			parts = append(parts, a.out.Style(stateRoles[state], fmt.Sprintf("%d %s", counts[state], state)))
		}
	}
	return strings.Join(parts, ", ")
}

// tryTargets rehearses the packages that were built for each target.
func (a *program) tryTargets(ctx context.Context, names, words []string) error {
	var failed error
	for _, name := range names {
		a.target = name
		one := *a
		u, err := one.app()
		if err != nil {
			return err
		}
		all, err := recipes(u.Workspace, words)
		if len(words) == 0 {
			all, _, err = soundRecipes(u.Workspace)
		}
		if err != nil {
			return err
		}
		if !a.json {
			a.out.Printf("\n%s\n", a.out.Style(term.Strong, "target "+name))
		}
		var status statusError
		switch err := one.tryBuilt(ctx, u, all); {
		case errors.As(err, &status):
			failed = err
		case err != nil:
			return err
		}
	}
	return failed
}
