package archive

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// RefusedError is an entry that a Tree does not write.
type RefusedError struct{ Reason string }

func (e *RefusedError) Error() string { return e.Reason }

func refuse(format string, arguments ...any) error {
	return &RefusedError{fmt.Sprintf(format, arguments...)}
}

// maxReplaced bounds how many entries may take another's place: archives may
// hold a path twice, and the last one counts.
const maxReplaced = 10_000

// Tree writes entries of an archive below a directory. No link, whether it was
// there before or came with the archive, makes it write anywhere else.
type Tree struct {
	// AbsoluteLinks says that the tree will be a root of its own, in which a
	// link may be absolute.
	AbsoluteLinks bool

	root     *os.Root
	dir      *os.File
	replaced int
	links    []string
}

// OpenTree opens a directory that exists. Close ends the writing.
func OpenTree(dir string) (*Tree, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	f, err := root.Open(".")
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return &Tree{root: root, dir: f}, nil
}

// Close closes the tree. What was written stays.
func (t *Tree) Close() error { return errors.Join(t.dir.Close(), t.root.Close()) }

// Root is the directory.
func (t *Tree) Root() *os.Root { return t.root }

// Clean checks an entry's name, and returns it as a path below the tree; "."
// is the tree itself. The error is a *RefusedError.
func Clean(name string) (string, error) {
	clean := path.Clean(name)
	switch {
	case name == "":
		return "", refuse("has no name")
	case strings.HasPrefix(name, "/"):
		return "", refuse("is an absolute path")
	case !filepath.IsLocal(clean):
		return "", refuse("leads out of the archive")
	case strings.ContainsRune(name, 0):
		return "", refuse("has a NUL byte in its name")
	}
	return clean, nil
}

// escapes reports whether a path, with all links in it followed, leads out of
// the tree, or to what is not there.
func (t *Tree) escapes(name string) bool {
	fd, err := unix.Openat2(int(t.dir.Fd()), name, &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS})
	if err == nil {
		unix.Close(fd)
	}
	return errors.Is(err, unix.EXDEV)
}

// explain tells a link that leads out of the tree from other errors.
func (t *Tree) explain(name string, err error) error {
	if err == nil {
		return nil
	}
	for dir := name; dir != "."; dir = path.Dir(dir) {
		if t.escapes(dir) {
			return refuse("lies behind a link that leads out of the archive")
		}
	}
	return err
}

// makeRoom makes the directories that a path is in, and removes what else is
// there under its name.
func (t *Tree) makeRoom(name string) error {
	if err := t.makeDir(path.Dir(name)); err != nil {
		return err
	}
	info, err := t.root.Lstat(name)
	if err != nil || info.IsDir() {
		return nil
	}
	if t.replaced++; t.replaced > maxReplaced {
		return fmt.Errorf("more than %d of its entries replace another: it looks made to waste time", maxReplaced)
	}
	return t.explain(name, t.root.Remove(name))
}

// makeDir makes a directory, in place of a file that may be there: in a tar
// stream, the last one of a name counts.
func (t *Tree) makeDir(name string) error {
	err := t.root.MkdirAll(name, 0o755)
	if err == nil || name == "." {
		return err
	}
	if info, err := t.root.Lstat(name); err == nil && !info.IsDir() && info.Mode()&fs.ModeSymlink == 0 {
		if err := t.makeRoom(name); err != nil {
			return err
		}
		return t.root.Mkdir(name, 0o755)
	}
	if up := t.makeDir(path.Dir(name)); up != nil {
		return up
	}
	return t.explain(name, t.root.MkdirAll(name, 0o755))
}

// Directory makes a directory.
func (t *Tree) Directory(name string) error { return t.makeDir(name) }

// File writes a file and returns its size. A time of zero is now; none is later
// than that, for make(1) would do the same work over and over.
func (t *Tree) File(name string, perm fs.FileMode, modified time.Time, contents io.Reader) (int64, error) {
	if err := t.makeRoom(name); err != nil {
		return 0, err
	}
	f, err := t.root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return 0, refuse("is a file here and a directory before")
	}
	if err != nil {
		return 0, t.explain(name, err)
	}
	defer f.Close()
	n, err := io.Copy(f, contents)
	if err != nil {
		return n, err
	}
	if err := f.Chmod(perm); err != nil { // whatever the umask
		return n, err
	}
	if err := f.Close(); err != nil || modified.IsZero() {
		return n, err
	}
	if now := time.Now(); modified.After(now) {
		modified = now
	}
	return n, t.root.Chtimes(name, modified, modified)
}

// Symlink makes a symbolic link. CheckLinks tells later where it leads.
func (t *Tree) Symlink(name, target string) error {
	if !t.AbsoluteLinks && path.IsAbs(target) || target == "" {
		return refuse("is a link that leads out, to %q", target)
	}
	if err := t.makeRoom(name); err != nil {
		return err
	}
	t.links = append(t.links, name)
	err := t.root.Symlink(target, name)
	if errors.Is(err, fs.ErrExist) {
		return refuse("is a link here and a directory before")
	}
	return t.explain(name, err)
}

// Hardlink makes another name for a file.
func (t *Tree) Hardlink(name, link string) error {
	target, err := Clean(link)
	if err != nil {
		return refuse("is a link that leads out, to %q", link)
	}
	if target == name {
		return nil
	}
	if err := t.makeRoom(name); err != nil {
		return err
	}
	t.links = append(t.links, name) // it may be one of a link
	err = t.root.Link(target, name)
	if errors.Is(err, fs.ErrNotExist) {
		return refuse("is a hard link to %q, which is not there", target)
	}
	return t.explain(target, t.explain(name, err))
}

// CheckLinks calls bad for every symbolic link that leads out of the tree,
// now that all of it is there.
func (t *Tree) CheckLinks(bad func(name, target string)) {
	for _, name := range t.links {
		target, err := t.root.Readlink(name)
		if err != nil {
			continue // something else took its place
		}
		// A link to what is not there leads where its text says.
		lexical := filepath.IsLocal(path.Join(path.Dir(name), target))
		if t.escapes(name) || !lexical {
			bad(name, target)
		}
	}
}
