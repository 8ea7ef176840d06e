// Package oci reads and writes container images in the layout of the OCI Image Format
// Specification 1.1: a directory with index.json, and with blobs named by their digests.
// Nothing of an image is believed that its digest does not confirm.
package oci

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"ellwand.example/core/files"
	"ellwand.example/core/pattern"
)

// MarkerFile marks a directory as a layout.
const MarkerFile = v1.ImageLayoutFile

// Names in layers that remove what is below (OCI Image Format Specification 1.1, layer.md,
// Whiteouts).
const (
	WhiteoutPrefix = ".wh."
	WhiteoutOpaque = ".wh..wh..opq"
)

// Bounds on what is read of an image.
const (
	maxDocument = 4 << 20 // bytes of a document in JSON
	maxLayers   = 1000
	maxNested   = 4 // indexes in indexes
)

// Layout is a layout that was opened.
type Layout struct{ root *os.Root }

// Image is an image of a layout.
type Image struct {
	Digest string // of its manifest
	Layers []v1.Descriptor
	// DiffIDs are the digests of the layers before they were compressed.
	DiffIDs []string
	Config  v1.Image
	// Descriptor is that of its manifest.
	Descriptor v1.Descriptor
}

// Open opens the layout in a directory.
func Open(dir string) (*Layout, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	l := &Layout{root}
	var marker struct {
		Version string `json:"imageLayoutVersion"`
	}
	if err := l.readJSON(MarkerFile, "", &marker); err != nil || !strings.HasPrefix(marker.Version, "1.") {
		return nil, errors.Join(fmt.Errorf("%s is no image layout of version 1", dir), root.Close())
	}
	return l, nil
}

// Close closes the layout.
func (l *Layout) Close() error { return l.root.Close() }

// Image finds the image for an architecture, as Go calls it: the only one, or the one that is
// for it.
func (l *Layout) Image(architecture string) (Image, error) {
	index, err := l.Index()
	if err != nil {
		return Image{}, err
	}
	for range maxNested {
		d, err := choose(index.Manifests, architecture)
		if err != nil {
			return Image{}, err
		}
		if d.MediaType == v1.MediaTypeImageIndex {
			index = v1.Index{}
			if err := l.readJSON("", d.Digest.String(), &index); err != nil {
				return Image{}, err
			}
			continue
		}
		return l.image(d)
	}
	return Image{}, errors.New("the index of the image leads to more indexes than are followed")
}

// Index reads the list of what is in the layout.
func (l *Layout) Index() (index v1.Index, err error) {
	return index, l.readJSON(v1.ImageIndexFile, "", &index)
}

// image reads the manifest and the configuration of an image.
func (l *Layout) image(d v1.Descriptor) (Image, error) {
	var manifest v1.Manifest
	if err := l.readJSON("", d.Digest.String(), &manifest); err != nil {
		return Image{}, err
	}
	if len(manifest.Layers) > maxLayers {
		return Image{}, fmt.Errorf("the image has more than %d layers", maxLayers)
	}
	for _, layer := range manifest.Layers {
		if !strings.HasPrefix(layer.MediaType, v1.MediaTypeImageLayer) && layer.MediaType != "" {
			return Image{}, fmt.Errorf("a layer is of an unknown kind, %q", layer.MediaType)
		}
	}
	i := Image{Digest: d.Digest.String(), Layers: manifest.Layers, Descriptor: d}
	if manifest.Config.MediaType != v1.MediaTypeImageConfig {
		return i, nil // an artifact, or an image that says nothing of itself
	}
	if err := l.readJSON("", manifest.Config.Digest.String(), &i.Config); err != nil {
		return Image{}, err
	}
	for _, id := range i.Config.RootFS.DiffIDs {
		i.DiffIDs = append(i.DiffIDs, id.String())
	}
	return i, nil
}

func choose(all []v1.Descriptor, architecture string) (v1.Descriptor, error) {
	images := slices.DeleteFunc(slices.Clone(all), func(d v1.Descriptor) bool {
		return d.MediaType != v1.MediaTypeImageManifest && d.MediaType != v1.MediaTypeImageIndex
	})
	fitting := slices.DeleteFunc(slices.Clone(images), func(d v1.Descriptor) bool { return architectureOf(d) != architecture })
	switch {
	case len(fitting) == 1:
		return fitting[0], nil
	case len(images) == 1 && architectureOf(images[0]) == "":
		return images[0], nil
	case len(images) == 0:
		return v1.Descriptor{}, errors.New("the layout has no image")
	case len(fitting) == 0:
		return v1.Descriptor{}, fmt.Errorf("the layout has no image for %s", architecture)
	}
	return v1.Descriptor{}, fmt.Errorf("the layout has %d images for %s, and none of them is the one", len(fitting), architecture)
}

func architectureOf(d v1.Descriptor) string {
	if d.Platform == nil {
		return ""
	}
	return d.Platform.Architecture
}

var digestShape = pattern.New(`^sha256:[0-9a-f]{64}$`)

// blobPath is where a blob is; the error is that of a digest that is none.
func blobPath(digest string) (string, error) {
	if !digestShape.MatchString(digest) {
		return "", fmt.Errorf("%q is not a digest", digest)
	}
	return path.Join("blobs/sha256", strings.TrimPrefix(digest, "sha256:")), nil
}

// readJSON reads a document: by its name, or by its digest.
func (l *Layout) readJSON(name, digest string, into any) error {
	if digest != "" {
		var err error
		if name, err = blobPath(digest); err != nil {
			return err
		}
	}
	info, err := l.root.Lstat(name)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is not a regular file", name)
	}
	f, err := l.root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	data, err := files.ReadRegular(f, maxDocument)
	if err != nil {
		return err
	}
	if sum := sha256.Sum256(data); digest != "" && "sha256:"+hex.EncodeToString(sum[:]) != digest {
		return fmt.Errorf("%s is not what its digest says", name)
	}
	if err := json.Unmarshal(data, into); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// Blob reads a blob. Reading past its end fails if it is not what its digest says.
func (l *Layout) Blob(d v1.Descriptor) (io.ReadCloser, error) {
	name, err := blobPath(d.Digest.String())
	if err != nil {
		return nil, err
	}
	info, err := l.root.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() != d.Size {
		return nil, fmt.Errorf("%s has %d bytes, and %d were announced", name, info.Size(), d.Size)
	}
	f, err := l.root.Open(name)
	if err != nil {
		return nil, err
	}
	return &verified{f, sha256.New(), d.Digest.String()}, nil
}

type verified struct {
	f      *os.File
	sum    hash.Hash
	digest string
}

func (v *verified) Read(p []byte) (int, error) {
	n, err := v.f.Read(p)
	v.sum.Write(p[:n])
	if errors.Is(err, io.EOF) && "sha256:"+hex.EncodeToString(v.sum.Sum(nil)) != v.digest {
		return n, fmt.Errorf("the blob %s is not what its digest says", v.digest)
	}
	return n, err
}

func (v *verified) Close() error { return v.f.Close() }
