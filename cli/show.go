package cli

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"ellwand.example/core/document"
	"ellwand.example/core/layout"
	"ellwand.example/core/pack"
	"ellwand.example/core/recipe"
	"ellwand.example/core/workspace"
	"ellwand.example/term"
)

func (a *app) showCommand() *cobra.Command {
	var files, steps bool
	var cat string
	cmd := &cobra.Command{
		Use:   "show PACKAGE|NAME|RECIPE",
		Short: "Show what is in a package, or what a recipe runs",
		Long: `Show a package's facts, what it needs and provides, its scripts and changes.
PACKAGE is a file; a NAME stands for the newest package of that name which this
workspace has built. Only the first part of the file is read.

With --steps, show what the steps of a RECIPE run, those that its method fills
in included.`,
		Example: `  ellwand show tidegauge
  ellwand show buoy-codec --steps
  ellwand show tidegauge --files
  ellwand show tidegauge --cat /etc/tidegauge/tidegauge.conf`,
		Args:              arguments(exactlyOne("one package")),
		ValidArgsFunction: completePackages,
		RunE: func(cmd *cobra.Command, args []string) error {
			if steps {
				return a.showSteps(args[0])
			}
			p, err := a.openPackage(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			defer p.Close()
			if files || cat != "" {
				entries, err := p.Layout()
				switch {
				case err != nil:
					return err
				case cat != "":
					return a.catFile(cmd.Context(), p, entries, cat)
				case a.json:
					return a.printJSON(entries)
				}
				a.showFiles(entries)
				return nil
			}
			if a.json {
				return a.printJSON(map[string]any{"facts": p.Facts, "build": p.Build, "bytes": p.Size})
			}
			a.showFacts(p)
			return nil
		},
	}
	cmd.Flags().BoolVar(&files, "files", false, "list its paths instead")
	cmd.Flags().BoolVar(&steps, "steps", false, "of a recipe: what its steps run")
	cmd.Flags().StringVar(&cat, "cat", "", "write the contents of one of its `PATH`s instead")
	return cmd
}

func (a *app) catFile(ctx context.Context, p *pack.Package, entries []pack.Entry, path string) error {
	e, ok := pack.Find(entries, filepath.Join("/", path))
	if !ok {
		var paths []string
		for _, e := range entries {
			paths = append(paths, e.Path)
		}
		if near := document.Nearest(path, paths); near != "" {
			return fmt.Errorf("%s has no path %s; did you mean %s?", p.Facts.Identity(), path, near)
		}
		return fmt.Errorf("%s has no path %s: `ellwand show %s --files` lists them", p.Facts.Identity(), path, p.Facts.Name)
	}
	switch e.Type {
	case layout.Symlink:
		return fmt.Errorf("%s is a link to %s", path, e.Link)
	case layout.Directory:
		return fmt.Errorf("%s is a directory", path)
	}
	return p.WriteFile(ctx, a.out, e)
}

func (a *app) showFiles(entries []pack.Entry) {
	rows := make([][]string, 0, len(entries))
	for _, e := range entries {
		size, path := "", e.Path
		switch {
		case e.Type == layout.Directory:
			path += "/"
		case e.Type == layout.Symlink:
			path += a.out.Style(term.Faint, " -> "+e.Link)
		case e.Same != "":
			path += a.out.Style(term.Faint, " = "+e.Same)
		default:
			size = term.Bytes(e.Size)
		}
		rows = append(rows, []string{e.Mode, e.Owner + ":" + e.Group, fmt.Sprintf("%10s", size), e.Kind, path})
	}
	a.out.Table([]string{"mode", "owner", "      size", "kind", "path"}, rows)
}

func (a *app) showFacts(p *pack.Package) {
	w, f := a.out, p.Facts
	w.Printf("%s  %s\n", w.Style(term.Strong, f.Name+" "+f.Full().String()), f.Summary)
	if f.Description != "" {
		text := ansi.Wordwrap(strings.TrimSpace(f.Description), min(w.Width, 90)-2, "")
		w.Printf("\n%s\n", "  "+strings.ReplaceAll(text, "\n", "\n  "))
	}
	w.Printf("\n")
	fact := func(name, value string) {
		if value != "" {
			w.Printf("  %s %s\n", w.Style(term.Faint, fmt.Sprintf("%-11s", name)), value)
		}
	}
	fact("file", fmt.Sprintf("%s, %s", workspace.Display(p.Path), term.Bytes(p.Size)))
	fact("made for", f.Target+", "+f.Arch)
	fact("licence", f.License)
	fact("homepage", f.Homepage)
	fact("maintainer", f.Maintainer)
	fact("category", f.Category)
	fact("installed", fmt.Sprintf("%s in %s", term.Bytes(f.Size), term.Count(f.Paths, "path", "paths")))
	fact("recipe", f.Recipe)
	fact("isolation", p.Build.Isolation)
	if at := p.Build.Revision; at != nil && at.Clean {
		fact("commit", at.Commit)
	} else if at != nil {
		fact("commit", at.Commit+", and edits after it")
	}
	section := func(title string, n int) {
		if n > 0 {
			w.Printf("\n%s\n", w.Style(term.Strong, title))
		}
	}
	section("needs", len(f.Needs))
	width := 0
	for _, n := range f.Needs {
		width = max(width, len(n.Need))
	}
	for _, p := range f.Provides {
		width = max(width, len(p.Provide))
	}
	width = min(width, 44)
	for _, n := range f.Needs {
		origin := "declared in the recipe"
		if n.Path != "" {
			origin = "found in " + n.Path
		}
		if len(n.Symbols) > 0 {
			origin += " (" + strings.Join(n.Symbols, ", ") + ")"
		}
		w.Printf("  %-*s  %s\n", width, n.Need, w.Style(term.Faint, ansi.Truncate(origin, max(w.Width-width-5, 20), "…")))
	}
	section("provides", len(f.Provides))
	for _, p := range f.Provides {
		origin := "declared in the recipe"
		if p.Path != "" {
			origin = p.Path
		}
		w.Printf("  %-*s  %s\n", width, p.Provide, w.Style(term.Faint, origin))
	}
	a.showScripts(p)
	section("changes", len(f.Changes))
	for _, c := range f.Changes {
		w.Printf("  %s  %s  %s\n", c.Version, w.Style(term.Faint, string(c.Date)), w.Style(term.Faint, c.By))
		for _, t := range c.Text {
			w.Printf("    %s\n", t)
		}
	}
}

func (a *app) showScripts(p *pack.Package) {
	w := a.out
	scripts := p.Scripts()
	names := make([]string, 0, len(scripts))
	for name := range scripts {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		w.Printf("\n%s\n", w.Style(term.Strong, "script "+name))
		for line := range strings.SplitSeq(strings.TrimSpace(scripts[name]), "\n") {
			w.Printf("  %s\n", line)
		}
	}
	accounts := make([]string, 0, len(p.Facts.Accounts))
	for name := range p.Facts.Accounts {
		accounts = append(accounts, name)
	}
	slices.SortFunc(accounts, cmp.Compare)
	for _, name := range accounts {
		w.Printf("\n%s %s\n", w.Style(term.Strong, "account "+name), w.Style(term.Faint, p.Facts.Accounts[name].Home))
	}
}

// showSteps prints what a recipe runs, in order.
func (a *app) showSteps(name string) error {
	w, err := a.open()
	if err != nil {
		return err
	}
	r, err := w.Recipe(recipeName(name))
	if err != nil {
		return err
	}
	if a.json {
		scripts := map[string]string{}
		for _, step := range recipe.StepNames {
			scripts[step] = r.Script(step)
		}
		return a.printJSON(map[string]any{"scripts": scripts, "patches": r.Patches, "rewrites": r.Rewrites})
	}
	for _, step := range recipe.StepNames {
		a.showStep(r, step)
	}
	return nil
}

func (a *app) showStep(r *recipe.Recipe, step string) {
	w := a.out
	script := strings.Trim(r.Script(step), "\n")
	origin := ""
	switch {
	case step == recipe.Unpack || step == recipe.Pack:
		script, origin = "", "built in"
	case script == "":
		script = "# nothing"
	case r.Steps.Script(step) == "":
		origin = "from method " + r.Steps.Method
	}
	w.Printf("%s  %s\n", w.Style(term.Strong, step), w.Style(term.Faint, origin))
	if script != "" {
		w.Printf("  %s\n", strings.ReplaceAll(script, "\n", "\n  "))
	}
	if step == recipe.Unpack {
		for _, p := range r.Patches {
			w.Printf("  after unpack: patch %s\n", p.File)
		}
	}
	for _, rw := range r.Rewrites {
		if rw.After != step {
			continue
		}
		find, times := fmt.Sprintf("%q", rw.Find), "at least once"
		if rw.Regexp != "" {
			find = "/" + rw.Regexp + "/"
		}
		if rw.Times > 0 {
			times = term.Count(rw.Times, "time", "times")
		}
		w.Printf("  after %s, in %s: %s becomes %q, %s\n", step, rw.Path, find, rw.Replace, times)
	}
}
