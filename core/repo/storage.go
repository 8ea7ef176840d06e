package repo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"
	"golang.org/x/sys/unix"
)

// Storage holds a repository's files. Names are slash-separated.
type Storage interface {
	// Open returns a file's contents; the error is fs.ErrNotExist for one
	// that is not there.
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// Put stores an immutable file. It appears whole or not at all.
	Put(ctx context.Context, name string, r io.Reader) error
	// Replace stores the file that changes, after everything that was put
	// before is safe on disk.
	Replace(ctx context.Context, name string, data []byte) error
	// Lock keeps other publishers out until unlock is called, and clears away
	// what an interrupted one left.
	Lock(ctx context.Context) (unlock func(), err error)
	// Where tells a person where the repository is.
	Where() string
}

// incoming is where files stand until they are whole.
const incoming = ".incoming"

// Directory is a repository's storage in a folder.
type Directory struct{ Dir string }

// NotRepositoryError is a folder that cannot be taken for a repository.
type NotRepositoryError struct {
	Dir     string
	Foreign bool // it holds other things
}

func (e *NotRepositoryError) Error() string {
	if e.Foreign {
		return fmt.Sprintf("%s is not a repository (it has no %s) and not empty, so none is started there: name another folder", e.Dir, PointerFile)
	}
	return fmt.Sprintf("there is no repository at %s: `ellwand publish PACKAGE... --to %s` starts one", e.Dir, e.Dir)
}

// Where is the folder.
func (d Directory) Where() string { return d.Dir }

func (d Directory) path(name string) string { return filepath.Join(d.Dir, filepath.FromSlash(name)) }

// Open opens a file.
func (d Directory) Open(_ context.Context, name string) (io.ReadCloser, error) {
	return os.Open(d.path(name))
}

// contextReader stops a copy when its context ends.
type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (c contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}

// Put writes a file beside and renames it.
func (d Directory) Put(ctx context.Context, name string, r io.Reader) error {
	t, err := os.CreateTemp(d.path(incoming), "put-")
	if err != nil {
		return err
	}
	defer os.Remove(t.Name()) // fails after the rename, as it should
	defer t.Close()
	if _, err := io.Copy(t, contextReader{ctx, r}); err != nil {
		return err
	}
	if err := t.Chmod(0o644); err != nil {
		return err
	}
	if err := t.Close(); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(d.path(name)), 0o755); err != nil {
		return err
	}
	return os.Rename(t.Name(), d.path(name))
}

// Replace flushes the file system once for all files put before, and renames.
func (d Directory) Replace(ctx context.Context, name string, data []byte) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	dir, err := os.Open(d.Dir)
	if err != nil {
		return err
	}
	defer dir.Close()
	if err := unix.Syncfs(int(dir.Fd())); err != nil {
		return fmt.Errorf("writing %s to disk: %w", d.Dir, err)
	}
	t, err := renameio.NewPendingFile(d.path(name), renameio.WithTempDir(d.path(incoming)), renameio.WithStaticPermissions(0o644))
	if err != nil {
		return err
	}
	defer t.Cleanup()
	if _, err := t.Write(data); err != nil {
		return err
	}
	if err := t.CloseAtomicallyReplace(); err != nil {
		return err
	}
	return dir.Sync() // the rename itself
}

// Lock takes an advisory lock on a file in the folder. A folder that is
// missing or empty is made ready for a repository.
func (d Directory) Lock(ctx context.Context) (func(), error) {
	if err := d.ready(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(d.path(incoming), 0o755); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(d.path(incoming), "lock"))
	if ok, err := lock.TryLockContext(ctx, 20*time.Millisecond); err != nil || !ok {
		return nil, errors.Join(err, ctx.Err())
	}
	entries, err := os.ReadDir(d.path(incoming))
	if err == nil {
		for _, e := range entries {
			if e.Name() != "lock" {
				err = errors.Join(err, os.Remove(filepath.Join(d.path(incoming), e.Name())))
			}
		}
	}
	if err != nil {
		lock.Unlock()
		return nil, err
	}
	return func() { lock.Unlock() }, nil
}

func (d Directory) ready() error {
	entries, err := os.ReadDir(d.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return os.MkdirAll(d.Dir, 0o755)
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
	ours := map[string]bool{incoming: true, "packages": true, "shards": true, "files": true, "snapshots": true}
	started := false
	for _, e := range entries {
		started = started || e.Name() == incoming
	}
	for _, e := range entries {
		if !started || !ours[e.Name()] {
			return &NotRepositoryError{d.Dir, true}
		}
	}
	return nil
}
