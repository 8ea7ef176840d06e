package image

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/oci"
	"ellwand.example/core/root"
	"ellwand.example/core/staging"
)

// Contents are what is in an image that was made.
type Contents struct {
	// Digest is the SHA-256 of an OCI image's manifest; empty for an archive.
	Digest   string                  `json:"digest,omitempty"`
	Config   *v1.Image               `json:"config,omitempty"` // of an OCI image
	Layers   []v1.Descriptor         `json:"layers,omitempty"` // of an OCI image
	Packages []root.Installed        `json:"packages"`
	Records  map[string]*root.Record `json:"-"` // of packages, by name
	Entries  []ell.Entry             `json:"-"` // all paths, sorted
	Bytes    int64                   `json:"bytes"`
	// Compressed is the size of the layers or of the archive, in bytes.
	Compressed int64 `json:"compressed"`
}

// Bounds on what is read of the record of the packages in an image.
const (
	maxStateFile = 64 << 20  // bytes of one file
	maxStateAll  = 512 << 20 // bytes of all of them
)

// ReadLayout reads what is in an OCI image for an architecture, as Go calls it.
func ReadLayout(ctx context.Context, layout *oci.Layout, architecture string) (*Contents, error) {
	i, err := layout.Image(architecture)
	if err != nil {
		return nil, err
	}
	c := &Contents{Digest: strings.TrimPrefix(i.Digest, "sha256:"), Config: &i.Config, Layers: i.Layers}
	var layers []Layer
	for _, d := range i.Layers {
		layers = append(layers, BlobLayer(layout, d))
		c.Compressed += d.Size
	}
	return c, c.read(ctx, layers)
}

// ReadArchive reads what is in an archive of all files.
func ReadArchive(ctx context.Context, file string) (*Contents, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	c := &Contents{Compressed: info.Size()}
	return c, c.read(ctx, []Layer{ArchiveLayer(file, "")})
}

// read reads the paths of layers, and the record of the packages.
func (c *Contents) read(ctx context.Context, layers []Layer) error {
	each, err := Flatten(ctx, layers)
	if err != nil {
		return err
	}
	kept := map[string][]byte{}
	var read int64
	err = each(ctx, func(e Entry, r io.Reader) error {
		at := len(c.Entries)
		c.Entries = append(c.Entries, e.asPath())
		c.Bytes += e.Size
		if e.Type != File {
			return nil
		}
		sum := sha256.New()
		r = io.TeeReader(r, sum)
		defer func() {
			io.Copy(io.Discard, r)
			c.Entries[at].SHA256 = hex.EncodeToString(sum.Sum(nil))
		}()
		below, ok := strings.CutPrefix(e.Path, "/"+root.StateDir+"/")
		if !ok || e.Size > maxStateFile {
			return nil
		}
		if read += e.Size; read > maxStateAll {
			return fact.Errorf(fact.StatusInput, "the record of the packages is larger than %s", fact.Bytes(maxStateAll))
		}
		data, err := io.ReadAll(r)
		kept[below] = data
		return err
	})
	if err != nil {
		return err
	}
	slices.SortFunc(c.Entries, func(a, b ell.Entry) int { return strings.Compare(a.Path, b.Path) })
	data, ok := kept["state.json"]
	if !ok {
		return nil // an image of somebody else's: it has files, and no packages
	}
	state, err := root.ParseState("/"+root.StateDir+"/state.json", data)
	if err != nil {
		return err
	}
	c.Packages, c.Records = state.Packages, map[string]*root.Record{}
	for _, p := range state.Packages {
		name := path.Join("objects", p.Record)
		if data := kept[name]; fact.SHA256(data) == p.Record {
			if c.Records[p.Name], err = root.ParseRecord(data); err != nil {
				return &root.DamagedError{File: "/" + root.StateDir + "/" + name, Err: err}
			}
			continue
		}
		return fact.Errorf(fact.StatusInput, "the image is damaged: its record of %s is missing, or is not what its digest says", p.Identity())
	}
	return nil
}

// asPath is an entry in the form in which packages have their paths. Numbers stand for the
// names of accounts.
func (e Entry) asPath() ell.Entry {
	out := ell.Entry{Path: e.Path, Mode: fmt.Sprintf("%04o", e.Mode), Owner: strconv.Itoa(e.UID), Group: strconv.Itoa(e.GID), Size: e.Size, SHA256: e.SHA256}
	switch e.Type {
	case Directory:
		out.Type = staging.Directory
	case Symlink:
		out.Type, out.Link = staging.Symlink, e.Link
	case Hardlink:
		out.Type, out.Same = staging.File, e.Link
	default:
		out.Type = staging.File
	}
	return out
}

// HoldsLayout reports whether a tar archive has an OCI layout in it, in place of the files of
// a root.
func HoldsLayout(ctx context.Context, file string) (bool, error) {
	found := errors.New("found")
	err := ArchiveLayer(file, "").List(ctx, func(e Entry) error {
		if e.Path == "/"+oci.MarkerFile {
			return found
		}
		return nil
	})
	if errors.Is(err, found) {
		return true, nil
	}
	return false, err
}
