package solve

import "slices"

// softClause is a literal that should be true, and what it costs if it is not.
type softClause struct {
	literal literal
	weight  int
}

// minimize finds the least cost at which the soft clauses can be left unmet, and makes
// the problem such that every assignment from now on has that cost. It returns
// false if there is no assignment at all.
//
// The search goes up from below: all soft are assumed; those that turn out
// not to be possible together (a core) cost at least the smallest of their
// weights, and from there on only how many of them fail is counted. It is the
// method OLL of Andres, Kaufmann, Matheis and Schaub, "Unsatisfiability-based
// optimization in clasp" (2012).
func (p *problem) minimize(soft []softClause) (cost int, possible bool) {
	open := slices.Clone(soft)
	counts := map[literal]*count{} // "fewer than n of a core fail" → its counter
	for {
		assumptions := make([]literal, len(open))
		for i, w := range open {
			assumptions[i] = w.literal
		}
		found, core := p.search(assumptions)
		if found {
			break
		}
		if len(core) == 0 {
			return 0, false
		}
		core = p.smaller(core)
		weight := 0
		for _, l := range core {
			if at := position(open, l); weight == 0 || open[at].weight < weight {
				weight = open[at].weight
			}
		}
		cost += weight
		var failing []literal
		for _, l := range core {
			open[position(open, l)].weight -= weight
			failing = append(failing, l.not())
			if c := counts[l]; c != nil {
				if next, more := c.next(l); more {
					counts[next] = c
					open = raise(open, next, weight)
				}
			}
		}
		open = slices.DeleteFunc(open, func(w softClause) bool { return w.weight == 0 })
		p.add(failing...)
		if len(failing) > 1 {
			c := p.counter(failing)
			fewer := c.atLeast[1].not() // the one that must fail is paid for
			counts[fewer] = c
			open = raise(open, fewer, weight)
		}
	}
	for _, w := range open {
		p.add(w.literal)
	}
	return cost, !p.broken
}

func position(list []softClause, l literal) int {
	return slices.IndexFunc(list, func(w softClause) bool { return w.literal == l })
}

func raise(list []softClause, l literal, weight int) []softClause {
	if i := position(list, l); i >= 0 {
		list[i].weight += weight
		return list
	}
	return append(list, softClause{l, weight})
}

// smaller drops assumptions from a core while the others still fail.
func (p *problem) smaller(core []literal) []literal {
	for i := len(core) - 1; i >= 0 && len(core) > 1 && i < len(core); i-- {
		if found, less := p.search(slices.Delete(slices.Clone(core), i, i+1)); !found && len(less) > 0 {
			core = less
		}
	}
	return core
}

// count counts how many of some literals are true.
type count struct {
	atLeast []literal // true if more than so many are
}

// next is the assumed that follows "at most n are true": "at most n+1 are".
func (c *count) next(assumed literal) (literal, bool) {
	n := slices.Index(c.atLeast, assumed.not()) + 1
	if n >= len(c.atLeast) {
		return 0, false
	}
	return c.atLeast[n].not(), true
}

// counter adds a totalizer (Bailleux and Boufkhad, 2003) over literals.
func (p *problem) counter(of []literal) *count {
	if len(of) == 1 {
		return &count{of}
	}
	a, b := p.counter(of[:len(of)/2]), p.counter(of[len(of)/2:])
	out := make([]literal, len(of))
	for i := range out {
		out[i] = yes(p.variable())
	}
	for i := range len(a.atLeast) + 1 {
		for j := range len(b.atLeast) + 1 {
			if i+j == 0 {
				continue
			}
			clause := []literal{out[i+j-1]}
			if i > 0 {
				clause = append(clause, a.atLeast[i-1].not())
			}
			if j > 0 {
				clause = append(clause, b.atLeast[j-1].not())
			}
			p.add(clause...)
		}
	}
	return &count{out}
}
