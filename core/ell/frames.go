package ell

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"

	"github.com/cespare/xxhash/v2"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"ellwand.example/core/ell/seekable"
	"ellwand.example/core/fact"
)

var levels = map[string]zstd.EncoderLevel{
	fact.CompressionFast: zstd.SpeedFastest, "": zstd.SpeedDefault, fact.CompressionNormal: zstd.SpeedDefault, fact.CompressionSmall: zstd.SpeedBetterCompression, fact.CompressionSmallest: zstd.SpeedBestCompression,
}

// cores is how many frames are worked on at once. Each takes memory, so that
// more than a few cores are not worth what they cost.
func cores() int { return min(runtime.GOMAXPROCS(0), 8) }

// encoders are shared by all packages: each needs tables that take longer to
// make than a small package takes to compress.
var encoders sync.Map // compression → *zstd.Encoder

func encoder(compression string) (*zstd.Encoder, error) {
	if enc, ok := encoders.Load(compression); ok {
		return enc.(*zstd.Encoder), nil
	}
	enc, err := newEncoder(compression)
	if err != nil {
		return nil, err
	}
	kept, _ := encoders.LoadOrStore(compression, enc)
	return kept.(*zstd.Encoder), nil
}

func newEncoder(compression string) (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderLevel(levels[compression]), zstd.WithEncoderCRC(true), zstd.WithLowerEncoderMem(true), zstd.WithEncoderConcurrency(cores()))
}

// framer compresses frames of what is written to it on all cores, in order.
// Memory is bounded by the number of cores.
type framer struct {
	enc   *zstd.Encoder
	probe *zstd.Encoder
	known *KnownFrames
	group *errgroup.Group
	ctx   context.Context
	order chan chan compressed
	slots chan struct{}
	cur   []byte
	total int64

	inside bool   // a large file, which is cut where its contents say so
	hash   uint64 // of its last bytes

	frames  []seekable.Frame // that were written; owned by the writing goroutine until close, like digests
	digests []FrameDigest
}

// compressed is a frame on its way to the file, with the buffer it lies in.
type compressed struct {
	frame, buffer []byte
	size          int // decompressed
	digest        FrameDigest
}

func newFramer(ctx context.Context, w io.Writer, compression string, known *KnownFrames) (*framer, error) {
	enc, err := encoder(compression)
	if err != nil {
		return nil, err
	}
	probe, err := encoder(fact.CompressionFast)
	if err != nil {
		return nil, err
	}
	f := &framer{enc: enc, probe: probe, known: known}
	f.cur = frameBuffer()
	f.group, f.ctx = errgroup.WithContext(ctx)
	f.slots = make(chan struct{}, cores()+1)
	f.order = make(chan chan compressed, cap(f.slots))
	f.group.Go(func() error {
		for result := range f.order {
			c := <-result
			if _, err := w.Write(c.frame); err != nil {
				return err
			}
			f.frames = append(f.frames, seekable.Frame{Packed: uint32(len(c.frame)), Size: uint32(c.size)})
			f.digests = append(f.digests, c.digest)
			putBuffer(c.buffer)
			<-f.slots
		}
		return nil
	})
	return f, nil
}

// spare are buffers of FrameSize bytes. All packages share them: most are much
// smaller than one buffer.
var spare = sync.Pool{New: func() any { b := make([]byte, 0, FrameSize); return &b }}

func frameBuffer() []byte { return (*spare.Get().(*[]byte))[:0] }

func putBuffer(b []byte) {
	if cap(b) > 0 {
		spare.Put(&b)
	}
}

func (f *framer) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		k := min(len(p), FrameSize-len(f.cur))
		cut := false
		if f.inside {
			// What is before the window of the first byte that may be followed by a
			// cut does not matter.
			skip := min(k, max(0, minFrame-hashWindow-len(f.cur)))
			var more int
			if f.hash, more, cut = roll(f.hash, p[skip:k]); cut {
				k = skip + more
				cut = len(f.cur)+k >= minFrame
			}
		}
		f.cur = append(f.cur, p[:k]...)
		p = p[k:]
		if cut || len(f.cur) == FrameSize {
			if err := f.flush(); err != nil {
				return 0, err
			}
		}
	}
	f.total += int64(n)
	return n, nil
}

// beforeFile cuts before a file of some size, if that is the place for it. The
// digest of a large file does not matter.
func (f *framer) beforeFile(sum [sha256.Size]byte, size int64) error {
	cut := len(f.cur) >= minFrame && cutBefore(sum, size) || int64(len(f.cur))+size+headerRoom > FrameSize
	if size > largeFile {
		cut = true
	}
	return f.cut(cut)
}

// insideFile says that a large file's contents come next, or that they ended.
func (f *framer) insideFile(inside bool) error {
	f.inside, f.hash = inside, 0
	return f.cut(!inside)
}

func (f *framer) cut(wanted bool) error {
	if !wanted || len(f.cur) < minNeighbors {
		return nil
	}
	return f.flush()
}

func (f *framer) flush() error {
	select {
	case f.slots <- struct{}{}:
	case <-f.ctx.Done():
		return context.Cause(f.ctx)
	}
	chunk := f.cur
	f.cur = frameBuffer()
	result := make(chan compressed, 1)
	f.order <- result
	go func() {
		out := frameBuffer()
		contents := contentsDigest(chunk)
		if packed := f.known.find(contents, chunk); packed != nil {
			out = append(out, packed...)
		} else if f.dense(chunk) {
			out = storedFrame(out, chunk)
		} else {
			out = f.enc.EncodeAll(chunk, out)
		}
		size := len(chunk)
		putBuffer(chunk)
		result <- compressed{out, out, size, FrameDigest{Contents: contents, SHA256: fact.SHA256(out)}}
	}()
	return nil
}

// contentsDigest is the XXH64 of a frame's contents, in hexadecimal. Zstandard
// frames end in the lower half of it.
func contentsDigest(chunk []byte) string { return fmt.Sprintf("%016x", xxhash.Sum64(chunk)) }

// Samples that report whether a frame is worth compressing.
const (
	samples    = 4
	sampleSize = 16 << 10
)

// dense reports whether a chunk is data that does not compress, such as pictures
// and archives, from a few places of it.
func (f *framer) dense(chunk []byte) bool {
	if len(chunk) < 2*samples*sampleSize {
		return false
	}
	var out []byte
	n := 0
	for i := range samples {
		at := i * (len(chunk) - sampleSize) / (samples - 1)
		out = f.probe.EncodeAll(chunk[at:][:sampleSize], out[:0])
		n += len(out)
	}
	return n >= samples*sampleSize
}

// storedFrame appends a frame with uncompressed data: raw blocks (RFC 8878,
// 3.1.1.2) and the checksum of every other frame.
func storedFrame(out, data []byte) []byte {
	const (
		magic      = 0xFD2FB528
		descriptor = 0b10_1_0_0_1_00 // size in 4 bytes, single segment, checksum
		maxBlock   = 128 << 10
	)
	out = binary.LittleEndian.AppendUint32(out, magic)
	out = append(out, descriptor)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(data)))
	sum := xxhash.Sum64(data)
	for {
		n := min(len(data), maxBlock)
		header := uint32(n) << 3 // block type 0, raw
		if n == len(data) {
			header |= 1 // the last one
		}
		out = append(out, byte(header), byte(header>>8), byte(header>>16))
		out = append(out, data[:n]...)
		if data = data[n:]; len(data) == 0 {
			return binary.LittleEndian.AppendUint32(out, uint32(sum))
		}
	}
}

// close flushes and waits; the frames are complete after it.
func (f *framer) close() error {
	var err error
	if len(f.cur) > 0 {
		err = f.flush()
	}
	putBuffer(f.cur)
	f.cur = nil
	close(f.order)
	return errors.Join(err, f.group.Wait())
}

// readSeekTable reads the table at the end of a package of the given size, and
// checks that its frames are of sizes that are read.
func readSeekTable(r io.ReaderAt, size int64) ([]seekable.Frame, error) {
	frames, err := seekable.Read(r, size, maxFrames)
	if errors.Is(err, seekable.ErrNone) {
		return nil, errors.New("it does not end in a seek table: it is cut short, or no package")
	}
	for i, f := range frames {
		limit := uint32(maxFrame)
		if i == 0 {
			limit = maxMeta
		}
		if f.Size > limit || f.Packed > limit {
			return nil, fmt.Errorf("frame %d claims %d bytes, and %d is the most that is read", i, f.Size, limit)
		}
	}
	return frames, err
}

// decodeFrame decompresses one frame, which must be exactly what the table
// says.
func decodeFrame(dec *zstd.Decoder, packed []byte, want uint32) ([]byte, error) {
	var h zstd.Header
	if err := h.Decode(packed); err != nil {
		return nil, err
	}
	if h.Skippable || h.HasFCS && h.FrameContentSize != uint64(want) {
		return nil, errors.New("a frame is not what the seek table says")
	}
	// One byte more than expected is enough to see that there is too much.
	out, err := dec.DecodeAll(packed, make([]byte, 0, min(int(want)+1, maxFrame+1)))
	if err != nil {
		return nil, err
	}
	if len(out) != int(want) {
		return nil, errors.New("a frame is not what the seek table says")
	}
	return out, nil
}
