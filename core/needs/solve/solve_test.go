package solve

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
)

func needs(t testing.TB, texts ...string) []need.Need {
	t.Helper()
	var out []need.Need
	for _, text := range texts {
		n, err := need.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, n)
	}
	return out
}

// parsePackage reads "NAME VERSION [installed] [; needs A, B] [; provides …]
// [; conflicts …] [; replaces …] [; suggests …]", with / between the items.
func parsePackage(t testing.TB, line string) *Package {
	t.Helper()
	parts := strings.Split(line, ";")
	words := strings.Fields(parts[0])
	full, err := version.ParseFull(words[1])
	if err != nil {
		t.Fatal(err)
	}
	p := &Package{Name: words[0], Full: full, Installed: slices.Contains(words, "installed")}
	if slices.Contains(words, "first") {
		p.Priority = 1
	}
	for _, part := range parts[1:] {
		what, list, _ := strings.Cut(strings.TrimSpace(part), " ")
		for item := range strings.SplitSeq(list, " + ") {
			item, symbols, _ := strings.Cut(item, " with ")
			with := strings.Fields(symbols)
			switch what {
			case "needs":
				p.Needs = append(p.Needs, Need{needs(t, item)[0], with})
			case "provides":
				o, err := need.ParseProvide(item)
				if err != nil {
					t.Fatal(err)
				}
				p.Provides = append(p.Provides, Provide{o, with})
			case "conflicts":
				p.Conflicts = append(p.Conflicts, needs(t, item)...)
			case "replaces":
				p.Replaces = append(p.Replaces, needs(t, item)...)
			case "suggests":
				p.Suggests = append(p.Suggests, needs(t, item)...)
			default:
				t.Fatalf("%q in %q", what, line)
			}
		}
	}
	return p
}

// TestSolve states what the best answer is, case by case.
func TestSolve(t *testing.T) {
	for _, c := range []struct {
		title, packages string
		install         string
		upgrade, remove string
		suggestions     bool
		want            string // packages of the answer, or the proof
	}{
		{title: "the newest", packages: "tide 1-1\ntide 2-1\ntide 1.9-1", install: "tide", want: "tide 2-1"},
		{title: "an epoch outranks a version", packages: "tide 9-1\ntide 1:1-1", install: "tide", want: "tide 1:1-1"},
		{title: "a priority outranks a version", packages: "tide 9-1\ntide 1-1 first", install: "tide", want: "tide 1-1"},
		{title: "what is installed stays", packages: "tide 1-1 installed\ntide 2-1\nalmanac 1-1; needs tide", install: "almanac", want: "almanac 1-1, tide 1-1"},
		{title: "unless it must change", packages: "tide 1-1 installed\ntide 2-1\ntide 3-1\nalmanac 1-1; needs tide >= 2", install: "almanac", want: "almanac 1-1, tide 3-1"},
		{title: "or is to be upgraded", packages: "tide 1-1 installed\ntide 2-1\nbuoy 1-1 installed\nbuoy 2-1", upgrade: "tide", want: "buoy 1-1, tide 2-1"},
		{title: "what replaces it is its upgrade", packages: "gauge 1-1 installed\ntidegauge 2-1; replaces gauge; provides package/gauge = 2\nalmanac 1-1 installed; needs gauge", upgrade: "gauge", want: "almanac 1-1, tidegauge 2-1"},
		{title: "an older one where the newest cannot be", packages: "tide 1-1\ntide 2-1; needs moon", install: "tide", want: "tide 1-1"},
		{title: "the first of alternatives", packages: "awk-a 1-1\nawk-b 1-1\ntide 1-1; needs awk-b | awk-a", install: "tide", want: "awk-b 1-1, tide 1-1"},
		{title: "the alternative that is installed", packages: "awk-a 1-1 installed\nawk-b 1-1\ntide 1-1; needs awk-b | awk-a", install: "tide", want: "awk-a 1-1, tide 1-1"},
		{title: "the alternative with the fewest packages", packages: "awk-a 1-1\nawk-b 1-1; needs moon\nmoon 1-1\ntide 1-1; needs awk-b | awk-a", install: "tide", want: "awk-a 1-1, tide 1-1"},
		{title: "an alternative that another needs", packages: "awk-a 1-1\nawk-b 1-1\ntide 1-1; needs awk-a | awk-b\nbuoy 1-1; needs awk-b", install: "tide, buoy", want: "awk-b 1-1, buoy 1-1, tide 1-1"},
		{title: "a provide with a version", packages: "harmonic 1-1; provides pkgconfig/tide = 1.4\nharmonic2 1-1; provides pkgconfig/tide = 2.0\nalmanac 1-1; needs pkgconfig/tide >= 1.9", install: "almanac", want: "almanac 1-1, harmonic2 1-1"},
		{title: "exact siblings go together", packages: "tide 1-1\ntide 2-1\ntide-dev 1-1; needs tide = 1-1\ntide-dev 2-1; needs tide = 2-1 + moon", install: "tide-dev", want: "tide 1-1, tide-dev 1-1"},
		{title: "the system has it", packages: "tide 1-1; needs soname/libbase.so.1 with BASE_1\n", install: "tide", want: "tide 1-1"},
		{title: "the system is too old for it", packages: "tide 2-1; needs soname/libbase.so.1 with BASE_2\ntide 1-1; needs soname/libbase.so.1 with BASE_1", install: "tide", want: "tide 1-1"},
		{title: "a library with the symbols", packages: "tide 1-1; needs soname/libtide.so.1 with TIDE_2\nlibtide 1-1; provides soname/libtide.so.1 with TIDE_1\nlibtide 2-1; provides soname/libtide.so.1 with TIDE_1 TIDE_2", install: "tide", want: "libtide 2-1, tide 1-1"},
		{title: "what is asked to go takes along what needs it", packages: "tide 1-1 installed\nalmanac 1-1 installed; needs tide\nbuoy 1-1 installed", remove: "tide", want: "buoy 1-1"},
		{title: "suggestions, if asked for", packages: "tide 1-1; suggests almanac\nalmanac 1-1", install: "tide", suggestions: true, want: "almanac 1-1, tide 1-1"},
		{title: "suggestions that cannot be had", packages: "tide 1-1; suggests almanac\nalmanac 1-1; conflicts tide", install: "tide", suggestions: true, want: "tide 1-1"},
		{title: "a circle of needs", packages: "tide 1-1; needs moon\nmoon 1-1; needs tide", install: "tide", want: "moon 1-1, tide 1-1"},

		{title: "two that disagree", packages: "almanac 1-1; needs tide >= 2\nbuoy 1-1; needs tide < 2\ntide 1-1\ntide 2-1", install: "almanac, buoy",
			want: "almanac 1-1, which you asked for, needs tide >= 2, which only tide 2-1 offers; buoy 1-1, which you asked for, needs tide < 2, which only tide 1-1 offers; only one version of tide can be there"},
		{title: "nobody has it", packages: "almanac 1-1; needs moon >= 2\nmoon 1-1", install: "almanac",
			want: "almanac 1-1, which you asked for, needs moon >= 2, which nothing here offers"},
		{title: "nothing of the name", packages: "tide 1-1", install: "almanac", want: "you asked for almanac, which nothing here offers"},
		{title: "a conflict far down", packages: "a 1-1; needs b\nb 1-1; needs c\nb 2-1; needs c\nc 1-1; conflicts d\nd 1-1", install: "a, d",
			want: "you asked for d, which only d 1-1 offers; a 1-1, which you asked for, needs b, which only b 2-1 or b 1-1 offers; every version of b (2-1 and 1-1) needs c, which only c 1-1 offers; c 1-1 conflicts with d 1-1"},
		{title: "what is asked to go is needed", packages: "tide 1-1 installed\nalmanac 1-1; needs tide", install: "almanac", remove: "tide",
			want: "almanac 1-1, which you asked for, needs tide, which only tide 1-1 offers; you asked for tide to be removed"},
	} {
		r := Request{Suggestions: c.suggestions, System: func(n Need) bool {
			base := Provide{need.Provide{Kind: need.Soname, Name: "libbase.so.1"}, []string{"BASE_1"}}
			return base.Meets(n)
		}}
		for line := range strings.Lines(c.packages) {
			r.Packages = append(r.Packages, parsePackage(t, line))
		}
		for name := range strings.SplitSeq(c.install, ", ") {
			if name != "" {
				r.Install = append(r.Install, needs(t, name)...)
			}
		}
		if c.upgrade != "" {
			r.Upgrade = []string{c.upgrade}
		}
		if c.remove != "" {
			r.Remove = []string{c.remove}
		}
		got := ""
		a, err := Solve(r)
		var no *NoAnswerError
		switch {
		case errors.As(err, &no):
			got = strings.Join(no.Sentences(), "; ")
		case err != nil:
			t.Fatal(err)
		default:
			for _, p := range a.Packages {
				got += ", " + p.String()
			}
			got = strings.TrimPrefix(got, ", ")
		}
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.title, got, c.want)
		}
	}
}

var universes = flag.Int("universes", 30_000, "how many random universes are compared with a search of all sets")

// TestRandomUniverses compares the solver with a search of all sets of
// packages: that there is an answer, that it is as good as the best one, and
// that if there is none, the facts of the proof rule out every set, and
// none of them is one too many.
func TestRandomUniverses(t *testing.T) {
	var workers sync.WaitGroup
	var mu sync.Mutex
	answers, proofs := 0, 0
	each := runtime.GOMAXPROCS(0)
	for worker := range each {
		workers.Go(func() {
			for seed := worker; seed < *universes && !t.Failed(); seed += each {
				solved := compareWithAll(t, uint64(seed))
				mu.Lock()
				if solved {
					answers++
				} else {
					proofs++
				}
				mu.Unlock()
			}
		})
	}
	workers.Wait()
	t.Logf("%d universes with an answer, %d without", answers, proofs)
	if !t.Failed() && (answers < *universes/5 || proofs < *universes/5) {
		t.Errorf("%d universes with an answer, %d without: one kind is too rare to tell anything", answers, proofs)
	}
}

func compareWithAll(t *testing.T, seed uint64) bool {
	r, text := randomRequest(t, seed)
	s := newSets(r)
	best, possible := s.best()
	a, err := Solve(r)
	var none *NoAnswerError
	if errors.As(err, &none) {
		if possible {
			t.Errorf("seed %d: there is an answer, and the solver found none:\n%s\n%v", seed, text, err)
		}
		if s.allowed(none.Facts) {
			t.Errorf("seed %d: the proof does not hold:\n%s\n%v", seed, text, err)
		}
		for i := range none.Facts {
			if !s.allowed(slices.Delete(slices.Clone(none.Facts), i, i+1)) {
				t.Errorf("seed %d: the proof has %v too many:\n%s\n%v", seed, none.Facts[i].Kind, text, err)
			}
		}
		return false
	}
	set := 0
	for _, p := range a.Packages {
		set |= 1 << slices.Index(r.Packages, p)
	}
	switch {
	case !possible:
		t.Errorf("seed %d: an answer where there is none:\n%s\n%v", seed, text, a.Packages)
	case !s.valid(set):
		t.Errorf("seed %d: the answer is not valid:\n%s\n%v", seed, text, a.Packages)
	case s.cost(set) != best:
		t.Errorf("seed %d: the answer costs %v, the best %v:\n%s\n%v", seed, s.cost(set), best, text, a.Packages)
	}
	if again, err := Solve(r); err != nil || !slices.Equal(again.Packages, a.Packages) {
		t.Errorf("seed %d: another answer the second time", seed)
	}
	return true
}

// randomRequest makes a small universe in the language of parsePackage.
func randomRequest(t *testing.T, seed uint64) (Request, string) {
	d := rand.New(rand.NewPCG(seed, 1))
	names := []string{"a", "b", "c", "d", "e"}[:2+d.IntN(4)]
	random := func() string {
		n := names[d.IntN(len(names))]
		if d.IntN(6) == 0 {
			n = "command/" + []string{"x", "y"}[d.IntN(2)]
		}
		if d.IntN(2) == 0 {
			n += fmt.Sprintf(" %s %d", []string{"=", "<", ">=", "!="}[d.IntN(4)], 1+d.IntN(3))
			if strings.Contains(n, "=") && d.IntN(2) == 0 {
				n += "-1"
			}
		}
		return n
	}
	r := Request{Suggestions: d.IntN(3) == 0}
	text := ""
	for _, name := range names {
		installed := d.IntN(3) - 1
		for v := range 1 + d.IntN(3) {
			if len(r.Packages) == 9 {
				break
			}
			line := fmt.Sprintf("%s %d-1", name, v+1)
			if v == installed {
				line += " installed"
			}
			if d.IntN(8) == 0 {
				line += " first"
			}
			for range d.IntN(3) {
				line += "; needs " + random()
				if d.IntN(3) == 0 {
					line += " | " + random()
				}
			}
			for what, one := range map[string]int{"conflicts": 5, "suggests": 4} {
				if d := rand.New(rand.NewPCG(seed, uint64(len(text)+one))); d.IntN(one) == 0 {
					line += fmt.Sprintf("; %s %s", what, names[d.IntN(len(names))])
				}
			}
			if d.IntN(8) == 0 {
				line += "; replaces " + names[d.IntN(len(names))]
			}
			if d.IntN(4) == 0 {
				line += fmt.Sprintf("; provides command/%s = %d", []string{"x", "y"}[d.IntN(2)], 1+d.IntN(3))
			}
			text += line + "\n"
			r.Packages = append(r.Packages, parsePackage(t, line))
		}
	}
	for range 1 + d.IntN(2) {
		n := random()
		text += "install " + n + "\n"
		r.Install = append(r.Install, needs(t, n)...)
	}
	if d.IntN(4) == 0 {
		r.Remove = []string{names[d.IntN(len(names))]}
		text += "remove " + r.Remove[0] + "\n"
	}
	if d.IntN(3) == 0 {
		r.Upgrade = []string{names[d.IntN(len(names))]}
		text += "upgrade " + r.Upgrade[0] + "\n"
	}
	return r, text
}

// sets looks at every set of a request's packages, as bits.
type sets struct {
	Request
	needs    [][]int // package → for each need, the packages that meet it
	suggests [][]int
	bars     []int // package → those that it cannot be with
	install  []int
	removed  int
	replaced []int // package → those that replace it
}

func newSets(r Request) *sets {
	s := &sets{Request: r}
	meets := func(n Need) int {
		set := 0
		for i, p := range r.Packages {
			if p.Offers(n) {
				set |= 1 << i
			}
		}
		return set
	}
	for i, p := range r.Packages {
		var wanted, suggested []int
		for _, n := range p.Needs {
			wanted = append(wanted, meets(n))
		}
		for _, n := range p.Suggests {
			if m := meets(Need{Need: n}); m != 0 {
				suggested = append(suggested, m)
			}
		}
		s.needs, s.suggests = append(s.needs, wanted), append(s.suggests, suggested)
		bars, replaced := 0, 0
		for j, other := range r.Packages {
			switch {
			case i == j:
			case other.Name == p.Name:
				bars |= 1 << j
			default:
				if slices.ContainsFunc(p.Conflicts, func(n need.Need) bool { return other.Offers(Need{Need: n}) }) || p.replaces(other) {
					bars |= 1 << j
				}
				if other.replaces(p) {
					replaced |= 1 << j
				}
			}
		}
		s.bars, s.replaced = append(s.bars, bars), append(s.replaced, replaced)
		if slices.Contains(r.Remove, p.Name) {
			s.removed |= 1 << i
		}
	}
	for _, n := range r.Install {
		s.install = append(s.install, meets(Need{Need: n}))
	}
	return s
}

func (s *sets) valid(set int) bool {
	if set&s.removed != 0 {
		return false
	}
	for _, m := range s.install {
		if set&m == 0 {
			return false
		}
	}
	for i := range s.Packages {
		if set&(1<<i) == 0 {
			continue
		}
		if set&s.bars[i] != 0 {
			return false
		}
		for _, m := range s.needs[i] {
			if set&m == 0 {
				return false
			}
		}
	}
	return true
}

// cost is what package solve promises the least of, in its order.
func (s *sets) cost(set int) [5]int {
	var c [5]int
	for i, p := range s.Packages {
		upgraded := slices.Contains(s.Upgrade, p.Name)
		in := set&(1<<i) != 0
		if p.Installed && !slices.Contains(s.Remove, p.Name) {
			if named := s.named(p.Name); set&(named|s.replaced[i]) == 0 {
				c[0]++
			}
			if !in && !upgraded {
				c[1]++
			}
		}
		if !in || p.Installed && !upgraded {
			continue
		}
		for _, other := range s.Packages {
			if other.Name == p.Name && (other.Priority > p.Priority || other.Priority == p.Priority && other.Full.Compare(p.Full) > 0) {
				c[3]++
			}
		}
		if p.Installed && s.replaced[i] != 0 {
			c[3]++
		}
		if p.Installed {
			continue
		}
		c[4]++
		if s.Suggestions {
			for _, m := range s.suggests[i] {
				if set&m == 0 {
					c[2]++
				}
			}
		}
	}
	return c
}

func (s *sets) named(name string) int {
	set := 0
	for i, p := range s.Packages {
		if p.Name == name {
			set |= 1 << i
		}
	}
	return set
}

func (s *sets) best() (best [5]int, possible bool) {
	for set := range 1 << len(s.Packages) {
		if !s.valid(set) {
			continue
		}
		if c := s.cost(set); !possible || slices.Compare(c[:], best[:]) < 0 {
			best, possible = c, true
		}
	}
	return best, possible
}

// allowed reports whether any set is left by some facts alone.
func (s *sets) allowed(facts []Fact) bool {
	bits := func(list []*Package) int {
		set := 0
		for _, p := range list {
			set |= 1 << slices.Index(s.Packages, p)
		}
		return set
	}
	type rule struct {
		kind           Kind
		subject, other int
	}
	var rules []rule
	for _, f := range facts {
		// What a fact says of others is worked out again, not taken from it.
		other := 0
		for i, p := range s.Packages {
			if p.Offers(f.Need) {
				other |= 1 << i
			}
		}
		if f.Kind == Replaces {
			other = bits(f.Offers)
		}
		rules = append(rules, rule{f.Kind, bits(f.Packages), other})
	}
	for set := range 1 << len(s.Packages) {
		ok := true
		for _, r := range rules {
			some := set & r.subject
			switch r.kind {
			case Asked:
				ok = set&r.other != 0
			case Barred:
				ok = some == 0
			case Needs:
				ok = some == 0 || set&r.other != 0
			case Conflicts:
				ok = some == 0 || set&r.other&^s.named(s.Packages[first(r.subject)].Name) == 0
			case Replaces:
				ok = some == 0 || set&r.other == 0
			case OneVersion:
				ok = some&(some-1) == 0
			}
			if !ok {
				break
			}
		}
		if ok {
			return true
		}
	}
	return false
}

func first(set int) int {
	i := 0
	for set&(1<<i) == 0 {
		i++
	}
	return i
}
