package image

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/root"
)

// made is a layer of lines: "/a/" for a directory, "/a = text" for a file, "/a -> b" for a
// link, "/a == /b" for a hard link, "-/a" for a removal and "0/a" for a directory that is emptied.
func made(lines ...string) Layer {
	var list []Entry
	texts := map[string]string{}
	for _, line := range lines {
		e := Entry{Mode: 0o644, Modified: time.Unix(0, 0).UTC()}
		switch {
		case strings.HasPrefix(line, "-"):
			e.Path, e.Type = line[1:], Removed
		case strings.HasPrefix(line, "0"):
			e.Path, e.Type = line[1:], Emptied
		case strings.HasSuffix(line, "/"):
			e.Path, e.Type, e.Mode = strings.TrimSuffix(line, "/"), Directory, 0o755
		case strings.Contains(line, " == "):
			e.Path, e.Link, _ = strings.Cut(line, " == ")
			e.Type = Hardlink
		case strings.Contains(line, " -> "):
			e.Path, e.Link, _ = strings.Cut(line, " -> ")
			e.Type, e.Mode = Symlink, 0o777
		default:
			e.Path, texts[e.Path], _ = strings.Cut(line, " = ")
			p, text, _ := strings.Cut(line, " = ")
			e.Path, e.Type, e.Size, texts[p] = p, File, int64(len(text)), text
		}
		list = append(list, e)
	}
	l := Layer{Name: "made", List: listOf(list)}
	l.Key, _ = keyOf(list)
	l.Each = func(_ context.Context, visit func(Entry, io.Reader) error) error {
		for _, e := range list {
			if err := visit(e, strings.NewReader(texts[e.Path])); err != nil {
				return err
			}
		}
		return nil
	}
	return l
}

// lines are what made understands.
func lines(t *testing.T, each func(context.Context, func(Entry, io.Reader) error) error) []string {
	t.Helper()
	var out []string
	err := each(t.Context(), func(e Entry, r io.Reader) error {
		switch e.Type {
		case Directory:
			out = append(out, e.Path+"/")
		case Symlink:
			out = append(out, e.Path+" -> "+e.Link)
		case Hardlink:
			out = append(out, e.Path+" == "+e.Link)
		case File:
			data, err := io.ReadAll(r)
			if err != nil {
				return err
			}
			out = append(out, fmt.Sprintf("%s = %s", e.Path, data))
		default:
			out = append(out, fmt.Sprint(e.Type, " ", e.Path))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// A flat image has what layers, one put over the other, leave.
func TestFlatten(t *testing.T) {
	for _, c := range []struct {
		name   string
		layers []Layer
		want   []string
	}{
		{"one", []Layer{made("/a/", "/a/b = 1", "/c -> a")}, []string{"/a/", "/a/b = 1", "/c -> a"}},
		{"a newer file", []Layer{made("/a = 1", "/b = 1"), made("/a = 2")}, []string{"/b = 1", "/a = 2"}},
		{"a removed file", []Layer{made("/a = 1", "/b = 1"), made("-/a")}, []string{"/b = 1"}},
		{"a removed directory", []Layer{made("/d/", "/d/a = 1", "/e = 1"), made("-/d")}, []string{"/e = 1"}},
		{"removed and made again", []Layer{made("/d/", "/d/a = 1"), made("-/d", "/d/", "/d/b = 2")}, []string{"/d/", "/d/b = 2"}},
		{"made and then marked as removed in one layer", []Layer{made("/a = 1"), made("/a = 2", "-/a")}, []string{"/a = 2"}},
		{"emptied", []Layer{made("/d/", "/d/a = 1", "/d/s/", "/d/s/x = 1"), made("/d/", "/d/b = 2", "0/d")}, []string{"/d/", "/d/b = 2"}},
		{"a file in the place of a directory", []Layer{made("/d/", "/d/a = 1"), made("/d = 2")}, []string{"/d = 2"}},
		{"a directory in the place of a link", []Layer{made("/d -> e", "/e/"), made("/d/", "/d/a = 2")}, []string{"/d/", "/e/", "/d/a = 2"}},
		{"a file below a link, whose directory is nowhere", []Layer{made("/d -> /etc"), made("/d/passwd = evil")}, []string{"/d/", "/d/passwd = evil"}},
		{"hard links", []Layer{made("/a = 1", "/b == /a"), made("/c = 2")}, []string{"/a = 1", "/b == /a", "/c = 2"}},
		{"hard links to what another layer replaces", []Layer{made("/a = 1", "/b == /a", "/c == /a"), made("/a = 2")}, []string{"/b = 1", "/c == /b", "/a = 2"}},
		{"hard links to what is removed", []Layer{made("/a = 1", "/b == /a"), made("-/a")}, []string{"/b = 1"}},
		{"twice in one layer", []Layer{made("/a = 1", "/a = 1")}, []string{"/a = 1"}},
	} {
		each, err := Flatten(t.Context(), c.layers)
		if err != nil {
			t.Fatal(err)
		}
		if got := lines(t, each); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// A layer that was written as an archive is read as it was.
func TestArchiveLayer(t *testing.T) {
	want := []string{"/a/", "/a/b = 1", "/c -> ../a", "/d == /a/b", "removed /e", "emptied /f"}
	file := filepath.Join(t.TempDir(), "layer.tar")
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := WriteTar(t.Context(), f, made("/a/", "/a/b = 1", "/c -> ../a", "/d == /a/b", "-/e", "0/f").Each); err != nil {
		t.Fatal(err)
	}
	if got := lines(t, ArchiveLayer(file, "").Each); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
}

// What an archive of a stranger has in it is made harmless, or refused.
func TestHostileLayer(t *testing.T) {
	for _, c := range []struct {
		name  string
		entry tar.Header
		want  string // "" for nothing at all
		err   string
	}{
		{"a device", tar.Header{Name: "dev/sda", Typeflag: tar.TypeBlock, Devmajor: 8}, "", ""},
		{"a pipe", tar.Header{Name: "p", Typeflag: tar.TypeFifo}, "", ""},
		{"an absolute name", tar.Header{Name: "/etc/passwd", Typeflag: tar.TypeReg}, "/etc/passwd = ", ""},
		{"a way out", tar.Header{Name: "a/../../etc/passwd", Typeflag: tar.TypeReg}, "", "a/../../etc/passwd"},
		{"a link's way out", tar.Header{Name: "a", Typeflag: tar.TypeSymlink, Linkname: "../../../etc"}, "/a -> ../../../etc", ""},
		{"a hard link's way out", tar.Header{Name: "a", Typeflag: tar.TypeLink, Linkname: "../etc/passwd"}, "", "which"},
		{"a whiteout of nothing", tar.Header{Name: "d/.wh.", Typeflag: tar.TypeReg}, "", ""},
		{"a whiteout of the directory above", tar.Header{Name: "d/.wh...", Typeflag: tar.TypeReg}, "", ""},
		{"a whiteout of everything", tar.Header{Name: ".wh..wh..opq", Typeflag: tar.TypeReg}, "", "empty the whole image"},
	} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		if err := w.WriteHeader(&c.entry); err != nil {
			t.Fatal(err)
		}
		w.Close()
		file := filepath.Join(t.TempDir(), "layer.tar")
		os.WriteFile(file, b.Bytes(), 0o644)
		l := ArchiveLayer(file, "")
		if c.err != "" {
			if err := l.List(t.Context(), func(Entry) error { return nil }); err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", c.name, err, c.err)
			}
			continue
		}
		if got := strings.Join(lines(t, l.Each), "|"); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func FuzzLayer(f *testing.F) {
	var b bytes.Buffer
	WriteTar(f.Context(), &b, made("/a/", "/a/b = 1", "/c -> ../a", "/d == /a/b", "-/e", "0/f").Each)
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		l := streamed(Layer{}, func(context.Context) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil })
		each, err := Flatten(t.Context(), []Layer{l, l})
		if err != nil {
			return
		}
		seen := map[string]bool{}
		each(t.Context(), func(e Entry, _ io.Reader) error {
			if seen[e.Path] || !strings.HasPrefix(e.Path, "/") || strings.Contains(e.Path+"/", "/../") {
				t.Errorf("%q", e.Path)
			}
			seen[e.Path] = true
			return nil
		})
	})
}

// A directory is a layer with everything but what is no file in it.
func TestDirectoryLayer(t *testing.T) {
	dir := t.TempDir()
	os.MkdirAll(filepath.Join(dir, "usr/bin"), 0o755)
	os.WriteFile(filepath.Join(dir, "usr/bin/sh"), []byte("shell"), 0o755)
	os.Link(filepath.Join(dir, "usr/bin/sh"), filepath.Join(dir, "usr/bin/ssh"))
	os.Symlink("usr/bin", filepath.Join(dir, "bin"))
	l, err := DirectoryLayer(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"/bin -> usr/bin", "/usr/", "/usr/bin/", "/usr/bin/sh = shell", "/usr/bin/ssh == /usr/bin/sh"}
	if got := lines(t, l.Each); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	os.WriteFile(filepath.Join(dir, "usr/bin/sh"), []byte("shall"), 0o755)
	if again, err := DirectoryLayer(t.Context(), dir); err != nil || again.Key == l.Key {
		t.Error("another file has the same key", err)
	}
}

// Packages are in few layers, which do not change with what else is in the image.
func TestGroups(t *testing.T) {
	var all []Content
	for i := range 200 {
		c := Content{Installed: root.Installed{Name: fmt.Sprintf("tide%d", i), Version: "1", Release: 1, Arch: "x86_64", Asked: i%50 == 0}, Record: &root.Record{Facts: ell.Facts{Date: "2031-04-02"}}}
		if i%40 == 0 {
			c.Changes = i / 30
		}
		all = append(all, c)
	}
	there := func(string) bool { return true }
	layers, err := PackageLayers(all, there)
	if err != nil || len(layers) > steadyLayers+movingLayers+busyLayers {
		t.Fatal(len(layers), err)
	}
	keys := map[string]string{}
	for _, l := range layers {
		keys[l.Name] = strings.Join(l.Packages, " ")
	}
	rest, err := PackageLayers(slices.Delete(slices.Clone(all), 1, 2), there)
	if err != nil {
		t.Fatal(err)
	}
	changed := 0
	for _, l := range rest {
		if keys[l.Name] != strings.Join(l.Packages, " ") {
			changed++
		}
	}
	if changed != 1 {
		t.Errorf("%d layers change with one package", changed)
	}
	if !strings.HasPrefix(layers[0].Name, "packages steady") || !strings.HasPrefix(layers[len(layers)-1].Name, "packages busy") {
		t.Errorf("%s … %s", layers[0].Name, layers[len(layers)-1].Name)
	}
}
