package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/workspace"
)

func (a *program) cleanCommand() *cobra.Command {
	var older, keep string
	cmd := &cobra.Command{
		Use:   "clean [RECIPE...]",
		Short: "Remove cached results of steps",
		Long: `Remove the cached results of steps. They only save time: the next build runs those
steps again. Packages, logs and sources are kept. With names, only the results of
those recipes are removed.

Builds keep the cache of all recipes within the space that [build] layers in
ellwand.toml allows (20 GiB), so this is seldom needed.`,
		Example: `  ellwand clean
  ellwand clean tidegauge
  ellwand clean --older 7d
  ellwand clean --keep 2GiB`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			c := build.Choice{Keep: -1}
			for _, arg := range args {
				c.Recipes = append(c.Recipes, app.RecipeName(arg))
			}
			if err := knownRecipes(w, c.Recipes); err != nil {
				return err
			}
			if older != "" {
				if c.Older, err = age(older); err != nil {
					return usageError{err}
				}
			}
			if keep != "" {
				if c.Keep, err = fact.ParseBytes(keep); err != nil {
					return usageError{fmt.Errorf("--keep: %w; write it like 2GiB", err)}
				}
			}
			removed, err := build.Clean(w, c)
			if err != nil {
				return err
			}
			return a.showCleaned(removed)
		},
	}
	cmd.Flags().StringVar(&older, "older", "", "remove only what was not used for this long, such as 12h or 7d")
	cmd.Flags().StringVar(&keep, "keep", "", "keep the most recently used, up to this size, such as 2GiB")
	return cmd
}

// knownRecipes makes sure that there are recipes of these names, or layers of
// some that are gone.
func knownRecipes(w *workspace.Workspace, names []string) error {
	known, err := w.Recipes()
	if err != nil {
		return err
	}
	entries, err := os.ReadDir(w.State("layers"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		known = append(known, e.Name())
	}
	for _, name := range names {
		if slices.Contains(known, name) {
			continue
		}
		if near := fact.Nearest(name, known); near != "" {
			return fmt.Errorf("there is no recipe %q; did you mean %q?", name, near)
		}
		return fmt.Errorf("there is no recipe %q in this workspace", name)
	}
	return nil
}

// age reads a time such as 7d or 12h.
func age(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("--older takes a time such as 7d, 12h or 30m, not %q", s)
	}
	return d, nil
}

func (a *program) showCleaned(removed []build.Cleaned) error {
	if a.json {
		return a.printJSON(removed)
	}
	var total int64
	type sum struct {
		steps []string
		bytes int64
	}
	sums := map[string]*sum{}
	var names []string
	for _, c := range removed {
		total += c.Bytes
		if sums[c.Recipe] == nil {
			sums[c.Recipe] = &sum{}
			names = append(names, c.Recipe)
		}
		s := sums[c.Recipe]
		s.steps, s.bytes = append(s.steps, c.Step), s.bytes+c.Bytes
	}
	for _, name := range names {
		s := sums[name]
		a.out.Printf("  %s  %s in %s\n", a.out.Style(term.Name, name), fact.Bytes(s.bytes), fact.Count(len(s.steps), "layer", "layers"))
	}
	a.out.Printf("%s removed, %s freed\n", fact.Count(len(removed), "layer", "layers"), fact.Bytes(total))
	return nil
}
