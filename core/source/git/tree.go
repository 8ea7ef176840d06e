package git

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Modes of a tree's entries (gitformat-index(5)).
const (
	ModeFile       = "100644"
	ModeExecutable = "100755"
	ModeLink       = "120000"
	ModeSubmodule  = "160000"
	modeTree       = "40000"
)

// Entry is one file of a commit, by its path in it.
type Entry struct {
	Path string
	Mode string
	ID   string // of the object, in hexadecimal
}

// Tree lists the files of a tree, such as COMMIT or COMMIT:PATH, in git's
// order, which is that of their paths' bytes.
func Tree(ctx context.Context, dir, tree string) ([]Entry, error) {
	out, err := Output(ctx, dir, Local, "ls-tree", "-r", "-z", "--full-tree", tree)
	if err != nil {
		return nil, err
	}
	var entries []Entry
	for line := range strings.SplitSeq(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		if line == "" {
			continue
		}
		facts, path, ok := strings.Cut(line, "\t")
		fields := strings.Fields(facts)
		if !ok || len(fields) != 3 {
			return nil, &Error{fmt.Sprintf("it lists a tree in a way that is not understood: %q", line)}
		}
		entries = append(entries, Entry{path, fields[0], fields[2]})
	}
	return entries, nil
}

// Objects reads objects of a repository, one after the other.
type Objects struct {
	ctx      context.Context
	cmd      *exec.Cmd
	in       io.WriteCloser
	out      *bufio.Reader
	problems bounded
}

// OpenObjects starts reading objects. Close ends it.
func OpenObjects(ctx context.Context, dir string) (*Objects, error) {
	o := &Objects{ctx: ctx, cmd: Command(ctx, dir, Local, "cat-file", "--batch")}
	o.problems.most = 1 << 16
	o.cmd.Stderr = &o.problems
	in, err := o.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := o.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := o.cmd.Start(); err != nil {
		return nil, explain(ctx, err, "")
	}
	o.in, o.out = in, bufio.NewReaderSize(out, 1<<16)
	return o, nil
}

// Object gives an object's size, in bytes, and contents to read, which last
// until the next call. The contents are exactly as long as the size says.
func (o *Objects) Object(id string, use func(kind string, size int64, r io.Reader) error) error {
	if strings.ContainsAny(id, "\n\x00") {
		return &Error{fmt.Sprintf("%q names no object", id)}
	}
	if _, err := io.WriteString(o.in, id+"\n"); err != nil {
		return o.broken(err)
	}
	head, err := o.out.ReadString('\n')
	if err != nil {
		return o.broken(err)
	}
	fields := strings.Fields(head)
	if len(fields) != 3 {
		return &Error{strings.TrimSpace(head)} // "ID missing"
	}
	size, err := strconv.ParseInt(fields[2], 10, 64)
	if err != nil {
		return o.broken(err)
	}
	contents := &io.LimitedReader{R: o.out, N: size}
	if err := use(fields[1], size, contents); err != nil {
		return err
	}
	if _, err := io.CopyN(io.Discard, o.out, contents.N+1); err != nil {
		return o.broken(err)
	}
	return nil
}

func (o *Objects) broken(err error) error {
	if o.ctx.Err() != nil {
		return context.Cause(o.ctx)
	}
	o.in.Close()
	if ended := explain(o.ctx, o.cmd.Wait(), o.problems.String()); ended != nil {
		return ended
	}
	return err
}

// Close ends the reading.
func (o *Objects) Close() error {
	o.in.Close()
	io.Copy(io.Discard, o.out)
	if err := o.cmd.Wait(); err != nil && o.cmd.ProcessState == nil {
		return err
	}
	return nil
}

// MaxCommit bounds a commit object, in bytes.
const MaxCommit = 1 << 20

// Commit is what a commit object says.
type Commit struct {
	ID   string
	Tree string    // the ID of its tree
	When time.Time // it was committed
}

// CommitObject reads the raw object of a commit.
func (o *Objects) CommitObject(id string) ([]byte, error) {
	var data []byte
	err := o.Object(id, func(kind string, size int64, r io.Reader) error {
		if kind != "commit" || size > MaxCommit {
			return &Error{fmt.Sprintf("%s is a %s of %d bytes, and not a commit", id, kind, size)}
		}
		var err error
		data, err = io.ReadAll(r)
		return err
	})
	return data, err
}

var errNotCommit = errors.New("it is not the commit that it is said to be")

// ParseCommit reads a commit object and makes sure that it is the one with
// that ID.
func ParseCommit(id string, data []byte) (Commit, error) {
	c := Commit{ID: id}
	h, err := hashFor(id)
	if err != nil {
		return c, err
	}
	if objectID(h, "commit", data) != id {
		return c, errNotCommit
	}
	head, _, _ := bytes.Cut(data, []byte("\n\n"))
	for line := range strings.Lines(string(head)) {
		key, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		switch key {
		case "tree":
			c.Tree = value
		case "committer":
			fields := strings.Fields(value)
			if n := len(fields); n >= 2 {
				seconds, _ := strconv.ParseInt(fields[n-2], 10, 64)
				c.When = time.Unix(max(0, min(seconds, 1<<40)), 0).UTC()
			}
		}
	}
	if len(c.Tree) != len(id) {
		return c, errNotCommit
	}
	return c, nil
}

// hashFor is the hash by which a repository with such IDs names objects.
func hashFor(id string) (func() hash.Hash, error) {
	switch len(id) {
	case 2 * sha1.Size:
		return sha1.New, nil
	case 2 * sha256.Size:
		return sha256.New, nil
	}
	return nil, fmt.Errorf("%q is not the full name of a commit", id)
}

func objectID(h func() hash.Hash, kind string, data []byte) string {
	sum := h()
	fmt.Fprintf(sum, "%s %d\x00", kind, len(data))
	sum.Write(data)
	return hex.EncodeToString(sum.Sum(nil))
}

// BlobID names the contents of a file as git does, by the hash that IDs like
// the given one are made with.
func BlobID(like string, size int64, contents io.Reader) (string, error) {
	h, err := hashFor(like)
	if err != nil {
		return "", err
	}
	sum := h()
	fmt.Fprintf(sum, "blob %d\x00", size)
	if n, err := io.Copy(sum, contents); err != nil {
		return "", err
	} else if n != size {
		return "", io.ErrUnexpectedEOF
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// TreeID names a tree with these files as git does, by the hash that IDs like
// the given one are made with.
func TreeID(like string, entries []Entry) (string, error) {
	h, err := hashFor(like)
	if err != nil {
		return "", err
	}
	sorted := slices.Clone(entries)
	slices.SortFunc(sorted, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	return treeID(h, "", sorted)
}

// treeID names the tree of the entries below a prefix.
func treeID(h func() hash.Hash, prefix string, entries []Entry) (string, error) {
	type item struct{ name, mode, id string }
	var items []item
	for len(entries) > 0 {
		e := entries[0]
		name, _, nested := strings.Cut(strings.TrimPrefix(e.Path, prefix), "/")
		if name == "" || name == "." || name == ".." {
			return "", fmt.Errorf("%q is not a path of a tree", e.Path)
		}
		if !nested {
			items = append(items, item{name, e.Mode, e.ID})
			entries = entries[1:]
			continue
		}
		below := prefix + name + "/"
		n := 0
		for n < len(entries) && strings.HasPrefix(entries[n].Path, below) {
			n++
		}
		id, err := treeID(h, below, entries[:n])
		if err != nil {
			return "", err
		}
		items = append(items, item{name, modeTree, id})
		entries = entries[n:]
	}
	// A tree's name sorts as if it ended with a slash.
	key := func(i item) string {
		if i.mode == modeTree {
			return i.name + "/"
		}
		return i.name
	}
	slices.SortFunc(items, func(a, b item) int { return strings.Compare(key(a), key(b)) })
	var tree bytes.Buffer
	for _, i := range items {
		id, err := hex.DecodeString(i.id)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&tree, "%s %s\x00", i.mode, i.name)
		tree.Write(id)
	}
	return objectID(h, "tree", tree.Bytes()), nil
}
