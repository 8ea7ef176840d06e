package ell

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"
)

// A visitor is shown a file that has contents of its own, which it need not
// read to their end.
type visitor func(Entry, io.Reader) error

// WriteFile writes the contents of one file to w, reading no more frames than
// hold it. The digest is checked; on an error some of it may have been
// written.
func (p *Package) WriteFile(ctx context.Context, w io.Writer, e Entry) error {
	return p.some(ctx, []Entry{e}, p.inTurn(func(_ Entry, r io.Reader) error {
		_, err := io.Copy(w, r)
		return err
	}))
}

// Walk reads the whole payload in order and calls visit for each file that has
// contents of its own: not for hard links and copies. Every
// header is compared with the layout and every digest with the contents: when
// Walk returns nil, all of the package is what it says.
func (p *Package) Walk(ctx context.Context, visit func(Entry, io.Reader) error) error {
	return p.whole(ctx, p.inTurn(visit))
}

// Verify reads the whole package and checks all of it, also the digests of its
// frames.
func (p *Package) Verify(ctx context.Context) error {
	d := p.atOnce(func(Entry, io.Reader) error { return nil })
	d.frames = true
	return errors.Join(p.whole(ctx, d), d.wait())
}

// Files reads chosen files that have contents of their own, and calls visit for
// each once its digest is checked, in no order and for several at once. Large files
// are checked while they are read: if that fails, the error comes after the visit.
// No more of the package is read than holds the files.
func (p *Package) Files(ctx context.Context, files []Entry, visit func(Entry, io.Reader) error) error {
	d := p.atOnce(visit)
	return errors.Join(p.some(ctx, files, d), d.wait())
}

// Look reads the whole payload and calls visit for the files that Walk does, in
// no order and for several at once. Headers are compared with the layout, and
// damage shows by the checksums of the frames, but no digest is computed.
func (p *Package) Look(ctx context.Context, visit func(Entry, io.Reader) error) error {
	d := p.atOnce(visit)
	d.unchecked = true
	return errors.Join(p.whole(ctx, d), d.wait())
}

// whole reads the whole payload as a tar archive.
func (p *Package) whole(ctx context.Context, d *delivery) error {
	entries, err := p.Layout()
	if err != nil {
		return err
	}
	var digests []FrameDigest
	if d.frames {
		if digests, err = p.Frames(); err != nil {
			return err
		}
	}
	stream := p.payload(ctx, nil, digests)
	defer stream.Close()
	tr := tar.NewReader(stream)
	damaged := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &DamagedError{p.Path, err}
	}
	for _, e := range entries {
		h, err := tr.Next()
		if err != nil {
			return damaged(fmt.Errorf("payload: at %s: %w", e.Path, errEnd(err)))
		}
		if err := sameHeader(h, e); err != nil {
			return damaged(err)
		}
		if err := d.before(e); err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if at := stream.passed; at != e.At {
			return damaged(fmt.Errorf("%s begins at byte %d of the payload, and the layout says %d", e.Path, at, e.At))
		}
		if err := d.file(ctx, e, tr); err != nil {
			return err
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

// some reads chosen files, and no more frames than hold them.
func (p *Package) some(ctx context.Context, files []Entry, d *delivery) error {
	files = slices.SortedFunc(slices.Values(files), func(a, b Entry) int { return cmp.Compare(a.At, b.At) })
	wanted := make([]bool, len(p.frames))
	ends := make([]int64, len(p.frames)) // of frames, in the payload
	var end int64
	for i := metaFrameCount; i < len(p.frames); i++ {
		end += int64(p.frames[i].Size)
		ends[i] = end
	}
	for _, e := range files {
		if e.Size > end || e.At > end-e.Size {
			return &DamagedError{p.Path, fmt.Errorf("%s lies behind the end of the payload", e.Path)}
		}
		if e.Size == 0 {
			continue
		}
		first, _ := slices.BinarySearch(ends[metaFrameCount:], e.At+1)
		for i := first + metaFrameCount; i < len(p.frames) && ends[i]-int64(p.frames[i].Size) < e.At+e.Size; i++ {
			wanted[i] = true
		}
	}
	stream := p.payload(ctx, wanted, nil)
	defer stream.Close()
	for _, e := range files {
		if e.Size > 0 {
			if err := stream.seek(e.At); err != nil {
				return &DamagedError{p.Path, err}
			}
		}
		if err := d.file(ctx, e, io.LimitReader(stream, e.Size)); err != nil {
			return err
		}
	}
	return nil
}

// delivery hands files to a visitor after, or for large ones while, their
// digests are checked.
type delivery struct {
	p      *Package
	before func(Entry) error // is called for every path, in order
	visit  visitor           // is called for every file that has contents
	group  *errgroup.Group   // nil if one is visited after the other
	// unchecked leaves digests alone; frames also compares those of frames.
	unchecked, frames bool
	ctx               context.Context
	memory            *semaphore.Weighted
}

func (p *Package) inTurn(v visitor) *delivery {
	return &delivery{p: p, visit: v, before: func(Entry) error { return nil }}
}

// atOnce visits files up to maxHeld in several goroutines at once. The caller
// waits for them.
func (p *Package) atOnce(v visitor) *delivery {
	d := p.inTurn(v)
	d.memory = semaphore.NewWeighted(maxBuffer)
	d.group, d.ctx = errgroup.WithContext(context.Background())
	d.group.SetLimit(cores() + 1)
	return d
}

func (d *delivery) wait() error {
	if d.group == nil {
		return nil
	}
	return d.group.Wait()
}

// file delivers one file, whose contents r holds from its start on.
func (d *delivery) file(ctx context.Context, e Entry, r io.Reader) error {
	if d.group == nil || e.Size > maxHeld {
		return d.stream(ctx, e, r)
	}
	if d.ctx.Err() != nil {
		return context.Cause(d.ctx)
	}
	if err := d.memory.Acquire(ctx, e.Size); err != nil {
		return err
	}
	data := buffer(e.Size)
	if _, err := io.ReadFull(r, data); err != nil {
		d.memory.Release(e.Size)
		return d.damaged(ctx, fmt.Errorf("%s: %w", e.Path, errEnd(err)))
	}
	d.group.Go(func() error {
		defer d.memory.Release(e.Size)
		defer giveBack(data)
		if !d.unchecked {
			sum := sha256.Sum256(data)
			if err := d.compare(e, sum[:]); err != nil {
				return err
			}
		}
		return d.visit(e, bytes.NewReader(data))
	})
	return nil
}

func (d *delivery) stream(ctx context.Context, e Entry, r io.Reader) error {
	sum := sha256.New()
	body := &failing{r: io.TeeReader(r, sum)}
	if d.unchecked {
		body.r = r
	}
	if err := d.visit(e, body); err != nil {
		if body.err != nil {
			return d.damaged(ctx, fmt.Errorf("%s: %w", e.Path, errEnd(body.err)))
		}
		return err
	}
	if _, err := io.Copy(io.Discard, body); err != nil {
		return d.damaged(ctx, fmt.Errorf("%s: %w", e.Path, errEnd(err)))
	}
	if d.unchecked {
		return nil
	}
	return d.compare(e, sum.Sum(nil))
}

func (d *delivery) compare(e Entry, sum []byte) error {
	if hex.EncodeToString(sum) != e.SHA256 {
		return &DamagedError{d.p.Path, fmt.Errorf("%s: its contents do not have the digest that the layout says", e.Path)}
	}
	return nil
}

func (d *delivery) damaged(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return &DamagedError{d.p.Path, err}
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
	want := header(e)
	switch {
	case h.Name != want.Name:
		return fmt.Errorf("payload: %q is where the layout has %q", h.Name, want.Name)
	case h.Typeflag != want.Typeflag || h.Linkname != want.Linkname || h.Size != want.Size ||
		h.Mode != want.Mode || h.Uname != want.Uname || h.Gname != want.Gname || h.Uid != 0 || h.Gid != 0 || !sameXattrs(h, want):
		return fmt.Errorf("payload: %s is not of the type, size, mode, owner, target or attributes that the layout says", e.Path)
	}
	return nil
}

func sameXattrs(a, b *tar.Header) bool {
	only := func(h *tar.Header) map[string]string {
		out := maps.Clone(h.PAXRecords)
		maps.DeleteFunc(out, func(name, _ string) bool { return !strings.HasPrefix(name, xattrRecord) })
		return out
	}
	return maps.Equal(only(a), only(b))
}

// payloadReader is the decompressed payload, or the wanted frames of it.
// Frames are decompressed in advance, on all cores.
type payloadReader struct {
	next   chan chan decoded
	cancel context.CancelFunc
	done   chan struct{} // nothing reads the file any more
	start  int64         // of whole, in the payload
	whole  []byte        // the frame that is being read
	passed int64         // where the reader is in the payload
}

type decoded struct {
	start int64
	data  []byte
	err   error
}

// payload begins to read; wanted tells which frames, nil for all. Frames are
// compared with digests, if these are given.
func (p *Package) payload(ctx context.Context, wanted []bool, digests []FrameDigest) *payloadReader {
	ctx, cancel := context.WithCancel(ctx)
	r := &payloadReader{next: make(chan chan decoded, cores()), cancel: cancel, done: make(chan struct{})}
	go func() {
		defer close(r.done)
		var workers sync.WaitGroup
		defer workers.Wait()
		defer close(r.next)
		dec, err := newDecoder()
		if err != nil {
			failed := make(chan decoded, 1)
			failed <- decoded{err: err}
			select {
			case r.next <- failed:
			case <-ctx.Done():
			}
			return
		}
		var start int64
		for i := metaFrameCount; i < len(p.frames); i++ {
			at := start
			start += int64(p.frames[i].Size)
			if wanted != nil && !wanted[i] {
				continue
			}
			result := make(chan decoded, 1)
			select {
			case r.next <- result:
			case <-ctx.Done():
				return
			}
			workers.Go(func() {
				var digest FrameDigest
				if digests != nil {
					digest = digests[i-metaFrameCount]
				}
				data, err := p.checkedFrame(dec, i, digest)
				result <- decoded{at, data, err}
			})
		}
	}()
	return r
}

func (r *payloadReader) Read(b []byte) (int, error) {
	for r.passed >= r.start+int64(len(r.whole)) {
		if err := r.advance(); err != nil {
			return 0, err
		}
	}
	n := copy(b, r.whole[r.passed-r.start:])
	r.passed += int64(n)
	return n, nil
}

// advance goes to the next frame.
func (r *payloadReader) advance() error {
	result, ok := <-r.next
	if !ok {
		return io.EOF
	}
	d := <-result
	r.start, r.whole = d.start, d.data
	return d.err
}

// seek goes to a place that is not before the frame being read.
func (r *payloadReader) seek(at int64) error {
	for at >= r.start+int64(len(r.whole)) {
		if err := r.advance(); err != nil {
			return errEnd(err)
		}
	}
	r.passed = at
	return nil
}

// Close waits until the file is not read any more.
func (r *payloadReader) Close() error {
	r.cancel()
	<-r.done
	return nil
}

// Contents reads chosen files of the layout, in the order in which they lie in
// the payload, and no more of the package than holds them. Digests are
// checked as far as the visitor has not failed.
func (p *Package) Contents(ctx context.Context, chosen []Entry, visit func(Entry, io.Reader) error) error {
	return p.some(ctx, chosen, p.inTurn(visit))
}
