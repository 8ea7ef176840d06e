package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/export"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

func (a *program) exportCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "export RECIPE...",
		Short: "Write a recipe with all its sources into one file",
		Long: `Write a recipe, the files beside it and its sources into one file named
NAME@VERSION-RELEASE` + export.Extension + `. "ellwand import" restores the recipe from it
on another machine, where it builds without a network. The same recipe and
sources give the same bytes.`,
		Example:           "  ellwand export tidegauge",
		Args:              arguments(atLeastOne("RECIPE")),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			all, err := recipes(w, args)
			if err != nil {
				return err
			}
			results := []map[string]any{}
			for _, r := range all {
				sources, err := a.pinnedSources(cmd.Context(), w, r)
				if err != nil {
					return err
				}
				path := filepath.Join(out, export.FileName(r))
				facts, err := export.Write(cmd.Context(), path, r, source.DefaultCache(w.State("sources")), sources)
				if err != nil {
					return err
				}
				info, err := os.Stat(path)
				if err != nil {
					return err
				}
				results = append(results, map[string]any{"path": path, "bytes": info.Size(), "facts": facts})
				if !a.json {
					a.out.Printf("%s  %s: %s, %s\n", a.out.Style(term.Name, path), fact.Bytes(info.Size()),
						fact.Count(len(facts.Files), "recipe file", "recipe files"), fact.Count(len(facts.Sources), "source", "sources"))
				}
			}
			if a.json {
				return a.printJSON(results)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&out, "out", ".", "the directory to write to")
	cmd.MarkFlagDirname("out")
	return cmd
}

// pinnedSources fetches a recipe's sources, all of which must be pinned.
func (a *program) pinnedSources(ctx context.Context, w *workspace.Workspace, r *recipe.Recipe) ([]source.Fetched, error) {
	f := (&app.App{Workspace: w, Progress: a.progress}).Sources(ctx, app.Namespaces)
	var out []source.Fetched
	for i, s := range r.Sources {
		if s.File == "" && s.SHA256 == "" && s.Commit == "" {
			r.Doc.Add(r.Origin(i), source.FileName(s)+" is not pinned", fmt.Sprintf("`ellwand fetch %s --pin` pins it", r.Name))
			continue
		}
		got, err := f.Fetch(ctx, r, i)
		if err != nil {
			return nil, err
		}
		out = append(out, got)
	}
	return out, r.Doc.Problems.Err()
}
