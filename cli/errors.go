package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"syscall"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/recipe/layout"
	"ellwand.example/core/repo"
	"ellwand.example/core/root"
	"ellwand.example/core/staging"
)

// outputError reports that results could not be written to standard output.
type outputError struct{ err error }

func (e *outputError) Error() string { return "the output could not be written: " + e.err.Error() }

func (e *outputError) Unwrap() error { return e.err }

// Status is that of something the machine lacks.
func (e *outputError) Status() fact.Status { return fact.StatusMachine }

// brokenError lists recipes with errors that a command continued without.
type brokenError struct{ document.Problems }

func (e *brokenError) Unwrap() error { return e.Problems }

// exitStatuses are the exit statuses of errors.
var exitStatuses = map[fact.Status]int{
	fact.StatusFindings: statusFindings, fact.StatusUsage: statusUsage, fact.StatusInput: statusInput, fact.StatusStep: statusStep, fact.StatusMachine: statusMachine,
}

// finish reports an error, and returns the exit status.
func (a *program) finish(ctx context.Context, err error) int {
	var status statusError
	switch {
	case err == nil:
		return statusDone
	case errors.As(err, &status):
		return int(status)
	}
	if a.err == nil {
		a.out, a.err = term.NewWriter(os.Stdout, "auto"), term.NewWriter(os.Stderr, "auto")
	}
	if ctx.Err() != nil {
		a.err.Printf("%s", interrupted)
		return statusInterrupted
	}
	code := exitStatuses[fact.StatusOf(err)]
	if !a.running || code == statusUsage {
		a.err.Printf("%s\n%s\n", a.err.Style(term.Bad, err.Error()), "`ellwand help` lists the commands; `ellwand COMMAND --help` shows how one is used")
		return statusUsage
	}
	var broken *brokenError
	if errors.As(err, &broken) {
		a.err.Printf("\nskipped because of errors in them:\n")
	} else if a.json {
		a.printJSON(a.errorJSON(err, code))
	}
	a.explainError(err)
	return code
}

// failure is an error as data.
type failure struct {
	Error    string              `json:"error"`
	Status   int                 `json:"status"`
	Command  string              `json:"command,omitempty"` // that may solve it
	Problems document.Problems   `json:"problems,omitempty"`
	Step     *build.StepError    `json:"step,omitempty"`
	Layout   *layout.Mismatch    `json:"layout,omitempty"`
	Findings []fact.Finding      `json:"findings,omitempty"`
	Rebuild  []string            `json:"rebuild,omitempty"`
	Needs    []satisfy.NeedState `json:"needs,omitempty"`
}

func (a *program) errorJSON(err error, code int) failure {
	f := failure{Error: err.Error(), Status: code}
	if action, ok := fact.ActionOf(err); ok {
		f.Command = commandFor(action)
	}
	var packing *build.PackError
	var refused *repo.RefusedError
	var linted *app.LintError
	var missing *satisfy.MissingError
	errors.As(err, &f.Step)
	if errors.As(err, &f.Problems) {
		f.Error = fact.Count(len(f.Problems), "error", "errors") + " in input"
	}
	if errors.As(err, &packing) {
		f.Layout = packing.Mismatch
	}
	if errors.As(err, &refused) {
		f.Error, f.Findings, f.Rebuild = fmt.Sprintf("channel %s would become inconsistent", refused.Channel), refused.Findings, refused.Rebuild
	}
	if errors.As(err, &linted) {
		f.Error, f.Findings = fmt.Sprintf("%s prevent publishing to channel %s", fact.Count(len(linted.Findings), "finding", "findings"), linted.Channel), linted.Findings
	}
	if errors.As(err, &missing) {
		f.Error, f.Needs = fact.Count(len(missing.Needs), "unmet dependency", "unmet dependencies"), missing.Needs
	}
	return f
}

// explainError shows an error: kinds of errors that have facts to show in a way of
// their own, the others with their text and what to do next.
func (a *program) explainError(err error) {
	w := a.err
	var problems document.Problems
	var step *build.StepError
	var packing *build.PackError
	var change *build.ChangeError
	var missing *satisfy.MissingError
	var refused *repo.RefusedError
	var linted *app.LintError
	var unsolved *solve.NoAnswerError
	var unfit *root.UnfitError
	var required *app.RequirementError
	var dependents *app.DependentsError
	var script *root.ScriptError
	var shared *build.SharedNameError
	var unreadable *staging.UnreadableError
	switch {
	case errors.As(err, &refused):
		a.explainRefused(refused)
	case errors.As(err, &linted):
		a.explainLintError(linted)
	case errors.As(err, &unfit):
		a.explainUnfit(unfit)
	case errors.As(err, &required):
		a.explainRequirements(required)
	case errors.As(err, &script):
		a.explainScript(script)
	case errors.As(err, &dependents):
		w.Printf("%s\n%s\n", w.Style(term.Bad, w.Wrapped(err.Error(), 0)), "nothing was changed; --with-dependents removes them, too")
	case errors.As(err, &missing):
		a.explainMissing(missing)
	case errors.As(err, &step):
		a.explainStep(step)
	case errors.As(err, &packing):
		a.explainPacking(packing)
	case errors.As(err, &problems):
		a.explainProblems(problems)
	case errors.As(err, &unsolved):
		w.Printf("%s\n", w.Style(term.Bad, "no set of packages satisfies all dependencies:"))
		for _, s := range unsolved.Sentences() {
			w.Printf("  %s\n", w.Wrapped(s, 2))
		}
	case errors.As(err, &change):
		w.Printf("%s: %s\n", w.Style(term.Strong, fmt.Sprintf("%s:%d", change.File, change.Line)), w.Style(term.Bad, change.What))
		for line := range strings.SplitSeq(change.Err.Error(), "\n") {
			w.Printf("%s %s\n", w.Style(term.Faint, "       |"), line)
		}
		w.Printf("%s\n", w.Style(term.Good, w.Wrapped(change.Remedy, 0)))
	case errors.As(err, &unreadable):
		path, mode := unreadable.Path, "0600"
		if unreadable.Dir {
			path, mode = path+"/", "0700"
		}
		w.Printf("%s\n", w.Style(term.Bad, w.Wrapped(err.Error(), 0)))
		w.Printf("%s\n", w.Style(term.Good, fmt.Sprintf("stage it with the mode %s, and set its mode in the layout:\n  %q = { mode = %q }", mode, path, fact.Octal(unreadable.Mode))))
	case errors.As(err, &shared):
		w.Printf("%s\n", w.Style(term.Bad, w.Wrapped(err.Error(), 0)))
		w.Printf("%s\n", w.Style(term.Good, w.Wrapped("put the option into the package's name, as in [package.\"NAME-{option.x}\"], raise the release, or remove the file", 0)))
	default:
		w.Printf("%s\n", w.Style(term.Bad, w.Wrapped(err.Error(), 0)))
	}
	if errors.Is(err, sandbox.ErrNoTerminal) {
		w.Printf("to run the steps up to one without a shell, use `ellwand build RECIPE --until STEP`\n")
	}
	if errors.Is(err, syscall.ENOSPC) {
		w.Printf("the disk is full; what was there before is unchanged\n")
	}
	if action, ok := fact.ActionOf(err); ok {
		w.Printf("%s\n", w.Wrapped(advice(action), 0))
	}
}

// explainProblems shows errors in input with their lines, and how many there are in
// each file.
func (a *program) explainProblems(problems document.Problems) {
	a.err.Problems(problems)
	files := map[string]int{}
	var actions []fact.Action
	for _, p := range problems {
		files[p.File]++
		if p.Action.Verb != "" && !slices.Contains(actions, p.Action) {
			actions = append(actions, p.Action)
		}
	}
	for _, file := range slices.Sorted(maps.Keys(files)) {
		a.err.Printf("%s in %s\n", a.err.Style(term.Bad, fact.Count(files[file], "error", "errors")), file)
	}
	for _, action := range actions {
		a.err.Printf("%s\n", a.err.Wrapped(advice(action), 0))
	}
}
