package ell

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"os"
	"sync"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"ellwand.example/core/fact"
	"ellwand.example/core/staging"
)

// Bounds on what is read ahead of the one goroutine that writes the archive.
const (
	maxHeld   = 2 << 20  // a file above this is streamed
	maxBuffer = 24 << 20 // of all files that are held
	maxAhead  = 256      // files
)

// buffers are for files that are held, by the power of two of their size.
var buffers [22]sync.Pool

// buffer returns room for a file that is held, which goes back with giveBack.
func buffer(size int64) []byte {
	class := bits.Len64(uint64(max(size, 4096) - 1))
	if b, ok := buffers[class].Get().(*[]byte); ok {
		return (*b)[:size]
	}
	return make([]byte, size, 1<<class)
}

func giveBack(b []byte) {
	if cap(b) > 0 {
		buffers[bits.Len64(uint64(cap(b)-1))].Put(&b)
	}
}

// content is a file that was read ahead: what is in it, with its digest. A
// file that is too large for that has only its size.
type content struct {
	data []byte
	size int64
	sum  [sha256.Size]byte
	err  error
}

// readahead reads files on all cores in advance.
type readahead struct {
	files  chan chan content // in the order of the claims; of those that are read alone
	memory *semaphore.Weighted
	group  *errgroup.Group
}

// startReadahead begins to read all claims that are files and no hard links.
func startReadahead(ctx context.Context, spec Spec, same []int) *readahead {
	a := &readahead{files: make(chan chan content, maxAhead), memory: semaphore.NewWeighted(maxBuffer)}
	a.group, ctx = errgroup.WithContext(ctx)
	a.group.Go(func() error {
		var workers errgroup.Group
		workers.SetLimit(cores())
		defer workers.Wait()
		for i, c := range spec.Claims {
			if c.Type != staging.File || same[i] >= 0 {
				continue
			}
			result := make(chan content, 1)
			select {
			case a.files <- result:
			case <-ctx.Done():
				return ctx.Err()
			}
			size, err := claimSize(c)
			if err != nil || size > maxHeld {
				result <- content{size: size, err: err}
				continue
			}
			// The space is given back by take, or not needed any more.
			if err := a.memory.Acquire(ctx, size); err != nil {
				return err
			}
			workers.Go(func() error {
				result <- hold(spec, i, size)
				return nil
			})
		}
		return nil
	})
	return a
}

// claimSize is what a file's size is expected to be.
func claimSize(c staging.Claim) (int64, error) {
	if c.Size > 0 {
		return c.Size, nil
	}
	info, err := os.Stat(c.Disk) // a file beside the recipe, or an empty one
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// hold reads one file.
func hold(spec Spec, i int, size int64) content {
	c := content{size: size, data: buffer(size)}
	f, err := os.Open(spec.Claims[i].Disk)
	if err != nil {
		c.err = err
		return c
	}
	defer f.Close()
	if _, err := io.ReadFull(f, c.data); err != nil {
		c.err = changed(f.Name(), err)
		return c
	}
	if n, _ := f.Read(make([]byte, 1)); n != 0 {
		c.err = changed(f.Name(), errors.New("it grew"))
		return c
	}
	c.sum = sha256.Sum256(c.data)
	if spec.Look != nil {
		c.err = spec.Look(i, bytes.NewReader(c.data), size)
	}
	return c
}

func changed(name string, err error) error {
	return fmt.Errorf("%s changed while it was packed: %w", name, err)
}

// take waits for the next claim that is read. The caller calls release when
// it is used.
func (a *readahead) take(ctx context.Context) (content, error) {
	select {
	case result := <-a.files:
		select {
		case c := <-result:
			return c, c.err
		case <-ctx.Done():
		}
	case <-ctx.Done():
	}
	return content{}, ctx.Err()
}

func (a *readahead) release(c content) {
	if c.size <= maxHeld {
		giveBack(c.data)
		a.memory.Release(c.size)
	}
}

// wait ends when nothing is read any more.
func (a *readahead) wait() { a.group.Wait() }

// file writes one file's entry, or the link to an earlier one with the same
// contents.
func (p *payloadWriter) file(ctx context.Context, i int, e *Entry, a *readahead) error {
	c, err := a.take(ctx)
	if err != nil {
		return err
	}
	defer a.release(c)
	e.Size = c.size
	if c.size > maxHeld {
		return p.stream(ctx, i, e)
	}
	if p.copyOf(e, c.sum) {
		p.task.Advance(c.size)
		return p.tar.WriteHeader(header(*e))
	}
	if err := p.beforeFile(c.sum, c.size); err != nil {
		return err
	}
	if err := p.begin(e, c.sum); err != nil {
		return err
	}
	_, err = p.tar.Write(c.data)
	p.task.Advance(c.size)
	return err
}

// stream writes a file that is too large to be held. Its digest is taken
// beside; only where another has the same size, it is taken before.
func (p *payloadWriter) stream(ctx context.Context, i int, e *Entry) error {
	f, err := os.Open(p.spec.Claims[i].Disk)
	if err != nil {
		return err
	}
	defer f.Close()
	if p.sizes[e.Size] {
		sum := sha256.New()
		if _, err := io.Copy(sum, f); err != nil {
			return err
		}
		if p.copyOf(e, [sha256.Size]byte(sum.Sum(nil))) {
			p.task.Advance(e.Size)
			return p.look(i, f, e.Size, p.tar.WriteHeader(header(*e)))
		}
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return err
		}
	}
	p.sizes[e.Size] = true
	if err := p.beforeFile([sha256.Size]byte{}, e.Size); err != nil {
		return err
	}
	if err := p.tar.WriteHeader(header(*e)); err != nil {
		return err
	}
	e.At = p.framer.total
	if err := p.framer.insideFile(true); err != nil {
		return err
	}
	sum, n, err := p.pour(ctx, f, e.Size)
	if err != nil {
		return err
	}
	if n == e.Size {
		if err := p.tar.Flush(); err != nil {
			return err
		}
		if err := p.framer.insideFile(false); err != nil {
			return err
		}
	}
	if n != e.Size {
		return changed(f.Name(), io.ErrUnexpectedEOF)
	}
	e.SHA256 = hex.EncodeToString(sum[:])
	p.remember(e, sum)
	return p.look(i, f, e.Size, nil)
}

// pourSize is how much of a stream is read at once.
const pourSize = 256 << 10

// pour writes a stream of an expected size, and takes its digest on another
// core.
func (p *payloadWriter) pour(ctx context.Context, f io.Reader, size int64) (sum [sha256.Size]byte, n int64, err error) {
	if p.free == nil {
		p.free = make(chan []byte, 4)
		for range cap(p.free) {
			p.free <- make([]byte, pourSize)
		}
	}
	free, full := p.free, make(chan []byte, cap(p.free))
	digest := sha256.New()
	var g errgroup.Group
	g.Go(func() error {
		for b := range full {
			digest.Write(b)
			free <- b[:pourSize]
		}
		return nil
	})
	limited := io.LimitReader(f, size+1) // one more byte shows that it grew
	for err == nil && ctx.Err() == nil {
		b := <-free
		var k int
		k, err = io.ReadFull(limited, b)
		if n += int64(k); n > size {
			free <- b
			break
		}
		if _, errWrite := p.tar.Write(b[:k]); errWrite != nil {
			err = errWrite
		}
		p.task.Advance(int64(k))
		full <- b[:k]
	}
	close(full)
	g.Wait()
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	if err == nil {
		err = ctx.Err()
	}
	return [sha256.Size]byte(digest.Sum(nil)), n, err
}

// beforeFile ends the entry before, and cuts before the next one if that is the
// place for it.
func (p *payloadWriter) beforeFile(sum [sha256.Size]byte, size int64) error {
	if err := p.tar.Flush(); err != nil {
		return err
	}
	return p.framer.beforeFile(sum, size)
}

// begin writes the header of a file whose contents follow.
func (p *payloadWriter) begin(e *Entry, sum [sha256.Size]byte) error {
	if err := p.tar.WriteHeader(header(*e)); err != nil {
		return err
	}
	e.At, e.SHA256 = p.framer.total, hex.EncodeToString(sum[:])
	p.remember(e, sum)
	return nil
}

func (p *payloadWriter) look(i int, f io.ReaderAt, size int64, err error) error {
	if err != nil || p.spec.Look == nil {
		return err
	}
	return p.spec.Look(i, f, size)
}

// shareable reports whether a file's bytes may stand for those of another: where
// a plain tar unpacks the two as hard links, a change to one is a change to
// both, which must not happen to files that are made to be changed.
func shareable(e *Entry) bool {
	return e.Size > 0 && e.Kind != fact.KindConfig && e.Kind != fact.KindState && len(e.Xattrs) == 0
}

// copyOf makes e a copy of an earlier file with the same contents and the same
// word on it, if there is one.
func (p *payloadWriter) copyOf(e *Entry, sum [sha256.Size]byte) bool {
	at, ok := p.first[identity{sum, e.Mode, e.Owner, e.Group}]
	if !ok || !shareable(e) {
		return false
	}
	e.Copy, e.At, e.SHA256 = at.path, at.at, hex.EncodeToString(sum[:])
	return true
}

func (p *payloadWriter) remember(e *Entry, sum [sha256.Size]byte) {
	key := identity{sum, e.Mode, e.Owner, e.Group}
	if _, there := p.first[key]; !there && shareable(e) {
		p.first[key] = place{e.Path, e.At}
	}
}
