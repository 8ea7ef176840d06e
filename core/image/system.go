package image

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sys/unix"

	"ellwand.example/core/cancel"
	"ellwand.example/core/fact"
	"ellwand.example/core/oci"
	"ellwand.example/core/source/archive"
)

// systemLayer is the name of the layer of a system that is none of an OCI image.
const systemLayer = "system"

// Bounds on what a system may hold.
const (
	maxEntries = 4_000_000
	maxBytes   = 256 << 30
)

// ArchiveLayer is the layer of a root archive with a digest. Devices are left out: whatever
// runs an image makes those that it needs.
func ArchiveLayer(file, sha256 string) Layer {
	return streamed(Layer{Name: systemLayer, Key: "archive " + sha256}, func(context.Context) (io.ReadCloser, error) { return os.Open(file) })
}

// BlobLayer is a layer of an OCI image.
func BlobLayer(layout *oci.Layout, d v1.Descriptor) Layer {
	return streamed(Layer{Name: systemLayer, Key: "blob " + d.Digest.String()}, func(context.Context) (io.ReadCloser, error) { return layout.Blob(d) })
}

// streamed reads the entries of a layer from a tar archive.
func streamed(l Layer, open func(context.Context) (io.ReadCloser, error)) Layer {
	l.Each = func(ctx context.Context, visit func(Entry, io.Reader) error) error {
		f, err := open(ctx)
		if err != nil {
			return err
		}
		defer f.Close()
		plain, done, err := archive.Decompress(f)
		if err != nil {
			return err
		}
		defer done()
		if err := readEntries(ctx, plain, visit); err != nil {
			return err
		}
		_, err = io.Copy(io.Discard, f) // to its end, where a digest is compared
		return err
	}
	l.List = func(ctx context.Context, visit func(Entry) error) error {
		return l.Each(ctx, func(e Entry, _ io.Reader) error { return visit(e) })
	}
	return l
}

// readEntries reads the entries of a layer or a root from a tar archive that nobody vouches
// for: their names are made clean, or refused.
func readEntries(ctx context.Context, r io.Reader, visit func(Entry, io.Reader) error) error {
	entries, bytes := 0, int64(0)
	return archive.ReadTar(ctx, r, func(a archive.Entry) error {
		if entries++; entries > maxEntries {
			return fact.Errorf(fact.StatusInput, "it holds more than %d entries", maxEntries)
		}
		if bytes += a.Size; bytes > maxBytes {
			return fact.Errorf(fact.StatusInput, "it would unpack to more than %s", fact.Bytes(maxBytes))
		}
		name := strings.Trim(a.Name, "/")
		if name == "" || name == "." {
			return nil
		}
		clean, err := archive.Clean(strings.TrimLeft(a.Name, "/"))
		if err != nil {
			return fact.Errorf(fact.StatusInput, "%q %w", a.Name, err)
		}
		if clean == "." {
			return nil
		}
		e := Entry{Path: "/" + clean, Mode: fact.ModeBits(a.Mode), UID: a.UID, GID: a.GID, Modified: a.Modified.Truncate(time.Second).UTC(), Xattrs: a.Xattrs}
		dir, base := path.Split(e.Path)
		switch gone, is := strings.CutPrefix(base, oci.WhiteoutPrefix); {
		case base == oci.WhiteoutOpaque:
			e.Path, e.Type = path.Clean(dir), Emptied
			if e.Path == "/" {
				return fact.Errorf(fact.StatusInput, "%q would empty the whole image", a.Name)
			}
			return visit(e, nil)
		case is && (gone == "" || gone == "." || gone == ".."):
			return nil
		case is:
			e.Path, e.Type = path.Join(dir, gone), Removed
			return visit(e, nil)
		}
		switch a.Kind {
		case archive.File:
			e.Type, e.Size = File, a.Size
			return visit(e, a.Contents)
		case archive.Directory:
			e.Type = Directory
		case archive.Symlink:
			e.Type, e.Link, e.Mode = Symlink, a.Link, 0o777
		case archive.Hardlink:
			target, err := archive.Clean(strings.TrimLeft(a.Link, "/"))
			if err != nil {
				return fact.Errorf(fact.StatusInput, "%q is a link to %q, which %w", a.Name, a.Link, err)
			}
			e.Type, e.Link = Hardlink, "/"+target
		default:
			return nil
		}
		return visit(e, nil)
	})
}

// DirectoryLayer is the layer of a system in a directory. Files of the user who makes the
// image belong to root in it.
func DirectoryLayer(ctx context.Context, dir string) (Layer, error) {
	tree, err := os.OpenRoot(dir)
	if err != nil {
		return Layer{}, err
	}
	defer tree.Close()
	var list []Entry
	first := map[[2]uint64]string{} // the first path of files with several
	err = fs.WalkDir(tree.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || name == "." {
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		e, ok, err := entryOf(ctx, tree, name, info, first)
		if ok && err == nil {
			list = append(list, e)
		}
		return err
	})
	if err != nil {
		return Layer{}, err
	}
	slices.SortFunc(list, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	l := Layer{Name: systemLayer, List: listOf(list)}
	l.Key, err = keyOf(list)
	l.Each = func(ctx context.Context, visit func(Entry, io.Reader) error) error {
		tree, err := os.OpenRoot(dir)
		if err != nil {
			return err
		}
		defer tree.Close()
		for _, e := range list {
			if err := visitFile(tree, e, visit); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
	return l, err
}

// entryOf describes a path of a directory; ok is false for devices, pipes and sockets.
func entryOf(ctx context.Context, tree *os.Root, name string, info fs.FileInfo, first map[[2]uint64]string) (e Entry, ok bool, err error) {
	e = Entry{Path: "/" + name, Mode: fact.ModeBits(info.Mode()), Modified: info.ModTime().Truncate(time.Second).UTC()}
	st, _ := info.Sys().(*syscall.Stat_t)
	if st != nil && (os.Geteuid() == 0 || int(st.Uid) != os.Getuid()) {
		e.UID, e.GID = int(st.Uid), int(st.Gid)
	}
	switch mode := info.Mode(); {
	case mode.IsDir():
		e.Type = Directory
	case mode&fs.ModeSymlink != 0:
		e.Type, e.Mode = Symlink, 0o777
		e.Link, err = tree.Readlink(name)
	case mode.IsRegular():
		e.Type, e.Size = File, info.Size()
		if st != nil && st.Nlink > 1 {
			id := [2]uint64{st.Dev, st.Ino}
			if of, seen := first[id]; seen {
				e.Type, e.Size, e.Link = Hardlink, 0, of
				return e, true, nil
			}
			first[id] = e.Path
		}
		e.SHA256, err = digestOf(ctx, tree, name)
	default:
		return e, false, nil
	}
	return e, true, err
}

// digestOf is the SHA-256 of a file.
func digestOf(ctx context.Context, tree *os.Root, name string) (string, error) {
	f, err := tree.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, cancel.Reader(ctx, f)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// visitFile shows an entry of a directory to a function, with the contents of a file.
func visitFile(tree *os.Root, e Entry, visit func(Entry, io.Reader) error) error {
	if e.Type != File {
		return visit(e, nil)
	}
	f, err := tree.OpenFile(strings.TrimPrefix(e.Path, "/"), os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	return errors.Join(visit(e, f), f.Close())
}
