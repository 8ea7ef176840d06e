// Package seekable reads and writes the seek table of the Zstandard seekable
// format, version 0.1.0: a skippable frame (RFC 8878, section 3.1.2) at the end
// of a file, with one entry for each frame before it. With it, single frames are
// read without those before them; for all other readers the file is as it was.
package seekable

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
)

const (
	skippableMagic = 0x184D2A5E
	seekableMagic  = 0x8F92EAB1
	footerSize     = 9
	headerSize     = 8
	entrySize      = 8
)

// Frame is one compressed frame: its size in the file, and decompressed; bytes.
type Frame struct{ Packed, Size uint32 }

// Errors of Read.
var (
	ErrNone    = errors.New("it does not end in a seek table: it is cut short, or none was written")
	ErrDamaged = errors.New("its seek table is damaged")
	ErrMisfit  = errors.New("its seek table does not fit the file: bytes are missing or were added")
)

// Table encodes the skippable frame that ends a file of these frames.
func Table(frames []Frame) []byte {
	b := binary.LittleEndian.AppendUint32(nil, skippableMagic)
	b = binary.LittleEndian.AppendUint32(b, uint32(entrySize*len(frames)+footerSize))
	for _, f := range frames {
		b = binary.LittleEndian.AppendUint32(b, f.Packed)
		b = binary.LittleEndian.AppendUint32(b, f.Size)
	}
	b = binary.LittleEndian.AppendUint32(b, uint32(len(frames)))
	b = append(b, 0) // descriptor: no checksums, each frame has its own
	return binary.LittleEndian.AppendUint32(b, seekableMagic)
}

// Read reads the table at the end of a file of size bytes, of at most so many
// frames. They fill the file exactly.
func Read(r io.ReaderAt, size int64, most int) ([]Frame, error) {
	var footer [footerSize]byte
	if size < footerSize+headerSize {
		return nil, ErrNone
	}
	if _, err := r.ReadAt(footer[:], size-footerSize); err != nil {
		return nil, err
	}
	if binary.LittleEndian.Uint32(footer[5:]) != seekableMagic {
		return nil, ErrNone
	}
	n := int64(binary.LittleEndian.Uint32(footer[:]))
	length := entrySize*n + footerSize + headerSize
	if n < 1 || n > int64(most) || length > size || footer[4] != 0 {
		return nil, ErrDamaged
	}
	table := make([]byte, length)
	if _, err := r.ReadAt(table, size-length); err != nil {
		return nil, err
	}
	frames := make([]Frame, n)
	sum := length
	for i := range frames {
		entry := table[headerSize+entrySize*i:]
		frames[i] = Frame{binary.LittleEndian.Uint32(entry), binary.LittleEndian.Uint32(entry[4:])}
		sum += int64(frames[i].Packed)
	}
	if !bytes.Equal(table, Table(frames)) || sum != size {
		return nil, ErrMisfit
	}
	return frames, nil
}
