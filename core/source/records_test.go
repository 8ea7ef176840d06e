package source

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/gofrs/flock"

	"ellwand.example/core/fact"
)

// put stores data in a cache under its digest.
func put(t *testing.T, s Cache, name, data string) string {
	t.Helper()
	digest := fact.SHA256([]byte(data))
	if err := os.MkdirAll(filepath.Dir(s.Path(digest)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(s.Path(digest), []byte(data), 0o644); err != nil {
		t.Fatal(err)
	}
	s.name(digest, name)
	return digest
}

func TestCacheList(t *testing.T) {
	s := Cache{Dir: filepath.Join(t.TempDir(), "with a space")}
	if all, err := s.List(); err != nil || len(all) > 0 {
		t.Errorf("an empty cache: %v, %v", all, err)
	}
	b := put(t, s, "b.tar", "bb")
	a := put(t, s, "a.tar", "a")
	put(t, s, "", "nameless")
	all, err := s.List()
	var got []string
	for _, f := range all {
		got = append(got, f.Name)
	}
	if err != nil || !slices.Equal(got, []string{"", "a.tar", "b.tar"}) || all[2].SHA256 != b || all[2].Size != 2 {
		t.Errorf("%+v, %v", all, err)
	}
	for range 2 { // the second time it is gone already
		if err := s.Remove(a); err != nil {
			t.Error(err)
		}
	}
	if all, err := s.List(); err != nil || len(all) != 2 {
		t.Errorf("after removing one: %+v, %v", all, err)
	}
	if _, err := os.Stat(filepath.Join(s.Dir, "names", a)); err == nil {
		t.Error("its name is left")
	}
}

// Workspaces that begin to use a cache at the same moment are all noted, once each.
func TestEnlist(t *testing.T) {
	s := Cache{Dir: t.TempDir()}
	var want []string
	var group sync.WaitGroup
	for _, name := range []string{"/a", "/b", "/c", "/d", "/a", "/b"} {
		if !slices.Contains(want, name) {
			want = append(want, name)
		}
		group.Go(func() {
			if err := s.Enlist(t.Context(), name); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	if got := slices.Compact(slices.Sorted(slices.Values(s.Workspaces()))); !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if err := os.WriteFile(filepath.Join(s.Dir, "workspaces.json"), []byte("{"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := s.Workspaces(); got != nil {
		t.Errorf("of a damaged list: %q", got)
	}
}

func TestCommitArchive(t *testing.T) {
	s := Cache{Dir: t.TempDir()}
	commit, digest := strings.Repeat("c", 40), strings.Repeat("d", 64)
	if err := s.SetCommitArchive(commit, CommitArchive{digest, []byte("commit object")}); err != nil {
		t.Fatal(err)
	}
	if got := s.CommitArchive(commit); got.SHA256 != digest || string(got.Object) != "commit object" {
		t.Errorf("%+v", got)
	}
	for _, other := range []string{strings.Repeat("e", 40), "../" + commit + "/../x", ""} {
		if got := s.CommitArchive(other); got.SHA256 != "" {
			t.Errorf("%q has %+v", other, got)
		}
	}
	for _, bad := range []string{"v1.0", "../x", ""} {
		if err := s.SetCommitArchive(bad, CommitArchive{digest, nil}); err == nil {
			t.Errorf("%q is noted as a commit", bad)
		}
	}
	if err := s.SetCommitArchive(commit, CommitArchive{"../../etc/passwd", nil}); err != nil {
		t.Fatal(err)
	}
	if got := s.CommitArchive(commit); got.SHA256 != "" {
		t.Errorf("a note that names no digest: %+v", got)
	}
}

// Downloads that were broken off are cleared, those under way are not.
func TestClearPartial(t *testing.T) {
	s := Cache{Dir: t.TempDir()}
	dir := filepath.Join(s.Dir, "partial")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"old", "old.json", "old.lock", "busy", "busy.lock"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("12345"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	lock := flock.New(filepath.Join(dir, "busy.lock"))
	if ok, err := lock.TryLock(); err != nil || !ok {
		t.Fatal(ok, err)
	}
	defer lock.Unlock()
	freed, err := s.ClearPartial()
	left, _ := os.ReadDir(dir)
	if err != nil || freed != 5 || len(left) != 2 || left[0].Name() != "busy" {
		t.Errorf("%d bytes, %v, left %v", freed, err, left)
	}
}
