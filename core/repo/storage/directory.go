package storage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"ellwand.example/core/cancel"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"golang.org/x/sync/errgroup"
)

// Directory is a repository's storage in a directory.
type Directory struct {
	Dir string
	// written are the files put since the last Replace, which flushes them; nil
	// where each is flushed by itself.
	written *written
}

// NewDirectory returns the storage in a directory, which need not exist yet.
func NewDirectory(dir string) Directory { return Directory{dir, &written{}} }

// written are files that may not be on disk yet.
type written struct {
	mu    sync.Mutex
	paths []string
}

func (w *written) add(path string) {
	w.mu.Lock()
	w.paths = append(w.paths, path)
	w.mu.Unlock()
}

// take returns the files, with the directories from theirs up to top.
func (w *written) take(top string) []string {
	w.mu.Lock()
	paths := w.paths
	w.paths = nil
	w.mu.Unlock()
	dirs := map[string]bool{top: true}
	for _, p := range paths {
		for dir := filepath.Dir(p); !dirs[dir] && len(dir) > len(top); dir = filepath.Dir(dir) {
			dirs[dir] = true
		}
	}
	return append(paths, slices.Sorted(maps.Keys(dirs))...)
}

// Where is the directory.
func (d Directory) Where() string { return d.Dir }

// LocalPath is the directory.
func (d Directory) LocalPath() (dir string, ok bool) { return d.Dir, true }

// Address is the path of a file.
func (d Directory) Address(name string) string { return d.Path(name) }

// Path is where a file is.
func (d Directory) Path(name string) string { return filepath.Join(d.Dir, filepath.FromSlash(name)) }

// Open opens a file.
func (d Directory) Open(_ context.Context, name string) (io.ReadCloser, error) {
	return os.Open(d.Path(name))
}

// Put writes a file beside and renames it.
func (d Directory) Put(ctx context.Context, name string, r io.Reader) error {
	t, err := os.CreateTemp(d.Path(Incoming), "put-")
	if err != nil {
		return err
	}
	defer os.Remove(t.Name()) // fails after the rename, as it should
	defer t.Close()
	if _, err := io.Copy(t, cancel.Reader(ctx, r)); err != nil {
		return err
	}
	if err := t.Chmod(files.Mode(d.Dir)); err != nil {
		return err
	}
	if d.written == nil {
		if err := t.Sync(); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	path := d.Path(name)
	if err := files.MkdirAll(filepath.Dir(path)); err != nil {
		return err
	}
	if err := os.Rename(t.Name(), path); err != nil {
		return err
	}
	if d.written != nil {
		d.written.add(path)
		return nil
	}
	return files.Flush(ctx, filepath.Dir(path))
}

// Current reads a file; its mark is its digest.
func (d Directory) Current(_ context.Context, name string) ([]byte, string, error) {
	data, err := os.ReadFile(d.Path(name))
	if err != nil {
		return nil, "", err
	}
	return data, fact.SHA256(data), nil
}

// Replace flushes all files put before, and renames.
func (d Directory) Replace(ctx context.Context, name string, data []byte, mark string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if _, now, err := d.Current(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	} else if now != mark {
		return ErrChanged // by somebody who does not know of locks
	}
	// The new file is flushed together with all that it names: a file system
	// writes what several ask for in one go.
	t, err := os.CreateTemp(d.Path(Incoming), "put-")
	if err != nil {
		return err
	}
	defer os.Remove(t.Name()) // fails after the rename, as it should
	defer t.Close()
	if _, err := t.Write(data); err != nil {
		return err
	}
	if err := errors.Join(t.Chmod(files.Mode(d.Dir)), t.Close()); err != nil {
		return err
	}
	paths := []string{t.Name()}
	if d.written != nil {
		paths = append(paths, d.written.take(d.Dir)...)
	}
	if err := files.Flush(ctx, paths...); err != nil {
		return fmt.Errorf("writing %s to disk: %w", d.Dir, err)
	}
	if err := os.Rename(t.Name(), d.Path(name)); err != nil {
		return err
	}
	return files.Flush(ctx, d.Dir) // the rename itself
}

// List walks the directory, without what is under way.
func (d Directory) List(ctx context.Context, prefix string, each func(Stored) error) error {
	err := filepath.WalkDir(d.Path(strings.TrimSuffix(prefix, "/")), func(p string, e fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		name, err := filepath.Rel(d.Dir, p)
		if err != nil {
			return err
		}
		if name == Incoming {
			return fs.SkipDir
		}
		if strings.HasPrefix(e.Name(), ".new-") {
			return nil // a write that was interrupted
		}
		if e.IsDir() {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		return each(Stored{filepath.ToSlash(name), info.Size(), info.ModTime()})
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Packages lists the package files, sorted by name. Each package has a directory,
// and there are thousands: they are read on all cores.
func (d Directory) Packages(ctx context.Context) ([]Stored, error) {
	directories, err := filepath.Glob(filepath.Join(files.EscapeGlob(d.Path("packages")), "*", "*"))
	if err != nil {
		return nil, err
	}
	found := make([][]Stored, len(directories))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(2 * runtime.GOMAXPROCS(0))
	const share = 64
	for begin := 0; begin < len(directories); begin += share {
		g.Go(func() error {
			for i := begin; i < min(begin+share, len(directories)) && ctx.Err() == nil; i++ {
				entries, err := os.ReadDir(directories[i])
				if err != nil {
					continue // a stray file, or a directory that is gone again
				}
				for _, e := range entries {
					if e.IsDir() || !strings.HasSuffix(e.Name(), ell.Extension) {
						continue
					}
					info, err := e.Info()
					if err != nil {
						return err
					}
					name, err := filepath.Rel(d.Dir, filepath.Join(directories[i], e.Name()))
					if err != nil {
						return err
					}
					found[i] = append(found[i], Stored{filepath.ToSlash(name), info.Size(), info.ModTime()})
				}
			}
			return ctx.Err()
		})
	}
	err = g.Wait()
	return slices.Concat(found...), err
}

// Remove removes a file, and directories that are empty without it.
func (d Directory) Remove(_ context.Context, name string) error {
	if err := os.Remove(d.Path(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for dir := path.Dir(name); strings.Contains(dir, "/"); dir = path.Dir(dir) {
		if os.Remove(d.Path(dir)) != nil {
			break // something else is in it
		}
	}
	return nil
}

// Lock takes an advisory lock on a file in the directory. A directory that is
// missing or empty is made ready for a repository.
func (d Directory) Lock(ctx context.Context) (func(), error) {
	if err := d.ready(); err != nil {
		return nil, err
	}
	if err := files.MkdirAll(d.Path(Incoming)); err != nil {
		return nil, err
	}
	unlock, err := files.Lock(ctx, filepath.Join(d.Path(Incoming), "lock"))
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(d.Path(Incoming))
	if err == nil {
		for _, e := range entries {
			if e.Name() != "lock" && e.Name() != path.Base(SeenFile) {
				err = errors.Join(err, os.Remove(filepath.Join(d.Path(Incoming), e.Name())))
			}
		}
	}
	if err != nil {
		unlock()
		return nil, err
	}
	return func() { unlock() }, nil
}

func (d Directory) ready() error {
	entries, err := os.ReadDir(d.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return files.MkdirAll(d.Dir)
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == PointerFile {
			return nil
		}
	}
	// A publisher may be starting it at this moment, or was interrupted.
	ours := map[string]bool{Incoming: true, "packages": true, "listings": true, "files": true, "snapshots": true, "pages": true, "index.html": true}
	started := false
	for _, e := range entries {
		started = started || e.Name() == Incoming
	}
	for _, e := range entries {
		if !started || !ours[e.Name()] {
			return &NotRepositoryError{d.Dir, true}
		}
	}
	return nil
}
