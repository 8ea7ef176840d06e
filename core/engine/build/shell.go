package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/recipe"
)

// Shell opens a shell on a terminal where a step runs: in the tree as the step
// finds it, or as it left it when it failed last. The steps before it are run,
// where they have to be. Begun is told before the shell starts, with whether
// the step has failed there, and the path of its script.
func (b *Builder) Shell(ctx context.Context, r *recipe.Recipe, step string, terminal *os.File, begun func(failed bool, script string)) error {
	j, err := b.begin(ctx, r)
	if err != nil {
		return err
	}
	defer j.close()
	chain, _, err := j.ready(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(chain, func(l stepKey) bool { return l.step == step })
	if at < 0 {
		return fmt.Errorf("%s does nothing in its %s step, so no shell can be opened there", r.Name, step)
	}
	if _, err := j.steps(ctx, chain[:at], at); err != nil {
		return err
	}
	if err := j.lay(ctx); err != nil {
		return err
	}
	failed, err := j.worktree.open(chain, at)
	if err != nil {
		return err
	}
	c, err := j.command(step, r.Script(step))
	if err != nil {
		return err
	}
	c.Terminal = terminal
	c.Env = append(c.Env, "TERM="+os.Getenv("TERM"), "PS1="+r.Name+" "+step+" $ ")
	begun(failed, "/run/ellwand/"+step)
	_, err = j.Runner.Run(ctx, c)
	return errors.Join(err, layer.RemoveAll(j.scrap()))
}
