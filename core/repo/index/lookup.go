package index

import (
	"cmp"
	"context"
	"maps"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
)

// Lookup answers what the packages of a state have, without reading all of
// them: for each listing there is a table of what is in it, as sorted hashes,
// which is made once and kept in the cache. It tells in which listings there may
// be something; these are read.
//
// Only the newest package of each name counts: it is what those get who ask
// for the name.
type Lookup struct {
	reader Reader
	// The listings that are another thing than in the snapshot, and the packages
	// in them by list, and by kind and name.
	edited map[string]*Listing
	having [inPaths]map[string][]Record
	owned  []ownedPaths
	twice  map[uint64]bool // hashes of paths that are in them more than once

	snapshot Snapshot
	tables   map[string]KnownTable
	found    map[string][]Record   // what the listings were read for → what was there
	listings map[string]ownedPaths // those that were read for a path
}

// Reader reads the listings of a snapshot.
type Reader interface {
	// Listing reads a listing whole; one that is not in the snapshot is empty.
	Listing(ctx context.Context, s Snapshot, key string) (*Listing, error)
	// Records reads those packages of a listing that are picked; nil takes all.
	Records(ctx context.Context, ref Ref, pick Picker) ([]Record, error)
}

// NewLookup looks into a snapshot, but for the listings, or parts of them, that
// were edited. Tables that are not among those cached are made, added to them, and
// kept for the channel.
func NewLookup(ctx context.Context, r Reader, cache TableCache, channel string, s Snapshot, cached map[string]KnownTable, edited map[string]*Listing) (*Lookup, error) {
	l := &Lookup{reader: r, snapshot: s, tables: map[string]KnownTable{}, found: map[string][]Record{}, listings: map[string]ownedPaths{}, edited: edited}
	for list := range l.having {
		l.having[list] = map[string][]Record{}
	}
	var taking sync.WaitGroup
	taking.Go(func() {
		for _, c := range edited {
			l.take(c)
		}
		l.repeated()
	})
	defer taking.Wait()
	// Tables that are not in the cache take a while: listings are read on all
	// cores then.
	known := len(cached)
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for key := range s.Listings {
		if c := edited[key]; c != nil && c.Whole() {
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
			c, err := r.Listing(ctx, s, key)
			if err != nil {
				return err
			}
			t := KnownTable{More: TableOf(c)}
			mu.Lock()
			defer mu.Unlock()
			l.tables[key], cached[key] = t, t
			return nil
		})
	}
	err := g.Wait()
	if err == nil && len(cached) > known {
		cache.Store(channel, s, cached) // the change may be refused
	}
	return l, err
}

// each goes through what packages provide, need, and need in some version.
func each(current map[string]Record, provides, needs, bounded func(key string, r Record)) {
	for _, r := range current {
		for _, p := range r.Offers() {
			provides(p.Kind+"/"+p.Name, r)
		}
		for _, n := range r.Dependencies() {
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
func (l *Lookup) take(c *Listing) {
	into := func(m map[string][]Record) func(string, Record) {
		return func(key string, r Record) {
			if list := m[key]; len(list) == 0 || list[len(list)-1].Name != r.Name {
				m[key] = append(list, r)
			}
		}
	}
	current := Newest(c.Records)
	c.sort()
	l.owned = append(l.owned, ownedPaths{current, c.Paths})
	each(current, into(l.having[inProvides]), into(l.having[inNeeds]), into(l.having[inBounded]))
}

// stale reports whether a package that was read is of a part that was edited.
func (l *Lookup) stale(listing string) func(Record) bool {
	c := l.edited[listing]
	return func(r Record) bool { return c != nil && c.covers(r.Name) }
}

// repeated finds paths that edited listings have more than once: of the others
// nobody has to look who owns them too.
func (l *Lookup) repeated() {
	var hashes []uint64
	for _, o := range l.owned {
		for _, p := range o.paths {
			hashes = append(hashes, PathHash(p.Path))
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

// ownedPaths are the paths of a listing, sorted, with its newest packages.
type ownedPaths struct {
	current map[string]Record
	paths   []PathRecord
}

// owners lists the newest packages that have a path.
func (o ownedPaths) owners(path string) (out []Record) {
	i, _ := slices.BinarySearchFunc(o.paths, path, func(p PathRecord, path string) int { return cmp.Compare(p.Path, path) })
	for ; i < len(o.paths) && o.paths[i].Path == path; i++ {
		if r, ok := o.current[NameOf(o.paths[i].Package)]; ok && r.Identity() == o.paths[i].Package {
			out = append(out, r)
		}
	}
	return out
}

// read returns the newest packages that may have something: those of edited
// listings that have, and those of other listings whose lines mention a text,
// where a list of the listing's table has its hash.
func (l *Lookup) read(ctx context.Context, text, key string, list int) ([]Record, error) {
	out := slices.Clone(l.having[list][key])
	hash := hashOf(key)
	for listing, t := range l.tables {
		if !t.mayHave(list, hash) {
			continue
		}
		name := listing + " " + text
		records, known := l.found[name]
		if !known {
			var err error
			if records, err = l.readListing(ctx, listing, text); err != nil {
				return nil, err
			}
			l.found[name] = records
		}
		out = append(out, records...)
	}
	return out, nil
}

// readListing returns those newest packages of a listing that are of a name that
// some line with the text has. To know what is the newest, all lines of these
// names are read.
func (l *Lookup) readListing(ctx context.Context, listing, text string) ([]Record, error) {
	all, err := l.reader.Records(ctx, l.snapshot.Listings[listing], ofNamesWith(text))
	if err != nil {
		return nil, err
	}
	return slices.Collect(maps.Values(Newest(slices.DeleteFunc(all, l.stale(listing))))), nil
}

// Offering lists the newest packages that meet a need.
func (l *Lookup) Offering(ctx context.Context, n solve.Need) ([]Record, error) {
	var out []Record
	for _, a := range n.Alternatives {
		text := a.Name
		if a.Kind != need.Package && a.Kind != need.File {
			// Of those that need it there may be many, which need not be decoded.
			text = `"provide":"` + need.Provide{Kind: a.Kind, Name: a.Name}.String()
		}
		records, err := l.read(ctx, text, a.Kind+"/"+a.Name, inProvides)
		if err != nil {
			return nil, err
		}
		for _, r := range records {
			if r.Meets(n) && !slices.ContainsFunc(out, func(o Record) bool { return o.Identity() == r.Identity() }) {
				out = append(out, r)
			}
		}
	}
	return out, nil
}

// Needing lists the newest packages that need something by its kind and name;
// with bounded, only those that say in which version.
func (l *Lookup) Needing(ctx context.Context, kind, name string, bounded bool) ([]Record, error) {
	if bounded {
		return l.read(ctx, name, kind+"/"+name, inBounded)
	}
	return l.read(ctx, name, kind+"/"+name, inNeeds)
}

// Owners lists the newest packages that have a path, for a path of an edited
// listing; where only one of these has it, that one is left out.
func (l *Lookup) Owners(ctx context.Context, path string) ([]Record, error) {
	var out []Record
	if l.twice[PathHash(path)] {
		for _, o := range l.owned {
			out = append(out, o.owners(path)...)
		}
	}
	hash := hashOf(path)
	for listing, t := range l.tables {
		if !t.mayHave(inPaths, hash) {
			continue
		}
		there, known := l.listings[listing]
		if !known {
			c, err := l.reader.Listing(ctx, l.snapshot, listing)
			if err != nil {
				return nil, err
			}
			c.sort() // it may be in parts
			there = ownedPaths{Newest(c.Records), c.Paths}
			l.listings[listing] = there
		}
		out = append(out, slices.DeleteFunc(there.owners(path), l.stale(listing))...)
	}
	return out, nil
}
