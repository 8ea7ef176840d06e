package source

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
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
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"ellwand.example/core/progress"
)

type format string

const (
	plainFormat format = "plain"
	tarFormat   format = "tar"
	zipFormat   format = "zip"
	gzipFormat  format = "gzip"
	bzip2Format format = "bzip2"
	xzFormat    format = "xz"
	zstdFormat  format = "zstd"
)

// looks tells from the first bytes of a file what it is.
func looks(head []byte) format {
	for _, f := range []struct {
		magic string
		format
	}{
		{"\x1f\x8b", gzipFormat}, {"BZh", bzip2Format}, {"\xfd7zXZ\x00", xzFormat}, {"\x28\xb5\x2f\xfd", zstdFormat},
		{"PK\x03\x04", zipFormat}, {"PK\x05\x06", zipFormat},
	} {
		if bytes.HasPrefix(head, []byte(f.magic)) {
			return f.format
		}
	}
	if len(head) >= 262 && string(head[257:262]) == "ustar" {
		return tarFormat
	}
	return plainFormat
}

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
	Known  string // the recipe's name, to tell the archive's own folder
	Limits Limits
}

// Unpacked is what came of it.
type Unpacked struct {
	Entries int
	Bytes   int64
	Dropped string   // the single top folder that was left out of paths
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

// Unpack puts a source into the tree at dir. An archive's single top folder is
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
	temp, err := os.MkdirTemp(filepath.Dir(dir), ".unpack-")
	if err != nil {
		return out, err
	}
	defer os.RemoveAll(temp)
	root, err := os.OpenRoot(temp)
	if err != nil {
		return out, err
	}
	defer root.Close()

	t := sink.Begin("unpack "+job.Name, info.Size(), "bytes")
	x := &extractor{ctx: ctx, root: root, job: job, out: &out, size: info.Size(), used: make([]bool, len(job.Skip))}
	err = x.run(f, t)
	t.End(outcome(err))
	if err != nil {
		return out, err
	}
	for i, used := range x.used {
		if !used {
			return out, &ArchiveError{Name: job.Name, Message: fmt.Sprintf("skip %q matches nothing in it", job.Skip[i]), Remedy: "remove the pattern, or mend it: it is matched against paths without the top folder"}
		}
	}
	from, err := x.top(temp)
	if err != nil {
		return out, err
	}
	return out, merge(from, filepath.Join(dir, filepath.FromSlash(job.Into)), job)
}

type extractor struct {
	ctx  context.Context
	root *os.Root
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
	head, err := br.Peek(262)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	kind := looks(head)
	if kind == zipFormat {
		err = x.zip(f)
	} else {
		err = x.stream(br, kind)
	}
	var archive *ArchiveError
	switch {
	case err == nil:
	case errors.As(err, &archive), x.ctx.Err() != nil:
		return err
	default:
		return x.damaged(err)
	}
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
	if _, err := io.Copy(io.Discard, br); err != nil {
		return err
	}
	found := hex.EncodeToString(h.Sum(nil))
	if kind == zipFormat {
		if found, err = fileDigest(x.job.Path); err != nil {
			return err
		}
	}
	if found != x.job.SHA256 {
		return &DigestError{What: x.job.Name, Expected: x.job.SHA256, Found: found}
	}
	return nil
}

func (x *extractor) damaged(err error) error {
	message := fmt.Sprintf("the archive is damaged: %v", err)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, zip.ErrFormat) {
		message = "the archive ends too early"
	}
	if x.last != "" {
		message += fmt.Sprintf(" (after %d entries, the last being %q)", x.out.Entries, x.last)
	}
	return &ArchiveError{Name: x.job.Name, Message: message, Remedy: "compare its size with upstream's, and fetch it again"}
}

// decompress reads what a compressed stream holds. Done frees what that took.
func decompress(r io.Reader, kind format) (plain io.Reader, done func(), err error) {
	done = func() {}
	switch kind {
	case gzipFormat:
		plain, err = gzip.NewReader(r)
	case bzip2Format:
		plain = bzip2.NewReader(r)
	case xzFormat:
		plain, err = xz.NewReader(r)
	case zstdFormat:
		var z *zstd.Decoder
		if z, err = zstd.NewReader(r, zstd.WithDecoderMaxMemory(1<<30), zstd.WithDecoderMaxWindow(1<<30)); err == nil {
			plain, done = z, z.Close
		}
	default:
		plain = r
	}
	return plain, done, err
}

// Decompress reads a stream that may be compressed with gzip, bzip2, xz or
// Zstandard, which its first bytes tell. Done frees what that took.
func Decompress(r io.Reader) (plain io.Reader, done func(), err error) {
	br := bufio.NewReaderSize(r, 1<<16)
	head, err := br.Peek(8)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, nil, err
	}
	return decompress(br, looks(head))
}

func (x *extractor) stream(br *bufio.Reader, kind format) error {
	r, done, err := decompress(br, kind)
	if err != nil {
		return err
	}
	defer done()
	inner := bufio.NewReaderSize(r, 1<<18)
	head, err := inner.Peek(512)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if kind == plainFormat && !oldTar(head) || kind != tarFormat && kind != plainFormat && looks(head) != tarFormat && !oldTar(head) {
		// Not an archive, or one compressed file: it is taken as it is.
		return x.plain(br, inner, kind)
	}
	return x.tar(inner)
}

// oldTar tells a tar header from before the "ustar" mark by its checksum.
func oldTar(head []byte) bool {
	if len(head) < 512 {
		return false
	}
	_, err := tar.NewReader(bytes.NewReader(head)).Next()
	return err == nil
}

func (x *extractor) plain(br, inner *bufio.Reader, kind format) error {
	in, name := io.Reader(inner), x.job.Name
	if kind != plainFormat {
		name = strings.TrimSuffix(name, path.Ext(name))
	}
	x.out.Entries++
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(x.job.Path); err == nil && info.Mode()&0o111 != 0 {
		mode = 0o755
	}
	return x.write(name, mode, time.Time{}, in)
}

func (x *extractor) tar(r io.Reader) error {
	tr := tar.NewReader(r)
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if h.Typeflag == tar.TypeXGlobalHeader {
			continue
		}
		name, skip, err := x.entry(h.Name)
		if err != nil {
			return err
		}
		if skip {
			continue
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = x.directory(name)
		case tar.TypeReg, tar.TypeGNUSparse:
			err = x.write(name, fs.FileMode(h.Mode), h.ModTime, tr)
		case tar.TypeSymlink:
			err = x.symlink(name, h.Linkname)
		case tar.TypeLink:
			err = x.hardlink(name, h.Linkname)
		default:
			x.refuse(h.Name, "is a device or another special file")
		}
		if err != nil {
			return err
		}
	}
	// The end of the compressed stream carries its checksum.
	_, err := io.Copy(io.Discard, r)
	return err
}

func (x *extractor) zip(f *os.File) error {
	zr, err := zip.NewReader(f, x.size)
	if err != nil {
		return err
	}
	for _, e := range zr.File {
		name, skip, err := x.entry(e.Name)
		if err != nil {
			return err
		}
		if skip {
			continue
		}
		if err := x.zipEntry(name, e); err != nil {
			return err
		}
	}
	return nil
}

func (x *extractor) zipEntry(name string, e *zip.File) error {
	mode := e.Mode()
	if mode.IsDir() || strings.HasSuffix(e.Name, "/") {
		return x.directory(name)
	}
	in, err := e.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	switch {
	case mode&fs.ModeSymlink != 0:
		target, err := io.ReadAll(io.LimitReader(in, 4096))
		if err != nil {
			return err
		}
		return x.symlink(name, string(target))
	case !mode.IsRegular():
		x.refuse(e.Name, "is a device or another special file")
		return nil
	}
	return x.write(name, mode, e.Modified, in)
}

// entry judges an entry's path; the result is clean and relative. Skip is true
// for those that are not to be unpacked.
func (x *extractor) entry(raw string) (name string, skip bool, err error) {
	if err := x.ctx.Err(); err != nil {
		return "", false, err
	}
	x.out.Entries++
	x.last = raw
	if x.out.Entries > x.job.Limits.Entries {
		return "", false, &ArchiveError{Name: x.job.Name, Message: fmt.Sprintf("it holds more than %d entries", x.job.Limits.Entries)}
	}
	name = path.Clean(raw)
	_, below, _ := strings.Cut(name, "/")
	for i, p := range x.job.Skip {
		for _, candidate := range []string{name, below} {
			if ok, _ := doublestar.Match("{"+p+","+p+"/**}", candidate); ok && candidate != "" {
				x.used[i] = true
				x.out.Skipped = append(x.out.Skipped, raw)
				return "", true, nil
			}
		}
	}
	switch {
	case strings.HasPrefix(raw, "/"):
		x.refuse(raw, "is an absolute path")
	case !filepath.IsLocal(name):
		x.refuse(raw, "leads out of the archive")
	case strings.ContainsRune(raw, 0):
		x.refuse(raw, "has a NUL byte in its name")
	default:
		return name, name == ".", nil
	}
	return "", true, nil
}

func (x *extractor) refuse(name, why string) {
	x.nbad++
	if len(x.bad) < maxNamed {
		x.bad = append(x.bad, fmt.Sprintf("%q %s", name, why))
	}
}

// clear makes room: archives may hold a path twice, and the last one counts.
func (x *extractor) clear(name string) error {
	if err := x.root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return x.escape(name, err)
	}
	if info, err := x.root.Lstat(name); err == nil && !info.IsDir() {
		return x.root.Remove(name)
	}
	return nil
}

// escape turns the refusal of os.Root to follow a link out of the tree into
// one more bad entry.
func (x *extractor) escape(name string, err error) error {
	if strings.Contains(err.Error(), "path escapes from parent") {
		x.refuse(name, "lies behind a link that leads out of the archive")
		return nil
	}
	return err
}

func (x *extractor) directory(name string) error {
	if err := x.root.MkdirAll(name, 0o755); err != nil {
		return x.escape(name, err)
	}
	return nil
}

func (x *extractor) write(name string, mode fs.FileMode, modified time.Time, in io.Reader) error {
	if err := x.clear(name); err != nil {
		return x.escape(name, err)
	}
	perm := fs.FileMode(0o644)
	if mode&0o111 != 0 {
		perm = 0o755
	}
	f, err := x.root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, perm)
	if err != nil {
		return x.escape(name, err)
	}
	defer f.Close()
	left := x.job.Limits.Bytes - x.out.Bytes
	if x.job.Limits.Ratio > 0 {
		left = min(left, max(1<<30, x.size*x.job.Limits.Ratio)-x.out.Bytes)
	}
	n, err := io.Copy(f, io.LimitReader(in, left+1))
	x.out.Bytes += n
	if err != nil {
		return err
	}
	if n > left {
		return &ArchiveError{Name: x.job.Name, Message: fmt.Sprintf("%d bytes would unpack to more than %d: this looks made to fill the disk", x.size, x.out.Bytes)}
	}
	if err := f.Chmod(perm); err != nil { // whatever the umask
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if modified.IsZero() {
		return nil
	}
	// Times to come would make `make` do the same work over and over.
	if now := time.Now(); modified.After(now) {
		modified = now
	}
	return x.root.Chtimes(name, modified, modified)
}

func (x *extractor) symlink(name, target string) error {
	if path.IsAbs(target) || !filepath.IsLocal(path.Join(path.Dir(name), target)) {
		x.refuse(name, fmt.Sprintf("is a link that leads out, to %q", target))
		return nil
	}
	if err := x.clear(name); err != nil {
		return x.escape(name, err)
	}
	return x.root.Symlink(target, name)
}

func (x *extractor) hardlink(name, target string) error {
	if !filepath.IsLocal(path.Clean(target)) || path.IsAbs(target) {
		x.refuse(name, fmt.Sprintf("is a link that leads out, to %q", target))
		return nil
	}
	if err := x.clear(name); err != nil {
		return x.escape(name, err)
	}
	err := x.root.Link(path.Clean(target), name)
	if errors.Is(err, fs.ErrNotExist) {
		x.refuse(name, fmt.Sprintf("is a hard link to %q, which is not there", target))
		return nil
	}
	return err
}

// top finds the archive's own folder. One folder alone is it. A folder named
// after the recipe with something beside it is ambiguous: the maintainer says
// what is meant.
func (x *extractor) top(temp string) (string, error) {
	entries, err := os.ReadDir(temp)
	if err != nil {
		return "", err
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
	return "", &ArchiveError{Name: x.job.Name, Message: fmt.Sprintf("beside the folder %q its top holds", entries[own].Name()), Entries: odd,
		Remedy: fmt.Sprintf("leave them out in the recipe: skip = [%q] in this [[source]]", strings.Join(odd, `", "`))}
}

// merge moves what was unpacked into the tree. Folders join; files do not
// replace files.
func merge(from, to string, job Job) error {
	var clashes []string
	var walk func(from, to, rel string) error
	walk = func(from, to, rel string) error {
		there, err := os.Lstat(to)
		if errors.Is(err, fs.ErrNotExist) {
			return os.Rename(from, to)
		}
		if err != nil {
			return err
		}
		here, err := os.Lstat(from)
		if err != nil {
			return err
		}
		if !here.IsDir() || !there.IsDir() {
			clashes = append(clashes, rel)
			return nil
		}
		entries, err := os.ReadDir(from)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if err := walk(filepath.Join(from, e.Name()), filepath.Join(to, e.Name()), path.Join(rel, e.Name())); err != nil {
				return err
			}
		}
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if err := walk(from, to, job.Into); err != nil {
		return err
	}
	if len(clashes) > maxNamed {
		clashes = append(clashes[:maxNamed], fmt.Sprintf("and %d more", len(clashes)-maxNamed))
	}
	if len(clashes) > 0 {
		return &ArchiveError{Name: job.Name, Message: "another source has these paths already:", Entries: clashes,
			Remedy: `give one of the two a folder of its own: into = "…" in its [[source]]`}
	}
	return nil
}
