package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"ellwand.example/core/bundle"
	"ellwand.example/core/document"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
	"ellwand.example/term"
)

func (a *app) bundleCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "bundle RECIPE...",
		Short: "Put a recipe and its sources into one file",
		Long: `Put a recipe, the files beside it and its sources into one file, named
NAME@VERSION-RELEASE` + bundle.Extension + `, from which "ellwand unbundle" makes it again
elsewhere; it then builds with no network. The same recipe and sources give the
same bytes.`,
		Example:           "  ellwand bundle tidegauge",
		Args:              arguments(atLeastOne("the name of a recipe")),
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
				path := filepath.Join(out, bundle.FileName(r))
				facts, err := bundle.Write(cmd.Context(), path, r, source.DefaultStore(w.State("sources")), sources)
				if err != nil {
					return err
				}
				info, err := os.Stat(path)
				if err != nil {
					return err
				}
				results = append(results, map[string]any{"path": path, "bytes": info.Size(), "facts": facts})
				if !a.json {
					a.out.Printf("%s  %s: %s, %s\n", a.out.Style(term.Name, path), term.Bytes(info.Size()),
						term.Count(len(facts.Files), "file of the recipe's", "files of the recipe's"), term.Count(len(facts.Sources), "source", "sources"))
				}
			}
			if a.json {
				return a.printJSON(results)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&out, "out", ".", "the folder to write to")
	cmd.MarkFlagDirname("out")
	return cmd
}

// pinnedSources fetches a recipe's sources, all of which must be pinned.
func (a *app) pinnedSources(ctx context.Context, w *workspace.Workspace, r *recipe.Recipe) ([]source.Fetched, error) {
	f := a.fetcher(ctx, w)
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

func (a *app) unbundleCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "unbundle FILE|URL",
		Short: "Make a recipe of a bundle",
		Long: `Take a recipe and its sources out of a bundle: the recipe into this workspace,
the sources into the store. Where the recipe is there already and is not as the
last bundle left it, nothing is written, and what differs is shown.`,
		Example: `  ellwand unbundle tidegauge@2.4.1-3` + bundle.Extension + `
  ellwand unbundle https://files.saltmarsh.example/tidegauge@2.4.1-3` + bundle.Extension,
		Args: arguments(exactlyOne("one bundle")),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			return a.unbundle(cmd.Context(), w, args[0])
		},
	}
}

func (a *app) unbundle(ctx context.Context, w *workspace.Workspace, arg string) error {
	f := a.fetcher(ctx, w)
	path := arg
	if u, err := url.Parse(arg); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		got, err := f.Fetch(ctx, &recipe.Recipe{Sources: []recipe.Source{{URL: arg}}}, 0)
		if err != nil {
			return err
		}
		path = got.Path
		// It is a means to an end, and no source of any recipe.
		defer f.Store.Remove(got.SHA256)
	}
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	c, err := bundle.Read(ctx, file, f.Store)
	var format *bundle.FormatError
	if errors.As(err, &format) {
		return fmt.Errorf("%s: %w", arg, err)
	}
	if err != nil {
		return err
	}
	dir := filepath.Join(w.Dir, workspace.RecipesDir, c.Name)
	changed, err := c.Unpack(dir, w.State("bundles", c.Name+".json"))
	var edited *bundle.EditedError
	if errors.As(err, &edited) {
		a.showEdits(edited)
		return statusError(statusFindings)
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"recipe": dir, "changed": changed, "facts": c.Facts})
	}
	state := "is there"
	if !changed {
		state = "is as the bundle has it"
	}
	a.out.Printf("%s %s %s, with %s in the store\n", a.out.Style(term.Strong, c.Name+" "+c.Full), workspace.Display(dir), state, term.Count(len(c.Sources), "source", "sources"))
	_, err = w.Recipe(c.Name)
	var problems document.Problems
	if errors.As(err, &problems) {
		return err
	}
	a.out.Printf("Next: `ellwand build %s`, for which no network is needed\n", c.Name)
	return nil
}

// showEdits shows what unbundling would lose.
func (a *app) showEdits(e *bundle.EditedError) {
	for _, name := range e.Changed {
		path := workspace.Display(filepath.Join(e.Dir, name))
		there, bundled := e.There[name], e.Bundled[name]
		switch {
		case there == nil:
			a.out.Printf("%s is in the bundle alone\n", path)
		case bundled == nil:
			a.out.Printf("%s is here alone\n", path)
		case !text(there) || !text(bundled):
			a.out.Printf("%s differs\n", path)
		default:
			a.showDifference(udiff.Unified(path, path+" (in the bundle)", string(there), string(bundled)))
		}
	}
	a.err.Printf("%s\nnothing was written. Move your folder aside, unbundle, and bring your edits over; or remove it, if they are not needed\n", a.err.Style(term.Bad, e.Error()))
}

// text reports whether data can be shown as lines.
func text(data []byte) bool { return !strings.Contains(string(data[:min(len(data), 8000)]), "\x00") }

// showDifference prints a difference in the unified format, in colour.
func (a *app) showDifference(difference string) {
	for line := range strings.SplitSeq(strings.TrimRight(difference, "\n"), "\n") {
		a.out.Printf("%s\n", a.out.Style(lineRole(line), line))
	}
}
