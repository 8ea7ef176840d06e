package modules

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/cancel"
	"ellwand.example/core/fact"
)

// ListFile is the first entry of an archive of modules, which lists them. It is not part of
// what a build sees.
const ListFile = "modules.json"

// list is the contents of ListFile.
type list struct {
	Language string        `json:"language"`
	Modules  []fact.Module `json:"modules"`
}

// WriteArchive writes what is kept of a tree as a tar archive, with the list of modules
// first. The same contents give the same bytes: entries are sorted, and have no times and no
// owners. It is not compressed, since compressors change.
func WriteArchive(ctx context.Context, out io.Writer, tree *os.Root, l Language, keep []string, all []fact.Module) error {
	w := tar.NewWriter(out)
	data, err := json.MarshalIndent(list{l.Name, all}, "", "  ")
	if err != nil {
		return err
	}
	if err := w.WriteHeader(header(ListFile, tar.TypeReg, int64(len(data)))); err != nil {
		return err
	}
	if _, err := w.Write(data); err != nil {
		return err
	}
	parents := map[string]bool{}
	keep = slices.Clone(keep)
	slices.Sort(keep)
	for _, dir := range keep {
		if _, err := tree.Lstat(dir); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		for parent, rest, ok := strings.Cut(dir, "/"); ok; {
			if !parents[parent] {
				parents[parent] = true
				if err := w.WriteHeader(header(parent+"/", tar.TypeDir, 0)); err != nil {
					return err
				}
			}
			var next string
			next, rest, ok = strings.Cut(rest, "/")
			parent = path.Join(parent, next)
		}
		if err := fs.WalkDir(tree.FS(), dir, func(name string, e fs.DirEntry, err error) error {
			if err := errors.Join(err, ctx.Err()); err != nil {
				return err
			}
			return add(ctx, w, tree, name, e)
		}); err != nil {
			return err
		}
	}
	return w.Close()
}

func header(name string, kind byte, size int64) *tar.Header {
	mode := int64(0o644)
	if kind == tar.TypeDir {
		mode = 0o755
	}
	return &tar.Header{Format: tar.FormatPAX, Typeflag: kind, Name: name, Size: size, Mode: mode, ModTime: time.Unix(0, 0)}
}

func add(ctx context.Context, w *tar.Writer, tree *os.Root, name string, e fs.DirEntry) error {
	switch {
	case e.IsDir():
		return w.WriteHeader(header(name+"/", tar.TypeDir, 0))
	case e.Type()&fs.ModeSymlink != 0:
		h := header(name, tar.TypeSymlink, 0)
		var err error
		if h.Linkname, err = tree.Readlink(name); err != nil {
			return err
		}
		return w.WriteHeader(h)
	case !e.Type().IsRegular():
		return fmt.Errorf("%s is neither a file nor a directory", name)
	}
	f, err := tree.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	h := header(name, tar.TypeReg, info.Size())
	if info.Mode()&0o111 != 0 {
		h.Mode = 0o755
	}
	if err := w.WriteHeader(h); err != nil {
		return err
	}
	_, err = io.Copy(w, cancel.Reader(ctx, f))
	return err
}

// ReadList reads the list at the start of an archive of modules.
func ReadList(r io.Reader) ([]fact.Module, error) {
	t := tar.NewReader(r)
	h, err := t.Next()
	if err != nil {
		return nil, err
	}
	if h.Name != ListFile || h.Size > maxLock {
		return nil, errors.New("it is no archive of modules")
	}
	var l list
	if err := json.NewDecoder(io.LimitReader(t, maxLock)).Decode(&l); err != nil {
		return nil, err
	}
	return l.Modules, nil
}
