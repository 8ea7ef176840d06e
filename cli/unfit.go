package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
	"ellwand.example/core/pack"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/workspace"
)

// unfitError is what lint found in packages that were to be published. Nothing
// was.
type unfitError struct {
	channel  string
	findings []fact.Finding
	names    map[string]string // of packages, by their identities
}

func (e *unfitError) Error() string {
	s := fmt.Sprintf("not fit for channel %s:", e.channel)
	for _, f := range e.findings {
		s += fmt.Sprintf("\n  %s  %s: %s", f.Code, f.Subject, f.Message)
	}
	return s
}

// fit has lint look at packages that are to be published: findings as bad as
// the settings say keep them back, unless they are let pass. Files that are no
// packages are left to the publish, which tells of them. Of the exceptions,
// those for the gate stay among the terms.
func (a *program) fit(ctx context.Context, w *workspace.Workspace, r *repo.Repository, channel string, files []string, terms *repo.Terms) error {
	l := a.linter(ctx, w)
	threshold, refuses := l.Profile.Refuses()
	var allowed []repo.Exception
	terms.Allow = slices.DeleteFunc(terms.Allow, func(x repo.Exception) bool {
		ours := !strings.HasPrefix(x.Code, "P")
		if ours {
			allowed = append(allowed, x)
		}
		return ours
	})
	if !refuses && len(allowed) == 0 {
		return nil
	}
	var sound []string
	var facts []pack.Facts
	names := map[string]string{}
	for _, file := range files {
		p, err := pack.Open(file)
		if err != nil {
			continue
		}
		sound, facts = append(sound, file), append(facts, p.Facts)
		names[p.Facts.Identity()] = p.Facts.Name
		p.Close()
	}
	r.Prepare(ctx, channel, facts)
	task := a.progress.Begin("lint", int64(len(sound)), "packages")
	each, failed := a.lintPackages(ctx, l, sound, facts, task)
	task.End("done")
	groups := lint.Groups(facts)
	for i, err := range failed {
		var damaged *pack.DamagedError
		switch {
		case err == nil:
		case !errors.As(err, &damaged):
			return err
		case len(groups[i]) > 1:
			// The publish tells of the damaged one; the others may be sound.
			for _, at := range groups[i] {
				alone, _ := a.lintPackages(ctx, l, sound[at:at+1], facts[at:at+1], progress.None.Begin("", 0, ""))
				each[i] = append(each[i], alone[0]...)
			}
		}
	}
	unfit := &unfitError{channel: channel, names: names}
	used := map[repo.Exception]bool{}
	for i, group := range groups {
		for _, f := range each[i] {
			at := slices.IndexFunc(allowed, func(x repo.Exception) bool { return x.Code == f.Code && x.Package == names[f.Subject] })
			switch {
			case f.Waived != "" || !f.Reaches(threshold) && at < 0:
			case at >= 0:
				used[allowed[at]] = true
			case !isPublished(ctx, r, channel, facts, group, f.Subject):
				unfit.findings = append(unfit.findings, f)
			}
		}
	}
	if len(unfit.findings) > 0 {
		return unfit
	}
	for _, x := range allowed {
		if !used[x] {
			return &repo.UnusedError{Exceptions: []repo.Exception{x}}
		}
	}
	terms.Passed = allowed
	return nil
}

// isPublished tells whether a package is in the channel already, so that
// publishing it changes nothing.
func isPublished(ctx context.Context, r *repo.Repository, channel string, facts []pack.Facts, group []int, identity string) bool {
	return slices.ContainsFunc(group, func(at int) bool {
		f := facts[at]
		if f.Identity() != identity {
			return false
		}
		records, err := r.Named(ctx, channel, f.Target, f.Name)
		return err == nil && slices.ContainsFunc(records, func(rec repo.Record) bool { return rec.Identity() == identity })
	})
}

// explainUnfit shows what keeps packages from being published, and what to do
// about it.
func (a *program) explainUnfit(e *unfitError) {
	w := a.err
	w.Printf("%s\n\n", w.Style(term.Bad, "refused: lint found what would hurt users; nothing was published"))
	subject := ""
	for i, f := range e.findings {
		if f.Subject != subject {
			subject = f.Subject
			w.Printf("%s\n", w.Style(term.Strong, subject))
		}
		place := ""
		if f.Path != "" {
			place = fact.Visible(f.Path) + ": "
		}
		w.Printf("  %s  %s\n", w.Style(term.Bad, f.Code), w.Wrapped(place+fact.Visible(f.Message), 8))
		if i == len(e.findings)-1 || e.findings[i+1].Code != f.Code {
			w.Printf("        %s\n", w.Style(term.Good, w.Wrapped("→ "+f.Remedy, 8)))
		}
	}
	f := e.findings[0]
	w.Printf("\nWhat is meant to be is waived in the recipe, with its reason. To let one pass this once, with a reason that the history keeps:\n  %s\n",
		w.Style(term.Faint, fmt.Sprintf("--allow %s:%s --reason \"…\"", f.Code, e.names[f.Subject])))
	w.Printf("`ellwand explain %s` tells more; `refuse` in [lint] of ellwand.toml says from which severity on packages are kept back.\n", f.Code)
}
