// Package plan orders the recipes of a workspace and says which must be built, and
// why.
package plan

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/recipe"
)

// Planned is what to do about a recipe, and why.
type Planned struct {
	Recipe  string   `json:"recipe"`
	Version string   `json:"version"`
	State   string   `json:"state"`   // one of the states below
	Reasons []string `json:"reasons"` // empty if it is up to date
	After   []string `json:"after"`   // the recipes that it depends on, also indirectly
	Direct  []string `json:"direct"`  // those that it depends on directly
	Level   int      `json:"level"`   // recipes of one level can be built at once
	// Images are those whose locks have a package of the recipe.
	Images []string `json:"images,omitempty"`
}

// States of a planned recipe.
const (
	StateNew     = "new"        // there is no package of this version and release
	StateChanged = "changed"    // its inputs differ from those it was built from
	StateFollows = "follows"    // a recipe that it depends on is built again
	StateCurrent = "up to date" // nothing to do
)

// Make sorts recipes into the order to build them in and says of each whether it
// must be built, and why. It fetches and runs nothing. The error is a
// *CycleError if there is no order.
func Make(ctx context.Context, b *satisfy.Resolver, all []*recipe.Recipe) ([]Planned, error) {
	before, err := Order(b, all)
	if err != nil {
		return nil, err
	}
	packages, err := b.Packages()
	if err != nil {
		return nil, err
	}
	offers := b.Offers(all)
	byName := map[string]*Planned{}
	for _, r := range all {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		p := &Planned{Recipe: r.Name, Version: r.Full(), State: StateCurrent, Reasons: []string{}, After: before[r.Name], Direct: b.Makers(r, slices.Concat(r.Needs.Build, r.Needs.Test), offers)}
		if p.After == nil {
			p.After = []string{}
		}
		p.State, p.Reasons = stateOf(b, r, packages)
		byName[r.Name] = p
	}
	// What depends on something that is built again follows it.
	var level func(p *Planned) int
	level = func(p *Planned) int {
		if p.Level > 0 {
			return p.Level
		}
		p.Level = 1
		for _, name := range p.After {
			below := byName[name]
			p.Level = max(p.Level, level(below)+1)
			if below.State != StateCurrent && slices.Contains(p.Direct, name) {
				p.Reasons = append(p.Reasons, "depends on "+name+", which is built again")
				if p.State == StateCurrent {
					p.State = StateFollows
				}
			}
		}
		return p.Level
	}
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		level(byName[name])
	}
	out := make([]Planned, 0, len(all))
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		out = append(out, *byName[name])
	}
	for i := range out {
		p := &out[i]
		if p.State == StateCurrent || p.State == StateNew {
			continue
		}
		at := slices.IndexFunc(all, func(r *recipe.Recipe) bool { return r.Name == p.Recipe })
		if place := b.PublishedIn(ctx, all[at]); place != "" {
			p.Reasons = append(p.Reasons, fmt.Sprintf("%s is published in %s: if other contents come out, they need another release", p.Version, place))
		}
	}
	slices.SortStableFunc(out, func(a, b Planned) int { return a.Level - b.Level })
	return out, nil
}

// stateOf compares the packages of a recipe with what they would be made of now.
func stateOf(b *satisfy.Resolver, r *recipe.Recipe, packages []*satisfy.Package) (state string, reasons []string) {
	reasons = []string{}
	made := map[string]*satisfy.Package{}
	older := ""
	for _, p := range packages {
		switch {
		case p.Facts.Recipe != r.Name:
		case p.Facts.Full().String() == r.Full():
			made[p.Facts.Name] = p
		default:
			older = p.Facts.Full().String()
		}
	}
	if len(made) == 0 {
		if older != "" {
			return StateNew, append(reasons, fmt.Sprintf("there is a package of %s, and none of %s", older, r.Full()))
		}
		return StateNew, append(reasons, "it was never built here")
	}
	for _, name := range r.PackageNames() {
		if made[name] == nil {
			reasons = append(reasons, "its package "+name+" is missing")
		}
	}
	others := satisfy.NotOf(packages, r.Name)
	newest := satisfy.Newest(others)
	for _, name := range slices.Sorted(maps.Keys(made)) {
		p := made[name]
		for _, reason := range append(recordReasons(b, r, p.Build, others), needReasons(b, p.Facts, others, newest)...) {
			if !slices.Contains(reasons, reason) {
				reasons = append(reasons, reason)
			}
		}
	}
	if len(reasons) > 0 {
		return StateChanged, reasons
	}
	return StateCurrent, reasons
}

// recordReasons compares what a package was built from with what is there.
func recordReasons(b *satisfy.Resolver, r *recipe.Recipe, record ell.BuildRecord, others []*satisfy.Package) []string {
	var reasons []string
	if record.Recipe != fact.SHA256(r.Doc.Data) {
		reasons = append(reasons, "its recipe changed")
	}
	for _, name := range slices.Sorted(maps.Keys(record.Files)) {
		if data, err := r.ReadBeside(name); err != nil || fact.SHA256(data) != record.Files[name] {
			reasons = append(reasons, name+", beside the recipe, changed")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Set)) {
		if was, ok := record.Options[name]; ok && was != r.Set[name] {
			reasons = append(reasons, fmt.Sprintf("option %s is %s; it was %s", name, r.Set[name], was))
		}
	}
	for _, n := range slices.Concat(r.Needs.Build, r.Needs.Test) {
		now := satisfy.BySystem
		if p := satisfy.Find(others, n); p != nil {
			now = p.Facts.Identity()
		}
		if was, ok := record.Needs[n.String()]; ok && was != now {
			reasons = append(reasons, fmt.Sprintf("%s is met by %s now; it was %s", n, now, was))
		}
	}
	return reasons
}

// needReasons finds what a package needs of others that only older ones of
// them have: a soname that changed, or exactly a version that is not the
// newest.
func needReasons(b *satisfy.Resolver, facts ell.Facts, others, newest []*satisfy.Package) []string {
	var reasons []string
	for _, declared := range facts.Needs {
		n := declared.Need
		if satisfy.Find(newest, n) != nil {
			continue
		}
		old := satisfy.Find(others, n)
		if old == nil {
			// Other needs may be met where the package is installed.
			if _, there := b.Probe().Look(n, nil); !there && n.Alternatives[0].Kind == need.Soname {
				reasons = append(reasons, fmt.Sprintf("%s needs %s, which nothing here provides any more", facts.Name, n))
			}
			continue
		}
		for _, p := range newest {
			if p.Facts.Name == old.Facts.Name {
				reasons = append(reasons, fmt.Sprintf("%s needs %s, which %s provides and %s does not", facts.Name, n, old.Facts.Identity(), p.Facts.Identity()))
			}
		}
	}
	return reasons
}

// Dot writes a plan as a graph in the DOT language of Graphviz: arrows lead to
// what a recipe before on.
func Dot(plan []Planned) string {
	var b strings.Builder
	b.WriteString("digraph plan {\n\trankdir = RL;\n\tnode [shape = box, style = filled, fillcolor = white];\n")
	for _, p := range plan {
		fill := ""
		if p.State != StateCurrent {
			fill = ", fillcolor = lightgoldenrod"
		}
		fmt.Fprintf(&b, "\t%q [label = %q%s];\n", p.Recipe, p.Recipe+"\n"+p.Version, fill)
		for _, name := range p.Direct {
			fmt.Fprintf(&b, "\t%q -> %q;\n", p.Recipe, name)
		}
	}
	b.WriteString("}\n")
	return b.String()
}
