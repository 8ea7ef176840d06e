package app

import (
	"context"
	"errors"
	"slices"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
	"ellwand.example/core/root"
)

// quickly solves an installation with the newest packages alone, and only those that could
// matter: what is asked for, and what these need in turn. Most of an index is not read for
// that. ok is false if it takes more: if there is no answer with the newest packages, or
// one that changes something else that is installed. The answer is then looked for among
// all packages. Otherwise, it is the best one there is: nothing that is installed changes,
// and what comes in is the newest.
func (u *supply) quickly(ctx context.Context, c RootChange) (q root.Request, ok bool, err error) {
	if len(c.Install) == 0 || len(c.Upgrade) > 0 || c.UpgradeAll || len(c.Remove) > 0 || c.Rewrite {
		return q, false, nil
	}
	before := u.all
	defer func() {
		if !ok {
			u.all = before
		}
	}()
	var wanted []solve.Need
	for _, word := range c.Install {
		if u.words[word] != nil {
			continue
		}
		n, _, err := u.parse(word)
		if err != nil {
			return q, false, nil // reported later
		}
		wanted = append(wanted, solve.Need{Need: n})
	}
	for _, p := range u.all {
		if !p.Installed {
			wanted = append(wanted, p.Needs...)
		}
	}
	if err := u.addClosure(ctx, wanted, c.Suggestions); err != nil {
		if ctx.Err() != nil {
			return q, false, context.Cause(ctx)
		}
		return q, false, nil // reading all of it reports what is wrong
	}
	request, asked, err := u.solveRequest(c)
	if err != nil {
		return q, false, nil
	}
	answer, err := solve.Solve(request)
	if err != nil || len(answer.Remove) > 0 || slices.ContainsFunc(answer.Change, func(change solve.Change) bool { return !asked[change.From.Name] }) {
		return q, false, nil
	}
	q, err = u.toRequest(ctx, answer, asked, c)
	return q, err == nil, err
}

// addClosure adds the newest packages that meet some dependencies, and theirs in turn. What
// the system or an installed package meets needs no other.
func (u *supply) addClosure(ctx context.Context, wanted []solve.Need, suggestions bool) error {
	type channel struct {
		root.Repository
		repository *repo.Repository
		lookup     *index.Lookup
	}
	var channels []channel
	for _, configured := range u.root.Settings.Repositories {
		r, err := repo.OpenCached(configured.Address)
		if err != nil {
			return err
		}
		l, err := r.Lookup(ctx, configured.Channel, u.root.Settings.Target)
		var none *storage.NotRepositoryError
		if errors.As(err, &none) {
			continue
		}
		if err != nil {
			return err
		}
		if l != nil {
			channels = append(channels, channel{configured, r, l})
		}
	}
	seen, there := map[string]bool{}, map[string]bool{}
	for len(wanted) > 0 {
		n := wanted[0]
		wanted = wanted[1:]
		if seen[n.String()] {
			continue
		}
		seen[n.String()] = true
		installed := slices.ContainsFunc(u.all, func(p *solve.Package) bool { return p.Installed && p.Offers(n) })
		if isNamed := n.Alternatives[0].Kind == need.Package; installed && !isNamed || u.meets(n) {
			continue
		}
		for _, ch := range channels {
			records, err := ch.lookup.Offering(ctx, n)
			if err != nil {
				return err
			}
			for _, rec := range records {
				if rec.Arch != fact.Independent && rec.Arch != u.root.Settings.Arch || there[ch.Name+rec.Identity()] {
					continue
				}
				there[ch.Name+rec.Identity()] = true
				c := rec.Candidate()
				c.Origin, c.Priority = ch.Name, ch.Priority
				u.add(c, origin{sha256: rec.SHA256, record: rec, repository: ch.repository})
				wanted = append(wanted, c.Needs...)
				if suggestions {
					for _, s := range c.Suggests {
						wanted = append(wanted, solve.Need{Need: s})
					}
				}
			}
		}
	}
	return ctx.Err()
}
