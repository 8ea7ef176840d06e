package root

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
)

// outside is a directory beside a root, which nothing may change.
func outside(t *testing.T) (dir string, unchanged func()) {
	t.Helper()
	dir = t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "mine"), []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	return dir, func() {
		t.Helper()
		entries, err := os.ReadDir(dir)
		data, errRead := os.ReadFile(filepath.Join(dir, "mine"))
		if err != nil || errRead != nil || len(entries) != 1 || string(data) != "mine" {
			t.Errorf("outside of the root are %v: %q, %v", entries, data, errors.Join(err, errRead))
		}
	}
}

// A tree that an attacker prepared leads nothing out of it.
func TestPreparedTree(t *testing.T) {
	b := newBuilder(t)
	tide := b.pkg(t, "tide", "1", "/usr/share/tide = 1\nconfig:/etc/tide = 1")
	for what, prepare := range map[string]func(dir, outside string) error{
		"the state is a link":         func(dir, o string) error { return os.Symlink(o, filepath.Join(dir, "var")) },
		"the records are a link":      func(dir, o string) error { return replace(filepath.Join(dir, StateDir, objectsDir), o) },
		"the history is a link":       func(dir, o string) error { return replace(filepath.Join(dir, StateDir, historyDir), o) },
		"the lock is a link":          func(dir, o string) error { return replace(filepath.Join(dir, StateDir, lockFile), o+"/mine") },
		"the journal is a link":       func(dir, o string) error { return replace(filepath.Join(dir, StateDir, journalDir), o) },
		"what is installed is a link": func(dir, o string) error { return replace(filepath.Join(dir, StateDir, stateFile), o+"/mine") },
		"a new file's name is a link": func(dir, o string) error { return replace(filepath.Join(dir, StateDir, stateFile+".new"), o+"/mine") },
		"accounts are a link":         func(dir, o string) error { return replace(filepath.Join(dir, "etc/passwd"), o+"/mine") },
		"a configuration is a link":   func(dir, o string) error { return replace(filepath.Join(dir, "etc/tide"), o+"/mine") },
		"the destination is a link":   func(dir, o string) error { return replace(filepath.Join(dir, "usr/share/tide"), o+"/mine") },
		"a directory is a link":       func(dir, o string) error { return replace(filepath.Join(dir, "usr/share"), o) },
		"a directory is a link by ../": func(dir, o string) error {
			return replace(filepath.Join(dir, "usr/share"), "../../../../../../../.."+o)
		},
	} {
		t.Run(what, func(t *testing.T) {
			o, unchanged := outside(t)
			dir := t.TempDir()
			if what == "the state is a link" {
				if err := prepare(dir, o); err != nil {
					t.Fatal(err)
				}
			}
			r, err := Create(dir, Settings{Target: target, Arch: "x86_64", System: SystemNone})
			if err == nil {
				if err := prepare(dir, o); err != nil {
					t.Fatal(err)
				}
				// It may succeed inside of the root, or fail: what counts is the outside.
				if tx, err := r.Begin(t.Context(), Options{Runner: &recorder{}, Progress: progress.None}); err == nil {
					if p, err := tx.Plan(t.Context(), Request{Install: []Incoming{tide}, Adopt: []string{"/usr/share/tide", "/etc/tide"}}); err == nil {
						tx.Apply(t.Context(), p)
					}
					tx.Close()
				}
				r.Verify(t.Context(), nil, func(string) bool { return true }, progress.None)
				r.Close()
			}
			unchanged()
		})
	}
}

// replace puts a link in the place of a path.
func replace(p, to string) error {
	return errors.Join(os.RemoveAll(p), os.MkdirAll(filepath.Dir(p), 0o755), os.Symlink(to, p))
}

// A directory that becomes a link after the plan was made leads nothing out either.
func TestLinkAfterThePlan(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	o, unchanged := outside(t)
	if err := os.MkdirAll(filepath.Join(r.Dir, "usr/share"), 0o755); err != nil {
		t.Fatal(err)
	}
	tx, err := r.Begin(t.Context(), Options{Runner: &recorder{}, Progress: progress.None})
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	p, err := tx.Plan(t.Context(), Request{Install: []Incoming{b.pkg(t, "tide", "1", "/usr/share/tide = 1\n/usr/share/more/x = 1")}})
	if err != nil {
		t.Fatal(err)
	}
	if err := replace(filepath.Join(r.Dir, "usr/share"), o); err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Apply(t.Context(), p); err == nil {
		t.Error("it is installed")
	}
	unchanged()
}

// A journal that somebody else wrote is not obeyed where no transaction goes.
func TestForgedJournal(t *testing.T) {
	for what, text := range map[string]string{
		"a path outside":        `{"format":1,"temps":["/../../mine"]}`,
		"a relative path":       `{"format":1,"temps":["mine"]}`,
		"Ellwand's own":         `{"format":1,"removals":[{"path":"/var/lib/ellwand/root.json","type":"file"}]}`,
		"the root itself":       `{"format":1,"made":["/"]}`,
		"a rename out":          `{"format":1,"renames":[{"from":"/usr/x","to":"/usr/../../x"}]}`,
		"a mode that is none":   `{"format":1,"directories":[{"path":"/usr","mode":"rwx"}]}`,
		"another format":        `{"format":7}`,
		"no JSON":               `{"format":`,
		"an early removal of /": `{"format":1,"early":[{"path":"/","type":"dir","all":true}]}`,
	} {
		t.Run(what, func(t *testing.T) {
			for _, name := range []string{prepareFile, commitFile} {
				r := newRoot(t)
				_, unchanged := outside(t)
				edit(t, r, StateDir+"/"+name, text)
				tx, err := r.Begin(t.Context(), Options{Runner: &recorder{}, Progress: progress.None})
				var damaged *DamagedError
				if err == nil {
					tx.Close()
				}
				if !errors.As(err, &damaged) {
					t.Errorf("%s: %v", name, err)
				}
				unchanged()
			}
		})
	}
}

func FuzzRecord(f *testing.F) {
	r := &Record{Real: map[string]string{"/bin/tide": "/usr/bin/tide"}}
	data, _ := r.encode()
	f.Add(data)
	f.Add([]byte(`{"facts":{},"paths":1,"real":{"/a":"/b"}}` + "\n" + `{"group":"root","mode":"0755","owner":"root","path":"/a","type":"dir"}` + "\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		rec, err := ParseRecord(data)
		if err != nil {
			return
		}
		for _, e := range rec.Layout {
			if !isClean(rec.At(e.Path)) {
				t.Errorf("%q is at %q", e.Path, rec.At(e.Path))
			}
		}
	})
}

func FuzzOwners(f *testing.F) {
	f.Add(encodeOwners([]owned{{"/a\nb", "tide", false}, {"/a\\", "tide", true}, {"/c", "ebb", false}}))
	f.Add([]byte("/a\t-\ttide\n/b\td\ttide\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		all, err := decodeOwners(data)
		if err != nil {
			return
		}
		again := encodeOwners(all)
		back, err := decodeOwners(again)
		if err != nil || len(back) != len(all) {
			t.Fatalf("%q became %q: %v", data, again, err)
		}
		for _, o := range all {
			found := 0
			if err := eachOwner(strings.NewReader(string(again)), int64(len(again)), o.path, func(owned) { found++ }); err != nil && len(again) < block {
				t.Errorf("%q: %v", o.path, err)
			}
			if found == 0 && len(again) < block {
				t.Errorf("%q is not found in %q", o.path, again)
			}
		}
	})
}

// Owners are found among very many, at every block's end.
func TestManyOwners(t *testing.T) {
	var all []owned
	for n := range 20_000 {
		all = append(all, owned{fmt.Sprintf("/usr/share/%0*d", 3+n%90, n), "tide", false})
	}
	all = append(all, owned{"/usr/share", "ebb", true}, owned{"/usr/share", "tide", true})
	data := string(encodeOwners(all))
	for n, o := range all {
		if n%7 > 0 && n < len(all)-2 {
			continue
		}
		var got []string
		if err := eachOwner(strings.NewReader(data), int64(len(data)), o.path, func(o owned) { got = append(got, o.pkg) }); err != nil {
			t.Fatal(err)
		}
		if len(got) != 1 && o.path != "/usr/share" || o.path == "/usr/share" && len(got) != 2 {
			t.Fatalf("%s belongs to %v", o.path, got)
		}
	}
	for _, p := range []string{"/", "/a", "/usr/share/5x", "/zzz"} {
		if err := eachOwner(strings.NewReader(data), int64(len(data)), p, func(o owned) { t.Errorf("%s is %s", p, o.path) }); err != nil {
			t.Fatal(err)
		}
	}
}

// mounted mounts a small file system in memory on a directory.
func mounted(t *testing.T, dir, options string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can mount a small file system") // .ci/run does, in its first pass
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("ellwand-test", dir, "tmpfs", 0, options); err != nil {
		t.Skip("this machine lets nobody mount:", err)
	}
	t.Cleanup(func() { unix.Unmount(dir, unix.MNT_DETACH) })
}

// Without room, nothing is changed: neither if that is known before, nor if it turns out
// while files are written.
func TestNoRoom(t *testing.T) {
	b := newBuilder(t)
	big := b.pkg(t, "tide", "2", "/usr/share/tide/a = "+strings.Repeat("x", 3<<20)+"\n/usr/share/tide/b = 1")
	small := b.pkg(t, "tide", "1", "/usr/share/tide/a = 1\nconfig:/etc/tide = 1")
	for what, c := range map[string]struct {
		options string
		fill    func(dir string) error // once the plan is made
		want    string
	}{
		"known before": {"size=3m", nil, "are needed"},
		"while writing": {"size=16m", func(dir string) error {
			var s unix.Statfs_t
			if err := unix.Statfs(dir, &s); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(dir, "fill"), make([]byte, int64(s.Bavail)*s.Bsize-1<<20), 0o644)
		}, "no space left"},
		"inodes": {"size=16m,nr_inodes=80", func(dir string) error {
			for n := 0; ; n++ {
				if err := os.WriteFile(filepath.Join(dir, fmt.Sprint(n)), nil, 0o644); err != nil {
					return os.Remove(filepath.Join(dir, fmt.Sprint(n-1)))
				}
			}
		}, "no space left"},
	} {
		t.Run(what, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "small")
			mounted(t, dir, c.options)
			r, err := Create(filepath.Join(dir, "root"), Settings{Target: target, Arch: "x86_64", System: SystemNone})
			if err != nil {
				t.Fatal(err)
			}
			defer r.Close()
			must(t, r, Request{Install: []Incoming{small}})
			before := tree(t, r)
			tx, err := r.Begin(t.Context(), Options{Runner: &recorder{}, Progress: progress.None})
			if err != nil {
				t.Fatal(err)
			}
			p, err := tx.Plan(t.Context(), Request{Install: []Incoming{big}})
			if err != nil {
				t.Fatal(err)
			}
			if c.fill != nil {
				if err := c.fill(dir); err != nil {
					t.Fatal(err)
				}
			}
			_, err = tx.Apply(t.Context(), p)
			tx.Close()
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %s", err, c.want)
			}
			if c.fill != nil && fact.StatusOf(err) != fact.StatusMachine {
				t.Errorf("the status of %v is %d", err, fact.StatusOf(err))
			}
			if got := tree(t, r); !maps.Equal(got, before) {
				t.Errorf("left: %v", got)
			}
			verified(t, r)
		})
	}
}

// Another file system may begin inside of a root.
func TestBoundary(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	mounted(t, filepath.Join(r.Dir, "usr/share"), "size=4m,noexec")
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "1", "/usr/share/tide/a = 1\n/usr/bin/tide (0755) = 1\n/usr/share/b = 1")}})
	verified(t, r)
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "2", "/usr/share/tide = 2\n/usr/bin/tide (0755) = 2\n/usr/share/b/c = 1")}})
	verified(t, r)
	must(t, r, Request{Remove: []string{"tide"}})
	leftOver(t, r)
	if got := filesOf(t, r); got != "" {
		t.Errorf("left: %s", got)
	}
}

// A file system that is read-only is found before anything is changed.
func TestReadOnly(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	mounted(t, filepath.Join(r.Dir, "usr/share"), "size=4m,ro")
	_, _, err := change(t, r, nil, Request{Install: []Incoming{b.pkg(t, "tide", "1", "/usr/share/tide/a = 1\n/usr/bin/tide = 1")}})
	if err == nil || !strings.Contains(err.Error(), "the file system is read-only") || filesOf(t, r) != "" {
		t.Errorf("%v, and there is %s", err, filesOf(t, r))
	}
}

// Two changes of a root wait for each other; readers do not wait.
func TestLocked(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	tx, err := r.Begin(t.Context(), Options{Runner: &recorder{}, Progress: progress.None})
	if err != nil {
		t.Fatal(err)
	}
	other, err := Open(r.Dir)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if _, err := other.State(); err != nil {
		t.Error(err)
	}
	verified(t, other)
	done := make(chan error)
	go func() {
		tx, err := other.Begin(t.Context(), Options{Runner: &recorder{}, Progress: progress.None})
		if err == nil {
			_, err = tx.Plan(t.Context(), Request{Install: []Incoming{b.pkg(t, "tide", "1", "/usr/x = 1")}})
			tx.Close()
		}
		done <- err
	}()
	select {
	case err := <-done:
		t.Fatalf("it did not wait: %v", err)
	default:
	}
	tx.Close()
	if err := <-done; err != nil {
		t.Error(err)
	}
}
