package root

import (
	"slices"
	"strings"
)

// Difference lists what is between two sets of installed packages: those that only one of
// them has, and those that are in other versions, or other builds of one version.
func Difference(from, to []Installed) []Change {
	var out []Change
	find := func(all []Installed, name string) *Installed {
		i := slices.IndexFunc(all, func(p Installed) bool { return p.Name == name })
		if i < 0 {
			return nil
		}
		return &all[i]
	}
	for i := range from {
		p := &from[i]
		if other := find(to, p.Name); other == nil || other.SHA256 != p.SHA256 {
			out = append(out, Change{p.Name, p, other})
		}
	}
	for i := range to {
		if p := &to[i]; find(from, p.Name) == nil {
			out = append(out, Change{p.Name, nil, p})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Name, b.Name) })
	return out
}
