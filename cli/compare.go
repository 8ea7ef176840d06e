package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/core/bundle"
	"ellwand.example/core/compare"
	"ellwand.example/core/recipe"
	"ellwand.example/core/revision"
	"ellwand.example/core/workspace"
	"ellwand.example/term"
)

func (a *app) compareCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "compare A [B]",
		Short: "Tell what differs between two recipes, or two revisions of one",
		Long: `Tell what differs between two recipes, in the words of a recipe: facts, sources,
needs, steps, layout. A and B are names of recipes, or NAME@REVISION for a recipe
as it was at a commit, a tag or a branch of the git repository that the workspace
stands in. With A alone, it is compared with the recipe as it is now. The exit
status is 1 where something differs.`,
		Example: `  ellwand compare libharmonic tidegauge
  ellwand compare tidegauge@HEAD
  ellwand compare tidegauge@v1 tidegauge@v2`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 && len(args) != 2 || len(args) == 1 && !strings.Contains(args[0], "@") {
				return fmt.Errorf("%s needs two recipes, or one at a revision", cmd.CommandPath())
			}
			return nil
		}),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				name, _, _ := strings.Cut(args[0], "@")
				args = append(args, name)
			}
			var sides [2]map[string][]byte
			for i, arg := range args {
				if sides[i], err = recipeFiles(cmd.Context(), w, arg); err != nil {
					return err
				}
			}
			changes := compare.Recipes(sides[0], sides[1])
			if a.json {
				if changes == nil {
					changes = []compare.Change{}
				}
				err = a.printJSON(map[string]any{"a": args[0], "b": args[1], "changes": changes})
			} else {
				a.showChanges(args[0], args[1], changes)
			}
			if err == nil && len(changes) > 0 {
				return statusError(statusFindings)
			}
			return err
		},
	}
}

// recipeFiles reads a recipe's folder, as it is or as it was at a revision.
func recipeFiles(ctx context.Context, w *workspace.Workspace, arg string) (map[string][]byte, error) {
	name, rev, at := strings.Cut(arg, "@")
	name = recipeName(name)
	dir := filepath.Join(w.Dir, workspace.RecipesDir, name)
	if at {
		if !revision.InRepository(w.Dir) {
			return nil, fmt.Errorf("%s: the workspace stands in no git repository, and so has no revisions", arg)
		}
		files, err := revision.At(ctx, dir, rev)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", arg, err)
		}
		return files, nil
	}
	if _, err := os.Stat(filepath.Join(dir, recipe.FileName)); errors.Is(err, os.ErrNotExist) {
		_, err := w.Recipe(name) // which knows what was perhaps meant
		return nil, err
	}
	return bundle.Folder(dir)
}

func (a *app) showChanges(left, right string, changes []compare.Change) {
	w := a.out
	if len(changes) == 0 {
		w.Printf("%s and %s say the same\n", left, right)
		return
	}
	w.Printf("%s → %s\n", w.Style(term.Strong, left), w.Style(term.Strong, right))
	area := ""
	for _, c := range changes {
		if c.Area != area {
			area = c.Area
			w.Printf("\n%s\n", w.Style(term.Name, area))
		}
		switch {
		case c.Difference != "":
			w.Printf("  %s\n", c.What)
			_, body, _ := strings.Cut(c.Difference, "\n@@")
			_, body, _ = strings.Cut(body, "\n")
			for line := range strings.Lines(body) {
				a.out.Printf("    %s", a.out.Style(lineRole(line), strings.TrimRight(line, "\n"))+"\n")
			}
		case c.Before == "":
			w.Printf("  %s %s  %s\n", w.Style(term.Good, "+"), c.What, w.Style(term.Good, c.After))
		case c.After == "":
			w.Printf("  %s %s  %s\n", w.Style(term.Bad, "-"), c.What, w.Style(term.Bad, c.Before))
		default:
			w.Printf("  %s  %s → %s\n", c.What, w.Style(term.Bad, c.Before), w.Style(term.Good, c.After))
		}
	}
}

// lineRole colours a line of a unified difference.
func lineRole(line string) term.Role {
	switch {
	case strings.HasPrefix(line, "+"):
		return term.Good
	case strings.HasPrefix(line, "-"):
		return term.Bad
	case strings.HasPrefix(line, "@@"):
		return term.Faint
	}
	return term.Plain
}
