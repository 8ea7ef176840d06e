package compare

import (
	"cmp"
	"maps"
	"slices"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
)

// Snapshots is how two states of a repository differ.
type Snapshots struct {
	Changes []PackageChange `json:"changes"`
	Broken  []Broken        `json:"broken"`
	Same    int             `json:"same"` // packages with no difference
}

// Further states of a package in the second snapshot; Added and Gone are
// others.
const (
	Newer   = "newer"
	Older   = "older"
	Rebuilt = "rebuilt" // another file of the same version and release
)

// PackageChange is a package that differs, in the newest version of each side.
type PackageChange struct {
	Target string   `json:"target"`
	Name   string   `json:"name"`
	Arch   string   `json:"arch"`
	State  string   `json:"state"`
	Before string   `json:"before,omitempty"` // version and release
	After  string   `json:"after,omitempty"`
	Bytes  [2]int64 `json:"bytes"` // of the files
}

// Broken is a need that something in the first snapshot met, and nothing in
// the second does.
type Broken struct {
	Target  string `json:"target"`
	Package string `json:"package"` // that has the need, in the second snapshot
	Need    string `json:"need"`
	Met     string `json:"met"` // by what, in the first
}

// States tells how two states of a repository differ, or two repositories.
func States(a, b repo.State) *Snapshots {
	c := &Snapshots{Changes: []PackageChange{}, Broken: []Broken{}}
	for _, target := range slices.Sorted(maps.Keys(union(a.Records, b.Records))) {
		after := newestOf(b.Records[target])
		c.target(target, newestOf(a.Records[target]), after)
		c.broken(target, a.Records[target], b.Records[target], after)
	}
	return c
}

type packageKey struct{ name, arch string }

func newestOf(records []index.Record) map[packageKey]index.Record {
	out := map[packageKey]index.Record{}
	for _, r := range records {
		key := packageKey{r.Name, r.Arch}
		if there, ok := out[key]; !ok || there.Full().Compare(r.Full()) < 0 {
			out[key] = r
		}
	}
	return out
}

func (c *Snapshots) target(target string, a, b map[packageKey]index.Record) {
	keys := map[packageKey]bool{}
	for k := range a {
		keys[k] = true
	}
	for k := range b {
		keys[k] = true
	}
	for _, k := range slices.SortedFunc(maps.Keys(keys), func(x, y packageKey) int {
		return cmp.Or(cmp.Compare(x.name, y.name), cmp.Compare(x.arch, y.arch))
	}) {
		before, was := a[k]
		after, is := b[k]
		change := PackageChange{Target: target, Name: k.name, Arch: k.arch, Bytes: [2]int64{before.Bytes, after.Bytes}}
		if was {
			change.Before = before.Full().String()
		}
		if is {
			change.After = after.Full().String()
		}
		d := after.Full().Compare(before.Full())
		switch {
		case was && is && before.SHA256 == after.SHA256:
			c.Same++
			continue
		case !was:
			change.State = Added
		case !is:
			change.State = Gone
		case d > 0:
			change.State = Newer
		case d < 0:
			change.State = Older
		default:
			change.State = Rebuilt
		}
		c.Changes = append(c.Changes, change)
	}
}

// broken finds needs that are not met any more. What the system meets is not
// known here, so that only those count which a package met before.
func (c *Snapshots) broken(target string, a, b []index.Record, after map[packageKey]index.Record) {
	was, is := offers(a), offers(b)
	for _, r := range slices.SortedFunc(maps.Values(after), func(x, y index.Record) int { return cmp.Compare(x.Identity(), y.Identity()) }) {
		for _, n := range r.Needs {
			if met := was.meets(n.Need); met != "" && is.meets(n.Need) == "" {
				c.Broken = append(c.Broken, Broken{target, r.Identity(), n.Need.String(), met})
			}
		}
	}
}

// offered is what packages provide, by kind and name.
type offered map[[2]string][]offer

type offer struct {
	need.Provide
	by string
}

func offers(records []index.Record) offered {
	out := offered{}
	for _, r := range records {
		add := func(p need.Provide) {
			key := [2]string{p.Kind, p.Name}
			out[key] = append(out[key], offer{p, r.Identity()})
		}
		add(need.Provide{Kind: need.Package, Name: r.Name, Version: r.Full().String()})
		for _, p := range r.Provides {
			add(p.Provide)
		}
	}
	return out
}

// meets names a package that meets a need; empty for none.
func (o offered) meets(n need.Need) string {
	for _, a := range n.Alternatives {
		for _, p := range o[[2]string{a.Kind, a.Name}] {
			if a.MetBy(p.Provide) {
				return p.by
			}
		}
	}
	return ""
}
