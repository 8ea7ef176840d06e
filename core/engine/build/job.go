package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/modules"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

// job is one build under way.
type job struct {
	*Builder
	recipe   *recipe.Recipe
	state    string // the directory of the lock and the record
	lock     *flock.Flock
	worktree worktree
	options  Options
	result   Result

	sources []source.Fetched
	laid    []*satisfy.Package
	met     map[string]string // build need → what meets it
	answers map[string]string // build need → what of the system meets it
	over    []string          // directories of the laid packages
	touched []touch           // what steps used, where that is watched
	logs    string
	number  int64 // of this build in the history; 0 for none
}

func (j *job) close() { j.lock.Unlock() }

// recordFile tells what the last build for the target made: builds for others do not
// matter.
func (j *job) recordFile() string {
	return filepath.Join(j.state, "record-"+j.Workspace.Target.Name+".json")
}

// ready finds out what the build depends on, and which steps it has.
func (j *job) ready(ctx context.Context) ([]stepKey, string, error) {
	if err := j.meetNeeds(ctx); err != nil {
		return nil, "", err
	}
	if err := j.fetch(ctx); err != nil {
		return nil, "", err
	}
	return j.keys(ctx)
}

func (j *job) run(ctx context.Context) error {
	chain, whole, err := j.ready(ctx)
	if err != nil {
		return err
	}
	if j.options.Needs {
		j.options.From = recipe.Unpack
	}
	last := len(recipe.StepNames)
	if j.options.Until != "" {
		last = slices.Index(recipe.StepNames, j.options.Until)
	}
	packs := last >= len(recipe.StepNames)-1
	old := readJSON[record](j.recordFile())
	if j.options.From == "" && packs && old.Key == whole && present(old.Packages) {
		j.result.State, j.result.Packages = Unchanged, old.Written
		return nil
	}
	if packs && len(old.Packages) > 0 {
		if place := j.PublishedIn(ctx, j.recipe); place != "" {
			j.Progress.Note(fmt.Sprintf("%s: %s is published in %s: if other contents come out, they need another release", j.recipe.Name, j.recipe.Full(), place))
		}
	}
	if packs || j.options.From != "" {
		if err := os.RemoveAll(j.recordFile()); err != nil {
			return err
		}
	}
	wanted := chain
	for !packs && len(wanted) > 0 && slices.Index(recipe.StepNames, wanted[len(wanted)-1].step) > last {
		wanted = wanted[:len(wanted)-1]
	}
	from := len(wanted)
	if j.options.From != "" {
		first := slices.Index(recipe.StepNames, j.options.From)
		from = slices.IndexFunc(wanted, func(l stepKey) bool { return slices.Index(recipe.StepNames, l.step) >= first })
		if from < 0 {
			from = len(wanted)
		}
	}
	done, err := j.steps(ctx, wanted, from)
	if err != nil && !packs && ctx.Err() == nil && j.logs != "" {
		// To stop after a step is to look at the tree.
		if left := j.leaveWork(wanted, true); left == nil {
			j.Progress.Note("a copy of the work tree, as the step left it, is " + j.result.Work)
		}
	}
	if err != nil {
		return err
	}
	if j.options.Needs {
		if j.result.Needs, err = j.needsReport(); err != nil {
			return err
		}
		if err := j.keepUsage(j.result.Needs); err != nil {
			return err
		}
	}
	if !packs {
		j.result.State = Stopped
		return j.leaveWork(wanted, false)
	}
	j.result.State = Built
	if done == len(chain) {
		j.result.State = Repacked
	}
	if j.number == 0 {
		j.recordBegin()
	}
	began := time.Now()
	staged, err := j.worktree.merged(chain, "stage")
	if err != nil {
		return err
	}
	written, err := j.pack(ctx, staged)
	if err != nil {
		return err
	}
	if err := layer.RemoveAll(j.scrap()); err != nil {
		return err
	}
	j.result.Packages = written
	j.result.Steps = append(j.result.Steps, StepResult{Step: recipe.Pack, Seconds: time.Since(began).Seconds()})
	if _, err := Clean(j.Workspace, Choice{Keep: j.Workspace.LayerSpace()}); err != nil {
		return err
	}
	now := record{Key: whole, Written: written}
	for _, w := range written {
		info, err := os.Stat(w.Path)
		if err != nil {
			return err
		}
		now.Packages = append(now.Packages, packageState{w.Path, info.Size(), info.ModTime()})
	}
	if err := writeJSON(j.recordFile(), now); err != nil {
		return err
	}
	return j.worktree.flush(ctx, chain)
}

// scrap is the directory for what is made only to be thrown away.
func (j *job) scrap() string { return filepath.Join(j.state, "scrap") }

// leaveWork puts a copy of the work tree where a person can look at it.
func (j *job) leaveWork(chain []stepKey, failed bool) error {
	dir := filepath.Join(j.state, "work")
	if err := layer.RemoveAll(dir); err != nil {
		return err
	}
	if err := j.worktree.export(chain, failed, "work", dir); err != nil {
		return err
	}
	j.result.Work = workspace.Display(dir)
	return nil
}

// fetch fetches every source into the source cache; one without a digest stops the
// build, since nobody could tell what was built.
func (j *job) fetch(ctx context.Context) error {
	doc := j.recipe.Doc
	before := len(doc.Problems)
	j.sources = make([]source.Fetched, len(j.recipe.Sources))
	for _, ofModules := range []bool{false, true} { // which are fetched over the others
		for i, s := range j.recipe.Sources {
			if (s.Modules != "") != ofModules {
				continue
			}
			fetch := j.Fetcher.Fetch
			if ofModules {
				fetch = func(ctx context.Context, _ *recipe.Recipe, i int) (source.Fetched, error) {
					return j.fetchModules(ctx, i)
				}
			}
			f, err := fetch(ctx, j.recipe, i)
			if err != nil {
				return err
			}
			if s.SHA256 == "" && s.Commit == "" && s.File == "" {
				doc.Problems = append(doc.Problems, Unpinned(j.recipe, i, f))
			}
			j.sources[i] = f
		}
	}
	return doc.Problems[before:].Err()
}

// steps runs those of a chain that have to be: all from the number from on,
// and of those before it what no earlier build has left. It returns how many
// were left by one.
func (j *job) steps(ctx context.Context, chain []stepKey, from int) (done int, err error) {
	if done, err = j.worktree.done(chain, from); err != nil {
		return 0, err
	}
	if !j.runsTests() && j.recipe.Script(recipe.Test) != "" && done < len(chain) {
		j.Progress.Note(fmt.Sprintf("%s: the test step is skipped: programs for %s do not run here", j.recipe.Name, j.Workspace.Target.Arch))
	}
	for i, step := range recipe.StepNames[:len(recipe.StepNames)-1] {
		at := slices.IndexFunc(chain, func(l stepKey) bool { return l.step == step })
		switch {
		case at >= 0 && at < done:
			j.result.Steps = append(j.result.Steps, StepResult{Step: step, Reused: true})
			continue
		case at < 0:
			if len(chain) == 0 || i < slices.Index(recipe.StepNames, chain[len(chain)-1].step) {
				j.result.Steps = append(j.result.Steps, StepResult{Step: step, Skipped: true})
			}
			continue
		}
		if j.logs == "" {
			if err := j.openLogs(); err != nil {
				return done, err
			}
			if err := j.lay(ctx); err != nil {
				return done, err
			}
		}
		if err := j.step(ctx, chain, at); err != nil {
			return done, err
		}
	}
	return done, nil
}

// step runs one step of a chain, on what the ones before it left.
func (j *job) step(ctx context.Context, chain []stepKey, at int) error {
	if err := j.worktree.begin(chain, at); err != nil {
		return err
	}
	began := time.Now()
	s := StepResult{Step: chain[at].step}
	log, err := os.Create(filepath.Join(j.logs, s.Step+".log"))
	if err != nil {
		return err
	}
	defer log.Close()
	if s.Step == recipe.Unpack {
		err = j.unpack(ctx, log)
	} else if script := j.recipe.Script(s.Step); script != "" {
		err = j.script(ctx, &s, script, log)
	}
	if err == nil {
		err = j.applyRewrites(ctx, s.Step)
	}
	if err == nil && s.Step == recipe.Stage {
		err = j.split(ctx)
	}
	s.Seconds = time.Since(began).Seconds()
	j.result.Steps = append(j.result.Steps, s)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return errors.Join(err, j.worktree.end(chain, at, err == nil))
}

func (j *job) unpack(ctx context.Context, log io.Writer) error {
	if err := j.unpackSources(ctx, log, func(recipe.Source) bool { return true }); err != nil {
		return err
	}
	if err := j.writeCross(); err != nil {
		return err
	}
	if j.laysInto() {
		if err := j.layInto(ctx, j.worktree.own("needs")); err != nil {
			return err
		}
	}
	return handOver(filepath.Dir(j.worktree.own("work")))
}

// unpackSources unpacks those sources that are wanted, and applies the patches.
func (j *job) unpackSources(ctx context.Context, log io.Writer, wanted func(recipe.Source) bool) error {
	for i, s := range j.recipe.Sources {
		if !wanted(s) {
			continue
		}
		f, dir := j.sources[i], j.worktree.own("work")
		job := source.Job{Path: f.Path, Name: f.Name, SHA256: f.SHA256, Into: s.Into, Skip: s.Skip, Known: j.recipe.Name}
		if s.Modules != "" {
			dir, job.Into, job.Skip, job.Whole = filepath.Dir(dir), "", []string{modules.ListFile}, true
		}
		out, err := source.Unpack(ctx, dir, job, j.Progress)
		if err != nil {
			var changed *source.DigestError
			if errors.As(err, &changed) {
				// The store's copy is not what it was: the next run fetches it again.
				err = errors.Join(j.Fetcher.Cache.Verify(ctx, f.SHA256), errors.New("build again to fetch it again"))
			}
			fmt.Fprintln(log, err)
			return fmt.Errorf("%s: step unpack: %w", j.recipe.Name, err)
		}
		fmt.Fprintf(log, "%s: %d entries, %d bytes", f.Name, out.Entries, out.Bytes)
		if out.Dropped != "" {
			fmt.Fprintf(log, ", without the top directory %s", out.Dropped)
		}
		if s.Modules == "" {
			for _, skipped := range out.Skipped {
				fmt.Fprintf(log, "\n  skipped: %s", skipped)
			}
		}
		fmt.Fprintln(log)
	}
	return j.applyPatches(log)
}

// handOver changes a tree's owner to the user that runs the steps.
func handOver(dir string) error {
	uid, gid, ok := sandbox.Owner()
	if !ok {
		return nil
	}
	return filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, uid, gid)
	})
}

// command is what is the same for everything that runs in the tree.
func (j *job) command(name, script string) (sandbox.Command, error) {
	files := filepath.Join(j.state, "files")
	if err := errors.Join(layer.RemoveAll(files), os.MkdirAll(files, 0o755)); err != nil {
		return sandbox.Command{}, err
	}
	c := sandbox.Command{Allow: j.recipe.Steps.Allow, Name: name, Script: script, Dir: j.worktree.seen("work"), Env: j.environment(script), Files: files, Over: j.over, Limits: j.Workspace.Limits()}
	if seesRecipe(script) {
		c.Recipe = j.recipe.Dir
	}
	j.worktree.prepare(&c)
	return c, nil
}

// script runs a step's script in the work tree.
func (j *job) script(ctx context.Context, s *StepResult, script string, log *os.File) error {
	t := j.Progress.Begin(j.recipe.Name+" "+s.Step, j.usual(ctx, s.Step), progress.Time)
	run, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	out := &logWriter{file: log, task: t, size: j.Workspace.LogSize(), stop: stop}
	c, err := j.command(s.Step, script)
	if err != nil {
		return err
	}
	c.Output, c.Trace = out, j.options.Needs
	if limit := j.options.Tests; s.Step == recipe.Test && limit > 0 && (c.Limits.Time == 0 || limit < c.Limits.Time) {
		c.Limits.Time = limit
	}
	used, err := j.Runner.Run(run, c)
	for _, t := range used.Touched {
		j.touched = append(j.touched, touch{t, s.Step})
	}
	if full := out.end(); full != nil && ctx.Err() == nil {
		t.End("failed")
		return fmt.Errorf("%s: step %s: its log cannot be written: %w", j.recipe.Name, s.Step, full)
	}
	s.Memory, s.CPU, s.Warnings = used.Memory, used.CPU.Seconds(), out.warnings
	for _, left := range used.Left {
		j.Progress.Note(fmt.Sprintf("%s: step %s left a process running, which was ended: %s", j.recipe.Name, s.Step, trim(left)))
	}
	if err == nil {
		t.End("done")
		return nil
	}
	t.End("failed")
	var exit *sandbox.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	s.Status = exit.Status
	e := &StepError{Recipe: j.recipe.Name, Step: s.Step, File: j.recipe.Doc.File, Ended: exit.Error(), Tail: out.lines(), Log: workspace.Display(log.Name())}
	if e.Causes, err = Diagnose(log); err != nil {
		return err
	}
	if s.Step == recipe.Test {
		if e.Tests, err = FailedTests(log); err != nil {
			return err
		}
	}
	for i := range e.Causes {
		j.whoHas(&e.Causes[i])
	}
	if exit.Line > 0 && j.recipe.Steps.Script(s.Step) == "" {
		// The method wrote the script, and the recipe has no line for it.
		e.Line, e.Method = j.recipe.MethodLine(), j.recipe.Steps.Method
		if lines := strings.Split(script, "\n"); exit.Line <= len(lines) {
			e.Command = trim(lines[exit.Line-1])
		}
	} else if exit.Line > 0 {
		e.Line = j.recipe.ScriptLine(s.Step, exit.Line)
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
	defer func() { j.recordBegin() }()
	j.logs = filepath.Join(all, time.Now().UTC().Format("2006-01-02T15.04.05.000Z"))
	j.result.Logs = workspace.Display(j.logs)
	return os.MkdirAll(j.logs, 0o755)
}

func present(states []packageState) bool {
	return !slices.ContainsFunc(states, func(s packageState) bool {
		info, err := os.Stat(s.Path)
		return err != nil || info.Size() != s.Size || !info.ModTime().Equal(s.Modified)
	})
}
