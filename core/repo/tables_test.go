package repo

import (
	"fmt"
	"os"
	"testing"
)

// The tables that came since are kept apart, until they are many.
func TestTablesAside(t *testing.T) {
	r := &Repository{Cache: t.TempDir()}
	state := func(changed int) (Snapshot, map[string]table) {
		s := Snapshot{Target: "t", Shards: map[string]Ref{}, Files: map[string]Ref{}}
		tables := map[string]table{}
		for i := range 100 {
			version := 0
			if i < changed {
				version = changed
			}
			key := fmt.Sprintf("%02x", i)
			s.Shards[key], s.Files[key] = Ref{1, digestOf(fmt.Append(nil, i, version))}, Ref{1, digestOf(fmt.Append(nil, "files", i))}
			tables[key] = table{provides: []uint32{uint32(i)}, paths: []uint32{uint32(version), uint32(version + 1)}}
		}
		return s, tables
	}
	size := func() int64 {
		info, err := os.Stat(r.tableFile("testing", "t") + asideEnd)
		if err != nil {
			t.Fatal(err)
		}
		return info.Size()
	}
	for _, c := range []struct{ changed, aside int }{{0, 0}, {1, 1}, {mostAside, mostAside}, {mostAside + 1, 0}, {mostAside + 2, 0}, {3, 0}} {
		s, tables := state(c.changed)
		r.keepTables("testing", s, tables)
		if got := r.cachedTables("testing", s); fmt.Sprint(got) != fmt.Sprint(tables) {
			t.Errorf("after %d changes: %v", c.changed, got)
		}
		if want := int64(4 * (2 + c.aside*(tableEntry+4+3))); size() != want {
			t.Errorf("after %d changes %d bytes are aside, not %d", c.changed, size(), want)
		}
	}
	s, tables := state(3)
	if got := r.cachedTables("stable", s); fmt.Sprint(got) != fmt.Sprint(tables) {
		t.Errorf("another channel with the same shards: %v", got)
	}
	if got := r.cachedTables("testing", Snapshot{Target: "u", Shards: s.Shards, Files: s.Files}); len(got) > 0 {
		t.Errorf("another target: %v", got)
	}
}
