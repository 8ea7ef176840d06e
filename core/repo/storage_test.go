package repo

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"ellwand.example/core/progress"
	"ellwand.example/core/repo/storage"
)

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
