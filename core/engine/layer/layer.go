// Package layer keeps what the steps of builds changed, one layer a step. A
// layer is a directory as the kernel's overlay file system leaves it: what was
// added or changed, and marks for what was removed
// (https://docs.kernel.org/filesystems/overlayfs.html; with the option
// userxattr the marks are in user.overlay.* attributes). It is named by the
// key of all its inputs, and lies on the layer below.
//
// A layer appears by a rename once its step has ended well, so that one that
// is there is whole, whatever was killed. Writing it to disk is left to the
// kernel, which takes its time: a layer counts only as long as the machine has
// not been restarted since it was made, or once Flush has written it.
package layer

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"ellwand.example/core/files"
)

// Store holds the layers of one recipe.
type Store struct {
	Dir string
	// Copies says that there are no overlay mounts: each layer holds
	// everything, and depends on none.
	Copies bool
	// Boot names the time since the machine started last; empty for the
	// kernel's own name for it (random(4), boot_id).
	Boot string
}

// boot names the time since the machine started last.
var boot = sync.OnceValue(func() string {
	id, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(id))
})

func (s Store) boot() string { return cmp.Or(s.Boot, boot()) }

// Layer is one layer.
type Layer struct {
	Key     string    `json:"key"`
	Below   string    `json:"below,omitempty"` // the key of the layer that it depends on
	Step    string    `json:"step"`
	Recipe  string    `json:"recipe"`
	Version string    `json:"version"` // with the release
	Made    time.Time `json:"made"`
	Bytes   int64     `json:"bytes"` // on disk
	// Inode is that of its directory. A copy has another, and may lack owners,
	// times and attributes that matter: it is no layer.
	Inode uint64 `json:"inode"`
	// Boot is that of the store when it was made; Flushed that it is on disk.
	Boot    string    `json:"boot"`
	Flushed bool      `json:"flushed,omitempty"`
	Used    time.Time `json:"-"`
}

// Names in a store and in a layer.
const (
	underWay = "under-way"
	failed   = "failed"
	treeDir  = "tree"   // the layer's own part of the tree
	kernel   = "kernel" // overlayfs' own directory, while a step runs
	facts    = "layer.json"
)

func (s Store) dir(key string) string { return filepath.Join(s.Dir, key) }

// Get returns a layer; ok is false if there is none.
func (s Store) Get(key string) (Layer, bool) {
	data, err := os.ReadFile(filepath.Join(s.dir(key), facts))
	if err != nil {
		return Layer{}, false
	}
	var l Layer
	if json.Unmarshal(data, &l) != nil || !l.Flushed && l.Boot != s.boot() || l.Inode != inode(filepath.Join(s.dir(key), treeDir)) {
		return Layer{}, false
	}
	if info, err := os.Stat(s.dir(key)); err == nil {
		l.Used = info.ModTime()
	}
	return l, true
}

// Has reports whether a layer is there with all that it depends on, and notes
// that it was used.
func (s Store) Has(key string) bool {
	for key != "" {
		l, ok := s.Get(key)
		if !ok || l.Key != key {
			return false
		}
		now := time.Now()
		os.Chtimes(s.dir(key), now, now)
		key = l.Below
	}
	return true
}

// Failed returns the layer of the step that failed last, and whether there is
// one.
func (s Store) Failed() (Layer, bool) { return s.Get(failed) }

// FailedTree is the failed step's own part of the tree.
func (s Store) FailedTree() string { return filepath.Join(s.Dir, failed, treeDir) }

// Trees lists the directories of a layer and of those that it depends on, the
// upper ones first. An empty key has none.
func (s Store) Trees(key string) []string {
	var out []string
	for key != "" {
		l, ok := s.Get(key)
		if !ok {
			return nil
		}
		out = append(out, filepath.Join(s.dir(key), treeDir))
		key = l.Below
	}
	return out
}

// Begin makes the directory in which a step's changes to the layer below are
// gathered, and one for the kernel. The names are directories made in it.
func (s Store) Begin(below string, names ...string) (tree, work string, err error) {
	dir := s.dir(underWay)
	if err := RemoveAll(dir); err != nil {
		return "", "", err
	}
	tree, work = filepath.Join(dir, treeDir), filepath.Join(dir, kernel)
	for _, d := range []string{tree, work} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return "", "", err
		}
	}
	if s.Copies && below != "" {
		if err := Merge(tree, s.Trees(below), Copy); err != nil {
			return "", "", err
		}
	}
	for _, name := range names {
		if err := os.Mkdir(filepath.Join(tree, name), 0o755); err != nil {
			return "", "", err
		}
	}
	return tree, work, nil
}

// Commit makes what is under way a layer. One with the same key gives way,
// with all those above it.
func (s Store) Commit(l Layer) error {
	if err := s.Remove(l.Key); err != nil {
		return err
	}
	return s.settle(l, l.Key)
}

// Fail keeps what is under way as the step that failed last.
func (s Store) Fail(l Layer) error {
	if err := RemoveAll(s.dir(failed)); err != nil {
		return err
	}
	return s.settle(l, failed)
}

func (s Store) settle(l Layer, name string) error {
	dir := s.dir(underWay)
	if err := RemoveAll(filepath.Join(dir, kernel)); err != nil {
		return err
	}
	if s.Copies {
		l.Below = ""
	}
	l.Made, l.Boot = time.Now().UTC(), s.boot()
	l.Bytes, l.Inode = Size(filepath.Join(dir, treeDir)), inode(filepath.Join(dir, treeDir))
	data, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if err := files.Write(filepath.Join(dir, facts), data); err != nil {
		return err
	}
	return os.Rename(dir, s.dir(name))
}

// settled is the age from which a layer's files are mostly on disk already, so
// that flushing them costs little.
const settled = time.Minute

// Flush writes a layer and those below it to disk, as far as they are old
// enough, so that they outlive a restart of the machine.
func (s Store) Flush(ctx context.Context, key string) error {
	for key != "" {
		l, ok := s.Get(key)
		if !ok {
			return nil
		}
		if !l.Flushed && time.Since(l.Made) >= settled {
			if err := s.flush(ctx, l); err != nil {
				return err
			}
		}
		key = l.Below
	}
	return nil
}

func (s Store) flush(ctx context.Context, l Layer) error {
	dir := s.dir(l.Key)
	var paths []string
	err := filepath.WalkDir(filepath.Join(dir, treeDir), func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if e.IsDir() || e.Type().IsRegular() {
			paths = append(paths, p)
		}
		return ctx.Err()
	})
	if errors.Is(err, fs.ErrPermission) {
		return nil // a directory that forbids it: the layer is made again after a restart
	}
	if err != nil {
		return err
	}
	if err := files.Flush(ctx, paths...); err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return nil
		}
		return err
	}
	l.Flushed = true
	data, err := json.Marshal(l)
	if err != nil {
		return err
	}
	used := l.Used
	if err := files.WriteDurable(filepath.Join(dir, facts), data); err != nil {
		return err
	}
	return os.Chtimes(dir, used, used)
}

// List lists all layers, and what failed, by when they were used, the oldest
// first.
func (s Store) List() ([]Layer, error) {
	entries, err := os.ReadDir(s.Dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var out []Layer
	for _, e := range entries {
		if l, ok := s.Get(e.Name()); ok {
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b Layer) int { return a.Used.Compare(b.Used) })
	return out, nil
}

// Remove removes a layer and those above it. One that does not exist is
// as good as removed.
func (s Store) Remove(key string) error {
	all, err := s.List()
	if err != nil {
		return err
	}
	for _, l := range all {
		if l.Below == key && l.Key != key {
			if err := s.Remove(l.Key); err != nil {
				return err
			}
		}
	}
	if f, ok := s.Failed(); ok && (f.Below == key || f.Key == key) {
		if err := RemoveAll(s.dir(failed)); err != nil {
			return err
		}
	}
	return RemoveAll(s.dir(key))
}

// Clear removes what is no layer: what a killed build left half done, and
// copies of layers.
func (s Store) Clear() error {
	entries, err := os.ReadDir(s.Dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if _, ok := s.Get(e.Name()); !ok {
			if err := RemoveAll(s.dir(e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// inode is the number of a file on its file system; 0 for none.
func inode(path string) uint64 {
	info, err := os.Lstat(path)
	if err != nil {
		return 0
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0
	}
	return st.Ino
}

// Size is what a directory takes on disk, in bytes.
func Size(dir string) int64 {
	var total int64
	filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if info, err := e.Info(); err == nil {
			if st, ok := info.Sys().(*syscall.Stat_t); ok {
				total += st.Blocks * 512
			}
		}
		return nil
	})
	return total
}

// RemoveAll removes a tree in which a build may have left directories that forbid
// it.
func RemoveAll(dir string) error {
	if err := os.RemoveAll(dir); err == nil || !errors.Is(err, fs.ErrPermission) {
		return err
	}
	filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			os.Chmod(p, 0o700)
		}
		return nil
	})
	return os.RemoveAll(dir)
}
