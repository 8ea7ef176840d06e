package repo

import (
	"cmp"
	"context"
	"encoding/binary"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"unsafe"

	"github.com/google/renameio/v2"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"ellwand.example/core/solve"
)

// lookup answers what the packages of a state have, without reading all of
// them: for each shard there is a table of what is in it, as sorted hashes,
// which is made once and kept in the cache. It tells in which shards there may
// be something; these are read.
//
// Only the newest package of each name counts: it is what those get who ask
// for the name.
type lookup struct {
	repo *Repository
	// The shards that are another thing than in the snapshot, by what is in
	// them. Needs and provides are by kind and name.
	provides, needs, bounded map[string][]Record
	edited                   map[string]*shardContent
	owned                    []ownedPaths
	twice                    map[uint64]bool // hashes of paths that are in them more than once

	snapshot Snapshot
	tables   map[string]table
	found    map[string][]Record   // what the shards were read for → what was there
	shards   map[string]ownedPaths // those that were read for a path
}

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

// lookup looks into a snapshot, but for the shards, or parts of them, that were
// edited. Tables that the cache does not have are made, and added to cached.
func (r *Repository) lookup(ctx context.Context, s Snapshot, cached map[string]table, edited map[string]*shardContent) (*lookup, error) {
	l := &lookup{repo: r, snapshot: s, tables: map[string]table{}, found: map[string][]Record{}, shards: map[string]ownedPaths{}, edited: edited,
		provides: map[string][]Record{}, needs: map[string][]Record{}, bounded: map[string][]Record{}}
	var taking sync.WaitGroup
	taking.Go(func() {
		for _, c := range edited {
			l.take(c)
		}
		l.repeated()
	})
	defer taking.Wait()
	// Tables that are not in the cache take a while: shards are read on all
	// cores then.
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for key := range s.Shards {
		if c := edited[key]; c != nil && c.whole() {
			continue
		}
		mu.Lock()
		t, ok := cached[key]
		l.tables[key] = t
		mu.Unlock()
		if ok {
			continue
		}
		g.Go(func() error {
			t, err := r.makeTable(ctx, s, key)
			mu.Lock()
			defer mu.Unlock()
			l.tables[key], cached[key] = t, t
			return err
		})
	}
	return l, g.Wait()
}

// cachedTables maps all tables of a state that the cache has.
func (r *Repository) cachedTables(s Snapshot) map[string]table {
	out := map[string]table{}
	for key := range s.Shards {
		if t, ok := r.cachedTable(s, key); ok {
			out[key] = t
		}
	}
	return out
}

// makeTable makes the table of a shard, and keeps it.
func (r *Repository) makeTable(ctx context.Context, s Snapshot, key string) (table, error) {
	c, err := r.load(ctx, s, key)
	if err != nil {
		return table{}, err
	}
	t := tableOf(c)
	r.keepTable(s, key, t)
	return t, nil
}

func (r *Repository) tableFile(s Snapshot, key string) string {
	return filepath.Join(r.Cache, "tables", tableName(s, key))
}

// tableName names what a shard of a snapshot holds.
func tableName(s Snapshot, key string) string {
	return digestOf([]byte(s.Shards[key].SHA256 + s.Files[key].SHA256))
}

// tableMagic begins a file with a table; what is in another format is made
// anew.
const tableMagic = 0x454c4c31

// cachedTable maps a table into memory, where the kernel reads only what is
// looked at. It stays mapped until the program ends.
func (r *Repository) cachedTable(s Snapshot, key string) (table, bool) {
	if r.Cache == "" {
		return table{}, false
	}
	// There may be hundreds: os.Open would ask the kernel five times more each.
	f, err := unix.Open(r.tableFile(s, key), unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return table{}, false
	}
	defer unix.Close(f)
	var info unix.Stat_t
	if err := unix.Fstat(f, &info); err != nil || info.Size < 20 || info.Size%4 != 0 {
		return table{}, false
	}
	data, err := unix.Mmap(f, 0, int(info.Size), unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		return table{}, false
	}
	words := hashes(data)
	counts := words[1:5]
	if words[0] != tableMagic || uint64(counts[0])+uint64(counts[1])+uint64(counts[2])+uint64(counts[3])+5 != uint64(len(words)) {
		unix.Munmap(data)
		return table{}, false
	}
	rest := words[5:]
	next := func(n uint32) (list []uint32) {
		list, rest = rest[:n], rest[n:]
		return list
	}
	return table{next(counts[0]), next(counts[1]), next(counts[2]), next(counts[3])}, true
}

// keepTable is done as well as can be: a table that is not kept is made again.
func (r *Repository) keepTable(s Snapshot, key string, t table) {
	if r.Cache == "" || os.MkdirAll(filepath.Join(r.Cache, "tables"), 0o755) != nil {
		return
	}
	words := []uint32{tableMagic, uint32(len(t.provides)), uint32(len(t.needs)), uint32(len(t.bounded)), uint32(len(t.paths))}
	words = slices.Concat(words, t.provides, t.needs, t.bounded, t.paths)
	data := make([]byte, 0, 4*len(words))
	for _, w := range words {
		data = binary.NativeEndian.AppendUint32(data, w)
	}
	renameio.WriteFile(r.tableFile(s, key), data, 0o644)
}

// each goes through what packages provide, need, and need in some version.
func each(current map[string]Record, provides, needs, bounded func(key string, r Record)) {
	for _, r := range current {
		for _, p := range r.offered() {
			provides(p.Kind+"/"+p.Name, r)
		}
		for _, n := range r.needs() {
			for _, a := range n.Alternatives {
				needs(a.Kind+"/"+a.Name, r)
				if len(a.Constraints) > 0 {
					bounded(a.Kind+"/"+a.Name, r)
				}
			}
		}
	}
}

// take adds what was edited.
func (l *lookup) take(c *shardContent) {
	into := func(m map[string][]Record) func(string, Record) {
		return func(key string, r Record) {
			if list := m[key]; len(list) == 0 || list[len(list)-1].Name != r.Name {
				m[key] = append(list, r)
			}
		}
	}
	current := newest(c.records)
	c.sort()
	l.owned = append(l.owned, ownedPaths{current, c.paths})
	each(current, into(l.provides), into(l.needs), into(l.bounded))
}

// stale tells whether a package that was read is of a part that was edited.
func (l *lookup) stale(shard string) func(Record) bool {
	c := l.edited[shard]
	return func(r Record) bool { return c != nil && c.covers(r.Name) }
}

// repeated finds paths that edited shards have more than once: of the others
// nobody has to look who owns them too.
func (l *lookup) repeated() {
	var hashes []uint64
	for _, o := range l.owned {
		for _, p := range o.paths {
			hashes = append(hashes, wideHash(p.Path))
		}
	}
	slices.Sort(hashes)
	l.twice = map[uint64]bool{}
	for i := 1; i < len(hashes); i++ {
		if hashes[i] == hashes[i-1] {
			l.twice[hashes[i]] = true
		}
	}
}

// ownedPaths are the paths of a shard, sorted, with its newest packages.
type ownedPaths struct {
	current map[string]Record
	paths   []PathRecord
}

// owners lists the newest packages that have a path.
func (o ownedPaths) owners(path string) (out []Record) {
	i, _ := slices.BinarySearchFunc(o.paths, path, func(p PathRecord, path string) int { return cmp.Compare(p.Path, path) })
	for ; i < len(o.paths) && o.paths[i].Path == path; i++ {
		if r, ok := o.current[nameOf(o.paths[i].Package)]; ok && r.Identity() == o.paths[i].Package {
			out = append(out, r)
		}
	}
	return out
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

// newest is the newest package of each name.
func newest(records []Record) map[string]Record {
	out := map[string]Record{}
	for _, r := range records {
		if have, ok := out[r.Name]; !ok || have.Full().Compare(r.Full()) < 0 {
			out[r.Name] = r
		}
	}
	return out
}

// read returns the newest packages that may have something: those of edited
// shards that have, and those of other shards whose lines mention a text,
// where a list of the shard's table has its hash.
func (l *lookup) read(ctx context.Context, text, key string, edited map[string][]Record, list func(table) []uint32) ([]Record, error) {
	out := slices.Clone(edited[key])
	hash := hashOf(key)
	for shard, t := range l.tables {
		if _, ok := slices.BinarySearch(list(t), hash); !ok {
			continue
		}
		name := shard + " " + text
		records, known := l.found[name]
		if !known {
			var err error
			if records, err = l.readShard(ctx, shard, text); err != nil {
				return nil, err
			}
			l.found[name] = records
		}
		out = append(out, records...)
	}
	return out, nil
}

// readShard returns those newest packages of a shard that are of a name that
// some line with the text has. To know what is the newest, all lines of these
// names are read.
func (l *lookup) readShard(ctx context.Context, shard, text string) ([]Record, error) {
	all, err := l.repo.shard(ofNamesWith(text))(ctx, l.snapshot.Shards[shard])
	if err != nil {
		return nil, err
	}
	return slices.Collect(maps.Values(newest(slices.DeleteFunc(all, l.stale(shard))))), nil
}

// offering lists the newest packages that meet a need.
func (l *lookup) offering(ctx context.Context, n solve.Need) ([]Record, error) {
	var out []Record
	for _, a := range n.Alternatives {
		records, err := l.read(ctx, a.Name, a.Kind+"/"+a.Name, l.provides, func(t table) []uint32 { return t.provides })
		if err != nil {
			return nil, err
		}
		for _, r := range records {
			if r.offers(n) && !slices.ContainsFunc(out, func(o Record) bool { return o.Identity() == r.Identity() }) {
				out = append(out, r)
			}
		}
	}
	return out, nil
}

// needing lists the newest packages that need something by its kind and name;
// with bounded, only those that say in which version.
func (l *lookup) needing(ctx context.Context, kind, name string, bounded bool) ([]Record, error) {
	if bounded {
		return l.read(ctx, name, kind+"/"+name, l.bounded, func(t table) []uint32 { return t.bounded })
	}
	return l.read(ctx, name, kind+"/"+name, l.needs, func(t table) []uint32 { return t.needs })
}

// owners lists the newest packages that have a path, for a path of an edited
// shard; where only one of these has it, that one is left out.
func (l *lookup) owners(ctx context.Context, path string) ([]Record, error) {
	var out []Record
	if l.twice[wideHash(path)] {
		for _, o := range l.owned {
			out = append(out, o.owners(path)...)
		}
	}
	hash := hashOf(path)
	for shard, t := range l.tables {
		if _, ok := slices.BinarySearch(t.paths, hash); !ok {
			continue
		}
		there, known := l.shards[shard]
		if !known {
			c, err := l.repo.load(ctx, l.snapshot, shard)
			if err != nil {
				return nil, err
			}
			c.sort() // it may be in parts
			there = ownedPaths{newest(c.records), c.paths}
			l.shards[shard] = there
		}
		out = append(out, slices.DeleteFunc(there.owners(path), l.stale(shard))...)
	}
	return out, nil
}

// hashes are the words of a table's file, which is in the machine's own byte
// order: it stays on the machine.
func hashes(data []byte) []uint32 {
	return unsafe.Slice((*uint32)(unsafe.Pointer(unsafe.SliceData(data))), len(data)/4)
}
