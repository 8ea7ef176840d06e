package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/root"
	"ellwand.example/core/staging"
	"ellwand.example/core/workspace"
)

func (a *program) showCommand() *cobra.Command {
	var files, tree, sizes, programs, steps, asRecipe bool
	var cat, picture string
	cmd := &cobra.Command{
		Use:   "show PACKAGE|NAME|RECIPE|ROOT|IMAGE",
		Short: "Show a package, a root, an image, or what a recipe says",
		Long: `Show a package's metadata, its dependencies and how they were found, what it provides,
what it was built from, its scripts and its changelog. PACKAGE is a file, or a URL, of
which only the parts shown are downloaded; a NAME, or NAME@VERSION-RELEASE, means the
newest package of that name that this workspace has built or its repositories have. A
RECIPE without a package is shown itself. Of a root, its settings and packages are shown; of an
image that was made, its packages, layers and sizes.

--map draws a picture of what makes a package large.`,
		Example: `  ellwand show tidegauge
  ellwand show tidegauge --tree
  ellwand show tidegauge --sizes
  ellwand show tidegauge --programs
  ellwand show tidegauge --map tidegauge.svg
  ellwand show tidegauge --cat /etc/tidegauge/tidegauge.conf
  ellwand show tidegauge --recipe
  ellwand show buoy-codec --steps`,
		Args:              arguments(exactlyOne("PACKAGE or RECIPE")),
		ValidArgsFunction: a.completeShown,
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case steps:
				return a.showSteps(args[0])
			case root.IsRoot(args[0]):
				return a.showRoot(args[0])
			case asRecipe && !app.IsPackageFile(args[0]):
				return a.showRecipe(args[0])
			}
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			if u.IsImage(args[0]) {
				if programs || cat != "" {
					return usageError{errors.New("--programs and --cat are for packages: extract the image to look into its files")}
				}
				return a.showImage(cmd.Context(), u, args[0], imageView{files, tree, sizes, picture})
			}
			p, err := u.OpenPackage(cmd.Context(), args[0])
			var unbuilt *app.NotBuiltError
			if errors.As(err, &unbuilt) && !files && !tree && !sizes && !programs && cat == "" && picture == "" {
				return a.showRecipe(args[0])
			}
			if err != nil {
				return err
			}
			defer p.Close()
			if asRecipe {
				text, ok := p.Meta("recipe.toml")
				if !ok {
					return fmt.Errorf("%s contains no recipe", args[0])
				}
				_, err := a.out.Write(text)
				return err
			}
			if !files && !tree && !sizes && !programs && cat == "" && picture == "" {
				if a.json {
					return a.printJSON(map[string]any{"facts": p.Facts, "build": p.Build, "bytes": p.Size, "scripts": p.Scripts()})
				}
				return a.showFacts(p)
			}
			entries, err := p.Layout()
			if err != nil {
				return err
			}
			switch {
			case cat != "":
				return a.catFile(cmd.Context(), p, entries, cat)
			case picture != "":
				return a.drawSizes(measuredPackage(p), entries, picture)
			case programs:
				return a.showPrograms(cmd.Context(), p, entries)
			case sizes:
				return a.showSizes(measuredPackage(p), entries)
			case a.json:
				return a.printJSON(entries)
			case tree:
				a.showTree(measuredPackage(p), entries)
			default:
				a.showFiles(entries)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&files, "files", false, "list its paths")
	cmd.Flags().BoolVar(&tree, "tree", false, "show its paths as a tree, with sizes of directories")
	cmd.Flags().BoolVar(&sizes, "sizes", false, "show its largest directories and files")
	cmd.Flags().BoolVar(&programs, "programs", false, "show its programs and libraries, and how they are hardened")
	cmd.Flags().StringVar(&picture, "map", "", "draw its files as areas into a `FILE`: .svg or .png")
	cmd.Flags().BoolVar(&steps, "steps", false, "show the scripts of a recipe's steps")
	cmd.Flags().BoolVar(&asRecipe, "recipe", false, "show the recipe instead of the package; of a package file or URL, print the recipe in it")
	cmd.Flags().StringVar(&cat, "cat", "", "print the contents of one of its `PATH`s")
	cmd.MarkFlagFilename("map", "svg", "png")
	cmd.MarkFlagsMutuallyExclusive("files", "tree", "sizes", "programs", "map", "steps", "recipe", "cat")
	return cmd
}

func (a *program) catFile(ctx context.Context, p *ell.Package, entries []ell.Entry, path string) error {
	e, ok := ell.Find(entries, filepath.Join("/", path))
	if !ok {
		var paths []string
		for _, e := range entries {
			paths = append(paths, e.Path)
		}
		if near := fact.Nearest(path, paths); near != "" {
			return fmt.Errorf("%s has no path %s; did you mean %s?", p.Facts.Identity(), path, near)
		}
		return fmt.Errorf("%s has no path %s: `ellwand show %s --files` lists them", p.Facts.Identity(), path, p.Facts.Name)
	}
	switch e.Type {
	case staging.Symlink:
		return fmt.Errorf("%s is a link to %s", path, e.Link)
	case staging.Directory:
		return fmt.Errorf("%s is a directory", path)
	}
	out := a.out.Contents()
	return errors.Join(p.WriteFile(ctx, out, e), out.Close())
}

func (a *program) showFiles(entries []ell.Entry) {
	rows := make([][]string, 0, len(entries))
	for _, e := range entries {
		size, path := "", fact.Visible(e.Path)
		switch {
		case e.Type == staging.Directory:
			path += "/"
		case e.Type == staging.Symlink:
			path += a.out.Style(term.Faint, " -> "+fact.Visible(e.Link))
		case e.Same != "":
			path += a.out.Style(term.Faint, " = "+fact.Visible(e.Same))
		default:
			size = fact.Bytes(e.Size)
		}
		rows = append(rows, []string{e.Mode, e.Owner + ":" + e.Group, fmt.Sprintf("%10s", size), e.Kind, path})
	}
	a.out.Table([]string{"mode", "owner", "      size", "kind", "path"}, rows)
}

func (a *program) showFacts(p *ell.Package) error {
	w, f := a.out, p.Facts
	w.Printf("%s  %s\n", w.Style(term.Strong, f.Name+" "+f.Full().String()), f.Summary)
	if f.Description != "" {
		text := ansi.Wordwrap(strings.TrimSpace(f.Description), min(w.Width, 90)-2, "")
		w.Printf("\n%s\n", "  "+strings.ReplaceAll(text, "\n", "\n  "))
	}
	w.Printf("\n")
	field := func(name, value string) {
		if value != "" {
			w.Printf("  %s %s\n", w.Style(term.Faint, fmt.Sprintf("%-11s", name)), value)
		}
	}
	field("file", fmt.Sprintf("%s, %s", workspace.Display(p.Path), fact.Bytes(p.Size)))
	field("target", f.Target+", "+f.Arch)
	field("license", f.License)
	field("homepage", f.Homepage)
	field("maintainer", f.Maintainer)
	field("category", f.Category)
	field("installed", fmt.Sprintf("%s in %s", fact.Bytes(f.Size), fact.Count(f.Paths, "path", "paths")))
	field("recipe", f.Recipe)
	var contents inside
	if !app.IsPackageURL(p.Path) { // the facts are read with two requests, and the layout takes more
		var err error
		if contents, err = foundInside(p); err != nil {
			return err
		}
	}
	field("man pages", w.Wrapped(strings.Join(contents.manuals, ", "), 14))
	field("languages", w.Wrapped(strings.Join(contents.languages, ", "), 14))
	section := func(title string, n int) {
		if n > 0 {
			w.Printf("\n%s\n", w.Style(term.Strong, title))
		}
	}
	section("dependencies", len(f.Needs))
	width := 0
	for _, n := range f.Needs {
		width = max(width, len(n.Need.String()))
	}
	for _, p := range f.Provides {
		width = max(width, len(p.Provide.String()))
	}
	width = min(width, 44)
	for _, n := range f.Needs {
		w.Printf("  %-*s  %s\n", width, n.Need.String(), w.Style(term.Faint, ansi.Truncate(a.origin(n), max(w.Width-width-5, 20), "…")))
	}
	for _, list := range []struct {
		title string
		items []need.Need
	}{{"conflicts with", f.Conflicts}, {"replaces", f.Replaces}, {"suggests", f.Suggests}} {
		section(list.title, len(list.items))
		for _, n := range list.items {
			w.Printf("  %s\n", n)
		}
	}
	section("provides", len(f.Provides))
	for _, p := range f.Provides {
		origin := "declared in the recipe"
		if p.Path != "" {
			origin = "detected: " + fact.Visible(p.Path)
		}
		w.Printf("  %-*s  %s\n", width, p.Provide.String(), w.Style(term.Faint, origin))
	}
	a.showRecord(p.Build)
	a.showScripts(p)
	section("changes", len(f.Changes))
	for _, c := range f.Changes {
		w.Printf("  %s  %s  %s\n", c.Version, w.Style(term.Faint, string(c.Date)), w.Style(term.Faint, c.By))
		for _, t := range c.Text {
			w.Printf("    %s\n", t)
		}
	}
	return nil
}

// origin tells how a need was found out.
func (a *program) origin(n ell.Need) string {
	if n.Path == "" {
		return "declared in the recipe"
	}
	path := fact.Visible(n.Path)
	if !strings.Contains(n.Need.String(), "/") {
		return "made together with it, for " + path
	}
	origin := "detected in " + path
	if newest := scan.Newest(n.Symbols); len(newest) > 0 && len(newest) < len(n.Symbols) && !a.verbose {
		return fmt.Sprintf("%s (%s and %d older)", origin, strings.Join(newest, ", "), len(n.Symbols)-len(newest))
	}
	if len(n.Symbols) > 0 {
		origin += " (" + strings.Join(n.Symbols, ", ") + ")"
	}
	return origin
}

// inside is what the paths of a package report it.
type inside struct{ manuals, languages []string }

func foundInside(p *ell.Package) (inside, error) {
	var found inside
	entries, err := p.Layout()
	if err != nil {
		return found, err
	}
	for _, e := range entries {
		if m := scan.Manual(e.Path); m != "" {
			found.manuals = append(found.manuals, fact.Visible(m))
		}
		if l := scan.Language(e.Path); l != "" {
			found.languages = append(found.languages, l)
		}
	}
	slices.Sort(found.manuals)
	slices.Sort(found.languages)
	found.languages = slices.Compact(found.languages)
	if n := len(found.manuals); n > maxShown*4 {
		found.manuals = append(found.manuals[:maxShown*4], fmt.Sprintf("and %d more", n-maxShown*4))
	}
	return found, nil
}

// maxModules bounds how many modules of a source are listed.
const maxModules = 200

// showRecord prints what a package was built from.
func (a *program) showRecord(b ell.BuildRecord) {
	w := a.out
	w.Printf("\n%s\n", w.Style(term.Strong, "built from"))
	var lines [][2]string
	line := func(name, value string) { lines = append(lines, [2]string{fact.Visible(name), fact.Visible(value)}) }
	for _, s := range b.Sources {
		if len(s.Modules) == 0 {
			line(s.Name, shortened(s.SHA256)+s.Commit)
			continue
		}
		line(s.Name, fmt.Sprintf("%s, %s:", shortened(s.SHA256), fact.Count(len(s.Modules), "module", "modules")))
		for i, m := range s.Modules {
			if i == maxModules {
				line("", fmt.Sprintf("and %d more (--json lists all)", len(s.Modules)-i))
				break
			}
			line("", fmt.Sprintf("%s %s  %s", m.Name, m.Version, cmp.Or(m.License, "states no license")))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(b.Files)) {
		line(name, shortened(b.Files[name])+", beside the recipe")
	}
	if at := b.Revision; at != nil && at.Clean {
		line("recipe", "commit "+at.Commit)
	} else if at != nil {
		line("recipe", "commit "+at.Commit+", and edits after it")
	} else {
		line("recipe", shortened(b.Recipe))
	}
	for _, n := range slices.Sorted(maps.Keys(b.Needs)) {
		line(n, "from "+b.Needs[n])
	}
	for _, name := range slices.Sorted(maps.Keys(b.Options)) {
		line("option "+name, b.Options[name])
	}
	by := "Ellwand " + b.Ellwand + ", isolation " + b.Isolation
	if len(b.Allow) > 0 {
		by += ", allowing " + strings.Join(b.Allow, ", ")
	}
	if b.Compression != "" {
		by += ", compression " + b.Compression
	}
	line("by", by)
	width := 0
	for _, l := range lines {
		width = max(width, min(len(l[0]), 36))
	}
	for _, l := range lines {
		w.Printf("  %-*s  %s\n", width, l[0], w.Style(term.Faint, l[1]))
	}
}

func (a *program) showScripts(p *ell.Package) {
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
