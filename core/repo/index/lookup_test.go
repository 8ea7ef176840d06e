package index

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
)

// memory is a snapshot whose listings are in memory, encoded as they are stored.
type memory struct {
	snapshot Snapshot
	files    map[string][]byte // by the name of the file
	reads    atomic.Int64
	err      error
}

// made stores packages, given as "NAME VERSION" with parts after semicolons: needs,
// provides and has (a path).
func made(t testing.TB, packages ...string) *memory {
	t.Helper()
	m := &memory{snapshot: Snapshot{Format: Format, Target: "t", Listings: Refs{}, Files: Refs{}}, files: map[string][]byte{}}
	for key, l := range listings(t, packages...) {
		records, paths, err := EncodeListing(l, &StoredListing{}, len(l.Records), len(l.Paths))
		if err != nil {
			t.Fatal(err)
		}
		m.snapshot.Listings[key], m.snapshot.Files[key] = records.Ref, paths.Ref
		m.files[ListingFile(records.Ref)], m.files[FilesFile(paths.Ref)] = records.Data, paths.Data
	}
	return m
}

func listings(t testing.TB, packages ...string) map[string]*Listing {
	t.Helper()
	out := map[string]*Listing{}
	for _, text := range packages {
		parts := strings.Split(text, "; ")
		name, version, _ := strings.Cut(parts[0], " ")
		f := ell.Facts{Name: name, Version: version, Release: 1, Arch: fact.Independent, Target: "t", Recipe: name}
		l := out[ListingOf(name)]
		if l == nil {
			l = EmptyListing()
			out[ListingOf(name)] = l
		}
		for _, part := range parts[1:] {
			word, rest, _ := strings.Cut(part, " ")
			switch word {
			case "needs":
				f.Needs = append(f.Needs, ell.Need{Need: need.Must(rest)})
			case "provides":
				f.Provides = append(f.Provides, ell.Provide{Provide: need.MustProvide(rest)})
			case "has":
				l.Paths = append(l.Paths, PathRecord{Path: rest, Package: fact.Identity(name, f.Full(), f.Arch)})
			default:
				t.Fatalf("%q in %q", word, text)
			}
		}
		r := RecordOf(f)
		r.SHA256 = fact.SHA256([]byte(text))
		l.Records = append(l.Records, r)
	}
	return out
}

func (m *memory) Listing(ctx context.Context, s Snapshot, key string) (*Listing, error) {
	l := EmptyListing()
	var err error
	if ref, ok := s.Listings[key]; ok {
		if l.Records, err = m.Records(ctx, ref, nil); err != nil {
			return nil, err
		}
		l.Paths, err = DecodePaths(m.files[FilesFile(s.Files[key])], s.Files[key].Count, nil)
	}
	return l, err
}

func (m *memory) Records(_ context.Context, ref Ref, pick Picker) ([]Record, error) {
	m.reads.Add(1)
	if m.err != nil {
		return nil, m.err
	}
	return DecodeRecords(m.files[ListingFile(ref)], ref.Count, pick)
}

func identities(records []Record) string {
	var out []string
	for _, r := range records {
		out = append(out, r.Identity())
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

func needed(t testing.TB, text string) solve.Need {
	t.Helper()
	n, err := need.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return solve.Need{Need: n}
}

func TestLookup(t *testing.T) {
	packages := []string{
		"tide 1; provides command/tide; has /usr/bin/tide", "tide 2; provides command/tide; has /usr/bin/tide; has /etc/tide.conf",
		"libtide 3; provides soname/libtide.so.3; has /usr/lib/libtide.so.3", "gauge 1; needs soname/libtide.so.3; needs tide >= 2",
		"buoy 1; needs tide; has /usr/share/a \"buoy\"", "moon 1; needs command/tide | command/sun",
	}
	edited := listings(t, "tide 3; provides command/tide; has /usr/bin/tide; has /usr/bin/shared", "newcomer 1; needs tide; has /usr/bin/shared")
	cache := TableCache{t.TempDir()}
	for _, c := range []struct {
		title  string
		edited map[string]*Listing
		want   map[string]string // question → answer
	}{
		{"without changes", nil, map[string]string{
			"offers tide": "tide@2-1", "offers tide < 2": "", "offers command/tide": "tide@2-1", "offers soname/libtide.so.3": "libtide@3-1",
			"offers command/sun | soname/libtide.so.3": "libtide@3-1", "offers nothing": "",
			"needs package/tide": "buoy@1-1 gauge@1-1", "bounded package/tide": "gauge@1-1", "needs command/tide": "moon@1-1", "needs command/tid": "",
			"owns /etc/tide.conf": "tide@2-1", "owns /usr/bin/tide": "tide@2-1", "owns /usr/share/a \"buoy\"": "buoy@1-1", "owns /usr": "",
		}},
		{"with an edit", edited, map[string]string{
			"offers tide": "tide@3-1", "offers command/tide": "tide@3-1", "needs package/tide": "buoy@1-1 gauge@1-1 newcomer@1-1", "bounded package/tide": "gauge@1-1",
			"owns /usr/bin/shared": "newcomer@1-1 tide@3-1", "owns /usr/lib/libtide.so.3": "libtide@3-1",
		}},
	} {
		for _, times := range []string{"first", "with cached tables"} {
			t.Run(c.title+", "+times, func(t *testing.T) {
				m := made(t, packages...)
				// An edited listing holds all that the snapshot has of it, unless replaced.
				after := map[string]*Listing{}
				for key, l := range c.edited {
					whole, err := m.Listing(t.Context(), m.snapshot, key)
					if err != nil {
						t.Fatal(err)
					}
					whole.Records, whole.Paths = append(whole.Records, l.Records...), append(whole.Paths, l.Paths...)
					after[key] = whole
				}
				l, err := NewLookup(t.Context(), m, cache, "testing", m.snapshot, cache.Load("testing", m.snapshot), after)
				if err != nil {
					t.Fatal(err)
				}
				for question, want := range c.want {
					word, rest, _ := strings.Cut(question, " ")
					var got []Record
					kind, name, _ := strings.Cut(rest, "/")
					switch word {
					case "offers":
						got, err = l.Offering(t.Context(), needed(t, rest))
					case "needs", "bounded":
						got, err = l.Needing(t.Context(), kind, name, word == "bounded")
					case "owns":
						got, err = l.Owners(t.Context(), rest)
					}
					if err != nil || identities(got) != want {
						t.Errorf("%s: %q, %v, want %q", question, identities(got), err, want)
					}
				}
			})
		}
	}
}

// Reading with tables in the cache opens only the listings that may have the answer.
func TestLookupReadsLittle(t *testing.T) {
	var packages []string
	for i := range 300 {
		packages = append(packages, fmt.Sprintf("p%d 1; provides command/p%d", i, i))
	}
	m, cache := made(t, packages...), TableCache{t.TempDir()}
	if _, err := NewLookup(t.Context(), m, cache, "testing", m.snapshot, cache.Load("testing", m.snapshot), nil); err != nil {
		t.Fatal(err)
	}
	m.reads.Store(0)
	l, err := NewLookup(t.Context(), m, cache, "testing", m.snapshot, cache.Load("testing", m.snapshot), nil)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := l.Offering(t.Context(), needed(t, "command/p7")); err != nil || identities(got) != "p7@1-1" || m.reads.Load() != 1 {
		t.Errorf("%q, %v after reading %d of %d listings", identities(got), err, m.reads.Load(), len(m.snapshot.Listings))
	}
}

func TestLookupFails(t *testing.T) {
	m := made(t, "tide 1")
	m.err = errors.New("damaged")
	if _, err := NewLookup(t.Context(), m, TableCache{}, "testing", m.snapshot, map[string]KnownTable{}, nil); !errors.Is(err, m.err) {
		t.Errorf("a damaged listing: %v", err)
	}
}

func BenchmarkOffering(b *testing.B) {
	var packages []string
	for i := range 2000 {
		packages = append(packages, fmt.Sprintf("p%d 1; provides command/p%d", i, i))
	}
	m := made(b, packages...)
	n := needed(b, "command/p77")
	for b.Loop() {
		l, err := NewLookup(b.Context(), m, TableCache{}, "testing", m.snapshot, map[string]KnownTable{}, nil)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := l.Offering(b.Context(), n); err != nil {
			b.Fatal(err)
		}
	}
}
