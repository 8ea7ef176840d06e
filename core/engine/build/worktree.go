package build

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
)

// stepKey is a step of a build with work to do, and the key of everything that it and
// the steps before it depend on.
type stepKey struct{ step, key string }

// The directories of a tree that steps work in.
var treeDirs = []string{"work", "stage", "home"}

// worktree is the tree that the steps of a build work in, one after the other.
type worktree interface {
	// done returns how many of the steps before number from need not run again.
	done(steps []stepKey, from int) (int, error)
	// begin prepares the tree for the step after those that are done.
	begin(steps []stepKey, done int) error
	// own returns the path, on this machine, of a directory that holds the whole
	// tree while the first step runs.
	own(name string) string
	// seen returns the path of a directory of the tree as scripts see it.
	seen(name string) string
	// prepare adds the tree to a command.
	prepare(c *sandbox.Command)
	// end finishes the step that was begun.
	end(steps []stepKey, done int, ok bool) error
	// merged returns the path, on this machine, of a directory of the tree as the
	// last of the steps left it. It is only to be read.
	merged(steps []stepKey, name string) (string, error)
	// open prepares the tree before step at, or as the step left it
	// when it failed last, for a person to try things in. Their changes are
	// discarded, if possible.
	open(steps []stepKey, at int) (failed bool, err error)
	// flush makes the results of earlier steps survive a restart of the machine.
	flush(ctx context.Context, steps []stepKey) error
	// export copies a directory of the tree as the last of the steps left it, or
	// one that failed just now.
	export(steps []stepKey, failed bool, name, to string) error
}

// overlayTree is the worktree of a sandbox: a layer per step.
type overlayTree struct {
	job   *job
	store layer.Store
	tree  sandbox.Tree
	scrap string // a directory for what is made and thrown away
}

func (l *overlayTree) done(steps []stepKey, from int) (int, error) {
	if err := l.store.Clear(); err != nil {
		return 0, err
	}
	for n := min(from, len(steps)); n > 0; n-- {
		if l.store.Has(steps[n-1].key) {
			return n, nil
		}
	}
	return 0, nil
}

func below(steps []stepKey, done int) string {
	if done == 0 {
		return ""
	}
	return steps[done-1].key
}

func (l *overlayTree) begin(steps []stepKey, done int) error {
	var names []string
	if done == 0 {
		names = treeDirs
	}
	under := below(steps, done)
	upper, work, err := l.store.Begin(under, names...)
	if err != nil {
		return err
	}
	l.tree = sandbox.Tree{Upper: upper, Work: work}
	if !l.store.Copies {
		l.tree.Lower = l.store.Trees(under)
	}
	return nil
}

func (l *overlayTree) own(name string) string { return filepath.Join(l.tree.Upper, name) }

func (l *overlayTree) seen(name string) string { return filepath.Join(sandbox.TreeDir, name) }

func (l *overlayTree) prepare(c *sandbox.Command) { c.Tree = l.tree }

func (l *overlayTree) end(steps []stepKey, done int, ok bool) error {
	r := l.job.recipe
	made := layer.Layer{Key: steps[done].key, Below: below(steps, done), Step: steps[done].step, Recipe: r.Name, Version: r.Full()}
	if !ok {
		return l.store.Fail(made)
	}
	return l.store.Commit(made)
}

func (l *overlayTree) merged(steps []stepKey, name string) (string, error) {
	trees := l.store.Trees(below(steps, len(steps)))
	if dir, ok := layer.Whole(trees, name); ok {
		return dir, nil
	}
	dir := filepath.Join(l.scrap, name)
	if err := layer.RemoveAll(dir); err != nil {
		return "", err
	}
	return dir, errors.Join(os.MkdirAll(dir, 0o755), layer.Merge(dir, layer.Below(trees, name), layer.Link))
}

func (l *overlayTree) open(steps []stepKey, at int) (failed bool, err error) {
	lower := l.store.Trees(below(steps, at))
	if f, ok := l.store.Failed(); ok && f.Key == steps[at].key {
		failed = true
		lower = append([]string{l.store.FailedTree()}, l.store.Trees(f.Below)...)
	}
	dir := filepath.Join(l.scrap, "shell")
	l.tree = sandbox.Tree{Lower: lower, Upper: filepath.Join(dir, "tree"), Work: filepath.Join(dir, "kernel")}
	if err := errors.Join(layer.RemoveAll(dir), os.MkdirAll(l.tree.Upper, 0o755), os.MkdirAll(l.tree.Work, 0o755)); err != nil {
		return failed, err
	}
	if l.store.Copies {
		l.tree.Lower = nil
		err = layer.Merge(l.tree.Upper, lower, layer.Copy)
	}
	return failed, err
}

func (l *overlayTree) export(steps []stepKey, failed bool, name, to string) error {
	trees := l.store.Trees(below(steps, len(steps)))
	if f, ok := l.store.Failed(); ok && failed && slices.ContainsFunc(steps, func(l stepKey) bool { return l.key == f.Key }) {
		trees = append([]string{l.store.FailedTree()}, l.store.Trees(f.Below)...)
	}
	return layer.Export(to, layer.Below(trees, name))
}

func (l *overlayTree) flush(ctx context.Context, steps []stepKey) error {
	return l.store.Flush(ctx, below(steps, len(steps)))
}

// dirTree is the worktree without a sandbox: one directory, in which a
// step that fails leaves what it did.
type dirTree struct {
	dir string
}

// reached is the file that names the steps that a plain tree is after.
const reached = "reached.json"

func (p *dirTree) done(steps []stepKey, from int) (int, error) {
	keys := readJSON[[]string](filepath.Join(p.dir, reached))
	if len(keys) == 0 || len(keys) > from {
		return 0, nil
	}
	for i, key := range keys {
		if i >= len(steps) || steps[i].key != key {
			return 0, nil
		}
	}
	return len(keys), nil
}

func (p *dirTree) begin(_ []stepKey, done int) error {
	if done > 0 {
		// Until the step has ended well, the tree is after none.
		return os.RemoveAll(filepath.Join(p.dir, reached))
	}
	entries, err := os.ReadDir(p.dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if err := layer.RemoveAll(filepath.Join(p.dir, e.Name())); err != nil {
			return err
		}
	}
	for _, name := range append(treeDirs, "tmp") {
		if err := os.MkdirAll(filepath.Join(p.dir, name), 0o755); err != nil {
			return err
		}
	}
	return nil
}

func (p *dirTree) own(name string) string { return filepath.Join(p.dir, name) }

func (p *dirTree) seen(name string) string { return filepath.Join(p.dir, name) }

func (p *dirTree) prepare(*sandbox.Command) {}

func (p *dirTree) end(steps []stepKey, done int, ok bool) error {
	if !ok {
		return nil
	}
	var keys []string
	for _, l := range steps[:done+1] {
		keys = append(keys, l.key)
	}
	return writeJSON(filepath.Join(p.dir, reached), keys)
}

func (p *dirTree) merged(_ []stepKey, name string) (string, error) { return p.own(name), nil }

func (p *dirTree) open([]stepKey, int) (bool, error) { return false, nil }

func (p *dirTree) flush(context.Context, []stepKey) error { return nil }

func (p *dirTree) export(_ []stepKey, _ bool, name, to string) error {
	return layer.Export(to, []string{p.own(name)})
}

// newWorktree chooses the worktree for the builder's runner.
func (j *job) newWorktree() error {
	if j.Runner.OwnFileSystem() {
		j.worktree = &overlayTree{job: j, store: layer.Store{Dir: j.Workspace.State("layers", j.recipe.Name), Copies: !j.Runner.CanOverlay()}, scrap: j.scrap()}
		return nil
	}
	tree, err := j.Workspace.BuildTree(j.recipe.Name)
	if err != nil {
		return err
	}
	dir := filepath.Join(tree, "plain")
	j.worktree = &dirTree{dir: dir}
	return os.MkdirAll(dir, 0o755)
}
