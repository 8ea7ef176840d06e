package git

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
)

// submoduleRecord is the pax record with the commit of a submodule, whose
// directory is empty.
const submoduleRecord = "ELLWAND.submodule"

// maxLink bounds the target of a symbolic link, in bytes.
const maxLink = 4096

// Bounds on what VerifyArchive takes: a path's bytes, and files.
const (
	maxPath    = 4096
	maxEntries = 4_000_000
)

// WriteArchive writes the files of a commit as a pax archive (IEEE Std 1003.1)
// below one top directory, with the commit's time. It is what the commit has,
// byte for byte, so that VerifyArchive can tell, and the same everywhere.
func WriteArchive(ctx context.Context, dir, commit, top string, out io.Writer) error {
	objects, err := OpenObjects(ctx, dir)
	if err != nil {
		return err
	}
	defer objects.Close()
	data, err := objects.CommitObject(commit)
	if err != nil {
		return err
	}
	c, err := ParseCommit(commit, data)
	if err != nil {
		return err
	}
	entries, err := Tree(ctx, dir, commit)
	if err != nil {
		return err
	}
	w := tar.NewWriter(out)
	for _, e := range entries {
		h := &tar.Header{Format: tar.FormatPAX, Name: top + "/" + e.Path, ModTime: c.When, Mode: 0o644, Typeflag: tar.TypeReg}
		switch e.Mode {
		case ModeFile, ModeExecutable, ModeLink:
		case ModeSubmodule:
			h.Typeflag, h.Mode, h.Name = tar.TypeDir, 0o755, h.Name+"/"
			h.PAXRecords = map[string]string{submoduleRecord: e.ID}
			if err := w.WriteHeader(h); err != nil {
				return err
			}
			continue
		default:
			return &Error{fmt.Sprintf("%q has the mode %s, which is none of git's", e.Path, e.Mode)}
		}
		err := objects.Object(e.ID, func(kind string, size int64, r io.Reader) error {
			if kind != "blob" {
				return &Error{fmt.Sprintf("%q is a %s", e.Path, kind)}
			}
			if e.Mode == ModeLink {
				if size > maxLink {
					return &Error{fmt.Sprintf("the link %q has a target of %d bytes", e.Path, size)}
				}
				target, err := io.ReadAll(r)
				if err != nil {
					return err
				}
				h.Typeflag, h.Mode, h.Linkname = tar.TypeSymlink, 0o777, string(target)
				return w.WriteHeader(h)
			}
			if e.Mode == ModeExecutable {
				h.Mode = 0o755
			}
			h.Size = size
			if err := w.WriteHeader(h); err != nil {
				return err
			}
			_, err := io.Copy(w, r)
			return err
		})
		if err != nil {
			return err
		}
	}
	return w.Close()
}

// VerifyArchive makes sure that an archive, as WriteArchive makes it, holds the
// files of a commit: the object must be that commit's, and name the tree that
// the archive's files make up.
func VerifyArchive(ctx context.Context, commit string, object []byte, archive io.Reader) error {
	c, err := ParseCommit(commit, object)
	if err != nil {
		return err
	}
	var entries []Entry
	r := tar.NewReader(archive)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		_, name, _ := strings.Cut(h.Name, "/")
		e := Entry{Path: strings.TrimSuffix(name, "/")}
		if e.Path == "" || path.Clean(e.Path) != e.Path || len(e.Path) > maxPath || len(entries) >= maxEntries {
			return fmt.Errorf("%q is not a path of a commit", h.Name)
		}
		switch {
		case h.Typeflag == tar.TypeDir && h.PAXRecords[submoduleRecord] != "":
			e.Mode, e.ID = ModeSubmodule, h.PAXRecords[submoduleRecord]
		case h.Typeflag == tar.TypeSymlink:
			e.Mode = ModeLink
			e.ID, err = BlobID(commit, int64(len(h.Linkname)), strings.NewReader(h.Linkname))
		case h.Typeflag == tar.TypeReg && h.Mode&0o111 != 0:
			e.Mode = ModeExecutable
			e.ID, err = BlobID(commit, h.Size, r)
		case h.Typeflag == tar.TypeReg:
			e.Mode = ModeFile
			e.ID, err = BlobID(commit, h.Size, r)
		default:
			return fmt.Errorf("%q is not a file of a commit", h.Name)
		}
		if err != nil {
			return err
		}
		entries = append(entries, e)
	}
	id, err := TreeID(commit, entries)
	if err != nil {
		return err
	}
	if id != c.Tree {
		return errNotCommit
	}
	return nil
}
