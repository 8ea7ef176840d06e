package satisfy

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
)

// BySystem is what meets a need that no package of the workspace meets: the
// machine itself.
const BySystem = "system"

// depPackage is a package of the workspace that a build depends on.
type Package struct {
	Path   string
	Facts  ell.Facts
	Digest string // of its facts.json, which pins everything else in it
	Build  ell.BuildRecord
}

// Find returns the newest package that meets a need.
func Find(all []*Package, n need.Need) *Package {
	var best *Package
	for _, p := range all {
		if slices.ContainsFunc(p.Facts.AllProvides(), n.MetBy) && (best == nil || best.Facts.Full().Compare(p.Facts.Full()) < 0) {
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
	pkg      *Package // nil for one that cannot be read
}

// Packages lists the workspace's packages for its target. A damaged file among
// them meets nothing.
func (b *Resolver) Packages() ([]*Package, error) {
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
	var all []*Package
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
		if p := c.pkg; p != nil && p.Facts.Target == b.Workspace.Target.Name && (p.Facts.Arch == fact.Independent || p.Facts.Arch == b.Workspace.Target.Arch) {
			all = append(all, p)
		}
	}
	return all, nil
}

func (b *Resolver) readPackage(path string) *Package {
	p, err := ell.Open(path)
	if err != nil {
		b.Progress.Note(err.Error() + "; it is skipped")
		return nil
	}
	defer p.Close()
	own, _ := p.Meta("facts.json")
	return &Package{Path: p.Path, Facts: p.Facts, Digest: fact.SHA256(own), Build: p.Build}
}

// NotOf leaves out the packages of a recipe.
func NotOf(all []*Package, recipe string) []*Package {
	return slices.DeleteFunc(slices.Clone(all), func(p *Package) bool { return p.Facts.Recipe == recipe })
}

// Newest keeps the newest package of each name.
func Newest(all []*Package) []*Package {
	best := map[string]*Package{}
	for _, p := range all {
		if have := best[p.Facts.Name]; have == nil || have.Facts.Full().Compare(p.Facts.Full()) < 0 {
			best[p.Facts.Name] = p
		}
	}
	var out []*Package
	for _, name := range slices.Sorted(maps.Keys(best)) {
		out = append(out, best[name])
	}
	return out
}
