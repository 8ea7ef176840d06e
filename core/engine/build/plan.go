package build

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/recipe"
)

// Planned is what is to be done about a recipe, and why.
type Planned struct {
	Recipe  string   `json:"recipe"`
	Version string   `json:"version"`
	State   string   `json:"state"`   // one of the states below
	Reasons []string `json:"reasons"` // none for one that is as it should be
	After   []string `json:"after"`   // the recipes that it stands on, directly or not
	Direct  []string `json:"direct"`  // those of them that it needs by itself
	Level   int      `json:"level"`   // recipes of one level can be built at once
}

// States of a planned recipe.
const (
	PlanNew     = "new"        // there is no package of this version and release
	PlanChanged = "changed"    // what it was built from is not what is there now
	PlanFollows = "follows"    // something that it stands on is built anew
	PlanCurrent = "up to date" // nothing to do
)

// Plan puts recipes in the order in which they are to be built, and says of
// each whether it has to be and why. Nothing is fetched or run. The error is a
// *CycleError where there is no order.
func (b *Builder) Plan(ctx context.Context, all []*recipe.Recipe) ([]Planned, error) {
	stands, err := b.order(all)
	if err != nil {
		return nil, err
	}
	packages, err := b.packages()
	if err != nil {
		return nil, err
	}
	offers := b.offers(all)
	byName := map[string]*Planned{}
	for _, r := range all {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		p := &Planned{Recipe: r.Name, Version: r.Full(), State: PlanCurrent, Reasons: []string{}, After: stands[r.Name], Direct: b.makers(r, slices.Concat(r.Needs.Build, r.Needs.Test), offers)}
		if p.After == nil {
			p.After = []string{}
		}
		p.State, p.Reasons = b.judge(r, packages)
		byName[r.Name] = p
	}
	// What stands on something that is built anew follows it.
	var level func(p *Planned) int
	level = func(p *Planned) int {
		if p.Level > 0 {
			return p.Level
		}
		p.Level = 1
		for _, name := range p.After {
			below := byName[name]
			p.Level = max(p.Level, level(below)+1)
			if below.State != PlanCurrent && slices.Contains(p.Direct, name) {
				p.Reasons = append(p.Reasons, "stands on "+name+", which is built anew")
				if p.State == PlanCurrent {
					p.State = PlanFollows
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
	slices.SortStableFunc(out, func(a, b Planned) int { return a.Level - b.Level })
	return out, nil
}

// judge compares the packages of a recipe with what they would be made of now.
func (b *Builder) judge(r *recipe.Recipe, packages []*depPackage) (state string, reasons []string) {
	reasons = []string{}
	made := map[string]*depPackage{}
	older := ""
	for _, p := range packages {
		switch {
		case p.facts.Recipe != r.Name:
		case p.facts.Full().String() == r.Full():
			made[p.facts.Name] = p
		default:
			older = p.facts.Full().String()
		}
	}
	if len(made) == 0 {
		if older != "" {
			return PlanNew, append(reasons, fmt.Sprintf("there is a package of %s, and none of %s", older, r.Full()))
		}
		return PlanNew, append(reasons, "it was never built here")
	}
	for _, name := range r.PackageNames() {
		if made[name] == nil {
			reasons = append(reasons, "its package "+name+" is missing")
		}
	}
	others := notOf(packages, r.Name)
	newest := newestOfEach(others)
	for _, name := range slices.Sorted(maps.Keys(made)) {
		p := made[name]
		for _, reason := range append(b.recordReasons(r, p.build, others), b.needReasons(p.facts, others, newest)...) {
			if !slices.Contains(reasons, reason) {
				reasons = append(reasons, reason)
			}
		}
	}
	if len(reasons) > 0 {
		return PlanChanged, reasons
	}
	return PlanCurrent, reasons
}

// recordReasons compares what a package was built from with what is there.
func (b *Builder) recordReasons(r *recipe.Recipe, record ell.BuildRecord, others []*depPackage) []string {
	var reasons []string
	digest := func(data []byte) string {
		return fact.SHA256(data)
	}
	if record.Recipe != digest(r.Doc.Data) {
		reasons = append(reasons, "its recipe changed")
	}
	for _, name := range slices.Sorted(maps.Keys(record.Files)) {
		if data, err := r.ReadBeside(name); err != nil || digest(data) != record.Files[name] {
			reasons = append(reasons, name+", beside the recipe, changed")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Set)) {
		if was, ok := record.Options[name]; ok && was != r.Set[name] {
			reasons = append(reasons, fmt.Sprintf("option %s is %s, and was %s", name, r.Set[name], was))
		}
	}
	for _, text := range slices.Concat(r.Needs.Build, r.Needs.Test) {
		n, err := need.Parse(text)
		if err != nil {
			continue // the recipe's check has passed it
		}
		now := bySystem
		if p := find(others, n); p != nil {
			now = p.facts.Identity()
		}
		if was, ok := record.Needs[text]; ok && was != now {
			reasons = append(reasons, fmt.Sprintf("%s is met by %s, and was by %s", text, now, was))
		}
	}
	return reasons
}

// needReasons finds what a package needs of others that only older ones of
// them have: a soname that changed, or exactly a version that is not the
// newest.
func (b *Builder) needReasons(facts ell.Facts, others, newest []*depPackage) []string {
	var reasons []string
	for _, text := range facts.Needs {
		n, err := need.Parse(text.Need)
		if err != nil || find(newest, n) != nil {
			continue
		}
		old := find(others, n)
		if old == nil {
			// Other needs may be met where the package is installed.
			if _, there := b.probe().Look(n, nil); !there && n.Alternatives[0].Kind == need.Soname {
				reasons = append(reasons, fmt.Sprintf("%s needs %s, which nothing here has any more", facts.Name, text.Need))
			}
			continue
		}
		for _, p := range newest {
			if p.facts.Name == old.facts.Name {
				reasons = append(reasons, fmt.Sprintf("%s needs %s, which %s has and %s has not", facts.Name, text.Need, old.facts.Identity(), p.facts.Identity()))
			}
		}
	}
	return reasons
}

// newestOfEach leaves the newest package of every name.
func newestOfEach(all []*depPackage) []*depPackage {
	best := map[string]*depPackage{}
	for _, p := range all {
		if other := best[p.facts.Name]; other == nil || other.facts.Full().Compare(p.facts.Full()) < 0 {
			best[p.facts.Name] = p
		}
	}
	return slices.Collect(maps.Values(best))
}

// Dot writes a plan as a graph in the DOT language of Graphviz: arrows lead to
// what a recipe stands on.
func Dot(plan []Planned) string {
	var b strings.Builder
	b.WriteString("digraph plan {\n\trankdir = RL;\n\tnode [shape = box, style = filled, fillcolor = white];\n")
	for _, p := range plan {
		fill := ""
		if p.State != PlanCurrent {
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
