package repo

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"ellwand.example/core/progress"
	"ellwand.example/core/repo/storage"
)

// mirror serves a directory, and can be switched off.
type mirror struct {
	mu    sync.Mutex
	dir   string
	down  bool
	asked []string
	login string
}

func (m *mirror) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.asked = append(m.asked, r.URL.Path)
	user, _, _ := r.BasicAuth()
	switch {
	case m.down:
		w.WriteHeader(http.StatusServiceUnavailable)
	case user != m.login:
		w.WriteHeader(http.StatusUnauthorized)
	default:
		http.FileServer(http.Dir(m.dir)).ServeHTTP(w, r)
	}
}

// count counts the requests since the last time.
func (m *mirror) count() (n int) {
	n, m.asked = len(m.asked), nil
	return n
}

func TestSync(t *testing.T) {
	dir := t.TempDir()
	source := Open(dir)
	publish(t, source, "testing", samples(t, "tide 1-1", "ebb 1-1", "buoy 1-1")...)
	m := &mirror{dir: dir}
	server := httptest.NewServer(m)
	defer server.Close()
	cache := t.TempDir()
	open := func() *Repository {
		r, err := OpenAt(server.URL, cache)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	sync := func(paths bool) Synced {
		t.Helper()
		s, err := open().Sync(ctx, "testing", paths, progress.None)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	if s := sync(false); s.Fetched != 3 || s.Kept != 0 || s.Serial != 1 || s.Offline {
		t.Errorf("first: %+v", s)
	}
	m.count()
	publish(t, source, "testing", samples(t, "flow 1-1")...)
	if s := sync(false); s.Fetched != 1 || s.Kept != 3 || s.Serial != 2 || s.Dropped != 1 || m.count() > 4 {
		t.Errorf("after a publish: %+v", s)
	}
	if s := sync(true); s.Fetched != 4 || s.Kept != 4 {
		t.Errorf("with paths: %+v", s)
	}
	old, _ := os.ReadFile(filepath.Join(dir, storage.PointerFile))
	// Without the server everything is as it was.
	m.down = true
	r := open()
	if got := identities(t, r, "testing"); got != "buoy@1-1 ebb@1-1 flow@1-1 tide@1-1" || !r.Offline {
		t.Errorf("offline: %s, %v", got, r.Offline)
	}
	if hits, err := open().Search(ctx, "testing", "/usr/share/buoy"); err != nil || len(hits) != 1 {
		t.Errorf("search offline: %v, %v", hits, err)
	}
	if s := sync(false); !s.Offline || s.Serial != 2 {
		t.Errorf("sync offline: %+v", s)
	}
	var unreachable *storage.UnreachableError
	if r, _ := OpenAt(server.URL, t.TempDir()); r != nil {
		if _, err := r.List(ctx, "testing"); !errors.As(err, &unreachable) {
			t.Errorf("offline and never synced: %v", err)
		}
	}
	m.down = false
	// A copy that is damaged here is fetched again.
	copies, _ := filepath.Glob(filepath.Join(cache, copyDir, "listings", "*"))
	os.WriteFile(copies[0], []byte("nonsense"), 0o644)
	if got := identities(t, open(), "testing"); !strings.Contains(got, "tide") {
		t.Errorf("a damaged copy: %s", got)
	}
	// The serial never goes back, and is never two things.
	publish(t, source, "testing", samples(t, "moon 1-1")...)
	sync(false)
	newer, _ := os.ReadFile(filepath.Join(dir, storage.PointerFile))
	os.WriteFile(filepath.Join(dir, storage.PointerFile), old, 0o644)
	var back *BackError
	if _, err := open().List(ctx, "testing"); !errors.As(err, &back) || back.Found != 2 || back.Seen != 3 {
		t.Errorf("an older state: %v", err)
	}
	os.WriteFile(filepath.Join(dir, storage.PointerFile), []byte(strings.Replace(string(newer), `"time":"2`, `"time":"3`, 1)), 0o644)
	if _, err := open().List(ctx, "testing"); !errors.As(err, &back) || back.Found != back.Seen {
		t.Errorf("another state of the same serial: %v", err)
	}
	os.WriteFile(filepath.Join(dir, storage.PointerFile), newer, 0o644)
	// What is half copied is named so, and publishing goes elsewhere.
	if err := open().Forget(); err != nil {
		t.Fatal(err)
	}
	os.RemoveAll(filepath.Join(dir, "listings"))
	var half *HalfCopiedError
	if _, err := open().Sync(ctx, "testing", false, progress.None); !errors.As(err, &half) || !strings.HasPrefix(half.Name, "listings/") {
		t.Errorf("a half-copied mirror: %v", err)
	}
	var readOnly *storage.ReadOnlyError
	if _, err := open().Publish(ctx, "testing", samples(t, "x 1-1"), ChangeOptions{}, progress.None); !errors.As(err, &readOnly) {
		t.Errorf("publish to a web server: %v", err)
	}
	m.login = "ines"
	if _, err := open().List(ctx, "testing"); err == nil || !strings.Contains(err.Error(), "ELLWAND_REPOSITORY_USER") {
		t.Errorf("without a login: %v", err)
	}
	t.Setenv("ELLWAND_REPOSITORY_USER", "ines")
	if _, err := open().List(ctx, "testing"); !errors.As(err, &half) {
		t.Errorf("with a login: %v", err)
	}
}
