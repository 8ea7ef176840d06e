package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
)

func (a *program) buildCommand() *cobra.Command {
	var o build.Options
	var set []string
	var again, every, everyTarget, twice, asTree, noLint, try bool
	var shell string
	cmd := &cobra.Command{
		Use:   "build RECIPE... | --all",
		Short: "Build packages from recipes",
		Long: `Build the named recipes, or all of them, and put their packages into the workspace's
packages directory. A recipe is built after those that it depends on; independent
recipes are built in parallel. If one fails, the recipes that depend on it are
skipped, and all others are built.

The steps are unpack, prepare, build, test, stage and pack. Each step's result is
cached and reused until one of its inputs changes. Steps see the system's programs
and libraries read-only, the packages that meet their build dependencies, and no
network.

With --every-target, or several names in --target with commas between them, packages are
built for each of these targets, and a table shows what became of each recipe.

Sources that are not in the source cache are fetched first. At the end, lint checks
the recipe and its packages.`,
		Example: `  ellwand build libharmonic tidegauge
  ellwand build --all
  ellwand build tidegauge --from stage
  ellwand build tidegauge --shell test`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if every && len(args) > 0 {
				return errors.New("--all builds every recipe; leave the names out")
			}
			if every {
				return nil
			}
			return atLeastOne("RECIPE, or --all")(cmd, args)
		}),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkSteps(map[string]string{"from": o.From, "until": o.Until, "shell": shell}); err != nil {
				return err
			}
			if again {
				o.From = recipe.Unpack
			}
			if everyTarget || strings.Contains(a.target, ",") {
				if shell != "" || asTree || twice || o.Until != "" {
					return usageError{errors.New("--shell, --layout, --twice and --until take one target")}
				}
				named := a.target
				a.target = ""
				w, err := a.open()
				if err != nil {
					return err
				}
				names, err := targetNames(w, named, everyTarget)
				if err != nil {
					return err
				}
				err = a.buildTargets(cmd.Context(), names, args, set, o, !noLint)
				if err == nil && try {
					err = a.tryTargets(cmd.Context(), names, args)
				}
				return err
			}
			u, err := a.app()
			if err != nil {
				return err
			}
			w := u.Workspace
			if w.Set, err = optionValues(set); err != nil {
				return err
			}
			var all []*recipe.Recipe
			var broken error // of the recipes that are left out
			if every {
				all, broken, err = soundRecipes(w)
			} else {
				all, err = recipes(w, args)
			}
			if err != nil {
				return err
			}
			if err := checkOptions(all, w.Set); err != nil {
				return err
			}
			if o.Needs && a.isolation == "none" {
				return usageError{errors.New("--needs-report watches steps in their sandbox, and --isolation none gives them none")}
			}
			b, err := a.builder(cmd.Context(), u)
			if err != nil {
				return err
			}
			if !noLint {
				o.After = u.LintAfter(b)
			}
			if shell != "" {
				return a.buildShell(cmd.Context(), b, all, shell)
			}
			switch {
			case asTree:
				err = a.buildLayout(cmd.Context(), b, all)
			case twice:
				err = a.buildTwice(cmd.Context(), b, all, o)
			case len(all) == 1:
				err = a.buildOne(cmd.Context(), b, all[0], o)
			default:
				err = a.buildMany(cmd.Context(), b, all, o)
			}
			if err == nil && try {
				err = a.tryBuilt(cmd.Context(), u, all)
			}
			return cmp.Or(err, broken)
		},
	}
	cmd.Flags().BoolVar(&every, "all", false, "build every recipe of the workspace")
	cmd.Flags().BoolVar(&everyTarget, "every-target", false, "build for every target in ellwand.toml")
	cmd.Flags().BoolVar(&again, "again", false, "run every step, even if nothing changed")
	cmd.Flags().StringVar(&o.From, "from", "", "run this step and those after it, even if nothing changed")
	cmd.Flags().StringVar(&o.Until, "until", "", "stop after this step, and leave a copy of the work tree to inspect")
	cmd.Flags().BoolVar(&o.Needs, "needs-report", false, "run every step, record what they use, and compare it with the recipe's dependencies")
	cmd.Flags().BoolVar(&try, "trial", false, "rehearse the packages afterwards, as ellwand trial does")
	cmd.Flags().BoolVar(&noLint, "no-lint", false, "skip lint")
	cmd.Flags().BoolVar(&asTree, "layout", false, "run the steps up to stage, and show which package owns each staged path")
	cmd.Flags().BoolVar(&twice, "twice", false, "build again with a different time, user, path, locale and job count, and compare the packages byte by byte")
	cmd.Flags().StringVar(&shell, "shell", "", "open a shell before this step runs, or in the tree it left when it failed")
	a.isolationFlag(cmd)
	cmd.Flags().StringArrayVar(&set, "set", nil, "set an option of the recipe: `NAME=VALUE`")
	cmd.RegisterFlagCompletionFunc("from", cobra.FixedCompletions(recipe.StepNames, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("until", cobra.FixedCompletions(recipe.StepNames, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// tryBuilt rehearses the packages of recipes that were built.
func (a *program) tryBuilt(ctx context.Context, u *app.App, all []*recipe.Recipe) error {
	var names []string
	for _, r := range all {
		names = append(names, r.Name)
	}
	report, err := u.Trial(ctx, names, app.TrialOptions{})
	if err != nil {
		return err
	}
	return a.finishTrial(report)
}

func (a *program) buildOne(ctx context.Context, b *build.Builder, r *recipe.Recipe, o build.Options) error {
	res, err := b.Build(ctx, r, o)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON([]build.Result{res})
	}
	a.showBuild(res)
	a.showNext(res.State, res.Recipe, res.Findings)
	return nil
}

// showNext tells how to go on after a build.
func (a *program) showNext(state, recipe string, findings []fact.Finding) {
	switch {
	case a.quiet || state == build.Stopped:
	case slices.ContainsFunc(findings, func(f fact.Finding) bool { return f.Reaches(fact.SeverityError) }):
		a.out.Printf("next: `ellwand lint %s` explains what prevents publishing\n", recipe)
	default:
		a.out.Printf("next: `ellwand show %s`, then `ellwand publish %s`\n", recipe, recipe)
	}
}

// buildTwice builds each recipe twice, and tells what came out differently.
func (a *program) buildTwice(ctx context.Context, b *build.Builder, all []*recipe.Recipe, o build.Options) error {
	type twice struct {
		build.Result
		Differences []build.Difference `json:"differences"`
	}
	results := []twice{}
	different := 0
	for _, r := range all {
		res, found, err := b.Twice(ctx, r, o)
		if err != nil {
			return err
		}
		results = append(results, twice{res, found})
		if len(found) > 0 {
			different++
		}
		if !a.json {
			a.progress.Together(func() { a.showTwice(res, found) })
		}
	}
	if a.json {
		if err := a.printJSON(results); err != nil {
			return err
		}
	}
	if different > 0 {
		return statusError(statusFindings)
	}
	return nil
}

// buildMany builds several recipes, reports each as it ends, and of all in a
// table.
func (a *program) buildMany(ctx context.Context, b *build.Builder, all []*recipe.Recipe, o build.Options) error {
	began := time.Now()
	outcomes, err := b.BuildAll(ctx, all, o, a.showOutcome)
	if err != nil {
		return err
	}
	a.progress.Close()
	if a.json {
		if err := a.printJSON(outcomes); err != nil {
			return err
		}
	} else {
		a.showOutcomes(outcomes, time.Since(began))
	}
	for _, o := range outcomes {
		if o.Err != nil {
			return statusError(exitStatuses[fact.StatusOf(o.Err)])
		}
	}
	return nil
}

// showOutcome reports a build of several as it ends.
func (a *program) showOutcome(o build.Outcome) {
	switch {
	case a.json:
	case o.Err != nil:
		a.progress.Together(func() { a.explainError(o.Err) })
	case o.State != build.Unchanged && o.State != build.Skipped:
		a.progress.Together(func() { a.showBuild(o.Result) })
	}
}

var stateRoles = map[string]term.Role{build.Built: term.Good, build.Repacked: term.Good, build.Stopped: term.Good, build.Unchanged: term.Faint, build.Failed: term.Bad, build.Skipped: term.Doubtful}

// manyOutcomes is from how many recipes on the table leaves out what is as it
// was.
const manyOutcomes = 20

// buildShell opens a shell where a step runs.
func (a *program) buildShell(ctx context.Context, b *build.Builder, all []*recipe.Recipe, step string) error {
	switch {
	case len(all) != 1:
		return usageError{errors.New("--shell takes one recipe")}
	case step == recipe.Unpack || step == recipe.Pack:
		return usageError{fmt.Errorf("--shell takes a step with a script; %s is built in", step)}
	}
	return b.Shell(ctx, all[0], step, os.Stdin, func(failed bool, script string) {
		state := "as " + step + " finds it"
		if failed {
			state = "as " + step + " left it when it failed"
		}
		a.err.Printf("a shell in the work tree, %s; what you change is thrown away. The step's script is %s: `sh -eu %s` runs it\n", state, script, script)
	})
}

// checkSteps makes sure that flags name steps.
func checkSteps(flags map[string]string) error {
	for flag, step := range flags {
		if step != "" && !slices.Contains(recipe.StepNames, step) {
			return usageError{fmt.Errorf("--%s takes one of the steps %s, not %q", flag, strings.Join(recipe.StepNames, ", "), step)}
		}
	}
	return nil
}

// optionValues reads the NAME=VALUE of --set.
func optionValues(set []string) (recipe.Values, error) {
	values := recipe.Values{}
	for _, s := range set {
		name, value, ok := strings.Cut(s, "=")
		if !ok || name == "" {
			return nil, usageError{fmt.Errorf("--set takes NAME=VALUE, such as --set tls=true, not %q", s)}
		}
		values[name] = value
	}
	return values, nil
}

// checkOptions makes sure that each option that is set is one of some recipe,
// and has a value that it can have.
func checkOptions(all []*recipe.Recipe, set recipe.Values) error {
	known := map[string]bool{}
	for _, r := range all {
		if err := r.CheckValues(); err != nil {
			return usageError{err}
		}
		for name := range r.Options {
			known[name] = true
		}
	}
	names := slices.Sorted(maps.Keys(known))
	for _, name := range slices.Sorted(maps.Keys(set)) {
		if known[name] {
			continue
		}
		switch near := fact.Nearest(name, names); {
		case near != "":
			return usageError{fmt.Errorf("none of these recipes has an option %q; did you mean %q?", name, near)}
		case len(names) == 0:
			return usageError{fmt.Errorf("none of these recipes has an option %q, or any other", name)}
		}
		return usageError{fmt.Errorf("none of these recipes has an option %q; there are %s", name, strings.Join(names, ", "))}
	}
	return nil
}
