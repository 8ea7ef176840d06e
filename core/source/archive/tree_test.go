package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// entry is written "kind name -> target": d a directory, f a file, l a
// symbolic link, h a hard link.
func tarOf(t testing.TB, entries ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, text := range entries {
		kind, rest, _ := strings.Cut(text, " ")
		name, target, _ := strings.Cut(rest, " -> ")
		h := &tar.Header{Name: name, Linkname: target, Mode: 0o644, Typeflag: map[string]byte{"d": tar.TypeDir, "f": tar.TypeReg, "l": tar.TypeSymlink, "h": tar.TypeLink, "p": tar.TypeFifo}[kind]}
		if kind == "f" {
			h.Size = int64(len(name))
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if kind == "f" {
			w.Write([]byte(name))
		}
	}
	w.Close()
	return b.Bytes()
}

// unpack writes a tar stream into a tree, and lists what was refused.
func unpack(data []byte, dir string) (refused []string, err error) {
	tree, err := OpenTree(dir)
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	err = ReadTar(context.Background(), bytes.NewReader(data), func(e Entry) error {
		name, err := Clean(e.Name)
		if err == nil {
			switch e.Kind {
			case Directory:
				err = tree.Directory(name)
			case File:
				_, err = tree.File(name, 0o644, time.Time{}, e.Contents)
			case Symlink:
				err = tree.Symlink(name, e.Link)
			case Hardlink:
				err = tree.Hardlink(name, e.Link)
			}
		}
		var r *RefusedError
		if errors.As(err, &r) {
			refused = append(refused, e.Name)
			return nil
		}
		return err
	})
	tree.CheckLinks(func(name, _ string) { refused = append(refused, name) })
	return refused, err
}

// inside puts a directory to unpack into beside one that nothing may change,
// and returns a function that fails the test where something did.
func inside(t testing.TB) (dir string, check func(what string)) {
	top := t.TempDir()
	dir, outside := filepath.Join(top, "a/b/tree"), filepath.Join(top, "a/outside")
	for _, d := range []string{dir, outside} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	os.WriteFile(filepath.Join(outside, "secret"), []byte("secret"), 0o644)
	return dir, func(what string) {
		t.Helper()
		filepath.WalkDir(top, func(p string, e fs.DirEntry, err error) error {
			if p == dir {
				return fs.SkipDir
			}
			rel, _ := filepath.Rel(top, p)
			if rel != "." && rel != "a" && rel != "a/b" && rel != "a/outside" && rel != "a/outside/secret" {
				t.Errorf("%s: %s was made", what, rel)
			}
			return nil
		})
		if text, err := os.ReadFile(filepath.Join(outside, "secret")); string(text) != "secret" {
			t.Errorf("%s: the file outside is %q, %v", what, text, err)
		}
		if info, err := os.Stat(filepath.Join(outside, "secret")); err == nil && info.Mode().Perm() != 0o644 {
			t.Errorf("%s: the file outside has mode %s", what, info.Mode())
		}
	}
}

func TestHostile(t *testing.T) {
	deep := "a/b/c/d/e/f/g/h/i/j"
	up := strings.Repeat("../", 10)
	for what, c := range map[string]struct {
		entries []string
		refused int // at least
	}{
		"upwards":                          {[]string{"f ../outside/secret"}, 1},
		"upwards in the middle":            {[]string{"f x/../../../outside/secret"}, 1},
		"absolute":                         {[]string{"f /etc/ellwand-test"}, 1},
		"no name":                          {[]string{"f "}, 1},
		"a link out, and a file behind it": {[]string{"l x -> ../../outside", "f x/secret"}, 1},
		"a link out, replaced":             {[]string{"l x -> ../../outside", "f x"}, 0},
		"an absolute link":                 {[]string{"l x -> /etc"}, 1},
		"a chain of links":                 {[]string{"d " + deep, "l " + deep + "/up -> " + up, "l " + deep + "/up/out -> ../../outside", "f out/secret"}, 1},
		"a chain that meets at the top":    {[]string{"d d/e", "l d/e/x -> ../..", "l d/e/y -> x/..", "f d/e/y/outside/secret"}, 1},
		"a link to itself":                 {[]string{"l x -> x", "f x/y"}, 1},
		"a loop of links":                  {[]string{"l x -> y", "l y -> x", "d x/z"}, 1},
		"a hard link out":                  {[]string{"h x -> ../../outside/secret"}, 1},
		"a hard link behind a link":        {[]string{"l d -> ../../outside", "h x -> d/secret"}, 1},
		"a hard link to a link out":        {[]string{"l l -> ../../outside/secret", "h x -> l", "f l"}, 1},
		"a directory over a link out":      {[]string{"l x -> ../../outside", "d x", "f x/secret"}, 1},
		"a link in place of a directory":   {[]string{"d x", "f x/y", "l x -> ../../outside", "f x/secret"}, 1},
		"a directory in place of a file":   {[]string{"f x/a", "f x/a/b", "d x/a/c"}, 0},
		"a file in place of a link inside": {[]string{"f t", "l x -> t", "f x"}, 0},
	} {
		dir, check := inside(t)
		refused, err := unpack(tarOf(t, c.entries...), dir)
		if len(refused) < c.refused || c.refused == 0 && (len(refused) > 0 || err != nil) {
			// An error of the machine's, such as too many links, refuses too.
			if err == nil || c.refused == 0 {
				t.Errorf("%s: refused %q, %v", what, refused, err)
			}
		}
		check(what)
	}
}

// A file that takes another's place is read from the archive's last entry.
func TestLastCounts(t *testing.T) {
	dir := t.TempDir()
	if refused, err := unpack(tarOf(t, "f x", "f x/y", "f t", "l l -> t", "f l", "h h -> t", "f h"), dir); err != nil || len(refused) > 0 {
		t.Fatal(refused, err)
	}
	for name, want := range map[string]string{"x/y": "x/y", "t": "t", "l": "l", "h": "h"} {
		if text, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(text) != want {
			t.Errorf("%s: %q, %v", name, text, err)
		}
	}
	same := make([]string, maxReplaced+2)
	for i := range same {
		same[i] = "l x -> y"
	}
	if _, err := unpack(tarOf(t, same...), t.TempDir()); err == nil || !strings.Contains(err.Error(), "made to waste time") {
		t.Errorf("the same path over and over: %v", err)
	}
}

// FuzzTree unpacks any sequence of entries, and nothing outside changes.
func FuzzTree(f *testing.F) {
	for _, seed := range []string{"l x -> ../../outside\nf x/secret", "d a/b\nl a/b/up -> ../..\nl a/b/up/o -> ../../outside\nf o/secret", "f a\nf a/b\nh c -> a/b\nl d -> c\nf d/e"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, script string) {
		if len(script) > 2000 || strings.Contains(script, "\x00") {
			return
		}
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for line := range strings.Lines(script) {
			kind, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
			name, target, _ := strings.Cut(rest, " -> ")
			flag, ok := map[string]byte{"d": tar.TypeDir, "f": tar.TypeReg, "l": tar.TypeSymlink, "h": tar.TypeLink}[kind]
			if !ok || w.WriteHeader(&tar.Header{Name: name, Linkname: target, Mode: 0o644, Typeflag: flag}) != nil {
				return
			}
		}
		w.Close()
		dir, check := inside(t)
		unpack(b.Bytes(), dir)
		check(script)
	})
}

// FuzzRead reads any bytes as an archive.
func FuzzRead(f *testing.F) {
	f.Add(tarOf(f, "f a", "l b -> a"))
	f.Add([]byte("PK\x05\x06" + strings.Repeat("\x00", 18)))
	f.Add([]byte("\x1f\x8b\x08"))
	f.Fuzz(func(t *testing.T, data []byte) {
		visit := func(e Entry) error {
			if e.Kind == File {
				buf := make([]byte, 1<<16)
				e.Contents.Read(buf)
			}
			return nil
		}
		ReadZip(t.Context(), bytes.NewReader(data), int64(len(data)), visit)
		if plain, done, err := Decompress(bytes.NewReader(data)); err == nil {
			ReadTar(t.Context(), &bound{plain, 16 << 20}, visit)
			done()
		}
	})
}

type bound struct {
	r interface{ Read([]byte) (int, error) }
	n int
}

func (b *bound) Read(p []byte) (int, error) {
	if b.n <= 0 {
		return 0, errors.New("enough")
	}
	n, err := b.r.Read(p)
	b.n -= n
	return n, err
}
