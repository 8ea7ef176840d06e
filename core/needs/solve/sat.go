package solve

// literal is a variable, or its opposite: 2·v and 2·v+1.
type literal int32

func yes(v int) literal           { return literal(2 * v) }
func no(v int) literal            { return literal(2*v + 1) }
func (l literal) not() literal    { return l ^ 1 }
func (l literal) variable() int   { return int(l >> 1) }
func (l literal) value() assigned { return assigned(l & 1) }

// assigned is what a variable is.
type assigned int8

const (
	isTrue  assigned = 0
	isFalse assigned = 1
	open    assigned = 2
)

// root is a variable that is always true: what it demands is asked for.
const root = 0

// problem is a Boolean formula in clauses, and a search for an assignment that
// satisfies it: conflict-driven clause learning, as in Marques-Silva and
// Sakallah, "GRASP" (1999), with two watched literals a clause.
//
// What sets it apart is how it decides. A demand is a clause that matters once
// its variable is true, and lists its literals from the most to the least
// welcome. The first demand that is not met yet, in the order in which
// variables became true, gets the most welcome literal that is still open.
// When no demand is left, everything that is open is false. So nothing comes
// in that nobody asked for, and the result depends on nothing but the input.
type problem struct {
	clauses [][]literal
	watches [][]int32 // literal → clauses to look at once it is false
	demands [][][]literal
	values  []assigned
	reason  []int32 // variable → the clause that made it so; none for a decision
	level   []int32
	trail   []literal
	limits  []mark // where each level begins
	next    int    // of the trail: what is not propagated yet
	at      cursor
	seen    []bool
	broken  bool // there is no assignment at all
}

const none = -1

// cursor is how far the demands are known to be met.
type cursor struct{ trail, demand int }

// mark is the state at the beginning of a level.
type mark struct {
	trail int
	at    cursor
}

func newProblem() *problem {
	p := &problem{}
	p.add(yes(p.variable()))
	return p
}

// variable makes a new variable.
func (p *problem) variable() int {
	p.values = append(p.values, open)
	p.reason = append(p.reason, none)
	p.level = append(p.level, 0)
	p.seen = append(p.seen, false)
	p.demands = append(p.demands, nil)
	p.watches = append(p.watches, nil, nil)
	return len(p.values) - 1
}

func (p *problem) holds(l literal) bool { return p.values[l.variable()] == l.value() }
func (p *problem) fails(l literal) bool { return p.values[l.variable()] == 1-l.value() }

// demand adds the clause that one of the literals must be true if v is.
func (p *problem) demand(v int, any []literal) {
	p.demands[v] = append(p.demands[v], any)
	p.add(append([]literal{no(v)}, any...)...)
}

// add adds a clause. It may only be called between searches.
func (p *problem) add(any ...literal) {
	p.back(0)
	kept := make([]literal, 0, len(any))
	for _, l := range any {
		switch {
		case p.holds(l):
			return
		case !p.fails(l):
			kept = append(kept, l)
		}
	}
	switch len(kept) {
	case 0:
		p.broken = true
	case 1:
		p.set(kept[0], none)
		p.broken = p.broken || p.propagate() != none
	default:
		p.watch(kept)
	}
}

// watch stores a clause of two literals or more, watching the first two.
func (p *problem) watch(c []literal) int32 {
	id := int32(len(p.clauses))
	p.clauses = append(p.clauses, c)
	p.watches[c[0]] = append(p.watches[c[0]], id)
	p.watches[c[1]] = append(p.watches[c[1]], id)
	return id
}

func (p *problem) set(l literal, reason int32) {
	v := l.variable()
	p.values[v], p.reason[v], p.level[v] = l.value(), reason, int32(len(p.limits))
	p.trail = append(p.trail, l)
}

func (p *problem) decide(l literal) {
	p.limits = append(p.limits, mark{len(p.trail), p.at})
	if l >= 0 {
		p.set(l, none)
	}
}

// back undoes all levels above one.
func (p *problem) back(level int) {
	if len(p.limits) <= level {
		return
	}
	m := p.limits[level]
	for _, l := range p.trail[m.trail:] {
		p.values[l.variable()] = open
	}
	p.trail, p.limits, p.at = p.trail[:m.trail], p.limits[:level], m.at
	p.next = min(p.next, len(p.trail))
}

// propagate sets what clauses leave no choice about. It returns a clause all
// of whose literals are false, or none.
func (p *problem) propagate() int32 {
	for p.next < len(p.trail) {
		wrong := p.trail[p.next].not()
		p.next++
		list := p.watches[wrong]
		kept := list[:0]
		for i, id := range list {
			c := p.clauses[id]
			if c[0] == wrong {
				c[0], c[1] = c[1], c[0]
			}
			if p.holds(c[0]) {
				kept = append(kept, id)
				continue
			}
			if p.rewatch(c, id) {
				continue
			}
			kept = append(kept, id)
			if p.fails(c[0]) {
				p.watches[wrong] = append(kept, list[i+1:]...)
				return id
			}
			p.set(c[0], id)
		}
		p.watches[wrong] = kept
	}
	return none
}

// rewatch finds another literal to watch in place of the second.
func (p *problem) rewatch(c []literal, id int32) bool {
	for i := 2; i < len(c); i++ {
		if !p.fails(c[i]) {
			c[1], c[i] = c[i], c[1]
			p.watches[c[1]] = append(p.watches[c[1]], id)
			return true
		}
	}
	return false
}

// learn finds the first unique implication point of a conflict: a clause that
// follows from the others and would have prevented it, its one literal of the
// current level first, and the level to go back to.
func (p *problem) learn(conflict int32) ([]literal, int) {
	learned := []literal{0}
	current := int32(len(p.limits))
	count, i, c := 0, len(p.trail)-1, p.clauses[conflict]
	for {
		for _, l := range c {
			v := l.variable()
			if p.seen[v] || p.level[v] == 0 || p.holds(l) {
				continue
			}
			p.seen[v] = true
			if p.level[v] == current {
				count++
			} else {
				learned = append(learned, l)
			}
		}
		for !p.seen[p.trail[i].variable()] {
			i--
		}
		l := p.trail[i]
		p.seen[l.variable()] = false
		i--
		if count--; count == 0 {
			learned[0] = l.not()
			break
		}
		c = p.clauses[p.reason[l.variable()]]
	}
	back := 0
	for j, l := range learned[1:] {
		p.seen[l.variable()] = false
		if at := int(p.level[l.variable()]); at > back {
			back = at
			learned[1], learned[j+1] = learned[j+1], learned[1]
		}
	}
	return learned, back
}

// search looks for an assignment under assumptions. Where there is none, core
// lists assumptions that cannot be together; it is empty if nothing can be.
func (p *problem) search(assumptions []literal) (found bool, core []literal) {
	p.back(0)
	if p.broken {
		return false, nil
	}
	for {
		if conflict := p.propagate(); conflict != none {
			if len(p.limits) == 0 {
				p.broken = true
				return false, nil
			}
			learned, back := p.learn(conflict)
			p.back(back)
			if len(learned) == 1 {
				p.set(learned[0], none)
			} else {
				p.set(learned[0], p.watch(learned))
			}
			continue
		}
		if at := len(p.limits); at < len(assumptions) {
			switch l := assumptions[at]; {
			case p.holds(l):
				p.decide(-1) // a level of its own, so that levels count assumptions
			case p.fails(l):
				return false, p.blame(l)
			default:
				p.decide(l)
			}
			continue
		}
		l, left := p.choose()
		if !left {
			return true, nil
		}
		p.decide(l)
	}
}

// choose finds the first demand that is not met, and its most welcome literal.
func (p *problem) choose() (literal, bool) {
	for ; p.at.trail < len(p.trail); p.at.trail, p.at.demand = p.at.trail+1, 0 {
		l := p.trail[p.at.trail]
		if l.value() == isFalse {
			continue
		}
		for of := p.demands[l.variable()]; p.at.demand < len(of); p.at.demand++ {
			first, met := literal(-1), false
			for _, option := range of[p.at.demand] {
				if p.holds(option) {
					met = true
					break
				}
				if first < 0 && !p.fails(option) {
					first = option
				}
			}
			if !met {
				return first, true
			}
		}
	}
	return 0, false
}

// blame lists the assumptions that make another one fail.
func (p *problem) blame(failed literal) []literal {
	core := []literal{failed}
	if len(p.limits) == 0 {
		return core
	}
	p.seen[failed.variable()] = true
	for i := len(p.trail) - 1; i >= p.limits[0].trail; i-- {
		l := p.trail[i]
		v := l.variable()
		if !p.seen[v] {
			continue
		}
		p.seen[v] = false
		if p.reason[v] == none {
			if l != failed {
				core = append(core, l)
			}
			continue
		}
		for _, other := range p.clauses[p.reason[v]] {
			if other != l && p.level[other.variable()] > 0 {
				p.seen[other.variable()] = true
			}
		}
	}
	p.seen[failed.variable()] = false
	return core
}
