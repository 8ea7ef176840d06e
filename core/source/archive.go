package source

import (
	"archive/tar"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"github.com/google/renameio/v2"
	"github.com/klauspost/compress/gzip"
)

// versionControl are directories that belong to no source.
var versionControl = map[string]bool{".git": true, ".hg": true, ".svn": true, ".bzr": true, "CVS": true}

// PackDirectory writes a directory as a .tar.gz, under its own name as the top
// directory. The same contents give the same bytes: entries are sorted and have no
// times and owners. Version control's directories are left out.
func PackDirectory(ctx context.Context, dir, out string) error {
	t, err := renameio.NewPendingFile(out, renameio.WithPermissions(0o644))
	if err != nil {
		return err
	}
	defer t.Cleanup()
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	z := gzip.NewWriter(t)
	if err := errors.Join(writeDirectory(ctx, z, root, filepath.Base(dir)), z.Close()); err != nil {
		return err
	}
	return t.CloseAtomicallyReplace()
}

// writeDirectory writes a directory as a tar archive with one top directory.
func writeDirectory(ctx context.Context, out io.Writer, root *os.Root, top string) error {
	w := tar.NewWriter(out)
	err := fs.WalkDir(root.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		if err := errors.Join(err, ctx.Err()); err != nil {
			return err
		}
		if e.IsDir() && versionControl[e.Name()] {
			return fs.SkipDir
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		h := &tar.Header{Format: tar.FormatPAX, Typeflag: tar.TypeReg, Name: path.Join(top, name), Mode: 0o644, ModTime: time.Unix(0, 0)}
		switch {
		case info.IsDir():
			h.Typeflag, h.Name = tar.TypeDir, h.Name+"/"
		case info.Mode()&fs.ModeSymlink != 0:
			h.Typeflag = tar.TypeSymlink
			if h.Linkname, err = root.Readlink(name); err != nil {
				return err
			}
		case !info.Mode().IsRegular():
			return nil
		default:
			h.Size = info.Size()
		}
		if info.IsDir() || info.Mode()&0o111 != 0 {
			h.Mode = 0o755
		}
		if err := w.WriteHeader(h); err != nil || !info.Mode().IsRegular() {
			return err
		}
		in, err := root.Open(name)
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = io.Copy(w, in)
		return err
	})
	return errors.Join(err, w.Close())
}
