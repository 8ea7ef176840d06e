package build

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
)

// layerOf makes a layer of entries as writeEntries takes them.
func layerOf(t *testing.T, entries ...string) string {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	writeEntries(t, w, 0o555, entries)
	w.Close()
	return b.String()
}

// imageOf writes an image of layers, as a directory in the OCI layout.
func imageOf(t *testing.T, layers ...string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "image")
	blob := func(kind, text string) string {
		sum := fmt.Sprintf("%x", sha256.Sum256([]byte(text)))
		os.MkdirAll(filepath.Join(dir, "blobs/sha256"), 0o755)
		if err := os.WriteFile(filepath.Join(dir, "blobs/sha256", sum), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return fmt.Sprintf(`{"mediaType": "application/vnd.oci.image.%s", "digest": "sha256:%s", "size": %d}`, kind, sum, len(text))
	}
	var descriptors []string
	for _, l := range layers {
		descriptors = append(descriptors, blob("layer.v1.tar", l))
	}
	manifest := blob("manifest.v1+json", `{"layers": [`+strings.Join(descriptors, ", ")+`]}`)
	for name, text := range map[string]string{"oci-layout": `{"imageLayoutVersion": "1.0.0"}`, "index.json": `{"manifests": [` + manifest + `]}`} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// The layers of an image come one over the other, and whiteouts remove what is below.
func TestSystemImage(t *testing.T) {
	image := imageOf(t,
		layerOf(t, "usr/", "", "usr/bin/", "", "usr/bin/sh", "old", "usr/bin/gone", "x", "etc/", "", "etc/all/", "", "etc/all/a", "x", "lib", "->usr/lib"),
		layerOf(t, "usr/bin/sh", "new", "usr/bin/.wh.gone", "", "etc/all/.wh..wh..opq", "", "etc/all/b", "y", ".wh.never-there", ""))
	all := t.TempDir()
	unpack := func(name string) (string, error) {
		return SystemDirectory(t.Context(), all, name, "x86_64", progress.None)
	}
	dir, err := unpack(image)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"usr/bin/sh": "new", "usr/bin/gone": "", "etc/all/a": "", "etc/all/b": "y", "etc/all/.wh..wh..opq": ""} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if string(data) != want || (want == "") != (err != nil) {
			t.Errorf("%s: %q, %v", name, data, err)
		}
	}
	if again, err := unpack(image); again != dir || err != nil {
		t.Errorf("again: %s, %v", again, err)
	}
	// An archive of the layout is the same.
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	if err := w.AddFS(os.DirFS(image)); err != nil {
		t.Fatal(err)
	}
	w.Close()
	file := filepath.Join(t.TempDir(), "image.tar")
	if err := os.WriteFile(file, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	if same, err := unpack(file); same != dir || err != nil {
		t.Errorf("an archive: %s, %v", same, err)
	}
	// A hostile one writes nowhere else, and nothing of it is left.
	outside := filepath.Join(t.TempDir(), "outside")
	os.Mkdir(outside, 0o755)
	os.WriteFile(filepath.Join(outside, "kept"), nil, 0o644)
	for what, layers := range map[string][]string{
		"a whiteout through a link": {layerOf(t, "out", "->"+outside), layerOf(t, "out/.wh.kept", "")},
		"a file through a link":     {layerOf(t, "out", "->"+outside), layerOf(t, "out/new", "x")},
		"a path that leads out":     {layerOf(t, "../../new", "x")},
		"no archive":                {"these are no tides"},
	} {
		before, _ := os.ReadDir(all)
		_, err := unpack(imageOf(t, layers...))
		if err == nil || fact.StatusOf(err) != fact.StatusInput {
			t.Errorf("%s: %v", what, err)
		}
		if after, _ := os.ReadDir(all); len(after) != len(before) {
			t.Errorf("%s: something is left behind", what)
		}
		if left, _ := os.ReadDir(outside); len(left) != 1 {
			t.Fatalf("%s: it wrote outside", what)
		}
	}
}
