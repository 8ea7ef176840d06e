package repo

import (
	"encoding/binary"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"unsafe"

	"github.com/google/renameio/v2"
	"golang.org/x/sys/unix"
)

// table is what one shard has, in four lists of sorted hashes.
type table struct{ provides, needs, bounded, paths []uint32 }

// wideHash is FNV-1a.
func wideHash(text string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(text) {
		h = (h ^ uint64(text[i])) * 1099511628211
	}
	return h
}

// hashOf is FNV-1a, folded to 32 bits.
func hashOf(text string) uint32 {
	h := wideHash(text)
	return uint32(h>>32) ^ uint32(h)
}

// with is the table of what two tables are of.
func (t table) with(other table) table {
	merge := func(a, b []uint32) []uint32 {
		out := slices.Concat(a, b)
		slices.Sort(out)
		return slices.Compact(out)
	}
	return table{merge(t.provides, other.provides), merge(t.needs, other.needs), merge(t.bounded, other.bounded), merge(t.paths, other.paths)}
}

func tableOf(c *shardContent) table {
	var t table
	into := func(list *[]uint32) func(string, Record) {
		return func(key string, _ Record) { *list = append(*list, hashOf(key)) }
	}
	current := newest(c.records)
	each(current, into(&t.provides), into(&t.needs), into(&t.bounded))
	identities := map[string]bool{}
	for _, r := range current {
		identities[r.Identity()] = true
	}
	for _, p := range c.paths {
		if identities[p.Package] {
			t.paths = append(t.paths, hashOf(p.Path))
		}
	}
	for _, list := range []*[]uint32{&t.provides, &t.needs, &t.bounded, &t.paths} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	return t
}

// tableName names what a shard holds, for a table of it: half of each of the two
// digests.
type tableName [8]uint32

func nameOfTable(s Snapshot, key string) (name tableName) {
	var digests [2 * half]byte
	for i, ref := range []Ref{s.Shards[key], s.Files[key]} {
		if ref.SHA256 != "" { // a shard may have no paths
			hex.Decode(digests[i*half:(i+1)*half], []byte(ref.SHA256[:2*half]))
		}
	}
	for i := range name {
		name[i] = binary.NativeEndian.Uint32(digests[4*i:])
	}
	return name
}

const half = 16 // bytes

// The cache keeps the tables of a channel and target in one file, and those that
// came since in a smaller one beside it, so that a change need not write all
// of them. A file is words in the machine's own byte order, as it stays on the
// machine: tableMagic, the number of tables, for each its name and where it
// begins, and the tables: four counts, and the hashes of the four lists.
const (
	tableMagic = 0x454c4c32
	tableEntry = 9 // words
	mostAside  = 16
	asideEnd   = ".newer"
)

func (r *Repository) tableFile(channel, target string) string {
	return filepath.Join(r.Cache, "tables", channel+"@"+target)
}

// readTables maps a file of tables into memory, where it stays until the
// program ends. One that is not there, or no good, has none.
func readTables(file string) map[tableName]table {
	f, err := os.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() < 8 || info.Size()%4 != 0 {
		return nil
	}
	// Nearly all pages of it are looked into: the kernel maps them in one go.
	data, err := unix.Mmap(int(f.Fd()), 0, int(info.Size()), unix.PROT_READ, unix.MAP_SHARED|unix.MAP_POPULATE)
	if err != nil {
		return nil
	}
	tables, ok := parseTables(unsafe.Slice((*uint32)(unsafe.Pointer(unsafe.SliceData(data))), len(data)/4))
	if !ok {
		unix.Munmap(data)
	}
	return tables
}

func parseTables(words []uint32) (map[tableName]table, bool) {
	if len(words) < 2 || words[0] != tableMagic || uint64(words[1])*tableEntry > uint64(len(words)-2) {
		return nil, false
	}
	out := make(map[tableName]table, words[1])
	for entry := range slices.Chunk(words[2:2+words[1]*tableEntry], tableEntry) {
		at := uint64(entry[8])
		if at+4 > uint64(len(words)) {
			return nil, false
		}
		counts, rest := words[at:at+4], words[at+4:]
		var lists [4][]uint32
		for i, n := range counts {
			if uint64(n) > uint64(len(rest)) {
				return nil, false
			}
			lists[i], rest = rest[:n], rest[n:]
		}
		out[tableName(entry[:8])] = table{lists[0], lists[1], lists[2], lists[3]}
	}
	return out, true
}

func tableWords(tables map[tableName]table) []uint32 {
	words := []uint32{tableMagic, uint32(len(tables))}
	at := len(words) + tableEntry*len(tables)
	var content []uint32
	for name, t := range tables {
		words = append(append(words, name[:]...), uint32(at+len(content)))
		content = append(content, uint32(len(t.provides)), uint32(len(t.needs)), uint32(len(t.bounded)), uint32(len(t.paths)))
		for _, list := range [][]uint32{t.provides, t.needs, t.bounded, t.paths} {
			content = append(content, list...)
		}
	}
	return append(words, content...)
}

// cachedTables returns the tables that the cache has for the shards of a state,
// by shard.
func (r *Repository) cachedTables(channel string, s Snapshot) map[string]table {
	out := map[string]table{}
	if r.Cache == "" {
		return out
	}
	take := func(file string) {
		tables := readTables(file)
		for key := range s.Shards {
			if t, ok := tables[nameOfTable(s, key)]; ok {
				out[key] = t
			}
		}
	}
	own := r.tableFile(channel, s.Target)
	take(own)
	take(own + asideEnd)
	if len(out) < len(s.Shards) { // what is promoted comes from another channel
		others, _ := filepath.Glob(filepath.Join(escaped(filepath.Join(r.Cache, "tables")), "*@"+escaped(s.Target)+"*"))
		for _, file := range others {
			take(file)
		}
	}
	return out
}

// keepTables keeps what is known of the tables of a channel's state. It is done as
// well as can be: a table that is not kept is made again.
func (r *Repository) keepTables(channel string, s Snapshot, known map[string]table) {
	if r.Cache == "" || os.MkdirAll(filepath.Join(r.Cache, "tables"), 0o755) != nil {
		return
	}
	file := r.tableFile(channel, s.Target)
	there := readTables(file)
	all, aside := map[tableName]table{}, map[tableName]table{}
	for key := range s.Shards {
		t, ok := known[key]
		if !ok {
			continue
		}
		name := nameOfTable(s, key)
		all[name] = t
		if _, ok := there[name]; !ok {
			aside[name] = t
		}
	}
	if len(aside) > mostAside {
		writeTables(file, all)
		aside = nil
	}
	writeTables(file+asideEnd, aside)
}

func writeTables(file string, tables map[tableName]table) {
	words := tableWords(tables)
	renameio.WriteFile(file, unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(words))), 4*len(words)), 0o644)
}
