package build

import (
	"archive/tar"
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

	"ellwand.example/core/layer"
	"ellwand.example/core/progress"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

// BaseError says that a target's base cannot be used.
type BaseError struct{ Target, Reason string }

func (e *BaseError) Error() string { return fmt.Sprintf("target %s: %s", e.Target, e.Reason) }

// Base finds the folder with the system that a workspace's target builds on;
// empty for this machine itself. A root archive is unpacked the first time,
// into a folder under its digest.
func Base(ctx context.Context, w *workspace.Workspace, sink progress.Sink) (string, error) {
	if !w.RunsHere() {
		return "", &BaseError{w.Target.Name, fmt.Sprintf("it is for %s, whose programs do not run on this machine: build it on one of its kind", w.Target.Arch)}
	}
	if w.On.Base == "" || w.On.Base == workspace.HostBase {
		return "", nil
	}
	path := w.Abs(w.On.Base)
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	if !info.IsDir() {
		if path, err = importBase(ctx, w, path, info.Size(), sink); err != nil {
			return "", err
		}
	}
	for _, shell := range []string{"bin/sh", "usr/bin/sh"} {
		if _, err := os.Lstat(filepath.Join(path, shell)); err == nil {
			return path, nil
		}
	}
	return "", &BaseError{w.Target.Name, w.On.Base + " has no /bin/sh, so that no step could run on it"}
}

// importBase unpacks a root archive. Device nodes are left out, since every
// sandbox has its own; setuid programs come without that bit.
func importBase(ctx context.Context, w *workspace.Workspace, archive string, size int64, sink progress.Sink) (string, error) {
	file, err := os.Open(archive)
	if err != nil {
		return "", err
	}
	defer file.Close()
	t := sink.Begin("read "+filepath.Base(archive), 2*size, "bytes")
	defer t.End("done")
	h := sha256.New()
	if _, err := io.Copy(h, &advancing{file, t}); err != nil {
		return "", err
	}
	all := w.State("bases")
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
		return "", &BaseError{w.Target.Name, fmt.Sprintf("%s: %v", archive, err)}
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

func unpackRoot(ctx context.Context, in io.Reader, dir string) error {
	plain, done, err := source.Decompress(in)
	if err != nil {
		return err
	}
	defer done()
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	type folder struct {
		name string
		mode fs.FileMode
	}
	var folders []folder
	for r := tar.NewReader(plain); ; {
		if err := ctx.Err(); err != nil {
			return err
		}
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		name := filepath.Clean(strings.TrimLeft(h.Name, "/"))
		mode := fs.FileMode(h.Mode) & fs.ModePerm
		if name == "." {
			continue
		}
		if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = root.MkdirAll(name, 0o755)
			folders = append(folders, folder{name, mode})
		case tar.TypeReg:
			err = writeIn(root, name, mode|0o400, r)
		case tar.TypeSymlink:
			err = root.Symlink(h.Linkname, name)
		case tar.TypeLink:
			err = root.Link(filepath.Clean(strings.TrimLeft(h.Linkname, "/")), name)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", h.Name, err)
		}
	}
	// Last, since one may forbid to write into it.
	for i := len(folders) - 1; i >= 0; i-- {
		if err := root.Chmod(folders[i].name, folders[i].mode|0o500); err != nil {
			return err
		}
	}
	return nil
}

func writeIn(root *os.Root, name string, mode fs.FileMode, r io.Reader) error {
	out, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode|0o200)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, r)
	return errors.Join(err, out.Close(), root.Chmod(name, mode))
}
