package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/repo/index"
)

// Audit is what there is to say of one target of a channel.
type Audit struct {
	Channel  string         `json:"channel"`
	Target   string         `json:"target"`
	Packages int            `json:"packages"` // the newest of each name, which are checked
	Older    int            `json:"older"`    // further ones of these names
	Needs    int            `json:"needs"`    // that were looked at
	Findings []fact.Finding `json:"findings"`
	// Assumed are needs that no package has to do with, and that are taken to
	// be met by a system that is not known here; sorted.
	Assumed []string `json:"assumed"`
}

// AuditFindings returns the findings of audits, with the package, channel and target
// in their messages.
func AuditFindings(audits []Audit) []fact.Finding {
	var out []fact.Finding
	for _, a := range audits {
		for _, f := range a.Findings {
			f.Message = fmt.Sprintf("%s (channel %s for %s): %s", f.Subject, a.Channel, a.Target, f.Message)
			out = append(out, f)
		}
	}
	return out
}

// PathReader reads the paths of the packages of a snapshot.
type PathReader interface {
	// EachPath calls a function for every path. Calls are concurrent for different
	// listings, which are numbered from 0; the strings are valid during the call only.
	EachPath(ctx context.Context, s index.Snapshot, each func(listing int, p index.PathRecord)) error
}

// AuditChannel checks all packages of one target of a channel, which are sorted by
// name, newest first: whether everything can be installed, which packages own the
// same paths, which need each other and which nobody needs. System is as in Change.
func AuditChannel(ctx context.Context, channel string, s index.Snapshot, records []index.Record, paths PathReader, system func(solve.Need) bool) (Audit, error) {
	a := &auditor{paths: paths, system: system, audit: Audit{Channel: channel, Target: s.Target, Findings: []fact.Finding{}, Assumed: []string{}}, assumed: map[string]bool{}}
	err := a.run(ctx, s, records)
	return a.audit, err
}

// auditor is the work on one target. Packages have numbers: their places in
// records.
type auditor struct {
	paths   PathReader
	audit   Audit
	system  func(solve.Need) bool
	assumed map[string]bool

	records    []index.Record
	candidates []*solve.Package
	number     map[*solve.Package]int32
	identities map[string]int32
	index      solve.Index
	met        map[string]meeting // by the text of a need
	needs      [][]meeting        // of each package
	dead       []bool             // what it needs cannot be there
}

// meeting is who meets a need.
type meeting struct {
	need   solve.Need
	system bool
	by     []int32
}

func (a *auditor) run(ctx context.Context, s index.Snapshot, all []index.Record) error {
	a.take(all)
	for i := range a.records {
		a.meet(int32(i))
	}
	a.dying()
	if err := a.install(ctx); err != nil {
		return err
	}
	a.circles()
	a.unneeded()
	if err := a.sharedPaths(ctx, s); err != nil {
		return err
	}
	slices.SortFunc(a.audit.Findings, func(x, y fact.Finding) int {
		return cmp.Or(cmp.Compare(x.Code, y.Code), cmp.Compare(x.Subject, y.Subject), cmp.Compare(x.What, y.What))
	})
	a.audit.Assumed = append(a.audit.Assumed, slices.Sorted(maps.Keys(a.assumed))...)
	return nil
}

// take keeps the newest package of each name: all are sorted by name, the
// newest first.
func (a *auditor) take(all []index.Record) {
	for i, r := range all {
		if i == 0 || all[i-1].Name != r.Name {
			a.records = append(a.records, r)
		}
	}
	a.audit.Packages, a.audit.Older = len(a.records), len(all)-len(a.records)
	a.number, a.identities, a.met = map[*solve.Package]int32{}, map[string]int32{}, map[string]meeting{}
	a.needs, a.dead = make([][]meeting, len(a.records)), make([]bool, len(a.records))
	for i, r := range a.records {
		c := r.Candidate()
		a.candidates = append(a.candidates, c)
		a.number[c] = int32(i)
		a.identities[r.Identity()] = int32(i)
	}
	a.index = solve.NewIndex(a.candidates)
}

func (a *auditor) report(code string, i int32, other, what, reason string) {
	r := a.records[i]
	a.audit.Findings = append(a.audit.Findings, Finding(code, a.audit.Target, r, other, what, reason))
}

// meet finds who meets each need of a package, and what nobody does.
func (a *auditor) meet(i int32) {
	for _, n := range a.candidates[i].Needs {
		a.audit.Needs++
		text := TextOf(n)
		m, known := a.met[text]
		if !known {
			m = meeting{need: n, system: a.system != nil && a.system(n)}
			for _, p := range a.index.Offering(n) {
				m.by = append(m.by, a.number[p])
			}
			a.met[text] = m
		}
		a.needs[i] = append(a.needs[i], m)
		if m.system || len(m.by) > 0 {
			continue
		}
		loose := a.index.Offering(n.Loose())
		names := slices.ContainsFunc(n.Alternatives, func(x need.Alternative) bool { return x.Kind == need.Package })
		switch {
		case len(loose) > 0:
			a.report(UnmetNeed, i, "", text, fmt.Sprintf("needs %s, but only %s is available", text, a.records[a.number[loose[0]]].Identity()))
		case a.system != nil || names:
			a.report(UnmetNeed, i, "", text, fmt.Sprintf("needs %s, which nothing in the channel or the system provides", text))
		default:
			a.assumed[text] = true
			a.needs[i][len(a.needs[i])-1].system = true
			continue
		}
		a.dead[i] = true
	}
}

// dying finds the packages that need what cannot be there, until no more are
// found.
func (a *auditor) dying() {
	for again := true; again; {
		again = false
		for i := range a.records {
			if a.dead[i] {
				continue
			}
			for _, m := range a.needs[i] {
				if m.system || slices.ContainsFunc(m.by, func(j int32) bool { return !a.dead[j] }) {
					continue
				}
				a.dead[i], again = true, true
				other := a.records[m.by[0]].Identity()
				a.report(NoRoot, int32(i), other, TextOf(m.need), fmt.Sprintf("needs %s, which only %s provides, and that cannot be installed", TextOf(m.need), other))
				break
			}
		}
	}
}

// install finds packages that cannot be in any root with all that they need,
// because of conflicts. Most show at a glance that they can: the first package
// that meets each need does, and none of these stands against another. For the
// others the solver is asked.
func (a *auditor) install(ctx context.Context) error {
	against := a.against()
	at := make([]int32, len(a.records)) // the last package whose roots each was in
	for i := range at {
		at[i] = -1
	}
	var reach []int32
	for i := range int32(len(a.records)) {
		if a.dead[i] {
			continue
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		reach = append(reach[:0], i)
		at[i] = i
		for k := 0; k < len(reach); k++ {
			for _, m := range a.needs[reach[k]] {
				if m.system || slices.ContainsFunc(m.by, func(j int32) bool { return at[j] == i }) {
					continue
				}
				first := m.by[slices.IndexFunc(m.by, func(j int32) bool { return !a.dead[j] })]
				at[first] = i
				reach = append(reach, first)
			}
		}
		clash := slices.ContainsFunc(reach, func(j int32) bool {
			return slices.ContainsFunc(against[j], func(k int32) bool { return at[k] == i })
		})
		if !clash {
			continue
		}
		own := need.Of(need.Alternative{Kind: need.Package, Name: a.records[i].Name})
		_, err := solve.Solve(solve.Request{Packages: a.candidates, Index: a.index, Install: []need.Need{own}, System: func(n solve.Need) bool {
			m := a.met[TextOf(n)]
			return m.system || a.assumed[TextOf(n)]
		}})
		var none *solve.NoAnswerError
		if errors.As(err, &none) {
			a.report(NoRoot, i, "", "", "cannot be installed: "+strings.Join(none.Reasons(), "; but "))
		}
	}
	return nil
}

// against lists, for each package, those that it cannot be in a root with.
func (a *auditor) against() [][]int32 {
	out := make([][]int32, len(a.records))
	for i, c := range a.candidates {
		for _, n := range slices.Concat(c.Conflicts, c.Replaces) {
			for _, p := range a.index.Offering(solve.Need{Need: n}) {
				if j := a.number[p]; int(j) != i {
					out[i] = append(out[i], j)
				}
			}
		}
	}
	return out
}

// circles finds packages that need each other, with no other to choose: the
// strongly connected components, by Tarjan's algorithm (1972), without
// recursion.
func (a *auditor) circles() {
	n := len(a.records)
	index, low := make([]int32, n), make([]int32, n)
	onStack := make([]bool, n)
	var stack []int32
	next := int32(1)
	type frame struct{ node, need int32 }
	for start := range int32(n) {
		if index[start] != 0 {
			continue
		}
		path := []frame{{start, 0}}
		for len(path) > 0 {
			f := &path[len(path)-1]
			v := f.node
			if f.need == 0 && index[v] == 0 {
				index[v], low[v] = next, next
				next++
				stack, onStack[v] = append(stack, v), true
			}
			if int(f.need) < len(a.needs[v]) {
				m := a.needs[v][f.need]
				f.need++
				if m.system || len(m.by) != 1 || m.by[0] == v {
					continue
				}
				if w := m.by[0]; index[w] == 0 {
					path = append(path, frame{w, 0})
				} else if onStack[w] {
					low[v] = min(low[v], index[w])
				}
				continue
			}
			path = path[:len(path)-1]
			if len(path) > 0 {
				up := path[len(path)-1].node
				low[up] = min(low[up], low[v])
			}
			if low[v] != index[v] {
				continue
			}
			var members []string
			for {
				w := stack[len(stack)-1]
				stack, onStack[w] = stack[:len(stack)-1], false
				members = append(members, a.records[w].Identity())
				if w == v {
					break
				}
			}
			if len(members) > 1 {
				slices.Sort(members)
				a.report(NeedCircle, a.identities[members[0]], members[1], strings.Join(members, ", "),
					fmt.Sprintf("%d packages need each other, so that none can be installed or taken away alone: %s", len(members), shortened(members)))
			}
		}
	}
}

// shortened lists a few names of many.
func shortened(names []string) string {
	const few = 6
	if len(names) <= few {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:few], ", "), len(names)-few)
}

// unneeded finds libraries of which nobody needs anything.
func (a *auditor) unneeded() {
	needed := make([]bool, len(a.records))
	for i, list := range a.needs {
		for _, m := range list {
			for _, j := range m.by {
				needed[j] = needed[j] || int(j) != i
			}
		}
	}
	for i, c := range a.candidates {
		library := slices.ContainsFunc(c.Provides, func(p solve.Provide) bool { return p.Kind == need.Soname })
		program := slices.ContainsFunc(c.Provides, func(p solve.Provide) bool { return p.Kind == need.Command })
		if library && !program && !needed[i] {
			a.report(Unneeded, int32(i), "", "", "is a library, and no package in the channel needs it")
		}
	}
}

// paths finds paths that two packages have. Paths are compared by hash, and
// only those whose hash there is twice are read for good.
func (a *auditor) sharedPaths(ctx context.Context, s index.Snapshot) error {
	var hashes []uint64
	parts := make([][]uint64, len(s.Files))
	if err := a.paths.EachPath(ctx, s, func(i int, p index.PathRecord) {
		if _, current := a.identities[p.Package]; current {
			parts[i] = append(parts[i], index.PathHash(p.Path))
		}
	}); err != nil {
		return err
	}
	hashes = slices.Concat(parts...)
	slices.Sort(hashes)
	twice := map[uint64]bool{}
	for i := 1; i < len(hashes); i++ {
		if hashes[i] == hashes[i-1] {
			twice[hashes[i]] = true
		}
	}
	if len(twice) == 0 {
		return nil
	}
	found := make([][]index.PathRecord, len(s.Files))
	if err := a.paths.EachPath(ctx, s, func(i int, p index.PathRecord) {
		if _, current := a.identities[p.Package]; current && twice[index.PathHash(p.Path)] {
			found[i] = append(found[i], index.PathRecord{Path: strings.Clone(p.Path), Package: strings.Clone(p.Package)})
		}
	}); err != nil {
		return err
	}
	a.shared(slices.Concat(found...))
	return nil
}

// shared reports, for each two packages, the paths that both have.
func (a *auditor) shared(paths []index.PathRecord) {
	slices.SortFunc(paths, func(x, y index.PathRecord) int {
		return cmp.Or(cmp.Compare(x.Path, y.Path), cmp.Compare(x.Package, y.Package))
	})
	both := map[[2]int32][]string{}
	for i := 0; i < len(paths); {
		end := i + 1
		for end < len(paths) && paths[end].Path == paths[i].Path {
			end++
		}
		for x := i; x < end; x++ {
			for y := x + 1; y < end; y++ {
				p, q := a.identities[paths[x].Package], a.identities[paths[y].Package]
				if p != q && !a.records[p].MayShare(a.records[q]) {
					both[[2]int32{p, q}] = append(both[[2]int32{p, q}], paths[x].Path)
				}
			}
		}
		i = end
	}
	for pair, shared := range both {
		other := a.records[pair[1]].Identity()
		reason := fmt.Sprintf("contains %s, which %s also contains", shared[0], other)
		if len(shared) > 1 {
			reason = fmt.Sprintf("has %s and %d more paths, and so has %s", shared[0], len(shared)-1, other)
		}
		a.report(SharedPath, pair[0], other, shared[0], reason)
	}
}
