package ell_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

// written makes a package with so many files, and returns its path.
func written(dir string, files int) (string, error) {
	disk := filepath.Join(dir, "table")
	if err := os.WriteFile(disk, []byte("high water 06:12\n"), 0o644); err != nil {
		return "", err
	}
	s := ell.Spec{Facts: ell.Facts{Name: "tide", Version: "1.2", Release: 1, Arch: "independent", Target: "saltmarsh-7", Summary: "Tides", License: "MIT", Recipe: "tide", Needs: []ell.Need{{Need: need.Must("command/awk")}}}, Time: time.Unix(1e9, 0)}
	for i := range files {
		s.Claims = append(s.Claims, staging.Claim{Path: staging.Path{Path: fmt.Sprintf("/usr/share/tide/%06d", i), Type: staging.File, Mode: 0o644, Disk: disk}, Owner: "root", Group: "root"})
	}
	w, err := ell.Write(context.Background(), dir, s, progress.None)
	return w.Path, err
}

func ExampleOpen() {
	dir, err := os.MkdirTemp("", "")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	path, err := written(dir, 2)
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := ell.Open(path)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer p.Close()
	fmt.Println(p.Facts.Identity(), "needs", p.Facts.Needs[0].Need)
	entries, err := p.Layout()
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range entries {
		fmt.Println(e.Mode, e.Path, e.Size)
	}
	var text strings.Builder
	if err := p.WriteFile(context.Background(), &text, entries[0]); err != nil {
		fmt.Println(err)
		return
	}
	fmt.Print(text.String())
	// Output:
	// tide@1.2-1 needs command/awk
	// 0644 /usr/share/tide/000000 17
	// 0644 /usr/share/tide/000001 17
	// high water 06:12
}

func BenchmarkOpen(b *testing.B) {
	path, err := written(b.TempDir(), 2000)
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		p, err := ell.Open(path)
		if err != nil {
			b.Fatal(err)
		}
		p.Close()
	}
}

func BenchmarkLayout(b *testing.B) {
	path, err := written(b.TempDir(), 2000)
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		p, err := ell.Open(path)
		if err != nil {
			b.Fatal(err)
		}
		if entries, err := p.Layout(); err != nil || len(entries) != 2000 {
			b.Fatal(len(entries), err)
		}
		p.Close()
	}
}
