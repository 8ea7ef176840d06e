package app

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// PublishOptions are the conditions of a publish.
type PublishOptions struct {
	// Start allows starting a repository at a place that is not configured.
	Start bool
	// Allow lists findings of lint or of the gate that do not prevent the publish.
	// One that was not found is an error.
	Allow []index.Exception
}

// LintError reports that lint found problems in packages that were to be published.
// Nothing was published.
type LintError struct {
	Channel  string
	Findings []fact.Finding
}

func (e *LintError) Error() string {
	s := fmt.Sprintf("lint found problems that prevent publishing to channel %s:", e.Channel)
	for _, f := range e.Findings {
		s += fmt.Sprintf("\n  %s  %s: %s", f.Code, f.Subject, f.Message)
	}
	return s
}

// Status is that of findings.
func (e *LintError) Status() fact.Status { return fact.StatusFindings }

// Publish adds package files to a channel of a repository, after lint has checked
// them; the gate of the repository checks what the channel would become. Errors
// are *LintError, *RequirementError, *NoRepositoryError and those of repo.Repository.Publish; nothing
// was published then.
func (a *App) Publish(ctx context.Context, o Opened, files []string, options PublishOptions) (repo.Report, error) {
	if !options.Start {
		if err := a.checkStarted(ctx, o); err != nil {
			return repo.Report{}, err
		}
	}
	var allowed []index.Exception
	change := repo.ChangeOptions{System: a.Systems(ctx)}
	for _, x := range options.Allow {
		if fact.AreaOf(x.Code) == fact.AreaRepository {
			change.Allow = append(change.Allow, x)
		} else {
			allowed = append(allowed, x)
		}
	}
	if err := a.lintGate(ctx, o, files, allowed); err != nil {
		return repo.Report{}, err
	}
	if err := a.checkFiles(ctx, o, files); err != nil {
		return repo.Report{}, err
	}
	change.Passed = allowed
	if settings, ok := a.configured(o.Name); ok && len(settings.Documents) > 0 {
		change.Documents = a.documents(settings.Documents)
	}
	return o.Publish(ctx, o.Channel, files, change, a.Progress)
}

// lintGate checks packages that are to be published: findings as severe as the
// configuration says prevent it, unless they are waived or allowed. Files that
// are not packages are left to the publish, which reports them.
func (a *App) lintGate(ctx context.Context, o Opened, files []string, allowed []index.Exception) error {
	l := a.Linter(ctx)
	threshold, refuses := l.Profile.Refuses()
	if !refuses && len(allowed) == 0 {
		return nil
	}
	var sound []string
	var facts []ell.Facts
	for _, file := range files {
		p, err := ell.Open(file)
		if err != nil {
			continue
		}
		sound, facts = append(sound, file), append(facts, p.Facts)
		p.Close()
	}
	defer o.Prefetch(ctx, o.Channel, facts)()
	task := a.Progress.Begin("lint", int64(len(sound)), "packages")
	groups, err := a.lintSound(ctx, l, sound, facts, task)
	task.End("done")
	if err != nil {
		return err
	}
	refused := &LintError{Channel: o.Channel}
	used := map[index.Exception]bool{}
	for _, g := range groups {
		for _, f := range g.Findings {
			at := slices.IndexFunc(allowed, func(x index.Exception) bool { return x.Code == f.Code && x.Package == f.SubjectName() })
			switch {
			case f.Waived != "" || !f.Reaches(threshold) && at < 0:
			case at >= 0:
				used[allowed[at]] = true
			default:
				published, err := isPublished(ctx, o, facts, f.Subject)
				if err != nil {
					return err
				}
				if !published {
					refused.Findings = append(refused.Findings, f)
				}
			}
		}
	}
	if len(refused.Findings) > 0 {
		return refused
	}
	for _, x := range allowed {
		if !used[x] {
			return &repo.UnusedError{Exceptions: []index.Exception{x}}
		}
	}
	return nil
}

// lintSound lints packages. If one of a group is damaged, the others are linted
// one by one: the publish reports the damaged one, and they may be fine.
func (a *App) lintSound(ctx context.Context, l *lint.Linter, files []string, facts []ell.Facts, task progress.Task) ([]LintedGroup, error) {
	groups := a.lintPackages(ctx, l, files, facts, task)
	for i := range groups {
		g := &groups[i]
		var damaged *ell.DamagedError
		if g.Err == nil {
			continue
		}
		if !errors.As(g.Err, &damaged) {
			return nil, g.Err
		}
		if len(g.Packages) == 1 {
			continue
		}
		for _, at := range g.Packages {
			for _, alone := range a.lintPackages(ctx, l, files[at:at+1], facts[at:at+1], progress.None.Begin("", 0, "")) {
				g.Findings = append(g.Findings, alone.Findings...)
			}
		}
	}
	return groups, ctx.Err()
}

// isPublished reports whether the channel has a package already, so that publishing
// it changes nothing.
func isPublished(ctx context.Context, o Opened, facts []ell.Facts, identity string) (bool, error) {
	at := slices.IndexFunc(facts, func(f ell.Facts) bool { return f.Identity() == identity })
	if at < 0 {
		return false, nil
	}
	records, err := o.Named(ctx, o.Channel, facts[at].Target, facts[at].Name)
	var none *storage.NotRepositoryError
	if errors.As(err, &none) {
		return false, nil // this publish starts it
	}
	return slices.ContainsFunc(records, func(r index.Record) bool { return r.Identity() == identity }), err
}
