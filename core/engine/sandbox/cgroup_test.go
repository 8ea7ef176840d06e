package sandbox

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A control group is made below the nearest one that hands out controllers,
// with the limits; elsewhere none is.
func TestCgroup(t *testing.T) {
	make := func(files map[string]string) string {
		root := t.TempDir()
		for name, text := range files {
			path := filepath.Join(root, name)
			os.MkdirAll(filepath.Dir(path), 0o755)
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		return root
	}
	l := Limits{Memory: 64 << 20, Processes: 50}
	delegated := map[string]string{
		"app/cgroup.procs": "", "app/cgroup.subtree_control": "cpu memory pids\n", "app/own/cgroup.procs": "1\n", "app/own/cgroup.subtree_control": "\n",
	}
	root := make(delegated)
	g := newCgroupBelow(root, "1:cpu:/x\n0::/app/own\n", l)
	if g == nil || filepath.Dir(g.dir) != filepath.Join(root, "app") {
		t.Fatalf("%+v", g)
	}
	for name, want := range map[string]string{"memory.max": "67108864", "pids.max": "50", "memory.swap.max": "0", "memory.oom.group": "1"} {
		if text, err := os.ReadFile(filepath.Join(g.dir, name)); err != nil || string(text) != want {
			t.Errorf("%s: %q, %v", name, text, err)
		}
	}
	os.WriteFile(filepath.Join(g.dir, "memory.peak"), []byte("4096\n"), 0o644)
	for events, want := range map[string]bool{"low 0\noom 0\noom_kill 0\n": false, "oom 2\noom_kill 1\n": true} {
		os.WriteFile(filepath.Join(g.dir, "memory.events"), []byte(events), 0o644)
		if peak, exceeded := g.used(); peak != 4096 || exceeded != want {
			t.Errorf("%q: %d, %v", events, peak, exceeded)
		}
	}
	for what, c := range map[string]struct {
		files map[string]string
		own   string
	}{
		"no controllers":     {map[string]string{"a/cgroup.procs": "", "a/cgroup.subtree_control": "cpu\n", "cgroup.procs": "", "cgroup.subtree_control": "cpu\n"}, "0::/a\n"},
		"a missing group":    {nil, "0::/a\n"},
		"version 1 alone":    {delegated, "1:memory:/app/own\n"},
		"a path that climbs": {delegated, "0::/../../..\n"},
		"nothing at all":     {delegated, ""},
	} {
		if g := newCgroupBelow(make(c.files), c.own, l); g != nil {
			t.Errorf("%s: %s", what, strings.TrimPrefix(g.dir, os.TempDir()))
		}
	}
}
