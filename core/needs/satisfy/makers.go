package satisfy

import (
	"path"
	"slices"
	"strings"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/recipe"
)

// Offer is what one recipe makes, as far as that can be told before it is
// built.
type Offer struct {
	recipe   string
	provides []need.Provide
	paths    map[string]bool
}

// Offers gathers what recipes make: by the names of their packages and what
// these declare to provide, by the paths of their layouts, and by the packages
// that were made of them before.
func (b *Resolver) Offers(all []*recipe.Recipe) []Offer {
	made := map[string][]need.Provide{}
	if packages, err := b.Packages(); err == nil {
		for _, p := range packages {
			made[p.Facts.Recipe] = append(made[p.Facts.Recipe], p.Facts.AllProvides()...)
		}
	}
	var out []Offer
	for _, r := range all {
		o := Offer{recipe: r.Name, provides: made[r.Name], paths: map[string]bool{}}
		for name, p := range r.Packages {
			o.provides = append(o.provides, need.Provide{Kind: need.Package, Name: name, Version: r.Full()})
			o.provides = append(o.provides, p.Provides...)
			for pattern := range p.Layout {
				o.paths[pattern] = true
			}
		}
		out = append(out, o)
	}
	return out
}

// places are where what a need of a kind names stands.
var places = map[string][]string{
	need.Command: {"/usr/bin/%", "/usr/sbin/%"}, need.PkgConfig: {"/usr/lib/pkgconfig/%.pc", "/usr/share/pkgconfig/%.pc"},
	need.Header: {"/usr/include/%"}, need.Soname: {"/usr/lib/%"}, need.File: {"%"},
}

// Makers lists the recipes that make what is needed. Where nothing tells and
// the system has nothing either, one that is named like what is needed is taken.
func (b *Resolver) Makers(r *recipe.Recipe, needs []need.Need, offers []Offer) []string {
	var out []string
	for _, n := range needs {
		maker := maker(n, offers)
		if maker == "" && b.SystemStamp(n) == "" {
			maker = namesake(n, offers)
		}
		if maker != "" && maker != r.Name && !slices.Contains(out, maker) {
			out = append(out, maker)
		}
	}
	return out
}

func maker(n need.Need, offers []Offer) string {
	for _, o := range offers {
		if slices.ContainsFunc(o.provides, n.MetBy) {
			return o.recipe
		}
	}
	for _, a := range n.Alternatives {
		for _, place := range places[a.Kind] {
			for _, o := range offers {
				if o.paths[strings.ReplaceAll(place, "%", a.Name)] {
					return o.recipe
				}
			}
		}
	}
	return ""
}

func namesake(n need.Need, offers []Offer) string {
	for _, a := range n.Alternatives {
		name := strings.TrimPrefix(strings.TrimSuffix(path.Base(a.Name), path.Ext(a.Name)), "lib")
		for _, o := range offers {
			if a.Kind != need.Package && strings.TrimPrefix(o.recipe, "lib") == name {
				return o.recipe
			}
		}
	}
	return ""
}
