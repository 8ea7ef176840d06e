package index

import (
	"os"
	"path/filepath"

	"ellwand.example/core/files"
)

// TableCache keeps the tables of listings in a directory of this machine, in the
// files that tables.go describes; an empty dir stands for no cache.
type TableCache struct{ Dir string }

func (c TableCache) file(channel, target string) string {
	return filepath.Join(c.Dir, channel+"@"+target)
}

// Load returns the tables that the cache has for the listings of a state,
// by listing.
func (c TableCache) Load(channel string, s Snapshot) map[string]KnownTable {
	out := make(map[string]KnownTable, len(s.Listings))
	if c.Dir == "" {
		return out
	}
	take := func(file string) {
		x := readIndex(file)
		newer := map[tableName]newerTable{}
		for _, t := range readNewer(file + newerEnd) {
			newer[t.name] = t
		}
		for key := range s.Listings {
			if _, known := out[key]; known {
				continue
			}
			name := nameOfTable(s, key)
			t, came := newer[name]
			older := name
			if came {
				older = t.older
			}
			number, there := 0, false
			if x != nil {
				number, there = x.numbers[older]
			}
			switch {
			case there:
				out[key] = KnownTable{x, older, number, t.more}
			case came && older == tableName{}:
				out[key] = KnownTable{More: t.more}
			}
		}
	}
	own := c.file(channel, s.Target)
	take(own)
	if len(out) < len(s.Listings) { // what is promoted comes from another channel
		others, _ := filepath.Glob(filepath.Join(files.EscapeGlob(c.Dir), "*@"+files.EscapeGlob(s.Target)))
		for _, file := range others {
			take(file)
		}
	}
	return out
}

// Store keeps what is known of the tables of a channel's state. Failures are
// ignored: a table that was not kept is made again.
func (c TableCache) Store(channel string, s Snapshot, known map[string]KnownTable) {
	if c.Dir == "" || os.MkdirAll(c.Dir, 0o755) != nil {
		return
	}
	file := c.file(channel, s.Target)
	var newer []newerTable
	for key := range s.Listings {
		t, ok := known[key]
		name := nameOfTable(s, key)
		switch {
		case !ok || t.index != nil && t.index.file == file && t.name == name:
		case t.index != nil && t.index.file == file:
			newer = append(newer, newerTable{name, t.name, t.More})
		default:
			if all, ok := t.whole(); ok {
				newer = append(newer, newerTable{name: name, more: all})
			}
		}
	}
	if len(newer) > mostNewer {
		all := map[tableName]table{}
		for key := range s.Listings {
			t, ok := known[key]
			if !ok {
				continue
			}
			if whole, ok := t.whole(); ok {
				all[nameOfTable(s, key)] = whole
			}
		}
		writeWords(file, indexWords(all))
		newer = nil
	}
	writeWords(file+newerEnd, newerWords(newer))
}
