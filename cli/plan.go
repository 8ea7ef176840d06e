package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"ellwand.example/cli/figure"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/plan"
	"ellwand.example/core/recipe"
)

func (a *program) planCommand() *cobra.Command {
	var dot bool
	var picture string
	cmd := &cobra.Command{
		Use:   "plan [RECIPE...]",
		Short: "Show what must be built or rebuilt, in which order, and why",
		Long: `Show what must be built or rebuilt, in which order, and why: a version without a
package, a changed recipe or a changed file beside it, a dependency that another
package meets now, a soname that the newest library no longer provides, or an exact
version that is not the newest. Without names, all recipes of the workspace are
planned, and images that have their packages are named. Nothing is fetched or built. Recipes that depend on each other are listed,
with where the cycle is easiest to break.

Upstream is not checked for changes: sources are pinned.`,
		Example: `  ellwand plan
  ellwand plan --svg plan.svg
  ellwand plan --dot | dot -Tpng -o plan.png`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			if picture != "" && filepath.Ext(picture) != ".svg" {
				return usageError{fmt.Errorf("--svg %s: name a file that ends in .svg", picture)}
			}
			names, err := w.Recipes()
			if err != nil {
				return err
			}
			var all []*recipe.Recipe
			var broken error // of the recipes that are left out
			switch {
			case len(args) > 0:
				all, err = recipes(w, args)
			case len(names) > 0:
				all, broken, err = soundRecipes(w)
			}
			if err != nil {
				return err
			}
			u := &app.App{Workspace: w, Progress: a.progress}
			b, err := u.Planner(cmd.Context())
			if err != nil {
				return err
			}
			planned, err := plan.Make(cmd.Context(), b.Resolver, all)
			if err == nil {
				err = u.AddImages(planned, all)
			}
			switch {
			case err != nil:
				return err
			case dot:
				a.out.Printf("%s", plan.Dot(planned))
				return nil
			case picture != "":
				return a.drawPlan(cmp.Or(w.Settings.Name, filepath.Base(w.Dir)), planned, picture)
			case a.json:
				return cmp.Or(a.printJSON(planned), broken)
			}
			a.showPlan(planned)
			return broken
		},
	}
	cmd.Flags().BoolVar(&dot, "dot", false, "print the graph of recipes in the DOT language")
	cmd.Flags().StringVar(&picture, "svg", "", "draw the graph of recipes into a `FILE`")
	cmd.MarkFlagFilename("svg", "svg")
	cmd.MarkFlagsMutuallyExclusive("dot", "svg")
	return cmd
}

func (a *program) showPlan(all []plan.Planned) {
	w := a.out
	if len(all) == 0 {
		w.Printf("there are no recipes yet: `ellwand draft SOURCE` writes one\n")
		return
	}
	var rows [][]string
	var due []string
	for _, p := range all {
		state := w.Style(term.Faint, p.State)
		if p.State != plan.StateCurrent {
			state = w.Style(term.Doubtful, p.State)
			due = append(due, p.Recipe)
		}
		rows = append(rows, []string{fmt.Sprintf("%5d", p.Level), w.Style(term.Name, p.Recipe), p.Version, state, strings.Join(p.Direct, ", ")})
	}
	w.Table([]string{"batch", "recipe", "version", "state", "depends on"}, rows)
	for _, p := range all {
		if len(p.Reasons) > 0 {
			w.Printf("\n%s\n", w.Style(term.Strong, p.Recipe))
		}
		for _, r := range p.Reasons {
			w.Printf("  %s\n", w.Wrapped(r, 2))
		}
	}
	w.Printf("\n")
	if len(due) == 0 {
		w.Printf("nothing to build: %s up to date\n", fact.Count(len(all), "recipe is", "recipes are"))
		return
	}
	w.Printf("%s to build, of %d; next: `ellwand build %s`\n", fact.Count(len(due), "recipe", "recipes"), len(all), strings.Join(due, " "))
	var images []string
	for _, p := range all {
		if p.State != plan.StateCurrent {
			images = append(images, p.Images...)
		}
	}
	slices.Sort(images)
	if images = slices.Compact(images); len(images) > 0 {
		w.Printf("%s\n", w.Wrapped(fmt.Sprintf("images with their packages: %s; `ellwand image --all --if-changed` makes them again afterwards", strings.Join(images, ", ")), 0))
	}
}

// drawPlan draws a picture of the dependencies between recipes.
func (a *program) drawPlan(title string, all []plan.Planned, file string) error {
	g := figure.Graph{Title: title + ": dependencies between recipes"}
	for _, p := range all {
		g.Nodes = append(g.Nodes, figure.Node{Name: p.Recipe, Lines: []string{p.Version, p.State}, Level: p.Level, Marked: p.State != plan.StateCurrent, Stands: p.Direct})
	}
	var b bytes.Buffer
	if err := g.SVG(&b); err != nil {
		return err
	}
	if err := renameio.WriteFile(file, b.Bytes(), 0o644); err != nil {
		return err
	}
	a.out.Printf("%s  %s\n", a.out.Style(term.Name, file), fact.Count(len(all), "recipe", "recipes"))
	return nil
}
