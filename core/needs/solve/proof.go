package solve

import (
	"fmt"
	"slices"
	"strings"

	"ellwand.example/core/fact"
)

// Kind is what a fact is about.
type Kind string

// Kinds of fact.
const (
	Asked      Kind = "asked"       // Need is asked for; Offers meet it
	Barred     Kind = "barred"      // packages of Name are asked to go
	Needs      Kind = "needs"       // Packages, all of Name, need Need; Offers meet it
	Conflicts  Kind = "conflicts"   // Packages are not beside Offers, which meet Need
	Replaces   Kind = "replaces"    // Packages take the place of Offers
	OneVersion Kind = "one version" // only one of Packages, all of Name, can be there
)

// Fact is one thing that restricts the answer.
type Fact struct {
	Kind     Kind
	Name     string
	Packages []*Package
	Need     Need
	Offers   []*Package
}

// NoAnswerError says why there is no answer: its facts cannot all be true, and
// without any one of them the others could.
type NoAnswerError struct {
	Facts []Fact
	all   map[string]int // name → how many packages of it there are
}

// prove finds a smallest set of facts that cannot be true together.
func (u *universe) prove() error {
	facts := u.core(u.facts())
	for i := 0; i < len(facts); {
		without := slices.Delete(slices.Clone(facts), i, i+1)
		if u.possible(without) {
			i++
			continue
		}
		facts = without
	}
	e := &NoAnswerError{Facts: inOrder(facts), all: map[string]int{}}
	for name, all := range u.byName {
		e.all[name] = len(all)
	}
	return e
}

func (u *universe) possible(facts []Fact) bool {
	found, _ := u.encode(facts).problem.search(nil)
	return found
}

// core finds a few of the facts that cannot be true together, in one search:
// each fact holds only where an assumption of its own does.
func (u *universe) core(facts []Fact) []Fact {
	e := u.encode([]Fact{})
	assumptions := make([]literal, len(facts))
	for i, f := range facts {
		on := e.problem.variable()
		assumptions[i] = yes(on)
		e.state(f, yes(on))
	}
	found, core := e.problem.search(assumptions)
	if found || len(core) == 0 {
		return facts
	}
	var out []Fact
	for i, f := range facts {
		if slices.Contains(core, assumptions[i]) {
			out = append(out, f)
		}
	}
	return out
}

// inOrder sorts facts so that a reader comes from what is asked for to what
// cannot be.
func inOrder(facts []Fact) []Fact {
	var out []Fact
	taken := make([]bool, len(facts))
	reached := map[*Package]bool{}
	take := func(i int) {
		taken[i] = true
		out = append(out, facts[i])
		if facts[i].Kind == Asked || facts[i].Kind == Needs {
			for _, p := range facts[i].Offers {
				reached[p] = true
			}
		}
	}
	for i, f := range facts {
		if f.Kind == Asked {
			take(i)
		}
	}
	for again := true; again; {
		again = false
		for i, f := range facts {
			if !taken[i] && f.Kind == Needs && slices.ContainsFunc(f.Packages, func(p *Package) bool { return reached[p] }) {
				take(i)
				again = true
			}
		}
	}
	for i := range facts {
		if !taken[i] {
			take(i)
		}
	}
	return out
}

// Sentences are the proof, a sentence each, from what was asked for to what
// cannot be.
func (e *NoAnswerError) Sentences() []string { return e.sentences(true) }

// Reasons are the same without a word of who asked for what.
func (e *NoAnswerError) Reasons() []string { return e.sentences(false) }

func (e *NoAnswerError) sentences(whoAsked bool) []string {
	asked := map[string]bool{} // names that a need asked for names, and no other would do
	var out []string
	for _, f := range e.Facts {
		if f.Kind != Asked || !whoAsked {
			continue
		}
		name := ""
		for _, p := range f.Offers {
			if name != "" && name != p.Name {
				name = ""
				break
			}
			name = p.Name
		}
		if name != "" && f.Need.String() == name && slices.ContainsFunc(e.Facts, func(o Fact) bool { return o.Name == name && o.Kind != OneVersion && o.Kind != Barred }) {
			asked[name] = true // said where what it needs is said
			continue
		}
		out = append(out, fmt.Sprintf("you asked for %s, %s", f.Need.Need, offered(f.Need, f.Offers)))
	}
	for _, f := range e.Facts {
		switch f.Kind {
		case Needs:
			out = append(out, fmt.Sprintf("%s needs %s, %s", e.subject(f, asked), f.Need.Need, offered(f.Need, f.Offers)))
		case Conflicts:
			out = append(out, fmt.Sprintf("%s conflicts with %s", e.subject(f, asked), either(f.Offers)))
		case Replaces:
			out = append(out, fmt.Sprintf("%s takes the place of %s", e.subject(f, asked), either(f.Offers)))
		case Barred:
			out = append(out, fmt.Sprintf("you asked for %s to be removed", f.Name))
		case OneVersion:
			out = append(out, fmt.Sprintf("only one version of %s can be there", f.Name))
		}
	}
	return out
}

// subject names the packages that a fact is about, once with the words that
// they were asked for.
func (e *NoAnswerError) subject(f Fact, asked map[string]bool) string {
	s := f.Packages[0].String()
	if list := distinct(f.Packages); len(list) > 1 {
		last := len(list) - 1
		s = fmt.Sprintf("%s (%s and %s)", f.Name, fulls(list[:last]), list[last].Full)
		if len(f.Packages) == e.all[f.Name] {
			s = "every version of " + s
		}
	}
	if asked[f.Name] {
		delete(asked, f.Name)
		s += ", which you asked for,"
	}
	return s
}

// distinct leaves out packages that differ only in where they come from.
func distinct(list []*Package) []*Package {
	seen := map[string]bool{}
	return slices.DeleteFunc(slices.Clone(list), func(p *Package) bool {
		name := p.String()
		there := seen[name]
		seen[name] = true
		return there
	})
}

func fulls(list []*Package) string {
	var out []string
	for _, p := range list {
		out = append(out, p.Full.String())
	}
	return strings.Join(out, ", ")
}

// maxNamed is how many packages a sentence names.
const maxNamed = 4

func either(list []*Package) string {
	var out []string
	for _, p := range distinct(list) {
		out = append(out, p.String())
	}
	if more := len(out) - maxNamed; more > 0 {
		out = append(out[:maxNamed], fmt.Sprintf("%d more", more))
	}
	return strings.Join(out, " or ")
}

func offered(n Need, by []*Package) string {
	symbols := ""
	if len(n.Symbols) > 0 {
		symbols = " with " + strings.Join(n.Symbols, ", ")
	}
	if len(by) == 0 {
		return "which nothing here offers" + symbols
	}
	return "which only " + either(by) + " offers" + symbols
}

// Error is the proof in one sentence.
func (e *NoAnswerError) Error() string {
	return "there is no answer: " + strings.Join(e.Sentences(), "; but ")
}

// Status is that of findings.
func (e *NoAnswerError) Status() fact.Status { return fact.StatusFindings }
