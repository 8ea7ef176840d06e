package image

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/oci"
	"ellwand.example/core/root"
)

// Changes is what an image has besides its system and the contents of its packages: what their
// scripts left, the record of the packages, accounts, and what the description adds.
type Changes struct {
	Root    *root.Root
	Tree    *os.Root // of the root
	System  *os.Root // that the root is based on; nil for none
	Owned   func(path string) bool
	Changed []string // paths of packages that scripts changed or removed
	Numbers root.Numbers
	// Settings are what the record in the image says of it.
	Settings    root.Settings
	Description *Description
	When        time.Time // of what has no time of its own
}

// notInImages are files of a root's record that differ each time, or are of no use in an image.
var notInImages = []string{"history", "journal", "lock", "pending.json", "root.json"}

// timedFiles are files of programs that refresh databases which differ each time, and are made
// again when they are missing: the linker's own notes on when it saw which file.
var timedFiles = []string{"/var/cache/ldconfig/aux-cache"}

// Layer is the last layer of an image.
func (c Changes) Layer(ctx context.Context) (Layer, error) {
	entries := map[string]Entry{}
	texts := map[string]string{} // files with contents that are not in the root
	if err := c.walk(entries); err != nil {
		return Layer{}, err
	}
	settings, err := canonical.Marshal(c.Settings)
	if err != nil {
		return Layer{}, err
	}
	c.text(entries, texts, "/"+root.StateDir+"/root.json", string(settings)+"\n")
	if err := c.added(entries, texts); err != nil {
		return Layer{}, err
	}
	var list []Entry
	for _, e := range entries {
		if e.Type == File && e.SHA256 == "" {
			if e.SHA256, err = digestOf(ctx, c.Tree, strings.TrimPrefix(e.Path, "/")); err != nil {
				return Layer{}, err
			}
		}
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	l := Layer{Name: "configuration", List: listOf(list)}
	if l.Key, err = keyOf(list); err != nil {
		return Layer{}, err
	}
	l.Each = func(ctx context.Context, visit func(Entry, io.Reader) error) error {
		for _, e := range list {
			if err := c.visit(e, texts, visit); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
	return l, nil
}

func (c Changes) visit(e Entry, texts map[string]string, visit func(Entry, io.Reader) error) error {
	if text, ok := texts[e.Path]; ok {
		return visit(e, strings.NewReader(text))
	}
	return visitFile(c.Tree, e, visit)
}

// walk finds what is in the root and belongs to no package.
func (c Changes) walk(entries map[string]Entry) error {
	err := fs.WalkDir(c.Tree.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		p := path.Join("/", name)
		if err != nil || p == "/" {
			return err
		}
		if rest, ok := strings.CutPrefix(p, "/"+root.StateDir+"/"); ok && slices.Contains(notInImages, rest) {
			if d.IsDir() { // without what is in it
				entries[p] = Entry{Path: p, Type: Directory, Mode: 0o755, Modified: c.When}
				return fs.SkipDir
			}
			return nil
		}
		if slices.Contains(timedFiles, p) || c.Owned(p) && !slices.Contains(c.Changed, p) {
			return nil
		}
		info, err := c.Tree.Lstat(name)
		if err != nil {
			return err
		}
		return c.fromDisk(entries, p, info)
	})
	if err != nil {
		return err
	}
	for _, p := range c.Changed {
		if _, err := c.Tree.Lstat(strings.TrimPrefix(p, "/")); errors.Is(err, fs.ErrNotExist) {
			entries[p] = Entry{Path: p, Type: Removed, Mode: 0o644, Modified: c.When}
		}
	}
	return nil
}

// fromDisk adds an entry for a path of the root.
func (c Changes) fromDisk(entries map[string]Entry, p string, info fs.FileInfo) error {
	e := Entry{Path: p, Mode: fact.ModeBits(info.Mode()), Modified: c.When}
	st, ok := info.Sys().(*syscall.Stat_t)
	if ok && os.Geteuid() == 0 { // otherwise all of it is this user's, who is root in the image
		e.UID, e.GID = int(st.Uid), int(st.Gid)
	}
	switch mode := info.Mode(); {
	case mode.IsDir():
		e.Type = Directory
		if c.isEmptied(p) {
			entries[p+"/"+oci.WhiteoutOpaque] = Entry{Path: p, Type: Emptied, Mode: 0o644, Modified: c.When}
		}
		if c.System != nil {
			if below, err := c.System.Lstat(strings.TrimPrefix(p, "/")); err == nil && below.IsDir() {
				return nil // it is in the system, with its own owner
			}
		}
	case mode.IsRegular():
		e.Type, e.Size = File, info.Size()
	case mode&fs.ModeSymlink != 0:
		link, err := c.Tree.Readlink(strings.TrimPrefix(p, "/"))
		if err != nil {
			return err
		}
		e.Type, e.Link, e.Mode = Symlink, link, 0o777
	case mode&fs.ModeCharDevice != 0 && ok && st.Rdev == 0: // the kernel's own mark (overlayfs)
		e = Entry{Path: p, Type: Removed, Mode: 0o644, Modified: c.When}
	default:
		return nil // sockets and pipes that a script left
	}
	entries[p] = e
	return nil
}

// isEmptied reports whether a script removed a directory of the system and made it again.
func (c Changes) isEmptied(p string) bool {
	f, err := c.Tree.Open(strings.TrimPrefix(p, "/"))
	if err != nil {
		return false
	}
	defer f.Close()
	value := make([]byte, 8)
	for _, name := range []string{"user.overlay.opaque", "trusted.overlay.opaque"} {
		if n, err := unix.Fgetxattr(int(f.Fd()), name, value); err == nil && string(value[:n]) == "y" {
			return true
		}
	}
	return false
}

func (c Changes) text(entries map[string]Entry, texts map[string]string, p, text string) {
	entries[p] = Entry{Path: p, Type: File, Mode: 0o644, Size: int64(len(text)), SHA256: fact.SHA256([]byte(text)), Modified: c.When}
	texts[p] = text
}

// maxAdded is how large a file beside a description may be, in bytes.
const maxAdded = 1 << 30

// added adds what the description says.
func (c Changes) added(entries map[string]Entry, texts map[string]string) error {
	d := c.Description
	put := func(e Entry, owner, group string) error {
		uid, gid, ok := c.Numbers.Of(cmp.Or(owner, "root"), cmp.Or(group, "root"))
		if !ok {
			return fact.Errorf(fact.StatusInput, "%s: the image has no account %s:%s to own %s; a table [account.NAME] creates one", d.Doc.File, cmp.Or(owner, "root"), cmp.Or(group, "root"), e.Path)
		}
		real, err := c.Root.Real(e.Path)
		if err != nil {
			return err
		}
		e.Path, e.UID, e.GID, e.Modified = real, uid, gid, c.When
		entries[real] = e
		return c.parents(entries, path.Dir(real))
	}
	for _, one := range d.Directories {
		if err := put(Entry{Path: one.Path, Type: Directory, Mode: fact.ModeBits(fact.ParseMode(cmp.Or(one.Mode, "0755")))}, one.Owner, one.Group); err != nil {
			return err
		}
	}
	for _, one := range d.Files {
		text := one.Text
		if one.From != "" {
			data, err := d.beside(one.From, maxAdded)
			if err != nil {
				return err
			}
			text = string(data)
		}
		real, err := c.Root.Real(one.Path)
		if err != nil {
			return err
		}
		texts[real] = text
		e := Entry{Path: one.Path, Type: File, Mode: fact.ModeBits(fact.ParseMode(cmp.Or(one.Mode, "0644"))), Size: int64(len(text)), SHA256: fact.SHA256([]byte(text))}
		if err := put(e, one.Owner, one.Group); err != nil {
			return err
		}
	}
	for _, one := range d.Links {
		if err := put(Entry{Path: one.Path, Type: Symlink, Mode: 0o777, Link: one.Target}, "", ""); err != nil {
			return err
		}
	}
	return nil
}

// parents adds the directories above a path that are nowhere.
func (c Changes) parents(entries map[string]Entry, dir string) error {
	for ; dir != "/"; dir = path.Dir(dir) {
		if _, ok := entries[dir]; ok {
			continue
		}
		for _, tree := range []*os.Root{c.Tree, c.System} {
			if tree == nil {
				continue
			}
			if info, err := tree.Lstat(strings.TrimPrefix(dir, "/")); err == nil {
				if !info.IsDir() {
					return fact.Errorf(fact.StatusInput, "%s: %s is no directory in the image, so nothing can be added below it", c.Description.Doc.File, dir)
				}
				return nil
			}
		}
		entries[dir] = Entry{Path: dir, Type: Directory, Mode: 0o755, Modified: c.When}
	}
	return nil
}

// beside reads a file beside the description.
func (d *Description) beside(name string, limit int64) ([]byte, error) {
	dir, err := os.OpenRoot(d.Dir)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	f, err := dir.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, fact.Errorf(fact.StatusInput, "%s: %w", d.Doc.File, err)
	}
	defer f.Close()
	data, err := files.ReadRegular(f, limit)
	if err != nil {
		return nil, fact.Errorf(fact.StatusInput, "%s: %s: %w", d.Doc.File, name, err)
	}
	return data, nil
}

// Component is an item of a list of packages in JSON.
type Component struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Digest  string `json:"digest"` // SHA-256 of the package, with or without "sha256:" before it
}

// Components reads the list that the description names: an array, or an object with one
// under "components".
func (d *Description) Components() ([]Component, error) {
	if d.Manifest == "" {
		return nil, nil
	}
	data, err := d.beside(d.Manifest, 16<<20)
	if err != nil {
		return nil, err
	}
	var list []Component
	if err := json.Unmarshal(data, &list); err != nil {
		var object struct {
			Components []Component `json:"components"`
		}
		if err := json.Unmarshal(data, &object); err != nil {
			return nil, fact.Errorf(fact.StatusInput, "%s: %s: %w", d.Doc.File, d.Manifest, err)
		}
		list = object.Components
	}
	for i, c := range list {
		c.Digest = strings.TrimPrefix(c.Digest, "sha256:")
		if c.Name == "" || c.Digest != "" && !fact.IsSHA256(c.Digest) {
			return nil, fact.Errorf(fact.StatusInput, "%s: %s: component %d has no name, or a digest that is none", d.Doc.File, d.Manifest, i+1)
		}
		list[i] = c
	}
	if len(list) == 0 {
		return nil, fact.Errorf(fact.StatusInput, "%s: %s lists no components", d.Doc.File, d.Manifest)
	}
	return list, nil
}

// DigestBeside is the SHA-256 of a file beside the description.
func (d *Description) DigestBeside(name string) (string, error) {
	data, err := d.beside(name, maxAdded)
	return fact.SHA256(data), err
}
