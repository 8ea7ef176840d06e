package ell

import (
	"bytes"
	"errors"
	"io"
	"maps"
	"os"
	"strings"
	"sync"
	"testing"
)

// TestLook reads all files at once, those that are streamed too, without their
// digests; damage of the archive shows all the same.
func TestLook(t *testing.T) {
	large := big()
	want := map[string]string{"/usr/share/a file": large, "/usr/share/b": large[:3<<20], "/usr/share/c": "tide", "/usr/share/none": ""}
	w := write(t, spec(claims(t, staged{"usr/share/a file": large, "usr/share/b": large[:3<<20], "usr/share/c": "tide", "usr/share/none": "", "usr/share/link": "->c"})))
	var mu sync.Mutex
	got := map[string]string{}
	visit := func(e Entry, r io.Reader) error {
		data, err := io.ReadAll(r)
		mu.Lock()
		defer mu.Unlock()
		got[e.Path] = string(data)
		return err
	}
	if err := open(t, w.Path).Look(t.Context(), visit); err != nil || !maps.Equal(got, want) {
		t.Errorf("%d files, %v", len(got), err)
	}
	stop := errors.New("enough")
	for _, path := range []string{"/usr/share/a file", "/usr/share/c"} {
		err := open(t, w.Path).Look(t.Context(), func(e Entry, _ io.Reader) error {
			if e.Path == path {
				return stop
			}
			return nil
		})
		if !errors.Is(err, stop) {
			t.Errorf("the visitor's error at %s: %v", path, err)
		}
	}
	whole, err := os.ReadFile(w.Path)
	if err != nil {
		t.Fatal(err)
	}
	broken := bytes.Clone(whole)
	broken[len(broken)*2/3] ^= 1
	p, err := OpenAt("broken", bytes.NewReader(broken), int64(len(broken)))
	var damaged *DamagedError
	if err == nil {
		err = p.Look(t.Context(), visit)
	}
	if !errors.As(err, &damaged) || !strings.Contains(err.Error(), "broken") {
		t.Errorf("damaged: %v", err)
	}
}
