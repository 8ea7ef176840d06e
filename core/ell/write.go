package ell

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/ell/seekable"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

// Spec is what goes into a package beside its facts.
type Spec struct {
	Facts       Facts // for Begin only those of which the file's name is made
	Claims      []staging.Claim
	Scripts     map[string]string
	Recipe      []byte
	Build       BuildRecord
	Time        time.Time    // of every entry
	Compression string       // one of fact.Compressions; the usual one where it is empty
	Known       *KnownFrames // frames of other packages; see KnownFrames
	// Look, if it is set, is shown the contents of every file on the way, once
	// for each claim by its index, by several goroutines at once.
	Look func(claim int, contents io.ReaderAt, size int64) error
}

// Written is a package that was written.
type Written struct {
	Path   string `json:"path"`
	Facts  Facts  `json:"facts"`
	SHA256 string `json:"sha256"` // of the file; see Digest
	Size   int64  `json:"bytes"`  // of the file
}

// Digest reads the file and fills in SHA256, in hexadecimal.
func (w *Written) Digest() error {
	f, err := os.Open(w.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	_, err = io.Copy(sum, f)
	w.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return err
}

// Payload is the greater part of a package, compressed into a temporary file:
// the metadata that stand before it in a package hold its digests, and facts
// that are found in it.
type Payload struct {
	spec    Spec
	dir     string
	temp    string
	file    *os.File
	entries []Entry
	frames  []seekable.Frame
	digests []FrameDigest
}

// Write makes a package in dir, under its own name, with the facts that are
// given; Format, Paths, Size and Meta are filled in.
func Write(ctx context.Context, dir string, spec Spec, sink progress.Sink) (Written, error) {
	p, err := Begin(ctx, dir, spec, sink)
	if err != nil {
		return Written{}, err
	}
	defer p.Close()
	return p.Finish(spec.Facts)
}

// Begin reads every file once and compresses it. Only one process at a time
// may write a package of one identity in one directory. Memory does not grow
// with the payload. The caller closes the payload, which leaves nothing behind.
func Begin(ctx context.Context, dir string, spec Spec, sink progress.Sink) (*Payload, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	// One name for each package: what a killed process left is cleared away by
	// the next one that writes it.
	p := &Payload{spec: spec, dir: dir, temp: filepath.Join(dir, ".writing-"+spec.Facts.Identity())}
	if err := os.RemoveAll(p.temp); err != nil {
		return nil, err
	}
	if err := os.Mkdir(p.temp, 0o755); err != nil {
		return nil, err
	}
	var err error
	if p.file, err = os.Create(filepath.Join(p.temp, "payload")); err != nil {
		p.Close()
		return nil, err
	}
	t := sink.Begin("pack "+spec.Facts.Identity(), total(spec.Claims), "bytes")
	if err = p.write(ctx, t); err != nil {
		t.End("failed")
		p.Close()
		return nil, err
	}
	t.End("done")
	return p, nil
}

// Close removes the temporary files. A package that is finished stays.
func (p *Payload) Close() error {
	if p.file != nil {
		p.file.Close()
	}
	return os.RemoveAll(p.temp)
}

// HasContents reports whether a package has the same paths with the same
// contents, modes and owners.
func (p *Payload) HasContents(of *Package) (bool, error) {
	entries, err := of.Layout()
	if err != nil {
		return false, err
	}
	return reflect.DeepEqual(entries, p.entries), nil
}

// Finish puts the package together. The file appears whole, by rename; one of
// that name is replaced.
func (p *Payload) Finish(facts Facts) (Written, error) {
	var out Written
	facts.Format = Format
	out.Path = filepath.Join(p.dir, facts.FileName())
	heads, err := metaFrames(&p.spec, &facts, p.entries, p.digests)
	if err != nil {
		return out, err
	}
	enc, err := encoder(p.spec.Compression)
	if err != nil {
		return out, err
	}
	var before []byte
	var frames []seekable.Frame
	for _, head := range heads {
		start := len(before)
		before = enc.EncodeAll(head, before)
		frames = append(frames, seekable.Frame{Packed: uint32(len(before) - start), Size: uint32(len(head))})
	}
	file, err := renameio.NewPendingFile(out.Path, renameio.WithTempDir(p.temp), renameio.WithStaticPermissions(0o644))
	if err != nil {
		return out, err
	}
	defer file.Cleanup()
	payload, err := p.file.Seek(0, io.SeekEnd)
	if err != nil {
		return out, err
	}
	after := seekable.Table(append(frames, p.frames...))
	if _, err := file.Write(before); err != nil {
		return out, err
	}
	if _, err := p.file.Seek(0, io.SeekStart); err != nil {
		return out, err
	}
	if _, err := io.Copy(file.File, p.file); err != nil {
		return out, err
	}
	if _, err := file.Write(after); err != nil {
		return out, err
	}
	out.Size = int64(len(before)) + payload + int64(len(after))
	out.Facts = facts
	return out, file.CloseAtomicallyReplace()
}

func total(claims []staging.Claim) int64 {
	var n int64
	for _, c := range claims {
		n += max(c.Size, 0)
	}
	return n
}

// write writes the entries of tree/.
func (p *Payload) write(ctx context.Context, t progress.Task) error {
	f, err := newFramer(ctx, p.file, p.spec.Compression, p.spec.Known)
	if err != nil {
		return err
	}
	w := &payloadWriter{framer: f, tar: tar.NewWriter(f), spec: p.spec, task: t, same: hardLinks(p.spec.Claims), first: map[identity]place{}, sizes: map[int64]bool{}}
	p.entries, err = w.entries(ctx)
	if err == nil {
		err = w.tar.Close()
	}
	err = cmp.Or(err, f.close())
	p.frames, p.digests = f.frames, f.digests
	return err
}

// payloadTime is the time of every entry of the payload, as 1980-01-01. What
// is unpacked gets the package's date, which would make every frame differ from
// one release to the next.
var payloadTime = time.Unix(315532800, 0)

type payloadWriter struct {
	framer *framer
	tar    *tar.Writer
	spec   Spec
	task   progress.Task
	same   []int              // claim → an earlier one that it is a hard link to, or -1
	first  map[identity]place // contents that are in the payload
	sizes  map[int64]bool     // of the files among them too large to be held in memory
	free   chan []byte        // buffers for those
}

// identity is what two files must have in common so that one can stand for
// both, also where a plain tar unpacks them as one.
type identity struct {
	sum                [sha256.Size]byte
	mode, owner, group string
}

// place is a file whose contents are in the payload, and where.
type place struct {
	path string
	at   int64
}

// hardLinks finds the claims that are other names of an earlier one, with the
// same word on it.
func hardLinks(claims []staging.Claim) []int {
	type file struct {
		inode              staging.Inode
		mode, owner, group string
	}
	first := map[file]int{}
	same := make([]int, len(claims))
	for i, c := range claims {
		same[i] = -1
		if c.Type != staging.File || c.Inode == (staging.Inode{}) {
			continue
		}
		key := file{c.Inode, fact.Octal(c.Mode), c.Owner, c.Group}
		if at, ok := first[key]; ok {
			same[i] = at
		} else {
			first[key] = i
		}
	}
	return same
}

func header(e Entry) *tar.Header {
	h := &tar.Header{
		Format: tar.FormatPAX, Name: treeDir + e.Path, Mode: fact.ModeBits(fact.ParseMode(e.Mode)), Uname: e.Owner, Gname: e.Group, ModTime: payloadTime,
		Typeflag: tar.TypeReg, Size: e.Size,
	}
	switch {
	case e.Type == staging.Directory:
		h.Typeflag, h.Name = tar.TypeDir, h.Name+"/"
	case e.Type == staging.Symlink:
		h.Typeflag, h.Linkname = tar.TypeSymlink, e.Link
	case e.Same != "" || e.Copy != "":
		h.Typeflag, h.Linkname, h.Size = tar.TypeLink, treeDir+e.Same+e.Copy, 0
	}
	if h.Typeflag != tar.TypeLink && len(e.Xattrs) > 0 {
		h.PAXRecords = map[string]string{}
		for name, value := range e.Xattrs {
			h.PAXRecords[xattrRecord+name] = string(value)
		}
	}
	return h
}

// entries writes all claims in order, while their files are read in advance.
func (p *payloadWriter) entries(ctx context.Context) ([]Entry, error) {
	ctx, cancel := context.WithCancel(ctx)
	read := startReadahead(ctx, p.spec, p.same)
	defer read.wait()
	defer cancel()
	out := make([]Entry, 0, len(p.spec.Claims))
	for i, c := range p.spec.Claims {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		e := Entry{Path: c.Path.Path, Type: c.Type, Kind: c.Kind, Mode: fact.Octal(c.Mode), Owner: c.Owner, Group: c.Group, Link: c.Link, Xattrs: c.Xattrs}
		var err error
		switch {
		case c.Type != staging.File:
			err = p.tar.WriteHeader(header(e))
		case p.same[i] >= 0:
			of := out[p.same[i]]
			e.Same, e.Size, e.SHA256, e.At = of.Path, of.Size, of.SHA256, of.At
			err = p.tar.WriteHeader(header(e))
		default:
			err = p.file(ctx, i, &e, read)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// metaFrames completes the facts and returns the tar entries of the frames
// before the payload: the first with everything but the layout, which is most
// of the metadata and which few ask for, and the second with that.
func metaFrames(spec *Spec, facts *Facts, entries []Entry, digests []FrameDigest) ([2][]byte, error) {
	var none [2][]byte
	metas := map[string][]byte{RecipeFile: spec.Recipe}
	for name, text := range spec.Scripts {
		metas[ScriptsDir+name] = []byte(text)
	}
	facts.Paths, facts.Size = len(entries), 0
	second, err := layoutFrame(entries, digests, spec.Time)
	if err != nil {
		return none, err
	}
	for _, e := range entries {
		if e.Same == "" {
			facts.Size += e.Size
		}
	}
	build, err := canonical.Marshal(spec.Build)
	if err != nil {
		return none, err
	}
	metas[BuildFile] = build
	facts.Meta = map[string]string{strings.TrimPrefix(LayoutFile, "meta/"): second.layout, strings.TrimPrefix(FramesFile, "meta/"): second.frames}
	for name, data := range metas {
		facts.Meta[strings.TrimPrefix(name, "meta/")] = fact.SHA256(data)
	}
	if facts.Needs == nil {
		facts.Needs = []Need{}
	}
	if facts.Provides == nil {
		facts.Provides = []Provide{}
	}
	if err := facts.check(); err != nil {
		return none, err
	}
	if err := checkLayout(entries); err != nil {
		return none, err
	}
	own, err := canonical.Marshal(facts)
	if err != nil {
		return none, err
	}
	metas[PackageFile] = own
	first, err := metaFrame(metas, spec.Time)
	if err != nil {
		return none, err
	}
	return [2][]byte{first, second.frame}, err
}

// layoutPart is the frame with the layout and the digests of frames, and the
// digests of the two files in it.
type layoutPart struct {
	frame          []byte
	layout, frames string
}

// tarBlock is the unit of a tar archive.
const tarBlock = 512

// layoutFrame writes the layout as the tar entry that it is, without ever
// holding it twice: it is most of the metadata of a package of many files.
func layoutFrame(entries []Entry, digests []FrameDigest, when time.Time) (layoutPart, error) {
	frame := make([]byte, tarBlock, tarBlock+256*len(entries)+tarBlock)
	for _, e := range entries {
		var err error
		if frame, err = AppendLine(frame, e); err != nil {
			return layoutPart{}, err
		}
	}
	lines := frame[tarBlock:]
	sum := sha256.Sum256(lines)
	var head bytes.Buffer
	if err := tar.NewWriter(&head).WriteHeader(metaHeader(LayoutFile, int64(len(lines)), when)); err != nil {
		return layoutPart{}, err
	}
	copy(frame, head.Bytes())
	frame = append(frame, make([]byte, -len(lines)&(tarBlock-1))...)
	if digests == nil {
		digests = []FrameDigest{}
	}
	list, err := canonical.Marshal(digests)
	if err != nil {
		return layoutPart{}, err
	}
	end, err := metaFrame(map[string][]byte{FramesFile: list}, when)
	return layoutPart{append(frame, end...), hex.EncodeToString(sum[:]), fact.SHA256(list)}, err
}

func metaHeader(name string, size int64, when time.Time) *tar.Header {
	mode := int64(0o644)
	if strings.HasPrefix(name, ScriptsDir) {
		mode = 0o755
	}
	return &tar.Header{Format: tar.FormatPAX, Typeflag: tar.TypeReg, Name: name, Mode: mode, Uname: staging.Root, Gname: staging.Root, Size: size, ModTime: when}
}

// metaFrame writes files as tar entries, facts.json first and the others
// sorted.
func metaFrame(files map[string][]byte, when time.Time) ([]byte, error) {
	var b bytes.Buffer
	tw := tar.NewWriter(&b)
	names := slices.Sorted(maps.Keys(files))
	if i := slices.Index(names, PackageFile); i > 0 {
		names = slices.Insert(slices.Delete(names, i, i+1), 0, PackageFile)
	}
	for _, name := range names {
		if err := tw.WriteHeader(metaHeader(name, int64(len(files[name])), when)); err != nil {
			return nil, err
		}
		if _, err := tw.Write(files[name]); err != nil {
			return nil, err
		}
	}
	// The archive goes on in the next frame: padding, but no end mark.
	if err := tw.Flush(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
