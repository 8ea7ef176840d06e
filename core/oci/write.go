package oci

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	kgzip "github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"ellwand.example/core/cancel"
)

// Compressions of layers.
const (
	Gzip = "gzip"
	Zstd = "zstd"
)

var layerTypes = map[string]string{Gzip: v1.MediaTypeImageLayerGzip, Zstd: v1.MediaTypeImageLayerZstd}

// Writer writes a layout into a directory.
type Writer struct{ dir string }

// Create starts a layout in an empty or new directory.
func Create(dir string) (*Writer, error) {
	if err := os.MkdirAll(filepath.Join(dir, v1.ImageBlobsDir, "sha256"), 0o755); err != nil {
		return nil, err
	}
	marker, err := json.Marshal(v1.ImageLayout{Version: v1.ImageLayoutVersion})
	if err != nil {
		return nil, err
	}
	return &Writer{dir}, os.WriteFile(filepath.Join(dir, v1.ImageLayoutFile), marker, 0o644)
}

func (w *Writer) blob(d digest.Digest) string {
	return filepath.Join(w.dir, v1.ImageBlobsDir, "sha256", d.Encoded())
}

// WrittenLayer is a layer of an image.
type WrittenLayer struct {
	Descriptor v1.Descriptor
	DiffID     string // the digest before it was compressed
}

// Layer compresses a layer that fill writes as a tar archive, and adds it as a blob. The same
// input gives the same bytes.
func (w *Writer) Layer(ctx context.Context, compression string, fill func(io.Writer) error) (l WrittenLayer, err error) {
	f, err := os.CreateTemp(filepath.Join(w.dir, v1.ImageBlobsDir), ".new-")
	if err != nil {
		return l, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, f.Close(), os.Remove(f.Name()))
		}
	}()
	compressed, plain := sha256.New(), sha256.New()
	size := &counter{}
	z, err := compressor(io.MultiWriter(f, compressed, size), compression)
	if err != nil {
		return l, err
	}
	err = fill(io.MultiWriter(z, plain))
	if closed := z.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return l, err
	}
	l.Descriptor = v1.Descriptor{MediaType: layerTypes[compression], Digest: sumOf(compressed), Size: size.n}
	l.DiffID = sumOf(plain).String()
	if err := errors.Join(f.Chmod(0o644), f.Close()); err != nil {
		return l, err
	}
	return l, os.Rename(f.Name(), w.blob(l.Descriptor.Digest))
}

type counter struct{ n int64 }

func (c *counter) Write(b []byte) (int, error) {
	c.n += int64(len(b))
	return len(b), nil
}

func sumOf(h hash.Hash) digest.Digest {
	return digest.NewDigestFromEncoded(digest.SHA256, hex.EncodeToString(h.Sum(nil)))
}

// compressor compresses without anything in its output that depends on when it is, or on the
// number of processors.
func compressor(w io.Writer, compression string) (io.WriteCloser, error) {
	switch compression {
	case Gzip:
		return kgzip.NewWriterLevel(w, gzip.DefaultCompression)
	case Zstd:
		return zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithWindowSize(4<<20))
	}
	return nil, fmt.Errorf("no layer is compressed with %q", compression)
}

// Take adds a blob of another layout: as a link to it where that is possible. Its bytes are
// compared with its digest.
func (w *Writer) Take(ctx context.Context, from *Layout, d v1.Descriptor) error {
	name, err := blobPath(d.Digest.String())
	if err != nil {
		return err
	}
	if _, err := os.Lstat(w.blob(d.Digest)); err == nil {
		return nil
	}
	blob, err := from.Blob(d)
	if err != nil {
		return err
	}
	defer blob.Close()
	if os.Link(filepath.Join(from.root.Name(), name), w.blob(d.Digest)) == nil {
		if _, err = io.Copy(io.Discard, cancel.Reader(ctx, blob)); err != nil {
			return errors.Join(err, os.Remove(w.blob(d.Digest)))
		}
		return nil
	}
	return w.write(w.blob(d.Digest), cancel.Reader(ctx, blob))
}

// write writes a file that appears whole.
func (w *Writer) write(file string, r io.Reader) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".new-")
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	if err = errors.Join(err, f.Chmod(0o644), f.Close()); err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// Bytes adds data as a blob.
func (w *Writer) Bytes(mediaType string, data []byte) (v1.Descriptor, error) {
	d := v1.Descriptor{MediaType: mediaType, Digest: digest.FromBytes(data), Size: int64(len(data))}
	return d, w.write(w.blob(d.Digest), bytes.NewReader(data))
}

// JSON adds a document as a blob.
func (w *Writer) JSON(mediaType string, v any) (v1.Descriptor, error) {
	data, err := json.Marshal(v)
	if err != nil {
		return v1.Descriptor{}, err
	}
	return w.Bytes(mediaType, data)
}

// ImageParts are what an image is made of.
type ImageParts struct {
	Layers      []WrittenLayer
	Config      v1.Image // without its list of layers
	Annotations map[string]string
}

// Image adds an image and returns the descriptor of its manifest.
func (w *Writer) Image(p ImageParts) (v1.Descriptor, error) {
	p.Config.RootFS = v1.RootFS{Type: "layers"}
	m := v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest, Layers: []v1.Descriptor{}, Annotations: p.Annotations}
	for _, l := range p.Layers {
		p.Config.RootFS.DiffIDs = append(p.Config.RootFS.DiffIDs, digest.Digest(l.DiffID))
		m.Layers = append(m.Layers, l.Descriptor)
	}
	var err error
	if m.Config, err = w.JSON(v1.MediaTypeImageConfig, p.Config); err != nil {
		return v1.Descriptor{}, err
	}
	d, err := w.JSON(v1.MediaTypeImageManifest, m)
	d.Platform = &v1.Platform{Architecture: p.Config.Architecture, OS: p.Config.OS, Variant: p.Config.Variant}
	return d, err
}

// Attach adds a document that belongs to a manifest: a manifest of its own that names the
// other as its subject (OCI Image Format Specification 1.1, manifest.md, Guidelines for
// Artifact Usage).
func (w *Writer) Attach(to v1.Descriptor, mediaType string, data []byte, annotations map[string]string) (v1.Descriptor, error) {
	layer, err := w.Bytes(mediaType, data)
	if err != nil {
		return v1.Descriptor{}, err
	}
	config, err := w.Bytes(v1.DescriptorEmptyJSON.MediaType, v1.DescriptorEmptyJSON.Data)
	if err != nil {
		return v1.Descriptor{}, err
	}
	subject := v1.Descriptor{MediaType: to.MediaType, Digest: to.Digest, Size: to.Size}
	d, err := w.JSON(v1.MediaTypeImageManifest, v1.Manifest{
		Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest, ArtifactType: mediaType,
		Config: config, Layers: []v1.Descriptor{layer}, Subject: &subject, Annotations: annotations,
	})
	d.ArtifactType, d.Annotations = mediaType, annotations
	return d, err
}

// Nested adds an index of several manifests.
func (w *Writer) Nested(manifests []v1.Descriptor, annotations map[string]string) (v1.Descriptor, error) {
	return w.JSON(v1.MediaTypeImageIndex, v1.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageIndex, Manifests: manifests, Annotations: annotations})
}

// Finish writes the list of what is in the layout.
func (w *Writer) Finish(manifests []v1.Descriptor) error {
	data, err := json.Marshal(v1.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageIndex, Manifests: manifests})
	if err != nil {
		return err
	}
	return w.write(filepath.Join(w.dir, v1.ImageIndexFile), bytes.NewReader(data))
}

// TakeAll adds all blobs of another layout, and returns what its list names.
func (w *Writer) TakeAll(ctx context.Context, dir string) ([]v1.Descriptor, error) {
	from, err := Open(dir)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	index, err := from.Index()
	if err != nil {
		return nil, err
	}
	for _, d := range index.Manifests {
		var m struct {
			Config v1.Descriptor   `json:"config"`
			Layers []v1.Descriptor `json:"layers"`
		}
		if err := from.readJSON("", d.Digest.String(), &m); err != nil {
			return nil, err
		}
		for _, blob := range append(m.Layers, m.Config, d) {
			if blob.Digest == "" {
				continue
			}
			if err := w.Take(ctx, from, blob); err != nil {
				return nil, err
			}
		}
	}
	return index.Manifests, nil
}

// WriteArchive writes a layout as one tar archive, which container tools read too.
func WriteArchive(ctx context.Context, out io.Writer, dir string) error {
	tree, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer tree.Close()
	var names []string
	err = fs.WalkDir(tree.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && name != "." && (d.IsDir() || d.Type().IsRegular()) {
			names = append(names, name)
		}
		return err
	})
	if err != nil {
		return err
	}
	slices.Sort(names)
	tw := tar.NewWriter(out)
	for _, name := range names {
		if err := addFile(ctx, tw, tree, name); err != nil {
			return err
		}
	}
	return tw.Close()
}

func addFile(ctx context.Context, tw *tar.Writer, tree *os.Root, name string) error {
	f, err := tree.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	h := &tar.Header{Name: name, Typeflag: tar.TypeReg, Size: info.Size(), Mode: 0o644, ModTime: time.Unix(0, 0)}
	if info.IsDir() {
		h.Name, h.Typeflag, h.Size, h.Mode = strings.TrimSuffix(name, "/")+"/", tar.TypeDir, 0, 0o755
	}
	if err := tw.WriteHeader(h); err != nil || info.IsDir() {
		return err
	}
	_, err = io.Copy(tw, cancel.Reader(ctx, f))
	return err
}
