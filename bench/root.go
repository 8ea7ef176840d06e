package main

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

// packDir packs a directory as /usr/lib/tree of a package.
func packDir(dir, out, name, version string) string {
	staged, err := staging.Walk(dir)
	check(err)
	claims := make([]staging.Claim, len(staged))
	for i, p := range staged {
		p.Path = "/usr/lib/" + name + p.Path
		claims[i] = staging.Claim{Path: p, Owner: staging.Root, Group: staging.Root}
	}
	slices.SortFunc(claims, func(a, b staging.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	w, err := ell.Write(ctx, out, ell.Spec{Facts: facts(name, version), Claims: claims, Time: time.Unix(1e9, 0)}, progress.None)
	check(err)
	return w.Path
}

// roots installs the tree's package into roots, verifies and upgrades it.
func (b *bench) roots() {
	dir := filepath.Join(b.work, "roots")
	check(os.MkdirAll(dir, 0o755))
	first := packDir(b.tree, dir, "tree", "1")
	var upgraded []string // packages, for each edit
	for i, e := range edits {
		upgraded = append(upgraded, packDir(b.edited(e), dir, "tree", fmt.Sprint(i+2)))
	}
	archive, sums := filepath.Join(dir, "tree.tar.zst"), filepath.Join(dir, "sums")
	shell(`tar -C "$1" -cf - . | zstd -q -3 -T2 -f -o "$2" && cd "$1" && find . -type f -print0 | xargs -0 sha256sum >"$3"`, b.tree, archive, sums)

	n := 0
	fresh := func() string {
		n++
		at := filepath.Join(dir, fmt.Sprint("root", n))
		b.run("root", "create", at, "--system", "none", "-q")
		return at
	}
	timed := func(prepare func() string, f func(at string)) time.Duration {
		var times []time.Duration
		for range b.runs {
			at := prepare()
			began := time.Now()
			f(at)
			times = append(times, time.Since(began))
		}
		return slices.Min(times)
	}
	install := timed(fresh, func(at string) { b.run("root", "install", at, first, "-q") })
	tools := timed(func() string {
		n++
		at := filepath.Join(dir, fmt.Sprint("untarred", n))
		check(os.Mkdir(at, 0o755))
		return at
	}, func(at string) {
		shell(`tar --zstd -C "$1" -xf "$2" && cd "$1" && sha256sum -c --quiet "$3"`, at, archive, sums)
	})
	row("`ellwand root install` of that package", install, "`tar --zstd -xf` of its tree, and `sha256sum -c`", tools, "≤ 0.8")
	last := filepath.Join(dir, fmt.Sprint("untarred", n))
	verified := filepath.Join(dir, "root1")
	verify := b.best(func() { b.run("root", "verify", verified, "-q") })
	sha := b.best(func() {
		shell(`cd "$1" && split -n l/2 "$2" "$2". && for f in "$2".*; do sha256sum -c --quiet "$f" & done; wait`, last, sums)
	})
	row("`ellwand root verify`", verify, "`sha256sum -c`, 2 processes", sha, "≤ 1")
	for i, e := range edits {
		upgrade := timed(func() string {
			at := fresh()
			b.run("root", "install", at, first, "-q")
			return at
		}, func(at string) { b.run("root", "install", at, upgraded[i], "-q") })
		row("upgrade, where 1 % of the files changed, "+e.where, upgrade, "the first installation", install, "≤ 0.1")
	}
	b.manyPaths(dir)
}

// manyPaths installs packages with very many small files.
func (b *bench) manyPaths(dir string) {
	const each = 100_000
	many := filepath.Join(dir, "many")
	for i := range each {
		sub := filepath.Join(many, fmt.Sprint(i/500))
		if i%500 == 0 {
			check(os.MkdirAll(sub, 0o755))
		}
		check(os.WriteFile(filepath.Join(sub, fmt.Sprintf("a file %d", i)), fmt.Appendf(nil, "tide %d", i), 0o644))
	}
	at := filepath.Join(dir, "large")
	b.run("root", "create", at, "--system", "none", "-q")
	for _, name := range []string{"many", "more"} {
		file := packDir(many, dir, name, "1")
		peak := b.peak(b.ellwand, "root", "install", at, file, "-q")
		fmt.Printf("| memory of installing %d files | %d MiB | | | | ≤ 256 MiB |\n", each, peak)
	}
	own := b.best(func() { b.run("root", "owner", at, "/usr/lib/more/100/a file 50017", "-q") })
	paths := 0
	check(filepath.WalkDir(at, func(_ string, _ fs.DirEntry, err error) error { paths++; return err }))
	fmt.Printf("| `ellwand root owner` among %d paths | %s | | | | < 20 ms |\n", paths, round(own))
}

// run runs the program.
func (b *bench) run(args ...string) {
	cmd := exec.Command(b.ellwand, args...)
	cmd.Dir, cmd.Stderr = b.work, os.Stderr // no workspace
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(b.work, "cache"))
	check(cmd.Run())
}

// planning finds out what an installation among very many packages would do, from the
// command to the plan.
func (b *bench) planning() {
	r := b.largeRepository()
	at := filepath.Join(b.work, "planned")
	check(os.RemoveAll(at))
	b.run("--target", "bench", "root", "create", at, "--system", "none", "--repository", r.Storage.Where(), "-q")
	last := world(b.large)
	name := last[len(last)-1].facts.Name
	began := time.Now()
	b.run("root", "install", at, name, "--dry-run", "-q")
	cold := time.Since(began)
	own := b.best(func() { b.run("root", "install", at, name, "--dry-run", "-q") })
	peak := b.peak(b.ellwand, "root", "install", at, name, "--dry-run", "-q")
	fmt.Printf("| `ellwand root install --dry-run` among %d, from command to plan | %s | the first time: %s | | | < 0.5 s |\n| its memory | %d MiB | | | | < 200 MiB |\n", b.large, round(own), round(cold), peak)
}
