package repo

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// forged is a repository on a server that was made to do harm: its index is
// consistent in itself, as far as a case does not say otherwise.
type forged struct {
	files map[string][]byte
	// endless are files of which there is no end.
	endless map[string]bool
}

func (f *forged) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/")
	if f.endless[name] {
		for chunk := make([]byte, 1<<20); r.Context().Err() == nil; {
			if _, err := w.Write(chunk); err != nil {
				return
			}
		}
		return
	}
	data, ok := f.files[name]
	if !ok {
		http.NotFound(w, r)
		return
	}
	w.Write(data)
}

// forge makes a repository with one listing.
func forge(listing []byte, count int, change func(*index.Pointer, *index.Snapshot)) *forged {
	f := &forged{files: map[string][]byte{}, endless: map[string]bool{}}
	sum := fact.SHA256(listing)
	s := index.Snapshot{Format: index.Format, Action: "publish", Target: "t", Serial: 1, Packages: count, Listings: index.Refs{"00": {Count: count, SHA256: sum}}, Files: index.Refs{"00": {Count: count, SHA256: sum}}, Time: time.Now()}
	p := index.Pointer{Format: index.Format, Serial: 1, Time: time.Now()}
	if change != nil {
		change(&p, &s)
	}
	snapshot, _ := json.Marshal(s)
	p.Channels = map[string]map[string]string{"testing": {"t": fact.SHA256(snapshot)}}
	pointer, _ := json.Marshal(p)
	f.files[storage.PointerFile], f.files["snapshots/"+fact.SHA256(snapshot)+".json"] = pointer, snapshot
	f.files[index.ListingFile(index.Ref{SHA256: sum})], f.files[index.FilesFile(index.Ref{SHA256: sum})] = listing, listing
	return f
}

func packed(text []byte) []byte {
	e, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	return e.EncodeAll(text, nil)
}

// bomb is a small file that becomes a large one.
func bomb(size int) []byte {
	var b bytes.Buffer
	e, _ := zstd.NewWriter(&b, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(8<<20))
	line := []byte(strings.Repeat("\n", 1<<20))
	for range size >> 20 {
		e.Write(line)
	}
	e.Close()
	return b.Bytes()
}

// A mirror that was made to do harm takes no more memory than an index may,
// and its lies are found out.
func TestHostileMirror(t *testing.T) {
	good := `{"name":"tide","version":"1","release":1,"arch":"independent","summary":"x","license":"MIT","recipe":"tide","date":"2031-04-02","needs":[],"provides":[],"size":1,"file":"packages/t/tide/tide@1-1.ell","sha256":"` + strings.Repeat("0", 64) + `","bytes":1}` + "\n"
	record := func(old, now string) []byte { return packed([]byte(strings.Replace(good, old, now, 1))) }
	for what, c := range map[string]struct {
		server *forged
		says   string
	}{
		"a serial that nothing can follow": {forge(packed([]byte(good)), 1, func(p *index.Pointer, _ *index.Snapshot) { p.Serial = 1<<63 - 1 }), "its serial cannot be"},
		"a serial below zero":              {forge(packed([]byte(good)), 1, func(p *index.Pointer, _ *index.Snapshot) { p.Serial = -1 }), "its serial cannot be"},
		"a listing that becomes half a GB": {forge(bomb(512<<20), 512<<20, func(_ *index.Pointer, s *index.Snapshot) {
			s.Listings["00"] = index.Ref{Count: 3000, SHA256: s.Listings["00"].SHA256}
		}), "damaged"},
		"more packages than there are":   {forge(packed([]byte(good)), 1<<40, nil), "more than"},
		"fewer lines than it says":       {forge(packed([]byte(good)), 9, nil), "does not hold the 9 lines"},
		"a need that cannot be read":     {forge(record(`"needs":[]`, `"needs":[{"need":"what/x"}]`), 1, nil), "is not a dependency"},
		"a file outside":                 {forge(record("packages/t/tide/tide@", "packages/../../tide@"), 1, nil), "names no file in the repository"},
		"a listing that is no Zstandard": {forge([]byte("no"), 1, nil), "damaged"},
		"a line that is no JSON":         {forge(packed([]byte("{\n")), 1, nil), "damaged"},
		"a target that is a path":        {forge(packed([]byte(good)), 1, func(_ *index.Pointer, s *index.Snapshot) { s.Target = "../x" }), "cannot be"},
		"a snapshot of another format":   {forge(packed([]byte(good)), 1, func(_ *index.Pointer, s *index.Snapshot) { s.Format = 9 }), "reads format"},
		"a pointer of another format":    {forge(packed([]byte(good)), 1, func(p *index.Pointer, _ *index.Snapshot) { p.Format = 9 }), "reads format"},
	} {
		server := httptest.NewServer(c.server)
		for _, sync := range []bool{true, false} {
			r, err := OpenAt(server.URL, t.TempDir())
			if err != nil {
				t.Fatal(err)
			}
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			if sync {
				_, err = r.Sync(t.Context(), "testing", true, progress.None)
			}
			if err == nil {
				_, err = r.List(t.Context(), "testing")
			}
			runtime.ReadMemStats(&after)
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v, want %s", what, err, c.says)
			}
			if took := after.TotalAlloc - before.TotalAlloc; took > 8*index.MaxListing {
				t.Errorf("%s takes %d MiB", what, took>>20)
			}
		}
		server.Close()
	}
}

// What has no end is given up once it is longer than it may be, and what a
// sync fetches goes to disk and not into memory.
func TestEndlessMirror(t *testing.T) {
	f := forge(packed([]byte("{}\n")), 1, nil)
	for name := range f.files {
		f.endless = map[string]bool{name: true}
		server := httptest.NewServer(f)
		r, err := OpenAt(server.URL, t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		_, err = r.Sync(t.Context(), "testing", true, progress.None)
		if err == nil || !strings.Contains(err.Error(), "larger than") {
			t.Errorf("%s without an end: %v", name, err)
		}
		left := int64(0)
		filepath.Walk(r.Cache, func(_ string, info os.FileInfo, err error) error {
			if err == nil {
				left += info.Size()
			}
			return nil
		})
		if left > 1<<20 {
			t.Errorf("%s: %d bytes are left in the cache", name, left)
		}
		server.CloseClientConnections()
		server.Close()
	}
}

// A serial that jumps further than changes can explain is not believed, and
// what was seen before stays.
func TestSerialJump(t *testing.T) {
	cache := t.TempDir()
	f := forge(packed(nil), 0, nil)
	server := httptest.NewServer(f)
	defer server.Close()
	sync := func() error {
		r, err := OpenAt(server.URL, cache)
		if err != nil {
			t.Fatal(err)
		}
		_, err = r.Sync(t.Context(), "testing", false, progress.None)
		return err
	}
	if err := sync(); err != nil {
		t.Fatal(err)
	}
	honest := f.files[storage.PointerFile]
	f.files[storage.PointerFile] = bytes.Replace(honest, []byte(`"serial":1`), []byte(fmt.Sprintf(`"serial":%d`, index.MaxJump+2)), 1)
	var jump *JumpError
	if err := sync(); !errors.As(err, &jump) || jump.Seen != 1 {
		t.Errorf("a jump: %v", err)
	}
	f.files[storage.PointerFile] = honest
	if err := sync(); err != nil {
		t.Errorf("after the jump: %v", err)
	}
}

// A server that sends another package than the index names is found out, by
// size, digest and identity.
func TestSwappedPackage(t *testing.T) {
	dir := t.TempDir()
	source := Open(dir)
	publish(t, source, "testing", samples(t, "tide 1-1", "ebb 3-1")...)
	one := func(name string) string {
		found, err := filepath.Glob(filepath.Join(dir, "packages/t", name, "*.ell"))
		if err != nil || len(found) != 1 {
			t.Fatal(found, err)
		}
		return found[0]
	}
	ebb, err := os.ReadFile(one("ebb"))
	if err != nil {
		t.Fatal(err)
	}
	tide, err := os.ReadFile(one("tide"))
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(http.FileServer(http.Dir(dir)))
	defer server.Close()
	flipped := bytes.Clone(tide)
	flipped[len(flipped)/2] ^= 1
	for what, data := range map[string][]byte{"good": tide, "another package": ebb, "cut short": tide[:len(tide)-1], "longer": append(bytes.Clone(tide), 0), "one bit": flipped} {
		if err := os.WriteFile(one("tide"), data, 0o644); err != nil {
			t.Fatal(err)
		}
		for _, address := range []string{server.URL, dir} {
			r, err := OpenAt(address, t.TempDir())
			if err != nil {
				t.Fatal(err)
			}
			list, err := r.List(t.Context(), "testing")
			if err != nil {
				t.Fatal(err)
			}
			rec := list[0].Records[1]
			p, err := r.Package(t.Context(), rec, filepath.Join(r.Cache, "packages"))
			if (err == nil) != (what == "good") {
				t.Errorf("%s, from %s: %v", what, address, err)
			}
			if err == nil {
				p.Close()
				// The copy is used again while it matches.
				if again, err := r.Package(t.Context(), rec, filepath.Join(r.Cache, "packages")); err != nil {
					t.Error(err)
				} else {
					again.Close()
				}
			}
		}
	}
}

// A client that receives nothing is given up, and those that do are served.
func TestSlowReader(t *testing.T) {
	w := httptest.NewRecorder()
	p := &pressing{w, http.NewResponseController(w)}
	if _, err := io.Copy(p, strings.NewReader("tide")); err != nil || w.Body.String() != "tide" {
		t.Errorf("without deadlines: %q, %v", w.Body, err)
	}
}
