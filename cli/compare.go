package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/compare"
	"ellwand.example/core/export"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/revision"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/storage"
	"ellwand.example/core/root"
	"ellwand.example/core/workspace"
)

func (a *program) compareCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "compare A [B]",
		Short: "Compare two packages, recipes, roots, images or repository states",
		Long: `Show the differences between two things of one kind. The exit status is 1 if there are
any.

Packages are files, URLs, or NAME@VERSION-RELEASE of this workspace. What an upgrade
means for users comes first; then metadata, dependencies, scripts, files with their
modes and owners, lines of text files, symbols of libraries, and sizes. With A only,
it is compared with the newest package of its name.

Recipes are names, or NAME@REVISION for a recipe at a commit, tag or branch of the git
repository that contains the workspace. With A only, it is compared with the recipe in
the workspace.

Roots are directories, or DIR@SERIAL for an earlier state. With A only, it is compared with
the state before its last change.

Images are names of this workspace, OCI layouts, or archives: their packages, what they run,
the layers to fetch, and their files are compared.

Repository states are REPOSITORY@CHANNEL, or REPOSITORY@SERIAL. With A only, it is
compared with the state before its last change. Dependencies that were met before and
no longer are, are listed.`,
		Example: `  ellwand compare libharmonic@1.4.2-1
  ellwand compare libharmonic tidegauge
  ellwand compare tidegauge@HEAD
  ellwand compare repository@testing`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 && len(args) != 2 {
				return fmt.Errorf("%s needs one thing or two to compare", cmd.CommandPath())
			}
			return nil
		}),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			kinds := make([]string, len(args))
			for i, arg := range args {
				if kinds[i], err = a.kindOf(u, arg); err != nil {
					return err
				}
			}
			if len(kinds) == 2 && kinds[0] != kinds[1] {
				return usageError{fmt.Errorf("%s is %s, and %s is %s: compare two of a kind", args[0], kinds[0], args[1], kinds[1])}
			}
			differ := false
			switch kinds[0] {
			case aPackage:
				differ, err = a.comparePackages(cmd.Context(), u, args)
			case aRoot:
				differ, err = a.compareRoots(args)
			case anImage:
				if len(args) != 2 {
					return usageError{errors.New("missing argument: an image to compare with")}
				}
				differ, err = a.compareImages(cmd.Context(), u, args)
			case aState:
				differ, err = a.compareStates(cmd.Context(), u, args)
			default:
				differ, err = a.compareRecipes(cmd.Context(), args)
			}
			if err == nil && differ {
				return statusError(statusFindings)
			}
			return err
		},
	}
}

// What can be compared.
const (
	aPackage = "a package"
	aState   = "a state of a repository"
	aRecipe  = "a recipe"
	aRoot    = "a root"
	anImage  = "an image"
)

// kindOf tells what a word means.
func (a *program) kindOf(u *app.App, word string) (string, error) {
	w := u.Workspace
	name, _, at := strings.Cut(word, "@")
	switch {
	case root.IsRoot(name):
		return aRoot, nil
	case u.IsImage(word):
		return anImage, nil
	case app.IsPackageFile(word):
		return aPackage, nil
	}
	if w != nil && at {
		if file, _, err := u.BuiltPackage(word); err != nil || file != "" {
			return aPackage, err
		}
	}
	if w != nil {
		if _, err := os.Stat(filepath.Join(w.Dir, workspace.RecipesDir, name, recipe.FileName)); err == nil {
			return aRecipe, nil
		}
		if _, configured := w.Settings.Repositories[name]; configured {
			return aState, nil
		}
	}
	if _, err := os.Stat(filepath.Join(name, storage.PointerFile)); err == nil {
		return aState, nil
	}
	return aRecipe, nil
}

func (a *program) comparePackages(ctx context.Context, u *app.App, args []string) (bool, error) {
	left, err := u.OpenPackage(ctx, args[0])
	if err != nil {
		return false, err
	}
	defer left.Close()
	if len(args) == 1 {
		args = append(args, left.Facts.Name)
		if u.Workspace == nil {
			return false, usageError{fmt.Errorf("missing argument: a package to compare with; there is no workspace here that has %s", left.Facts.Name)}
		}
	}
	right, err := u.OpenPackage(ctx, args[1])
	if err != nil {
		return false, err
	}
	defer right.Close()
	c, err := compare.Built(ctx, left, right)
	if err != nil {
		return false, err
	}
	if a.json {
		return c.Differ(), a.printJSON(c)
	}
	if !c.Differ() && left.Facts.Identity() == right.Facts.Identity() {
		a.out.Printf("%s is the same package as %s\n", args[0], args[1])
		return false, nil
	}
	a.showPackages(c)
	return c.Differ(), nil
}

// showPackages prints a comparison, what to act on first.
func (a *program) showPackages(c *compare.Comparison) {
	w := a.out
	if !c.Differ() {
		w.Printf("%s: both packages hold the same\n", c.A)
		return
	}
	w.Printf("%s → %s\n", w.Style(term.Strong, c.A), w.Style(term.Strong, c.B))
	a.showVerdicts(c.Verdicts)
	a.showChanges(c.Facts)
	a.showChanges(onlyDifferent(c.Needs))
	a.showChanges(c.Provides)
	a.showChanges(c.Scripts)
	a.showChanges(c.Build)
	if a.verbose {
		for i := range c.Recipe {
			c.Recipe[i].What = c.Recipe[i].Area + ": " + c.Recipe[i].What
			c.Recipe[i].Area = "recipe"
		}
		a.showChanges(c.Recipe)
	} else if n := len(c.Recipe); n > 0 {
		w.Printf("\n%s  %s in it; -v shows them\n", w.Style(term.Name, "recipe"), fact.Count(n, "change", "changes"))
	}
	a.showLibraries(c.Libraries)
	a.showFileChanges(c)
	a.showDirectories(c)
}

// onlyDifferent leaves out of lists of symbol versions what both sides have.
func onlyDifferent(needs []compare.Change) []compare.Change {
	var out []compare.Change
	for _, n := range needs {
		before, after := strings.Split(n.Before, ", "), strings.Split(n.After, ", ")
		if n.Before == "" || n.After == "" || len(before)+len(after) < 4 {
			out = append(out, n)
			continue
		}
		gone := slices.DeleteFunc(slices.Clone(before), func(s string) bool { return slices.Contains(after, s) })
		added := slices.DeleteFunc(after, func(s string) bool { return slices.Contains(before, s) })
		if len(added) > 0 {
			out = append(out, compare.Change{Area: n.Area, What: n.What, After: strings.Join(added, ", ")})
		}
		if len(gone) > 0 {
			out = append(out, compare.Change{Area: n.Area, What: n.What, Before: strings.Join(gone, ", ")})
		}
	}
	return out
}

var weightRoles = map[compare.Weight]term.Role{compare.Breaks: term.Bad, compare.Look: term.Doubtful, compare.Note: term.Faint}

func (a *program) showVerdicts(verdicts []compare.Verdict) {
	w := a.out
	if len(verdicts) > 0 {
		w.Printf("\n")
	}
	for _, v := range verdicts {
		text := v.Text
		if v.Path != "" {
			text = fact.Visible(v.Path) + ": " + text
		}
		w.Printf("%s %s\n", w.Style(weightRoles[v.Weight], fmt.Sprintf("%-7s", v.Weight)), w.Wrapped(text, 8))
		if v.Remedy != "" {
			w.Printf("        %s\n", w.Style(term.Good, w.Wrapped(v.Remedy, 8)))
		}
	}
}

// fewLines are how many symbols, or lines of a text, are shown without -v.
const fewLines = 12

func (a *program) showLibraries(libraries []compare.Library) {
	w := a.out
	if len(libraries) > 0 {
		w.Printf("\n%s\n", w.Style(term.Name, "symbols"))
	}
	for _, l := range libraries {
		name := l.After
		switch {
		case l.After == "":
			name = l.Before + " is gone"
		case l.Before == "":
			name += " is new"
		case l.Before != l.After:
			name = l.Before + " → " + l.After
		}
		w.Printf("  %s  %s, %s\n", name, w.Style(term.Good, fmt.Sprintf("%d new", len(l.Added))), w.Style(goneRole(len(l.Gone)), fmt.Sprintf("%d gone", len(l.Gone))))
		if l.After == "" || l.Before == "" {
			continue
		}
		a.showSymbols("-", term.Bad, l.Gone)
		a.showSymbols("+", term.Good, l.Added)
	}
}

func goneRole(n int) term.Role {
	if n == 0 {
		return term.Faint
	}
	return term.Bad
}

func (a *program) showSymbols(sign string, role term.Role, symbols []string) {
	for i, s := range symbols {
		if i == fewLines && !a.verbose {
			a.out.Printf("    … and %d more; -v shows them\n", len(symbols)-i)
			return
		}
		a.out.Printf("    %s\n", a.out.Style(role, sign+" "+fact.Visible(s)))
	}
}

func (a *program) showFileChanges(c *compare.Comparison) {
	w := a.out
	if len(c.Files) == 0 {
		return
	}
	counts := map[string]int{}
	for _, f := range c.Files {
		counts[f.State]++
	}
	var parts []string
	for _, state := range []string{compare.Added, compare.Gone, compare.Changed, compare.Moved} {
		if counts[state] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[state], state))
		}
	}
	w.Printf("\n%s  %s, %d the same\n", w.Style(term.Name, "files"), strings.Join(parts, ", "), c.Same)
	for _, f := range c.Files {
		path := fact.Visible(f.Path)
		switch f.State {
		case compare.Added:
			w.Printf("  %s  %s\n", w.Style(term.Good, "+ "+path), w.Style(term.Faint, sizeIfAny(f.Bytes[1])))
		case compare.Gone:
			w.Printf("  %s  %s\n", w.Style(term.Bad, "- "+path), w.Style(term.Faint, sizeIfAny(f.Bytes[0])))
		case compare.Moved:
			size := ""
			if f.Contents {
				size = ", " + fact.Bytes(f.Bytes[0]) + " → " + fact.Bytes(f.Bytes[1])
			}
			w.Printf("  > %s  %s\n", path, w.Style(term.Faint, "was "+fact.Visible(f.From)+size))
		default:
			size := ""
			if f.Contents {
				size = fact.Bytes(f.Bytes[0]) + " → " + fact.Bytes(f.Bytes[1])
			}
			w.Printf("  ~ %s  %s\n", path, w.Style(term.Faint, size))
		}
		for _, c := range f.Attributes {
			w.Printf("      %s  %s → %s\n", c.What, w.Style(term.Bad, fact.Visible(c.Before)), w.Style(term.Good, fact.Visible(c.After)))
		}
		a.showHunks(f.Difference, "      ")
	}
}

func sizeIfAny(n int64) string {
	if n == 0 {
		return ""
	}
	return fact.Bytes(n)
}

// showHunks prints the hunks of a unified difference.
func (a *program) showHunks(text, indent string) {
	_, body, _ := strings.Cut(text, "\n@@")
	_, body, _ = strings.Cut(body, "\n")
	n, all := 0, strings.Count(body, "\n")
	for line := range strings.Lines(body) {
		if n++; n > fewLines && !a.verbose {
			a.out.Printf("%s… and %d more lines; -v shows them\n", indent, all-n+1)
			return
		}
		a.out.Printf("%s%s\n", indent, a.out.Style(lineRole(line), fact.Visible(strings.TrimRight(line, "\n"))))
	}
}

func (a *program) showDirectories(c *compare.Comparison) {
	w := a.out
	if len(c.Directories) > 0 {
		w.Printf("\n%s  %s → %s; the file %s → %s\n", w.Style(term.Name, "size"), fact.Bytes(c.Installed[0]), fact.Bytes(c.Installed[1]), fact.Bytes(c.Bytes[0]), fact.Bytes(c.Bytes[1]))
	}
	for i, d := range c.Directories {
		if i == fewLines && !a.verbose {
			w.Printf("  … and %d more directories; -v shows them\n", len(c.Directories)-i)
			return
		}
		role, sign := term.Doubtful, "+"
		by := d.After - d.Before
		if by < 0 {
			role, sign, by = term.Good, "-", -by
		}
		w.Printf("  %s  %s  %s\n", w.Style(role, fmt.Sprintf("%11s", sign+fact.Bytes(by))), fact.Visible(d.Path), w.Style(term.Faint, fact.Bytes(d.Before)+" → "+fact.Bytes(d.After)))
	}
}

func (a *program) compareRecipes(ctx context.Context, args []string) (bool, error) {
	w, err := a.open()
	if err != nil {
		return false, err
	}
	if len(args) == 1 {
		name, _, at := strings.Cut(args[0], "@")
		if !at {
			return false, usageError{fmt.Errorf("compare %s with what? NAME@REVISION compares a recipe as it was with what it is, and two names compare two recipes", args[0])}
		}
		args = append(args, name)
	}
	var sides [2]map[string][]byte
	for i, arg := range args {
		if sides[i], err = recipeFiles(ctx, w, arg); err != nil {
			return false, err
		}
	}
	changes := compare.Recipes(sides[0], sides[1])
	if a.json {
		if changes == nil {
			changes = []compare.Change{}
		}
		return len(changes) > 0, a.printJSON(map[string]any{"a": args[0], "b": args[1], "changes": changes})
	}
	if len(changes) == 0 {
		a.out.Printf("%s and %s say the same\n", args[0], args[1])
		return false, nil
	}
	a.out.Printf("%s → %s\n", a.out.Style(term.Strong, args[0]), a.out.Style(term.Strong, args[1]))
	a.showChanges(changes)
	return true, nil
}

// recipeFiles reads a recipe's directory, now or at a revision.
func recipeFiles(ctx context.Context, w *workspace.Workspace, arg string) (map[string][]byte, error) {
	name, rev, at := strings.Cut(arg, "@")
	name = app.RecipeName(name)
	dir := filepath.Join(w.Dir, workspace.RecipesDir, name)
	if at {
		if !revision.InRepository(w.Dir) {
			return nil, fmt.Errorf("%s: no such package has been built here, and the workspace is not in a git repository, so recipes have no revisions", arg)
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
	return export.Files(dir)
}

// showChanges prints changes under the names of their areas.
func (a *program) showChanges(changes []compare.Change) {
	w := a.out
	area := ""
	for _, c := range changes {
		if c.Area != area {
			area = c.Area
			w.Printf("\n%s\n", w.Style(term.Name, area))
		}
		what, before, after := fact.Visible(c.What), shortened(c.Before), shortened(c.After)
		switch {
		case c.Difference != "":
			w.Printf("  %s\n", what)
			a.showHunks(c.Difference, "    ")
		case c.Before == "":
			w.Printf("  %s  %s\n", w.Style(term.Good, "+ "+what), w.Style(term.Good, after))
		case c.After == "":
			w.Printf("  %s  %s\n", w.Style(term.Bad, "- "+what), w.Style(term.Bad, before))
		default:
			w.Printf("  ~ %s  %s → %s\n", what, w.Style(term.Bad, before), w.Style(term.Good, after))
		}
	}
}

// shortened cuts a digest to what a person compares.
func shortened(s string) string {
	if len(s) == 64 && strings.Trim(s, "0123456789abcdef") == "" {
		return s[:12] + "…"
	}
	return fact.Visible(s)
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

func (a *program) compareStates(ctx context.Context, u *app.App, args []string) (bool, error) {
	var states []repo.State
	var names []string
	for _, arg := range args {
		name, word, _ := strings.Cut(arg, "@")
		r, err := u.Repository(name, word)
		if err != nil {
			return false, err
		}
		if len(args) == 1 {
			before, err := r.Before(ctx, r.Channel)
			if err != nil {
				return false, err
			}
			states, names = append(states, before), append(names, name+" before its last change")
		}
		s, err := r.At(ctx, r.Channel)
		if err != nil {
			return false, err
		}
		states, names = append(states, s), append(names, stateName(name, r.Channel, s))
	}
	c := compare.States(states[0], states[1])
	if a.json {
		return len(c.Changes) > 0, a.printJSON(map[string]any{"a": states[0].Snapshots, "b": states[1].Snapshots, "changes": c.Changes, "broken": c.Broken, "same": c.Same})
	}
	a.showStates(names, c)
	return len(c.Changes) > 0, nil
}

// stateName names a state, with the serial by which it can be named again.
func stateName(repository, word string, s repo.State) string {
	if s.Serial == 0 || word == strconv.FormatInt(s.Serial, 10) {
		return repository + "@" + word
	}
	return fmt.Sprintf("%s@%s (serial %d)", repository, word, s.Serial)
}

func (a *program) showStates(names []string, c *compare.Snapshots) {
	w := a.out
	if len(c.Changes) == 0 {
		w.Printf("%s and %s hold the same %s\n", names[0], names[1], fact.Count(c.Same, "package", "packages"))
		return
	}
	w.Printf("%s → %s\n", w.Style(term.Strong, names[0]), w.Style(term.Strong, names[1]))
	if len(c.Broken) > 0 {
		w.Printf("\n")
	}
	for _, b := range c.Broken {
		w.Printf("%s %s needs %s, which %s met, and nothing does now\n", w.Style(term.Bad, "breaks "), b.Package, b.Need, b.Met)
	}
	target := ""
	for _, p := range c.Changes {
		if p.Target != target {
			target = p.Target
			w.Printf("\n%s\n", w.Style(term.Name, target))
		}
		switch p.State {
		case compare.Added:
			w.Printf("  %s  %s\n", w.Style(term.Good, "+ "+p.Name+" "+p.After), w.Style(term.Faint, p.Arch+", "+fact.Bytes(p.Bytes[1])))
		case compare.Gone:
			w.Printf("  %s  %s\n", w.Style(term.Bad, "- "+p.Name+" "+p.Before), w.Style(term.Faint, p.Arch))
		case compare.Rebuilt:
			w.Printf("  ~ %s %s  %s\n", p.Name, p.After, w.Style(term.Doubtful, "another file of the same version and release"))
		default:
			role := term.Plain
			if p.State == compare.Older {
				role = term.Bad
			}
			w.Printf("  ~ %s  %s → %s  %s\n", p.Name, p.Before, w.Style(role, p.After), w.Style(term.Faint, fmt.Sprintf("%s, %s → %s", p.Arch, fact.Bytes(p.Bytes[0]), fact.Bytes(p.Bytes[1]))))
		}
	}
	w.Printf("\n%s the same\n", fact.Count(c.Same, "package is", "packages are"))
}
