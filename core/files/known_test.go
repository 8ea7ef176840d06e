package files

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// A file is read again if anything tells that it may be another one.
func TestKnown(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "large")
	k := Known{filepath.Join(dir, "known.json")}
	digest := func() string {
		t.Helper()
		got, err := k.SHA256(t.Context(), file)
		if err != nil {
			t.Fatal(err)
		}
		want, err := SHA256(t.Context(), file)
		if err != nil || got != want {
			t.Errorf("%s, want %s, %v", got, want, err)
		}
		return got
	}
	write := func(text string, age time.Duration) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		at := time.Now().Add(-age)
		os.Chtimes(file, at, at)
	}
	write("ebb", time.Hour)
	digest()
	if _, err := os.Stat(k.Path); err == nil {
		t.Error("a file that changed just now is remembered")
	}
	// As if it had been so for long.
	seen, err := look(file)
	if err != nil {
		t.Fatal(err)
	}
	seen.SHA256 = "remembered"
	k.remember(file, seen)
	if got, err := k.SHA256(t.Context(), file); got != "remembered" || err != nil {
		t.Errorf("%s, %v", got, err)
	}
	write("flow", time.Hour)
	digest()
	for i := range maxKnown + 10 {
		k.remember(filepath.Join(dir, fmt.Sprint(i)), knownFile{})
	}
	if n := len(k.read()); n > maxKnown {
		t.Errorf("%d files are remembered", n)
	}
	os.WriteFile(k.Path, []byte("{"), 0o644)
	digest()
	if _, err := k.SHA256(t.Context(), filepath.Join(dir, "none")); err == nil {
		t.Error("a file that is not there has a digest")
	}
}
