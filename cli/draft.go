package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"ellwand.example/core/document"
	"ellwand.example/core/draft"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
	"ellwand.example/term"
)

func (a *app) draftCommand() *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use:   "draft SOURCE",
		Short: "Write a first recipe from an archive, directory or URL",
		Long: `Look at an upstream source and write a first recipe for it: name and version,
licence, summary, homepage, how it is built, and what its build files ask for.
Nothing of the source is run. What is not found is left open in the recipe, with
a comment; nothing is made up.

Where the recipe is there already, it stays as it is: the difference to what
would be written is shown, and the exit status is 1.`,
		Example: `  ellwand draft upstream/tidegauge-2.4.1.tar.gz --name tidegauge-again
  ellwand draft https://files.saltmarsh.example/tidegauge-2.4.1.tar.gz`,
		Args: arguments(exactlyOne("one source")),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			return a.draft(cmd.Context(), w, args[0], name)
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "call the recipe this, whatever the source is called")
	return cmd
}

func (a *app) draft(ctx context.Context, w *workspace.Workspace, arg, name string) error {
	temp, err := os.MkdirTemp(w.State(), "draft-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(temp)
	origin, path, err := a.draftSource(ctx, w, arg, temp)
	if err != nil {
		return err
	}
	tree := filepath.Join(temp, "tree")
	if err := os.Mkdir(tree, 0o755); err != nil {
		return err
	}
	out, err := source.Unpack(ctx, tree, source.Job{Path: path, Name: filepath.Base(arg), SHA256: origin.SHA256}, a.progress)
	if err != nil {
		return err
	}
	f, err := draft.Look(tree, strings.TrimSuffix(arg, "/"), out.Dropped)
	if err != nil {
		return err
	}
	if name != "" {
		f.Name = name
	}
	if f.Name == "" {
		return usageError{fmt.Errorf("%s does not tell what it is called: give it a name with --name", arg)}
	}
	dir := filepath.Join(w.Dir, workspace.RecipesDir, f.Name)
	file := filepath.Join(dir, recipe.FileName)
	text := draft.Recipe(f, origin, author(), time.Now().UTC())
	if there, err := os.ReadFile(file); err == nil {
		return a.draftAgain(workspace.Display(file), there, text)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if origin.File != "" {
		if err := os.Rename(path, filepath.Join(dir, origin.File)); err != nil {
			return err
		}
	}
	if err := renameio.WriteFile(file, text, 0o644); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": file, "facts": f})
	}
	a.showDraft(w, f, workspace.Display(file))
	return nil
}

// draftSource brings the source into the store. A directory becomes an archive
// in temp, to be put beside the recipe.
func (a *app) draftSource(ctx context.Context, w *workspace.Workspace, arg, temp string) (origin draft.Source, path string, err error) {
	if u, err := url.Parse(arg); err == nil && u.Scheme != "" && u.Host+u.Path != "" {
		origin.URL = arg
	} else {
		abs, err := filepath.Abs(arg)
		if err != nil {
			return origin, "", err
		}
		info, err := os.Stat(abs)
		if err != nil {
			return origin, "", err
		}
		if info.IsDir() {
			origin.File = filepath.Base(abs) + ".tar.gz"
			path = filepath.Join(temp, origin.File)
			return origin, path, source.PackDirectory(ctx, abs, path)
		}
		origin.URL = (&url.URL{Scheme: "file", Path: abs}).String()
	}
	r := &recipe.Recipe{Sources: []recipe.Source{{URL: origin.URL}}}
	got, err := a.fetcher(w).Fetch(ctx, r, 0)
	origin.SHA256 = got.SHA256
	return origin, got.Path, err
}

// draftAgain shows what a draft would change in a recipe that is there.
func (a *app) draftAgain(name string, there, text []byte) error {
	difference := udiff.Unified(name, name+" (drafted now)", string(there), string(text))
	if difference == "" {
		a.out.Printf("%s is what would be drafted now\n", name)
		return nil
	}
	for line := range strings.SplitSeq(strings.TrimRight(difference, "\n"), "\n") {
		role := term.Plain
		switch {
		case strings.HasPrefix(line, "+"):
			role = term.Good
		case strings.HasPrefix(line, "-"):
			role = term.Bad
		case strings.HasPrefix(line, "@@"):
			role = term.Faint
		}
		a.out.Printf("%s\n", a.out.Style(role, line))
	}
	a.err.Printf("%s is there already and stays as it is; above is what a draft would change\n", name)
	return statusError(statusFindings)
}

func (a *app) showDraft(w *workspace.Workspace, f draft.Facts, file string) {
	o := a.out
	o.Printf("%s is written\n", o.Style(term.Strong, file))
	found := func(what, value string) {
		if value == "" {
			value = o.Style(term.Doubtful, "not found")
		}
		o.Printf("  %s %s\n", o.Style(term.Faint, fmt.Sprintf("%-9s", what)), value)
	}
	found("name", f.Name)
	found("version", f.Version)
	found("summary", f.Summary)
	found("licence", f.License)
	found("homepage", f.Homepage)
	found("method", f.Method)
	found("needs", strings.Join(f.Build, ", "))
	for _, n := range f.Notes {
		o.Printf("  %s\n", o.Style(term.Doubtful, n))
	}
	_, err := w.Recipe(f.Name)
	var open document.Problems
	if errors.As(err, &open) {
		o.Printf("To fill in before it builds:\n")
		for _, p := range open {
			o.Printf("  %s:%d: %s\n", p.File, p.Line, p.Message)
		}
		return
	}
	o.Printf("Next: read it, then `ellwand build %s`\n", f.Name)
}
