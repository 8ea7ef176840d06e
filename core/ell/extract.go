package ell

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sys/unix"

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/staging"
)

// Extraction says what is unpacked, and how.
type Extraction struct {
	Chosen []Entry // of the layout; nil for all of it
	Owners bool    // give files to whom the package says; only root can
}

// Extracted tells what could not be done to what was unpacked.
type Extracted struct {
	Unknown []string // owners and groups that the machine does not know, as in "user tide"
	Bare    []string // paths whose extended attributes could not be set
}

// Extract unpacks into dir, which exists, on all cores. Nothing outside dir is
// written, whatever the package says, and no file that is there is written
// over. Of chosen entries no more of the package is read than holds them; a
// hard link to a path that is not chosen becomes a file of its own. Times are
// the package's date. Long runs of zeros become holes.
func (p *Package) Extract(ctx context.Context, dir string, how Extraction) (Extracted, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return Extracted{}, err
	}
	defer root.Close()
	x := &extractor{root: root, how: how, names: map[string]int{}}
	if x.when, err = time.Parse(time.DateOnly, p.Facts.Date); err != nil {
		x.when = time.Unix(0, 0)
	}
	entries, err := p.Layout()
	if err != nil {
		return Extracted{}, err
	}
	if how.Chosen == nil {
		d := p.atOnce(x.contents)
		d.before = x.path
		err = errors.Join(p.whole(ctx, d), d.wait())
	} else {
		entries = Standalone(how.Chosen)
		err = x.some(ctx, p, entries)
	}
	if err == nil {
		err = x.rest(ctx, entries)
	}
	slices.Sort(x.out.Unknown)
	return x.out, err
}

// Standalone returns entries chosen from a layout such that hard links and copies
// refer only to chosen ones: the first of several names of the same bytes becomes
// the one that is read.
func Standalone(chosen []Entry) []Entry {
	out := slices.Clone(chosen)
	links, copies := map[string]string{}, map[string]string{} // a path that is not chosen → the one in its place
	there := map[string]bool{}
	for i := range out {
		e := &out[i]
		there[e.Path] = true
		stand := func(of *string, instead map[string]string) {
			switch {
			case *of == "" || there[*of]:
			case instead[*of] != "":
				*of = instead[*of]
			default:
				instead[*of] = e.Path
				*of = ""
			}
		}
		stand(&e.Same, links)
		stand(&e.Copy, copies)
	}
	return out
}

type extractor struct {
	root  *os.Root
	how   Extraction
	when  time.Time
	names map[string]int // "user tide" → its number
	out   Extracted
	mu    sync.Mutex // of out
}

func local(p string) string { return strings.TrimPrefix(p, "/") }

// some unpacks chosen entries.
func (x *extractor) some(ctx context.Context, p *Package, chosen []Entry) error {
	var files []Entry
	for _, e := range chosen {
		if err := x.path(e); err != nil {
			return err
		}
		if e.Type == staging.File && e.Same == "" && e.Copy == "" {
			files = append(files, e)
		}
	}
	return p.Files(ctx, files, x.contents)
}

// path makes what must be there before a file's contents: directories and links.
func (x *extractor) path(e Entry) error {
	if err := x.root.MkdirAll(path.Dir(local(e.Path)), 0o755); err != nil {
		return err
	}
	switch e.Type {
	case staging.Directory:
		err := x.root.Mkdir(local(e.Path), 0o700)
		if errors.Is(err, fs.ErrExist) {
			if info, errStat := x.root.Lstat(local(e.Path)); errStat == nil && info.IsDir() {
				return nil
			}
		}
		return err
	case staging.Symlink:
		if err := x.root.Symlink(e.Link, local(e.Path)); err != nil {
			return err
		}
		uid, gid := x.owner(e)
		if uid >= 0 || gid >= 0 {
			return x.root.Lchown(local(e.Path), uid, gid)
		}
	}
	return nil
}

// contents writes a file. It is called by several goroutines.
func (x *extractor) contents(e Entry, r io.Reader) error {
	f, err := x.root.OpenFile(local(e.Path), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := files.CopySparse(f, r, e.Size); err != nil {
		return err
	}
	if err := x.finish(f, e); err != nil {
		return err
	}
	return f.Close()
}

// finish sets all that the layout says beside the contents, in the order in
// which one does not undo the other: a new owner takes setuid and capabilities
// away.
func (x *extractor) finish(f *os.File, e Entry) error {
	if uid, gid := x.owner(e); uid >= 0 || gid >= 0 {
		if err := f.Chown(uid, gid); err != nil {
			return err
		}
	}
	if err := f.Chmod(fact.ParseMode(e.Mode)); err != nil {
		return err
	}
	for name, value := range e.Xattrs {
		err := unix.Fsetxattr(int(f.Fd()), name, value, 0)
		if errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOTSUP) {
			x.mu.Lock()
			x.out.Bare = append(x.out.Bare, e.Path)
			x.mu.Unlock()
			break
		}
		if err != nil {
			return fmt.Errorf("%s: setting %s: %w", e.Path, name, err)
		}
	}
	when := unix.NsecToTimeval(x.when.UnixNano())
	return unix.Futimes(int(f.Fd()), []unix.Timeval{when, when})
}

// rest does what can be done only when all files are there: hard links,
// copies, and the modes of directories, the innermost first.
func (x *extractor) rest(ctx context.Context, entries []Entry) error {
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		switch {
		case e.Copy != "":
			if err := x.copy(e); err != nil {
				return err
			}
		case e.Same != "":
			if err := x.root.Link(local(e.Same), local(e.Path)); err != nil {
				return err
			}
		}
	}
	for _, e := range slices.Backward(entries) {
		if e.Type != staging.Directory {
			continue
		}
		f, err := x.root.Open(local(e.Path))
		if err != nil {
			return err
		}
		err = x.finish(f, e)
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// copy makes a file of the contents of one that was just unpacked.
func (x *extractor) copy(e Entry) error {
	from, err := x.root.Open(local(e.Copy))
	if err != nil {
		return err
	}
	defer from.Close()
	return x.contents(e, from)
}

// owner returns the numbers of an entry's owner and group; -1 where it is to
// be left unchanged.
func (x *extractor) owner(e Entry) (uid, gid int) {
	if !x.how.Owners {
		return -1, -1
	}
	uid = x.number("user "+e.Owner, func() (string, error) {
		u, err := user.Lookup(e.Owner)
		if err != nil {
			return "", err
		}
		return u.Uid, nil
	})
	gid = x.number("group "+e.Group, func() (string, error) {
		g, err := user.LookupGroup(e.Group)
		if err != nil {
			return "", err
		}
		return g.Gid, nil
	})
	return uid, gid
}

func (x *extractor) number(name string, look func() (string, error)) int {
	x.mu.Lock()
	defer x.mu.Unlock()
	if n, ok := x.names[name]; ok {
		return n
	}
	text, err := look()
	n, errText := strconv.Atoi(text)
	if err != nil || errText != nil {
		n = -1
		x.out.Unknown = append(x.out.Unknown, name)
	}
	x.names[name] = n
	return n
}

// Choose lists the entries that words name: a path, with all that is below it,
// or a pattern. The error names a word that chooses nothing.
func Choose(entries []Entry, words []string) ([]Entry, error) {
	used := make([]bool, len(words))
	var out []Entry
	for _, e := range entries {
		chosen := false
		for i, w := range words {
			w = "/" + strings.Trim(w, "/")
			matched, err := doublestar.Match(w, e.Path)
			if err != nil {
				return nil, fmt.Errorf("%q is not a pattern", words[i])
			}
			if matched || e.Path == w || w == "/" || strings.HasPrefix(e.Path, w+"/") {
				chosen, used[i] = true, true
			}
		}
		if chosen {
			out = append(out, e)
		}
	}
	for i, ok := range used {
		if !ok {
			return nil, fmt.Errorf("there is no %s in the package", words[i])
		}
	}
	return out, nil
}
