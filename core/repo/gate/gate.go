// Package gate checks what a channel of a repository would become, and what it is.
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

// Finding reports something about a package of a channel.
func Finding(code, target string, r index.Record, other, what, message string) fact.Finding {
	f := fact.Finding{Code: code, Severity: fact.SeverityError, Recipe: r.Recipe, Subject: r.Identity(), Target: target, What: what, Other: other, Message: message}
	if code == NeedCircle || code == Unneeded {
		f.Severity = fact.SeverityHint
	}
	return f
}

// Change is what a change does to one target of a channel.
type Change struct {
	Target        string
	Retire        bool                      // an older package may become the newest
	Added         []index.Record            // packages that are new to the channel
	Before, After map[string]*index.Listing // the listings that differ, by key
	// System reports whether the target's system provides a dependency. If it is
	// nil, dependencies that no package has ever provided are assumed to be met
	// by the system.
	System func(solve.Need) bool
}

// State answers what the packages of the channel have after a change.
type State interface {
	Offering(ctx context.Context, n solve.Need) ([]index.Record, error)
	Needing(ctx context.Context, kind, name string, bounded bool) ([]index.Record, error)
	Owners(ctx context.Context, path string) ([]index.Record, error)
}

// Result is what Check found in one target.
type Result struct {
	Findings []fact.Finding
	Assumed  []string                  // dependencies that the system is assumed to provide
	Met      map[string][]index.Record // dependency → packages that provide it, as far as it was looked up
	// OnSystem tells of dependencies that a package met, and only the system does now.
	OnSystem []string
	broken   map[string]index.Record
}

// Check reports what a change would break. It looks only at what the change can
// have made worse, so that its work does not grow with the channel; Audit looks at
// everything.
func Check(ctx context.Context, c Change, after State) (Result, error) {
	g := &gate{Change: c, lookup: after, met: map[string][]index.Record{}, assumed: map[string]bool{}, broken: map[string]index.Record{}}
	renewals := g.renewals()
	g.backwards(renewals)
	for _, check := range []func(context.Context, map[string]renewal) error{g.ownNeeds, g.lostProvides, g.paths, g.conflicts} {
		if err := check(ctx, renewals); err != nil {
			return Result{}, err
		}
	}
	slices.SortFunc(g.findings, func(a, b fact.Finding) int {
		return cmp.Or(cmp.Compare(a.Code, b.Code), cmp.Compare(a.Subject, b.Subject), cmp.Compare(a.What, b.What), cmp.Compare(a.Other, b.Other))
	})
	slices.Sort(g.onSystem)
	return Result{slices.Compact(g.findings), slices.Sorted(maps.Keys(g.assumed)), g.met, slices.Compact(g.onSystem), g.broken}, nil
}

// gate is the check of one change.
type gate struct {
	Change
	lookup   State
	met      map[string][]index.Record // need → who meets it afterwards
	findings []fact.Finding
	assumed  map[string]bool
	onSystem []string
	broken   map[string]index.Record // by name: those that lose what they need
}

// renewal is a name whose newest package is another one afterwards.
type renewal struct{ before, after *index.Record }

// renewals are the names whose newest package comes, goes or changes.
func (g *gate) renewals() map[string]renewal {
	out := map[string]renewal{}
	for key, after := range g.After {
		was, is := index.Newest(g.Before[key].Records), index.Newest(after.Records)
		for _, name := range slices.Concat(slices.Collect(maps.Keys(was)), slices.Collect(maps.Keys(is))) {
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

func (g *gate) report(code string, r index.Record, other, what, reason string) {
	g.findings = append(g.findings, Finding(code, g.Target, r, other, what, reason))
}

// backwards finds packages that are older than what the channel has, or had.
func (g *gate) backwards(renewals map[string]renewal) {
	if g.Retire {
		return // an older one may come to the fore
	}
	for _, r := range renewals {
		if r.before != nil && r.after != nil && r.after.Full().Compare(r.before.Full()) < 0 {
			g.report(OlderVersion, *r.after, r.before.Identity(), r.before.Full().String(), fmt.Sprintf("the channel has %s, which is newer", r.before.Full()))
		}
	}
	for _, a := range g.Added {
		for _, now := range index.Newest(g.Before[index.ListingOf(a.Name)].Records) {
			if now.Name == a.Name && a.Full().Compare(now.Full()) < 0 {
				g.report(OlderVersion, a, now.Identity(), now.Full().String(), fmt.Sprintf("the channel has %s, which is newer", now.Full()))
			}
		}
	}
}

// meets reports whether anything meets a need afterwards. Where the system is not
// known, needs that no package has to do with are taken to be met by it.
func (g *gate) meets(ctx context.Context, n solve.Need) (bool, error) {
	if g.System != nil && g.System(n) {
		return true, nil
	}
	by, err := g.offering(ctx, n)
	return len(by) > 0, err
}

func (g *gate) offering(ctx context.Context, n solve.Need) ([]index.Record, error) {
	text := TextOf(n)
	by, known := g.met[text]
	if !known {
		var err error
		if by, err = g.lookup.Offering(ctx, n); err != nil {
			return nil, err
		}
		g.met[text] = by
	}
	return by, nil
}

// TextOf returns a dependency as text, with its symbol versions.
func TextOf(n solve.Need) string {
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
		for _, n := range r.after.Dependencies() {
			ok, err := g.meets(ctx, n)
			if err != nil {
				return err
			}
			if ok {
				continue
			}
			if g.System == nil {
				loose, err := g.knows(ctx, n)
				if err != nil {
					return err
				}
				if !loose {
					g.assumed[TextOf(n)] = true
					continue
				}
			}
			reason, err := g.unmet(ctx, n)
			if err != nil {
				return err
			}
			g.report(UnmetNeed, *r.after, "", TextOf(n), reason)
		}
	}
	return nil
}

// knows reports whether any package has what a need names, in whatever version,
// or had before the change.
func (g *gate) knows(ctx context.Context, n solve.Need) (bool, error) {
	loose := n.Loose()
	if slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind == need.Package }) {
		return true, nil // a system has no packages
	}
	for _, c := range g.Before {
		for _, r := range c.Records {
			if r.Meets(loose) {
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
	s := fmt.Sprintf("needs %s, which nothing in the channel or the system provides", TextOf(n))
	if len(by) > 0 {
		s = fmt.Sprintf("needs %s, but only %s is available", TextOf(n), by[0].Identity())
	}
	return s, nil
}

// lostProvides finds packages that are already there and lose what they need.
func (g *gate) lostProvides(ctx context.Context, renewals map[string]renewal) error {
	for _, r := range renewals {
		if r.before == nil {
			continue
		}
		for _, p := range r.before.Offers() {
			kept, same := r.after.Keeps(p)
			if same {
				continue
			}
			// Where only the version is another, only needs with bounds can fail.
			needing, err := g.lookup.Needing(ctx, p.Kind, p.Name, kept && len(p.Symbols) == 0)
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

// stillMet checks a package that is there, some of whose needs another met
// that now is gone or renewed.
func (g *gate) stillMet(ctx context.Context, r, by index.Record, now *index.Record) error {
	for _, n := range r.Dependencies() {
		if !by.Meets(n) {
			continue
		}
		ok, err := g.meets(ctx, n)
		if err != nil {
			return err
		}
		if ok {
			others, err := g.offering(ctx, n)
			if err != nil {
				return err
			}
			if len(others) == 0 {
				g.onSystem = append(g.onSystem, fmt.Sprintf("%s needs %s, which %s provided, and now only the system does", r.Identity(), TextOf(n), by.Identity()))
			}
			continue
		}
		reason := fmt.Sprintf("needs %s, which only %s provides, and it is removed", TextOf(n), by.Identity())
		if now != nil {
			reason = fmt.Sprintf("needs %s, which %s provides and %s does not", TextOf(n), by.Identity(), now.Identity())
		}
		g.report(UnmetNeed, r, by.Identity(), TextOf(n), reason)
		g.broken[r.Name] = r
	}
	return nil
}

// paths finds paths of the packages that come which others have too.
func (g *gate) paths(ctx context.Context, renewals map[string]renewal) error {
	for key, c := range g.After {
		had := map[string]bool{} // path and name before
		for _, p := range g.Before[key].Paths {
			if _, renewed := renewals[index.NameOf(p.Package)]; renewed {
				had[index.NameOf(p.Package)+" "+p.Path] = true
			}
		}
		for _, p := range c.Paths {
			r, renewed := renewals[index.NameOf(p.Package)]
			if !renewed || r.after == nil || r.after.Identity() != p.Package || had[index.NameOf(p.Package)+" "+p.Path] {
				continue
			}
			owners, err := g.lookup.Owners(ctx, p.Path)
			if err != nil {
				return err
			}
			for _, o := range owners {
				if o.Name != r.after.Name && !r.after.MayShare(o) {
					g.report(SharedPath, *r.after, o.Identity(), p.Path, fmt.Sprintf("contains %s, which %s also contains", p.Path, o.Identity()))
				}
			}
		}
	}
	return nil
}

// maxReach bounds how many packages are looked at to report whether one that
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
		reach := map[string]index.Record{r.after.Name: *r.after}
		for queue := []index.Record{*r.after}; len(queue) > 0 && len(reach) < maxReach; queue = queue[1:] {
			for _, n := range queue[0].Dependencies() {
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
		own := need.Of(need.Alternative{Kind: need.Package, Name: r.after.Name})
		_, err := solve.Solve(solve.Request{Packages: all, Install: []need.Need{own}, System: func(n solve.Need) bool {
			// What no package meets is reported elsewhere.
			return g.System != nil && g.System(n) || len(g.met[TextOf(n)]) == 0
		}})
		var none *solve.NoAnswerError
		if errors.As(err, &none) {
			g.report(NoRoot, *r.after, "", "", "cannot be installed: "+strings.Join(none.Reasons(), "; but "))
		}
	}
	return nil
}

// Rebuild orders the recipes of packages that lose what they need: each after
// those whose packages its own need.
func (r Result) Rebuild(findings []fact.Finding) []string {
	var out []string
	state := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		rec, ok := r.broken[name]
		if !ok || state[name] {
			return
		}
		state[name] = true
		for _, n := range rec.Dependencies() {
			for _, other := range slices.Sorted(maps.Keys(r.broken)) {
				if r.broken[other].Meets(n) {
					visit(other)
				}
			}
		}
		if !slices.Contains(out, rec.Recipe) {
			out = append(out, rec.Recipe)
		}
	}
	for _, f := range findings {
		visit(f.SubjectName())
	}
	return out
}
