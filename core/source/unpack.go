package source

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ellwand.example/core/cancel"
	"ellwand.example/core/files"
	"ellwand.example/core/progress"
	"ellwand.example/core/source/archive"
)

// Limits bound what an archive may unpack to.
type Limits struct {
	Bytes   int64
	Entries int
	// Ratio is how many bytes one byte of the archive may become, once the
	// whole is over a gigabyte.
	Ratio int64
}

// DefaultLimits suit the largest sources that are built in practice.
var DefaultLimits = Limits{Bytes: 64 << 30, Entries: 4_000_000, Ratio: 2000}

// Job is one source to unpack.
type Job struct {
	Path   string // the file
	Name   string // as messages show it, and as a plain file is called
	SHA256 string // what the file must be; empty for no check
	Into   string // where in the tree, slash-separated
	Skip   []string
	Known  string // the recipe's name, to tell the archive's own directory
	Whole  bool   // keep a single top directory
	Limits Limits
}

// Unpacked is the result.
type Unpacked struct {
	Entries int
	Bytes   int64
	Dropped string   // the single top directory that was left out of paths
	Skipped []string // paths that the recipe skips
}

// ArchiveError is an archive that cannot be unpacked: damaged, or holding what
// must not be followed.
type ArchiveError struct {
	Name    string
	Message string
	Entries []string // the paths meant, each with its reason
	Remedy  string
}

func (e *ArchiveError) Error() string {
	s := e.Name + ": " + e.Message
	for _, entry := range e.Entries {
		s += "\n  " + entry
	}
	if e.Remedy != "" {
		s += "\n" + e.Remedy
	}
	return s
}

// maxNamed bounds how many entries an error lists.
const maxNamed = 20

// Unpack puts a source into the tree at dir. An archive's single top directory is
// dropped. Nothing outside dir is ever written, whatever the archive says.
// What is in the way of another source's file is an error, all of it at once.
func Unpack(ctx context.Context, dir string, job Job, sink progress.Sink) (Unpacked, error) {
	var out Unpacked
	f, err := os.Open(job.Path)
	if err != nil {
		return out, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return out, err
	}
	if job.Limits == (Limits{}) {
		job.Limits = DefaultLimits
	}
	// In the tree itself, so that one root holds both ends of every move.
	temp, err := os.MkdirTemp(dir, ".unpack-")
	if err != nil {
		return out, err
	}
	defer os.RemoveAll(temp)
	tree, err := archive.OpenTree(temp)
	if err != nil {
		return out, err
	}
	defer tree.Close()

	t := sink.Begin("unpack "+job.Name, info.Size(), "bytes")
	x := &extractor{ctx: ctx, tree: tree, job: job, out: &out, size: info.Size(), used: make([]bool, len(job.Skip))}
	err = x.run(f, t)
	t.End(outcome(err))
	if err != nil {
		return out, err
	}
	for i, used := range x.used {
		if !used {
			return out, &ArchiveError{Name: job.Name, Message: fmt.Sprintf("skip %q matches nothing in it", job.Skip[i]), Remedy: "remove or correct the pattern: it is matched against paths without the top directory"}
		}
	}
	from, err := x.top(temp)
	if err != nil {
		return out, err
	}
	return out, merge(dir, from, job)
}

type extractor struct {
	ctx  context.Context
	tree *archive.Tree
	job  Job
	out  *Unpacked
	size int64 // of the archive, in bytes
	used []bool
	bad  []string
	nbad int
	last string // the entry read last, for errors
}

func (x *extractor) run(f *os.File, t progress.Task) error {
	// The digest is taken of the same bytes that are unpacked.
	h := sha256.New()
	counter := &counted{f, t}
	br := bufio.NewReaderSize(io.TeeReader(counter, h), 1<<18)
	head, err := br.Peek(archive.HeadSize)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	kind := archive.Detect(head)
	if kind == archive.Zip {
		err = archive.ReadZip(x.ctx, f, x.size, x.entry)
	} else {
		err = x.stream(br, kind)
	}
	var known *ArchiveError
	switch {
	case err == nil:
	case errors.As(err, &known), x.ctx.Err() != nil, isSystem(err):
		return err
	default:
		return x.damaged(err, br)
	}
	x.tree.CheckLinks(func(name, target string) { x.refuse(name, fmt.Sprintf("is a link that leads out, to %q", target)) })
	if x.nbad > 0 {
		if x.nbad > len(x.bad) {
			x.bad = append(x.bad, fmt.Sprintf("and %d more", x.nbad-len(x.bad)))
		}
		return &ArchiveError{Name: x.job.Name, Message: "it holds paths that lead out of it, or are no files; nothing was unpacked", Entries: x.bad,
			Remedy: `if the build does well without them, leave them out in the recipe: skip = ["…"] in this [[source]]`}
	}
	if x.job.SHA256 == "" {
		return nil
	}
	if _, err := io.Copy(io.Discard, cancel.Reader(x.ctx, br)); err != nil {
		return err
	}
	found := hex.EncodeToString(h.Sum(nil))
	if kind == archive.Zip {
		if found, err = files.SHA256(x.ctx, x.job.Path); err != nil {
			return err
		}
	}
	if found != x.job.SHA256 {
		return &DigestError{What: x.job.Name, Expected: x.job.SHA256, Found: found}
	}
	return nil
}

// isSystem reports whether an error is the machine's, and says nothing about
// the archive: a full disk, for one.
func isSystem(err error) bool {
	var errno syscall.Errno
	return errors.As(err, &errno)
}

func (x *extractor) damaged(err error, rest io.ByteReader) error {
	message := fmt.Sprintf("the archive is damaged: %v", err)
	if _, end := rest.ReadByte(); errors.Is(err, io.ErrUnexpectedEOF) && errors.Is(end, io.EOF) {
		message = "the archive ends too early"
	}
	if x.last != "" {
		message += fmt.Sprintf(" (after %d entries, the last being %q)", x.out.Entries, x.last)
	}
	return &ArchiveError{Name: x.job.Name, Message: message, Remedy: "compare its size with upstream's, and fetch it again"}
}

func (x *extractor) stream(br *bufio.Reader, kind archive.Format) error {
	r, done, err := archive.DecompressAs(br, kind)
	if err != nil {
		return err
	}
	defer done()
	inner := bufio.NewReaderSize(r, 1<<18)
	head, err := inner.Peek(archive.HeadSize)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if archive.Detect(head) != archive.Tar {
		// Not an archive, or one compressed file: it is used unchanged.
		return x.plain(inner, kind)
	}
	return archive.ReadTar(x.ctx, inner, x.entry)
}

func (x *extractor) plain(in io.Reader, kind archive.Format) error {
	name := x.job.Name
	if kind != archive.Plain {
		name = strings.TrimSuffix(name, path.Ext(name))
	}
	x.out.Entries++
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(x.job.Path); err == nil && info.Mode()&0o111 != 0 {
		mode = 0o755
	}
	return x.write(name, mode, time.Time{}, in)
}

// entry unpacks one entry, or says why not.
func (x *extractor) entry(e archive.Entry) error {
	x.out.Entries++
	x.last = e.Name
	if x.out.Entries > x.job.Limits.Entries {
		return &ArchiveError{Name: x.job.Name, Message: fmt.Sprintf("it holds more than %d entries", x.job.Limits.Entries)}
	}
	if x.skipped(e.Name) {
		return nil
	}
	name, err := archive.Clean(e.Name)
	if err == nil && name != "." {
		switch e.Kind {
		case archive.Directory:
			err = x.tree.Directory(name)
		case archive.File:
			err = x.write(name, e.Mode, e.Modified, e.Contents)
		case archive.Symlink:
			err = x.tree.Symlink(name, e.Link)
		case archive.Hardlink:
			err = x.tree.Hardlink(name, e.Link)
		default:
			err = &archive.RefusedError{Reason: "is a device or another special file"}
		}
	}
	var refused *archive.RefusedError
	if errors.As(err, &refused) {
		x.refuse(e.Name, refused.Reason)
		return nil
	}
	return err
}

// skipped reports whether the recipe skips an entry.
func (x *extractor) skipped(raw string) bool {
	name := path.Clean(raw)
	_, below, _ := strings.Cut(name, "/")
	for i, p := range x.job.Skip {
		for _, candidate := range []string{name, below} {
			if ok, _ := doublestar.Match("{"+p+","+p+"/**}", candidate); ok && candidate != "" {
				x.used[i] = true
				x.out.Skipped = append(x.out.Skipped, raw)
				return true
			}
		}
	}
	return false
}

func (x *extractor) refuse(name, why string) {
	x.nbad++
	if len(x.bad) < maxNamed {
		x.bad = append(x.bad, fmt.Sprintf("%q %s", name, why))
	}
}

func (x *extractor) write(name string, mode fs.FileMode, modified time.Time, in io.Reader) error {
	perm := fs.FileMode(0o644)
	if mode&0o111 != 0 {
		perm = 0o755
	}
	left := x.job.Limits.Bytes - x.out.Bytes
	if x.job.Limits.Ratio > 0 {
		left = min(left, max(1<<30, x.size*x.job.Limits.Ratio)-x.out.Bytes)
	}
	n, err := x.tree.File(name, perm, modified, cancel.Reader(x.ctx, io.LimitReader(in, left+1)))
	x.out.Bytes += n
	if err == nil && n > left {
		return &ArchiveError{Name: x.job.Name, Message: fmt.Sprintf("%d bytes would unpack to more than %d: this looks made to fill the disk", x.size, x.out.Bytes)}
	}
	return err
}

// top finds the archive's own directory. One directory alone is it. A directory named
// after the recipe with something beside it is ambiguous: the maintainer says
// what is meant.
func (x *extractor) top(temp string) (string, error) {
	entries, err := os.ReadDir(temp)
	if err != nil || x.job.Whole {
		return temp, err
	}
	if len(entries) == 1 && entries[0].IsDir() {
		x.out.Dropped = entries[0].Name()
		return filepath.Join(temp, x.out.Dropped), nil
	}
	own := slices.IndexFunc(entries, func(e os.DirEntry) bool {
		rest, ok := strings.CutPrefix(strings.ToLower(e.Name()), x.job.Known+"-")
		return e.IsDir() && ok && x.job.Known != "" && rest != "" && rest[0] >= '0' && rest[0] <= '9'
	})
	if own < 0 {
		return temp, nil
	}
	var odd []string
	for i, e := range entries {
		if i != own && len(odd) < maxNamed {
			odd = append(odd, e.Name())
		}
	}
	return "", &ArchiveError{Name: x.job.Name, Message: fmt.Sprintf("beside the directory %q its top holds", entries[own].Name()), Entries: odd,
		Remedy: fmt.Sprintf("leave them out in the recipe: skip = [%q] in this [[source]]", strings.Join(odd, `", "`))}
}

// merge moves what was unpacked into from, a directory in dir, to where the
// source goes in dir. Directories join; files do not replace files. No link of
// an earlier source leads it out of dir.
func merge(dir, from string, job Job) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	rel, err := filepath.Rel(dir, from)
	if err != nil {
		return err
	}
	var clashes []string
	// moved is false where all of a directory has to be looked at.
	move := func(from, to string) (moved bool, err error) {
		there, err := root.Lstat(to)
		if errors.Is(err, fs.ErrNotExist) {
			return true, root.Rename(from, to)
		}
		if err != nil {
			return false, err
		}
		here, err := root.Lstat(from)
		if err != nil {
			return false, err
		}
		if here.IsDir() && there.IsDir() {
			return false, nil
		}
		clashes = append(clashes, to)
		return true, nil
	}
	var walk func(from, to string) error
	walk = func(from, to string) error {
		if to != "." {
			if moved, err := move(from, to); moved || err != nil {
				return err
			}
		}
		entries, err := fs.ReadDir(root.FS(), filepath.ToSlash(from))
		if err != nil {
			return err
		}
		for _, e := range entries {
			if err := walk(path.Join(from, e.Name()), path.Join(to, e.Name())); err != nil {
				return err
			}
		}
		return nil
	}
	to := path.Clean(job.Into)
	if job.Into == "" {
		to = "."
	}
	if err := root.MkdirAll(path.Dir(to), 0o755); err != nil {
		return intoError(job, err)
	}
	if err := walk(filepath.ToSlash(rel), to); err != nil {
		return intoError(job, err)
	}
	if len(clashes) > maxNamed {
		clashes = append(clashes[:maxNamed], fmt.Sprintf("and %d more", len(clashes)-maxNamed))
	}
	if len(clashes) > 0 {
		return &ArchiveError{Name: job.Name, Message: "another source has these paths already:", Entries: clashes,
			Remedy: `give one of the two a directory of its own: into = "…" in its [[source]]`}
	}
	return nil
}

// intoError explains why a source cannot be put where it goes.
func intoError(job Job, err error) error {
	if job.Into == "" || isSystem(err) {
		return err
	}
	return &ArchiveError{Name: job.Name, Message: fmt.Sprintf("into = %q cannot be used: %v", job.Into, err), Remedy: "choose a directory that no link of another source is on the way to"}
}
