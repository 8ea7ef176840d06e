package repo

import (
	"context"

	"ellwand.example/core/repo/index"
)

// Lookup finds the newest packages of a channel by what they provide, without reading all
// of them; see index.Lookup. What it looks into is made once for each state, and kept in
// the cache. It is nil if the channel has nothing for the target.
func (r *Repository) Lookup(ctx context.Context, channel, target string) (l *index.Lookup, err error) {
	err = r.retryIfPruned(ctx, func() error {
		l = nil
		_, targets, err := r.targets(ctx, channel)
		if err != nil || targets[target] == "" {
			return err
		}
		s, err := r.Snapshot(ctx, targets[target])
		if err != nil {
			return err
		}
		known := r.tableCache().Load(channel, s)
		if known == nil {
			known = map[string]index.KnownTable{}
		}
		l, err = index.NewLookup(ctx, r, r.tableCache(), channel, s, known, nil)
		return err
	})
	return l, err
}
