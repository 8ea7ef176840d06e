package image

import (
	"maps"
	"slices"
	"strings"

	"ellwand.example/core/compare"
	"ellwand.example/core/ell"
	"ellwand.example/core/root"
)

// States of a path that differs.
const (
	PathAdded   = "added"
	PathGone    = "gone"
	PathChanged = "changed"
)

// PathChange is a path that differs between two images.
type PathChange struct {
	Path    string `json:"path"`
	State   string `json:"state"`
	Package string `json:"package,omitempty"` // that it belongs to; empty for none
}

// LayerChange is what someone who has one OCI image has to fetch for another.
type LayerChange struct {
	All   int      `json:"all"`
	New   []string `json:"new,omitempty"` // digests
	Bytes int64    `json:"bytes"`         // of the new ones
}

// Comparison is how two images differ.
type Comparison struct {
	Packages []root.Change    `json:"packages"`
	Config   []compare.Change `json:"config,omitempty"`
	Layers   LayerChange      `json:"layers"`
	Paths    []PathChange     `json:"paths,omitempty"`
	Same     int              `json:"same"`  // paths
	Bytes    [2]int64         `json:"bytes"` // of all files
}

// Differ reports whether there is a difference.
func (c Comparison) Differ() bool {
	return len(c.Packages) > 0 || len(c.Config) > 0 || len(c.Paths) > 0 || len(c.Layers.New) > 0
}

// Compare compares two images.
func Compare(a, b *Contents) Comparison {
	c := Comparison{Packages: root.Difference(a.Packages, b.Packages), Bytes: [2]int64{a.Bytes, b.Bytes}}
	c.compareConfig(a, b)
	if len(a.Layers) > 0 && len(b.Layers) > 0 {
		c.Layers.All = len(b.Layers)
		have := map[string]bool{}
		for _, l := range a.Layers {
			have[l.Digest.String()] = true
		}
		for _, l := range b.Layers {
			if !have[l.Digest.String()] {
				c.Layers.New = append(c.Layers.New, l.Digest.Encoded())
				c.Layers.Bytes += l.Size
			}
		}
	}
	c.comparePaths(a, b)
	return c
}

// compareConfig compares what the images run.
func (c *Comparison) compareConfig(a, b *Contents) {
	if a.Config == nil || b.Config == nil {
		return
	}
	x, y := a.Config.Config, b.Config.Config
	add := func(what, before, after string) {
		if before != after {
			c.Config = append(c.Config, compare.Change{Area: "configuration", What: what, Before: before, After: after})
		}
	}
	add("architecture", a.Config.Architecture, b.Config.Architecture)
	add("command", strings.Join(append(slices.Clone(x.Entrypoint), x.Cmd...), " "), strings.Join(append(slices.Clone(y.Entrypoint), y.Cmd...), " "))
	add("user", x.User, y.User)
	add("directory", x.WorkingDir, y.WorkingDir)
	add("stop signal", x.StopSignal, y.StopSignal)
	add("ports", strings.Join(slices.Sorted(maps.Keys(x.ExposedPorts)), ", "), strings.Join(slices.Sorted(maps.Keys(y.ExposedPorts)), ", "))
	add("volumes", strings.Join(slices.Sorted(maps.Keys(x.Volumes)), ", "), strings.Join(slices.Sorted(maps.Keys(y.Volumes)), ", "))
	before, after := variables(x.Env), variables(y.Env)
	names := slices.Sorted(maps.Keys(before))
	for _, name := range slices.Sorted(maps.Keys(after)) {
		if _, ok := before[name]; !ok {
			names = append(names, name)
		}
	}
	for _, name := range names {
		add("environment "+name, before[name], after[name])
	}
}

func variables(list []string) map[string]string {
	out := map[string]string{}
	for _, one := range list {
		name, value, _ := strings.Cut(one, "=")
		out[name] = value
	}
	return out
}

// comparePaths compares the files. The record of the packages differs whenever they do, and is
// left out.
func (c *Comparison) comparePaths(a, b *Contents) {
	owners := b.owners()
	maps.Copy(owners, a.owners())
	add := func(p, state string) {
		if !strings.HasPrefix(p, "/"+root.StateDir+"/") {
			c.Paths = append(c.Paths, PathChange{p, state, owners[p]})
		}
	}
	x, y := a.Entries, b.Entries
	for len(x) > 0 || len(y) > 0 {
		switch {
		case len(y) == 0 || len(x) > 0 && x[0].Path < y[0].Path:
			add(x[0].Path, PathGone)
			x = x[1:]
		case len(x) == 0 || y[0].Path < x[0].Path:
			add(y[0].Path, PathAdded)
			y = y[1:]
		default:
			if samePath(x[0], y[0]) {
				c.Same++
			} else {
				add(x[0].Path, PathChanged)
			}
			x, y = x[1:], y[1:]
		}
	}
}

func samePath(a, b ell.Entry) bool {
	return a.Type == b.Type && a.Mode == b.Mode && a.Owner == b.Owner && a.Group == b.Group && a.Size == b.Size && a.SHA256 == b.SHA256 && a.Link == b.Link && a.Same == b.Same
}

// owners are the packages that paths belong to.
func (c *Contents) owners() map[string]string {
	out := map[string]string{}
	for name, rec := range c.Records {
		for _, e := range rec.Layout {
			out[rec.At(e.Path)] = name
		}
	}
	return out
}
