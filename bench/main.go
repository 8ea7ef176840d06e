// Command bench measures Ellwand side by side with general tools that do the
// same work, in one run on one machine, and prints the ratios as a Markdown
// table:
//
//	go run ./bench [-runs 3] [-tree DIR] [-only PART]
//
// It needs tar, zstd, sha256sum and xargs.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ellwand.example/core/layout"
	"ellwand.example/core/pack"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/scan"
)

var ctx = context.Background()

func main() {
	// Work whose memory is measured runs in a process of its own.
	if len(os.Args) == 4 && os.Args[1] == "pack" {
		check(packTree(os.Args[2], os.Args[3]))
		return
	}
	runs := flag.Int("runs", 3, "how often each thing is measured; the best counts")
	tree := flag.String("tree", runtime.GOROOT(), "the tree to pack")
	only := flag.String("only", "", "measure one part: recipe, build, pack, repository or start")
	flag.Parse()
	work, err := os.MkdirTemp("", "ellwand-bench-")
	check(err)
	defer os.RemoveAll(work)
	b := &bench{runs: *runs, tree: *tree, work: work}
	fmt.Printf("%s, %d cores\n\n| what | Ellwand | against | | ratio | bar |\n|---|---|---|---|---|---|\n", runtime.GOARCH, runtime.NumCPU())
	b.program()
	for _, part := range []struct {
		name string
		run  func()
	}{{"recipe", b.recipe}, {"build", b.building}, {"pack", b.packing}, {"repository", b.repository}, {"start", b.start}} {
		if *only == "" || *only == part.name {
			part.run()
		}
	}
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct {
	runs       int
	tree, work string
	ellwand    string // the program
}

// best returns the shortest time of several runs.
func (b *bench) best(f func()) time.Duration {
	var times []time.Duration
	for range b.runs {
		began := time.Now()
		f()
		times = append(times, time.Since(began))
	}
	return slices.Min(times)
}

func row(what string, own time.Duration, against string, other time.Duration, bar string) {
	fmt.Printf("| %s | %s | %s | %s | %.3f | %s |\n", what, round(own), against, round(other), float64(own)/float64(other), bar)
}

func round(d time.Duration) string { return d.Round(time.Millisecond / 10).String() }

func shell(script string, args ...string) {
	cmd := exec.Command("sh", append([]string{"-c", script, "sh"}, args...)...)
	cmd.Stderr = os.Stderr
	check(cmd.Run())
}

func packTree(tree, out string) error {
	staged, err := layout.Walk(tree)
	if err != nil {
		return err
	}
	claims := make([]layout.Claim, len(staged))
	for i, p := range staged {
		p.Path = "/usr/lib/tree" + p.Path
		claims[i] = layout.Claim{Path: p, Owner: layout.Root, Group: layout.Root}
	}
	slices.SortFunc(claims, func(a, b layout.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	look := func(i int, r io.ReaderAt, size int64) error {
		_, err := scan.Contents(claims[i].Path.Path, r, size)
		return err
	}
	_, err = pack.Write(ctx, out, pack.Spec{Facts: facts("tree", "1"), Claims: claims, Time: time.Unix(1e9, 0), Look: look}, progress.None)
	return err
}

func facts(name, version string) pack.Facts {
	return pack.Facts{Name: name, Version: version, Release: 1, Arch: "any", Target: "bench", Summary: "Made up for measuring", License: "MIT", Recipe: name}
}

func (b *bench) packing() {
	packages := filepath.Join(b.work, "packages")
	other := filepath.Join(b.work, "tree.tar.zst")
	var peak int64
	own := b.best(func() {
		cmd := exec.Command(os.Args[0], "pack", b.tree, packages)
		cmd.Stderr = os.Stderr
		check(cmd.Run())
		peak = cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss / 1024
	})
	tools := b.best(func() {
		shell(`tar -C "$1" -cf - . | zstd -q -3 -T2 -f -o "$2" && find "$1" -type f -print0 | xargs -0 -P2 -n 500 sha256sum >/dev/null`, b.tree, other)
	})
	row("pack the Go toolchain's tree", own, "`tar \\| zstd -3 -T2`, and `sha256sum` of each file, 2 processes", tools, "≤ 0.7")
	file := filepath.Join(packages, facts("tree", "1").FileName())
	a, err := os.Stat(file)
	check(err)
	z, err := os.Stat(other)
	check(err)
	fmt.Printf("| its size | %d | the same | %d | %.3f | ≤ 1 |\n| its memory | %d MiB | | | | ≤ 256 MiB |\n", a.Size(), z.Size(), float64(a.Size())/float64(z.Size()), peak)

	read := b.best(func() {
		p, err := pack.Open(file)
		check(err)
		p.Close()
	})
	whole := b.best(func() {
		p, err := pack.Open(file)
		check(err)
		check(p.Verify(ctx))
		p.Close()
	})
	row("read its facts", read, "read and verify all of it", whole, "≤ 0.02")
}

// made makes n small packages and returns their files.
func (b *bench) made(prefix string, n int) []string {
	file := filepath.Join(b.work, "file")
	check(os.WriteFile(file, []byte(strings.Repeat("tide ", 1000)), 0o644))
	var files []string
	for i := range n {
		name := prefix + strconv.Itoa(i)
		f := facts(name, "1."+strconv.Itoa(i%7))
		f.Provides = []pack.Provide{{Provide: "command/" + name}}
		w, err := pack.Write(ctx, filepath.Join(b.work, "made"), pack.Spec{Facts: f, Time: time.Unix(1e9, 0), Claims: []layout.Claim{
			{Path: layout.Path{Path: "/usr/bin/" + name, Type: layout.File, Mode: 0o755, Disk: file}, Owner: layout.Root, Group: layout.Root}}}, progress.None)
		check(err)
		files = append(files, w.Path)
	}
	return files
}

func (b *bench) repository() {
	const many, few = 2000, 50
	files := b.made("pkg-", many)
	large, small := repo.Open(filepath.Join(b.work, "large")), repo.Open(filepath.Join(b.work, "small"))
	publish := func(r *repo.Repository, files ...string) time.Duration {
		began := time.Now()
		_, err := r.Publish(ctx, "testing", files, repo.Terms{}, progress.None)
		check(err)
		return time.Since(began)
	}
	first := publish(large, files...)
	sums := b.best(func() {
		cmd := exec.Command("sha256sum", files...)
		cmd.Stdout = io.Discard
		check(cmd.Run())
	})
	row(fmt.Sprintf("publish %d packages", many), first, "`sha256sum` of the same files", sums, "")
	row("the same again, nothing changed", publish(large, files...), "the first time", first, "")
	publish(small, files[:few]...)
	var intoLarge, intoSmall []time.Duration
	for i, f := range b.made("one-", 2*b.runs) {
		if i%2 == 0 {
			intoLarge = append(intoLarge, publish(large, f))
		} else {
			intoSmall = append(intoSmall, publish(small, f))
		}
	}
	row(fmt.Sprintf("publish one package into %d", many), slices.Min(intoLarge), fmt.Sprintf("into %d", few), slices.Min(intoSmall), "≤ 1.5")
	find := b.best(func() {
		hits, err := large.Search(ctx, "testing", "command/pkg-1999")
		check(err)
		if len(hits) != 1 {
			check(fmt.Errorf("%d packages found", len(hits)))
		}
	})
	grep := b.best(func() {
		shell(`zstd -dcq "$1"/shards/*.zst | grep -c command/pkg-1999 >/dev/null`, filepath.Join(b.work, "large"))
	})
	row(fmt.Sprintf("find by provide among %d", many), find, "`zstd -dc` of the index through grep", grep, "≤ 1")
}

// program builds the program itself.
func (b *bench) program() {
	b.ellwand = filepath.Join(b.work, "ellwand")
	build := exec.Command("go", "build", "-o", b.ellwand, "./cmd/ellwand")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		check(fmt.Errorf("%w: %s", err, out))
	}
}

func (b *bench) start() {
	own := b.best(func() { check(exec.Command(b.ellwand, "--version").Run()) })
	other := b.best(func() { check(exec.Command("zstd", "--version").Run()) })
	row("start: `ellwand --version`", own, "`zstd --version`", other, "< 20 ms")
}
