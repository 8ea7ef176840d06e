package repo

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/storage"
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
	d := storage.NewDirectory(filepath.Join(t.TempDir(), "new", "repository"))
	unlock, err := d.Lock(ctx)
	if err != nil {
		t.Fatal(err)
	}
	// A second publisher waits, as long as it likes.
	waiting, cancel := context.WithTimeout(ctx, 60*time.Millisecond)
	if _, err := d.Lock(waiting); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("two publishers at once: %v", err)
	}
	cancel()
	if err := d.Put(ctx, "listings/a", strings.NewReader("whole")); err != nil {
		t.Fatal(err)
	}
	if err := d.Put(ctx, "listings/b", &broken{}); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("a file that breaks off: %v", err)
	}
	if _, err := d.Open(ctx, "listings/b"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("half a file is there: %v", err)
	}
	if err := d.Replace(ctx, storage.PointerFile, []byte("one"), ""); err != nil {
		t.Fatal(err)
	}
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	if err := d.Replace(stopped, storage.PointerFile, []byte("two"), fact.SHA256([]byte("one"))); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
	if err := d.Put(stopped, "listings/c", strings.NewReader("x")); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
	if err := d.Replace(ctx, storage.PointerFile, []byte("three"), "an old mark"); !errors.Is(err, storage.ErrChanged) {
		t.Errorf("after somebody else's change: %v", err)
	}
	if data, err := os.ReadFile(filepath.Join(d.Dir, storage.PointerFile)); err != nil || string(data) != "one" {
		t.Errorf("%q, %v", data, err)
	}
	unlock()
	// What an interrupted publisher left goes with the next one.
	stale := filepath.Join(d.Dir, storage.Incoming, "put-stale")
	os.WriteFile(stale, []byte("x"), 0o600)
	if unlock, err = d.Lock(ctx); err != nil {
		t.Fatal(err)
	}
	unlock()
	if _, err := os.Stat(stale); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what was left is still there: %v", err)
	}
}

// A repository that was begun and interrupted before its first index is taken
// up again; a directory that only looks like one is not.
func TestInterruptedFirst(t *testing.T) {
	dir := t.TempDir()
	os.MkdirAll(filepath.Join(dir, storage.Incoming), 0o755)
	os.MkdirAll(filepath.Join(dir, "packages/t/tide"), 0o755)
	publish(t, Open(dir), "testing", made(t, t.TempDir(), "tide", "1", "t", "x"))
	foreign := t.TempDir()
	os.MkdirAll(filepath.Join(foreign, "packages"), 0o755)
	var none *storage.NotRepositoryError
	if _, err := (storage.NewDirectory(foreign)).Lock(ctx); !errors.As(err, &none) || !none.Foreign {
		t.Errorf("somebody's directory called packages: %v", err)
	}
}

func TestPublishInterrupted(t *testing.T) {
	r := Open(t.TempDir())
	publish(t, r, "testing", made(t, t.TempDir(), "tide", "1", "t", "x"))
	before := contents(t, r)
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := r.Publish(stopped, "testing", []string{made(t, t.TempDir(), "ebb", "1", "t", "x")}, ChangeOptions{}, progress.None); !errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %v", err)
	}
	after := contents(t, r)
	for name, state := range before {
		if after[name] != state {
			t.Errorf("%s changed", name)
		}
	}
	for _, channel := range []string{"", "A", "../x", "a/b"} {
		if _, err := r.Publish(ctx, channel, nil, ChangeOptions{}, progress.None); err == nil {
			t.Errorf("a channel called %q", channel)
		}
	}
}
