package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/app"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/export"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/workspace"
)

func (a *program) importCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "import FILE|URL",
		Short: "Restore an exported recipe with its sources",
		Long: `Restore an exported recipe: the recipe into this workspace, its sources into the
source cache. If the recipe exists and was edited since it was last imported,
nothing is written and the differences are shown.`,
		Example: `  ellwand import tidegauge@2.4.1-3` + export.Extension + `
  ellwand import https://files.saltmarsh.example/tidegauge@2.4.1-3` + export.Extension,
		Args: arguments(exactlyOne("FILE or URL")),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			return a.importRecipe(cmd.Context(), w, args[0])
		},
	}
}

func (a *program) importRecipe(ctx context.Context, w *workspace.Workspace, arg string) error {
	f := (&app.App{Workspace: w, Progress: a.progress}).Fetcher(ctx)
	path := arg
	if u, err := url.Parse(arg); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		got, err := f.Fetch(ctx, &recipe.Recipe{Sources: []recipe.Source{{URL: arg}}}, 0)
		if err != nil {
			return err
		}
		path = got.Path
		// No recipe has the file itself as a source.
		defer f.Cache.Remove(got.SHA256)
	}
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	c, err := export.Read(ctx, file, f.Cache)
	var format *export.FormatError
	if errors.As(err, &format) {
		return fmt.Errorf("%s: %w", arg, err)
	}
	if err != nil {
		return err
	}
	dir := filepath.Join(w.Dir, workspace.RecipesDir, c.Name)
	changed, err := c.Unpack(dir, w.State("imports", c.Name+".json"))
	var edited *export.EditedError
	if errors.As(err, &edited) {
		a.showEdits(edited)
		return statusError(statusFindings)
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"recipe": dir, "changed": changed, "facts": c.Manifest})
	}
	state := "imported"
	if !changed {
		state = "unchanged"
	}
	a.out.Printf("%s: %s %s, with %s in the source cache\n", a.out.Style(term.Strong, c.Name+" "+c.Full), state, workspace.Display(dir), fact.Count(len(c.Sources), "source", "sources"))
	_, err = w.Recipe(c.Name)
	var problems document.Problems
	if errors.As(err, &problems) {
		return err
	}
	a.out.Printf("Next: `ellwand build %s` (it needs no network)\n", c.Name)
	return nil
}

// showEdits shows what importing would lose.
func (a *program) showEdits(e *export.EditedError) {
	for _, name := range e.Changed {
		path := workspace.Display(filepath.Join(e.Dir, name))
		here, there := e.Here[name], e.There[name]
		switch {
		case here == nil:
			a.out.Printf("%s is only in the exported recipe\n", path)
		case there == nil:
			a.out.Printf("%s is only in this workspace\n", path)
		case !text(here) || !text(there):
			a.out.Printf("%s differs\n", path)
		default:
			a.showDifference(udiff.Unified(path, path+" (exported)", string(here), string(there)))
		}
	}
	a.err.Printf("%s\nNothing was written. Rename the directory, import again, and reapply your edits; or remove it if you do not need them.\n", a.err.Style(term.Bad, e.Error()))
}

// text reports whether data can be shown as lines.
func text(data []byte) bool { return !strings.Contains(string(data[:min(len(data), 8000)]), "\x00") }

// showDifference prints a difference in the unified format, in colour.
func (a *program) showDifference(difference string) {
	for line := range strings.SplitSeq(strings.TrimRight(difference, "\n"), "\n") {
		a.out.Printf("%s\n", a.out.Style(lineRole(line), line))
	}
}
