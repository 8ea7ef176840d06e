package sandbox

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// cgroupRoots are where cgroup v2 is mounted.
var cgroupRoots = []string{"/sys/fs/cgroup", "/sys/fs/cgroup/unified"}

// cgroup is a control group of version 2 that one command runs in
// (https://docs.kernel.org/admin-guide/cgroup-v2.html).
type cgroup struct{ dir string }

// newCgroup makes a control group with the limits, if the caller may: below
// the nearest group above its own that hands out the controllers for memory
// and processes. It is nil if there is none; the watch inside then does what
// it can.
func newCgroup(l Limits) *cgroup {
	own, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return nil
	}
	for _, root := range cgroupRoots {
		if g := newCgroupBelow(root, string(own), l); g != nil {
			return g
		}
	}
	return nil
}

func newCgroupBelow(root, own string, l Limits) *cgroup {
	path, found := "", false
	for line := range strings.Lines(own) {
		if p, ok := strings.CutPrefix(strings.TrimSpace(line), "0::"); ok {
			path, found = filepath.Clean(p), true
		}
	}
	if !found {
		return nil
	}
	for ; ; path = filepath.Dir(path) {
		dir := filepath.Join(root, path)
		if unix.Access(filepath.Join(dir, "cgroup.procs"), unix.W_OK) != nil {
			return nil // moving a process needs the right to write in the common ancestor
		}
		handed, err := os.ReadFile(filepath.Join(dir, "cgroup.subtree_control"))
		fields := " " + strings.TrimSpace(string(handed)) + " "
		if err == nil && strings.Contains(fields, " memory ") && strings.Contains(fields, " pids ") {
			g := &cgroup{filepath.Join(dir, fmt.Sprintf("ellwand-%d-%d", os.Getpid(), time.Now().UnixNano()))}
			if g.make(l) == nil {
				return g
			}
			g.remove()
			return nil
		}
		if path == "/" || path == "." {
			return nil
		}
	}
}

func (g *cgroup) make(l Limits) error {
	if err := os.Mkdir(g.dir, 0o755); err != nil {
		return err
	}
	set := func(name string, value int64) error {
		if value <= 0 {
			return nil
		}
		return os.WriteFile(filepath.Join(g.dir, name), []byte(strconv.FormatInt(value, 10)), 0o644)
	}
	if err := errors.Join(set("memory.max", l.Memory), set("pids.max", l.Processes)); err != nil {
		return err
	}
	if l.Memory > 0 {
		// Without these, memory goes to swap, or one process of many dies and
		// the build goes on with a baffling error.
		for name, value := range map[string]string{"memory.swap.max": "0", "memory.oom.group": "1"} {
			if err := os.WriteFile(filepath.Join(g.dir, name), []byte(value), 0o644); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// used tells the most memory that was in use, in bytes, and whether the kernel
// ended processes for it.
func (g *cgroup) used() (peak int64, exceeded bool) {
	if data, err := os.ReadFile(filepath.Join(g.dir, "memory.peak")); err == nil {
		peak, _ = strconv.ParseInt(strings.TrimSpace(string(data)), 10, 64)
	}
	f, err := os.Open(filepath.Join(g.dir, "memory.events"))
	if err != nil {
		return peak, false
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		if n, ok := strings.CutPrefix(s.Text(), "oom_kill "); ok && n != "0" {
			exceeded = true
		}
	}
	return peak, exceeded
}

// remove removes the group, once all that ran in it has ended.
func (g *cgroup) remove() error {
	for range 50 {
		if err := os.Remove(g.dir); err == nil || errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return os.Remove(g.dir)
}
