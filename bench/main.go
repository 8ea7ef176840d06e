// Command bench measures Ellwand side by side with general tools that do the
// same work, in one run on one machine, and prints the ratios as a Markdown
// table:
//
//	go run ./bench [-runs 3] [-tree DIR] [-only PART] [-keep DIR]
//
// It needs tar, zstd, sha256sum and xargs.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/staging"
)

var ctx = context.Background()

func main() {
	// Work whose memory is measured runs in a process of its own.
	if len(os.Args) >= 4 && os.Args[1] == "pack" {
		check(packTree(os.Args[2], os.Args[3], os.Args[4:]...))
		return
	}
	if len(os.Args) > 2 && os.Args[1] == "measure" {
		check(measure(os.Args[2], os.Args[3:]))
		return
	}
	if len(os.Args) == 3 && os.Args[1] == "solve" {
		check(solveFrom(os.Args[2]))
		return
	}
	runs := flag.Int("runs", 3, "how often each thing is measured; the best counts")
	tree := flag.String("tree", runtime.GOROOT(), "the tree to pack")
	only := flag.String("only", "", "measure one part: recipe, build, pack, lint, root, image, repository, solve, plan, busy or start")
	large := flag.Int("large", 50_000, "how many packages the large repository has")
	keep := flag.String("keep", "", "a directory to work in, in which the large repository stays for the next time")
	flag.Parse()
	work, err := *keep, error(nil)
	if work == "" {
		work, err = os.MkdirTemp("", "ellwand-bench-")
		defer os.RemoveAll(work)
	}
	check(err)
	work, err = filepath.Abs(work) // commands are run in it
	check(err)
	b := &bench{runs: *runs, tree: *tree, work: work, large: *large}
	fmt.Printf("%s, %d cores\n\n| what | Ellwand | against | | ratio | bar |\n|---|---|---|---|---|---|\n", runtime.GOARCH, runtime.NumCPU())
	b.program()
	for _, part := range []struct {
		name string
		run  func()
	}{{"recipe", b.recipe}, {"build", b.building}, {"pack", b.packing}, {"lint", b.linting}, {"root", b.roots}, {"image", b.images}, {"repository", b.repository}, {"solve", b.solving}, {"plan", b.planning}, {"busy", b.busy}, {"start", b.start}} {
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
	large      int
	filled     *repo.Repository // the large repository, once it is made
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

// peak is the most memory that a command takes, in MiB. The kernel counts what
// its parent has before it starts, so that it is started by a small process.
func (b *bench) peak(command ...string) int64 {
	result := filepath.Join(b.work, "peak")
	cmd := exec.Command(os.Args[0], append([]string{"measure", result}, command...)...)
	cmd.Dir, cmd.Stderr = b.work, os.Stderr // no workspace
	check(cmd.Run())
	data, err := os.ReadFile(result)
	check(err)
	n, err := strconv.ParseInt(string(data), 10, 64)
	check(err)
	return n
}

// measure runs a command, and writes down the most memory that it took.
func measure(result string, command []string) error {
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Stderr = os.Stderr
	checkFindings(cmd.Run())
	return os.WriteFile(result, fmt.Append(nil, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss/1024), 0o644)
}

// checkFindings is check for a command that may end with findings.
func checkFindings(err error) {
	var exit *exec.ExitError
	if !errors.As(err, &exit) || exit.ExitCode() != 1 {
		check(err)
	}
}

func round(d time.Duration) string { return d.Round(time.Millisecond / 10).String() }

func shell(script string, args ...string) {
	cmd := exec.Command("sh", append([]string{"-c", script, "sh"}, args...)...)
	cmd.Stderr = os.Stderr
	check(cmd.Run())
}

// packTree packs a tree, as a build does that finds earlier packages.
func packTree(tree, out string, earlier ...string) error {
	staged, err := staging.Walk(tree)
	if err != nil {
		return err
	}
	claims := make([]staging.Claim, len(staged))
	for i, p := range staged {
		p.Path = "/usr/lib/tree" + p.Path
		claims[i] = staging.Claim{Path: p, Owner: staging.Root, Group: staging.Root}
	}
	slices.SortFunc(claims, func(a, b staging.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	look := func(i int, r io.ReaderAt, size int64) error {
		_, err := scan.Contents(claims[i].Path.Path, r, size)
		return err
	}
	known, err := ell.NewKnownFrames(ell.BuildRecord{}, earlier...)
	if err != nil {
		return err
	}
	defer known.Close()
	_, err = ell.Write(ctx, out, ell.Spec{Facts: facts("tree", "1"), Claims: claims, Time: time.Unix(1e9, 0), Look: look, Known: known}, progress.None)
	return err
}

func facts(name, version string) ell.Facts {
	return ell.Facts{Name: name, Version: version, Release: 1, Arch: "independent", Target: "bench", Summary: "Made up for measuring", License: "MIT", Recipe: name}
}

func (b *bench) packing() {
	packages := filepath.Join(b.work, "packages")
	other := filepath.Join(b.work, "tree.tar.zst")
	own := b.best(func() {
		cmd := exec.Command(os.Args[0], "pack", b.tree, packages)
		cmd.Stderr = os.Stderr
		check(cmd.Run())
	})
	peak := b.peak(os.Args[0], "pack", b.tree, packages)
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

	for _, edit := range edits {
		changed := b.edited(edit)
		again := filepath.Join(b.work, "again")
		took := b.best(func() {
			cmd := exec.Command(os.Args[0], "pack", changed, again, file)
			cmd.Stderr = os.Stderr
			check(cmd.Run())
		})
		row("pack again after an edit of 1 % of the files, "+edit.where, took, "packing from nothing", own, "≤ 0.25")
		got, size := fetched(filepath.Join(again, filepath.Base(file)), file)
		fmt.Printf("| bytes fetched for an upgrade to it over HTTP | %d | the package | %d | %.3f | ≤ 0.05 |\n", got, size, float64(got)/float64(size))
	}

	read := b.best(func() {
		p, err := ell.Open(file)
		check(err)
		p.Close()
	})
	whole := b.best(func() {
		p, err := ell.Open(file)
		check(err)
		check(p.Verify(ctx))
		p.Close()
	})
	row("read its facts", read, "read and verify all of it", whole, "≤ 0.02")
}

// edit is a way to choose 1 % of a tree's files: a condition on the number of
// each, as awk has it.
type edit struct{ where, condition string }

var edits = []edit{{"next to each other", "NR % 3000 < 30"}, {"everywhere", "NR % 100 == 0"}}

// edited copies the tree and changes some of its files.
func (b *bench) edited(e edit) string {
	dir := filepath.Join(b.work, "edited")
	shell(`rm -rf "$2" && cp -r "$1" "$2" && cd "$2" && find . -type f | LC_ALL=C sort | awk "$3" | while read -r f; do chmod u+w "$f"; echo x >>"$f"; done`, b.tree, dir, e.condition)
	return dir
}

// fetched is how much of a package is read from a server by a client that has an
// earlier one, and how large it is.
func fetched(file, earlier string) (n, size int64) {
	server := httptest.NewServer(http.FileServer(http.Dir(filepath.Dir(file))))
	defer server.Close()
	p, err := ell.OpenURL(ctx, server.URL+"/"+filepath.Base(file), nil)
	check(err)
	defer p.Close()
	old, err := ell.Open(earlier)
	check(err)
	defer old.Close()
	n, err = p.Assemble(ctx, io.Discard, []*ell.Package{old})
	check(err)
	return n, p.Size
}

// linting looks at a package of many files, with the program itself.
func (b *bench) linting() {
	packages := filepath.Join(b.work, "packages")
	check(packTree(b.tree, packages))
	file := filepath.Join(packages, facts("tree", "1").FileName())
	p, err := ell.Open(file)
	check(err)
	check(p.Close())
	own := b.best(func() {
		cmd := exec.Command(b.ellwand, "lint", file, "--json")
		cmd.Dir = b.work // no workspace
		checkFindings(cmd.Run())
	})
	peak := b.peak(b.ellwand, "lint", file, "--json")
	tools := b.best(func() {
		shell(`find "$1" -type f -print0 | xargs -0 -P2 -n 500 sha256sum >/dev/null`, b.tree)
	})
	row(fmt.Sprintf("`ellwand lint` of that package of %d paths", p.Facts.Paths), own, "`sha256sum` of its files, 2 processes", tools, "< 1")
	fmt.Printf("| its memory | %d MiB | | | | ≤ 256 MiB |\n", peak)
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
