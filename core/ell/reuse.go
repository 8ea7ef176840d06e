package ell

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/fact"
)

// KnownFrames are the frames of packages that were made before. A package that
// is made of nearly the same files takes those that it has in common with them
// instead of compressing them again. Nothing is taken on trust: a frame is used
// only if it decompresses to the bytes in question.
type KnownFrames struct {
	dec      *zstd.Decoder
	packages []*Package
	frames   map[string]knownFrame // by the digest of the contents
	mu       sync.Mutex
	reused   int
}

type knownFrame struct {
	p *Package
	i int
}

// NewKnownFrames collects the frames of package files that were made in the same
// way as one with this build record: by the same Ellwand with the same
// compression, so that they are what it would write too. Files that cannot be
// read are left out. The caller closes it.
func NewKnownFrames(record BuildRecord, files ...string) (*KnownFrames, error) {
	dec, err := newDecoder()
	if err != nil {
		return nil, err
	}
	k := &KnownFrames{dec: dec, frames: map[string]knownFrame{}}
	for _, file := range files {
		p, err := Open(file)
		if err != nil {
			continue
		}
		digests, err := p.Frames()
		if err != nil || p.Build.Ellwand != record.Ellwand || p.Build.Compression != record.Compression {
			p.Close()
			continue
		}
		k.packages = append(k.packages, p)
		for i, d := range digests {
			k.frames[d.Contents] = knownFrame{p, i + metaFrameCount}
		}
	}
	return k, nil
}

// Newest lists the package files of a name in a directory, at most so many, the
// newest first.
func Newest(dir, name string, most int) []string {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	type written struct {
		path string
		when time.Time
	}
	var found []written
	for _, e := range entries {
		if n, _, _, ok := ParseFileName(e.Name()); !ok || n != name {
			continue
		}
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			found = append(found, written{filepath.Join(dir, e.Name()), info.ModTime()})
		}
	}
	slices.SortFunc(found, func(a, b written) int { return cmp.Or(b.when.Compare(a.when), cmp.Compare(a.path, b.path)) })
	var out []string
	for _, f := range found[:min(len(found), most)] {
		out = append(out, f.path)
	}
	return out
}

// Close closes the files.
func (k *KnownFrames) Close() {
	k.dec.Close()
	for _, p := range k.packages {
		p.Close()
	}
}

// Reused is how many frames were found so far.
func (k *KnownFrames) Reused() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.reused
}

// find returns the compressed frame with the contents that a chunk has, or nil.
func (k *KnownFrames) find(contents string, chunk []byte) []byte {
	if k == nil {
		return nil
	}
	at, ok := k.frames[contents]
	if !ok || at.p.frames[at.i].Size != uint32(len(chunk)) {
		return nil
	}
	packed := make([]byte, at.p.frames[at.i].Packed)
	if _, err := at.p.file.ReadAt(packed, at.p.starts[at.i]); err != nil {
		return nil
	}
	out := frameBuffer()
	defer func() { putBuffer(out) }()
	var h zstd.Header
	if err := h.Decode(packed); err != nil || h.FrameContentSize != uint64(len(chunk)) {
		return nil
	}
	var err error
	if out, err = k.dec.DecodeAll(packed, out); err != nil || !bytes.Equal(out, chunk) {
		return nil
	}
	k.mu.Lock()
	k.reused++
	k.mu.Unlock()
	return packed
}

// assembleAtOnce bounds what is read of a package at once while it is assembled.
const assembleAtOnce = 4 << 20

// Assemble writes the package's file to w. Frames of the payload that one of
// some other packages has as well are read there, which saves most of a download
// if p is on a server and an earlier version is here; fetched is the number of bytes
// that were read of p. The result is to be compared with a digest from
// elsewhere: what the package says of itself is all that is checked here.
func (p *Package) Assemble(ctx context.Context, w io.Writer, others []*Package) (fetched int64, err error) {
	digests, err := p.Frames()
	if err != nil {
		return 0, err
	}
	here := map[string]knownFrame{}
	for _, other := range others {
		frames, err := other.Frames()
		if err != nil {
			continue // it is damaged, and what is missing is fetched
		}
		for i, d := range frames {
			here[d.SHA256] = knownFrame{other, i + metaFrameCount}
		}
	}
	begin := int64(0) // of what was not written yet
	fetch := func(end int64) error {
		for begin < end {
			if err := ctx.Err(); err != nil {
				return context.Cause(ctx)
			}
			b := make([]byte, min(assembleAtOnce, end-begin))
			if _, err := p.file.ReadAt(b, begin); err != nil {
				return err
			}
			if _, err := w.Write(b); err != nil {
				return err
			}
			begin += int64(len(b))
			fetched += int64(len(b))
		}
		return nil
	}
	for i, d := range digests {
		at, ok := here[d.SHA256]
		if !ok || at.p.frames[at.i] != p.frames[i+metaFrameCount] {
			continue
		}
		packed := make([]byte, at.p.frames[at.i].Packed)
		if _, err := at.p.file.ReadAt(packed, at.p.starts[at.i]); err != nil || fact.SHA256(packed) != d.SHA256 {
			continue
		}
		if err := fetch(p.starts[i+metaFrameCount]); err != nil {
			return fetched, err
		}
		if _, err := w.Write(packed); err != nil {
			return fetched, err
		}
		begin += int64(len(packed))
	}
	return fetched, fetch(p.Size)
}
