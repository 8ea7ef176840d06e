// Package build makes packages from recipes. A build runs the steps unpack,
// prepare, build, test, stage and pack in this order; a step without a script
// is passed over. What a build depends on is gathered into keys: while the
// key of everything up to the stage step stays the same, that work is not
// done again, and while the whole key does, nothing is.
package build

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"ellwand.example/core/layout"
	"ellwand.example/core/pack"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/sandbox"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

// Version is Ellwand's own version, recorded in packages.
const Version = "0.1.0"

// Builder builds the recipes of one workspace.
type Builder struct {
	Workspace *workspace.Workspace
	Fetcher   *source.Fetcher
	Runner    sandbox.Runner
	Progress  progress.Sink
}

// Options choose how a build goes.
type Options struct {
	Again bool   // do everything, even where nothing changed
	Until string // the last step to run; empty for all
}

// Result is what came of a build.
type Result struct {
	Recipe   string         `json:"recipe"`
	Version  string         `json:"version"`
	State    string         `json:"state"` // one of the states below
	Packages []pack.Written `json:"packages"`
	Steps    []StepResult   `json:"steps"`
	Logs     string         `json:"logs,omitempty"` // the folder with a log for each step
	Work     string         `json:"work,omitempty"` // the work tree, when the build stopped before pack
}

// States of a result.
const (
	Built     = "built"
	Repacked  = "packed again"
	Unchanged = "unchanged"
	Stopped   = "stopped" // as Options.Until asked
)

// StepResult is one step that ran.
type StepResult struct {
	Step    string  `json:"step"`
	Seconds float64 `json:"seconds"`
	Reused  bool    `json:"reused,omitempty"` // done by an earlier build
	Skipped bool    `json:"skipped,omitempty"`
}

// StepError is a step whose script failed.
type StepError struct {
	Recipe  string   `json:"recipe"`
	Step    string   `json:"step"`
	File    string   `json:"file"`             // of the recipe
	Line    int      `json:"line"`             // in it, of the statement that failed; 0 if unknown
	Command string   `json:"command"`          // that line
	Method  string   `json:"method,omitempty"` // that wrote the script, where the recipe did not
	Cause   string   `json:"cause"`            // how the script ended
	Tail    []string `json:"tail"`             // the log's last lines
	Log     string   `json:"log"`
}

func (e *StepError) Error() string {
	return fmt.Sprintf("%s: step %s %s (log: %s)", e.Recipe, e.Step, e.Cause, e.Log)
}

// PackError is a staged tree that does not fit the recipe's layouts.
type PackError struct {
	Recipe   string
	Mismatch *layout.Mismatch
}

func (e *PackError) Error() string { return e.Recipe + ": " + e.Mismatch.Error() }

// MissingError lists build needs that only packages can meet, and none does.
type MissingError struct {
	Recipe string
	Needs  []string
}

func (e *MissingError) Error() string {
	s := fmt.Sprintf("%s: no package in the workspace meets these build needs:", e.Recipe)
	for _, n := range e.Needs {
		s += "\n  " + n
	}
	return s + "\nbuild the recipes that make them first"
}

// ErrBusy says that another process builds the same recipe.
var ErrBusy = errors.New("another process is building this recipe")

// record is what an earlier build left behind.
type record struct {
	Key      string         `json:"key"`   // of the whole build
	Stage    string         `json:"stage"` // of all up to the staged tree, which is complete
	Packages []packageState `json:"packages"`
	Written  []pack.Written `json:"written"`
}

type packageState struct {
	Path     string    `json:"path"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// Build makes the packages of a recipe. Errors are *StepError, *PackError,
// *MissingError, those of package source, and document.Problems for sources
// without a digest.
func (b *Builder) Build(ctx context.Context, r *recipe.Recipe, o Options) (Result, error) {
	res := Result{Recipe: r.Name, Version: r.Full(), Packages: []pack.Written{}, Steps: []StepResult{}}
	tree, err := b.Workspace.BuildTree(r.Name)
	if err != nil {
		return res, err
	}
	j := &job{Builder: b, recipe: r, state: b.Workspace.State("build", r.Name), tree: tree, options: o, result: &res}
	for _, dir := range []string{j.state, j.tree} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return res, err
		}
	}
	lock := flock.New(filepath.Join(j.state, "lock"))
	if ok, err := lock.TryLock(); err != nil {
		return res, err
	} else if !ok {
		return res, fmt.Errorf("%s: %w", r.Name, ErrBusy)
	}
	defer lock.Unlock()
	return res, j.run(ctx)
}

// job is one build under way.
type job struct {
	*Builder
	recipe  *recipe.Recipe
	state   string // the folder of the lock and the record
	tree    string // the folder of everything that steps see
	options Options
	result  *Result

	sources []source.Fetched
	laid    []*laidPackage
	met     map[string]string // build need → what meets it
	logs    string
}

func (j *job) path(name string) string { return filepath.Join(j.tree, name) }

func (j *job) recordFile() string { return filepath.Join(j.state, "record.json") }

func (j *job) run(ctx context.Context) error {
	if err := j.fetch(ctx); err != nil {
		return err
	}
	if err := j.meetNeeds(); err != nil {
		return err
	}
	keys, err := j.keys()
	if err != nil {
		return err
	}
	old := readJSON[record](j.recordFile())
	whole := j.options.Until == "" || j.options.Until == recipe.Pack
	if !j.options.Again && whole && old.Key == keys.whole && present(old.Packages) {
		j.result.State, j.result.Packages = Unchanged, old.Written
		return nil
	}
	staged := !j.options.Again && old.Stage == keys.stage && exists(j.path("stage"))
	switch {
	case staged && whole:
		j.result.State = Repacked
		for _, step := range recipe.StepNames[:len(recipe.StepNames)-1] {
			j.result.Steps = append(j.result.Steps, StepResult{Step: step, Reused: true})
		}
	default:
		// From here on the staged tree is not complete.
		if err := os.RemoveAll(j.recordFile()); err != nil {
			return err
		}
		stopped, err := j.steps(ctx)
		if err != nil {
			return err
		}
		if stopped {
			j.result.State, j.result.Work = Stopped, j.path("work")
			return nil
		}
		j.result.State = Built
		if err := writeJSON(j.recordFile(), record{Stage: keys.stage}); err != nil {
			return err
		}
	}
	began := time.Now()
	written, err := j.pack(ctx)
	if err != nil {
		return err
	}
	j.result.Packages = written
	j.result.Steps = append(j.result.Steps, StepResult{Step: recipe.Pack, Seconds: time.Since(began).Seconds()})
	done := record{Key: keys.whole, Stage: keys.stage, Written: written}
	for _, w := range written {
		info, err := os.Stat(w.Path)
		if err != nil {
			return err
		}
		done.Packages = append(done.Packages, packageState{w.Path, info.Size(), info.ModTime()})
	}
	return writeJSON(j.recordFile(), done)
}

// fetch brings every source into the store; one without a digest stops the
// build, since nobody could tell what was built.
func (j *job) fetch(ctx context.Context) error {
	doc := j.recipe.Doc
	before := len(doc.Problems)
	for i, s := range j.recipe.Sources {
		f, err := j.Fetcher.Fetch(ctx, j.recipe, i)
		if err != nil {
			return err
		}
		if s.SHA256 == "" && s.File == "" {
			doc.Problems = append(doc.Problems, Unpinned(j.recipe, i, f))
		}
		j.sources = append(j.sources, f)
	}
	return doc.Problems[before:].Err()
}

// steps runs everything before pack in a fresh work tree. It reports whether
// it stopped where Options.Until says.
func (j *job) steps(ctx context.Context) (stopped bool, err error) {
	// All of it, also what a killed build left half unpacked.
	if err := j.clearTree(); err != nil {
		return false, err
	}
	for _, d := range []string{"work", "stage", "home", "tmp", "needs", "steps"} {
		if err := os.MkdirAll(j.path(d), 0o755); err != nil {
			return false, err
		}
	}
	if err := j.openLogs(); err != nil {
		return false, err
	}
	if err := j.lay(ctx); err != nil {
		return false, err
	}
	for _, step := range recipe.StepNames {
		if step == recipe.Pack {
			break
		}
		began := time.Now()
		script := j.recipe.Script(step)
		s := StepResult{Step: step}
		switch {
		case step == recipe.Unpack:
			err = j.unpack(ctx)
		case script == "":
			s.Skipped = true
		default:
			err = j.script(ctx, step, script)
		}
		if err == nil {
			err = j.applyRewrites(step)
		}
		if err != nil {
			return false, err
		}
		s.Seconds = time.Since(began).Seconds()
		j.result.Steps = append(j.result.Steps, s)
		if step == j.options.Until {
			return true, nil
		}
	}
	return false, nil
}

func (j *job) unpack(ctx context.Context) error {
	log, err := os.Create(filepath.Join(j.logs, recipe.Unpack+".log"))
	if err != nil {
		return err
	}
	defer log.Close()
	for i, s := range j.recipe.Sources {
		f := j.sources[i]
		out, err := source.Unpack(ctx, j.path("work"), source.Job{Path: f.Path, Name: f.Name, SHA256: f.SHA256, Into: s.Into, Skip: s.Skip, Known: j.recipe.Name}, j.Progress)
		if err != nil {
			var changed *source.DigestError
			if errors.As(err, &changed) {
				// The store's copy is not what it was: the next run fetches it anew.
				err = errors.Join(j.Fetcher.Store.Verify(f.SHA256), errors.New("build again to fetch it anew"))
			}
			fmt.Fprintln(log, err)
			return fmt.Errorf("%s: step unpack: %w", j.recipe.Name, err)
		}
		fmt.Fprintf(log, "%s: %d entries, %d bytes", f.Name, out.Entries, out.Bytes)
		if out.Dropped != "" {
			fmt.Fprintf(log, ", without the top folder %s", out.Dropped)
		}
		for _, skipped := range out.Skipped {
			fmt.Fprintf(log, "\n  skipped: %s", skipped)
		}
		fmt.Fprintln(log)
	}
	return j.applyPatches(log)
}

// script runs a step's script in the work tree.
func (j *job) script(ctx context.Context, step, script string) error {
	log, err := os.Create(filepath.Join(j.logs, step+".log"))
	if err != nil {
		return err
	}
	defer log.Close()
	t := j.Progress.Begin(j.recipe.Name+" "+step, 0, "")
	out := &logWriter{file: log, task: t}
	err = j.Runner.Run(ctx, sandbox.Command{
		Name: step, Script: script, Dir: j.path("work"), Env: j.environment(), Files: j.path("steps"), Output: out,
	})
	out.flush()
	if err == nil {
		t.End("done")
		return log.Close()
	}
	t.End("failed")
	var exit *sandbox.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	e := &StepError{Recipe: j.recipe.Name, Step: step, File: j.recipe.Doc.File, Cause: exit.Error(), Tail: out.lines(), Log: workspace.Display(log.Name())}
	if exit.Line > 0 && j.recipe.Steps.Script(step) == "" {
		// The method wrote the script, and the recipe has no line for it.
		e.Line, e.Method = j.recipe.MethodLine(), j.recipe.Steps.Method
		if lines := strings.Split(script, "\n"); exit.Line <= len(lines) {
			e.Command = trim(lines[exit.Line-1])
		}
	} else if exit.Line > 0 {
		e.Line = j.recipe.ScriptLine(step, exit.Line)
		e.Command = trim(j.recipe.Doc.Line(e.Line))
	}
	return e
}

// kept is how many builds' logs are kept for a recipe.
const kept = 20

func (j *job) openLogs() error {
	all := j.Workspace.State("logs", j.recipe.Name)
	if err := os.MkdirAll(all, 0o755); err != nil {
		return err
	}
	if entries, err := os.ReadDir(all); err == nil && len(entries) >= kept {
		for _, e := range entries[:len(entries)-kept+1] {
			if err := os.RemoveAll(filepath.Join(all, e.Name())); err != nil {
				return err
			}
		}
	}
	j.logs = filepath.Join(all, time.Now().UTC().Format("2006-01-02T15.04.05.000Z"))
	j.result.Logs = workspace.Display(j.logs)
	return os.MkdirAll(j.logs, 0o755)
}

// clearTree removes everything that earlier builds left but the lock.
func (j *job) clearTree() error {
	entries, err := os.ReadDir(j.tree)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == "lock" {
			continue
		}
		if err := removeAll(j.path(e.Name())); err != nil {
			return err
		}
	}
	return nil
}

func present(states []packageState) bool {
	return !slices.ContainsFunc(states, func(s packageState) bool {
		info, err := os.Stat(s.Path)
		return err != nil || info.Size() != s.Size || !info.ModTime().Equal(s.Modified)
	})
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// removeAll removes a tree in which a build may have left folders that forbid
// it.
func removeAll(dir string) error {
	if err := os.RemoveAll(dir); err == nil || !errors.Is(err, fs.ErrPermission) {
		return err
	}
	filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			os.Chmod(p, 0o700)
		}
		return nil
	})
	return os.RemoveAll(dir)
}
