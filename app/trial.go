package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/recipe"
	"ellwand.example/core/root"
	"ellwand.example/core/staging"
	"ellwand.example/core/trial"
)

// TrialOptions say how packages are tried.
type TrialOptions struct {
	System  string // as in RootSettings
	Channel string // of the repositories; empty for the configured ones
	Keep    string // a directory for the root, which stays; empty for none
	// Shell, if set, opens a shell on this terminal in the root, before the removal.
	Shell *os.File
}

// TrialReport is the result of a trial.
type TrialReport struct {
	Packages []string      `json:"packages"` // identities
	System   string        `json:"system"`
	Checks   []trial.Check `json:"checks"`
}

// Failed lists the checks that failed.
func (r TrialReport) Failed() []trial.Check {
	return slices.DeleteFunc(slices.Clone(r.Checks), func(c trial.Check) bool { return c.State != trial.Failed })
}

// Trial rehearses packages in a throwaway root: their installation with everything that
// they need, the checks of package trial, an upgrade from the published version with
// edited configuration, and the removal. Words are packages as for an installation, or
// recipes. The error is of what prevents a trial; what fails in one is in the report.
func (a *App) Trial(ctx context.Context, words []string, o TrialOptions) (report TrialReport, err error) {
	if words, err = a.trialWords(words); err != nil {
		return report, err
	}
	dir, remove, err := a.trialDir(o.Keep)
	if err != nil {
		return report, err
	}
	defer func() { err = errors.Join(err, remove()) }()
	t := &rehearsal{app: a, options: o, words: words, dir: dir, report: &report}
	err = t.run(ctx)
	if err == nil && a.Workspace != nil {
		for _, p := range t.asked {
			if err := a.saveTrial(p.Name, p.Identity(), p.SHA256, report); err != nil {
				return report, err
			}
		}
	}
	slices.SortStableFunc(report.Checks, func(x, y trial.Check) int { return cmp.Compare(t.order(x.Package), t.order(y.Package)) })
	return report, err
}

// trialWords replaces recipes by the packages that they make.
func (a *App) trialWords(words []string) ([]string, error) {
	var out []string
	for _, word := range words {
		if !a.isRecipe(word) {
			out = append(out, word)
			continue
		}
		r, err := a.Workspace.Recipe(word)
		if err != nil {
			return nil, err
		}
		out = append(out, r.PackageNames()...)
	}
	return out, nil
}

// trialDir is where the roots of a trial are.
func (a *App) trialDir(keep string) (dir string, remove func() error, err error) {
	if keep != "" {
		if err := os.MkdirAll(keep, 0o755); err != nil {
			return "", nil, err
		}
		return keep, func() error { return nil }, nil
	}
	above := ""
	if a.Workspace != nil {
		if err := a.Workspace.MakeState(); err != nil {
			return "", nil, err
		}
		above = a.Workspace.State("trials")
		if err := os.MkdirAll(above, 0o755); err != nil {
			return "", nil, err
		}
	}
	dir, err = os.MkdirTemp(above, "trial-")
	return dir, func() error { return layer.RemoveAll(dir) }, err
}

// rehearsal is one trial under way.
type rehearsal struct {
	app     *App
	options TrialOptions
	words   []string
	dir     string
	report  *TrialReport
	asked   []root.Installed // the packages that are tried
}

// order is where a package is among those that are tried.
func (t *rehearsal) order(name string) int {
	return slices.IndexFunc(t.asked, func(p root.Installed) bool { return p.Name == name })
}

func (t *rehearsal) add(checks ...trial.Check) { t.report.Checks = append(t.report.Checks, checks...) }

func (t *rehearsal) newRoot(ctx context.Context, name string) (*root.Root, error) {
	return t.app.CreateRoot(ctx, filepath.Join(t.dir, name), RootSettings{System: t.options.System, Channel: t.options.Channel})
}

func (t *rehearsal) run(ctx context.Context) error {
	r, err := t.newRoot(ctx, "root")
	if err != nil {
		return err
	}
	defer r.Close()
	t.report.System = r.Settings.System
	before, err := contentsOf(r.Dir)
	if err != nil {
		return err
	}
	task := t.app.Progress.Begin("trial: install", 0, "")
	installed, err := t.install(ctx, r)
	task.End("")
	if err != nil || !installed {
		return err
	}
	task = t.app.Progress.Begin("trial: checks", 0, "")
	err = t.check(ctx, r)
	task.End("")
	if err != nil {
		return err
	}
	if t.options.Shell != nil {
		if err := t.app.RunInRoot(ctx, r, nil, os.Stdout, t.options.Shell); err != nil {
			return err
		}
	}
	task = t.app.Progress.Begin("trial: upgrade and removal", 0, "")
	defer task.End("")
	if err := t.upgrades(ctx); err != nil || t.options.Keep != "" {
		return err
	}
	return t.remove(ctx, r, before)
}

// install installs the packages; ok is false if they cannot be.
func (t *rehearsal) install(ctx context.Context, r *root.Root) (ok bool, err error) {
	began := time.Now()
	result, err := t.app.ChangeRoot(ctx, r, RootChange{Action: "install", Install: t.words})
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	check := trial.Check{Package: strings.Join(t.words, ", "), Name: trial.Install, State: trial.Passed, Time: time.Since(began)}
	if err != nil {
		var unsolved *solve.NoAnswerError
		var old *SymbolsError
		if isMachine(err) || result.Plan == nil && !errors.As(err, &unsolved) && !errors.As(err, &old) {
			return false, err // nothing was learned about the packages
		}
		check = failedChange(check, err)
	}
	if result.Entry == nil {
		t.add(check)
		return false, nil
	}
	for _, c := range result.Entry.Changes {
		if c.To != nil && c.To.Asked {
			t.asked = append(t.asked, *c.To)
			t.report.Packages = append(t.report.Packages, c.To.Identity())
		}
	}
	others := len(result.Entry.Changes) - len(t.asked)
	for _, p := range t.asked {
		one := check
		one.Package = p.Name
		if one.State == trial.Passed && others > 0 {
			one.Message = fmt.Sprintf("with %s that %s needed", fact.Count(others, "package", "packages"), verb(others, "is", "are"))
		}
		t.add(one)
	}
	return true, nil
}

// isMachine reports whether an error is of the machine, so that nothing was learned
// about the packages.
func isMachine(err error) bool {
	var refused *sandbox.RefusedError
	var setup *sandbox.SetupError
	return errors.As(err, &refused) || errors.As(err, &setup)
}

// failedChange makes a check of a change that failed.
func failedChange(c trial.Check, err error) trial.Check {
	c.State, c.Message = trial.Failed, err.Error()
	var script *root.ScriptError
	var unfit *root.UnfitError
	var unsolved *solve.NoAnswerError
	switch {
	case errors.As(err, &script):
		c.Message, c.Command, c.Output = script.Error(), script.Call.Script, script.Call.Output
		c.Remedy = "correct the script; it has to work in a system that is not running, and more than once"
	case errors.As(err, &unsolved):
		c.Message = strings.Join(unsolved.Sentences(), "\n")
	case errors.As(err, &unfit):
		c.Remedy = unfit.Problems[0].Remedy
	}
	return c
}

// check makes the checks of each package.
func (t *rehearsal) check(ctx context.Context, r *root.Root) error {
	runner, err := t.app.rootRunner(r)
	if err != nil {
		return err
	}
	defer runner.Close()
	tree, err := os.OpenRoot(r.Dir)
	if err != nil {
		return err
	}
	defer tree.Close()
	c := &trial.Checker{Tree: tree}
	if dir := r.Settings.SystemDir(); dir != "" {
		if c.System, err = os.OpenRoot(dir); err != nil {
			return err
		}
		defer c.System.Close()
	}
	seen := map[string]bool{} // recipes
	for _, p := range t.asked {
		rec, err := r.Record(p)
		if err != nil {
			return err
		}
		s := trial.Subject{Facts: rec.Facts, Layout: rec.Layout, At: rec.At, First: !seen[rec.Facts.Recipe]}
		seen[rec.Facts.Recipe] = true
		if s.Settings, err = t.settings(ctx, r, p); err != nil {
			return err
		}
		c.Sandbox = trialSandbox{runner, []string{"ELL_NAME=" + rec.Facts.Name, "ELL_VERSION=" + rec.Facts.Version}}
		checks, err := c.Check(ctx, s)
		t.add(checks...)
		if err != nil {
			return err
		}
	}
	return nil
}

// settings reads what the recipe in a package says about its trial.
func (t *rehearsal) settings(ctx context.Context, r *root.Root, p root.Installed) (trial.Settings, error) {
	u := &supply{app: t.app, root: r}
	defer u.Close()
	in, err := u.find(ctx, p)
	if err != nil || in.Package == nil {
		return trial.Settings{}, err
	}
	text, ok := in.Package.Meta(recipe.FileName)
	if !ok {
		return trial.Settings{}, nil
	}
	f := in.Package.Facts
	// A recipe with mistakes has been built by another version: what can be read of it counts.
	rec, _ := recipe.Parse(recipe.FileName, text, recipe.Target{Name: f.Target, Arch: f.Arch}, in.Package.Build.Options)
	if rec == nil {
		return trial.Settings{}, nil
	}
	return trial.Settings{Run: rec.Trial.Run, Commands: rec.Trial.Commands, Skip: rec.Trial.Skip}, nil
}

// trialSandbox runs checks with the root as a system that cannot be written to.
type trialSandbox struct {
	*RootRunner
	env []string
}

func (s trialSandbox) Run(ctx context.Context, script string, limit time.Duration) (trial.Result, error) {
	n, err := s.check(ctx)
	if err != nil {
		return trial.Result{}, err
	}
	out := &tail{}
	c := sandbox.Command{Name: "trial", Script: script, Dir: sandbox.TreeDir, Env: slices.Concat(scriptEnv, s.env), Output: out, Limits: sandbox.Limits{Time: limit, Processes: 1024, Memory: 2 << 30}}
	dir, err := s.temp("check")
	if err != nil {
		return trial.Result{}, err
	}
	for name, to := range map[string]*string{"files": &c.Files, "upper": &c.Tree.Upper, "work": &c.Tree.Work} {
		*to = filepath.Join(dir, name)
		if err := os.Mkdir(*to, 0o755); err != nil {
			return trial.Result{}, err
		}
	}
	switch {
	case s.settings.System == root.SystemNone:
		n.System = s.dir
	case n.Copies:
		return trial.Result{}, &sandbox.RefusedError{Reason: "overlay mounts are unavailable, and the root stands on a system"}
	default:
		if n.System = s.settings.SystemDir(); n.System == "/" {
			n.System = ""
		}
		c.Over = []string{s.dir}
	}
	_, err = n.Run(ctx, c)
	r := trial.Result{Output: out.String()}
	var failed *sandbox.ExitError
	if errors.As(err, &failed) {
		r.Status, r.Signal, r.Limit = failed.Status, failed.Signal, failed.Limit
		err = nil
	}
	return r, errors.Join(err, layer.RemoveAll(dir))
}

// editMark is added to configuration before an upgrade.
const editMark = "# edited in a trial"

// upgrades installs the published version of each package, edits its configuration, and
// upgrades it.
func (t *rehearsal) upgrades(ctx context.Context) error {
	for _, p := range t.asked {
		check := trial.Check{Package: p.Name, Name: trial.Upgrade}
		began := time.Now()
		old, err := t.older(ctx, p)
		if err != nil {
			return err
		}
		if old == "" {
			check.State, check.Message = trial.Skipped, "no other version is published"
			t.add(check)
			continue
		}
		check.Subject = "from " + old
		check, err = t.upgrade(ctx, check, p, old)
		if err != nil {
			return err
		}
		check.Time = time.Since(began)
		t.add(check)
	}
	return nil
}

// older is the newest published version of a package that is not the one that is tried;
// empty if there is none.
func (t *rehearsal) older(ctx context.Context, p root.Installed) (string, error) {
	r, err := root.Open(filepath.Join(t.dir, "root"))
	if err != nil {
		return "", err
	}
	defer r.Close()
	u := &supply{app: t.app, root: r, from: map[*solve.Package]origin{}}
	defer u.Close()
	if err := u.addPublished(ctx); err != nil {
		return "", err
	}
	var best *solve.Package
	for _, c := range u.all {
		if c.Name == p.Name && c.Full.Compare(p.Full()) < 0 && (best == nil || best.Full.Compare(c.Full) < 0) {
			best = c
		}
	}
	if best == nil {
		return "", nil
	}
	return best.Full.String(), nil
}

func (t *rehearsal) upgrade(ctx context.Context, check trial.Check, p root.Installed, old string) (trial.Check, error) {
	check.State = trial.Passed
	r, err := t.newRoot(ctx, "upgrade-"+p.Name)
	if err != nil {
		return check, err
	}
	defer r.Close()
	_, err = t.app.ChangeRoot(ctx, r, RootChange{Action: "install", Install: []string{p.Name + "@" + old}})
	if ctx.Err() != nil {
		return check, context.Cause(ctx)
	}
	var script *root.ScriptError
	if err != nil && !errors.As(err, &script) { // what is published may fail; the upgrade may not
		check.State, check.Message = trial.Skipped, "the published version cannot be installed: "+err.Error()
		return check, nil
	}
	edited, err := t.editConfig(r, p.Name)
	if err != nil {
		return check, err
	}
	word := p.Name + "@" + p.Full().String()
	if i := slices.IndexFunc(t.words, func(w string) bool { return IsPackageFile(w) && strings.HasPrefix(filepath.Base(w), p.Name+"@") }); i >= 0 {
		word = t.words[i]
	}
	result, err := t.app.ChangeRoot(ctx, r, RootChange{Action: "upgrade", Install: []string{word}})
	if ctx.Err() != nil {
		return check, context.Cause(ctx)
	}
	if err != nil {
		return failedChange(check, err), nil
	}
	conflicts := 0
	for _, c := range result.Entry.Config {
		if c.Outcome == root.ConfigConflict {
			conflicts++
		}
	}
	for _, name := range edited {
		data, err := os.ReadFile(filepath.Join(r.Dir, name))
		if err != nil || !strings.Contains(string(data), editMark) {
			check.State, check.Message = trial.Failed, fmt.Sprintf("an edit of %s was lost", name)
			check.Remedy = "its path has to stay the same, and its kind has to be config in both versions"
			return check, nil
		}
	}
	if len(edited) > 0 {
		check.Message = fmt.Sprintf("%s edited, all edits kept", fact.Count(len(edited), "configuration file", "configuration files"))
		if conflicts > 0 {
			check.Message += fmt.Sprintf(", %d with the new default beside", conflicts)
		}
	}
	return check, nil
}

// editConfig edits the configuration of a package, and returns the paths.
func (t *rehearsal) editConfig(r *root.Root, name string) ([]string, error) {
	s, err := r.State()
	if err != nil {
		return nil, err
	}
	p, ok := s.Find(name)
	if !ok {
		return nil, nil
	}
	rec, err := r.Record(p)
	if err != nil {
		return nil, err
	}
	tree, err := os.OpenRoot(r.Dir)
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	var edited []string
	for _, e := range rec.Layout {
		if e.Kind != fact.KindConfig || e.Type != staging.File {
			continue
		}
		at := strings.TrimPrefix(rec.At(e.Path), "/")
		f, err := tree.OpenFile(at, os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			return nil, err
		}
		_, err = f.WriteString(editMark + "\n")
		if err = errors.Join(err, f.Close()); err != nil {
			return nil, err
		}
		edited = append(edited, at)
	}
	return edited, nil
}

// remove removes everything, and lists what is left behind.
func (t *rehearsal) remove(ctx context.Context, r *root.Root, before map[string]bool) error {
	began := time.Now()
	s, err := r.State()
	if err != nil {
		return err
	}
	kept := map[string]bool{}
	for _, p := range s.Packages {
		rec, err := r.Record(p)
		if err != nil {
			return err
		}
		for _, e := range rec.Layout {
			if e.Kind == fact.KindState || e.Kind == fact.KindConfig {
				kept[rec.At(e.Path)] = true
			}
		}
	}
	_, err = t.app.ChangeRoot(ctx, r, RootChange{Action: "remove", Remove: s.Names()})
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	after, errRead := contentsOf(r.Dir)
	if errRead != nil {
		return errRead
	}
	var left []string
	for p := range after {
		if !before[p] && !kept[p] && !allowedLeft(p, kept) {
			left = append(left, p)
		}
	}
	slices.Sort(left)
	for _, p := range t.asked {
		check := trial.Check{Package: p.Name, Name: trial.Remove, State: trial.Passed, Time: time.Since(began)}
		switch {
		case err != nil:
			check = failedChange(check, err)
		case len(left) > 0 && p.Name == t.asked[0].Name:
			check.State, check.Message = trial.Failed, fmt.Sprintf("%s left behind", fact.Count(len(left), "path is", "paths are"))
			check.Output = strings.Join(left, "\n")
			check.Remedy = "what scripts create has to be in the layout with kind state or cache, or be removed by post-remove"
		}
		t.add(check)
	}
	return nil
}

// ownFiles are what installing packages leaves in a root.
var ownFiles = []string{"/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow", "/etc/.pwd.lock", "/etc/ld.so.cache"}

// allowedLeft reports whether a path may be left behind: accounts and databases, and what
// is in a directory of state.
func allowedLeft(p string, kept map[string]bool) bool {
	if slices.Contains(ownFiles, p) || strings.HasSuffix(p, root.DefaultSuffix) {
		return true
	}
	for dir := filepath.Dir(p); dir != "/"; dir = filepath.Dir(dir) {
		if kept[dir] {
			return true
		}
	}
	return false
}

// contentsOf lists the files and links in a root, without Ellwand's own and without
// caches that programs refresh.
func contentsOf(dir string) (map[string]bool, error) {
	out := map[string]bool{}
	err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := strings.TrimPrefix(p, dir)
		if name == "/"+root.StateDir || name == "/var/cache/ldconfig" {
			return fs.SkipDir
		}
		if !d.IsDir() {
			out[name] = true
		}
		return nil
	})
	return out, err
}
