package ell

import "encoding/binary"

// Where the payload is cut into frames depends on what is in it and not on
// what comes before, so that a change to some files changes only the frames
// around them. Small files are never divided: a cut is made before a file whose
// digest says so. Large files have frames of their own, and are cut where a
// rolling hash of their contents says so. Bytes, all of them.
const (
	minFrame     = 2 << 20  // before which no cut is made by a digest or the hash
	averageSpan  = 1 << 20  // from there to the next cut, on average; a power of two
	largeFile    = maxHeld  // above this, a file is cut inside
	minNeighbors = 64 << 10 // small files before or behind a large one that are worth a frame
	headerRoom   = 16 << 10 // for what precedes the contents of a file
	hashWindow   = 64       // bytes that the rolling hash covers
)

// cutBefore reports whether a small file's digest says to cut before it. The
// chance grows with the size, so that frames of many small files and of few
// larger ones are of the same size on average.
func cutBefore(sum [32]byte, size int64) bool {
	return uint64(binary.BigEndian.Uint32(sum[:]))*averageSpan < uint64(size)<<32
}

// gear are the values that the rolling hash adds for each byte: the first 256
// numbers of SplitMix64 from 0 on.
var gear = func() (table [256]uint64) {
	var state uint64
	for i := range table {
		state += 0x9e3779b97f4a7c15
		z := state
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		table[i] = z ^ z>>31
	}
	return table
}()

// roll continues a rolling hash over data, and returns how many bytes belong
// before the next cut; len(data) and false if there is none among them. The
// hash of a byte depends on the last hashWindow bytes.
func roll(hash uint64, data []byte) (uint64, int, bool) {
	const mask = (averageSpan - 1) << (64 - 20)
	for i, b := range data {
		hash = hash<<1 + gear[b]
		if hash&mask == 0 {
			return hash, i + 1, true
		}
	}
	return hash, len(data), false
}
