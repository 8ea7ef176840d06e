package build

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/gofrs/flock"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/workspace"
)

// Cleaned is one thing that was removed.
type Cleaned struct {
	Recipe string    `json:"recipe"` // or "needs", for a package that was unpacked to build on
	Step   string    `json:"step"`
	Used   time.Time `json:"used"`
	Bytes  int64     `json:"bytes"`
}

// Choice says which layers are to be removed: those that all of it is true of.
type Choice struct {
	Recipes []string      // of these recipes; none for all
	Older   time.Duration // not used for so long
	Keep    int64         // the ones used last, up to so many bytes; below 0 for none
}

// Clean removes layers. Those of a recipe that is being built are left alone.
func Clean(w *workspace.Workspace, c Choice) ([]Cleaned, error) {
	type found struct {
		layer.Layer
		store layer.Store
	}
	var all []found
	entries, err := os.ReadDir(w.State("layers"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range entries {
		store := layer.Store{Dir: w.State("layers", e.Name())}
		layers, err := store.List()
		if err != nil {
			return nil, err
		}
		for _, l := range layers {
			l.Recipe = e.Name()
			all = append(all, found{l, store})
		}
	}
	// The ones used last come first, and are counted towards what is kept.
	slices.SortFunc(all, func(a, b found) int { return b.Used.Compare(a.Used) })
	out := []Cleaned{}
	var kept int64
	for _, l := range all {
		chosen := (len(c.Recipes) == 0 || slices.Contains(c.Recipes, l.Recipe)) && time.Since(l.Used) >= c.Older
		if !chosen {
			continue
		}
		if kept += l.Bytes; kept <= c.Keep {
			continue
		}
		removed, err := remove(w, l.store, l.Layer)
		if err != nil {
			return out, err
		}
		out = append(out, removed...)
	}
	if len(c.Recipes) > 0 {
		return out, nil
	}
	needs, err := cleanNeeds(w, c.Older)
	return append(out, needs...), err
}

// remove removes a layer and those above it, unless its recipe is being
// built.
func remove(w *workspace.Workspace, store layer.Store, l layer.Layer) ([]Cleaned, error) {
	state := w.State("build", l.Recipe)
	if err := os.MkdirAll(state, 0o755); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(state, "lock"))
	if ok, err := lock.TryLock(); err != nil || !ok {
		return nil, err
	}
	defer lock.Unlock()
	before, err := store.List()
	if err != nil {
		return nil, err
	}
	if err := errors.Join(store.Clear(), store.Remove(l.Key)); err != nil {
		return nil, err
	}
	after, err := store.List()
	if err != nil {
		return nil, err
	}
	var out []Cleaned
	for _, b := range before {
		if !slices.ContainsFunc(after, func(a layer.Layer) bool { return a.Key == b.Key && a.Made.Equal(b.Made) }) {
			out = append(out, Cleaned{l.Recipe, b.Step, b.Used, b.Bytes})
		}
	}
	if len(after) == 0 {
		err = layer.RemoveAll(store.Dir)
	}
	return out, err
}

// needsAge is how long unpacked packages stay at least: a build may depend on
// them right now.
const needsAge = 24 * time.Hour

// cleanNeeds removes packages that were unpacked to build on.
func cleanNeeds(w *workspace.Workspace, older time.Duration) ([]Cleaned, error) {
	entries, err := os.ReadDir(w.State("needs"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var out []Cleaned
	for _, e := range entries {
		dir := w.State("needs", e.Name())
		info, err := os.Stat(dir)
		if err != nil || time.Since(info.ModTime()) < max(older, needsAge) {
			continue
		}
		size := layer.Size(dir)
		if err := layer.RemoveAll(dir); err != nil {
			return out, err
		}
		out = append(out, Cleaned{"needs", e.Name(), info.ModTime(), size})
	}
	return out, nil
}
