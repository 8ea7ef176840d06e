package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/repo/index"
)

// state is a channel after a change, held in memory.
type state struct {
	records []index.Record
	paths   []index.PathRecord
	err     error
}

func (s state) Offering(_ context.Context, n solve.Need) ([]index.Record, error) {
	return slices.DeleteFunc(slices.Clone(s.records), func(r index.Record) bool { return !r.Meets(n) }), s.err
}

func (s state) Needing(_ context.Context, kind, name string, bounded bool) ([]index.Record, error) {
	return slices.DeleteFunc(slices.Clone(s.records), func(r index.Record) bool {
		return !slices.ContainsFunc(r.Dependencies(), func(n solve.Need) bool {
			return slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool {
				return a.Kind == kind && a.Name == name && (!bounded || len(a.Constraints) > 0)
			})
		})
	}), s.err
}

func (s state) Owners(_ context.Context, path string) (out []index.Record, err error) {
	for _, p := range s.paths {
		for _, r := range s.records {
			if p.Path == path && p.Package == r.Identity() {
				out = append(out, r)
			}
		}
	}
	return out, s.err
}

// pkg makes a package from "NAME VERSION", with parts after semicolons: needs,
// provides, conflicts, replaces and has (a path).
func pkg(t *testing.T, text string) (index.Record, []index.PathRecord) {
	t.Helper()
	parts := strings.Split(text, "; ")
	name, version, _ := strings.Cut(parts[0], " ")
	f := ell.Facts{Name: name, Version: version, Release: 1, Arch: "independent", Recipe: name, Target: "t"}
	var paths []string
	for _, part := range parts[1:] {
		word, rest, _ := strings.Cut(part, " ")
		switch word {
		case "needs":
			f.Needs = append(f.Needs, ell.Need{Need: need.Must(rest)})
		case "provides":
			f.Provides = append(f.Provides, ell.Provide{Provide: need.MustProvide(rest)})
		case "conflicts":
			f.Conflicts = append(f.Conflicts, need.Must(rest))
		case "replaces":
			f.Replaces = append(f.Replaces, need.Must(rest))
		case "has":
			paths = append(paths, rest)
		default:
			t.Fatalf("%q in %q", word, text)
		}
	}
	r := index.RecordOf(f)
	r.SHA256 = text
	var owned []index.PathRecord
	for _, p := range paths {
		owned = append(owned, index.PathRecord{Path: p, Package: r.Identity()})
	}
	return r, owned
}

// change turns "before" into "after": lists of packages, all in one listing each.
func change(t *testing.T, before, after []string) (Change, state) {
	t.Helper()
	c := Change{Target: "t", Before: map[string]*index.Listing{}, After: map[string]*index.Listing{}}
	var s state
	put := func(into map[string]*index.Listing, texts []string) (records []index.Record) {
		for _, text := range texts {
			r, paths := pkg(t, text)
			key := index.ListingOf(r.Name)
			for _, m := range []map[string]*index.Listing{c.Before, c.After} {
				if m[key] == nil {
					m[key] = index.EmptyListing()
				}
			}
			into[key].Records, into[key].Paths = append(into[key].Records, r), append(into[key].Paths, paths...)
			records = append(records, r)
		}
		return records
	}
	had := put(c.Before, before)
	has := put(c.After, after)
	for _, r := range has {
		if !slices.ContainsFunc(had, func(o index.Record) bool { return o.SHA256 == r.SHA256 }) {
			c.Added = append(c.Added, r)
		}
	}
	for _, l := range c.After {
		for _, r := range index.Newest(l.Records) {
			s.records = append(s.records, r)
		}
		s.paths = append(s.paths, l.Paths...)
	}
	slices.SortFunc(s.records, func(a, b index.Record) int { return strings.Compare(a.Name, b.Name) })
	return c, s
}

func TestCheck(t *testing.T) {
	base := need.Provide{Kind: need.Soname, Name: "libbase.so.1"}
	for _, c := range []struct {
		title         string
		before, after []string
		retire        bool
		want          []string // code, subject, what
		rebuild       string
	}{
		{title: "nothing changes", before: []string{"tide 1"}, after: []string{"tide 1"}},
		{title: "a first package", after: []string{"tide 1"}},
		{title: "a dependency of the system", after: []string{"tide 1; needs soname/libbase.so.1"}},
		{title: "an unmet dependency", after: []string{"tide 1; needs moon"}, want: []string{"ELL601 tide@1-1 moon"}},
		{title: "met by a sibling", after: []string{"tide 1; needs moon >= 2", "moon 3"}},
		{title: "a sibling too old", after: []string{"tide 1; needs moon >= 2", "moon 1"}, want: []string{"ELL601 tide@1-1 moon >= 2"}},
		{title: "one of two alternatives", after: []string{"tide 1; needs sun | moon", "moon 1"}},
		{title: "older than before", before: []string{"tide 2"}, after: []string{"tide 1"}, want: []string{"ELL603 tide@1-1 2-1"}},
		{title: "an older one beside the newest", before: []string{"tide 2"}, after: []string{"tide 2", "tide 1"}, want: []string{"ELL603 tide@1-1 2-1"}},
		{title: "an older one comes to the fore", before: []string{"tide 1", "tide 2"}, after: []string{"tide 1"}, retire: true},
		{title: "the last that others need goes", before: []string{"tide 1; needs moon", "moon 1"}, after: []string{"tide 1; needs moon"}, retire: true,
			want: []string{"ELL601 tide@1-1 moon"}, rebuild: "tide"},
		{title: "a soname changes", before: []string{"lib 1; provides soname/lib.so.1", "a 1; needs soname/lib.so.1", "b 1; needs soname/lib.so.1; needs a"},
			after: []string{"lib 2; provides soname/lib.so.2", "a 1; needs soname/lib.so.1", "b 1; needs soname/lib.so.1; needs a"},
			want:  []string{"ELL601 a@1-1 soname/lib.so.1", "ELL601 b@1-1 soname/lib.so.1"}, rebuild: "a b"},
		{title: "a soname changes, and those that need it come along", before: []string{"lib 1; provides soname/lib.so.1", "a 1; needs soname/lib.so.1"},
			after: []string{"lib 2; provides soname/lib.so.2", "a 2; needs soname/lib.so.2"}},
		{title: "a version that a bound excludes", before: []string{"lib 1", "a 1; needs lib < 2"}, after: []string{"lib 2", "a 1; needs lib < 2"},
			want: []string{"ELL601 a@1-1 lib < 2"}, rebuild: "a"},
		{title: "two packages with one path", before: []string{"a 1; has /usr/bin/x"}, after: []string{"a 1; has /usr/bin/x", "b 1; has /usr/bin/x"}, want: []string{"ELL602 b@1-1 /usr/bin/x"}},
		{title: "a path that was shared before", before: []string{"a 1; has /x", "b 1; has /x"}, after: []string{"a 1; has /x", "b 2; has /x"}},
		{title: "a path of what it replaces", before: []string{"a 1; has /x"}, after: []string{"a 1; has /x", "b 1; has /x; replaces a"}},
		{title: "a path of what it conflicts with", before: []string{"a 1; has /x"}, after: []string{"a 1; has /x", "b 1; has /x; conflicts a"}},
		{title: "conflicts with its own dependency", after: []string{"a 1; needs b; conflicts b", "b 1"}, want: []string{"ELL604 a@1-1 "}},
		{title: "conflicts with a dependency's dependency", after: []string{"a 1; needs b; conflicts c", "b 1; needs c", "c 1"}, want: []string{"ELL604 a@1-1 "}},
		{title: "conflicts with one of two alternatives", after: []string{"a 1; needs b | c; conflicts b", "b 1", "c 1"}},
	} {
		t.Run(c.title, func(t *testing.T) {
			ch, after := change(t, c.before, c.after)
			ch.Retire = c.retire
			ch.System = func(n solve.Need) bool { return n.MetBy(base) }
			result, err := Check(t.Context(), ch, after)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, f := range result.Findings {
				got = append(got, f.Code+" "+f.Subject+" "+f.What)
			}
			if !slices.Equal(got, c.want) {
				t.Errorf("findings %q, want %q", got, c.want)
			}
			if rebuild := strings.Join(result.Rebuild(result.Findings), " "); rebuild != c.rebuild {
				t.Errorf("rebuild %q, want %q", rebuild, c.rebuild)
			}
			if len(result.Assumed) > 0 {
				t.Errorf("assumed %q of a system that is known", result.Assumed)
			}
		})
	}
}

// What a package met, and only the system does afterwards, is told; what another package
// meets, or the system did all along, is not.
func TestOnSystem(t *testing.T) {
	ch, after := change(t,
		[]string{"lib 1; provides soname/libbase.so.1", "other 1; provides soname/liba.so.1", "second 1; provides soname/liba.so.1", "a 1; needs soname/libbase.so.1; needs soname/liba.so.1"},
		[]string{"lib 2; provides soname/libbase.so.2", "second 1; provides soname/liba.so.1", "a 1; needs soname/libbase.so.1; needs soname/liba.so.1"})
	ch.System = func(n solve.Need) bool { return true }
	result, err := Check(t.Context(), ch, after)
	if want := []string{"a@1-1 needs soname/libbase.so.1, which lib@1-1 provided, and now only the system does"}; err != nil || len(result.Findings) > 0 || !slices.Equal(result.OnSystem, want) {
		t.Errorf("%q, %v, %v", result.OnSystem, result.Findings, err)
	}
}

// If the system is unknown, it is assumed to provide what no package ever did.
func TestAssumed(t *testing.T) {
	ch, after := change(t, []string{"lib 1; provides soname/lib.so.1", "z 1; needs soname/libz.so.1"},
		[]string{"lib 2; provides soname/lib.so.2", "z 1; needs soname/libz.so.1", "a 1; needs soname/libc.so.6; needs soname/lib.so.1; needs package"})
	result, err := Check(t.Context(), ch, after)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range result.Findings {
		got = append(got, f.What)
	}
	if want := []string{"package", "soname/lib.so.1"}; !slices.Equal(got, want) {
		t.Errorf("unmet %q, want %q: a system has no packages, and lib.so.1 was in the channel", got, want)
	}
	if want := []string{"soname/libc.so.6"}; !slices.Equal(result.Assumed, want) {
		t.Errorf("assumed %q, want %q", result.Assumed, want)
	}
}

// An index that cannot be read is an error, never a channel without findings.
func TestCheckFails(t *testing.T) {
	damaged := errors.New("damaged")
	for _, after := range [][]string{{"a 1; needs moon"}, {"a 1; has /x"}, {"a 1; conflicts b"}} {
		ch, s := change(t, []string{"lib 1"}, after)
		s.err = damaged
		if _, err := Check(t.Context(), ch, s); !errors.Is(err, damaged) {
			t.Errorf("%v: %v", after, err)
		}
	}
}

type pathList []index.PathRecord

func (l pathList) EachPath(_ context.Context, _ index.Snapshot, each func(int, index.PathRecord)) error {
	for _, p := range l {
		each(0, p)
	}
	return nil
}

func TestAuditChannel(t *testing.T) {
	for _, c := range []struct {
		title    string
		packages []string // sorted by name, newest first
		want     []string
		older    int
	}{
		{"an empty channel", nil, nil, 0},
		{"sound", []string{"a 1; needs b", "b 1"}, nil, 0},
		{"unmet", []string{"a 1; needs b"}, []string{"ELL601 a@1-1 b"}, 0},
		{"unmet, and what needs it", []string{"a 1; needs b", "c 1; needs a"}, []string{"ELL601 a@1-1 b", "ELL604 c@1-1 a"}, 0},
		{"only an older one has it", []string{"a 1; needs b < 2", "b 2", "b 1"}, []string{"ELL601 a@1-1 b < 2"}, 1},
		{"shared", []string{"a 1; has /x; has /y", "b 1; has /x"}, []string{"ELL602 a@1-1 /x"}, 0},
		{"shared with an older one", []string{"a 2", "a 1; has /x", "b 1; has /x"}, nil, 1},
		{"a cycle", []string{"a 1; needs b", "b 1; needs c", "c 1; needs a"}, []string{"ELL605 a@1-1 a@1-1, b@1-1, c@1-1"}, 0},
		{"a cycle with a way out", []string{"a 1; needs b | d", "b 1; needs a", "d 1"}, nil, 0},
		{"a library that nobody needs", []string{"liba 1; provides soname/liba.so.1"}, []string{"ELL606 liba@1-1 "}, 0},
		{"a conflict that cannot be avoided", []string{"a 1; needs b; needs c", "b 1; conflicts c", "c 1"}, []string{"ELL604 a@1-1 "}, 0},
	} {
		t.Run(c.title, func(t *testing.T) {
			var records []index.Record
			var paths pathList
			for _, text := range c.packages {
				r, owned := pkg(t, text)
				records, paths = append(records, r), append(paths, owned...)
			}
			s := index.Snapshot{Target: "t", Files: index.Refs{"00": {}}}
			audit, err := AuditChannel(t.Context(), "testing", s, records, paths, func(solve.Need) bool { return false })
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, f := range audit.Findings {
				got = append(got, f.Code+" "+f.Subject+" "+f.What)
			}
			if !slices.Equal(got, c.want) || audit.Older != c.older || audit.Packages != len(c.packages)-c.older {
				t.Errorf("%q, %d packages, %d older; want %q, %d older", got, audit.Packages, audit.Older, c.want, c.older)
			}
		})
	}
}

func TestAuditInterrupted(t *testing.T) {
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	r, _ := pkg(t, "a 1")
	if _, err := AuditChannel(stopped, "testing", index.Snapshot{Target: "t"}, []index.Record{r}, pathList{}, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
}

// BenchmarkCheck is a change of one package that a thousand others need.
func BenchmarkCheck(b *testing.B) {
	t := &testing.T{}
	before, after := []string{"lib 1; provides soname/lib.so.1"}, []string{"lib 2; provides soname/lib.so.1"}
	for i := range 1000 {
		before = append(before, fmt.Sprintf("p%d 1; needs soname/lib.so.1", i))
	}
	after = append(after, before[1:]...)
	c, s := change(t, before, after)
	for b.Loop() {
		if _, err := Check(b.Context(), c, s); err != nil {
			b.Fatal(err)
		}
	}
}
