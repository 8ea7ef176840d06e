package repo

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
	"ellwand.example/core/staging"
)

// sample makes a package out of words: "NAME VERSION-RELEASE", and behind
// semicolons needs, provides, conflicts, replaces and paths. All share one
// file on disk.
func sample(t testing.TB, dir, words string) string {
	t.Helper()
	parts := strings.Split(words, "; ")
	name, full, _ := strings.Cut(parts[0], " ")
	version, release, _ := strings.Cut(full, "-")
	f := ell.Facts{Name: name, Version: version, Arch: "independent", Target: "t", Summary: "The " + name + " of the harbour", License: "MIT", Recipe: name}
	fmt.Sscan(release, &f.Release)
	paths := []string{"/usr/share/" + name}
	for _, part := range parts[1:] {
		what, text, _ := strings.Cut(part, " ")
		text, symbols, _ := strings.Cut(text, " with ")
		switch what {
		case "needs":
			f.Needs = append(f.Needs, ell.Need{Need: need.Must(text), Symbols: strings.Fields(symbols)})
		case "provides":
			f.Provides = append(f.Provides, ell.Provide{Provide: need.MustProvide(text), Symbols: strings.Fields(symbols)})
		case "conflicts":
			f.Conflicts = append(f.Conflicts, need.Must(text))
		case "replaces":
			f.Replaces = append(f.Replaces, need.Must(text))
		case "has":
			paths = append(paths, text)
		case "from":
			f.Recipe = text
		default:
			t.Fatalf("%q in %q", what, words)
		}
	}
	slices.Sort(paths)
	spec := ell.Spec{Facts: f, Time: time.Unix(1e9, 0)}
	for _, p := range paths {
		spec.Claims = append(spec.Claims, staging.Claim{Path: staging.Path{Path: p, Type: staging.File, Mode: 0o644, Disk: "gate_test.go"}, Owner: "root", Group: "root"})
	}
	w, err := ell.Write(ctx, dir, spec, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return w.Path
}

func samples(t testing.TB, list ...string) []string {
	t.Helper()
	dir := t.TempDir()
	var files []string
	for _, words := range list {
		files = append(files, sample(t, dir, words))
	}
	return files
}

// theSystem has one library, in its first version.
func theSystem(string) func(solve.Need) bool {
	has := solve.Provide{Provide: need.Provide{Kind: need.Soname, Name: "libbase.so.1"}, Symbols: []string{"BASE_1"}}
	return func(n solve.Need) bool { return has.Meets(n) }
}

// TestGate states what a publish, a promotion and a retirement may not do to a
// channel.
func TestGate(t *testing.T) {
	library := "libtide 1-1; provides soname/libtide.so.1 with TIDE_1 TIDE_2; provides pkgconfig/tide = 1"
	for _, c := range []struct {
		title  string
		there  []string
		comes  []string
		want   string // findings, or nothing
		plan   string
		system bool
	}{
		{title: "a need that nothing meets", comes: []string{"tide 1-1; needs moon"}, want: "ELL601 tide@1-1: needs moon, which nothing in the channel or the system provides"},
		{title: "met by what comes with it", comes: []string{"tide 1-1; needs moon", "moon 1-1"}},
		{title: "met by what is there", there: []string{"moon 1-1"}, comes: []string{"tide 1-1; needs moon"}},
		{title: "met in another version", there: []string{"moon 1-1"}, comes: []string{"tide 1-1; needs moon >= 2"}, want: "ELL601 tide@1-1: needs moon >= 2, but only moon@1-1 is available"},
		{title: "met by the system", system: true, comes: []string{"tide 1-1; needs soname/libbase.so.1 with BASE_1"}},
		{title: "not met by the system", system: true, comes: []string{"tide 1-1; needs soname/libbase.so.1 with BASE_2"}, want: "ELL601 tide@1-1: needs soname/libbase.so.1 with BASE_2, which nothing in the channel or the system provides"},
		{title: "taken to be met by a system that is not known", comes: []string{"tide 1-1; needs soname/libbase.so.1 with BASE_2"}},
		{title: "a new soname", there: []string{library, "gauge 1-1; needs soname/libtide.so.1", "almanac 1-1; needs gauge", "chart 1-1; from gauge; needs almanac; needs soname/libtide.so.1"},
			comes: []string{"libtide 2-1; provides soname/libtide.so.2"},
			want: "ELL601 chart@1-1: needs soname/libtide.so.1, which libtide@1-1 provides and libtide@2-1 does not; " +
				"ELL601 gauge@1-1: needs soname/libtide.so.1, which libtide@1-1 provides and libtide@2-1 does not", plan: "gauge"},
		{title: "a new soname, with what uses it", there: []string{library, "gauge 1-1; needs soname/libtide.so.1"},
			comes: []string{"libtide 2-1; provides soname/libtide.so.2", "gauge 1-2; needs soname/libtide.so.2"}},
		{title: "the old soname beside", there: []string{library, "gauge 1-1; needs soname/libtide.so.1"},
			comes: []string{"libtide 2-1; provides soname/libtide.so.2", "libtide1 1-1; provides soname/libtide.so.1"}},
		{title: "symbols gone", there: []string{library, "gauge 1-1; needs soname/libtide.so.1 with TIDE_2", "buoy 1-1; needs soname/libtide.so.1 with TIDE_1"},
			comes: []string{"libtide 1-2; provides soname/libtide.so.1 with TIDE_1"},
			want:  "ELL601 gauge@1-1: needs soname/libtide.so.1 with TIDE_2, which libtide@1-1 provides and libtide@1-2 does not", plan: "gauge"},
		{title: "an exact sibling left behind", there: []string{"tide 1-1", "tide-dev 1-1; from tide; needs tide = 1-1"}, comes: []string{"tide 1-2"},
			want: "ELL601 tide-dev@1-1: needs tide = 1-1, which tide@1-1 provides and tide@1-2 does not", plan: "tide"},
		{title: "an order of rebuilds", there: []string{library, "a 1-1; needs b; needs pkgconfig/tide < 2", "b 1-1; needs c; needs pkgconfig/tide < 2", "c 1-1; needs pkgconfig/tide < 2"},
			comes: []string{"libtide 2-1; provides soname/libtide.so.1; provides pkgconfig/tide = 2"},
			want: "ELL601 a@1-1: needs pkgconfig/tide < 2, which libtide@1-1 provides and libtide@2-1 does not; ELL601 b@1-1: needs pkgconfig/tide < 2, which libtide@1-1 provides and libtide@2-1 does not; " +
				"ELL601 c@1-1: needs pkgconfig/tide < 2, which libtide@1-1 provides and libtide@2-1 does not", plan: "c b a"},
		{title: "a path that another has", there: []string{"tide 1-1; has /usr/bin/tide"}, comes: []string{"ebb 1-1; has /usr/bin/tide"}, want: "ELL602 ebb@1-1: contains /usr/bin/tide, which tide@1-1 also contains"},
		{title: "a path that both of a set have", comes: []string{"tide 1-1; has /usr/bin/tide", "ebb 1-1; has /usr/bin/tide"},
			want: "ELL602 ebb@1-1: contains /usr/bin/tide, which tide@1-1 also contains; ELL602 tide@1-1: contains /usr/bin/tide, which ebb@1-1 also contains"},
		{title: "a path shared on purpose", there: []string{"tide 1-1; has /usr/bin/tide"}, comes: []string{"ebb 1-1; has /usr/bin/tide; conflicts tide", "flow 1-1; has /usr/bin/tide; replaces tide; conflicts ebb"}},
		{title: "a path that moves", there: []string{"tide 1-1; has /usr/bin/tide"}, comes: []string{"tide 2-1", "ebb 1-1; has /usr/bin/tide"}},
		{title: "the path of an older version", there: []string{"tide 1-1; has /usr/bin/tide", "tide 2-1"}, comes: []string{"ebb 1-1; has /usr/bin/tide"}},
		{title: "a conflict with what it needs", there: []string{"moon 1-1; needs ebb", "ebb 1-1"}, comes: []string{"tide 1-1; needs moon; conflicts ebb"},
			want: "ELL604 tide@1-1: cannot be installed: tide 1-1 needs moon, which only moon 1-1 offers; but moon 1-1 needs ebb, which only ebb 1-1 offers; but tide 1-1 conflicts with ebb 1-1"},
		{title: "a conflict with one of several", there: []string{"moon 1-1; needs ebb | flow", "ebb 1-1", "flow 1-1"}, comes: []string{"tide 1-1; needs moon; conflicts ebb"}},
		{title: "back in version", there: []string{"tide 2-1"}, comes: []string{"tide 1-9"}, want: "ELL603 tide@1-9: the channel has 2-1, which is newer"},
	} {
		r := &Repository{Storage: storage.NewDirectory(filepath.Join(t.TempDir(), "r")), Cache: t.TempDir()}
		if len(c.there) > 0 {
			publish(t, r, "testing", samples(t, c.there...)...)
		}
		o := ChangeOptions{}
		if c.system {
			o.System = theSystem
		}
		comes := samples(t, c.comes...)
		// What the gate finds depends on nothing but the repository.
		for _, cache := range []string{r.Cache, "", t.TempDir()} {
			r.Cache = cache
			_, err := r.Publish(ctx, "testing", comes, o, progress.None)
			var refused *RefusedError
			got, plan := "", ""
			if errors.As(err, &refused) {
				for _, f := range refused.Findings {
					got += "; " + f.Code + " " + f.Subject + ": " + f.Message
				}
				got, plan = strings.TrimPrefix(got, "; "), strings.Join(refused.Rebuild, " ")
			} else if err != nil {
				t.Fatal(err)
			}
			if got != c.want || plan != c.plan {
				t.Errorf("%s:\n got %s (%s)\nwant %s (%s)", c.title, got, plan, c.want, c.plan)
			}
		}
	}
}

func TestExceptions(t *testing.T) {
	r := Open(t.TempDir())
	files := samples(t, "tide 1-1; needs moon", "ebb 1-1; needs moon")
	allow := func(codes ...string) ChangeOptions {
		var o ChangeOptions
		for _, c := range codes {
			code, name, _ := strings.Cut(c, ":")
			o.Allow = append(o.Allow, index.Exception{Code: code, Package: name, Reason: "the moon rises at six"})
		}
		return o
	}
	var refused *RefusedError
	if _, err := r.Publish(ctx, "testing", files, allow("ELL601:tide"), progress.None); !errors.As(err, &refused) || len(refused.Findings) != 1 || refused.Findings[0].SubjectName() != "ebb" {
		t.Errorf("one of two allowed: %v", err)
	}
	var unused *UnusedError
	if _, err := r.Publish(ctx, "testing", files, allow("ELL601:tide", "ELL601:ebb", "ELL602:ebb"), progress.None); !errors.As(err, &unused) || unused.Exceptions[0].Code != "ELL602" {
		t.Errorf("an exception for nothing: %v", err)
	}
	if _, err := r.Pointer(ctx); err == nil {
		t.Error("something was published")
	}
	if _, err := r.Publish(ctx, "testing", files, allow("ELL601:tide", "ELL601:ebb"), progress.None); err != nil {
		t.Error(err)
	}
	events, err := r.History(ctx, "testing", 0)
	if err != nil || len(events) != 1 || len(events[0].Allowed) != 2 || events[0].Allowed[0].Reason != "the moon rises at six" {
		t.Errorf("the history: %+v, %v", events, err)
	}
	// What was accepted once is not asked for again.
	publish(t, r, "testing", samples(t, "buoy 1-1")...)
}

// TestChannels takes a channel through its life.
func TestChannels(t *testing.T) {
	r := &Repository{Storage: storage.NewDirectory(t.TempDir()), Cache: t.TempDir()}
	publish(t, r, "testing", samples(t, "libtide 1-1; provides soname/libtide.so.1", "gauge 1-1; needs soname/libtide.so.1", "buoy 1-1")...)
	step := func(title, channel, want string, c Change, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", title, err)
		}
		if got := identities(t, r, channel); got != want {
			t.Errorf("%s: %s holds %s, not %s", title, channel, got, want)
		}
	}
	c, err := r.Promote(ctx, "testing", "stable", []string{"buoy"}, ChangeOptions{}, progress.None)
	step("promote one", "stable", "buoy@1-1", c, err)
	c, err = r.Promote(ctx, "testing", "stable", nil, ChangeOptions{}, progress.None)
	step("promote all", "stable", "buoy@1-1 gauge@1-1 libtide@1-1", c, err)
	if len(c.Targets) != 1 || !slices.Equal(c.Targets[0].Added, []string{"gauge@1-1", "libtide@1-1"}) || len(c.Targets[0].Removed) != 0 {
		t.Errorf("%+v", c)
	}
	if c, err := r.Promote(ctx, "testing", "stable", nil, ChangeOptions{}, progress.None); err != nil || len(c.Targets) != 0 {
		t.Errorf("promote again: %+v, %v", c, err)
	}
	publish(t, r, "testing", samples(t, "libtide 2-1; provides soname/libtide.so.2", "gauge 1-2; needs soname/libtide.so.2")...)
	var refused *RefusedError
	if _, err := r.Promote(ctx, "testing", "stable", []string{"libtide"}, ChangeOptions{}, progress.None); !errors.As(err, &refused) || refused.Findings[0].Code != gate.UnmetNeed {
		t.Errorf("promote a library alone: %v", err)
	}
	if _, err := r.Promote(ctx, "stable", "testing", nil, ChangeOptions{}, progress.None); !errors.As(err, &refused) || refused.Findings[0].Code != gate.OlderVersion {
		t.Errorf("promote an older state: %v", err)
	}
	if _, err := r.Retire(ctx, "stable", []string{"libtide"}, ChangeOptions{}, progress.None); !errors.As(err, &refused) || refused.Findings[0].SubjectName() != "gauge" {
		t.Errorf("retire what is needed: %v", err)
	}
	c, err = r.Retire(ctx, "stable", []string{"libtide", "gauge@1-1"}, ChangeOptions{}, progress.None)
	step("retire", "stable", "buoy@1-1", c, err)
	c, err = r.Rewind(ctx, "stable", "", progress.None)
	step("rewind", "stable", "buoy@1-1 gauge@1-1 libtide@1-1", c, err)
	c, err = r.Rewind(ctx, "stable", "2", progress.None)
	step("rewind to a serial", "stable", "buoy@1-1", c, err)
	events, err := r.History(ctx, "stable", 0)
	var told []string
	for _, e := range events {
		told = append(told, fmt.Sprintf("%d %s +%d -%d", e.Serial, e.Action, len(e.Added), len(e.Removed)))
	}
	if want := "7 rewind +0 -2, 6 rewind +2 -0, 5 retire +0 -2, 3 promote +2 -0, 2 promote +1 -0"; err != nil || strings.Join(told, ", ") != want {
		t.Errorf("history: %s, %v; want %s", strings.Join(told, ", "), err, want)
	}
	c, err = r.Rewind(ctx, "stable", events[3].Snapshot[:8], progress.None)
	step("rewind to a snapshot", "stable", "buoy@1-1 gauge@1-1 libtide@1-1", c, err)
	for word, want := range map[string]string{"1": "no retained state with serial 1", "ffffffff": "was never at", "x": "was never at"} {
		if _, err := r.Rewind(ctx, "stable", word, progress.None); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("rewind to %s: %v", word, err)
		}
	}
	var none *NoPackageError
	if _, err := r.Retire(ctx, "stable", []string{"guage"}, ChangeOptions{}, progress.None); !errors.As(err, &none) || none.Near != "gauge" {
		t.Errorf("retire what is not there: %v", err)
	}
}

func TestAudit(t *testing.T) {
	r := Open(t.TempDir())
	all := samples(t, "tide 1-1; needs moon", "ebb 1-1; needs tide", "flow 1-1; needs ebb | gauge", "gauge 1-1; has /usr/bin/gauge", "buoy 1-1; has /usr/bin/gauge; has /usr/bin/buoy",
		"a 1-1; needs b", "b 1-1; needs c", "c 1-1; needs a", "lib 1-1; provides soname/lib.so.1", "x 1-1; conflicts y", "y 1-1", "z 1-1; needs x; needs w", "w 1-1; needs y", "v 1-1; needs y | x", "libc 1-1; needs soname/libbase.so.1")
	var o ChangeOptions
	for _, x := range []string{"ELL601:tide", "ELL602:buoy", "ELL602:gauge"} {
		code, name, _ := strings.Cut(x, ":")
		o.Allow = append(o.Allow, index.Exception{Code: code, Package: name, Reason: "to be found later"})
	}
	if _, err := r.Publish(ctx, "testing", all, o, progress.None); err != nil {
		t.Fatal(err)
	}
	for system, assumed := range map[bool]string{true: "", false: "soname/libbase.so.1"} {
		var of func(string) func(solve.Need) bool
		if system {
			of = theSystem
		}
		audits, err := r.Audit(ctx, "testing", of, progress.None)
		if err != nil || len(audits) != 1 || audits[0].Packages != len(all) || strings.Join(audits[0].Assumed, " ") != assumed {
			t.Fatalf("%+v, %v", audits, err)
		}
		var got []string
		for _, f := range audits[0].Findings {
			got = append(got, f.Code+" "+f.Subject+" "+f.Message)
		}
		want := []string{
			"ELL601 tide@1-1 needs moon, which nothing in the channel or the system provides",
			"ELL602 buoy@1-1 contains /usr/bin/gauge, which gauge@1-1 also contains",
			"ELL604 ebb@1-1 needs tide, which only tide@1-1 provides, and that cannot be installed",
			"ELL604 z@1-1 cannot be installed: z 1-1 needs x, which only x 1-1 offers; but z 1-1 needs w, which only w 1-1 offers; but w 1-1 needs y, which only y 1-1 offers; but x 1-1 conflicts with y 1-1",
			"ELL605 a@1-1 3 packages need each other, so that none can be installed or taken away alone: a@1-1, b@1-1, c@1-1",
			"ELL606 lib@1-1 is a library, and no package in the channel needs it",
		}
		if !slices.Equal(got, want) {
			t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

// neighbour is a name that falls in the same listing as others, and in another
// part of it where there are four.
func neighbour(names ...string) string {
	for i := 0; ; i++ {
		other := fmt.Sprintf("n%d", i)
		listing, part := index.PlaceOf(other, 4)
		if !slices.ContainsFunc(names, func(name string) bool {
			s, p := index.PlaceOf(name, 4)
			return s != listing || p == part
		}) {
			return other
		}
	}
}

// Packages in the listing that is edited are seen as well as those in others,
// with and without what the cache has of it.
func TestGateWithinListing(t *testing.T) {
	library := "libtide"
	user := neighbour(library)
	newcomer := neighbour(library, user)
	var words []string
	for _, name := range crowd(library, 120) {
		words = append(words, name+" 1-1")
	}
	many := samples(t, words...)
	for _, c := range []struct{ title, comes, want string }{
		{"a need that a neighbour meets", newcomer + " 1-1; needs soname/libtide.so.1", ""},
		{"a need that it does not meet", newcomer + " 1-1; needs soname/libtide.so.2", gate.UnmetNeed},
		{"a neighbour that loses what it needs", library + " 2-1; provides soname/libtide.so.2", gate.UnmetNeed},
		{"a path that a neighbour has", newcomer + " 1-1; has /usr/share/" + user, gate.SharedPath},
		{"nothing of that", newcomer + " 1-1", ""},
	} {
		for i := range 4 {
			warm, crowded := i&1 > 0, i&2 > 0
			r := &Repository{Storage: storage.NewDirectory(filepath.Join(t.TempDir(), "r")), Cache: t.TempDir()}
			if crowded { // so many that the listing is in parts
				publish(t, r, "testing", many...)
			}
			publish(t, r, "testing", samples(t, library+" 1-1; provides soname/libtide.so.1", user+" 1-1; needs soname/libtide.so.1")...)
			if !warm {
				r.Cache = t.TempDir()
			} else { // the table is one that was put together of an older one
				publish(t, r, "testing", samples(t, neighbour(library, user, newcomer)+" 1-1")...)
			}
			_, err := r.Publish(ctx, "testing", samples(t, c.comes), ChangeOptions{System: theSystem}, progress.None)
			var refused *RefusedError
			got := ""
			if errors.As(err, &refused) {
				got = refused.Findings[0].Code
			} else if err != nil {
				t.Fatal(err)
			}
			if got != c.want {
				t.Errorf("%s, with a cache %v, crowded %v: %q, not %q", c.title, warm, crowded, got, c.want)
			}
		}
	}
}

// What meets a dependency for another target does not count, and is named.
func TestGateOtherTarget(t *testing.T) {
	r := Open(t.TempDir())
	files := samples(t, "tide 1-1; needs moon >= 1")
	files = append(files, made(t, t.TempDir(), "moon", "1.0", "other", "x"))
	var refused *RefusedError
	_, err := r.Publish(ctx, "testing", files, ChangeOptions{System: theSystem}, progress.None)
	if !errors.As(err, &refused) || len(refused.Findings) != 1 || !strings.HasSuffix(refused.Findings[0].Message, "; moon@1.0-1 has it, but is for target other, and this is for t") {
		t.Errorf("%v", err)
	}
}
