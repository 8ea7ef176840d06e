package root

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/progress"
)

// BenchmarkInstall installs a package of 5,000 small files.
func BenchmarkInstall(b *testing.B) {
	made := newBuilder(b)
	var files string
	for n := range 5000 {
		files += fmt.Sprintf("/usr/share/tide/%d/file %d = tide %d\n", n/100, n, n)
	}
	in := made.pkg(b, "tide", "1", files)
	if at := os.Getenv("ELLWAND_BENCH_PACKAGE"); at != "" {
		p, err := ell.Open(at)
		if err != nil {
			b.Fatal(err)
		}
		defer p.Close()
		in = Incoming{Package: p}
	}
	n := 0
	for b.Loop() {
		n++
		r, err := Create(filepath.Join(b.TempDir(), fmt.Sprint(n)), Settings{Target: in.Package.Facts.Target, Arch: "x86_64", System: SystemNone})
		if err != nil {
			b.Fatal(err)
		}
		tx, err := r.Begin(b.Context(), Options{Runner: &recorder{}, Progress: progress.None})
		if err != nil {
			b.Fatal(err)
		}
		p, err := tx.Plan(b.Context(), Request{Install: []Incoming{in}})
		if err != nil {
			b.Fatal(err)
		}
		if _, err := tx.Apply(b.Context(), p); err != nil {
			b.Fatal(err)
		}
		tx.Close()
		r.Close()
	}
}
