package source

import (
	"archive/tar"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
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
	z := gzip.NewWriter(t)
	w := tar.NewWriter(z)
	top := filepath.Base(dir)
	err = filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err := errors.Join(err, ctx.Err()); err != nil {
			return err
		}
		if e.IsDir() && versionControl[e.Name()] && p != dir {
			return filepath.SkipDir
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		link := ""
		if info.Mode()&fs.ModeSymlink != 0 {
			if link, err = os.Readlink(p); err != nil {
				return err
			}
		} else if !info.IsDir() && !info.Mode().IsRegular() {
			return nil
		}
		h, err := tar.FileInfoHeader(info, link)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, p)
		if err != nil {
			return err
		}
		clean := &tar.Header{Format: tar.FormatPAX, Typeflag: h.Typeflag, Name: filepath.ToSlash(filepath.Join(top, rel)), Linkname: h.Linkname, Size: h.Size, Mode: 0o644, ModTime: time.Unix(0, 0)}
		if info.IsDir() {
			clean.Name += "/"
		}
		if info.IsDir() || info.Mode()&0o111 != 0 {
			clean.Mode = 0o755
		}
		if err := w.WriteHeader(clean); err != nil || !info.Mode().IsRegular() {
			return err
		}
		in, err := os.Open(p)
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = io.Copy(w, in)
		return err
	})
	if err := errors.Join(err, w.Close(), z.Close()); err != nil {
		return err
	}
	return t.CloseAtomicallyReplace()
}
