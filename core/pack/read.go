package pack

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"sort"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/layout"
)

// DamagedError is a file that is no package, or not any more.
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

	layout func() ([]Entry, error)

	file   *os.File
	frames []frame
	starts []int64 // where each frame begins in the file
	metas  map[string][]byte
}

// Open reads a package's seek table and metadata; the payload is not touched.
// The caller closes it. The error is a *DamagedError where the file itself is
// at fault.
func Open(path string) (*Package, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	p := &Package{Path: path, file: f}
	if err := p.open(); err != nil {
		f.Close()
		return nil, &DamagedError{path, err}
	}
	return p, nil
}

// Close closes the file.
func (p *Package) Close() error { return p.file.Close() }

func (p *Package) open() error {
	info, err := p.file.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return errors.New("it is not a plain file")
	}
	p.Size = info.Size()
	if p.frames, err = readSeekTable(p.file, p.Size); err != nil {
		return err
	}
	p.starts = make([]int64, len(p.frames))
	for i := 1; i < len(p.frames); i++ {
		p.starts[i] = p.starts[i-1] + int64(p.frames[i-1].packed)
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
	return zstd.NewReader(nil, zstd.WithDecoderConcurrency(runtime.GOMAXPROCS(0)), zstd.WithDecoderMaxMemory(maxMeta+1), zstd.WithDecoderMaxWindow(maxMeta))
}

// frame reads and decompresses one frame.
func (p *Package) frame(dec *zstd.Decoder, i int) ([]byte, error) {
	packed := make([]byte, p.frames[i].packed)
	if _, err := p.file.ReadAt(packed, p.starts[i]); err != nil {
		return nil, err
	}
	return decodeFrame(dec, packed, p.frames[i].size)
}

// readMeta reads the first frame's files and checks them against one another.
func (p *Package) readMeta(head []byte) error {
	p.metas = map[string][]byte{}
	r := bytes.NewReader(head)
	for tr := tar.NewReader(r); ; {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("metadata: %w", err)
		}
		name, ok := strings.CutPrefix(h.Name, "meta/")
		if !ok || h.Typeflag != tar.TypeReg || p.metas[name] != nil || len(p.metas) >= maxMetas {
			return fmt.Errorf("metadata: %q does not belong there", h.Name)
		}
		data, err := io.ReadAll(tr)
		if err != nil {
			return fmt.Errorf("metadata: %s: %w", h.Name, err)
		}
		p.metas[name] = data
	}
	own := p.metas["package.json"]
	if own == nil {
		return errors.New("metadata: package.json is missing")
	}
	if err := strict(own, &p.Facts); err != nil {
		return fmt.Errorf("package.json: %w", err)
	}
	if err := p.Facts.check(); err != nil {
		return fmt.Errorf("package.json: %w", err)
	}
	if len(p.Facts.Meta) != len(p.metas)-1 {
		return fmt.Errorf("package.json names %d other metadata files, and there are %d", len(p.Facts.Meta), len(p.metas)-1)
	}
	for name, want := range p.Facts.Meta {
		sum := sha256.Sum256(p.metas[name])
		if hex.EncodeToString(sum[:]) != want {
			return fmt.Errorf("%s is not the one that package.json names", name)
		}
	}
	if err := strict(p.metas["build.json"], &p.Build); err != nil {
		return fmt.Errorf("build.json: %w", err)
	}
	p.layout = sync.OnceValues(p.readLayout)
	return nil
}

// readLayout reads and checks the layout, which is most of the metadata: those
// who ask only for facts do without it.
func (p *Package) readLayout() ([]Entry, error) {
	damaged := func(format string, args ...any) ([]Entry, error) {
		return nil, &DamagedError{p.Path, fmt.Errorf("layout.jsonl"+format, args...)}
	}
	entries := make([]Entry, 0, p.Facts.Paths)
	for line := range bytes.Lines(p.metas["layout.jsonl"]) {
		var e Entry
		if err := strict(line, &e); err != nil {
			return damaged(", line %d: %w", len(entries)+1, err)
		}
		if entries = append(entries, e); len(entries) > p.Facts.Paths {
			break
		}
	}
	if len(entries) != p.Facts.Paths {
		return damaged(" does not have the %d lines that package.json says", p.Facts.Paths)
	}
	if err := checkLayout(entries); err != nil {
		return damaged(": %w", err)
	}
	return entries, nil
}

// Layout returns what the package says of each of its paths, in order. The
// error is a *DamagedError.
func (p *Package) Layout() ([]Entry, error) { return p.layout() }

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
// "scripts/after-install".
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

// WriteFile writes the contents of one file to w, reading no more frames than
// hold it. The digest is checked; on an error some of it may have been
// written.
func (p *Package) WriteFile(w io.Writer, e Entry) error {
	dec, err := newDecoder()
	if err != nil {
		return err
	}
	defer dec.Close()
	sum := sha256.New()
	w = io.MultiWriter(w, sum)
	at, left := e.At, e.Size
	for i := 1; i < len(p.frames) && left > 0; i++ {
		size := int64(p.frames[i].size)
		if at >= size {
			at -= size
			continue
		}
		data, err := p.frame(dec, i)
		if err != nil {
			return &DamagedError{p.Path, err}
		}
		n := min(size-at, left)
		if _, err := w.Write(data[at : at+n]); err != nil {
			return err
		}
		at, left = 0, left-n
	}
	if left > 0 || hex.EncodeToString(sum.Sum(nil)) != e.SHA256 {
		return &DamagedError{p.Path, fmt.Errorf("%s is not what the layout says", e.Path)}
	}
	return nil
}

// Walk reads the whole payload in order and calls visit for each path; the
// reader, for files that are not hard links, need not be read to its end.
// Every header is compared with the layout and every digest with the contents:
// when Walk returns nil, all of the package is what it says.
func (p *Package) Walk(ctx context.Context, visit func(Entry, io.Reader) error) error {
	entries, err := p.Layout()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stream := p.payload(ctx)
	defer stream.Close()
	tr := tar.NewReader(stream)
	damaged := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &DamagedError{p.Path, err}
	}
	sum := sha256.New()
	for _, e := range entries {
		h, err := tr.Next()
		if err != nil {
			return damaged(fmt.Errorf("payload: at %s: %w", e.Path, errEnd(err)))
		}
		if err := sameHeader(h, e); err != nil {
			return damaged(err)
		}
		if h.Typeflag != tar.TypeReg {
			if err := visit(e, nil); err != nil {
				return err
			}
			continue
		}
		if at := stream.passed; at != e.At {
			return damaged(fmt.Errorf("%s begins at byte %d of the payload, and the layout says %d", e.Path, at, e.At))
		}
		sum.Reset()
		body := &failing{r: io.TeeReader(tr, sum)}
		if err := visit(e, body); err != nil {
			if body.err != nil {
				return damaged(fmt.Errorf("%s: %w", e.Path, errEnd(body.err)))
			}
			return err
		}
		if _, err := io.Copy(io.Discard, body); err != nil {
			return damaged(fmt.Errorf("%s: %w", e.Path, errEnd(err)))
		}
		if hex.EncodeToString(sum.Sum(nil)) != e.SHA256 {
			return damaged(fmt.Errorf("%s: its contents do not have the digest that the layout says", e.Path))
		}
	}
	if _, err := tr.Next(); !errors.Is(err, io.EOF) {
		return damaged(errors.New("the payload goes on after the last path of the layout"))
	}
	rest, err := io.ReadAll(io.LimitReader(stream, 64<<10))
	if err != nil || len(bytes.Trim(rest, "\x00")) > 0 || len(rest) == 64<<10 {
		return damaged(errors.New("something follows the payload"))
	}
	return nil
}

// failing remembers an error, so that it can be told from the visitor's.
type failing struct {
	r   io.Reader
	err error
}

func (f *failing) Read(b []byte) (int, error) {
	n, err := f.r.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		f.err = err
	}
	return n, err
}

func errEnd(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return errors.New("the payload ends too early")
	}
	return err
}

func sameHeader(h *tar.Header, e Entry) error {
	want := header(e, layout.ParseMode(e.Mode), h.ModTime)
	switch {
	case h.Name != want.Name:
		return fmt.Errorf("payload: %q stands where the layout has %q", h.Name, want.Name)
	case h.Typeflag != want.Typeflag || h.Linkname != want.Linkname || h.Size != want.Size ||
		h.Mode != want.Mode || h.Uname != want.Uname || h.Gname != want.Gname || h.Uid != 0 || h.Gid != 0:
		return fmt.Errorf("payload: %s is not of the type, size, mode, owner or target that the layout says", e.Path)
	}
	return nil
}

// Verify reads the whole package and checks all of it.
func (p *Package) Verify(ctx context.Context) error {
	return p.Walk(ctx, func(Entry, io.Reader) error { return nil })
}

// payloadReader is the decompressed payload. Frames are decompressed ahead on
// all cores.
type payloadReader struct {
	next   chan chan decoded
	cancel context.CancelFunc
	cur    []byte
	passed int64 // bytes handed out
}

type decoded struct {
	data []byte
	err  error
}

func (p *Package) payload(ctx context.Context) *payloadReader {
	ctx, cancel := context.WithCancel(ctx)
	r := &payloadReader{next: make(chan chan decoded, runtime.GOMAXPROCS(0)), cancel: cancel}
	go func() {
		defer close(r.next)
		dec, err := newDecoder()
		if err != nil {
			return
		}
		for i := 1; i < len(p.frames); i++ {
			result := make(chan decoded, 1)
			select {
			case r.next <- result:
			case <-ctx.Done():
				return
			}
			go func() {
				data, err := p.frame(dec, i)
				result <- decoded{data, err}
			}()
		}
	}()
	return r
}

func (r *payloadReader) Read(b []byte) (int, error) {
	for len(r.cur) == 0 {
		result, ok := <-r.next
		if !ok {
			return 0, io.EOF
		}
		d := <-result
		if d.err != nil {
			return 0, d.err
		}
		r.cur = d.data
	}
	n := copy(b, r.cur)
	r.cur = r.cur[n:]
	r.passed += int64(n)
	return n, nil
}

func (r *payloadReader) Close() error {
	r.cancel()
	return nil
}
