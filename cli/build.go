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

	"ellwand.example/cli/term"
	"ellwand.example/core/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
)

func (a *program) buildCommand() *cobra.Command {
	var o build.Options
	var set []string
	var again, every, twice, asTree, noLint bool
	var shell string
	cmd := &cobra.Command{
		Use:   "build RECIPE... | --all",
		Short: "Run the steps, make packages",
		Long: `Build the named recipes, or all of them, and put their packages into the
workspace's packages directory. Each is built after those that it stands on, and
independent ones at once. Where one fails, what stands on it is skipped, and
everything else goes on.

The steps are unpack, prepare, build, test, stage and pack. What each of them
changed is kept, and is not done again as long as nothing that it depends on
changes. Steps see the machine's programs and libraries, which they cannot
change, the packages that meet their build needs, and no network.

At the end lint looks at the recipe and its packages.

Sources that are not in the source cache are fetched first. Build needs are met by the
packages that this workspace has built, and by the machine.`,
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
			return atLeastOne("the name of a recipe, or --all")(cmd, args)
		}),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkSteps(map[string]string{"from": o.From, "until": o.Until, "shell": shell}); err != nil {
				return err
			}
			if again {
				o.From = recipe.Unpack
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
			return cmp.Or(err, broken)
		},
	}
	cmd.Flags().BoolVar(&every, "all", false, "build every recipe of the workspace")
	cmd.Flags().BoolVar(&again, "again", false, "run every step, even where nothing changed")
	cmd.Flags().StringVar(&o.From, "from", "", "run this step and those after it, even where nothing changed")
	cmd.Flags().StringVar(&o.Until, "until", "", "stop after this step, and leave a copy of the work tree to look at")
	cmd.Flags().BoolVar(&o.Needs, "needs-report", false, "run every step, watch what they use, and compare it with the needs of the recipe")
	cmd.Flags().BoolVar(&noLint, "no-lint", false, "do not look at what was made; `ellwand lint RECIPE` does later")
	cmd.Flags().BoolVar(&asTree, "layout", false, "run the steps up to stage, and show what was staged with who claims it, before anything is packed")
	cmd.Flags().BoolVar(&twice, "twice", false, "build a second time under other circumstances, and compare the packages byte by byte")
	cmd.Flags().StringVar(&shell, "shell", "", "open a shell where this step runs: as it finds the tree, or as it left it when it failed")
	a.isolationFlag(cmd)
	cmd.Flags().StringArrayVar(&set, "set", nil, "give an option of the recipe another value: `NAME=VALUE`")
	cmd.RegisterFlagCompletionFunc("from", cobra.FixedCompletions(recipe.StepNames, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("until", cobra.FixedCompletions(recipe.StepNames, cobra.ShellCompDirectiveNoFileComp))
	return cmd
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
	return nil
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

// buildMany builds several recipes, tells of each as it ends, and of all in a
// table.
func (a *program) buildMany(ctx context.Context, b *build.Builder, all []*recipe.Recipe, o build.Options) error {
	began := time.Now()
	outcomes, err := b.BuildAll(ctx, all, o, func(o build.Outcome) {
		switch {
		case a.json:
		case o.Err != nil:
			a.progress.Together(func() { a.explainError(o.Err) })
		case o.State != build.Unchanged && o.State != build.Skipped:
			a.progress.Together(func() { a.showBuild(o.Result) })
		}
	})
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
