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

// link is a step of a build that does something, with the key of all that it
// and the steps before it depend on.
type link struct{ step, key string }

// The directories of a tree that steps work in.
var treeDirs = []string{"work", "stage", "home"}

// ground is where the steps of a build work, one after the other.
type ground interface {
	// done tells how many of the steps need not be run again, of those before
	// the one with the number from.
	done(chain []link, from int) (int, error)
	// begin readies the tree for the step after those that are done.
	begin(chain []link, done int) error
	// own is a directory of the machine that holds all of the tree while the
	// first step runs.
	own(name string) string
	// seen is how scripts name a directory of the tree.
	seen(name string) string
	// prepare completes a command with the tree.
	prepare(c *sandbox.Command)
	// end closes the step that was begun.
	end(chain []link, done int, ok bool) error
	// merged is a directory of the machine with what stands in a directory of the
	// tree after the last of the steps. It is to be read alone.
	merged(chain []link, name string) (string, error)
	// open prepares the tree before step at, or as the step left it
	// when it failed last, for a person to try things in. What they change is
	// thrown away, where it can be.
	open(chain []link, at int) (failed bool, err error)
	// flush makes what steps of earlier builds left outlive a restart of the
	// machine.
	flush(ctx context.Context, chain []link) error
	// export copies a directory of the tree as the last of the steps left it, or
	// one that failed just now.
	export(chain []link, failed bool, name, to string) error
}

// layered is the ground of a sandbox: a layer a step.
type layered struct {
	job   *job
	store layer.Store
	tree  sandbox.Tree
	scrap string // a directory for what is made and thrown away
}

func (l *layered) done(chain []link, from int) (int, error) {
	if err := l.store.Clear(); err != nil {
		return 0, err
	}
	for n := min(from, len(chain)); n > 0; n-- {
		if l.store.Has(chain[n-1].key) {
			return n, nil
		}
	}
	return 0, nil
}

func below(chain []link, done int) string {
	if done == 0 {
		return ""
	}
	return chain[done-1].key
}

func (l *layered) begin(chain []link, done int) error {
	var names []string
	if done == 0 {
		names = treeDirs
	}
	under := below(chain, done)
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

func (l *layered) own(name string) string { return filepath.Join(l.tree.Upper, name) }

func (l *layered) seen(name string) string { return filepath.Join(sandbox.TreeDir, name) }

func (l *layered) prepare(c *sandbox.Command) { c.Tree = l.tree }

func (l *layered) end(chain []link, done int, ok bool) error {
	r := l.job.recipe
	made := layer.Layer{Key: chain[done].key, Below: below(chain, done), Step: chain[done].step, Recipe: r.Name, Version: r.Full()}
	if !ok {
		return l.store.Fail(made)
	}
	return l.store.Commit(made)
}

func (l *layered) merged(chain []link, name string) (string, error) {
	trees := l.store.Trees(below(chain, len(chain)))
	if dir, ok := layer.Whole(trees, name); ok {
		return dir, nil
	}
	dir := filepath.Join(l.scrap, name)
	if err := layer.RemoveAll(dir); err != nil {
		return "", err
	}
	return dir, errors.Join(os.MkdirAll(dir, 0o755), layer.Merge(dir, layer.Below(trees, name), layer.Link))
}

func (l *layered) open(chain []link, at int) (failed bool, err error) {
	lower := l.store.Trees(below(chain, at))
	if f, ok := l.store.Failed(); ok && f.Key == chain[at].key {
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

func (l *layered) export(chain []link, failed bool, name, to string) error {
	trees := l.store.Trees(below(chain, len(chain)))
	if f, ok := l.store.Failed(); ok && failed && slices.ContainsFunc(chain, func(l link) bool { return l.key == f.Key }) {
		trees = append([]string{l.store.FailedTree()}, l.store.Trees(f.Below)...)
	}
	return layer.Export(to, layer.Below(trees, name))
}

func (l *layered) flush(ctx context.Context, chain []link) error {
	return l.store.Flush(ctx, below(chain, len(chain)))
}

// plain is the ground where nothing keeps steps apart: one directory, in which a
// step that fails leaves what it did.
type plain struct {
	dir string
}

// reached is the file that names the steps that a plain tree is after.
const reached = "reached.json"

func (p *plain) done(chain []link, from int) (int, error) {
	keys := readJSON[[]string](filepath.Join(p.dir, reached))
	if len(keys) == 0 || len(keys) > from {
		return 0, nil
	}
	for i, key := range keys {
		if i >= len(chain) || chain[i].key != key {
			return 0, nil
		}
	}
	return len(keys), nil
}

func (p *plain) begin(_ []link, done int) error {
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

func (p *plain) own(name string) string { return filepath.Join(p.dir, name) }

func (p *plain) seen(name string) string { return filepath.Join(p.dir, name) }

func (p *plain) prepare(*sandbox.Command) {}

func (p *plain) end(chain []link, done int, ok bool) error {
	if !ok {
		return nil
	}
	var keys []string
	for _, l := range chain[:done+1] {
		keys = append(keys, l.key)
	}
	return writeJSON(filepath.Join(p.dir, reached), keys)
}

func (p *plain) merged(_ []link, name string) (string, error) { return p.own(name), nil }

func (p *plain) open([]link, int) (bool, error) { return false, nil }

func (p *plain) flush(context.Context, []link) error { return nil }

func (p *plain) export(_ []link, _ bool, name, to string) error {
	return layer.Export(to, []string{p.own(name)})
}

// newGround chooses the ground for the builder's runner.
func (j *job) newGround() error {
	if n, ok := j.Runner.(sandbox.Namespaces); ok {
		j.ground = &layered{job: j, store: layer.Store{Dir: j.Workspace.State("layers", j.recipe.Name), Copies: n.Copies}, scrap: j.scrap()}
		return nil
	}
	tree, err := j.Workspace.BuildTree(j.recipe.Name)
	if err != nil {
		return err
	}
	dir := filepath.Join(tree, "plain")
	j.ground = &plain{dir: dir}
	return os.MkdirAll(dir, 0o755)
}
