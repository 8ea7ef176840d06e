package ell

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/ell/seekable"
	"ellwand.example/core/fact"
)

// DamagedError is a file that is no package, or no longer.
type DamagedError struct {
	File string
	Err  error
}

func (e *DamagedError) Error() string {
	return fmt.Sprintf("%s cannot be read as a package: %v", e.File, e.Err)
}

func (e *DamagedError) Unwrap() error { return e.Err }

// Package is an open package. Everything in it was checked as far as it has
// been read.
type Package struct {
	Path  string
	Facts Facts
	Build BuildRecord
	Size  int64 // of the file

	layout func() (layoutFiles, error)

	file   io.ReaderAt
	close  func() error
	frames []seekable.Frame
	starts []int64 // where each frame begins in the file
	metas  map[string][]byte
}

// Open reads a package's seek table and facts; neither the layout nor the
// payload is touched. The caller closes it. The error is a *DamagedError where
// the file itself is at fault.
func Open(path string) (*Package, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &DamagedError{path, errors.New("it is not a plain file")}
	}
	var p *Package
	if err == nil {
		p, err = OpenAt(path, f, info.Size())
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	p.close = f.Close
	return p, nil
}

// OpenAt is Open for a file of size bytes that lies anywhere; name is what
// errors call it.
func OpenAt(name string, file io.ReaderAt, size int64) (*Package, error) {
	p := &Package{Path: name, Size: size, file: file, close: func() error { return nil }}
	if err := p.open(); err != nil {
		return nil, &DamagedError{name, err}
	}
	return p, nil
}

// Close closes the file.
func (p *Package) Close() error { return p.close() }

func (p *Package) open() (err error) {
	if p.frames, err = readSeekTable(p.file, p.Size); err != nil {
		return err
	}
	p.starts = make([]int64, len(p.frames))
	for i := 1; i < len(p.frames); i++ {
		p.starts[i] = p.starts[i-1] + int64(p.frames[i-1].Packed)
	}
	dec, err := newDecoder()
	if err != nil {
		return err
	}
	defer dec.Close()
	head, err := p.frame(dec, 0)
	if err != nil {
		return fmt.Errorf("metadata: %w", err)
	}
	return p.readMeta(head)
}

func newDecoder() (*zstd.Decoder, error) {
	return zstd.NewReader(nil, zstd.WithDecoderConcurrency(cores()), zstd.WithDecoderMaxMemory(maxMeta+1), zstd.WithDecoderMaxWindow(maxMeta))
}

// frame reads and decompresses one frame.
func (p *Package) frame(dec *zstd.Decoder, i int) ([]byte, error) {
	return p.checkedFrame(dec, i, FrameDigest{})
}

// checkedFrame reads and decompresses one frame, which has to have the digests
// that are given.
func (p *Package) checkedFrame(dec *zstd.Decoder, i int, digest FrameDigest) ([]byte, error) {
	packed := make([]byte, p.frames[i].Packed)
	if _, err := p.file.ReadAt(packed, p.starts[i]); err != nil {
		return nil, err
	}
	data, err := decodeFrame(dec, packed, p.frames[i].Size)
	if err == nil && digest != (FrameDigest{}) && (FrameDigest{contentsDigest(data), fact.SHA256(packed)}) != digest {
		err = fmt.Errorf("frame %d does not have the digest that frames.json says", i)
	}
	return data, err
}

// readMeta reads the first frame's files and checks them against one another.
func (p *Package) readMeta(head []byte) error {
	metas, err := metaFiles(head)
	if err != nil {
		return fmt.Errorf("metadata: %w", err)
	}
	p.metas = metas
	own := p.metas["facts.json"]
	if own == nil {
		return errors.New("metadata: facts.json is missing")
	}
	if err := strict(own, &p.Facts); err != nil {
		return fmt.Errorf("facts.json: %w", err)
	}
	if err := p.Facts.check(); err != nil {
		return fmt.Errorf("facts.json: %w", err)
	}
	// facts.json is not named; the files of the next frame are, which are not here.
	if len(p.Facts.Meta) != len(p.metas)+len(inLayoutFrame)-1 || slices.ContainsFunc(inLayoutFrame, func(name string) bool { return p.Facts.Meta[name] == "" || p.metas[name] != nil }) {
		return fmt.Errorf("facts.json does not name each of the %d other metadata files", len(p.metas))
	}
	for name, want := range p.Facts.Meta {
		if slices.Contains(inLayoutFrame, name) {
			continue
		}
		if fact.SHA256(p.metas[name]) != want {
			return fmt.Errorf("%s is not the one that facts.json names", name)
		}
	}
	if err := strict(p.metas["build.json"], &p.Build); err != nil {
		return fmt.Errorf("build.json: %w", err)
	}
	p.layout = sync.OnceValues(p.readLayout)
	return nil
}

// metaFiles reads the files of a frame of metadata.
func metaFiles(head []byte) (map[string][]byte, error) {
	metas := map[string][]byte{}
	for tr := tar.NewReader(bytes.NewReader(head)); ; {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			return metas, nil
		}
		if err != nil {
			return nil, err
		}
		name, ok := strings.CutPrefix(h.Name, "meta/")
		if !ok || h.Typeflag != tar.TypeReg || metas[name] != nil || len(metas) >= maxMetas {
			return nil, fmt.Errorf("%q does not belong there", h.Name)
		}
		if metas[name], err = io.ReadAll(tr); err != nil {
			return nil, fmt.Errorf("%s: %w", h.Name, err)
		}
	}
}

// inLayoutFrame are the files in the second frame.
var inLayoutFrame = []string{"layout.jsonl", "frames.json"}

// layoutFiles is what the second frame holds.
type layoutFiles struct {
	entries []Entry
	frames  []FrameDigest
}

// readLayout reads the second frame. Those who ask only for facts do without
// it.
func (p *Package) readLayout() (layoutFiles, error) {
	damaged := func(format string, args ...any) (layoutFiles, error) {
		return layoutFiles{}, &DamagedError{p.Path, fmt.Errorf("layout.jsonl"+format, args...)}
	}
	if len(p.frames) < metaFrameCount {
		return damaged(": its frame is missing")
	}
	dec, err := newDecoder()
	if err != nil {
		return layoutFiles{}, err
	}
	defer dec.Close()
	head, err := p.frame(dec, 1)
	if err != nil {
		return damaged(": %w", err)
	}
	metas, err := metaFiles(head)
	if err != nil {
		return damaged(": %w", err)
	}
	lines := metas["layout.jsonl"]
	if len(metas) != len(inLayoutFrame) || fact.SHA256(lines) != p.Facts.Meta["layout.jsonl"] {
		return damaged(" is not the one that facts.json names")
	}
	frames, err := p.frameDigests(metas["frames.json"])
	if err != nil {
		return layoutFiles{}, &DamagedError{p.Path, fmt.Errorf("frames.json: %w", err)}
	}
	entries, err := ParseLayout(lines, p.Facts.Paths)
	if err != nil {
		return damaged("%w", err)
	}
	var size int64
	for _, e := range entries {
		if e.Same == "" {
			size += e.Size
		}
	}
	if size != p.Facts.Size {
		return damaged(" has files of %d bytes, and facts.json says %d", size, p.Facts.Size)
	}
	return layoutFiles{entries, frames}, nil
}

// frameDigests reads the list of the payload's frames. Whether a frame has the
// digests that stand there is for those to check who use them.
func (p *Package) frameDigests(data []byte) ([]FrameDigest, error) {
	if fact.SHA256(data) != p.Facts.Meta["frames.json"] {
		return nil, errors.New("it is not the one that facts.json names")
	}
	var frames []FrameDigest
	if err := strict(data, &frames); err != nil {
		return nil, err
	}
	if len(frames) != len(p.frames)-metaFrameCount {
		return nil, fmt.Errorf("it has %d frames, and the payload has %d", len(frames), len(p.frames)-metaFrameCount)
	}
	for i, f := range frames {
		if !fact.IsSHA256(f.SHA256) || !fact.IsHex(f.Contents, 16) {
			return nil, fmt.Errorf("frame %d has no digests in hexadecimal", i)
		}
	}
	return frames, nil
}

// ParseLayout reads and checks the lines of a layout, of which there are n.
func ParseLayout(lines []byte, n int) ([]Entry, error) {
	if bytes.Count(lines, []byte("\n")) != n {
		return nil, fmt.Errorf(" does not have the %d lines that facts.json says", n)
	}
	entries := make([]Entry, n)
	d := json.NewDecoder(bytes.NewReader(lines))
	d.DisallowUnknownFields()
	for i := range entries {
		err := d.Decode(&entries[i])
		if err == nil {
			err = entries[i].decodeNames()
		}
		if at := d.InputOffset(); err == nil && (at >= int64(len(lines)) || lines[at] != '\n') {
			err = errors.New("it is not one value")
		}
		if err != nil {
			return nil, fmt.Errorf(", line %d: %w", i+1, err)
		}
	}
	if d.InputOffset() != int64(len(lines))-1 && n > 0 || n == 0 && len(lines) > 0 {
		return nil, errors.New(": something follows the last line")
	}
	if err := checkLayout(entries); err != nil {
		return nil, fmt.Errorf(": %w", err)
	}
	return entries, nil
}

// Layout returns what the package says of each of its paths, in order. The
// error is a *DamagedError.
func (p *Package) Layout() ([]Entry, error) {
	files, err := p.layout()
	return files.entries, err
}

// Frames returns the digests of the payload's frames, in order. The error is a
// *DamagedError.
func (p *Package) Frames() ([]FrameDigest, error) {
	files, err := p.layout()
	return files.frames, err
}

func strict(data []byte, v any) error {
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something follows the value")
	}
	return nil
}

// Meta returns a metadata file, such as "recipe.toml" or
// "scripts/post-install".
func (p *Package) Meta(name string) ([]byte, bool) {
	data, ok := p.metas[name]
	return data, ok
}

// Scripts returns the install scripts by name.
func (p *Package) Scripts() map[string]string {
	scripts := map[string]string{}
	for name, data := range p.metas {
		if script, ok := strings.CutPrefix(name, "scripts/"); ok {
			scripts[script] = string(data)
		}
	}
	return scripts
}

// Find finds a path in a layout.
func Find(entries []Entry, path string) (Entry, bool) {
	i := sort.Search(len(entries), func(i int) bool { return entries[i].Path >= path })
	if i < len(entries) && entries[i].Path == path {
		return entries[i], true
	}
	return Entry{}, false
}
