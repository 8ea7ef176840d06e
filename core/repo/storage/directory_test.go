package storage

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/fact"
)

// broken fails after it has given something.
type broken struct{ given bool }

func (b *broken) Read(p []byte) (int, error) {
	if b.given {
		return 0, io.ErrUnexpectedEOF
	}
	b.given = true
	return copy(p, "half"), nil
}

func TestDirectory(t *testing.T) {
	d := NewDirectory(filepath.Join(t.TempDir(), "new", "repository"))
	unlock, err := d.Lock(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	// A second publisher waits, as long as it likes.
	waiting, cancel := context.WithTimeout(t.Context(), 60*time.Millisecond)
	if _, err := d.Lock(waiting); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("two publishers at once: %v", err)
	}
	cancel()
	if err := d.Put(t.Context(), "listings/a", strings.NewReader("whole")); err != nil {
		t.Fatal(err)
	}
	if err := d.Put(t.Context(), "listings/b", &broken{}); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("a file that breaks off: %v", err)
	}
	if _, err := d.Open(t.Context(), "listings/b"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("half a file is there: %v", err)
	}
	if err := d.Replace(t.Context(), PointerFile, []byte("one"), ""); err != nil {
		t.Fatal(err)
	}
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	if err := d.Replace(stopped, PointerFile, []byte("two"), fact.SHA256([]byte("one"))); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
	if err := d.Put(stopped, "listings/c", strings.NewReader("x")); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
	if err := d.Replace(t.Context(), PointerFile, []byte("three"), "an old mark"); !errors.Is(err, ErrChanged) {
		t.Errorf("after somebody else's change: %v", err)
	}
	if data, err := os.ReadFile(filepath.Join(d.Dir, PointerFile)); err != nil || string(data) != "one" {
		t.Errorf("%q, %v", data, err)
	}
	unlock()
	// What an interrupted publisher left goes with the next one.
	stale := filepath.Join(d.Dir, Incoming, "put-stale")
	os.WriteFile(stale, []byte("x"), 0o600)
	if unlock, err = d.Lock(t.Context()); err != nil {
		t.Fatal(err)
	}
	unlock()
	if _, err := os.Stat(stale); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what was left is still there: %v", err)
	}
}

// Files appear whole, are listed without what is under way, and go with the
// directories that they alone were in.
func TestDirectoryFiles(t *testing.T) {
	d := NewDirectory(filepath.Join(t.TempDir(), "with [a] space"))
	unlock, err := d.Lock(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer unlock()
	names := []string{"listings/a b.zst", "packages/t/ebb/ebb@1-1.ell", "packages/t/tide/tide@1-1.ell", "packages/t/tide/tide@2-1.ell"}
	for _, name := range append(slices.Clone(names), "packages/t/tide/notes.txt") {
		if err := d.Put(t.Context(), name, strings.NewReader(name)); err != nil {
			t.Fatal(err)
		}
	}
	os.WriteFile(filepath.Join(d.Dir, "packages/t/tide/.new-1"), nil, 0o600)
	list := func(prefix string) (out []string) {
		t.Helper()
		if err := d.List(t.Context(), prefix, func(s Stored) error {
			out = append(out, s.Name)
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		slices.Sort(out)
		return out
	}
	if got, want := list(""), append(slices.Clone(names), "packages/t/tide/notes.txt"); !slices.Equal(got, slices.Sorted(slices.Values(want))) {
		t.Errorf("all: %q", got)
	}
	if got := list("listings/"); !slices.Equal(got, names[:1]) {
		t.Errorf("listings: %q", got)
	}
	if got := list("snapshots/"); got != nil {
		t.Errorf("a directory that does not exist: %q", got)
	}
	stopAt := errors.New("enough")
	if err := d.List(t.Context(), "", func(Stored) error { return stopAt }); !errors.Is(err, stopAt) {
		t.Errorf("a listing that its caller ends: %v", err)
	}
	packages, err := d.Packages(t.Context())
	if err != nil || len(packages) != 3 || packages[0].Name != names[1] || packages[0].Size != int64(len(names[1])) {
		t.Errorf("packages: %+v, %v", packages, err)
	}
	for _, name := range []string{names[2], names[3], "packages/t/tide/notes.txt", "never/was"} {
		if err := d.Remove(t.Context(), name); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	os.Remove(filepath.Join(d.Dir, "packages/t/tide/.new-1"))
	if err := d.Remove(t.Context(), names[1]); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(d.Dir, "packages/t/ebb")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("an empty directory is left: %v", err)
	}
	if local, ok := d.LocalPath(); !ok || local != d.Where() || d.Address("x/y") != filepath.Join(d.Dir, "x", "y") {
		t.Errorf("it is at %q", local)
	}
}

func TestOpen(t *testing.T) {
	t.Setenv("ELLWAND_REPOSITORY_USER", "ines")
	t.Setenv("ELLWAND_REPOSITORY_PASSWORD", "ebb")
	for _, c := range []struct{ address, where, err string }{
		{"repository", "repository", ""},
		{"/srv/packages", "/srv/packages", ""},
		{"file:///srv/packages", "/srv/packages", ""},
		{"https://packages.saltmarsh.example/x/", "https://packages.saltmarsh.example/x", ""},
		{"s3+https://store.example/harbour/a", "s3+https://store.example/harbour/a", ""},
		{"s3+https://store.example/", "", "BUCKET"},
		{"ftp://host/x", "", "a repository is in a directory"},
		{"https:///x", "", "not the address of a repository"},
	} {
		s, err := Open(c.address)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", c.address, err, c.err)
			}
			continue
		}
		if err != nil || s.Where() != c.where {
			t.Errorf("%s: %v, %v", c.address, s, err)
		}
	}
}

// A web server is read, with one more try where it fails for a moment, and never
// written to.
func TestWeb(t *testing.T) {
	fails := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/x/" + PointerFile:
			if r.Header.Get("Cache-Control") != "no-cache" {
				t.Error("the pointer may come from a cache")
			}
			w.Write([]byte("{}"))
		case "/x/listings/a b":
			w.Write([]byte("listing"))
		case "/x/flaky":
			if fails++; fails < Tries {
				w.WriteHeader(http.StatusBadGateway)
			}
		case "/x/broken":
			w.WriteHeader(http.StatusBadGateway)
		case "/x/refused":
			w.WriteHeader(http.StatusForbidden)
		case "/x/teapot":
			w.WriteHeader(http.StatusTeapot)
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	defer server.Close()
	w := Web{server.URL + "/x"}
	if data, mark, err := w.Current(t.Context(), PointerFile); err != nil || string(data) != "{}" || mark == "" {
		t.Errorf("%q, %q, %v", data, mark, err)
	}
	read := func(name string) (string, error) {
		f, err := w.Open(t.Context(), name)
		if err != nil {
			return "", err
		}
		defer f.Close()
		data, err := io.ReadAll(f)
		return string(data), err
	}
	if got, err := read("listings/a b"); err != nil || got != "listing" {
		t.Errorf("%q, %v", got, err)
	}
	if _, err := read("flaky"); err != nil {
		t.Errorf("a server that fails for a moment: %v", err)
	}
	var unreachable *UnreachableError
	for _, name := range []string{"broken", "teapot"} {
		if _, err := read(name); !errors.As(err, &unreachable) || !strings.Contains(err.Error(), "the server says") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := read("missing"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("missing: %v", err)
	}
	if _, err := read("refused"); err == nil || !strings.Contains(err.Error(), "ELLWAND_REPOSITORY_TOKEN") {
		t.Errorf("refused: %v", err)
	}
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := w.Open(stopped, "broken"); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
	server.Close()
	if _, err := read("a"); !errors.As(err, &unreachable) || unreachable.Status() != fact.StatusMachine {
		t.Errorf("a server that is gone: %v", err)
	}
	var readOnly *ReadOnlyError
	_, locked := w.Lock(t.Context())
	for _, err := range []error{w.Put(t.Context(), "x", strings.NewReader("")), w.Replace(t.Context(), "x", nil, ""), w.Remove(t.Context(), "x"), locked} {
		if !errors.As(err, &readOnly) {
			t.Errorf("a change: %v", err)
		}
	}
}

// How files are served: with their type, and for ever if their name pins them.
func TestHeaders(t *testing.T) {
	for name, want := range map[string][2]string{
		PointerFile:                  {"application/json", "no-cache"},
		"snapshots/0.json":           {"application/json", "public, max-age=31536000, immutable"},
		"listings/0.jsonl.zst":       {"application/zstd", "public, max-age=31536000, immutable"},
		"index.html":                 {"text/html; charset=utf-8", "no-cache"},
		"pages/style.css":            {"text/css; charset=utf-8", "no-cache"},
		"packages/t/a/a@1-1.ell":     {"application/octet-stream", "public, max-age=31536000, immutable"},
		"packages/t/a/a@1-1.ell.sum": {"application/octet-stream", "public, max-age=31536000, immutable"},
	} {
		if got := [2]string{ContentType(name), Caching(name)}; got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}
