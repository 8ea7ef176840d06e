// Package solve chooses packages: which of those there are make a root in
// which everything has what it needs. It knows nothing of files or networks.
//
// It is complete: where there is an answer it finds one, and where there is
// none it gives the few facts that rule one out. And it is exact about which
// answer it gives. In this order, the best is the one
//
//  1. that takes away the fewest installed packages nobody asked to remove,
//  2. and leaves the most of the others in the version they are in,
//  3. with the most suggestions met, where suggestions are asked for,
//  4. with the newest packages: the least sum, over all that come in, of how
//     many newer ones of their name there are,
//  5. with the fewest packages that come in,
//  6. and what is written first, of alternatives that are equal by all that.
//
// The same packages and the same request give the same answer.
package solve

import (
	"cmp"
	"slices"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
)

// Package is a package that is installed or could be.
type Package struct {
	Name      string
	Full      version.Full
	Origin    string // the repository that it is from, for messages
	Priority  int    // of that repository: a higher one is preferred to a newer version
	Installed bool
	Needs     []Need
	Suggests  []need.Need
	Conflicts []need.Need // none of these is met beside it
	Replaces  []need.Need // of packages: they go when it comes
	Provides  []Provide   // beyond its own name and version
}

// Need is a need with the symbol versions that are used of a soname.
type Need struct {
	need.Need
	Symbols []string
}

// Provide is a provide with the symbol versions that a library defines; nil
// where they are not known.
type Provide struct {
	need.Provide
	Symbols []string
}

func (p *Package) String() string { return p.Name + " " + p.Full.String() }

// Offers reports whether the package meets a need.
func (p *Package) Offers(n Need) bool {
	if n.MetBy(need.Provide{Kind: need.Package, Name: p.Name, Version: p.Full.String()}) {
		return true
	}
	return slices.ContainsFunc(p.Provides, func(o Provide) bool { return o.Meets(n) })
}

// Meets reports whether the provide meets a need.
func (o Provide) Meets(n Need) bool { return n.MetBy(o.Provide) && o.Has(n.Symbols) }

// Loose is the need without bounds and symbol versions.
func (n Need) Loose() Need {
	var out Need
	for _, a := range n.Alternatives {
		out.Alternatives = append(out.Alternatives, need.Alternative{Kind: a.Kind, Name: a.Name})
	}
	return out
}

// Has reports whether the library defines all of some symbol versions.
func (o Provide) Has(symbols []string) bool {
	return o.Symbols == nil || !slices.ContainsFunc(symbols, func(s string) bool { return !slices.Contains(o.Symbols, s) })
}

// Request is what is wanted.
type Request struct {
	Packages []*Package  // all there are: installed, and to be had
	Index    Index       // of Packages, where it is at hand from another request
	Install  []need.Need // each must be met
	Remove   []string    // names of which none may be there
	Upgrade  []string    // installed names whose newest version is wanted
	// Suggestions asks for what the packages that come in suggest, as far as it
	// can be had.
	Suggestions bool
	// System reports whether the system below meets a need. Nil stands for one that
	// has nothing.
	System func(Need) bool
}

// Answer is what should be in the root.
type Answer struct {
	Packages    []*Package   // all, by name
	Install     []*Package   // those that come in, by name
	Remove      []*Package   // installed ones that go and have no successor
	Change      []Change     // installed ones that another takes the place of
	Suggestions []Suggestion // of what comes in: what is not met, but could be
}

// Change is an installed package and what takes its place.
type Change struct{ From, To *Package }

// Suggestion is what a package suggests, and what would meet it.
type Suggestion struct {
	Of   *Package
	Need need.Need
	By   *Package
}

// Solve finds the best answer. The error is a *NoAnswerError.
func Solve(r Request) (*Answer, error) {
	u := newUniverse(r)
	e := u.encode(nil)
	for _, level := range e.levels() {
		if _, possible := e.problem.minimize(level); !possible {
			return nil, u.prove()
		}
	}
	if found, _ := e.problem.search(nil); !found {
		return nil, u.prove()
	}
	return u.answer(e), nil
}

// universe is what of the packages a request can come to.
type universe struct {
	request  Request
	byKey    Index
	packages []*Package // those within reach, in the order they were reached
	index    map[*Package]int
	byName   map[string][]*Package // within reach, the most welcome first
	system   map[string]bool
}

type key struct{ kind, name string }

// Index finds packages by what they offer.
type Index map[key][]*Package

// NewIndex makes the index of packages.
func NewIndex(packages []*Package) Index {
	index := Index{}
	for _, p := range packages {
		own := key{need.Package, p.Name}
		index[own] = append(index[own], p)
		for _, o := range p.Provides {
			k := key{o.Kind, o.Name}
			if list := index[k]; len(list) == 0 || list[len(list)-1] != p {
				index[k] = append(list, p)
			}
		}
	}
	return index
}

// Offering lists the packages that meet a need.
func (x Index) Offering(n Need) []*Package {
	var out []*Package
	for _, a := range n.Alternatives {
		for _, p := range x[key{a.Kind, a.Name}] {
			if p.Offers(n) && !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	return out
}

func newUniverse(r Request) *universe {
	u := &universe{request: r, byKey: r.Index, index: map[*Package]int{}, byName: map[string][]*Package{}, system: map[string]bool{}}
	if u.byKey == nil {
		u.byKey = NewIndex(r.Packages)
	}
	for _, p := range r.Packages {
		if p.Installed {
			u.reachName(p.Name)
		}
	}
	for _, n := range r.Install {
		u.reach(Need{Need: n})
	}
	for at := 0; at < len(u.packages); at++ {
		p := u.packages[at]
		for _, n := range p.Needs {
			if !u.meets(n) {
				u.reach(n)
			}
		}
		if r.Suggestions {
			for _, n := range p.Suggests {
				u.reach(Need{Need: n})
			}
		}
		// What takes the place of an installed package is within reach too.
		if p.Installed {
			for _, other := range r.Packages {
				if other.replaces(p) {
					u.reachName(other.Name)
				}
			}
		}
	}
	return u
}

func (u *universe) reach(n Need) {
	for _, p := range u.byKey.Offering(n) {
		u.reachName(p.Name)
	}
}

// reachName takes in all packages of a name, the most welcome first: the
// installed one, then by priority and version.
func (u *universe) reachName(name string) {
	if u.byName[name] != nil {
		return
	}
	var all []*Package
	for _, p := range u.byKey[key{need.Package, name}] {
		if p.Name == name {
			all = append(all, p)
		}
	}
	slices.SortStableFunc(all, func(a, b *Package) int {
		return cmp.Or(-compareBool(a.Installed, b.Installed), cmp.Compare(b.Priority, a.Priority), b.Full.Compare(a.Full), cmp.Compare(a.Origin, b.Origin))
	})
	u.byName[name] = all
	for _, p := range all {
		u.index[p] = len(u.packages)
		u.packages = append(u.packages, p)
	}
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// meets reports whether the system meets a need.
func (u *universe) meets(n Need) bool {
	if u.request.System == nil {
		return false
	}
	text := n.String()
	for _, s := range n.Symbols {
		text += " " + s
	}
	met, known := u.system[text]
	if !known {
		met = u.request.System(n)
		u.system[text] = met
	}
	return met
}

// offering lists the packages within reach that meet a need, the most welcome
// first: what is installed, then in the order of the alternatives and, within
// one, by name.
func (u *universe) offering(n Need) []*Package {
	var out []*Package
	for _, a := range n.Alternatives {
		single := Need{need.Of(a), n.Symbols}
		var these []*Package
		for _, p := range u.byKey[key{a.Kind, a.Name}] {
			if _, reached := u.index[p]; reached && p.Offers(single) && !slices.Contains(out, p) {
				these = append(these, p)
			}
		}
		slices.SortStableFunc(these, func(a, b *Package) int {
			// A package of that very name comes before one that only offers it.
			named := -compareBool(n.named(a.Name), n.named(b.Name))
			return cmp.Or(named, cmp.Compare(a.Name, b.Name), cmp.Compare(u.index[a], u.index[b]))
		})
		out = append(out, these...)
	}
	slices.SortStableFunc(out, func(a, b *Package) int { return -compareBool(a.Installed, b.Installed) })
	return out
}

func (n Need) named(name string) bool {
	return slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind == need.Package && a.Name == name })
}

func (p *Package) replaces(other *Package) bool {
	own := need.Provide{Kind: need.Package, Name: other.Name, Version: other.Full.String()}
	return p.Name != other.Name && slices.ContainsFunc(p.Replaces, func(n need.Need) bool { return n.MetBy(own) })
}

// excluded lists the packages within reach that cannot be beside one because
// of a conflict or a replacement that it declares.
func (u *universe) excluded(p *Package, n need.Need, names bool) []*Package {
	var out []*Package
	for _, a := range n.Alternatives {
		single := Need{Need: need.Of(a)}
		for _, other := range u.byKey[key{a.Kind, a.Name}] {
			_, reached := u.index[other]
			if !reached || other.Name == p.Name || names && !other.named(a) || !other.Offers(single) || slices.Contains(out, other) {
				continue
			}
			out = append(out, other)
		}
	}
	return out
}

// named reports whether an alternative is met by the package's own name.
func (p *Package) named(a need.Alternative) bool {
	return a.MetBy(need.Provide{Kind: need.Package, Name: p.Name, Version: p.Full.String()})
}

// rank is how many packages of the same name come before one, were none
// installed.
func (u *universe) rank(p *Package) int {
	n := 0
	for _, other := range u.byName[p.Name] {
		if cmp.Or(cmp.Compare(other.Priority, p.Priority), other.Full.Compare(p.Full)) > 0 {
			n++
		}
	}
	return n
}
