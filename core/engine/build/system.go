package build

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/cancel"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/source/archive"
	"ellwand.example/core/workspace"
)

// SystemError reports that a target's system cannot be used.
type SystemError struct{ Target, Reason string }

func (e *SystemError) Error() string { return fmt.Sprintf("target %s: %s", e.Target, e.Reason) }

// Status is that of something the machine lacks.
func (e *SystemError) Status() fact.Status { return fact.StatusMachine }

// System finds the directory with the system that a workspace's target builds
// on; it is empty for the running system. A root archive is unpacked on first use,
// into a directory named by its digest.
func System(ctx context.Context, w *workspace.Workspace, sink progress.Sink) (string, error) {
	if !w.RunsHere() && w.Cross() == "" {
		return "", &SystemError{w.Target.Name, fmt.Sprintf("it is for %s, whose programs do not run on this machine: build it on one of its kind, or name a cross toolchain: toolchain = \"%s-linux-gnu\"", w.Target.Arch, w.Target.Arch)}
	}
	if w.On.System == "" || w.On.System == workspace.HostSystem {
		return "", nil
	}
	path := w.Abs(w.On.System)
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	if !info.IsDir() {
		if path, err = UnpackSystem(ctx, w.State("systems"), path, sink); err != nil {
			var damaged *fact.Error
			if errors.As(err, &damaged) {
				return "", &SystemError{w.Target.Name, damaged.Error()}
			}
			return "", err
		}
	}
	for _, shell := range []string{"bin/sh", "usr/bin/sh"} {
		if _, err := os.Lstat(filepath.Join(path, shell)); err == nil {
			return path, nil
		}
	}
	return "", &SystemError{w.Target.Name, w.On.System + " has no /bin/sh, so that no step could run on it"}
}

// UnpackSystem unpacks a root archive into a directory below all that its digest names,
// unless it is there, and returns that. Device nodes are left out, since every sandbox has
// its own; setuid programs come without that bit. The error is a *fact.Error if the
// archive is at fault.
func UnpackSystem(ctx context.Context, all, archive string, sink progress.Sink) (string, error) {
	file, err := os.Open(archive)
	if err != nil {
		return "", err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return "", err
	}
	t := sink.Begin("read "+filepath.Base(archive), 2*info.Size(), "bytes")
	defer t.End("done")
	h := sha256.New()
	if _, err := io.Copy(h, cancel.Reader(ctx, &advancing{file, t})); err != nil {
		return "", err
	}
	dir := filepath.Join(all, hex.EncodeToString(h.Sum(nil))[:32])
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	if err := os.MkdirAll(all, 0o755); err != nil {
		return "", err
	}
	temp, err := os.MkdirTemp(all, ".new-")
	if err != nil {
		return "", err
	}
	defer layer.RemoveAll(temp)
	if err := unpackRoot(ctx, &advancing{file, t}, temp); err != nil {
		if ctx.Err() != nil {
			return "", context.Cause(ctx)
		}
		return "", fact.Errorf(fact.StatusInput, "%s: %v", archive, err)
	}
	if err := errors.Join(os.Chmod(temp, 0o755), os.Rename(temp, dir)); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	return dir, nil
}

// advancing tells a task of what is read through it.
type advancing struct {
	r io.Reader
	t progress.Task
}

func (a *advancing) Read(p []byte) (int, error) {
	n, err := a.r.Read(p)
	a.t.Advance(int64(n))
	return n, err
}

// unpackRoot unpacks a root archive. Files and directories stay readable for
// no matter who unpacked them.
func unpackRoot(ctx context.Context, in io.Reader, dir string) error {
	plain, done, err := archive.Decompress(in)
	if err != nil {
		return err
	}
	defer done()
	tree, err := archive.OpenTree(dir)
	if err != nil {
		return err
	}
	defer tree.Close()
	tree.AbsoluteLinks = true
	type directory struct {
		name string
		mode fs.FileMode
	}
	var directories []directory
	var written int64
	entries := 0
	err = archive.ReadTar(ctx, plain, func(e archive.Entry) error {
		if entries++; entries > maxRootEntries {
			return fmt.Errorf("it holds more than %d entries", maxRootEntries)
		}
		name, err := archive.Clean(strings.TrimLeft(e.Name, "/"))
		if err != nil || name == "." {
			if name == "." || strings.Trim(e.Name, "/") == "" {
				return nil
			}
			return fmt.Errorf("%q %w", e.Name, err)
		}
		mode := e.Mode & fs.ModePerm
		switch e.Kind {
		case archive.Directory:
			err = tree.Directory(name)
			directories = append(directories, directory{name, mode})
		case archive.File:
			var n int64
			n, err = tree.File(name, mode|0o400, e.Modified, cancel.Reader(ctx, io.LimitReader(e.Contents, maxRootBytes-written+1)))
			if written += n; written > maxRootBytes {
				return fmt.Errorf("it would unpack to more than %d bytes", int64(maxRootBytes))
			}
		case archive.Symlink:
			err = tree.Symlink(name, e.Link)
		case archive.Hardlink:
			err = tree.Hardlink(name, strings.TrimLeft(e.Link, "/"))
		}
		if err != nil {
			return fmt.Errorf("%q %w", e.Name, err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	// Last, since one may forbid to write into it.
	for i := len(directories) - 1; i >= 0; i-- {
		if err := tree.Root().Chmod(directories[i].name, directories[i].mode|0o500); err != nil {
			return err
		}
	}
	return nil
}

// Bounds on what a root archive may unpack to.
const (
	maxRootEntries = 4_000_000
	maxRootBytes   = 256 << 30
)
