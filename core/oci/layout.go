// Package oci reads container images in the layout of the OCI Image Format Specification 1.1:
// a directory with index.json, and with blobs named by their digests. Nothing of an image is
// believed that its digest does not confirm.
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

	"ellwand.example/core/files"
	"ellwand.example/core/pattern"
)

// MarkerFile marks a directory as a layout.
const MarkerFile = "oci-layout"

// Media types of the specification.
const (
	indexType    = "application/vnd.oci.image.index.v1+json"
	manifestType = "application/vnd.oci.image.manifest.v1+json"
	layerType    = "application/vnd.oci.image.layer.v1.tar"
)

// Bounds on what is read of an image.
const (
	maxDocument = 4 << 20 // bytes of a document in JSON
	maxLayers   = 1000
	maxNested   = 4 // indexes in indexes
)

// Descriptor names a blob.
type Descriptor struct {
	MediaType string `json:"mediaType"`
	Digest    string `json:"digest"`
	Size      int64  `json:"size"` // bytes
	Platform  struct {
		Architecture string `json:"architecture"` // as Go calls it
		OS           string `json:"os"`
	} `json:"platform"`
}

// Layout is a layout that was opened.
type Layout struct{ root *os.Root }

// Image is an image of a layout.
type Image struct {
	Digest string // of its manifest
	Layers []Descriptor
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
	var index struct {
		Manifests []Descriptor `json:"manifests"`
	}
	if err := l.readJSON("index.json", "", &index); err != nil {
		return Image{}, err
	}
	for range maxNested {
		d, err := choose(index.Manifests, architecture)
		if err != nil {
			return Image{}, err
		}
		if d.MediaType == indexType {
			index.Manifests = nil
			if err := l.readJSON("", d.Digest, &index); err != nil {
				return Image{}, err
			}
			continue
		}
		var manifest struct {
			Layers []Descriptor `json:"layers"`
		}
		if err := l.readJSON("", d.Digest, &manifest); err != nil {
			return Image{}, err
		}
		if len(manifest.Layers) > maxLayers {
			return Image{}, fmt.Errorf("the image has more than %d layers", maxLayers)
		}
		for _, layer := range manifest.Layers {
			if !strings.HasPrefix(layer.MediaType, layerType) && layer.MediaType != "" {
				return Image{}, fmt.Errorf("a layer is of an unknown kind, %q", layer.MediaType)
			}
		}
		return Image{d.Digest, manifest.Layers}, nil
	}
	return Image{}, errors.New("the index of the image leads to more indexes than are followed")
}

func choose(all []Descriptor, architecture string) (Descriptor, error) {
	images := slices.DeleteFunc(slices.Clone(all), func(d Descriptor) bool { return d.MediaType != manifestType && d.MediaType != indexType })
	fitting := slices.DeleteFunc(slices.Clone(images), func(d Descriptor) bool { return d.Platform.Architecture != architecture })
	switch {
	case len(fitting) == 1:
		return fitting[0], nil
	case len(images) == 1 && images[0].Platform.Architecture == "":
		return images[0], nil
	case len(images) == 0:
		return Descriptor{}, errors.New("the layout has no image")
	case len(fitting) == 0:
		return Descriptor{}, fmt.Errorf("the layout has no image for %s", architecture)
	}
	return Descriptor{}, fmt.Errorf("the layout has %d images for %s, and none of them is the one", len(fitting), architecture)
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
func (l *Layout) Blob(d Descriptor) (io.ReadCloser, error) {
	name, err := blobPath(d.Digest)
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
	return &verified{f, sha256.New(), d.Digest}, nil
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
