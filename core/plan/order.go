package plan

import (
	"fmt"
	"slices"
	"strings"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/recipe"
)

// CycleError is recipes that need each other to be built.
type CycleError struct {
	Recipes []string
	// Cut is a recipe whose need of another is the easiest to do without, and
	// Needs are what it needs of that one.
	Cut   string
	Needs []string
	Test  bool // they are needed for tests only
}

func (e *CycleError) Error() string {
	s := "these recipes depend on each other: " + strings.Join(append(slices.Clone(e.Recipes), e.Recipes[0]), " → ")
	if e.Cut == "" {
		return s
	}
	why := "it has the fewest dependencies there"
	if e.Test {
		why = "they are needed for tests only"
	}
	return fmt.Sprintf("%s\nit could be broken at recipe %s, with an [option] that leaves out %s: %s", s, e.Cut, strings.Join(e.Needs, ", "), why)
}

// findCut finds the place where a cycle is the easiest to break: at needs of tests, or else
// where one recipe needs the least of the next.
func findCut(b *satisfy.Resolver, e *CycleError, all []*recipe.Recipe, offers []satisfy.Offer) {
	byName := map[string]*recipe.Recipe{}
	for _, r := range all {
		byName[r.Name] = r
	}
	for i, name := range e.Recipes {
		r, next := byName[name], e.Recipes[(i+1)%len(e.Recipes)]
		of := func(needs []need.Need) (texts []string) {
			for _, n := range needs {
				if slices.Contains(b.Makers(r, []need.Need{n}, offers), next) {
					texts = append(texts, n.String())
				}
			}
			return texts
		}
		build, test := of(r.Needs.Build), of(r.Needs.Test)
		needs := slices.Concat(build, test)
		if len(needs) == 0 {
			continue // it is needed by something that this one needs, to run
		}
		forTest := len(build) == 0
		if e.Cut == "" || forTest && !e.Test || forTest == e.Test && len(needs) < len(e.Needs) {
			e.Cut, e.Needs, e.Test = name, needs, forTest
		}
	}
}

// Order returns, for each recipe, the others that must be built first.
func Order(b *satisfy.Resolver, all []*recipe.Recipe) (map[string][]string, error) {
	offers := b.Offers(all)
	build, run := map[string][]string{}, map[string][]string{}
	for _, r := range all {
		build[r.Name] = b.Makers(r, slices.Concat(r.Needs.Build, r.Needs.Test), offers)
		wanted := slices.Clone(r.Needs.Run)
		for _, p := range r.Packages {
			wanted = append(wanted, p.Needs...)
		}
		run[r.Name] = b.Makers(r, wanted, offers)
	}
	before := map[string][]string{}
	for _, r := range all {
		// A package that is overlaid on the system needs its run-time dependencies too.
		seen := map[string]bool{}
		var add func(name string)
		add = func(name string) {
			if name == r.Name || seen[name] {
				return
			}
			seen[name] = true
			before[r.Name] = append(before[r.Name], name)
			for _, other := range run[name] {
				add(other)
			}
		}
		for _, name := range build[r.Name] {
			add(name)
		}
		slices.Sort(before[r.Name])
	}
	if cycle := findCycle(all, before); cycle != nil {
		e := &CycleError{Recipes: cycle}
		findCut(b, e, all, offers)
		return nil, e
	}
	return before, nil
}

func findCycle(all []*recipe.Recipe, before map[string][]string) []string {
	const open, closed = 1, 2
	state := map[string]int{}
	var path []string
	var visit func(name string) []string
	visit = func(name string) []string {
		switch state[name] {
		case closed:
			return nil
		case open:
			return slices.Clone(path[slices.Index(path, name):])
		}
		state[name] = open
		path = append(path, name)
		for _, below := range before[name] {
			if cycle := visit(below); cycle != nil {
				return cycle
			}
		}
		path = path[:len(path)-1]
		state[name] = closed
		return nil
	}
	for _, r := range all {
		if cycle := visit(r.Name); cycle != nil {
			return cycle
		}
	}
	return nil
}
