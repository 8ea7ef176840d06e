package build

import (
	"context"
	"fmt"
	"io"
	"os"

	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/patch"
	"ellwand.example/core/recipe/rewrite"
)

// ChangeError is a patch or a rewrite that did not do what it should.
type ChangeError struct {
	Recipe string      `json:"recipe"`
	Step   string      `json:"step"` // the step that it belongs to
	File   string      `json:"file"` // of the recipe
	Line   int         `json:"line"` // of the [[patch]] or [[rewrite]]
	What   string      `json:"what"` // the patch, or "rewrite"
	Err    error       `json:"-"`
	Remedy string      `json:"remedy"`
	Next   fact.Action `json:"action,omitzero"`
}

func (e *ChangeError) Error() string {
	return fmt.Sprintf("%s:%d: %s: %v\n%s", e.File, e.Line, e.What, e.Err, e.Remedy)
}

// Status is that of a failed step.
func (e *ChangeError) Status() fact.Status { return fact.StatusStep }

// Action may solve it.
func (e *ChangeError) Action() fact.Action { return e.Next }

func (e *ChangeError) Unwrap() error { return e.Err }

// applyPatches applies the recipe's patches to the work tree.
func (j *job) applyPatches(log io.Writer) error {
	for i, p := range j.recipe.Patches {
		data, err := j.recipe.ReadBeside(p.File)
		if err != nil {
			return err
		}
		changes, err := patch.ApplyIn(j.worktree.own("work"), p.Into, data)
		if err != nil {
			e := &ChangeError{Recipe: j.recipe.Name, Step: recipe.Unpack, File: j.recipe.Doc.File, Line: p.Line, What: p.File, Err: err,
				Remedy: "make the patch again for this source; a build until unpack leaves the tree, with the patches before this one applied",
				Next:   fact.Action{Verb: fact.BuildUntil, Subject: j.recipe.Name, Detail: recipe.Unpack}}
			if perr, ok := err.(*patch.Error); ok && perr.Applied {
				e.Remedy, e.Next = "upstream has applied it: remove the [[patch]] and the file", fact.Action{}
			}
			fmt.Fprintln(log, e)
			return e
		}
		for _, c := range changes {
			fmt.Fprintf(log, "%s: %s: %d hunks", p.File, c.Path, c.Hunks)
			if c.Moved+c.Fuzzed > 0 {
				fmt.Fprintf(log, ", %d on other lines, %d with less context", c.Moved, c.Fuzzed)
			}
			fmt.Fprintln(log)
			if c.Fuzzed > 0 {
				j.Progress.Note(fmt.Sprintf("%s: patch %d, %s: %d of %d hunks of %s apply only with less context; update the patch before it no longer applies", j.recipe.Name, i+1, p.File, c.Fuzzed, c.Hunks, c.Path))
			}
		}
	}
	return nil
}

// rewriteCall is a rewrite to be done where the steps run.
type rewriteCall struct {
	Dir  string
	Rule rewrite.Rule
}

const rewriteFunction = "build.rewrite"

func init() {
	sandbox.Register(rewriteFunction, func(c rewriteCall) error {
		root, err := os.OpenRoot(c.Dir)
		if err != nil {
			return err
		}
		defer root.Close()
		_, err = rewrite.Apply(root, c.Rule)
		return err
	})
}

// applyRewrites runs the rewrites that come after a step.
func (j *job) applyRewrites(ctx context.Context, step string) error {
	for _, w := range rewritesAfter(j.recipe, step) {
		dir := "work"
		if step == recipe.Stage {
			dir = "stage"
		}
		c, err := j.command("rewrite", "")
		if err != nil {
			return err
		}
		c.Output = io.Discard
		err = j.Runner.Call(ctx, c, rewriteFunction, rewriteCall{j.worktree.seen(dir), rewrite.Rule{Path: w.Path, Find: w.Find, Regexp: w.Regexp, Replace: w.Replace, Times: w.Times}})
		if err != nil {
			return &ChangeError{Recipe: j.recipe.Name, Step: step, File: j.recipe.Doc.File, Line: w.Line, What: "rewrite after " + step, Err: err,
				Remedy: "correct `find`, `path` or `times`; nothing was rewritten"}
		}
	}
	return nil
}
