package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"ellwand.example/cli/term"
	"ellwand.example/core/build"
	"ellwand.example/core/document"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
	"ellwand.example/core/pack"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo"
	"ellwand.example/core/workspace"
)

// lintOptions are the flags of lint.
type lintOptions struct {
	all, fix, dry  bool
	format, since  string
	level, channel string
}

// formats of lint's output.
var lintFormats = []string{"text", "json", "sarif", "junit"}

func (a *program) lintCommand() *cobra.Command {
	var o lintOptions
	cmd := &cobra.Command{
		Use:   "lint RECIPE|PACKAGE|REPO...",
		Short: "Look for what will bite users",
		Long: `Look at recipes (by name, each with the packages that were built of it), packages
(names, files, or a folder of them) and repositories for mistakes and weaknesses.
Each finding has a code, a severity, a place and a remedy; ` + "`ellwand explain CODE`" + `
tells more, with examples. Errors make the exit status 1, warnings and hints do not.

A finding that is meant to be is waived in the recipe, with its reason. The table
[lint] of ellwand.toml says what a team wants to hear: a level (lenient, normal,
strict), severities of single rules, and rules that are off.

With --fix, what is mechanical about the remedies is done in the recipes: the
difference is shown, and then written.`,
		Example: `  ellwand lint tidegauge
  ellwand lint packages/*/*.ell
  ellwand lint --all --fix --dry-run
  ellwand lint packages/*/tidegauge@2.4.1-3.x86_64.ell --new-since tidegauge
  ellwand lint --all --format sarif > findings.sarif`,
		Args: arguments(func(_ *cobra.Command, args []string) error {
			switch {
			case o.all == (len(args) > 0):
				return errors.New("name recipes, packages or repositories, or give --all")
			case !slices.Contains(lintFormats, o.format):
				return fmt.Errorf("--format is %s, not %q", strings.Join(lintFormats, ", "), o.format)
			case o.level != "" && !slices.Contains(lint.Levels, o.level):
				return fmt.Errorf("--level is %s, not %q", strings.Join(lint.Levels, ", "), o.level)
			case o.dry && !o.fix:
				return errors.New("--dry-run goes with --fix")
			case o.since != "" && len(args) != 1:
				return errors.New("--new-since compares one package with another one")
			}
			return nil
		}),
		ValidArgsFunction: a.completeLinted,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.lint(cmd.Context(), args, o)
		},
	}
	cmd.Flags().BoolVar(&o.all, "all", false, "all recipes of the workspace, and the newest package of each name that it has built")
	cmd.Flags().StringVar(&o.format, "format", "text", "how findings are written: text, json, sarif or junit")
	cmd.Flags().StringVar(&o.since, "new-since", "", "only what is new since another `PACKAGE`: a file, or a name that is built or published")
	cmd.Flags().BoolVar(&o.fix, "fix", false, "mend the recipes where the remedy is mechanical")
	cmd.Flags().BoolVar(&o.dry, "dry-run", false, "with --fix: show the difference, and write nothing")
	cmd.Flags().StringVar(&o.level, "level", "", "lenient, normal or strict, in place of the workspace's level")
	a.channelFlag(cmd, &o.channel)
	cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(lintFormats, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("level", cobra.FixedCompletions(lint.Levels, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// completeLinted proposes what can be looked at.
func (a *program) completeLinted(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	names, _ := a.completeShown(cmd, args, word)
	repositories, _ := a.completeRepositories(cmd, args, word)
	return append(names, repositories...), cobra.ShellCompDirectiveDefault
}

// linted is what was looked at, and what was found.
type linted struct {
	subjects []string
	findings []fact.Finding
	broken   document.Problems // of recipes that cannot be read
	known    map[string]bool   // subjects
}

func (l *linted) add(subject string, findings []fact.Finding) {
	if !l.known[subject] {
		if l.known == nil {
			l.known = map[string]bool{}
		}
		l.known[subject] = true
		l.subjects = append(l.subjects, subject)
	}
	if l.findings == nil {
		l.findings = findings
		return
	}
	l.findings = append(l.findings, findings...)
}

func (a *program) lint(ctx context.Context, args []string, o lintOptions) error {
	w, err := a.openIfAny()
	if err != nil {
		return err
	}
	l := a.linter(ctx, w)
	if o.level != "" {
		l.Profile.Level = o.level
	}
	words, err := a.toLint(w, args, o.all)
	if err != nil {
		return err
	}
	found, err := a.lookAt(ctx, w, l, words, o)
	if err != nil {
		return err
	}
	if o.since != "" {
		before, err := a.lintBefore(ctx, l, o.since)
		if err != nil {
			return err
		}
		found.findings = lint.NewSince(found.findings, before)
	}
	if a.json {
		o.format = "json"
	}
	if err := a.printFindings(found, o.format); err != nil {
		return err
	}
	if o.fix {
		if err := a.fix(w, found.findings, o.dry); err != nil {
			return err
		}
	}
	switch {
	case len(found.broken) > 0:
		return found.broken
	case slices.ContainsFunc(found.findings, func(f fact.Finding) bool { return f.Reaches(fact.SeverityError) }):
		return statusError(statusFindings)
	}
	return nil
}

// linter returns a linter that knows what is known here.
func (a *program) linter(ctx context.Context, w *workspace.Workspace) *lint.Linter {
	if w == nil {
		return &lint.Linter{}
	}
	b := &build.Builder{Workspace: w, Fetcher: a.fetcher(ctx, w), Progress: a.progress}
	return b.Linter(ctx)
}

// toLint sorts out what words stand for.
type toLint struct {
	recipes      []string
	packages     []string // files
	repositories []string
}

func (a *program) toLint(w *workspace.Workspace, args []string, all bool) (t toLint, err error) {
	if all {
		if w == nil {
			return t, workspace.ErrNotFound
		}
		if t.recipes, err = w.Recipes(); err != nil {
			return t, err
		}
		files, err := packageFiles(w.Packages())
		t.packages = newestFiles(files)
		return t, err
	}
	for _, arg := range args {
		info, err := os.Stat(arg)
		_, configured := configuredRepository(w, arg)
		switch {
		case w != nil && !strings.Contains(arg, "/") && isRecipe(w, arg):
			t.recipes = append(t.recipes, arg)
		case strings.HasSuffix(arg, pack.Extension) && !isFolder(info), err == nil && info.Mode().IsRegular() && filepath.Base(arg) != recipe.FileName:
			t.packages = append(t.packages, arg)
		case err == nil && isFile(filepath.Join(arg, repo.PointerFile)) || fact.IsRemote(arg):
			t.repositories = append(t.repositories, arg)
		case err == nil && info.IsDir() && !isFile(filepath.Join(arg, recipe.FileName)):
			files, err := expand([]string{arg})
			if err != nil {
				return t, err
			}
			t.packages = append(t.packages, files...)
		case configured:
			t.repositories = append(t.repositories, arg)
		case w == nil:
			return t, workspace.ErrNotFound
		case !isRecipe(w, recipeName(arg)):
			// Perhaps it is a package by its name.
			file, _, err := builtPackage(w, arg)
			if err != nil {
				return t, err
			}
			if file != "" {
				t.packages = append(t.packages, workspace.Display(file))
				continue
			}
			t.recipes = append(t.recipes, recipeName(arg)) // which tells that there is none
		default:
			t.recipes = append(t.recipes, recipeName(arg))
		}
	}
	return t, nil
}

func isFolder(info os.FileInfo) bool { return info != nil && info.IsDir() }

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

func configuredRepository(w *workspace.Workspace, name string) (workspace.Repository, bool) {
	if w == nil {
		return workspace.Repository{}, false
	}
	r, ok := w.Settings.Repositories[name]
	return r, ok
}

func isRecipe(w *workspace.Workspace, name string) bool {
	names, err := w.Recipes()
	return err == nil && slices.Contains(names, name)
}

// packageFiles lists the package files in a folder.
func packageFiles(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	var files []string
	for _, e := range entries {
		if _, _, _, ok := pack.ParseFileName(e.Name()); ok {
			files = append(files, workspace.Display(filepath.Join(dir, e.Name())))
		}
	}
	return files, nil
}

// packagesOfTargets lists the package files in a directory that has one for
// each target.
func packagesOfTargets(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	var files []string
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		inside, err := packageFiles(filepath.Join(dir, e.Name()))
		if err != nil {
			return nil, err
		}
		files = append(files, inside...)
	}
	return files, nil
}

// newestFiles leaves the newest package of each name.
func newestFiles(files []string) []string {
	type newest struct {
		file  string
		facts pack.Facts
	}
	best := map[string]newest{}
	var unread []string
	for _, file := range files {
		p, err := pack.Open(file)
		if err != nil {
			unread = append(unread, file) // looking at it tells why
			continue
		}
		p.Close()
		if have, ok := best[p.Facts.Name]; !ok || have.facts.Full().Compare(p.Facts.Full()) < 0 {
			best[p.Facts.Name] = newest{file, p.Facts}
		}
	}
	return slices.DeleteFunc(slices.Clone(files), func(file string) bool {
		return !slices.Contains(unread, file) && !slices.ContainsFunc(slices.Collect(maps.Values(best)), func(n newest) bool { return n.file == file })
	})
}

// lookAt looks at everything that words stand for: recipes first, then
// packages, those of one recipe together, then repositories.
func (a *program) lookAt(ctx context.Context, w *workspace.Workspace, l *lint.Linter, t toLint, o lintOptions) (*linted, error) {
	found := &linted{}
	task := progress.Task(progress.None.Begin("", 0, ""))
	if n := len(t.recipes) + len(t.packages); n > 1 {
		task = a.progress.Begin("lint", int64(n), "recipes and packages")
	}
	defer task.End("done")
	for _, name := range t.recipes {
		r, err := w.Recipe(name)
		var problems document.Problems
		if errors.As(err, &problems) {
			found.broken = append(found.broken, problems...)
			continue
		}
		if err != nil {
			return nil, err
		}
		found.add(r.Name, l.Recipe(ctx, r))
		task.Advance(1)
		if !o.all {
			t.packages = append(t.packages, packagesOf(w, r, t.packages)...)
		}
	}
	facts, err := a.factsOf(ctx, t.packages)
	if err != nil {
		return nil, err
	}
	groups, failed := a.lintPackages(ctx, l, t.packages, facts, task)
	for _, err := range failed {
		if err != nil {
			return nil, err
		}
	}
	for i, group := range lint.Groups(facts) {
		for _, p := range group {
			found.add(facts[p].Identity(), nil)
		}
		for _, f := range groups[i] {
			found.add(f.Subject, []fact.Finding{f})
		}
	}
	for _, name := range t.repositories {
		r, ch, err := a.repository(w, name, o.channel)
		if err != nil {
			return nil, err
		}
		audits, err := r.Audit(ctx, ch, a.systems(ctx, w), a.progress)
		var damaged *repo.DamagedError
		var half *repo.HalfCopiedError
		if err != nil && !errors.As(err, &damaged) && !errors.As(err, &half) {
			return nil, err
		}
		v, err := r.Verify(ctx, a.progress)
		if err != nil {
			return nil, err
		}
		found.add(r.Storage.Where(), l.Repository(r.Storage.Where(), slices.Concat(repo.AuditFindings(audits), v.Findings())))
	}
	return found, nil
}

// packagesOf lists the packages that the workspace has made of a recipe as it
// is, without those that are known already.
func packagesOf(w *workspace.Workspace, r *recipe.Recipe, known []string) (files []string) {
	all, err := packageFiles(w.Packages())
	if err != nil {
		return nil
	}
	for _, file := range all {
		_, full, _, ok := pack.ParseFileName(filepath.Base(file))
		if !ok || !strings.HasSuffix(r.Full(), full) || slices.Contains(known, file) {
			continue
		}
		if p, err := pack.Open(file); err == nil {
			if p.Facts.Recipe == r.Name && p.Facts.Full().String() == r.Full() {
				files = append(files, file)
			}
			p.Close()
		}
	}
	return files
}

// factsOf reads what packages say of themselves.
func (a *program) factsOf(ctx context.Context, files []string) ([]pack.Facts, error) {
	out := make([]pack.Facts, len(files))
	for i, file := range files {
		p, err := a.openPackage(ctx, file)
		if err != nil {
			return nil, err
		}
		out[i] = p.Facts
		p.Close()
	}
	return out, nil
}

// lintPackages looks at packages, those of a recipe together, and returns the
// findings and the error of each group. No more files are open at once than
// are looked at.
func (a *program) lintPackages(ctx context.Context, l *lint.Linter, files []string, facts []pack.Facts, task progress.Task) (each [][]fact.Finding, failed []error) {
	groups := lint.Groups(facts)
	each, failed = make([][]fact.Finding, len(groups)), make([]error, len(groups))
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, group := range groups {
		g.Go(func() error {
			task.Say(facts[group[0]].Recipe)
			var opened []*pack.Package
			defer func() { closeAll(opened) }()
			for _, at := range group {
				p, err := a.openPackage(ctx, files[at])
				if err != nil {
					failed[i] = err
					return nil // the others are looked at all the same
				}
				opened = append(opened, p)
			}
			each[i], failed[i] = l.Together(ctx, opened)
			task.Advance(int64(len(group)))
			return nil
		})
	}
	g.Wait()
	return each, failed
}

func closeAll(opened []*pack.Package) {
	for _, p := range opened {
		p.Close()
	}
}

// lintBefore looks at the package that another is compared with.
func (a *program) lintBefore(ctx context.Context, l *lint.Linter, word string) ([]fact.Finding, error) {
	var p *pack.Package
	var err error
	// The one that was built last may be the one that is looked at.
	if w, _ := a.openIfAny(); w != nil && !packageFile(word) {
		p, err = a.publishedPackage(ctx, w, word)
	}
	if p == nil && err == nil {
		p, err = a.openPackage(ctx, word)
	}
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return l.Together(ctx, []*pack.Package{p})
}

// fix applies automatic fixes to recipes, and shows the differences first.
func (a *program) fix(w *workspace.Workspace, findings []fact.Finding, dry bool) error {
	if w == nil {
		return workspace.ErrNotFound
	}
	byRecipe := map[string][]fact.Finding{}
	var names []string
	for _, f := range findings {
		if !f.Fixable() {
			continue
		}
		name := filepath.Base(filepath.Dir(f.File))
		if f.File == "" {
			name = f.Recipe
		}
		if byRecipe[name] == nil {
			names = append(names, name)
		}
		byRecipe[name] = append(byRecipe[name], f)
	}
	fixed := 0
	for _, name := range names {
		if !isRecipe(w, name) {
			a.err.Printf("there is no recipe %s here, so its findings cannot be fixed\n", name)
			continue
		}
		r, err := w.Recipe(name)
		if err != nil {
			return err
		}
		m, err := lint.Fix(r, byRecipe[name], func(text []byte) (*recipe.Recipe, error) {
			return recipe.Parse(r.Doc.File, text, w.Target, w.Set)
		})
		if err != nil {
			return err
		}
		if len(m.Findings) == 0 {
			continue
		}
		a.err.Printf("\n")
		a.showFixed(udiff.Unified(r.Doc.File, r.Doc.File+" (fixed)", string(r.Doc.Data), string(m.Text)))
		fixed += len(m.Findings)
		if !dry {
			if err := renameio.WriteFile(filepath.Join(r.Dir, recipe.FileName), m.Text, 0o644); err != nil {
				return err
			}
		}
	}
	switch {
	case fixed == 0:
		a.err.Printf("no automatic fix is available for these findings\n")
	case dry:
		a.err.Printf("this would fix %s; nothing was written\n", fact.Count(fixed, "finding", "findings"))
	default:
		a.err.Printf("fixed %s; build again to check those in packages\n", fact.Count(fixed, "finding", "findings"))
	}
	return nil
}

// showFixed prints a difference to standard error: a program may be reading the
// findings.
func (a *program) showFixed(difference string) {
	for line := range strings.SplitSeq(strings.TrimSuffix(difference, "\n"), "\n") {
		switch {
		case strings.HasPrefix(line, "+"):
			line = a.err.Style(term.Good, line)
		case strings.HasPrefix(line, "-"):
			line = a.err.Style(term.Bad, line)
		}
		a.err.Printf("%s\n", line)
	}
}
