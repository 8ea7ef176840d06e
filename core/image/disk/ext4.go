package disk

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"ellwand.example/core/cancel"
	"ellwand.example/core/fact"
	"ellwand.example/core/image"
)

// block is the bytes of a block of the file system.
const block = 4096

// Ext4 writes a file system in the ext4 format with the entries of an image: of a size in bytes,
// or as large as its contents need, with some room. It takes neither root nor a mount: the
// entries are put into it with debugfs(8).
func Ext4(ctx context.Context, file string, o Ext4Options, each func(context.Context, func(image.Entry, io.Reader) error) error) error {
	format, err := Find("mke2fs", "make a root file system in the ext4 format")
	if err != nil {
		return err
	}
	fill, err := Find("debugfs", "make a root file system in the ext4 format")
	if err != nil {
		return err
	}
	w := &ext4Writer{dir: o.Temp, when: o.Time, dirs: map[string]bool{"/": true}}
	if err := w.prepare(ctx, each); err != nil {
		return err
	}
	size := o.Size
	needed := w.bytes + w.bytes/16 + int64(w.inodes)*512 + 24*MiB
	if size == 0 {
		size = roundUp(needed+needed/4+64*MiB, MiB)
	}
	if size < needed {
		return fact.Errorf(fact.StatusInput, "the image's files need %s, and the root file system is to have %s", fact.Bytes(needed), fact.Bytes(size))
	}
	id := UUID(o.Seed + " root file system")
	err = run(ctx, nil, o.Time, format, "-q", "-F", "-t", "ext4", "-b", strconv.Itoa(block), "-I", "256", "-m", "0", "-L", "root", "-U", id, "-N", strconv.Itoa(w.inodes+w.inodes/4+4096),
		"-O", "has_journal,extent,huge_file,flex_bg,metadata_csum,64bit,dir_nlink,extra_isize,ext_attr,dir_index,filetype,resize_inode,sparse_super,large_file",
		"-E", "hash_seed="+id+",root_owner=0:0,lazy_itable_init=0,lazy_journal_init=0,nodiscard", file, strconv.FormatInt(size/1024, 10)+"k")
	if err != nil {
		return err
	}
	said, err := runAloud(ctx, nil, o.Time, fill, "-w", "-f", filepath.Join(o.Temp, scriptFile), file)
	if err != nil {
		return err
	}
	// The program goes on after a mistake, and says so.
	lines := slices.DeleteFunc(strings.Split(strings.TrimSpace(said), "\n"), func(line string) bool { return line == "" || strings.HasPrefix(line, "debugfs ") })
	if len(lines) > 0 {
		return fmt.Errorf("debugfs could not fill the root file system: %s", lines[0])
	}
	return nil
}

// Ext4Options say how a file system is made.
type Ext4Options struct {
	Size int64  // bytes; 0 for what is needed
	Seed string // see Spec
	Time time.Time
	Temp string // an empty directory
}

const scriptFile = "commands"

// ext4Writer writes the commands for debugfs, and the contents of files beside them.
type ext4Writer struct {
	dir    string
	when   time.Time
	script *bufio.Writer
	files  int
	inodes int
	bytes  int64
	at     string          // the present directory
	dirs   map[string]bool // that are there
	links  map[string]int  // of files, by their paths
}

func (w *ext4Writer) prepare(ctx context.Context, each func(context.Context, func(image.Entry, io.Reader) error) error) error {
	f, err := os.Create(filepath.Join(w.dir, scriptFile))
	if err != nil {
		return err
	}
	w.script, w.at, w.links = bufio.NewWriterSize(f, 1<<20), "/", map[string]int{}
	err = each(ctx, func(e image.Entry, r io.Reader) error {
		if r != nil {
			r = cancel.Reader(ctx, r)
		}
		return w.entry(e, r)
	})
	for _, p := range slices.Sorted(maps.Keys(w.links)) {
		w.command("sif", p, "links_count", strconv.Itoa(w.links[p]+1))
	}
	w.command("sif", "/", "mode", "040755")
	for _, field := range []string{"atime", "ctime", "mtime", "crtime"} {
		w.command("sif", "/", field, w.stamp(w.when))
	}
	return errors.Join(err, w.script.Flush(), f.Close())
}

func (w *ext4Writer) stamp(t time.Time) string { return "@" + strconv.FormatInt(t.Unix(), 10) }

// command writes a command. The program's words are in quotes, of which two stand for one.
func (w *ext4Writer) command(words ...string) {
	for i, word := range words {
		if i > 0 {
			w.script.WriteByte(' ')
			word = `"` + strings.ReplaceAll(word, `"`, `""`) + `"`
		}
		w.script.WriteString(word)
	}
	w.script.WriteByte('\n')
}

func (w *ext4Writer) entry(e image.Entry, r io.Reader) error {
	if strings.ContainsAny(e.Path+e.Link, "\n\r") {
		return fact.Errorf(fact.StatusInput, "%q has a line end in its name or target, which an ext4 root file system made here cannot have; squashfs can", e.Path)
	}
	w.parents(path.Dir(e.Path))
	if dir := path.Dir(e.Path); dir != w.at {
		w.command("cd", dir)
		w.at = dir
	}
	base := path.Base(e.Path)
	kind := int64(0)
	switch e.Type {
	case image.Directory:
		if !w.dirs[e.Path] {
			w.command("mkdir", base)
			w.inodes++
			w.bytes += block
			w.dirs[e.Path] = true
		}
		kind = 0o040000
	case image.Symlink:
		w.command("symlink", base, e.Link)
		w.inodes++
		w.bytes += block
		kind = 0o120000
	case image.Hardlink:
		w.command("ln", e.Link, base)
		w.links[e.Link]++
		return nil
	case image.File:
		name, err := w.contents(e, r)
		if err != nil {
			return err
		}
		w.command("write", name, base)
		w.inodes++
		w.bytes += roundUp(e.Size, block)
		kind = 0o100000
	default:
		return nil
	}
	w.command("sif", base, "mode", "0"+strconv.FormatInt(kind|e.Mode, 8))
	w.command("sif", base, "uid", strconv.Itoa(e.UID))
	w.command("sif", base, "gid", strconv.Itoa(e.GID))
	for _, name := range slices.Sorted(maps.Keys(e.Xattrs)) {
		w.files++
		value := filepath.Join(w.dir, strconv.Itoa(w.files))
		if err := os.WriteFile(value, []byte(e.Xattrs[name]), 0o600); err != nil {
			return err
		}
		w.command("ea_set", "-f", value, base, name)
	}
	for _, field := range []string{"atime", "ctime", "mtime", "crtime"} {
		w.command("sif", base, field, w.stamp(e.Modified))
	}
	return nil
}

// parents makes directories that no entry names.
func (w *ext4Writer) parents(dir string) {
	if w.dirs[dir] {
		return
	}
	w.parents(path.Dir(dir))
	w.command("mkdir", dir)
	w.command("sif", dir, "mode", "040755")
	for _, field := range []string{"atime", "ctime", "mtime", "crtime"} {
		w.command("sif", dir, field, w.stamp(w.when))
	}
	w.dirs[dir] = true
	w.inodes++
	w.bytes += block
}

func (w *ext4Writer) contents(e image.Entry, r io.Reader) (string, error) {
	w.files++
	name := filepath.Join(w.dir, strconv.Itoa(w.files))
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	n, err := io.Copy(f, r)
	if err == nil && n != e.Size {
		err = fmt.Errorf("%s has %d bytes where %d were expected", e.Path, n, e.Size)
	}
	return name, errors.Join(err, f.Close())
}
