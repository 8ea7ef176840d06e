package repo

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
)

// Promote gives one channel the packages of another: all, so that the two are
// alike, or those that words mean.
func (r *Repository) Promote(ctx context.Context, from, to string, words []string, o ChangeOptions, sink progress.Sink) (Change, error) {
	if from == to {
		return Change{}, fmt.Errorf("channel %s cannot be promoted to itself", from)
	}
	return r.change(ctx, to, ActionPromote, o, sink, func(ctx context.Context, tx *transaction) error {
		targets, ok := tx.pointer.Channels[from]
		if !ok {
			return &ChannelError{from, slices.Sorted(maps.Keys(tx.pointer.Channels))}
		}
		found := map[string]bool{}
		for _, target := range slices.Sorted(maps.Keys(targets)) {
			e, err := tx.edit(ctx, target)
			if err != nil {
				return err
			}
			if len(words) == 0 {
				if err := e.adopt(ctx, targets[target]); err != nil {
					return err
				}
				continue
			}
			if err := e.take(ctx, targets[target], words, found); err != nil {
				return err
			}
		}
		for _, word := range words {
			if !found[word] {
				return r.noPackage(ctx, from, word)
			}
		}
		return nil
	})
}

// take adds the newest packages that words mean from another snapshot.
func (e *edit) take(ctx context.Context, digest string, words []string, found map[string]bool) error {
	s, err := e.tx.snapshot(ctx, digest)
	if err != nil {
		return err
	}
	e.adoptedFrom = digest
	for _, word := range words {
		st, err := e.tx.repo.stored(ctx, s, index.ListingOf(index.NameOf(word)))
		if err != nil {
			return err
		}
		_, part := index.PlaceOf(index.NameOf(word), len(st.Records))
		c, err := st.Part(part)
		if err != nil {
			return err
		}
		var meant []index.Record
		for _, rec := range c.Records {
			if rec.IsNamed(word) {
				meant = append(meant, rec)
			}
		}
		for _, rec := range index.Newest(meant) {
			found[word] = true
			there, err := e.find(ctx, rec.Name, rec.Collides)
			if err != nil {
				return err
			}
			if there != nil {
				continue
			}
			paths := slices.DeleteFunc(slices.Clone(c.Paths), func(p index.PathRecord) bool { return p.Package != rec.Identity() })
			if err := e.add(ctx, rec, paths); err != nil {
				return err
			}
		}
	}
	return nil
}
