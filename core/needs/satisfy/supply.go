package satisfy

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// published is what one repository of the workspace holds for its target.
type published struct {
	name       string
	repository *repo.Repository
	disabled   bool
	priority   int
	records    []index.Record
}

// PublishedIn names a repository that has a package of this very version and release of a
// recipe: publishing other contents under it would be refused. Repositories on servers are
// not asked.
func (b *Resolver) PublishedIn(ctx context.Context, r *recipe.Recipe) string {
	for _, name := range b.Workspace.RepositoryNames() {
		place, channel := b.Workspace.Repository(name)
		if strings.Contains(place, "://") {
			continue
		}
		opened, err := repo.OpenCached(place)
		if err != nil {
			continue // publishing will tell
		}
		state, err := opened.At(ctx, channel)
		if err != nil {
			continue
		}
		if slices.ContainsFunc(state.Records[b.Workspace.Target.Name], func(p index.Record) bool { return p.Recipe == r.Name && p.Full().String() == r.Full() }) {
			return name
		}
	}
	return ""
}

// published reads the workspace's repositories. One that holds nothing yet, or
// cannot be read, has nothing.
func (b *Resolver) published(ctx context.Context) ([]published, error) {
	var out []published
	for _, name := range b.Workspace.RepositoryNames() {
		settings := b.Workspace.Settings.Repositories[name]
		place, channel := b.Workspace.Repository(name)
		r, err := repo.OpenCached(place)
		var state repo.State
		if err == nil {
			state, err = r.At(ctx, channel)
		}
		var none *storage.NotRepositoryError
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			if !errors.As(err, &none) {
				b.Progress.Note(fmt.Sprintf("repository %s is skipped: %v", name, err))
			}
			continue
		}
		records := slices.DeleteFunc(state.Records[b.Workspace.Target.Name], func(r index.Record) bool {
			return r.Arch != fact.Independent && r.Arch != b.Workspace.Target.Arch
		})
		out = append(out, published{name, r, !settings.IsEnabled(), settings.Priority, records})
	}
	slices.SortStableFunc(out, func(a, b published) int { return cmp.Compare(b.priority, a.priority) })
	return out, nil
}

// holders are the newest package of a repository that meets a need, or else
// the newest of that name.
func (p published) holders(n need.Need) []Holder {
	kind := HeldEnabled
	if p.disabled {
		kind = HeldDisabled
	}
	loose := solve.Need{Need: n}.Loose().Need
	for _, try := range []need.Need{n, loose} {
		var best *index.Record
		for i := range p.records {
			r := &p.records[i]
			if slices.ContainsFunc(r.AllProvides(), try.MetBy) && (best == nil || best.Full().Compare(r.Full()) < 0) {
				best = r
			}
		}
		if best != nil {
			return []Holder{{Kind: kind, Name: p.name, Package: best.Identity(), Enough: try.String() == n.String()}}
		}
	}
	return nil
}

// Supply brings packages from the enabled repositories among the workspace's
// own, such that all of a recipe's needs are met that can be, and all that
// these packages need in turn: the solver chooses them, and prefers what the
// workspace has already. It returns their identities. Needs that no repository
// knows of stay as they are; where those that are known cannot be met
// together, the error is a *solve.NoAnswerError.
func (b *Resolver) Supply(ctx context.Context, r *recipe.Recipe) ([]string, error) {
	states, err := b.Needs(ctx, r)
	if err != nil {
		return nil, err
	}
	all, err := b.published(ctx)
	if err != nil {
		return nil, err
	}
	request := solve.Request{System: func(n solve.Need) bool {
		found, ok := b.Probe().Look(n.Need, n.Symbols)
		return ok && found.Enough
	}}
	for _, s := range states {
		known := slices.ContainsFunc(all, func(p published) bool {
			h := p.holders(s.Need)
			return !p.disabled && len(h) > 0 && h[0].Enough
		})
		if !s.Met && known {
			request.Install = append(request.Install, s.Need)
		}
	}
	if len(request.Install) == 0 {
		return nil, nil
	}
	own, err := b.Packages()
	if err != nil {
		return nil, err
	}
	for _, p := range Newest(own) {
		c := index.RecordOf(p.Facts).Candidate()
		c.Installed = true
		request.Packages = append(request.Packages, c)
	}
	from := map[*solve.Package]*published{}
	records := map[*solve.Package]index.Record{}
	for i, p := range all {
		for _, rec := range p.records {
			if p.disabled {
				continue
			}
			c := rec.Candidate()
			c.Origin, c.Priority = p.name, p.priority
			from[c], records[c] = &all[i], rec
			request.Packages = append(request.Packages, c)
		}
	}
	answer, err := solve.Solve(request)
	if err != nil {
		return nil, err
	}
	var copied []string
	for _, c := range answer.Packages {
		if c.Installed {
			continue
		}
		if _, err := from[c].repository.Copy(ctx, records[c], b.Workspace.Packages()); err != nil {
			return copied, fmt.Errorf("repository %s: %w", from[c].name, err)
		}
		copied = append(copied, records[c].Identity())
	}
	return copied, nil
}
