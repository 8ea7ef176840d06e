package solve

import (
	"cmp"
	"slices"
)

// encoding is a request as a formula: a variable for each package within
// reach, and those that the levels of what is best are counted by.
type encoding struct {
	*universe
	problem *problem
	vars    []int // of u.packages
	gone    []int // true if no package of an installed name, and none that replaces it, is there
	unmet   []int // true if a suggestion is left unmet
}

// encode writes the formula. With a list of facts, only these hold.
func (u *universe) encode(only []Fact) *encoding {
	e := &encoding{universe: u, problem: newProblem()}
	for range u.packages {
		e.vars = append(e.vars, e.problem.variable())
	}
	facts := only
	if facts == nil {
		facts = u.facts()
	}
	for _, f := range facts {
		e.state(f)
	}
	if only != nil {
		return e
	}
	for _, p := range u.packages {
		if p.Installed && !slices.Contains(u.request.Remove, p.Name) {
			e.gone = append(e.gone, e.escape(root, e.successors(p)))
		}
	}
	if u.request.Suggestions {
		for _, p := range u.packages {
			if p.Installed {
				continue
			}
			for _, n := range p.Suggests {
				if by := u.offering(Need{Need: n}); len(by) > 0 && !u.meets(Need{Need: n}) {
					e.unmet = append(e.unmet, e.escape(e.variable(p), by))
				}
			}
		}
	}
	return e
}

func (e *encoding) variable(p *Package) int { return e.vars[e.index[p]] }

// escape demands one of some packages of a variable, or that a new one is
// true.
func (e *encoding) escape(v int, any []*Package) int {
	out := e.problem.variable()
	e.problem.demand(v, append(e.literals(any), yes(out)))
	return out
}

func (e *encoding) literals(list []*Package) []literal {
	out := make([]literal, len(list))
	for i, p := range list {
		out[i] = yes(e.variable(p))
	}
	return out
}

// successors are the packages that can stand where an installed one does: of
// its name, or such as replace it.
func (u *universe) successors(p *Package) []*Package {
	out := slices.Clone(u.byName[p.Name])
	for _, other := range u.packages {
		if other.replaces(p) {
			out = append(out, other)
		}
	}
	return out
}

// state makes a fact hold where all of some literals do.
func (e *encoding) state(f Fact, where ...literal) {
	unless := make([]literal, len(where))
	for i, l := range where {
		unless[i] = l.not()
	}
	never := func(list ...*Package) {
		clause := slices.Clone(unless)
		for _, p := range list {
			clause = append(clause, no(e.variable(p)))
		}
		e.problem.add(clause...)
	}
	// A demand's own literals come first, or it would be met by giving up.
	any := append(e.literals(f.Offers), unless...)
	switch f.Kind {
	case Asked:
		e.problem.demand(root, any)
	case Barred:
		for _, p := range f.Packages {
			never(p)
		}
	case Needs:
		for _, p := range f.Packages {
			if !slices.Contains(f.Offers, p) {
				e.problem.demand(e.variable(p), any)
			}
		}
	case Conflicts, Replaces:
		for _, p := range f.Packages {
			for _, other := range f.Offers {
				never(p, other)
			}
		}
	case OneVersion:
		for i, p := range f.Packages {
			for _, other := range f.Packages[:i] {
				never(p, other)
			}
		}
	}
}

// facts lists all that restricts the answer.
func (u *universe) facts() []Fact {
	var out []Fact
	for _, n := range u.request.Install {
		out = append(out, Fact{Kind: Asked, Need: Need{Need: n}, Offers: u.offering(Need{Need: n})})
	}
	for _, name := range u.request.Remove {
		out = append(out, Fact{Kind: Barred, Name: name, Packages: u.byName[name]})
	}
	for _, p := range u.packages {
		if u.byName[p.Name][0] != p {
			continue
		}
		out = append(out, u.factsOf(p.Name)...)
	}
	return out
}

// factsOf are the facts of all packages of a name: what several versions say
// alike is one.
func (u *universe) factsOf(name string) []Fact {
	all := u.byName[name]
	var out []Fact
	add := func(kind Kind, p *Package, n Need, offers func() []*Package) {
		same := func(f Fact) bool {
			return f.Kind == kind && f.Need.String() == n.String() && slices.Equal(f.Need.Symbols, n.Symbols)
		}
		i := slices.IndexFunc(out, same)
		if i < 0 {
			out = append(out, Fact{Kind: kind, Name: name, Need: n, Offers: offers()})
			i = len(out) - 1
		}
		if !slices.Contains(out[i].Packages, p) {
			out[i].Packages = append(out[i].Packages, p)
		}
	}
	for _, p := range all {
		for _, n := range p.Needs {
			if !u.meets(n) {
				add(Needs, p, n, func() []*Package { return u.offering(n) })
			}
		}
		for _, n := range p.Conflicts {
			add(Conflicts, p, Need{Need: n}, func() []*Package { return u.excluded(p, n, false) })
		}
		for _, n := range p.Replaces {
			add(Replaces, p, Need{Need: n}, func() []*Package { return u.excluded(p, n, true) })
		}
	}
	if len(all) > 1 {
		out = append(out, Fact{Kind: OneVersion, Name: name, Packages: all})
	}
	return out
}

// levels are the soft that make one answer better than another, the most
// important ones first.
func (e *encoding) levels() [][]softClause {
	var stay, same, suggested, newest, fewest []softClause
	for _, v := range e.gone {
		stay = append(stay, softClause{no(v), 1})
	}
	for i, p := range e.packages {
		upgraded := slices.Contains(e.request.Upgrade, p.Name)
		if p.Installed && !upgraded && !slices.Contains(e.request.Remove, p.Name) {
			same = append(same, softClause{yes(e.vars[i]), 1})
		}
		if p.Installed && !upgraded {
			continue
		}
		behind := e.rank(p)
		if p.Installed && slices.ContainsFunc(e.packages, func(other *Package) bool { return other.replaces(p) }) {
			behind++ // what replaces it is newer than all of its own name
		}
		if behind > 0 {
			newest = append(newest, softClause{no(e.vars[i]), behind})
		}
		if !p.Installed {
			fewest = append(fewest, softClause{no(e.vars[i]), 1})
		}
	}
	for _, v := range e.unmet {
		suggested = append(suggested, softClause{no(v), 1})
	}
	return [][]softClause{stay, same, suggested, newest, fewest}
}

// answer reads what the search found.
func (u *universe) answer(e *encoding) *Answer {
	a := &Answer{}
	chosen := func(p *Package) bool { return e.problem.holds(yes(e.variable(p))) }
	for _, p := range u.packages {
		if chosen(p) {
			a.Packages = append(a.Packages, p)
		}
	}
	byName := func(a, b *Package) int { return cmp.Compare(a.Name, b.Name) }
	slices.SortFunc(a.Packages, byName)
	followed := map[*Package]bool{}
	for _, p := range u.packages {
		if !p.Installed || chosen(p) {
			continue
		}
		to := slices.IndexFunc(a.Packages, func(other *Package) bool { return other.Name == p.Name || other.replaces(p) })
		if to < 0 {
			a.Remove = append(a.Remove, p)
			continue
		}
		a.Change = append(a.Change, Change{p, a.Packages[to]})
		followed[a.Packages[to]] = true
	}
	for _, p := range a.Packages {
		if !p.Installed && !followed[p] {
			a.Install = append(a.Install, p)
		}
	}
	slices.SortFunc(a.Remove, byName)
	slices.SortFunc(a.Change, func(a, b Change) int { return byName(a.From, b.From) })
	for _, p := range a.Packages {
		if !p.Installed {
			u.suggest(a, p)
		}
	}
	return a
}

// suggest adds what a package that comes in suggests, and is not met.
func (u *universe) suggest(a *Answer, p *Package) {
	for _, n := range p.Suggests {
		wanted := Need{Need: n}
		meets := func(p *Package) bool { return p.Offers(wanted) }
		if slices.ContainsFunc(a.Packages, meets) || u.meets(wanted) {
			continue
		}
		var best *Package
		for _, alternative := range n.Alternatives {
			for _, other := range u.byKey[key{alternative.Kind, alternative.Name}] {
				if meets(other) && (best == nil || best.Name == other.Name && best.Full.Compare(other.Full) < 0) {
					best = other
				}
			}
		}
		if best != nil {
			a.Suggestions = append(a.Suggestions, Suggestion{p, n, best})
		}
	}
}
