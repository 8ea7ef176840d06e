package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/satisfy"
)

func (a *program) needsCommand() *cobra.Command {
	var supply bool
	cmd := &cobra.Command{
		Use:   "needs RECIPE",
		Short: "Show what satisfies each dependency, and who has missing ones",
		Long: `Show each dependency that a recipe declares, or that was found in its packages, and
what satisfies it: a package of the workspace, or the system, which is searched for
commands, pkg-config modules, libraries, headers, and Python and Perl modules. Missing
ones are listed with where they are available: in a repository, from a recipe that is
not built yet, or under a similar name or version. The exit status is 5 if a build
could not start.

With --supply, packages for missing dependencies are copied from the enabled
repositories, together with their own dependencies.`,
		Example: `  ellwand needs tidegauge
  ellwand needs tidegauge --supply`,
		Args:              arguments(exactlyOne("RECIPE")),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.needs(cmd.Context(), args[0], supply)
		},
	}
	cmd.Flags().BoolVar(&supply, "supply", false, "copy missing packages from the repositories")
	return cmd
}

func (a *program) needs(ctx context.Context, name string, supply bool) error {
	u, err := a.app()
	if err != nil {
		return err
	}
	r, err := u.Workspace.Recipe(app.RecipeName(name))
	if err != nil {
		return err
	}
	b, err := u.Planner(ctx)
	if err != nil {
		return err
	}
	supplied := []string{}
	if supply {
		if supplied, err = b.Supply(ctx, r); err != nil {
			return err
		}
	}
	states, err := b.Needs(ctx, r)
	if err != nil {
		return err
	}
	missing := slices.ContainsFunc(states, func(s satisfy.NeedState) bool {
		return !s.Met && (slices.Contains(s.For, satisfy.ForBuild) || slices.Contains(s.For, satisfy.ForTest))
	})
	if a.json {
		if states == nil {
			states = []satisfy.NeedState{}
		}
		err = a.printJSON(map[string]any{"recipe": r.Name, "needs": states, "supplied": supplied})
	} else {
		for _, id := range supplied {
			a.out.Printf("supplied %s\n", a.out.Style(term.Name, id))
		}
		a.showNeeds(r.Name, states, missing)
	}
	if err == nil && missing {
		return statusError(statusMachine)
	}
	return err
}

func (a *program) showNeeds(recipe string, states []satisfy.NeedState, missing bool) {
	w := a.out
	if len(states) == 0 {
		w.Printf("%s declares no dependencies; those of its programs are detected when it is built\n", recipe)
		return
	}
	var rows [][]string
	met := 0
	for _, s := range states {
		if !s.Met {
			rows = append(rows, []string{w.Style(term.Bad, s.Need.String()), strings.Join(s.For, ", "), w.Style(term.Bad, "missing")})
			continue
		}
		met++
		by := s.By
		if s.Path != "" {
			by = "the system: " + strings.TrimSpace(s.Path+"  "+s.Version)
		}
		if s.Found != "" {
			s.For = append(s.For, "found")
		}
		rows = append(rows, []string{w.Style(term.Name, s.Need.String()), strings.Join(s.For, ", "), by})
	}
	w.Table([]string{"dependency", "for", "met by"}, rows)
	if met < len(states) {
		w.Printf("\n")
	}
	var lines []string
	bring := false
	for _, s := range states {
		if s.Met {
			continue
		}
		w.Printf("%s\n", w.Wrapped(w.Style(term.Bad, s.Need.String())+"  "+reasonAndCommand(s), 4))
		for _, h := range s.Holders {
			bring = bring || h.Kind == satisfy.HeldEnabled && h.Enough
			if h.Kind == satisfy.HeldRecipe && !slices.Contains(lines, h.Name) {
				lines = append(lines, h.Name)
			}
		}
	}
	w.Printf("%s: %d met, %d missing\n", fact.Count(len(states), "dependency", "dependencies"), met, len(states)-met)
	switch {
	case bring:
		w.Printf("`ellwand needs %s --supply` gets them from the repositories\n", recipe)
	case len(lines) > 0:
		w.Printf("`ellwand build %s` builds those that the workspace has recipes for, in order\n", strings.Join(append(lines, recipe), " "))
	case missing:
		w.Printf("install what is missing, or write a recipe for it: `ellwand draft SOURCE`\n")
	}
}

// explainMissing tells why a build did not begin.
func (a *program) explainMissing(e *satisfy.MissingError) {
	w := a.err
	w.Printf("%s\n", w.Style(term.Bad, fmt.Sprintf("%s: %s unavailable", e.Recipe, fact.Count(len(e.Needs), "dependency is", "dependencies are"))))
	for _, n := range e.Needs {
		w.Printf("  %s\n", w.Wrapped(w.Style(term.Strong, n.Need.String())+"  "+reasonAndCommand(n), 6))
	}
	w.Printf("nothing was built; `ellwand needs %s` shows all its dependencies\n", e.Recipe)
}

// reasonAndCommand says why a dependency is not met, and which command builds it.
func reasonAndCommand(n satisfy.NeedState) string {
	s := n.Reason()
	for _, h := range n.Holders {
		if h.Kind == satisfy.HeldRecipe {
			s += ": `" + commandFor(fact.Action{Verb: fact.Build, Subject: h.Name}) + "`"
			break
		}
	}
	return s
}
