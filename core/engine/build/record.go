package build

import (
	"context"
	"errors"
	"strings"
	"time"

	"ellwand.example/core/engine/history"
)

// recordBegin puts this build into the history. That it cannot is no reason not
// to build: it is told, and the build goes on.
func (j *job) recordBegin() {
	if j.History == nil {
		return
	}
	b := history.Build{Recipe: j.recipe.Name, Version: j.recipe.Full(), Target: j.Workspace.Target.Name, Isolation: j.Runner.Isolation(), Began: time.Now(), Logs: j.logs}
	number, err := j.History.Begin(context.Background(), b)
	if err != nil {
		j.Progress.Note("the history cannot be written: " + err.Error())
		return
	}
	j.number = number
}

// recordEnd puts what came of this build into the history. It does so after an
// interruption too.
func (j *job) recordEnd(ctx context.Context, took time.Duration, err error) {
	if j.number == 0 {
		return
	}
	b := history.Build{ID: j.number, Seconds: took.Seconds(), State: j.result.State}
	if err != nil {
		b.State = Failed
		b.Error, _, _ = strings.Cut(err.Error(), "\n")
		var step *StepError
		if errors.As(err, &step) && len(step.Causes) > 0 {
			b.Cause = step.Causes[0].Message
		}
		if ctx.Err() != nil {
			b.State, b.Error = Interrupted, ""
		}
	}
	for _, s := range j.result.Steps {
		if !s.Skipped {
			b.Steps = append(b.Steps, history.Step{Step: s.Step, Seconds: s.Seconds, CPU: s.CPU, Memory: s.Memory, Warnings: s.Warnings, Status: s.Status, Reused: s.Reused})
		}
	}
	if err == nil {
		for _, p := range j.result.Packages {
			b.Packages = append(b.Packages, history.Package{Name: p.Facts.Identity(), SHA256: p.SHA256, Bytes: p.Size})
		}
	}
	if err := j.History.End(context.Background(), b); err != nil {
		j.Progress.Note("the history cannot be written: " + err.Error())
	}
}

// usual is how long a step of this recipe takes, in milliseconds; 0 where that
// is not known.
func (j *job) usual(ctx context.Context, step string) int64 {
	if j.History == nil {
		return 0
	}
	return j.History.Usual(ctx, j.recipe.Name, step).Milliseconds()
}
