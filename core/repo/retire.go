package repo

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
)

// NoPackageError is a package that is not in a channel.
type NoPackageError struct {
	Channel, Word string
	Near          string // a name that is nearly it
}

func (e *NoPackageError) Error() string {
	s := fmt.Sprintf("there is no package %q in channel %s", e.Word, e.Channel)
	if e.Near != "" {
		s += fmt.Sprintf("; did you mean %q?", e.Near)
	}
	return s
}

// Retire takes packages out of a channel: all of a name, or one version. Their
// files stay while a kept snapshot has them.
func (r *Repository) Retire(ctx context.Context, channel string, words []string, o ChangeOptions, sink progress.Sink) (Change, error) {
	return r.change(ctx, channel, ActionRetire, o, sink, func(ctx context.Context, tx *transaction) error {
		targets, ok := tx.pointer.Channels[channel]
		if !ok {
			return &ChannelError{channel, slices.Sorted(maps.Keys(tx.pointer.Channels))}
		}
		found := map[string]bool{}
		for _, target := range slices.Sorted(maps.Keys(targets)) {
			e, err := tx.edit(ctx, target)
			if err != nil {
				return err
			}
			for _, word := range words {
				c, err := e.open(ctx, index.NameOf(word))
				if err != nil {
					return err
				}
				for _, rec := range slices.Clone(c.Records) {
					if !rec.IsNamed(word) {
						continue
					}
					found[word] = true
					if err := e.remove(ctx, rec); err != nil {
						return err
					}
				}
			}
		}
		for _, word := range words {
			if !found[word] {
				return r.noPackage(ctx, channel, word)
			}
		}
		return nil
	})
}

// noPackage looks for what a word may have meant.
func (r *Repository) noPackage(ctx context.Context, channel, word string) error {
	e := &NoPackageError{Channel: channel, Word: word}
	contents, err := r.List(ctx, channel)
	if err != nil {
		return e
	}
	var names []string
	for _, l := range contents {
		for _, rec := range l.Records {
			names = append(names, rec.Name)
			if rec.Name == index.NameOf(word) {
				e.Near = rec.Name + "@" + rec.Full().String()
				return e
			}
		}
	}
	e.Near = fact.Nearest(word, names)
	return e
}
