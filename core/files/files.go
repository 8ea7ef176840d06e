// Package files makes directories and files that several users may share, and
// sees to it that what was written survives a power failure, without waiting
// for what other programs write.
package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
)

// isShared reports whether a directory belongs to a group that works together:
// its members may write there, and what is made in it is the group's (setgid).
func isShared(info fs.FileInfo) bool {
	return info.Mode()&fs.ModeSetgid != 0 && info.Mode().Perm()&0o020 != 0
}

// MkdirAll makes a directory and those above it that are missing. Below a
// shared one they are shared too, whatever the umask.
func MkdirAll(dir string) error {
	if info, err := os.Stat(dir); err == nil {
		if !info.IsDir() {
			return &fs.PathError{Op: "mkdir", Path: dir, Err: unix.ENOTDIR}
		}
		return nil
	}
	above := filepath.Dir(dir)
	if above == dir {
		return os.MkdirAll(dir, 0o755)
	}
	if err := MkdirAll(above); err != nil {
		return err
	}
	if info, err := os.Stat(above); err == nil && isShared(info) {
		return mkdirShared(dir)
	}
	err := os.Mkdir(dir, 0o755)
	if errors.Is(err, fs.ErrExist) {
		return nil // by another process at the same moment
	}
	return err
}

// mkdirShared makes a shared directory. It appears with its mode: another process that
// made a directory in it before it had that would not share its own.
func mkdirShared(dir string) error {
	temp, err := os.MkdirTemp(filepath.Dir(dir), ".new-")
	if err != nil {
		return err
	}
	err = os.Chmod(temp, 0o775|fs.ModeSetgid)
	if err == nil {
		err = unix.Renameat2(unix.AT_FDCWD, temp, unix.AT_FDCWD, dir, unix.RENAME_NOREPLACE)
	}
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) { // a file system without that
		err = os.Rename(temp, dir)
	}
	if err != nil {
		os.Remove(temp)
	}
	if errors.Is(err, fs.ErrExist) {
		return nil // by another process at the same moment
	}
	return err
}

// Mode is the mode of a file in a directory: a group that shares the directory
// may write to it.
func Mode(dir string) fs.FileMode {
	if info, err := os.Stat(dir); err == nil && isShared(info) {
		return 0o664
	}
	return 0o644
}

// Write puts data into a file, which appears whole or not at all. After a
// power failure it may be empty or as it was: it is for what can be made again.
// WriteDurable is for the rest.
func Write(path string, data []byte) error { return write(path, data, false) }

// WriteDurable is Write for a file that has to survive a power failure once
// it is there.
func WriteDurable(path string, data []byte) error { return write(path, data, true) }

func write(path string, data []byte, durable bool) error {
	dir := filepath.Dir(path)
	t, err := os.CreateTemp(dir, ".new-")
	if err != nil {
		return err
	}
	defer os.Remove(t.Name()) // fails after the rename, as it should
	defer t.Close()
	if _, err := t.Write(data); err != nil {
		return err
	}
	if err := t.Chmod(Mode(dir)); err != nil {
		return err
	}
	if durable {
		if err := t.Sync(); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	if err := os.Rename(t.Name(), path); err != nil || !durable {
		return err
	}
	return Flush(context.Background(), dir)
}

// flushers is how many files are flushed at the same time: file systems write what
// several ask for together.
func flushers() int { return 8 * runtime.GOMAXPROCS(0) }

// Flush waits until files and directories are on disk, and for nothing else: a
// flush of the whole file system waits for whatever any process has written.
// Paths that no longer exist are skipped.
func Flush(ctx context.Context, paths ...string) error {
	// First the data, so that the file system has all of it when the first
	// fsync makes it commit its journal: otherwise the commit is under way
	// before the other files have their blocks, and they wait for the next.
	if len(paths) > 1 {
		if err := each(ctx, paths, writeOut); err != nil {
			return err
		}
	}
	return each(ctx, paths, func(f *os.File) error {
		err := f.Sync()
		if errors.Is(err, unix.EINVAL) {
			return nil // a file system that has nothing to flush
		}
		return err
	})
}

// writeOut writes the data of a file to disk, without what the file system
// records about it. It is an optimization, so that file systems without it do
// no harm.
func writeOut(f *os.File) error {
	err := unix.SyncFileRange(int(f.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WAIT_BEFORE|unix.SYNC_FILE_RANGE_WRITE|unix.SYNC_FILE_RANGE_WAIT_AFTER)
	if errors.Is(err, unix.EIO) || errors.Is(err, unix.ENOSPC) {
		return &fs.PathError{Op: "sync", Path: f.Name(), Err: err}
	}
	return nil
}

// each opens paths, several at the same time, and calls a function with each
// that exists.
func each(ctx context.Context, paths []string, do func(*os.File) error) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(flushers())
	for _, path := range paths {
		g.Go(func() error {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			f, err := os.Open(path)
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil {
				return err
			}
			return errors.Join(do(f), f.Close())
		})
	}
	return g.Wait()
}

// lockEvery is how often a lock that another process holds is tried.
const lockEvery = 20 * time.Millisecond

// Lock takes the advisory lock of a file, which it makes, and waits while
// another process holds it.
func Lock(ctx context.Context, path string) (unlock func() error, err error) {
	lock := flock.New(path, flock.SetPermissions(Mode(filepath.Dir(path))))
	if err := prepare(path); err != nil {
		return nil, err
	}
	ok, err := lock.TryLockContext(ctx, lockEvery)
	if err != nil || !ok {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, fmt.Errorf("%s cannot be locked: %w", path, err)
	}
	return lock.Unlock, nil
}

// prepare makes a lock's file, with the directory's mode whatever the umask.
func prepare(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return errors.Join(f.Chmod(Mode(filepath.Dir(path))), f.Close())
}

// ErrNotRegular reports a directory, device, pipe or socket where a regular file is
// expected.
var ErrNotRegular = errors.New("not a regular file")

// TooLargeError reports a file that is larger than what is read of its kind.
type TooLargeError struct{ Size, Limit int64 } // bytes

func (e *TooLargeError) Error() string {
	return fmt.Sprintf("the file has %d bytes; at most %d are read", e.Size, e.Limit)
}

// ReadRegular reads an open file that has to be a regular one of at most limit
// bytes. It should have been opened with O_NONBLOCK, so that opening a pipe does
// not wait. Errors are ErrNotRegular, *TooLargeError and those of reading.
func ReadRegular(f *os.File, limit int64) ([]byte, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, ErrNotRegular
	}
	if info.Size() > limit {
		return nil, &TooLargeError{info.Size(), limit}
	}
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = &TooLargeError{int64(len(data)), limit} // it grew meanwhile
	}
	return data, err
}

// EscapeGlob returns a path as a pattern of filepath.Glob that matches it alone.
func EscapeGlob(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(path)
}
