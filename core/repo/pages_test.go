package repo

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
	"golang.org/x/sync/errgroup"
)

// emptyPages renders pages with nothing on them.
type emptyPages struct{}

func (emptyPages) Style() []byte                       { return nil }
func (emptyPages) Front(Front) ([]byte, error)         { return nil, nil }
func (emptyPages) Channel(ChannelPage) ([]byte, error) { return nil, nil }
func (emptyPages) Group(GroupPage) ([]byte, error)     { return nil, nil }
func (emptyPages) History(HistoryPage) ([]byte, error) { return nil, nil }
func (emptyPages) Package(PackagePage) ([]byte, error) { return nil, nil }

// However packages come and go, each is in the one group that its name leads
// to, and no group is too large for a page.
func TestGroups(t *testing.T) {
	d := rand.New(rand.NewPCG(1, 2))
	r := &Repository{Storage: storage.NewDirectory(t.TempDir()), Pages: emptyPages{}}
	starts := strings.Fields("tide tide-table te t lib libtide libt libebb buoy")
	in := map[string]index.Record{}
	groups := map[string]int{}
	unlock, err := r.Storage.Lock(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer unlock()
	most := 0
	for range 60 {
		e := &edit{tx: &transaction{repo: r, channel: "testing"}}
		touched := map[string]bool{}
		for range d.IntN(200) {
			rec := index.Record{Name: fmt.Sprintf("%s%x", starts[d.IntN(len(starts))], d.IntN(1000)), Version: fmt.Sprint(d.IntN(2)), Release: 1, Arch: "independent"}
			rec.File = "packages/t/" + rec.Name + "/" + rec.Identity() + ".ell"
			_, there := in[rec.File]
			if touched[rec.File] {
				continue
			}
			touched[rec.File] = true
			if there {
				delete(in, rec.File)
				e.removed = append(e.removed, rec)
			} else if d.IntN(3) > 0 || len(in) < 500 {
				in[rec.File] = rec
				e.added = append(e.added, rec)
			}
		}
		var g errgroup.Group
		groups, err = e.groupPages(ctx, &g, "pages/", "", groups, "")
		if err := errors.Join(err, g.Wait()); err != nil {
			t.Fatal(err)
		}
		keys := slices.Sorted(maps.Keys(groups))
		found := map[string]bool{}
		for _, key := range keys {
			var rows []Row
			if ok, err := r.getJSON(ctx, "pages/"+groupFile(key)+".json", &rows); !ok || err != nil {
				t.Fatal(key, err)
			}
			if len(rows) == 0 || len(rows) > largestGroup || len(rows) != groups[key] {
				t.Errorf("%s has %d packages, and %d are told", key, len(rows), groups[key])
			}
			most = max(most, len(rows))
			for _, row := range rows {
				if at := groupOf(row.Name, keys); at != key {
					t.Errorf("%s is in %s, and looked for in %s", row.Name, key, at)
				}
				found[row.Link] = true
			}
		}
		for file := range in {
			if !found[pageOf(file)] {
				t.Errorf("%s is on no page", file)
			}
		}
		if len(found) != len(in) {
			t.Errorf("%d packages are on pages, and there are %d", len(found), len(in))
		}
	}
	if most < usualGroup || len(in) < 3*largestGroup {
		t.Errorf("too little was tried: %d packages, at most %d in a group", len(in), most)
	}
	if names, err := os.ReadDir(filepath.Join(r.Storage.Where(), "pages")); err != nil || len(names) < 2*len(groups) {
		t.Error(len(names), err)
	}
}
