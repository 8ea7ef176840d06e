package repo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
	"ellwand.example/core/staging"
)

var ctx = context.Background()

// made makes a package of one file; text is in it, so that it differs.
func made(t testing.TB, dir, name, version, target, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	w, err := ell.Write(ctx, dir, ell.Spec{
		Facts: ell.Facts{Name: name, Version: version, Release: 1, Arch: "independent", Target: target, Summary: "The " + name + " of the harbour", License: "MIT", Recipe: name,
			Provides: []ell.Provide{{Provide: need.MustProvide("pkgconfig/" + name + " = " + version)}}},
		Claims: []staging.Claim{{Path: staging.Path{Path: "/usr/share/" + name + "/file", Type: staging.File, Mode: 0o644, Disk: file}, Owner: "root", Group: "root"}},
		Time:   time.Unix(1e9, 0),
	}, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return w.Path
}

func publish(t testing.TB, r *Repository, channel string, files ...string) Report {
	t.Helper()
	report, err := r.Publish(ctx, channel, files, ChangeOptions{}, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return report
}

func states(r Report) string {
	var s []string
	for _, o := range r.Outcomes {
		s = append(s, o.State)
	}
	return strings.Join(s, ", ")
}

func identities(t testing.TB, r *Repository, channel string) string {
	t.Helper()
	contents, err := r.List(ctx, channel)
	if err != nil {
		t.Fatal(err)
	}
	var s []string
	for _, l := range contents {
		for _, rec := range l.Records {
			s = append(s, rec.Identity())
		}
	}
	return strings.Join(s, " ")
}

func TestPublish(t *testing.T) {
	dir, r := t.TempDir(), Open(filepath.Join(t.TempDir(), "repository"))
	a, b := made(t, dir, "tide", "1.0", "t", "a"), made(t, dir, "almanac", "2.0", "t", "b")
	if got := publish(t, r, "testing", a, b, a); states(got) != "added, added, already published" || got.Serial != 1 {
		t.Errorf("first: %s, serial %d", states(got), got.Serial)
	}
	before := contents(t, r)
	if got := publish(t, r, "testing", a); states(got) != "already published" || got.Serial != 1 || !maps.Equal(before, contents(t, r)) {
		t.Errorf("again: %s, serial %d", states(got), got.Serial)
	}
	other := made(t, t.TempDir(), "tide", "1.0", "t", "other bytes")
	broken := filepath.Join(dir, "broken.ell")
	data, _ := os.ReadFile(b)
	os.WriteFile(broken, data[:len(data)/2], 0o644)
	next := made(t, dir, "tide", "1.10", "t", "a")
	got := publish(t, r, "testing", other, broken, filepath.Join(dir, "none.ell"), next)
	if states(got) != "refused, refused, refused, added" || got.Count(Refused)+got.Count(Added) != 4 {
		t.Errorf("mixed: %s", states(got))
	}
	for i, want := range []string{"raise the release in the recipe", "it does not end in a seek table", "no such file"} {
		if !strings.Contains(got.Outcomes[i].Reason, want) {
			t.Errorf("%s: %s, want %s", got.Outcomes[i].File, got.Outcomes[i].Reason, want)
		}
	}
	if list := identities(t, r, "testing"); list != "almanac@2.0-1 tide@1.10-1 tide@1.0-1" {
		t.Errorf("list: %s", list)
	}
	// Another channel shares the files, and another target has its own.
	if got := publish(t, r, "stable", other, a, made(t, t.TempDir(), "tide", "1.0", "t2", "other bytes")); states(got) != "refused, added, added" {
		t.Errorf("another channel and target: %s %+v", states(got), got.Outcomes)
	}
	// Of the index only what changed was written.
	old, _ := r.Pointer(ctx)
	publish(t, r, "testing", made(t, dir, "buoy", "1", "t", "x"))
	now, _ := r.Pointer(ctx)
	x, err := r.Snapshot(ctx, old.Channels["testing"]["t"])
	y, err2 := r.Snapshot(ctx, now.Channels["testing"]["t"])
	if err != nil || err2 != nil || y.Parent != old.Channels["testing"]["t"] || y.Packages != 4 {
		t.Fatal(err, err2, y)
	}
	for key, ref := range x.Listings {
		if y.Listings[key] != ref && key != index.ListingOf("buoy") {
			t.Errorf("listing %s was written again", key)
		}
	}
}

// contents maps every file of a repository to its modification time and size.
func contents(t testing.TB, r *Repository) map[string]string {
	t.Helper()
	all := map[string]string{}
	filepath.WalkDir(r.Storage.Where(), func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			t.Fatal(err)
		}
		if info, err := e.Info(); err == nil && !e.IsDir() && !strings.Contains(p, storage.Incoming) {
			all[p] = fmt.Sprint(info.ModTime(), info.Size())
		}
		return nil
	})
	return all
}

func TestSearch(t *testing.T) {
	dir, r := t.TempDir(), Open(t.TempDir())
	publish(t, r, "testing", made(t, dir, "tide", "1.0", "t", "a"), made(t, dir, "tide-almanac", "1.0", "t", "a"), made(t, dir, "buoy", "1.0", "t", "a"))
	for word, want := range map[string]string{
		"TIDE": "tide tide-almanac", "pkgconfig/buoy": "buoy", "harbour": "buoy tide tide-almanac", "share/buoy/": "buoy", "xyzzy": "", "of the tide": "", "\"": "", "tide\\": "", "SHARE/BUOY": "buoy",
	} {
		hits, err := r.Search(ctx, "testing", word)
		var names []string
		for _, h := range hits {
			names = append(names, h.Record.Name)
		}
		if got := strings.Join(names, " "); err != nil || got != want {
			t.Errorf("search %q: %q, %v; want %q", word, got, err, want)
		}
	}
	var unknown *ChannelError
	if _, err := r.Search(ctx, "stable", "x"); !errors.As(err, &unknown) || !slices.Equal(unknown.Known, []string{"testing"}) {
		t.Errorf("an unknown channel: %v", err)
	}
}

func TestNoRepository(t *testing.T) {
	var none *storage.NotRepositoryError
	if _, err := Open(t.TempDir()).List(ctx, "testing"); !errors.As(err, &none) || none.Foreign {
		t.Errorf("an empty directory: %v", err)
	}
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "letter.txt"), nil, 0o644)
	if _, err := Open(dir).Publish(ctx, "testing", []string{made(t, t.TempDir(), "tide", "1", "t", "")}, ChangeOptions{}, progress.None); !errors.As(err, &none) || !none.Foreign {
		t.Errorf("somebody's directory: %v", err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 {
		t.Errorf("left behind: %v", left)
	}
}

// Every file of the index that is changed or missing is named.
func TestDamagedIndex(t *testing.T) {
	r := Open(t.TempDir())
	publish(t, r, "testing", made(t, t.TempDir(), "tide", "1.0", "t", "a"))
	for path := range contents(t, r) {
		name, _ := filepath.Rel(r.Storage.Where(), path)
		if strings.HasPrefix(name, "packages/") {
			continue
		}
		whole, _ := os.ReadFile(path)
		for what, data := range map[string][]byte{"cut": whole[:len(whole)/2], "gone": nil} {
			os.WriteFile(path, data, 0o644)
			if what == "gone" && name != storage.PointerFile {
				os.Remove(path)
			}
			_, err := r.Search(ctx, "testing", "/usr")
			var damaged *index.DamagedError
			if !errors.As(err, &damaged) || damaged.Name != name {
				t.Errorf("%s %s: %v", name, what, err)
			}
		}
		os.WriteFile(path, whole, 0o644)
	}
}

// Publishers wait for one another, and readers see whole states meanwhile.
func TestConcurrent(t *testing.T) {
	dir, root := t.TempDir(), t.TempDir()
	publish(t, Open(root), "testing", made(t, dir, "first", "1", "t", "x"))
	const publishers, each = 4, 6
	var wg sync.WaitGroup
	done := make(chan struct{})
	for p := range publishers {
		var files []string
		for i := range each {
			files = append(files, made(t, dir, fmt.Sprintf("p%d-%d", p, i), "1", "t", "x"))
		}
		wg.Go(func() {
			for _, f := range files {
				if _, err := Open(root).Publish(ctx, "testing", []string{f}, ChangeOptions{}, progress.None); err != nil {
					t.Error(err)
				}
			}
		})
	}
	var readers sync.WaitGroup
	for range 2 {
		readers.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
				}
				if _, err := Open(root).Search(ctx, "testing", "/usr"); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	wg.Wait()
	close(done)
	readers.Wait()
	if p, err := Open(root).Pointer(ctx); err != nil || p.Serial != 1+publishers*each {
		t.Errorf("serial %d, %v", p.Serial, err)
	}
	if n := len(strings.Fields(identities(t, Open(root), "testing"))); n != 1+publishers*each {
		t.Errorf("%d packages", n)
	}
}

func FuzzPointer(f *testing.F) {
	f.Add([]byte(`{"format":1,"serial":1,"time":"2031-04-02T00:00:00Z","channels":{"testing":{"t":"` + strings.Repeat("0", 64) + `"}}}`))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		os.WriteFile(filepath.Join(dir, storage.PointerFile), data, 0o644)
		if _, err := Open(dir).List(ctx, "testing"); err == nil && !strings.Contains(string(data), "testing") {
			t.Error("a channel from nowhere")
		}
	})
}

// States are found by channel or by the start of a snapshot's digest, those of
// the past too; the state before a change is what its snapshots came from.
func TestStatesOfARepository(t *testing.T) {
	dir, r := t.TempDir(), Open(t.TempDir())
	named := func(s State) string {
		var names []string
		for _, target := range slices.Sorted(maps.Keys(s.Records)) {
			for _, rec := range s.Records[target] {
				names = append(names, target+" "+rec.Identity())
			}
		}
		return strings.Join(names, ", ")
	}
	publish(t, r, "testing", made(t, dir, "tide", "1.0", "seven", "a"))
	first, err := r.At(ctx, "testing")
	if err != nil {
		t.Fatal(err)
	}
	publish(t, r, "testing", made(t, dir, "tide", "1.1", "seven", "b"))
	publish(t, r, "testing", made(t, dir, "buoy", "1.0", "eight", "c"))
	for _, c := range []struct {
		word, want string
	}{
		{"testing", "eight buoy@1.0-1, seven tide@1.1-1, seven tide@1.0-1"},
		{first.Snapshots["seven"][:8], "seven tide@1.0-1"},
		{first.Snapshots["seven"], "seven tide@1.0-1"},
	} {
		s, err := r.At(ctx, c.word)
		if got := named(s); err != nil || got != c.want {
			t.Errorf("%s: %s, %v; want %s", c.word, got, err, c.want)
		}
	}
	before, err := r.Before(ctx, "testing")
	if got := named(before); err != nil || got != "seven tide@1.1-1, seven tide@1.0-1" {
		t.Errorf("before the last change: %s, %v", got, err)
	}
	var unknown *ChannelError
	for _, word := range []string{"stable", "abc", "ffffffff"} {
		if _, err := r.At(ctx, word); !errors.As(err, &unknown) {
			t.Errorf("%s: %v", word, err)
		}
	}
}

func TestOpenCached(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", "/cache")
	caches := map[string]string{}
	for place, where := range map[string]string{"/srv/repo": "/srv/repo", "https://repo.example/": "https://repo.example"} {
		r, err := OpenCached(place)
		if err != nil || r.Storage.Where() != where || filepath.Dir(r.Cache) != "/cache/ellwand/repositories" || caches[r.Cache] != "" {
			t.Errorf("%s: %+v, %v", place, r, err)
		}
		caches[r.Cache] = place
	}
	for _, place := range []string{"ftp://repo.example/x", "https://", "s3+https://host"} {
		if _, err := OpenCached(place); err == nil {
			t.Errorf("%s was opened", place)
		}
	}
}
