package app

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/root"
	"ellwand.example/core/trial"
)

// maxCheckOutput is how much of the output of a run is looked into, in bytes: several
// programs may be in it.
const maxCheckOutput = 1 << 20

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
	out := &tail{most: maxCheckOutput}
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
		return trial.Result{}, &sandbox.RefusedError{Reason: "overlay mounts are unavailable, and the root is based on a system"}
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
