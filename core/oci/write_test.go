package oci

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// writeImage writes a layout with an image of two layers and a document about it.
func writeImage(t *testing.T, architecture string) (dir string, d v1.Descriptor) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), architecture+".oci")
	w, err := Create(dir)
	if err != nil {
		t.Fatal(err)
	}
	var layers []WrittenLayer
	for compression, text := range map[string]string{Gzip: "tides", Zstd: strings.Repeat("high and low ", 10000)} {
		l, err := w.Layer(t.Context(), compression, func(out io.Writer) error {
			tw := tar.NewWriter(out)
			tw.WriteHeader(&tar.Header{Name: compression + " file", Mode: 0o644, Size: int64(len(text))})
			io.WriteString(tw, text)
			return tw.Close()
		})
		if err != nil {
			t.Fatal(err)
		}
		layers = append(layers, l)
	}
	if layers[0].Descriptor.MediaType != v1.MediaTypeImageLayerGzip {
		layers[0], layers[1] = layers[1], layers[0]
	}
	if d, err = w.Image(ImageParts{Layers: layers, Config: v1.Image{Platform: v1.Platform{Architecture: architecture, OS: "linux"}}}); err != nil {
		t.Fatal(err)
	}
	bill, err := w.Attach(d, "application/spdx+json", []byte(`{"spdxVersion": "SPDX-2.3"}`), nil)
	if err != nil {
		t.Fatal(err)
	}
	d.Annotations = map[string]string{v1.AnnotationRefName: "latest"}
	if err := w.Finish([]v1.Descriptor{d, bill}); err != nil {
		t.Fatal(err)
	}
	return dir, d
}

// What is written can be read, and is the same bytes each time.
func TestWrite(t *testing.T) {
	dir, d := writeImage(t, "amd64")
	other, again := writeImage(t, "amd64")
	if d.Digest != again.Digest {
		t.Errorf("%s, and then %s", d.Digest, again.Digest)
	}
	l, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	i, err := l.Image("amd64")
	if err != nil || len(i.Layers) != 2 || len(i.DiffIDs) != 2 || i.Config.Architecture != "amd64" {
		t.Fatalf("%+v, %v", i, err)
	}
	var archives [2]bytes.Buffer
	for k, one := range []string{dir, other} {
		if err := WriteArchive(t.Context(), &archives[k], one); err != nil {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(archives[0].Bytes(), archives[1].Bytes()) {
		t.Error("two archives of one image differ")
	}
	// A layout takes blobs of another one, but none that is damaged.
	into, err := Create(filepath.Join(t.TempDir(), "into"))
	if err != nil {
		t.Fatal(err)
	}
	if err := into.Take(t.Context(), l, i.Layers[0]); err != nil {
		t.Error(err)
	}
	blob := filepath.Join(dir, "blobs/sha256", i.Layers[1].Digest.Encoded())
	data, _ := os.ReadFile(blob)
	data[len(data)/2] ^= 1
	os.WriteFile(blob, data, 0o644)
	if err := into.Take(t.Context(), l, i.Layers[1]); err == nil || !strings.Contains(err.Error(), "is not what its digest says") {
		t.Errorf("a damaged blob: %v", err)
	}
	if _, err := os.Lstat(into.blob(i.Layers[1].Digest)); err == nil {
		t.Error("a damaged blob was taken")
	}
}

// failing is a disk that gets full.
type failing struct{}

func (failing) Write([]byte) (int, error) { return 0, errors.New("no space left on device") }

// A layer that cannot be written leaves nothing behind.
func TestWriteFails(t *testing.T) {
	dir := t.TempDir()
	w, err := Create(dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Layer(t.Context(), Gzip, func(io.Writer) error { return errors.New("no more tides") }); err == nil || err.Error() != "no more tides" {
		t.Error(err)
	}
	if _, err := w.Layer(t.Context(), "xz", func(io.Writer) error { return nil }); err == nil {
		t.Error("an unknown compression")
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "blobs/.new-*")); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
	if err := WriteArchive(t.Context(), failing{}, dir); err == nil {
		t.Error("a full disk was not noticed")
	}
}

// newRegistry is a registry on this machine, and the number of blobs that it got.
func newRegistry(t *testing.T, before func(http.ResponseWriter, *http.Request) bool) (host string, uploads *atomic.Int64) {
	t.Helper()
	uploads = &atomic.Int64{}
	handler := registry.New(registry.WithReferrersSupport(true), registry.Logger(log.New(io.Discard, "", 0)))
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if before != nil && before(w, r) {
			return
		}
		if r.Method == http.MethodPatch {
			uploads.Add(1)
		}
		handler.ServeHTTP(w, r)
	}))
	t.Cleanup(s.Close)
	return strings.TrimPrefix(s.URL, "http://"), uploads
}

// A registry gets an image, and what it has already not again; it can be fetched from there,
// and its documents found.
func TestRegistry(t *testing.T) {
	host, uploads := newRegistry(t, nil)
	dir, d := writeImage(t, "amd64")
	var sent int64
	digest, err := Registry{Advance: func(n int64) { sent = n }}.Push(t.Context(), dir, host+"/stations/tide:1.0")
	if err != nil || digest != d.Digest.String() || sent == 0 {
		t.Fatalf("%s, %d bytes, %v", digest, sent, err)
	}
	first := uploads.Load()
	if _, err := (Registry{}).Push(t.Context(), dir, host+"/stations/tide:1.1"); err != nil || uploads.Load() != first {
		t.Errorf("%d more blobs were sent, %v", uploads.Load()-first, err)
	}
	all := t.TempDir()
	pulled, err := Registry{}.Pull(t.Context(), host+"/stations/tide:1.1", "amd64", all)
	if err != nil {
		t.Fatal(err)
	}
	l, err := Open(pulled)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if i, err := l.Image("amd64"); err != nil || i.Digest != d.Digest.String() {
		t.Errorf("%+v, %v", i, err)
	}
	if Pulled(all, d.Digest.Encoded()) != pulled || Pulled(all, strings.Repeat("0", 64)) != "" {
		t.Error("what was fetched is not found")
	}
	answer, err := http.Get("http://" + host + "/v2/stations/tide/referrers/" + d.Digest.String())
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	index, err := l.Index()
	if err != nil || len(index.Manifests) != 1 {
		t.Fatal(index, err)
	}
	if text, _ := io.ReadAll(answer.Body); strings.Count(string(text), `"artifactType"`) != 1 {
		t.Errorf("the document about the image is not found: %s", text)
	}
}

// An index of two architectures is pushed as one, and each machine gets its own image.
func TestRegistryIndex(t *testing.T) {
	host, _ := newRegistry(t, nil)
	dir := filepath.Join(t.TempDir(), "all.oci")
	w, err := Create(dir)
	if err != nil {
		t.Fatal(err)
	}
	var manifests []v1.Descriptor
	digests := map[string]string{}
	for _, architecture := range []string{"amd64", "arm64"} {
		one, d := writeImage(t, architecture)
		list, err := w.TakeAll(t.Context(), one)
		if err != nil {
			t.Fatal(err)
		}
		manifests = append(manifests, list...)
		digests[architecture] = d.Digest.String()
	}
	index, err := w.Nested(manifests, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Finish([]v1.Descriptor{index}); err != nil {
		t.Fatal(err)
	}
	if digest, err := (Registry{}).Push(t.Context(), dir, host+"/tide:latest"); err != nil || digest != index.Digest.String() {
		t.Fatalf("%s, %v", digest, err)
	}
	for architecture, want := range digests {
		pulled, err := Registry{}.Pull(t.Context(), host+"/tide", architecture, t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		l, err := Open(pulled)
		if err != nil {
			t.Fatal(err)
		}
		if i, err := l.Image(architecture); err != nil || i.Digest != want {
			t.Errorf("%s: %+v, %v", architecture, i, err)
		}
		l.Close()
	}
}

// A registry that refuses, lies or hangs up is told as what it is, and leaves nothing behind.
func TestBadRegistry(t *testing.T) {
	dir, d := writeImage(t, "amd64")
	lying, _ := newRegistry(t, func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet && strings.Contains(r.URL.Path, "/blobs/") {
			io.WriteString(w, "something else")
			return true
		}
		return false
	})
	if _, err := (Registry{}).Push(t.Context(), dir, lying+"/tide:1"); err != nil {
		t.Fatal(err)
	}
	all := t.TempDir()
	if _, err := (Registry{}).Pull(t.Context(), lying+"/tide:1", "amd64", all); err == nil {
		t.Error("blobs that are something else were taken")
	}
	if left, _ := os.ReadDir(all); len(left) > 0 || Pulled(all, d.Digest.Encoded()) != "" {
		t.Errorf("left: %v", left)
	}
	refusing, _ := newRegistry(t, func(w http.ResponseWriter, r *http.Request) bool {
		w.WriteHeader(http.StatusForbidden)
		return true
	})
	var refused *RegistryError
	if _, err := (Registry{}).Push(t.Context(), dir, refusing+"/tide:1"); !errors.As(err, &refused) || !refused.Refused {
		t.Errorf("a refusal: %v", err)
	}
	empty := filepath.Join(t.TempDir(), "empty.oci")
	w, err := Create(empty)
	if err == nil {
		err = w.Finish([]v1.Descriptor{})
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := (Registry{Advance: func(int64) {}}).Push(t.Context(), empty, refusing+"/tide:1"); err == nil || !strings.Contains(err.Error(), "holds no image") {
		t.Errorf("a layout without an image: %v", err)
	}
	for _, reference := range []string{"tide", "stations/tide:1", "host.example/UPPER", ""} {
		if _, err := ParseReference(reference); err == nil {
			t.Errorf("%q is a reference", reference)
		}
	}
}
