package index

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
)

func TestParsePointer(t *testing.T) {
	digest := strings.Repeat("a", 64)
	for _, c := range []struct{ title, text, want string }{
		{"an empty repository", `{"format":1,"serial":0,"channels":{}}`, ""},
		{"a channel", `{"format":1,"serial":7,"channels":{"testing":{"saltmarsh-7":"` + digest + `"}}}`, ""},
		{"not JSON", `serial = 1`, "invalid character"},
		{"another format", `{"format":9,"serial":1}`, "format 9"},
		{"a negative serial", `{"format":1,"serial":-1}`, "serial cannot be -1"},
		{"a serial out of reach", `{"format":1,"serial":9007199254740993}`, "serial cannot be"},
		{"a channel that leads out", `{"format":1,"channels":{"../x":{"t":"` + digest + `"}}}`, "cannot be"},
		{"a target that leads out", `{"format":1,"channels":{"testing":{"../t":"` + digest + `"}}}`, "cannot be"},
		{"no digest", `{"format":1,"channels":{"testing":{"t":"latest"}}}`, "cannot be"},
		{"too large", strings.Repeat(" ", 17<<20), "larger than"},
	} {
		t.Run(c.title, func(t *testing.T) {
			_, err := ParsePointer([]byte(c.text))
			if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %q", err, c.want)
			}
		})
	}
}

func TestParseSnapshot(t *testing.T) {
	digest := strings.Repeat("b", 64)
	s := Snapshot{Format: Format, Action: "publish", Target: "t", Serial: 3, Time: time.Unix(2e9, 0).UTC(), Packages: 1, Parent: digest,
		Listings: Refs{"0a": {1, digest}}, Files: Refs{"0a": {4, digest}}, Allowed: []Exception{{"ELL601", "tide", "the moon is \"late\" \u2028"}}}
	data, err := s.Encode()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := ParseSnapshot(data); err != nil || !reflect.DeepEqual(again, s) {
		t.Errorf("%+v, %v, want %+v", again, err, s)
	}
	for title, edit := range map[string]func(*Snapshot){
		"another format":       func(s *Snapshot) { s.Format = 2 },
		"a listing by a name":  func(s *Snapshot) { s.Listings = Refs{"../": {1, digest}} },
		"a listing by no sum":  func(s *Snapshot) { s.Files = Refs{"00": {1, "../../etc/passwd"}} },
		"fewer than none":      func(s *Snapshot) { s.Listings = Refs{"00": {-1, digest}} },
		"too many packages":    func(s *Snapshot) { s.Listings = Refs{"00": {maxPackages, digest}, "01": {1, digest}} },
		"a target with slash":  func(s *Snapshot) { s.Target = "a/b" },
		"a parent that is one": func(s *Snapshot) { s.Parent = "x" },
	} {
		bad := s
		edit(&bad)
		data, err := json.Marshal(bad)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := ParseSnapshot(data); err == nil {
			t.Errorf("%s is accepted", title)
		}
	}
}

func TestHeads(t *testing.T) {
	p := Pointer{Channels: map[string]map[string]string{"testing": {"a": "2", "b": "1"}, "stable": {"a": "2"}}}
	if got := p.Heads(); !slices.Equal(got, []string{"1", "2"}) {
		t.Errorf("%q", got)
	}
}

func TestRecordCheck(t *testing.T) {
	good := Record{Name: "tide", Version: "1", Release: 1, File: "packages/t/tide/tide@1-1.ell", SHA256: strings.Repeat("0", 64)}
	if err := good.check(); err != nil {
		t.Fatal(err)
	}
	for title, edit := range map[string]func(*Record){
		"no name":               func(r *Record) { r.Name = "" },
		"a version with spaces": func(r *Record) { r.Version = "1 2" },
		"no release":            func(r *Record) { r.Release = 0 },
		"a negative epoch":      func(r *Record) { r.Epoch = -1 },
		"a file outside":        func(r *Record) { r.File = "packages/../../tide@1-1.ell" },
		"a file elsewhere":      func(r *Record) { r.File = "pages/tide@1-1.ell" },
		"a file of another kind": func(r *Record) {
			r.File = "packages/t/tide/tide.tar"
		},
		"no digest":         func(r *Record) { r.SHA256 = "0" },
		"a negative size":   func(r *Record) { r.Bytes = -1 },
		"a dependency":      func(r *Record) { r.Needs = []ell.Need{{Need: need.Need{}}} },
		"something offered": func(r *Record) { r.Provides = []ell.Provide{{Provide: need.Provide{}}} },
		"a conflict":        func(r *Record) { r.Conflicts = []need.Need{{}} },
		"a suggestion":      func(r *Record) { r.Suggests = []need.Need{{}} },
	} {
		bad := good
		edit(&bad)
		if bad.check() == nil {
			t.Errorf("%s is accepted: %+v", title, bad)
		}
	}
}

func TestRecord(t *testing.T) {
	tide := RecordOf(ell.Facts{Name: "tide", Version: "2", Release: 3, Epoch: 1, Arch: "x86_64", Target: "t", Conflicts: []need.Need{need.Must("ebb")},
		Needs: []ell.Need{{Need: need.Must("soname/libm.so.6"), Symbols: []string{"M_2"}}}, Provides: []ell.Provide{{Provide: need.MustProvide("command/tide")}, {Provide: need.MustProvide("soname/libtide.so.1"), Symbols: []string{"T_1", "T_2"}}}})
	for word, want := range map[string]bool{"tide": true, "tide@1:2-3": true, tide.Identity(): true, "tide@2-3": false, "tid": false, "": false} {
		if tide.IsNamed(word) != want {
			t.Errorf("IsNamed(%q) is %v", word, !want)
		}
	}
	for text, want := range map[string]bool{"tide": true, "tide >= 1:2": true, "tide < 1:2": false, "command/tide": true, "command/ebb": false, "command/ebb | tide": true} {
		if tide.Meets(needed(t, text)) != want {
			t.Errorf("Meets(%q) is %v", text, !want)
		}
	}
	soname := func(symbols ...string) solve.Provide {
		return solve.Provide{Provide: need.Provide{Kind: need.Soname, Name: "libtide.so.1"}, Symbols: symbols}
	}
	for _, c := range []struct {
		title      string
		r          *Record
		p          solve.Provide
		kept, same bool
	}{
		{"with all symbol versions", &tide, soname("T_1"), true, true},
		{"without one", &tide, soname("T_3"), true, false},
		{"another", &tide, solve.Provide{Provide: need.Provide{Kind: need.Command, Name: "ebb"}}, false, false},
		{"no package", nil, soname(), false, false},
	} {
		if kept, same := c.r.Keeps(c.p); kept != c.kept || same != c.same {
			t.Errorf("Keeps, %s: %v, %v", c.title, kept, same)
		}
	}
	ebb := Record{Name: "ebb", Version: "1", Release: 1}
	heir := Record{Name: "heir", Version: "1", Release: 1, Replaces: []need.Need{need.Must("ebb < 2")}}
	for _, c := range []struct {
		a, b Record
		want bool
	}{{tide, ebb, true}, {ebb, tide, true}, {heir, ebb, true}, {tide, heir, false}} {
		if c.a.MayShare(c.b) != c.want {
			t.Errorf("%s and %s may share paths: %v", c.a.Name, c.b.Name, !c.want)
		}
	}
	other := tide
	other.Epoch = 0
	if !tide.Collides(other) || tide.Collides(ebb) {
		t.Error("packages that differ in their epoch have one file, and others have not")
	}
	c := tide.Candidate()
	if c.Name != "tide" || len(c.Needs) != 1 || !slices.Equal(c.Needs[0].Symbols, []string{"M_2"}) || len(c.Provides) != 2 || len(c.Conflicts) != 1 {
		t.Errorf("for the solver: %+v", c)
	}
}

func TestNewest(t *testing.T) {
	var all []Record
	for _, full := range []string{"1.0 2", "1.0 10", "1.0rc1 1", "0.9 30"} {
		version, release, _ := strings.Cut(full, " ")
		r := Record{Name: "tide", Version: version, Release: len(release)}
		if release == "10" {
			r.Release = 10
		}
		all = append(all, r)
	}
	all = append(all, Record{Name: "ebb", Version: "1", Release: 1})
	newest := Newest(all)
	if len(newest) != 2 || newest["tide"].Release != 10 || newest["tide"].Version != "1.0" {
		t.Errorf("%+v", newest)
	}
}

// The same packages give the same bytes, whole or edited part by part.
func TestEncodeListing(t *testing.T) {
	var many Listing
	key := ""
	for i := 0; len(many.Records) < 3*partPackages; i++ {
		name := "tide" + strings.Repeat("x", i%7) + fact.SHA256([]byte{byte(i), byte(i >> 8)})[:6]
		if key == "" {
			key = ListingOf(name)
		}
		if ListingOf(name) != key && i < 60_000 {
			continue
		}
		r := RecordOf(ell.Facts{Name: name, Version: "1", Release: 1, Arch: fact.Independent, Target: "t"})
		r.SHA256 = strings.Repeat("0", 64)
		many.Records = append(many.Records, r)
		many.Paths = append(many.Paths, PathRecord{"/usr/share/" + name, r.Identity()})
	}
	many.Parts = []bool{true}
	n := len(many.Records)
	records, paths, err := EncodeListing(&many, &StoredListing{}, n, n)
	if err != nil {
		t.Fatal(err)
	}
	stored := NewStored(records.Ref, paths.Ref, records.Data, paths.Data)
	if len(stored.Records) != PartsOf(n) || PartsOf(n) < 2 {
		t.Fatalf("%d parts of %d packages", len(stored.Records), n)
	}
	total := 0
	for i := range stored.Records {
		part, err := stored.Part(i)
		if err != nil {
			t.Fatal(err)
		}
		total += len(part.Records)
		again, pathsAgain, err := EncodeListing(part, stored, n, n)
		if err != nil || again.Ref != records.Ref || pathsAgain.Ref != paths.Ref {
			t.Errorf("part %d written again gives other bytes: %v", i, err)
		}
	}
	if total != n {
		t.Errorf("%d packages in the parts, of %d", total, n)
	}
	damaged := slices.Clone(records.Data)
	damaged[10] ^= 0xff
	if _, err := NewStored(records.Ref, paths.Ref, damaged, paths.Data).Part(0); err == nil {
		t.Error("a damaged part is read")
	}
}

func TestEachPath(t *testing.T) {
	l := Listing{Parts: []bool{true}, Paths: []PathRecord{{"/a", "tide@1-1"}, {"/b \"quoted\"", "tide@1-1"}}}
	_, paths, err := EncodeListing(&l, &StoredListing{}, 0, 2)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	if err := EachPath(paths.Data, 2, func(p PathRecord) { got = append(got, strings.Clone(p.Path)) }); err != nil {
		t.Fatal(err)
	}
	slices.Sort(got)
	if !slices.Equal(got, []string{"/a", "/b \"quoted\""}) {
		t.Errorf("%q", got)
	}
	if err := EachPath(paths.Data, 3, func(PathRecord) {}); err == nil {
		t.Error("fewer lines than the snapshot says")
	}
}
