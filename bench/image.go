package main

import (
	"fmt"
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

// imagePackages is how many packages are in the image.
const imagePackages = 50

// images makes an OCI image of the tree, divided among packages, and again after one changed.
func (b *bench) images() {
	dir := filepath.Join(b.work, "images")
	packages := filepath.Join(dir, "packages", facts("x", "1").Target)
	check(os.MkdirAll(packages, 0o755))
	check(os.MkdirAll(filepath.Join(dir, "images"), 0o755))
	check(os.WriteFile(filepath.Join(dir, "ellwand.toml"), fmt.Appendf(nil, "[build]\ntarget = %q\n[target.%s]\n", facts("x", "1").Target, facts("x", "1").Target), 0o644))
	staged, err := staging.Walk(b.tree)
	check(err)
	var names []string
	write := func(n int, version string) {
		name := fmt.Sprintf("tree%02d", n)
		var claims []staging.Claim
		for i, p := range staged {
			if p.Type == staging.File && i%imagePackages == n {
				p.Path, p.Inode = "/usr/lib/"+name+p.Path, staging.Inode{}
				claims = append(claims, staging.Claim{Path: p, Owner: staging.Root, Group: staging.Root})
			}
		}
		if version != "1" {
			extra := filepath.Join(dir, "extra"+version)
			check(os.WriteFile(extra, []byte(version), 0o644))
			claims = append(claims, staging.Claim{Path: staging.Path{Path: "/usr/lib/" + name + "/version", Type: staging.File, Mode: 0o644, Size: int64(len(version)), Disk: extra}, Owner: staging.Root, Group: staging.Root})
		}
		slices.SortFunc(claims, func(a, b staging.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
		_, err := ell.Write(ctx, packages, ell.Spec{Facts: facts(name, version), Claims: claims, Time: time.Unix(1e9, 0)}, progress.None)
		check(err)
		names = append(names, fmt.Sprintf("%q", name))
	}
	for n := range imagePackages {
		write(n, "1")
	}
	archive := filepath.Join(dir, "tree.tar")
	for _, c := range []struct{ compression, tool string }{{"gzip", "gzip"}, {"zstd", "zstd -q -3 -T2"}} {
		check(os.WriteFile(filepath.Join(dir, "images", "bench.toml"), fmt.Appendf(nil, "format = 1\npackages = [%s]\n[oci]\ncompression = %q\n", strings.Join(names[:imagePackages], ", "), c.compression), 0o644))
		var first []time.Duration
		for range b.runs {
			for _, gone := range []string{"images/made", "images/bench.lock", ".ellwand"} {
				check(os.RemoveAll(filepath.Join(dir, gone)))
			}
			began := time.Now()
			b.runIn(dir, "image", "bench", "-q")
			first = append(first, time.Since(began))
		}
		tool := b.best(func() { shell(`tar -C "$1" -cf - . | `+c.tool+` >"$2"`, b.tree, archive) })
		own := slices.Min(first)
		row(fmt.Sprintf("OCI image of %d packages, %s, nothing cached", imagePackages, c.compression), own, "`tar \\| "+c.tool+"`", tool, "≤ 1.0")
		var again []time.Duration
		for i := range b.runs {
			write(7, fmt.Sprintf("%s.%d", map[string]string{"gzip": "2", "zstd": "3"}[c.compression], i))
			began := time.Now()
			b.runIn(dir, "image", "bench", "--update", "-q")
			again = append(again, time.Since(began))
		}
		row("the same after one package changed", slices.Min(again), "the first time", own, "≤ 0.2")
	}
	check(os.RemoveAll(filepath.Join(dir, "images/made")))
	fmt.Printf("| memory of that image | %d MiB | | | | ≤ 256 MiB |\n", b.peak(b.ellwand, "--workspace", dir, "image", "bench", "-q"))
}

// runIn runs the program in a workspace.
func (b *bench) runIn(dir string, args ...string) {
	cmd := exec.Command(b.ellwand, args...)
	cmd.Dir, cmd.Stderr = dir, os.Stderr
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(b.work, "cache"))
	check(cmd.Run())
}
