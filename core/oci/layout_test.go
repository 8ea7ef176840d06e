package oci

import (
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// layout is a directory that a test fills.
type layout struct {
	t   *testing.T
	dir string
}

func newLayout(t *testing.T) *layout {
	t.Helper()
	l := &layout{t, t.TempDir()}
	l.write(MarkerFile, `{"imageLayoutVersion": "1.0.0"}`)
	return l
}

func (l *layout) write(name, text string) {
	l.t.Helper()
	file := filepath.Join(l.dir, name)
	os.MkdirAll(filepath.Dir(file), 0o755)
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		l.t.Fatal(err)
	}
}

// blob adds a blob and returns its descriptor.
func (l *layout) blob(kind, text, more string) string {
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte(text)))
	l.write("blobs/sha256/"+sum, text)
	return fmt.Sprintf(`{"mediaType": %q, "digest": "sha256:%s", "size": %d%s}`, kind, sum, len(text), more)
}

const amd, arm = `, "platform": {"architecture": "amd64", "os": "linux"}`, `, "platform": {"architecture": "arm64", "os": "linux"}`

func TestImage(t *testing.T) {
	l := newLayout(t)
	layer := l.blob(v1.MediaTypeImageLayer+"+gzip", "tides", "")
	one := func(more string) string { return l.blob(v1.MediaTypeImageManifest, `{"layers": [`+layer+`]}`, more) }
	other := func(more string) string { return l.blob(v1.MediaTypeImageManifest, `{"layers": []}`, more) }
	for _, c := range []struct {
		title, manifests, want string
		layers                 int
	}{
		{"one image", one(""), "", 1},
		{"the one of two", other(arm) + "," + one(amd), "", 1},
		{"an index of them", l.blob(v1.MediaTypeImageIndex, `{"manifests": [`+other(arm)+","+one(amd)+`]}`, ""), "", 1},
		{"beside what is no image", l.blob("application/spdx+json", "{}", "") + "," + one(""), "", 1},
		{"none", "", "has no image", 0},
		{"none for it", other(arm) + "," + other(`, "platform": {"architecture": "riscv64"}`), "no image for amd64", 0},
		{"two for it", one(amd) + "," + other(amd), "2 images for amd64", 0},
		{"a layer of another kind", l.blob(v1.MediaTypeImageManifest, `{"layers": [`+l.blob("application/zip", "x", "")+`]}`, ""), "unknown kind", 0},
		{"a digest that is a path", `{"mediaType": "` + v1.MediaTypeImageManifest + `", "digest": "sha256:../../../etc/passwd", "size": 1}`, "not a digest", 0},
		{"a manifest that is not there", `{"mediaType": "` + v1.MediaTypeImageManifest + `", "digest": "sha256:` + strings.Repeat("0", 64) + `", "size": 1}`, "no such file", 0},
	} {
		l.write("index.json", `{"manifests": [`+c.manifests+`]}`)
		opened, err := Open(l.dir)
		if err != nil {
			t.Fatal(err)
		}
		image, err := opened.Image("amd64")
		if (c.want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), c.want) || len(image.Layers) != c.layers {
			t.Errorf("%s: %+v, %v", c.title, image, err)
		}
		opened.Close()
	}
}

// What is not what its digest says is not believed.
func TestDamaged(t *testing.T) {
	l := newLayout(t)
	layer := l.blob(v1.MediaTypeImageLayer, "tides", "")
	manifest := l.blob(v1.MediaTypeImageManifest, `{"layers": [`+layer+`]}`, "")
	l.write("index.json", `{"manifests": [`+manifest+`]}`)
	opened, err := Open(l.dir)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	image, err := opened.Image("amd64")
	if err != nil {
		t.Fatal(err)
	}
	read := func() (string, error) {
		blob, err := opened.Blob(image.Layers[0])
		if err != nil {
			return "", err
		}
		defer blob.Close()
		data, err := io.ReadAll(blob)
		return string(data), err
	}
	if text, err := read(); text != "tides" || err != nil {
		t.Errorf("%q, %v", text, err)
	}
	file := "blobs/sha256/" + image.Layers[0].Digest.Encoded()
	l.write(file, "sedit")
	if _, err := read(); err == nil || !strings.Contains(err.Error(), "not what its digest says") {
		t.Errorf("a layer of other contents: %v", err)
	}
	l.write(file, "longer than it was")
	if _, err := read(); err == nil || !strings.Contains(err.Error(), "were announced") {
		t.Errorf("a layer of another size: %v", err)
	}
	l.write("blobs/sha256/"+strings.TrimPrefix(image.Digest, "sha256:"), "{}")
	if _, err := opened.Image("amd64"); err == nil || !strings.Contains(err.Error(), "not what its digest says") {
		t.Errorf("a manifest of other contents: %v", err)
	}
	os.Remove(filepath.Join(l.dir, "index.json"))
	os.Symlink("/etc/passwd", filepath.Join(l.dir, "index.json"))
	if _, err := opened.Image("amd64"); err == nil || !strings.Contains(err.Error(), "not a regular file") {
		t.Errorf("an index that is a link: %v", err)
	}
	l.write(MarkerFile, `{"imageLayoutVersion": "2.0"}`)
	if _, err := Open(l.dir); err == nil {
		t.Error("a layout of another version")
	}
}

func FuzzIndex(f *testing.F) {
	f.Add([]byte(`{"manifests": [{"mediaType": "`+v1.MediaTypeImageManifest+`", "digest": "sha256:00", "size": 1}]}`), []byte(`{"layers": []}`))
	f.Fuzz(func(t *testing.T, index, manifest []byte) {
		l := newLayout(t)
		l.write("index.json", string(index))
		l.write("blobs/sha256/"+fmt.Sprintf("%x", sha256.Sum256(manifest)), string(manifest))
		opened, err := Open(l.dir)
		if err != nil {
			t.Fatal(err)
		}
		defer opened.Close()
		if image, err := opened.Image("amd64"); err == nil {
			for _, d := range image.Layers {
				opened.Blob(d)
			}
		}
	})
}
