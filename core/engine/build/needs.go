package build

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/pattern"
)

// bySystem is what meets a need that no package of the workspace meets: the
// machine itself.
const bySystem = "system"

// depPackage is a package of the workspace that a build depends on.
type depPackage struct {
	path   string
	facts  ell.Facts
	digest string // of its facts.json, which pins everything else in it
	build  ell.BuildRecord
}

// meetNeeds finds the packages of the workspace that meet build and test
// needs, and what those need in turn; the system meets others. What nothing meets
// is listed with who has it, all at once.
func (j *job) meetNeeds(ctx context.Context) error {
	wanted := slices.Concat(j.recipe.Needs.Build, j.recipe.Needs.Test)
	j.met, j.answers = map[string]string{}, map[string]string{}
	if len(wanted) == 0 {
		return nil
	}
	all, err := j.packages()
	if err != nil {
		return err
	}
	all = notOf(all, j.recipe.Name)
	var missing []NeedState
	for _, text := range wanted {
		n, err := need.Parse(text)
		if err != nil {
			return err // the recipe's check has passed it
		}
		if p := find(all, n); p != nil {
			j.met[text] = p.facts.Identity()
			j.add(p, all)
			continue
		}
		if s := j.needState(n, nil, nil); s.Met {
			j.met[text] = bySystem
			j.answers[text] = stamp(j.probe().Real(s.Path))
		} else if s.Need = text; !slices.ContainsFunc(missing, func(m NeedState) bool { return m.Need == text }) {
			missing = append(missing, s)
		}
	}
	if len(missing) > 0 {
		if err := j.findHolders(ctx, j.recipe, missing); err != nil {
			return err
		}
		return &MissingError{j.recipe.Name, missing}
	}
	slices.SortFunc(j.laid, func(a, b *depPackage) int { return cmp.Compare(a.path, b.path) })
	return nil
}

func (j *job) add(p *depPackage, all []*depPackage) {
	if slices.Contains(j.laid, p) {
		return
	}
	j.laid = append(j.laid, p)
	for _, n := range p.facts.Needs {
		if parsed, err := need.Parse(n.Need); err == nil {
			if other := find(all, parsed); other != nil {
				j.add(other, all)
			}
		}
	}
}

// find returns the newest package that meets a need.
func find(all []*depPackage, n need.Need) *depPackage {
	var best *depPackage
	for _, p := range all {
		if slices.ContainsFunc(p.facts.AllProvides(), n.MetBy) && (best == nil || best.facts.Full().Compare(p.facts.Full()) < 0) {
			best = p
		}
	}
	return best
}

// catalogue remembers what was read of package files, while these stay as they
// are.
type catalogue struct {
	mu    sync.Mutex
	known map[string]catalogued
}

type catalogued struct {
	size     int64
	modified time.Time
	pkg      *depPackage // nil for one that cannot be read
}

// packages lists the workspace's packages for its target. A damaged file among
// them meets nothing.
func (b *Builder) packages() ([]*depPackage, error) {
	dir := b.Workspace.Packages()
	entries, err := os.ReadDir(dir)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	b.catalogue.mu.Lock()
	defer b.catalogue.mu.Unlock()
	if b.catalogue.known == nil {
		b.catalogue.known = map[string]catalogued{}
	}
	var all []*depPackage
	for _, e := range entries {
		if _, _, _, ok := ell.ParseFileName(e.Name()); !ok {
			continue
		}
		path := filepath.Join(dir, e.Name())
		info, err := os.Stat(path)
		if err != nil {
			continue // it is being replaced
		}
		c, ok := b.catalogue.known[path]
		if !ok || c.size != info.Size() || !c.modified.Equal(info.ModTime()) {
			c = catalogued{info.Size(), info.ModTime(), b.readPackage(path)}
			b.catalogue.known[path] = c
		}
		if p := c.pkg; p != nil && p.facts.Target == b.Workspace.Target.Name && (p.facts.Arch == fact.Independent || p.facts.Arch == b.Workspace.Target.Arch) {
			all = append(all, p)
		}
	}
	return all, nil
}

func (b *Builder) readPackage(path string) *depPackage {
	p, err := ell.Open(path)
	if err != nil {
		b.Progress.Note(err.Error() + "; it is skipped")
		return nil
	}
	defer p.Close()
	own, _ := p.Meta("facts.json")
	return &depPackage{path: p.Path, facts: p.Facts, digest: fact.SHA256(own), build: p.Build}
}

// lay readies the packages that meet build needs to be laid over the system:
// each is unpacked once, into a directory under its digest.
func (j *job) lay(ctx context.Context) error {
	if !j.separate() {
		return nil
	}
	j.over = nil
	for _, l := range j.laid {
		dir := j.Workspace.State("needs", l.digest[:32])
		j.over = append(j.over, dir)
		if _, err := os.Stat(dir); err == nil {
			now := time.Now()
			os.Chtimes(dir, now, now)
			continue
		}
		temp, err := os.MkdirTemp(j.scrapFor("needs"), "")
		if err != nil {
			return err
		}
		err = errors.Join(os.Chmod(temp, 0o755), j.extract(ctx, l, temp))
		if err == nil {
			// Another build may have been quicker.
			if err = os.Rename(temp, dir); errors.Is(err, fs.ErrExist) || errors.Is(err, syscall.ENOTEMPTY) {
				err = nil
			}
		}
		if err := errors.Join(err, layer.RemoveAll(temp)); err != nil {
			return err
		}
	}
	return nil
}

// scrapFor makes a directory under the workspace's state, and one in it to make
// things in.
func (j *job) scrapFor(name string) string {
	dir := j.Workspace.State(name, ".new")
	os.MkdirAll(dir, 0o755) // what is made in it fails if this does
	return dir
}

func (j *job) extract(ctx context.Context, l *depPackage, dir string) error {
	p, err := ell.Open(l.path)
	if err != nil {
		return err
	}
	defer p.Close()
	_, err = p.Extract(ctx, dir, ell.Extraction{})
	return err
}

// layInto unpacks the packages that meet build needs into one directory of the
// tree, and points the pkg-config files in it there.
func (j *job) layInto(ctx context.Context, dir string) error {
	if len(j.laid) == 0 {
		return nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, l := range j.laid {
		if err := j.extract(ctx, l, dir); err != nil {
			return err
		}
	}
	return filepath.WalkDir(dir, func(file string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || filepath.Ext(file) != ".pc" {
			return err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		return os.WriteFile(file, usrPrefix.ReplaceAll(text, []byte("${1}"+strings.ReplaceAll(j.worktree.seen("needs"), "$", "$$")+"/usr")), 0o644)
	})
}

var usrPrefix = pattern.New(`(?m)^(\s*\w+\s*=\s*)/usr\b`)
