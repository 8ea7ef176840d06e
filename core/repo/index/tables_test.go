package index

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"ellwand.example/core/fact"
)

// The tables that came since are kept apart, until they are many.
func TestTablesAside(t *testing.T) {
	cache := TableCache{t.TempDir()}
	state := func(changed int) (Snapshot, map[string]table) {
		s := Snapshot{Target: "t", Listings: map[string]Ref{}, Files: map[string]Ref{}}
		tables := map[string]table{}
		for i := range 100 {
			version := 0
			if i < changed {
				version = changed
			}
			key := fmt.Sprintf("%02x", i)
			s.Listings[key], s.Files[key] = Ref{1, fact.SHA256(fmt.Append(nil, i, version))}, Ref{1, fact.SHA256(fmt.Append(nil, "files", i))}
			tables[key] = table{inProvides: {uint32(i)}, inPaths: {uint32(version), 1 << 31, 0xffffffff - uint32(version)}}
		}
		return s, tables
	}
	same := func(title, channel string, s Snapshot, want map[string]table) {
		t.Helper()
		got := cache.Load(channel, s)
		for key, table := range want {
			if whole, ok := got[key].whole(); !ok || fmt.Sprint(whole) != fmt.Sprint(table) {
				t.Fatalf("%s, %s: %v, not %v", title, key, whole, table)
			}
			for list, hashes := range table {
				for _, hash := range hashes {
					if !got[key].mayHave(list, hash) || got[key].mayHave(list, hash^1<<20) {
						t.Fatalf("%s, %s: %d in list %d", title, key, hash, list)
					}
				}
			}
		}
	}
	for _, c := range []struct{ changed, newer int }{{0, 0}, {1, 1}, {mostNewer, mostNewer}, {mostNewer + 1, 0}, {mostNewer + 2, 0}, {3, 0}} {
		title := fmt.Sprintf("after %d changes", c.changed)
		s, tables := state(c.changed)
		known := cache.Load("testing", s)
		for key, table := range tables {
			if _, there := known[key]; !there {
				known[key] = KnownTable{More: table}
			}
		}
		cache.Store("testing", s, known)
		same(title, "testing", s, tables)
		if got := len(readNewer(cache.file("testing", "t") + newerEnd)); got != c.newer {
			t.Errorf("%s %d tables are apart, not %d", title, got, c.newer)
		}
	}
	s, tables := state(3)
	same("another channel with the same listings", "stable", s, tables)
	if got := cache.Load("testing", Snapshot{Target: "u", Listings: s.Listings, Files: s.Files}); len(got) > 0 {
		t.Errorf("another target: %v", got)
	}

	// What is added to a table of the index is kept without it.
	known := cache.Load("testing", s)
	s, _ = state(4)
	known["03"] = known["03"].With(table{inPaths: {7}})
	cache.Store("testing", s, known)
	want := tables["03"]
	want[inPaths] = slices.Sorted(slices.Values(append(want[inPaths], 7)))
	same("added to", "testing", s, map[string]table{"03": want})
}

// Whatever is in the file of an index, what is read of it stays within it.
func FuzzIndex(f *testing.F) {
	file := filepath.Join(f.TempDir(), "index")
	writeWords(file, indexWords(map[tableName]table{{1}: {{1, 1 << 30}, nil, nil, {3}}, {2}: {}}))
	good, err := os.ReadFile(file)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add(good[:40])
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(file, data, 0o644); err != nil {
			t.Fatal(err)
		}
		x := readIndex(file)
		if x == nil {
			return
		}
		for name, number := range x.numbers {
			known := KnownTable{index: x, name: name, number: number}
			all, ok := known.whole()
			for list, hashes := range all {
				if !ok && len(hashes) > 0 {
					t.Error("a part of a damaged table is taken for all of it")
				}
				for _, hash := range hashes {
					// One that is not sorted may hide some; none may lead astray.
					known.mayHave(list, hash)
				}
			}
		}
	})
}

// FuzzNewer reads the tables that came since, as they are in the cache.
func FuzzNewer(f *testing.F) {
	file := filepath.Join(f.TempDir(), "newer")
	writeWords(file, newerWords([]newerTable{{tableName{1}, tableName{2}, table{{1, 2}, nil, nil, {3}}}, {name: tableName{3}}}))
	good, err := os.ReadFile(file)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add(good[:20])
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(file, data, 0o644); err != nil {
			t.Fatal(err)
		}
		if tables := readNewer(file); len(tables) > 0 && 4*len(newerWords(tables)) != len(data) {
			t.Errorf("%d bytes are read as %v", len(data), tables)
		}
	})
}
