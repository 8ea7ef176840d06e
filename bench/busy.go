package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// otherWrites is how much another process writes meanwhile, in MiB.
const otherWrites = 4096

const tinyRecipe = `format = 1
name = "tiny"
version = "1.0"
release = %d
arch = "independent"
summary = "Made up for measuring"
license = "MIT"
[steps]
build = 'true'
stage = 'mkdir -p "$DESTDIR/usr/share/tiny" && echo %d > "$DESTDIR/usr/share/tiny/x"'
`

// busy measures a tiny build and a publish while another process writes a lot
// to the same file system, against the same on a quiet one: what Ellwand
// flushes is its own, and not what others wrote. The work directory has to be
// on a disk.
func (b *bench) busy() {
	w := filepath.Join(b.work, "busy")
	check(os.MkdirAll(filepath.Join(w, "recipes/tiny"), 0o755))
	check(os.WriteFile(filepath.Join(w, "ellwand.toml"), []byte("[repository.local]\nurl = \"repository\"\n"), 0o644))
	run := func(args ...string) time.Duration {
		cmd := exec.Command(b.ellwand, args...)
		cmd.Dir, cmd.Stderr = w, os.Stderr
		cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(b.work, "busy-cache"))
		began := time.Now()
		check(cmd.Run())
		return time.Since(began)
	}
	release := 0
	measure := func() (build, publish time.Duration) {
		release++
		check(os.WriteFile(filepath.Join(w, "recipes/tiny/recipe.toml"), fmt.Appendf(nil, tinyRecipe, release, release), 0o644))
		build = run("build", "tiny", "-q")
		return build, run("publish", "--all", "-q")
	}
	measure()
	times := func() (build, publish time.Duration) {
		var builds, publishes []time.Duration
		for range max(b.runs, 7) {
			one, other := measure()
			builds, publishes = append(builds, one), append(publishes, other)
		}
		return median(builds), median(publishes)
	}
	quietBuild, quietPublish := times()
	written := filepath.Join(w, "others")
	other := exec.Command("dd", "if=/dev/zero", "of="+written, "bs=1M", fmt.Sprintf("count=%d", otherWrites), "status=none")
	check(other.Start())
	time.Sleep(time.Second / 2)
	busyBuild, busyPublish := times()
	check(other.Wait())
	check(os.Remove(written))
	row(fmt.Sprintf("a tiny build while another process writes %d MiB, the middle of 7", otherWrites), busyBuild, "on a quiet disk", quietBuild, "≤ 2")
	row("a publish of it, in the same way", busyPublish, "on a quiet disk", quietPublish, "≤ 2")
}
