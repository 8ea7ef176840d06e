package cli

import (
	"errors"
	"fmt"

	"ellwand.example/app"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/source"
)

type fetchedJSON struct {
	Recipe string `json:"recipe"`
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Bytes  int64  `json:"bytes"`
	New    bool   `json:"new"`
	Pinned bool   `json:"pinned"`
}

func (a *program) fetchCommand() *cobra.Command {
	var pin bool
	cmd := &cobra.Command{
		Use:   "fetch [RECIPE...]",
		Short: "Fetch sources into the source cache and verify them",
		Long: `Fetch the sources of the named recipes, or of all, into the source cache, and verify
their digests. A source in the cache is not fetched again; interrupted downloads
resume. Modules of a language are fetched by the language's own command, in a sandbox
that reaches nothing but what the lock file of the source names. For a source without a sha256, the line to add is printed; with --pin it is
added, and nothing else in the recipe changes.`,
		Example:           "  ellwand fetch tidegauge\n  ellwand fetch tidegauge --pin",
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
			isolation, err := a.chosenIsolation()
			if err != nil {
				return err
			}
			f := (&app.App{Workspace: w, Progress: a.progress}).Sources(cmd.Context(), isolation)
			results := []fetchedJSON{}
			var rows [][]string
			var failed []error
			var unpinned document.Problems
			for _, r := range all {
				var pins []recipe.Pin
				for _, i := range modulesLast(r) {
					s := r.Sources[i]
					got, err := f.Fetch(cmd.Context(), r, i)
					if cmd.Context().Err() != nil {
						return cmd.Context().Err()
					}
					if err != nil {
						line, _ := r.Doc.Position(r.Origin(i).Offset)
						failed = append(failed, fmt.Errorf("%s:%d: %w", r.Doc.File, line, err))
						rows = append(rows, []string{r.Name, got.Name, "", a.out.Style(term.Bad, "failed")})
						continue
					}
					pinned := s.SHA256 != "" || s.Commit != "" || s.File != ""
					state := a.out.Style(term.Faint, "in the source cache")
					if got.New {
						state = a.out.Style(term.Good, "fetched")
					}
					if !pinned && pin {
						pins = append(pins, recipe.Pin{Source: i, SHA256: got.SHA256, Commit: got.Commit})
						state = a.out.Style(term.Good, "pinned")
					} else if !pinned {
						state = a.out.Style(term.Doubtful, "not pinned")
						unpinned = append(unpinned, build.Unpinned(r, i, got))
					}
					rows = append(rows, []string{r.Name, got.Name, fact.Bytes(got.Size), state})
					results = append(results, fetchedJSON{r.Name, got.Name, got.SHA256, got.Size, got.New, pinned || pin})
				}
				if err := writePins(r, pins); err != nil {
					return err
				}
			}
			if a.json {
				if err := a.printJSON(map[string]any{"sources": results, "cache": f.Cache.Dir}); err != nil {
					return err
				}
			} else {
				a.out.Table([]string{"recipe", "source", "size", "state"}, rows)
			}
			a.explainProblems(unpinned)
			return a.fetchFailures(failed, unpinned)
		},
	}
	a.isolationFlag(cmd)
	cmd.Flags().BoolVar(&pin, "pin", false, "add missing digests to the recipes")
	return cmd
}

// modulesLast lists the numbers of a recipe's sources, modules of languages last: they are
// fetched over the others.
func modulesLast(r *recipe.Recipe) []int {
	var first, last []int
	for i, s := range r.Sources {
		if s.Modules != "" {
			last = append(last, i)
		} else {
			first = append(first, i)
		}
	}
	return append(first, last...)
}

// writePins adds digests to a recipe's file.
func writePins(r *recipe.Recipe, pins []recipe.Pin) error {
	if len(pins) == 0 {
		return nil
	}
	text, err := r.WithPins(pins)
	if err != nil {
		return err
	}
	return renameio.WriteFile(r.Beside(recipe.FileName), text, 0o644)
}

// fetchFailures says what could not be fetched, and ends with its status.
func (a *program) fetchFailures(failed []error, unpinned document.Problems) error {
	for _, err := range failed {
		a.err.Printf("%s\n", a.err.Style(term.Bad, err.Error()))
		var wrong *source.DigestError
		if errors.As(err, &wrong) {
			a.err.Printf("nothing of it was kept. If upstream changed the file on purpose, put the digest that was found into the recipe; otherwise ask them\n")
		}
	}
	switch {
	case len(failed) > 0:
		return statusError(exitStatuses[fact.StatusOf(failed[0])])
	case len(unpinned) > 0:
		return statusError(statusInput)
	}
	return nil
}
