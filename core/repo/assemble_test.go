package repo

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
)

// A new version is put together from the copy of the one before and from what of it is
// fetched. A damaged copy, and a server without parts, cost only time.
func TestAssembledCopies(t *testing.T) {
	noise := make([]byte, 9<<20)
	rand.NewChaCha8([32]byte{1}).Read(noise)
	text := string(noise)
	dir := t.TempDir()
	packages := t.TempDir()
	source := Open(dir)
	publish(t, source, "testing", made(t, packages, "tide", "1", "t", text), made(t, packages, "tide", "2", "t", text[:8<<20]+"edited"+text[8<<20:]))
	var sent atomic.Int64
	parts := true
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !parts {
			r.Header.Del("Range")
		}
		if strings.HasSuffix(r.URL.Path, ".ell") {
			w = &sized{w, &sent}
		}
		http.FileServer(http.Dir(dir)).ServeHTTP(w, r)
	}))
	defer server.Close()
	for _, c := range []struct {
		what  string
		copy  func(file string) // what becomes of the copy of the first version
		parts bool
		least int64 // of the second version that is sent, in percent
		most  int64
	}{
		{"an earlier copy", func(string) {}, true, 1, 75},
		{"none", func(file string) { os.Remove(file) }, true, 100, 100},
		{"a damaged one", func(file string) { os.Truncate(file, 1000) }, true, 100, 100},
		{"no parts", func(string) {}, false, 100, 210},
	} {
		t.Run(c.what, func(t *testing.T) {
			parts = c.parts
			cache := t.TempDir()
			r, err := OpenAt(server.URL, cache)
			if err != nil {
				t.Fatal(err)
			}
			list, err := r.List(t.Context(), "testing")
			if err != nil {
				t.Fatal(err)
			}
			records := list[0].Records // the newest first
			into := filepath.Join(cache, "packages")
			first, err := r.Package(t.Context(), records[1], into)
			if err != nil {
				t.Fatal(err)
			}
			first.Close()
			c.copy(filepath.Join(into, filepath.Base(records[1].File)))
			sent.Store(0)
			second, err := r.Package(t.Context(), records[0], into)
			if err != nil {
				t.Fatal(err)
			}
			defer second.Close()
			if err := second.Verify(t.Context()); err != nil {
				t.Error(err)
			}
			if percent := sent.Load() * 100 / records[0].Bytes; percent < c.least || percent > c.most {
				t.Error(fmt.Sprint(percent, " percent were sent"))
			}
		})
	}
}

// sized counts the bytes that are sent.
type sized struct {
	http.ResponseWriter
	n *atomic.Int64
}

func (s *sized) Write(b []byte) (int, error) {
	n, err := s.ResponseWriter.Write(b)
	s.n.Add(int64(n))
	return n, err
}
