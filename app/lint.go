package app

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/lint"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/pattern"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

// Linter returns a linter that knows what the workspace knows: its configuration,
// the system of its target, what is built and published, and what the last traced
// builds used. Outside of a workspace it knows nothing.
func (a *App) Linter(ctx context.Context) *lint.Linter {
	if a.Workspace == nil {
		return &lint.Linter{}
	}
	b := &build.Builder{Resolver: &satisfy.Resolver{Workspace: a.Workspace, Progress: a.Progress}, Fetcher: a.Fetcher(ctx)}
	return a.linterOf(ctx, b)
}

func (a *App) linterOf(ctx context.Context, b *build.Builder) *lint.Linter {
	l := &lint.Linter{Profile: a.Workspace.Settings.Lint, Target: a.Workspace.Target.Name, Published: a.publishedBefore,
		Used: func(r *recipe.Recipe) *lint.Usage { return usageOf(b, r) },
		Licenses: func(ctx context.Context, r *recipe.Recipe) map[string]string {
			return a.licenseTexts(ctx, b.Fetcher.Cache, r)
		},
	}
	system, err := build.System(ctx, a.Workspace, a.Progress)
	if err != nil {
		return l // nothing can be looked up in a system that is not here
	}
	l.System = probe.OpenFor(system, a.Workspace.Cross())
	l.Meets = b.Meets(ctx, l.System)
	return l
}

// usageOf returns what the last traced build of a recipe used, unless the recipe
// was changed since.
func usageOf(b *build.Builder, r *recipe.Recipe) *lint.Usage {
	report := b.LastUsage(r)
	if report == nil {
		return nil
	}
	u := &lint.Usage{Unused: report.Unused}
	for _, n := range report.Undeclared {
		u.Undeclared = append(u.Undeclared, n.Need)
	}
	return u
}

// publishedBefore opens the newest published package of the same name that is
// older, in the enabled repositories on this machine; nil if there is none.
// Servers are not asked: lint works without a network.
func (a *App) publishedBefore(ctx context.Context, f ell.Facts) (*ell.Package, error) {
	var best *index.Record
	var dir string
	for _, name := range a.Workspace.RepositoryNames() {
		o, err := a.Repository(name, "")
		if err != nil || o.Disabled {
			continue // other commands report what is wrong with it
		}
		local, ok := o.Storage.LocalPath()
		if !ok {
			continue
		}
		records, err := o.Named(ctx, o.Channel, f.Target, f.Name)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			continue // nothing was published yet, or it cannot be read
		}
		for i := range records {
			c := &records[i]
			if c.Arch == f.Arch && c.Full().Compare(f.Full()) < 0 && (best == nil || best.Full().Compare(c.Full()) < 0) {
				best, dir = c, local
			}
		}
	}
	if best == nil {
		return nil, nil
	}
	p, err := ell.Open(filepath.Join(dir, filepath.FromSlash(best.File)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return p, err
}

// licenseName matches the names of files with license texts.
var licenseName = pattern.New(`(?i)^(licen[cs]e|copying|unlicense)([-._].*)?$`)

const (
	maxLicense        = 64 << 10 // bytes of a license text that are read
	maxLicenseArchive = 64 << 20 // bytes of an archive that is searched for license texts
)

// licenseTexts reads the license texts of a recipe's sources, as far as these are
// in the cache, by name. The texts of an archive are kept under its digest.
func (a *App) licenseTexts(ctx context.Context, cache source.Cache, r *recipe.Recipe) map[string]string {
	out := map[string]string{}
	for _, s := range r.Sources {
		if s.File != "" {
			if data, err := r.ReadBeside(s.File); err == nil && licenseName.MatchString(filepath.Base(s.File)) {
				out[s.File] = string(data[:min(len(data), maxLicense)])
			}
			continue
		}
		if s.SHA256 == "" || s.Into != "" || !cache.Has(s.SHA256) {
			continue
		}
		name := source.FileName(s)
		if u, err := url.Parse(s.URL); err == nil && u.Path != "" {
			name = filepath.Base(u.Path)
		}
		for file, text := range a.archiveLicenses(ctx, cache.Path(s.SHA256), s.SHA256) {
			out[name+": "+file] = text
		}
	}
	return out
}

func (a *App) archiveLicenses(ctx context.Context, archive, digest string) map[string]string {
	kept := a.Workspace.State("licenses", digest+".json")
	texts := map[string]string{}
	if data, err := os.ReadFile(kept); err == nil && json.Unmarshal(data, &texts) == nil {
		return texts
	}
	if info, err := os.Stat(archive); err != nil || info.Size() > maxLicenseArchive {
		return nil
	}
	texts, err := source.Texts(ctx, archive, licenseName.MatchString, maxLicense)
	if err != nil {
		return nil // fetching and unpacking report it
	}
	// If this cannot be written, the archive is read again next time.
	if data, err := json.Marshal(texts); err == nil && os.MkdirAll(filepath.Dir(kept), 0o755) == nil {
		_ = files.Write(kept, data)
	}
	return texts
}

// LintedGroup is what lint found in the packages of one recipe and version.
type LintedGroup struct {
	Packages []int // their indexes in the list that was given
	Findings []fact.Finding
	Err      error // a package could not be read
}

// lintPackages lints packages, those of a recipe together. No more packages are
// open at the same time than are being linted.
func (a *App) lintPackages(ctx context.Context, l *lint.Linter, files []string, facts []ell.Facts, task progress.Task) []LintedGroup {
	var out []LintedGroup
	for _, group := range lint.Groups(facts) {
		out = append(out, LintedGroup{Packages: group})
	}
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range out {
		group := &out[i]
		g.Go(func() error {
			task.Say(facts[group.Packages[0]].Recipe)
			var opened []*ell.Package
			defer func() {
				for _, p := range opened {
					p.Close()
				}
			}()
			for _, at := range group.Packages {
				p, err := a.OpenPackage(ctx, files[at])
				if err != nil {
					group.Err = err
					return nil // the other groups are linted nevertheless
				}
				opened = append(opened, p)
			}
			group.Findings, group.Err = l.Together(ctx, opened)
			task.Advance(int64(len(group.Packages)))
			return nil
		})
	}
	g.Wait()
	return out
}

// LintTargets are what to lint.
type LintTargets struct {
	Recipes      []string
	Packages     []string // files or URLs
	Repositories []string // names, paths or URLs
	// RecipesOnly leaves out the packages that the workspace has made of Recipes.
	RecipesOnly bool
	Channel     string // of the repositories; empty for the configured ones
}

// AllLintTargets are all recipes of the workspace, and the newest package of each
// name that it has built.
func (a *App) AllLintTargets() (LintTargets, error) {
	if a.Workspace == nil {
		return LintTargets{}, workspace.ErrNotFound
	}
	t := LintTargets{RecipesOnly: true}
	var err error
	if t.Recipes, err = a.Workspace.Recipes(); err != nil {
		return t, err
	}
	built, _, err := packageFiles(a.Workspace.Packages())
	t.Packages = newestFiles(built)
	return t, err
}

// ClassifyLintTargets finds out what words mean: recipes, packages, directories of
// packages, or repositories.
func (a *App) ClassifyLintTargets(words []string) (t LintTargets, err error) {
	for _, word := range words {
		info, statErr := os.Stat(word)
		name := RecipeName(word)
		switch {
		case !strings.Contains(word, "/") && a.isRecipe(word):
			t.Recipes = append(t.Recipes, word)
		case strings.HasSuffix(word, ell.Extension) && (statErr != nil || !info.IsDir()), statErr == nil && info.Mode().IsRegular() && filepath.Base(word) != recipe.FileName:
			t.Packages = append(t.Packages, word)
		case isFile(filepath.Join(word, storage.PointerFile)) || fact.IsRemote(word):
			t.Repositories = append(t.Repositories, word)
		case statErr == nil && info.IsDir() && !isFile(filepath.Join(word, recipe.FileName)):
			inside, err := a.ExpandPackages([]string{word})
			if err != nil {
				return t, err
			}
			t.Packages = append(t.Packages, inside...)
		case a.IsConfigured(word):
			t.Repositories = append(t.Repositories, word)
		case a.Workspace == nil:
			return t, workspace.ErrNotFound
		case a.isRecipe(name):
			t.Recipes = append(t.Recipes, name)
		default:
			file, _, err := a.BuiltPackage(word)
			if err != nil {
				return t, err
			}
			if file == "" {
				t.Recipes = append(t.Recipes, name) // reading it reports that it does not exist
				continue
			}
			t.Packages = append(t.Packages, workspace.Display(file))
		}
	}
	return t, nil
}

func (a *App) isRecipe(name string) bool {
	if a.Workspace == nil {
		return false
	}
	names, err := a.Workspace.Recipes()
	return err == nil && slices.Contains(names, name)
}

// RecipeName returns the name of a recipe that is given by its name, or by the path
// of its directory or file.
func RecipeName(word string) string {
	word = filepath.Clean(word)
	if filepath.Base(word) == recipe.FileName {
		word = filepath.Dir(word)
	}
	return filepath.Base(word)
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Linted is what was linted, and what was found.
type Linted struct {
	Subjects []string // recipes, identities of packages, places of repositories
	Findings []fact.Finding
	Broken   document.Problems // of recipes that cannot be read

	known map[string]bool // subjects
}

func (l *Linted) subject(name string) {
	if !l.known[name] {
		l.known[name] = true
		l.Subjects = append(l.Subjects, name)
	}
}

// add appends findings, whose subjects may be new. There can be very many.
func (l *Linted) add(findings []fact.Finding) {
	for i := range findings {
		l.subject(findings[i].Subject)
	}
	l.Findings = slices.Concat(l.Findings, findings)
}

// Lint checks recipes first, then packages, those of one recipe together, then
// repositories.
func (a *App) Lint(ctx context.Context, l *lint.Linter, t LintTargets) (*Linted, error) {
	found := &Linted{known: map[string]bool{}}
	task := progress.Task(progress.None.Begin("", 0, ""))
	if n := len(t.Recipes) + len(t.Packages); n > 1 {
		task = a.Progress.Begin("lint", int64(n), "recipes and packages")
	}
	defer task.End("done")
	for _, name := range t.Recipes {
		r, err := a.Workspace.Recipe(name)
		var problems document.Problems
		if errors.As(err, &problems) {
			found.Broken = append(found.Broken, problems...)
			continue
		}
		if err != nil {
			return nil, err
		}
		found.subject(r.Name)
		found.add(l.Recipe(ctx, r))
		task.Advance(1)
		if !t.RecipesOnly {
			t.Packages = append(t.Packages, a.packagesOf(r, t.Packages)...)
		}
	}
	facts := make([]ell.Facts, len(t.Packages))
	for i, file := range t.Packages {
		p, err := a.OpenPackage(ctx, file)
		if err != nil {
			return nil, err
		}
		facts[i] = p.Facts
		p.Close()
	}
	for _, g := range a.lintPackages(ctx, l, t.Packages, facts, task) {
		if g.Err != nil {
			return nil, g.Err
		}
		for _, at := range g.Packages {
			found.subject(facts[at].Identity())
		}
		found.add(g.Findings)
	}
	for _, name := range t.Repositories {
		o, err := a.Repository(name, t.Channel)
		if err != nil {
			return nil, err
		}
		findings, err := a.checkRepository(ctx, o)
		if err != nil {
			return nil, err
		}
		found.subject(o.Storage.Where())
		found.add(l.Repository(o.Storage.Where(), findings))
	}
	return found, nil
}

// checkRepository audits a channel and verifies the repository.
func (a *App) checkRepository(ctx context.Context, o Opened) ([]fact.Finding, error) {
	audits, err := o.Audit(ctx, o.Channel, a.Systems(ctx), a.Progress)
	var damaged *index.DamagedError
	var half *repo.HalfCopiedError
	if err != nil && !errors.As(err, &damaged) && !errors.As(err, &half) {
		return nil, err // the verification lists damage
	}
	v, err := o.Verify(ctx, a.Progress)
	return slices.Concat(gate.AuditFindings(audits), v.Findings()), err
}

// packagesOf lists the packages that the workspace has made of a recipe in its
// present version, without those that are known.
func (a *App) packagesOf(r *recipe.Recipe, known []string) (out []string) {
	all, _, err := packageFiles(a.Workspace.Packages())
	if err != nil {
		return nil
	}
	for _, file := range all {
		_, full, _, ok := ell.ParseFileName(filepath.Base(file))
		if !ok || !strings.HasSuffix(r.Full(), full) || slices.Contains(known, file) {
			continue
		}
		if p, err := ell.Open(file); err == nil {
			if p.Facts.Recipe == r.Name && p.Facts.Full().String() == r.Full() {
				out = append(out, file)
			}
			p.Close()
		}
	}
	return out
}

// LintBefore lints the package that another is compared with: the published one of
// a name, or else the one that OpenPackage finds.
func (a *App) LintBefore(ctx context.Context, l *lint.Linter, word string) ([]fact.Finding, error) {
	var p *ell.Package
	var err error
	// The package that was built last may be the one that is linted.
	if a.Workspace != nil && !IsPackageFile(word) {
		p, err = a.PublishedPackage(ctx, word)
	}
	if p == nil && err == nil {
		p, err = a.OpenPackage(ctx, word)
	}
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return l.Together(ctx, []*ell.Package{p})
}

// FixedRecipe is a recipe in which findings were fixed.
type FixedRecipe struct {
	Recipe *recipe.Recipe // as it was
	lint.Fixed
}

// Fix applies the automatic fixes of findings to the workspace's recipes. It
// writes nothing; WriteFixed does. Unknown lists recipes of packages that this
// workspace does not have.
func (a *App) Fix(findings []fact.Finding) (fixed []FixedRecipe, unknown []string, err error) {
	if a.Workspace == nil {
		return nil, nil, workspace.ErrNotFound
	}
	byRecipe := map[string][]fact.Finding{}
	var names []string
	for _, f := range findings {
		if !f.Fixable() {
			continue
		}
		name := f.Recipe
		if f.File != "" {
			name = filepath.Base(filepath.Dir(f.File))
		}
		if byRecipe[name] == nil {
			names = append(names, name)
		}
		byRecipe[name] = append(byRecipe[name], f)
	}
	for _, name := range names {
		if !a.isRecipe(name) {
			unknown = append(unknown, name)
			continue
		}
		r, err := a.Workspace.Recipe(name)
		if err != nil {
			return nil, nil, err
		}
		done, err := lint.Fix(r, byRecipe[name], func(text []byte) (*recipe.Recipe, error) {
			return recipe.Parse(r.Doc.File, text, a.Workspace.Target, a.Workspace.Set)
		})
		if err != nil {
			return nil, nil, err
		}
		if len(done.Findings) > 0 {
			fixed = append(fixed, FixedRecipe{r, done})
		}
	}
	return fixed, unknown, nil
}

// WriteFixed writes the fixed text of a recipe.
func WriteFixed(f FixedRecipe) error {
	return files.WriteDurable(filepath.Join(f.Recipe.Dir, recipe.FileName), f.Text)
}
