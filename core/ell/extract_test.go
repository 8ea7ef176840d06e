package ell

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/staging"
)

// tree is a package with each way of sharing bytes: /usr/a and /usr/b are one
// file, /usr/c and /usr/d have the same contents.
func tree(t *testing.T) *Package {
	t.Helper()
	c := claims(t, staged{"usr/a": "linked", "usr/b": "", "usr/c": "the same", "usr/d": "the same", "usr/e/f": "deep", "usr/link": "->e/f"})
	os.Remove(c[2].Disk)
	os.Link(c[1].Disk, c[2].Disk)
	c[1].Inode, c[2].Inode, c[2].Size = staging.Inode{Dev: 1, Ino: 1}, staging.Inode{Dev: 1, Ino: 1}, c[1].Size
	for i := range c {
		if c[i].Path.Path == "/usr/e/f" {
			c[i].Owner = "nobody-of-that-name"
		}
	}
	return open(t, write(t, spec(c)).Path)
}

// What is chosen comes out whole, also where its bytes stand under another
// name; nothing else does.
func TestChosen(t *testing.T) {
	p := tree(t)
	entries := entriesOf(t, p)
	for _, c := range []struct {
		words []string
		want  string // what comes out, or what is wrong with the words
	}{
		{[]string{"/usr/a"}, "/usr/a=linked"},
		{[]string{"/usr/b"}, "/usr/b=linked"},
		{[]string{"/usr/d", "/usr/c"}, "/usr/c=the same /usr/d=the same"},
		{[]string{"usr/d"}, "/usr/d=the same"},
		{[]string{"/usr/e/"}, "/usr/e/f=deep"},
		{[]string{"/usr/*"}, "/usr/a=linked /usr/b=linked /usr/c=the same /usr/d=the same /usr/link=->e/f"},
		{[]string{"/usr/link"}, "/usr/link=->e/f"},
		{[]string{"/"}, "/usr/a=linked /usr/b=linked /usr/c=the same /usr/d=the same /usr/e/f=deep /usr/link=->e/f"},
		{[]string{"/usr/a", "/nothing"}, "there is no /nothing in the package"},
		{[]string{"/usr/["}, `"/usr/[" is not a pattern`},
	} {
		chosen, err := Choose(entries, c.words)
		if err != nil {
			if err.Error() != c.want {
				t.Errorf("%q: %v, want %s", c.words, err, c.want)
			}
			continue
		}
		dir := t.TempDir()
		if _, err := p.Extract(context.Background(), dir, Extraction{Chosen: chosen}); err != nil {
			t.Errorf("%q: %v", c.words, err)
			continue
		}
		var got []string
		filepath.WalkDir(dir, func(path string, e fs.DirEntry, _ error) error {
			name := strings.TrimPrefix(path, dir)
			switch {
			case e.Type()&fs.ModeSymlink != 0:
				target, _ := os.Readlink(path)
				got = append(got, name+"=->"+target)
			case !e.IsDir():
				text, _ := os.ReadFile(path)
				got = append(got, name+"="+string(text))
			}
			return nil
		})
		if all := strings.Join(got, " "); all != c.want {
			t.Errorf("%q: %s, want %s", c.words, all, c.want)
		}
	}
}

// Copies are files of their own, hard links are not.
func TestSharing(t *testing.T) {
	dir := t.TempDir()
	if _, err := tree(t).Extract(context.Background(), dir, Extraction{}); err != nil {
		t.Fatal(err)
	}
	same := func(a, b string) bool {
		x, _ := os.Stat(filepath.Join(dir, a))
		y, _ := os.Stat(filepath.Join(dir, b))
		return os.SameFile(x, y)
	}
	if !same("usr/a", "usr/b") || same("usr/c", "usr/d") {
		t.Error("hard links or copies are not what they should be")
	}
	info, err := os.Stat(filepath.Join(dir, "usr/a"))
	if err != nil || info.ModTime().UTC().Format("2006-01-02") != "2031-04-02" {
		t.Errorf("a file is of %v, not of the package's date", info.ModTime())
	}
}

// Owners that the machine does not know are told of; what is there is not
// written over; who is interrupted is told so.
func TestExtractRefuses(t *testing.T) {
	p, dir := tree(t), t.TempDir()
	if os.Geteuid() == 0 {
		done, err := p.Extract(context.Background(), dir, Extraction{Owners: true})
		if err != nil || strings.Join(done.Unknown, ", ") != "user nobody-of-that-name" {
			t.Errorf("unknown %q, %v", done.Unknown, err)
		}
	} else if _, err := p.Extract(context.Background(), dir, Extraction{}); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Extract(context.Background(), dir, Extraction{}); !errors.Is(err, fs.ErrExist) {
		t.Errorf("over what is there: %v", err)
	}
	// A link in the way leads nowhere.
	trap, outside := t.TempDir(), t.TempDir()
	os.Symlink(outside, filepath.Join(trap, "usr"))
	if _, err := p.Extract(context.Background(), trap, Extraction{}); err == nil {
		t.Error("a link that leads out was followed")
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Errorf("written outside: %v", left)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := p.Extract(ctx, t.TempDir(), Extraction{}); !errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %v", err)
	}
}

// A file that spans frames, and one that begins where a frame does, are read
// from the frames that hold them.
func TestAcrossFrames(t *testing.T) {
	text := big()
	p := open(t, write(t, spec(claims(t, staged{"usr/a": text, "usr/b": text + "b", "usr/c": "c", "usr/d": strings.Repeat(text, 2)}))).Path)
	entries := entriesOf(t, p)
	for path, want := range map[string]string{"/usr/a": text, "/usr/b": text + "b", "/usr/c": "c", "/usr/d": text + text} {
		e, _ := Find(entries, path)
		var b strings.Builder
		if err := p.WriteFile(context.Background(), &b, e); err != nil || b.String() != want {
			t.Errorf("%s: %d bytes, %v", path, b.Len(), err)
		}
	}
	e, _ := Find(entries, "/usr/b")
	e.At++
	var damaged *DamagedError
	if err := p.WriteFile(context.Background(), &strings.Builder{}, e); !errors.As(err, &damaged) {
		t.Errorf("from the wrong place: %v", err)
	}
	e.At = 1 << 60
	if err := p.WriteFile(context.Background(), &strings.Builder{}, e); !errors.As(err, &damaged) {
		t.Errorf("from behind the end: %v", err)
	}
}
