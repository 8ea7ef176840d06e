package image

import (
	"archive/tar"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/cancel"
	"ellwand.example/core/oci"
	"ellwand.example/core/source/archive"
)

// Type is what a path of an image is.
type Type string

// The types.
const (
	File      Type = "file"
	Directory Type = "directory"
	Symlink   Type = "symlink"
	Hardlink  Type = "hardlink" // Link is the path of the file, in the same layer
	Removed   Type = "removed"  // the path of a lower layer is not in the image
	Emptied   Type = "emptied"  // a directory, of which nothing that lower layers have is in the image
)

// Entry is a path of a layer.
type Entry struct {
	Path     string            `json:"path"` // absolute and clean
	Type     Type              `json:"type"`
	Mode     int64             `json:"mode"` // as chmod(2) has it
	UID      int               `json:"uid"`
	GID      int               `json:"gid"`
	Size     int64             `json:"size,omitempty"`   // of a file, in bytes
	SHA256   string            `json:"sha256,omitempty"` // of a file
	Link     string            `json:"link,omitempty"`
	Modified time.Time         `json:"modified"`
	Xattrs   map[string]string `json:"xattrs,omitempty"`
}

// Layer is a part of an image: entries that are put over those of the layers before it.
type Layer struct {
	// Name says what the layer holds, for people.
	Name     string
	Packages []string // identities of the packages in it
	// Key stands for everything in the layer: two layers of one key are the same bytes.
	Key string
	// Each calls a function for all entries. Directories come before what is in them, and
	// files before their hard links. A file's contents are valid until the function returns.
	Each func(ctx context.Context, visit func(Entry, io.Reader) error) error
	// List calls a function for all entries, in the order of Each.
	List func(ctx context.Context, visit func(Entry) error) error
}

// listOf is the List of a layer with these entries.
func listOf(entries []Entry) func(context.Context, func(Entry) error) error {
	return func(ctx context.Context, visit func(Entry) error) error {
		for _, e := range entries {
			if err := visit(e); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
}

// CreatedBy begins what the history of an OCI image says of a layer; the layer's name follows.
const CreatedBy = "Ellwand: "

// keyOf is the Key of a layer with these entries.
func keyOf(entries []Entry) (string, error) {
	h := sha256.New()
	e := json.NewEncoder(h)
	for _, one := range entries {
		if err := e.Encode(one); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// header is an entry as a tar header: in the form of POSIX pax where a field needs it, and
// without anything that depends on who writes it.
func (e Entry) header() *tar.Header {
	h := &tar.Header{Name: strings.TrimPrefix(e.Path, "/"), Mode: e.Mode, Uid: e.UID, Gid: e.GID, ModTime: e.Modified}
	switch e.Type {
	case File:
		h.Typeflag, h.Size = tar.TypeReg, e.Size
	case Directory:
		h.Typeflag, h.Name = tar.TypeDir, h.Name+"/"
	case Symlink:
		h.Typeflag, h.Linkname = tar.TypeSymlink, e.Link
	case Hardlink:
		h.Typeflag, h.Linkname = tar.TypeLink, strings.TrimPrefix(e.Link, "/")
	case Removed:
		h.Typeflag, h.Name = tar.TypeReg, path.Join(path.Dir(h.Name), oci.WhiteoutPrefix+path.Base(h.Name))
	case Emptied:
		h.Typeflag, h.Name = tar.TypeReg, path.Join(h.Name, oci.WhiteoutOpaque)
	}
	for _, name := range slices.Sorted(maps.Keys(e.Xattrs)) {
		if h.PAXRecords == nil {
			h.PAXRecords = map[string]string{}
		}
		h.PAXRecords[archive.XattrRecord+name] = e.Xattrs[name]
	}
	return h
}

// WriteTar writes the entries of a layer as a tar archive.
func WriteTar(ctx context.Context, w io.Writer, each func(context.Context, func(Entry, io.Reader) error) error) error {
	tw := tar.NewWriter(w)
	err := each(ctx, func(e Entry, r io.Reader) error {
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
		if err := tw.WriteHeader(e.header()); err != nil {
			return fmt.Errorf("%s: %w", e.Path, err)
		}
		if e.Type != File {
			return nil
		}
		if n, err := io.Copy(tw, cancel.Reader(ctx, r)); err != nil || n != e.Size {
			return fmt.Errorf("%s: %w", e.Path, cmp.Or(err, fmt.Errorf("it has %d bytes where %d were expected", n, e.Size)))
		}
		return nil
	})
	if closed := tw.Close(); err == nil {
		err = closed
	}
	return err
}

// Text is a layer of one file with a text, and of the directories above it.
func Text(name, p, text string, mode int64, when time.Time) Layer {
	var list []Entry
	for dir := path.Dir(p); dir != "/"; dir = path.Dir(dir) {
		list = append(list, Entry{Path: dir, Type: Directory, Mode: 0o755, Modified: when})
	}
	slices.Reverse(list)
	file := Entry{Path: p, Type: File, Mode: mode, Size: int64(len(text)), Modified: when}
	l := Layer{Name: name, List: listOf(append(list, file))}
	l.Each = func(ctx context.Context, visit func(Entry, io.Reader) error) error {
		for _, e := range list {
			if err := visit(e, nil); err != nil {
				return err
			}
		}
		return visit(file, strings.NewReader(text))
	}
	return l
}
