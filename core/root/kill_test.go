package root

import (
	"context"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/progress"
)

var kills = flag.Int("kills", 100, "how many transactions are killed")

// killedRoot is set in a process that changes a root until it is killed.
const killedRoot = "ELLWAND_TEST_KILLED_ROOT"

func TestMain(m *testing.M) {
	if dir := os.Getenv(killedRoot); dir != "" {
		if err := changeForever(dir, os.Getenv("ELLWAND_TEST_PACKAGES")); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(3)
		}
	}
	os.Exit(m.Run())
}

// changeForever upgrades, downgrades and removes packages.
func changeForever(dir, packages string) error {
	r, err := Open(dir)
	if err != nil {
		return err
	}
	for {
		tx, err := r.Begin(context.Background(), Options{Runner: &recorder{}, Progress: progress.None})
		if err != nil {
			return err
		}
		q := Request{Action: "change"}
		name := []string{"tide", "ebb"}[rand.IntN(2)]
		if _, there := tx.State().Find(name); there && rand.IntN(4) == 0 {
			q.Remove = []string{name}
		} else {
			p, err := ell.Open(filepath.Join(packages, fmt.Sprintf("%s@%d-1.x86_64.ell", name, 1+rand.IntN(2))))
			if err != nil {
				return err
			}
			q.Install = []Incoming{{Package: p}}
		}
		plan, err := tx.Plan(context.Background(), q)
		if err != nil {
			return err
		}
		if _, err := tx.Apply(context.Background(), plan); err != nil {
			return err
		}
		tx.Close()
	}
}

// TestKilledTransactions kills a process that changes a root, again and again. Afterwards
// the next transaction finds the root whole, with no file of a transaction left over, and
// what it has are the files of the packages that it says it has.
func TestKilledTransactions(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	packages := t.TempDir()
	contents := map[string]string{} // "tide 1" → its files
	for _, name := range []string{"tide", "ebb"} {
		for v := 1; v <= 2; v++ {
			var lines []string
			for n := range 12 + v {
				lines = append(lines, fmt.Sprintf("/usr/share/%s/%d/file %d = %d %s", name, n%3, n, v, strings.Repeat("x", n*500)))
			}
			lines = append(lines, fmt.Sprintf("config:/etc/%s = %d", name, v))
			if v == 1 {
				lines = append(lines, "/usr/share/"+name+"/odd = file")
			} else {
				lines = append(lines, "/usr/share/"+name+"/odd/below = file")
			}
			in := b.pkg(t, name, fmt.Sprint(v), strings.Join(lines, "\n"), scripted(map[string]string{preInstall: "true", postInstall: "true"}))
			if err := os.Link(in.Package.Path, filepath.Join(packages, filepath.Base(in.Package.Path))); err != nil {
				t.Fatal(err)
			}
			alone := newRoot(t)
			must(t, alone, Request{Install: []Incoming{in}})
			contents[fmt.Sprint(name, " ", v)] = filesOf(t, alone)
		}
	}
	edit(t, r, "etc/mine", "not touched")
	undone, finished := 0, 0
	for n := range *kills {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), killedRoot+"="+r.Dir, "ELLWAND_TEST_PACKAGES="+packages)
		var errs strings.Builder
		cmd.Stderr = &errs
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(20+rand.IntN(60)) * time.Millisecond)
		cmd.Process.Kill()
		cmd.Wait()
		if errs.Len() > 0 {
			t.Fatalf("kill %d: %s", n, errs.String())
		}
		tx, err := r.Begin(t.Context(), Options{Runner: &recorder{}, Progress: progress.None})
		if err != nil {
			t.Fatalf("kill %d: %v", n, err)
		}
		if tx.Recovered != nil {
			undone++
			if tx.Recovered.Finished {
				finished++
			}
		}
		want := "/etc/mine 0644 not touched"
		for _, p := range tx.State().Packages {
			want += "; " + contents[p.Name+" "+p.Version]
		}
		tx.Close()
		verified(t, r)
		if got := filesOf(t, r); !sameParts(got, want) {
			t.Fatalf("kill %d: there is\n%.2000s\nand not\n%.2000s", n, got, want)
		}
		leftOver(t, r)
	}
	if *kills >= 50 && (undone == finished || finished == 0) {
		t.Errorf("of %d interrupted transactions, %d were finished: the kills do not come at all moments", undone, finished)
	}
}

func sameParts(a, b string) bool {
	x, y := map[string]bool{}, map[string]bool{}
	for s := range strings.SplitSeq(a, "; ") {
		x[s] = true
	}
	for s := range strings.SplitSeq(b, "; ") {
		y[s] = true
	}
	if len(x) != len(y) {
		return false
	}
	for s := range x {
		if !y[s] {
			return false
		}
	}
	return true
}

// leftOver fails if a file of a transaction is still there.
func leftOver(t testing.TB, r *Root) {
	t.Helper()
	err := filepath.WalkDir(r.Dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasPrefix(d.Name(), tempPrefix) {
			t.Errorf("left over: %s", p)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(r.where(journalDir)); err == nil {
		t.Error("the journal is still there")
	}
}
