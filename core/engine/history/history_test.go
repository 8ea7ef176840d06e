package history

import (
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"
)

func TestHistory(t *testing.T) {
	ctx := t.Context()
	file := filepath.Join(t.TempDir(), "a directory? #1", "history.sqlite")
	s, err := Open(ctx, file)
	if err != nil {
		t.Fatal(err)
	}
	began := time.Date(2031, 4, 2, 10, 0, 0, 0, time.UTC)
	for i, seconds := range []float64{9, 1, 3, 2, 4, 5} {
		id, err := s.Begin(ctx, Build{Recipe: "tide", Version: "1-1", Began: began, Logs: "logs"})
		if err != nil || id != int64(i+1) {
			t.Fatal(id, err)
		}
		b := Build{ID: id, State: "built", Seconds: seconds, Steps: []Step{{Step: "build", Seconds: seconds, Memory: 7, Warnings: i}, {Step: "pack", Reused: true}}, Packages: []Package{{"tide", "ab", 3}}}
		if i == 5 {
			b.State, b.Cause, b.Steps[0].Status = "failed", "why", 1
		}
		if err := s.End(ctx, b); err != nil {
			t.Fatal(err)
		}
	}
	s.Begin(ctx, Build{Recipe: "other", Version: "1-1", Began: began})
	if all, err := s.List(ctx, "tide", 2); err != nil || len(all) != 2 || all[0].State != "failed" || all[0].Cause != "why" || all[0].Steps[0].Warnings != 5 || len(all[1].Packages) != 1 || !all[0].Began.Equal(began) {
		t.Errorf("%+v, %v", all, err)
	}
	if all, _ := s.List(ctx, "", 10); len(all) != 7 || all[0].State != Running {
		t.Errorf("all: %+v", all)
	}
	if got := s.Usual(ctx, "tide", "build"); got != 3*time.Second {
		t.Errorf("usually %s", got)
	}
	if got := s.Usual(ctx, "tide", "pack"); got != 0 {
		t.Errorf("what was never run takes %s", got)
	}
	if _, err := s.Get(ctx, 99); !errors.Is(err, ErrNone) {
		t.Error(err)
	}
	s.Close()
	os.WriteFile(file, []byte("this is no database, and much too long to be taken for an empty one"), 0o644)
	os.Remove(file + "-wal")
	os.Remove(file + "-shm")
	if s, err = Open(ctx, file); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if all, err := s.List(ctx, "", 10); err != nil || len(all) != 0 {
		t.Errorf("after damage: %v, %v", all, err)
	}
}

// Several processes write at once.
func TestAtOnce(t *testing.T) {
	file := filepath.Join(t.TempDir(), "history.sqlite")
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			s, err := Open(t.Context(), file)
			if err != nil {
				t.Error(err)
				return
			}
			defer s.Close()
			for range 20 {
				id, err := s.Begin(t.Context(), Build{Recipe: "tide", Began: time.Now()})
				if err != nil {
					t.Error(err)
					return
				}
				if err := s.End(t.Context(), Build{ID: id, State: "built", Steps: []Step{{Step: "build"}}}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wait.Wait()
	s, err := Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if all, err := s.List(t.Context(), "tide", 1000); err != nil || len(all) != 160 {
		t.Errorf("%d builds, %v", len(all), err)
	}
}
