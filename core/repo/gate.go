package repo

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
	"ellwand.example/core/progress"
)

// Codes of findings in channels and in the files of a repository.
const (
	UnmetNeed    = "ELL601" // a need that nothing meets
	SharedPath   = "ELL602" // a path in two packages that do not say so
	OlderVersion = "ELL603" // a version older than what is there
	NoRoot       = "ELL604" // a package that cannot be installed
	NeedCircle   = "ELL605" // packages that need each other
	Unneeded     = "ELL606" // a library that nobody needs

	MissingPackage = "ELL607" // a package file that the index names does not exist
	DamagedPackage = "ELL608" // a package file differs from its digest in the index
	DamagedIndex   = "ELL609" // a file of the index is damaged or missing
	UnusedFile     = "ELL610" // a file that no retained snapshot refers to
)

// finding reports something about a package of a channel.
func finding(code, target string, r Record, other, what, message string) fact.Finding {
	f := fact.Finding{Code: code, Severity: fact.SeverityError, Recipe: r.Recipe, Subject: r.Identity(), Target: target, What: what, Other: other, Message: message}
	if code == NeedCircle || code == Unneeded {
		f.Severity = fact.SeverityHint
	}
	return f
}

func nameOf(identity string) string {
	name, _, _ := strings.Cut(identity, "@")
	return name
}

// RefusedError is what the gate found. Nothing was changed.
type RefusedError struct {
	Channel  string
	Findings []fact.Finding
	Rebuild  []string // recipes to build again, in an order that works
}

func (e *RefusedError) Error() string {
	s := fmt.Sprintf("channel %s would become inconsistent:", e.Channel)
	for _, f := range e.Findings {
		s += fmt.Sprintf("\n  %s  %s: %s", f.Code, f.Subject, f.Message)
	}
	return s
}

// Status is that of findings.
func (e *RefusedError) Status() fact.Status { return fact.StatusFindings }

// UnusedError is exceptions that match nothing that the gate found.
type UnusedError struct{ Exceptions []Exception }

func (e *UnusedError) Error() string {
	var names []string
	for _, x := range e.Exceptions {
		names = append(names, x.Code+":"+x.Package)
	}
	return fmt.Sprintf("nothing was found that %s would allow: leave it out", strings.Join(names, ", "))
}

// verdict is what the gate says of one target.
type verdict struct {
	allowed []Exception
	assumed int
	met     map[string][]Record // need → packages that meet it, as far as it was looked up
}

// review has the gate check all edits of a transaction. What is found and
// not allowed is a *RefusedError.
func (tx *transaction) review(ctx context.Context, edits []*edit, o ChangeOptions, sink progress.Sink) ([]verdict, error) {
	verdicts := make([]verdict, len(edits))
	refused := &RefusedError{Channel: tx.channel}
	used := make([]bool, len(o.Allow))
	for i, e := range edits {
		if tx.action == ActionRewind {
			continue // what a channel was once judged to be
		}
		var system func(solve.Need) bool
		if o.System != nil {
			system = o.System(e.target)
		}
		t := sink.Begin("judge what the channel would become", 0, "")
		g, err := e.gate(ctx, system)
		t.End("done")
		if err != nil {
			return nil, err
		}
		verdicts[i].assumed, verdicts[i].met = len(g.assumed), g.met
		for _, x := range o.Passed {
			if slices.ContainsFunc(e.added, func(r Record) bool { return r.Name == x.Package }) {
				verdicts[i].allowed = append(verdicts[i].allowed, x)
			}
		}
		for _, f := range g.findings {
			if f.Code == UnmetNeed {
				f.Message += elsewhere(edits, e, f.What)
			}
			at := slices.IndexFunc(o.Allow, func(x Exception) bool { return x.Code == f.Code && x.Package == f.SubjectName() })
			if at < 0 {
				refused.Findings = append(refused.Findings, f)
				continue
			}
			used[at] = true
			if !slices.Contains(verdicts[i].allowed, o.Allow[at]) {
				verdicts[i].allowed = append(verdicts[i].allowed, o.Allow[at])
			}
		}
		if len(refused.Findings) > 0 {
			refused.Rebuild = append(refused.Rebuild, g.rebuild(refused.Findings)...)
		}
	}
	var unused []Exception
	for i, x := range o.Allow {
		if !used[i] {
			unused = append(unused, x)
		}
	}
	switch {
	case len(refused.Findings) > 0:
		return nil, refused
	case len(unused) > 0:
		return nil, &UnusedError{unused}
	}
	return verdicts, nil
}

// elsewhere names a package that meets a dependency and is published at the same
// time for another target, where it does not count.
func elsewhere(edits []*edit, here *edit, text string) string {
	n, err := need.Parse(text)
	if err != nil {
		return "" // with symbol versions
	}
	for _, e := range edits {
		if e == here {
			continue
		}
		for _, r := range e.added {
			if slices.ContainsFunc(r.AllProvides(), n.MetBy) {
				return fmt.Sprintf("; %s has it, but is for target %s, and this is for %s", r.Identity(), e.target, here.target)
			}
		}
	}
	return ""
}

// gate judges what one target of a channel would become. It looks only at what
// the change can have made worse, so that its work does not grow with the
// channel; Audit looks at everything.
type gate struct {
	*edit
	lookup   *lookup
	system   func(solve.Need) bool
	met      map[string][]Record // need → who meets it afterwards
	findings []fact.Finding
	assumed  map[string]bool
	broken   map[string]Record // by name: those that lose what they need
}

// renewal is a name whose newest package is another one afterwards.
type renewal struct{ before, after *Record }

func (e *edit) gate(ctx context.Context, system func(solve.Need) bool) (*gate, error) {
	l, err := e.tx.repo.lookup(ctx, e.tx.channel, e.state(), e.tables(), e.after)
	if err != nil {
		return nil, err
	}
	g := &gate{edit: e, lookup: l, system: system, met: map[string][]Record{}, assumed: map[string]bool{}, broken: map[string]Record{}}
	renewals := e.renewals()
	g.backwards(renewals)
	for _, check := range []func(context.Context, map[string]renewal) error{g.ownNeeds, g.lostProvides, g.paths, g.conflicts} {
		if err := check(ctx, renewals); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(g.findings, func(a, b fact.Finding) int {
		return cmp.Or(cmp.Compare(a.Code, b.Code), cmp.Compare(a.Subject, b.Subject), cmp.Compare(a.What, b.What), cmp.Compare(a.Other, b.Other))
	})
	g.findings = slices.Compact(g.findings)
	return g, nil
}

// state is the snapshot that all listings but the edited ones are read from.
func (e *edit) state() Snapshot {
	if e.adopted != nil {
		return *e.adopted
	}
	return e.old
}

// renewals are the names whose newest package comes, goes or changes.
func (e *edit) renewals() map[string]renewal {
	out := map[string]renewal{}
	for key, after := range e.after {
		was, is := newest(e.before[key].records), newest(after.records)
		for name := range union(was, is) {
			var r renewal
			if rec, ok := was[name]; ok {
				r.before = &rec
			}
			if rec, ok := is[name]; ok {
				r.after = &rec
			}
			if r.before == nil || r.after == nil || r.before.SHA256 != r.after.SHA256 {
				out[name] = r
			}
		}
	}
	return out
}

func (g *gate) report(code string, r Record, other, what, reason string) {
	g.findings = append(g.findings, finding(code, g.target, r, other, what, reason))
}

// backwards finds packages that are older than what the channel has, or had.
func (g *gate) backwards(renewals map[string]renewal) {
	if g.tx.action == ActionRetire {
		return // an older one may come to the fore
	}
	for _, r := range renewals {
		if r.before != nil && r.after != nil && r.after.Full().Compare(r.before.Full()) < 0 {
			g.report(OlderVersion, *r.after, r.before.Identity(), r.before.Full().String(), fmt.Sprintf("the channel has %s, which is newer", r.before.Full()))
		}
	}
	for _, a := range g.added {
		for _, now := range newest(g.before[listingOf(a.Name)].records) {
			if now.Name == a.Name && a.Full().Compare(now.Full()) < 0 {
				g.report(OlderVersion, a, now.Identity(), now.Full().String(), fmt.Sprintf("the channel has %s, which is newer", now.Full()))
			}
		}
	}
}

func needOf(n need.Need, symbols []string) solve.Need { return solve.Need{Need: n, Symbols: symbols} }

// meets tells whether anything meets a need afterwards. Where the system is not
// known, needs that no package has to do with are taken to be met by it.
func (g *gate) meets(ctx context.Context, n solve.Need) (bool, error) {
	if g.system != nil && g.system(n) {
		return true, nil
	}
	by, err := g.offering(ctx, n)
	return len(by) > 0, err
}

func (g *gate) offering(ctx context.Context, n solve.Need) ([]Record, error) {
	text := textOf(n)
	by, known := g.met[text]
	if !known {
		var err error
		if by, err = g.lookup.offering(ctx, n); err != nil {
			return nil, err
		}
		g.met[text] = by
	}
	return by, nil
}

func textOf(n solve.Need) string {
	if len(n.Symbols) == 0 {
		return n.String()
	}
	return n.String() + " with " + strings.Join(n.Symbols, ", ")
}

// ownNeeds finds what the packages that come need and nothing meets.
func (g *gate) ownNeeds(ctx context.Context, renewals map[string]renewal) error {
	for _, r := range renewals {
		if r.after == nil {
			continue
		}
		for _, n := range r.after.needs() {
			ok, err := g.meets(ctx, n)
			if err != nil {
				return err
			}
			if ok {
				continue
			}
			if g.system == nil {
				loose, err := g.knows(ctx, n)
				if err != nil {
					return err
				}
				if !loose {
					g.assumed[textOf(n)] = true
					continue
				}
			}
			reason, err := g.unmet(ctx, n)
			if err != nil {
				return err
			}
			g.report(UnmetNeed, *r.after, "", textOf(n), reason)
		}
	}
	return nil
}

// knows tells whether any package has what a need names, in whatever version,
// or had before the change.
func (g *gate) knows(ctx context.Context, n solve.Need) (bool, error) {
	loose := n.Loose()
	if slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind == need.Package }) {
		return true, nil // a system has no packages
	}
	for _, c := range g.before {
		for _, r := range c.records {
			if r.offers(loose) {
				return true, nil
			}
		}
	}
	by, err := g.offering(ctx, loose)
	return len(by) > 0, err
}

// unmet says what there is instead of what is needed.
func (g *gate) unmet(ctx context.Context, n solve.Need) (string, error) {
	by, err := g.offering(ctx, n.Loose())
	if err != nil {
		return "", err
	}
	s := fmt.Sprintf("needs %s, which nothing in the channel or the system has", textOf(n))
	if len(by) > 0 {
		s = fmt.Sprintf("needs %s, and there is only %s", textOf(n), by[0].Identity())
	}
	return s, nil
}

// lostProvides finds packages that are already there and lose what they need.
func (g *gate) lostProvides(ctx context.Context, renewals map[string]renewal) error {
	for _, r := range renewals {
		if r.before == nil {
			continue
		}
		for _, p := range r.before.offered() {
			kept, same := r.after.keeps(p)
			if same {
				continue
			}
			// Where only the version is another, only needs with bounds can fail.
			needing, err := g.lookup.needing(ctx, p.Kind, p.Name, kept && len(p.Symbols) == 0)
			if err != nil {
				return err
			}
			for _, n := range needing {
				if _, renewed := renewals[n.Name]; renewed {
					continue
				}
				if err := g.stillMet(ctx, n, *r.before, r.after); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// stillMet judges a package that is there, some of whose needs another met
// that now is gone or renewed.
func (g *gate) stillMet(ctx context.Context, r, by Record, now *Record) error {
	for _, n := range r.needs() {
		if !by.offers(n) {
			continue
		}
		ok, err := g.meets(ctx, n)
		if err != nil {
			return err
		}
		if ok {
			continue
		}
		reason := fmt.Sprintf("needs %s, which only %s has, and that goes", textOf(n), by.Identity())
		if now != nil {
			reason = fmt.Sprintf("needs %s, which %s has and %s has not", textOf(n), by.Identity(), now.Identity())
		}
		g.report(UnmetNeed, r, by.Identity(), textOf(n), reason)
		g.broken[r.Name] = r
	}
	return nil
}

// paths finds paths of the packages that come which others have too.
func (g *gate) paths(ctx context.Context, renewals map[string]renewal) error {
	for key, c := range g.after {
		had := map[string]bool{} // path and name before
		for _, p := range g.before[key].paths {
			if _, renewed := renewals[nameOf(p.Package)]; renewed {
				had[nameOf(p.Package)+" "+p.Path] = true
			}
		}
		for _, p := range c.paths {
			r, renewed := renewals[nameOf(p.Package)]
			if !renewed || r.after == nil || r.after.Identity() != p.Package || had[nameOf(p.Package)+" "+p.Path] {
				continue
			}
			owners, err := g.lookup.owners(ctx, p.Path)
			if err != nil {
				return err
			}
			for _, o := range owners {
				if o.Name != r.after.Name && !r.after.apart(o) {
					g.report(SharedPath, *r.after, o.Identity(), p.Path, fmt.Sprintf("has %s, and so has %s", p.Path, o.Identity()))
				}
			}
		}
	}
	return nil
}

// maxReach bounds how many packages are looked at to tell whether one that
// conflicts with others can be installed.
const maxReach = 5000

// conflicts finds packages that come, say that they cannot be beside others,
// and cannot be installed for that. Those whose needs are not met are found
// already.
func (g *gate) conflicts(ctx context.Context, renewals map[string]renewal) error {
	for _, r := range renewals {
		if r.after == nil || len(r.after.Conflicts)+len(r.after.Replaces) == 0 {
			continue
		}
		unmet := func(f fact.Finding) bool { return f.Code == UnmetNeed && f.Subject == r.after.Identity() }
		if slices.ContainsFunc(g.findings, unmet) {
			continue
		}
		reach := map[string]Record{r.after.Name: *r.after}
		for queue := []Record{*r.after}; len(queue) > 0 && len(reach) < maxReach; queue = queue[1:] {
			for _, n := range queue[0].needs() {
				by, err := g.offering(ctx, n)
				if err != nil {
					return err
				}
				for _, o := range by {
					if _, known := reach[o.Name]; !known {
						reach[o.Name] = o
						queue = append(queue, o)
					}
				}
			}
		}
		var all []*solve.Package
		for _, name := range slices.Sorted(maps.Keys(reach)) {
			all = append(all, reach[name].Candidate())
		}
		own := need.Need{Alternatives: []need.Alternative{{Kind: need.Package, Name: r.after.Name}}}
		_, err := solve.Solve(solve.Request{Packages: all, Install: []need.Need{own}, System: func(n solve.Need) bool {
			// What no package meets is judged elsewhere.
			return g.system != nil && g.system(n) || len(g.met[textOf(n)]) == 0
		}})
		var none *solve.NoAnswerError
		if errors.As(err, &none) {
			g.report(NoRoot, *r.after, "", "", "cannot be installed: "+strings.Join(none.Reasons(), "; but "))
		}
	}
	return nil
}

// rebuild orders the recipes of packages that lose what they need: each after
// those whose packages its own need.
func (g *gate) rebuild(findings []fact.Finding) []string {
	var out []string
	state := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		r, ok := g.broken[name]
		if !ok || state[name] {
			return
		}
		state[name] = true
		for _, n := range r.needs() {
			for _, other := range slices.Sorted(maps.Keys(g.broken)) {
				if g.broken[other].offers(n) {
					visit(other)
				}
			}
		}
		if !slices.Contains(out, r.Recipe) {
			out = append(out, r.Recipe)
		}
	}
	for _, f := range findings {
		visit(f.SubjectName())
	}
	return out
}
