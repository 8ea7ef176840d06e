package index

import (
	"encoding/binary"
	"encoding/hex"
	"os"
	"slices"
	"unsafe"

	"golang.org/x/sys/unix"

	"ellwand.example/core/files"
)

// table is what one listing has: lists of sorted hashes.
type table [lists][]uint32

// The lists of a table.
const (
	inProvides = iota
	inNeeds
	inBounded // needs in some version
	inPaths
	lists
)

// PathHash is the hash of a path (FNV-1a, 64 bits).
func PathHash(text string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(text) {
		h = (h ^ uint64(text[i])) * 1099511628211
	}
	return h
}

// hashOf is FNV-1a, folded to 32 bits.
func hashOf(text string) uint32 {
	h := PathHash(text)
	return uint32(h>>32) ^ uint32(h)
}

// sorted puts a table that was collected in order.
func (t table) sorted() table {
	for i, list := range t {
		slices.Sort(list)
		t[i] = slices.Compact(list)
	}
	return t
}

// TableOf makes the table of a listing.
func TableOf(c *Listing) table {
	var t table
	into := func(list int) func(string, Record) {
		return func(key string, _ Record) { t[list] = append(t[list], hashOf(key)) }
	}
	current := Newest(c.Records)
	each(current, into(inProvides), into(inNeeds), into(inBounded))
	identities := map[string]bool{}
	for _, r := range current {
		identities[r.Identity()] = true
	}
	for _, p := range c.Paths {
		if identities[p.Package] {
			t[inPaths] = append(t[inPaths], hashOf(p.Path))
		}
	}
	return t.sorted()
}

// tableName names what a listing holds, for a table of it: half of each of the two
// digests.
type tableName [8]uint32

const half = 16 // bytes

func nameOfTable(s Snapshot, key string) (name tableName) {
	var digests [2 * half]byte
	for i, ref := range []Ref{s.Listings[key], s.Files[key]} {
		if ref.SHA256 != "" { // a listing may have no paths
			hex.Decode(digests[i*half:(i+1)*half], []byte(ref.SHA256[:2*half]))
		}
	}
	for i := range name {
		name[i] = binary.NativeEndian.Uint32(digests[4*i:])
	}
	return name
}

// tableIndex is the tables of many listings in one file, by the first byte of the
// hashes, and then by listing: what has to be read to look for a hash in all of
// them is together.
type tableIndex struct {
	file    string
	numbers map[tableName]int
	lists   [lists]struct{ starts, hashes []uint32 }
}

// buckets is how many first bytes there are.
const buckets = 256

func bucketOf(hash uint32) int { return int(hash >> 24) }

// run returns the hashes of a bucket in one listing; ok is false if the file is
// damaged.
func (x *tableIndex) run(list, bucket, number int) (hashes []uint32, ok bool) {
	l := &x.lists[list]
	at := bucket*len(x.numbers) + number
	begin, end := l.starts[at], l.starts[at+1]
	if begin > end || uint64(end) > uint64(len(l.hashes)) {
		return nil, false
	}
	return l.hashes[begin:end], true
}

// KnownTable is what is known of a listing: what an index has of it, as it was
// once, and what came since. What is too much in it costs a look into the
// listing, and no more.
type KnownTable struct {
	index  *tableIndex // nil for none
	name   tableName   // in the index
	number int
	More   table
}

// mayHave reports whether a hash is in one of the lists.
func (t KnownTable) mayHave(list int, hash uint32) bool {
	if t.index != nil {
		run, ok := t.index.run(list, bucketOf(hash), t.number)
		if _, found := slices.BinarySearch(run, hash); found || !ok {
			return true
		}
	}
	_, found := slices.BinarySearch(t.More[list], hash)
	return found
}

// With adds what came.
func (t KnownTable) With(other table) KnownTable {
	for i := range t.More {
		t.More[i] = slices.Concat(t.More[i], other[i])
	}
	t.More = t.More.sorted()
	return t
}

// whole gathers all of a table; ok is false if the index is damaged, and some
// is missing.
func (t KnownTable) whole() (all table, ok bool) {
	if t.index == nil {
		return t.More, true
	}
	for list := range all {
		size := 0
		for bucket := range buckets {
			run, ok := t.index.run(list, bucket, t.number)
			if !ok {
				return table{}, false
			}
			size += len(run)
		}
		all[list] = make([]uint32, 0, size+len(t.More[list]))
		for bucket := range buckets {
			run, _ := t.index.run(list, bucket, t.number)
			all[list] = append(all[list], run...)
		}
		if len(t.More[list]) > 0 {
			all[list] = append(all[list], t.More[list]...)
			slices.Sort(all[list])
			all[list] = slices.Compact(all[list])
		}
	}
	return all, true
}

// The cache keeps the tables of a channel and target in a file with an index,
// and those that came since in a small one beside it, so that a change need not
// write all of them. Both are words in the machine's own byte order, as they
// stay on the machine.
//
// The index: indexMagic, the number of tables, their names, and for each list the
// number of hashes, for each bucket and table where its hashes begin, where the last
// end, and the hashes.
//
// The newer ones: newerMagic, and for each table its name, that of the one in
// the index that it adds to, or zeros, and for each list the number of hashes, and
// the hashes.
const (
	indexMagic = 0x454c4c33
	newerMagic = 0x454c4c34
	mostNewer  = 16
	newerEnd   = ".newer"
)

// readWords maps a file into memory, where it stays until the program ends. One
// that is not there, or begins with something else, is empty.
func readWords(file string, magic uint32) []uint32 {
	f, err := os.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() < 4 || info.Size()%4 != 0 {
		return nil
	}
	data, err := unix.Mmap(int(f.Fd()), 0, int(info.Size()), unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		return nil
	}
	words := unsafe.Slice((*uint32)(unsafe.Pointer(unsafe.SliceData(data))), len(data)/4)
	if words[0] != magic {
		unix.Munmap(data)
		return nil
	}
	return words[1:]
}

func writeWords(file string, words []uint32) {
	files.Write(file, unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(words))), 4*len(words)))
}

// wordReader takes words from the front.
type wordReader struct{ rest []uint32 }

func (r *wordReader) take(n uint64) (words []uint32, ok bool) {
	if n > uint64(len(r.rest)) {
		return nil, false
	}
	words, r.rest = r.rest[:n], r.rest[n:]
	return words, true
}

// counted takes a number, and so many words.
func (r *wordReader) counted() (words []uint32, ok bool) {
	n, ok := r.take(1)
	if !ok {
		return nil, false
	}
	return r.take(uint64(n[0]))
}

// readIndex returns nil for a file that is not there, or no good.
func readIndex(file string) *tableIndex {
	r := wordReader{readWords(file, indexMagic)}
	count, ok := r.take(1)
	if !ok {
		return nil
	}
	n := uint64(count[0])
	names, ok := r.take(n * uint64(len(tableName{})))
	if !ok {
		return nil
	}
	x := &tableIndex{file: file, numbers: make(map[tableName]int, n)}
	for name := range slices.Chunk(names, len(tableName{})) {
		x.numbers[tableName(name)] = len(x.numbers)
	}
	for i := range x.lists {
		l := &x.lists[i]
		size, ok := r.take(1)
		if !ok {
			return nil
		}
		if l.starts, ok = r.take(buckets*n + 1); !ok {
			return nil
		}
		if l.hashes, ok = r.take(uint64(size[0])); !ok {
			return nil
		}
	}
	if uint64(len(x.numbers)) != n {
		return nil // a name is there twice
	}
	return x
}

func indexWords(tables map[tableName]table) []uint32 {
	var sizes [lists]int
	total := 2 + (len(tableName{})+lists*buckets)*len(tables) + 2*lists
	for _, t := range tables {
		for list := range t {
			sizes[list] += len(t[list])
			total += len(t[list])
		}
	}
	words := append(make([]uint32, 0, total), indexMagic, uint32(len(tables)))
	var all []table
	for name, t := range tables {
		words = append(words, name[:]...)
		all = append(all, t)
	}
	for list, size := range sizes {
		words = append(words, uint32(size))
		starts := len(words)
		words = words[:starts+buckets*len(all)+1]
		begin := len(words)
		for bucket := range buckets {
			for i := range all {
				words[starts+bucket*len(all)+i] = uint32(len(words) - begin)
				rest := all[i][list]
				n := 0
				for n < len(rest) && bucketOf(rest[n]) == bucket {
					n++
				}
				words, all[i][list] = append(words, rest[:n]...), rest[n:]
			}
		}
		words[begin-1] = uint32(size)
	}
	return words
}

// newerTable is a table that came since the index was written.
type newerTable struct {
	name, older tableName
	more        table
}

func readNewer(file string) (out []newerTable) {
	r := wordReader{readWords(file, newerMagic)}
	for len(r.rest) > 0 {
		names, ok := r.take(2 * uint64(len(tableName{})))
		if !ok {
			return nil
		}
		t := newerTable{name: tableName(names[:8]), older: tableName(names[8:])}
		for i := range t.more {
			if t.more[i], ok = r.counted(); !ok {
				return nil
			}
		}
		out = append(out, t)
	}
	return out
}

func newerWords(tables []newerTable) []uint32 {
	words := []uint32{newerMagic}
	for _, t := range tables {
		words = append(append(words, t.name[:]...), t.older[:]...)
		for _, list := range t.more {
			words = append(append(words, uint32(len(list))), list...)
		}
	}
	return words
}
