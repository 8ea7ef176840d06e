package repo

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
)

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
type UnusedError struct{ Exceptions []index.Exception }

func (e *UnusedError) Error() string {
	var names []string
	for _, x := range e.Exceptions {
		names = append(names, x.Code+":"+x.Package)
	}
	return fmt.Sprintf("nothing was found that %s would allow: leave it out", strings.Join(names, ", "))
}

// verdict is what the gate says of one target.
type verdict struct {
	allowed []index.Exception
	assumed int
	met     map[string][]index.Record // need → packages that meet it, as far as it was looked up
}

// review has the gate check all edits of a transaction. What is found and
// not allowed is a *RefusedError.
func (tx *transaction) review(ctx context.Context, edits []*edit, o ChangeOptions, sink progress.Sink) ([]verdict, error) {
	verdicts := make([]verdict, len(edits))
	refused := &RefusedError{Channel: tx.channel}
	used := make([]bool, len(o.Allow))
	for i, e := range edits {
		if tx.action == ActionRewind {
			continue // it was checked when the channel was at it
		}
		var system func(solve.Need) bool
		if o.System != nil {
			system = o.System(e.target)
		}
		t := sink.Begin("check what the channel would become", 0, "")
		g, err := e.check(ctx, system)
		t.End("done")
		if err != nil {
			return nil, err
		}
		for _, note := range g.OnSystem {
			sink.Note(note)
		}
		verdicts[i].assumed, verdicts[i].met = len(g.Assumed), g.Met
		for _, x := range o.Passed {
			if slices.ContainsFunc(e.added, func(r index.Record) bool { return r.Name == x.Package }) {
				verdicts[i].allowed = append(verdicts[i].allowed, x)
			}
		}
		for _, f := range g.Findings {
			if f.Code == gate.UnmetNeed {
				f.Message += elsewhere(edits, e, f.What)
			}
			at := slices.IndexFunc(o.Allow, func(x index.Exception) bool { return x.Code == f.Code && x.Package == f.SubjectName() })
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
			refused.Rebuild = append(refused.Rebuild, g.Rebuild(refused.Findings)...)
		}
	}
	var unused []index.Exception
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

// check has the gate check one edit.
func (e *edit) check(ctx context.Context, system func(solve.Need) bool) (gate.Result, error) {
	l, err := index.NewLookup(ctx, e.tx.repo, e.tx.repo.tableCache(), e.tx.channel, e.state(), e.tables(), e.after)
	if err != nil {
		return gate.Result{}, err
	}
	return gate.Check(ctx, gate.Change{Target: e.target, Retire: e.tx.action == ActionRetire, Added: e.added, Before: e.before, After: e.after, System: system}, l)
}

// state is the snapshot that all listings but the edited ones are read from.
func (e *edit) state() index.Snapshot {
	if e.adopted != nil {
		return *e.adopted
	}
	return e.old
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
