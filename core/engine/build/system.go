package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"

	"ellwand.example/core/cancel"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/oci"
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
	path, err := SystemDirectory(ctx, w.State("systems"), w.Abs(w.On.System), w.Target.Arch, sink)
	if err != nil {
		var damaged *fact.Error
		if errors.As(err, &damaged) {
			return "", &SystemError{w.Target.Name, damaged.Error()}
		}
		return "", err
	}
	for _, shell := range []string{"bin/sh", "usr/bin/sh"} {
		if _, err := os.Lstat(filepath.Join(path, shell)); err == nil {
			return path, nil
		}
	}
	return "", &SystemError{w.Target.Name, w.On.System + " has no /bin/sh, so that no step could run on it"}
}

// SystemDirectory is the directory that OpenSystem finds.
func SystemDirectory(ctx context.Context, all, name, arch string, sink progress.Sink) (string, error) {
	s, err := OpenSystem(ctx, all, name, arch, sink)
	return s.Dir, err
}

// UnpackedSystem is a system that is there as a directory.
type UnpackedSystem struct {
	Dir string
	// Digest is the SHA-256 of the archive, or of the image's manifest; empty for a directory.
	Digest string
	// Layout is the directory of the OCI layout that the system is from; empty for none.
	Layout string
}

// OpenSystem opens a system: the directory that is named, or what a root archive,
// or a container image in the OCI layout (a directory or an archive of one), is unpacked to.
// That is below all, named by a digest. Device nodes are left out, since every sandbox has
// its own; setuid programs come without that bit. The error is a *fact.Error if the
// archive or the image is at fault.
func OpenSystem(ctx context.Context, all, name, arch string, sink progress.Sink) (UnpackedSystem, error) {
	info, err := os.Stat(name)
	if err != nil {
		return UnpackedSystem{}, err
	}
	u := unpacking{all: all, name: name, arch: arch, sink: sink}
	if info.IsDir() {
		if _, err := os.Lstat(filepath.Join(name, oci.MarkerFile)); err != nil {
			return UnpackedSystem{Dir: name}, nil
		}
		return u.image(ctx, name)
	}
	return u.archive(ctx, info.Size())
}

// unpacking is a system that is unpacked.
type unpacking struct {
	all, name, arch string
	sink            progress.Sink
}

// archive unpacks a root archive, or the image that it holds.
func (u unpacking) archive(ctx context.Context, size int64) (s UnpackedSystem, err error) {
	if err := os.MkdirAll(u.all, 0o755); err != nil {
		return s, err
	}
	digest, err := files.Known{Path: filepath.Join(u.all, "known.json")}.SHA256(ctx, u.name)
	if err != nil {
		return s, err
	}
	dir, err := u.once(digest[:32], func(temp string) error {
		file, err := os.Open(u.name)
		if err != nil {
			return err
		}
		defer file.Close()
		t := u.sink.Begin("unpack "+filepath.Base(u.name), size, "bytes")
		defer t.End("done")
		return unpackRoot(ctx, &advancing{file, t}, temp)
	})
	if err != nil {
		return s, err
	}
	if _, err := os.Lstat(filepath.Join(dir, oci.MarkerFile)); err == nil {
		return u.image(ctx, dir)
	}
	return UnpackedSystem{Dir: dir, Digest: digest}, nil
}

// once makes a directory with a name, unless it is there.
func (u unpacking) once(name string, fill func(temp string) error) (string, error) {
	dir := filepath.Join(u.all, name)
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if err := os.MkdirAll(u.all, 0o755); err != nil {
		return "", err
	}
	temp, err := os.MkdirTemp(u.all, ".new-")
	if err != nil {
		return "", err
	}
	defer layer.RemoveAll(temp)
	if err := fill(temp); err != nil {
		if errors.Is(err, context.Canceled) || isSystem(err) {
			return "", err
		}
		return "", fact.Errorf(fact.StatusInput, "%s: %v", u.name, err)
	}
	if err := errors.Join(os.Chmod(temp, 0o755), os.Rename(temp, dir)); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	return dir, nil
}

// isSystem reports whether an error is the machine's, and says nothing of an archive: a full
// disk, for one.
func isSystem(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}

// image unpacks the layers of an image, one over the other.
func (u unpacking) image(ctx context.Context, dir string) (s UnpackedSystem, err error) {
	wrong := func(err error) error { return fact.Errorf(fact.StatusInput, "%s: %v", u.name, err) }
	layout, err := oci.Open(dir)
	if err != nil {
		return s, wrong(err)
	}
	defer layout.Close()
	image, err := layout.Image(fact.GoArchitecture(u.arch))
	if err != nil {
		return s, wrong(err)
	}
	s.Layout, s.Digest = dir, strings.TrimPrefix(image.Digest, "sha256:")
	s.Dir, err = u.once("image-"+s.Digest[:32], func(temp string) error {
		t := u.sink.Begin("unpack "+filepath.Base(u.name), int64(len(image.Layers)), "layers")
		defer t.End("done")
		for _, d := range image.Layers {
			blob, err := layout.Blob(d)
			if err != nil {
				return err
			}
			err = unpackRoot(ctx, blob, temp)
			if err == nil {
				_, err = io.Copy(io.Discard, blob) // to its end, where the digest is compared
			}
			if err := errors.Join(err, blob.Close()); err != nil {
				return err
			}
			t.Advance(1)
		}
		return nil
	})
	return s, err
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
		if done, err := whiteout(tree.Root(), name); done || err != nil {
			return err
		}
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
	// Last, since one may forbid to write into it; its owner may, for the layers to come.
	for i := len(directories) - 1; i >= 0; i-- {
		if err := tree.Root().Chmod(directories[i].name, directories[i].mode|0o700); err != nil {
			return err
		}
	}
	return nil
}

// whiteout removes what an entry of a layer says is gone; done is whether it is such one.
func whiteout(root *os.Root, name string) (done bool, err error) {
	dir, base := path.Split(name)
	if base == oci.WhiteoutOpaque {
		entries, err := fs.ReadDir(root.FS(), path.Clean(dir))
		if errors.Is(err, fs.ErrNotExist) {
			return true, nil
		}
		for _, e := range entries {
			err = errors.Join(err, root.RemoveAll(path.Join(dir, e.Name())))
		}
		return true, err
	}
	gone, ok := strings.CutPrefix(base, oci.WhiteoutPrefix)
	if !ok || gone == "" || gone == "." || gone == ".." {
		return ok, nil
	}
	return true, root.RemoveAll(path.Join(dir, gone))
}

// Bounds on what a root archive may unpack to.
const (
	maxRootEntries = 4_000_000
	maxRootBytes   = 256 << 30
)
