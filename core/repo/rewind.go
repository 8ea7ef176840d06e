package repo

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
)

// Rewind brings a channel back to what it was: before its last change with an
// empty word, at a serial, or at the snapshot whose digest begins with the
// word. What came since stays in the history, so that a rewind can be undone
// by another.
func (r *Repository) Rewind(ctx context.Context, channel, word string, sink progress.Sink) (Change, error) {
	return r.change(ctx, channel, ActionRewind, ChangeOptions{}, sink, func(ctx context.Context, tx *transaction) error {
		targets, ok := tx.pointer.Channels[channel]
		if !ok {
			return &ChannelError{channel, slices.Sorted(maps.Keys(tx.pointer.Channels))}
		}
		past, err := r.chains(ctx, tx.pointer, targets)
		if err != nil {
			return err
		}
		if word == "" {
			var serials []int64
			for _, chain := range past {
				for _, p := range chain {
					serials = append(serials, p.Serial)
				}
			}
			slices.Sort(serials)
			serials = slices.Compact(serials)
			if len(serials) < 2 {
				return fmt.Errorf("channel %s has no state before this one", channel)
			}
			word = strconv.FormatInt(serials[len(serials)-2], 10)
		}
		if serial, err := strconv.ParseInt(word, 10, 64); err == nil && len(word) < shortest && serial > tx.pointer.Serial {
			return fmt.Errorf("channel %s has no state of serial %d yet: the repository is at serial %d", channel, serial, tx.pointer.Serial)
		}
		states, err := statesAt(past, r.Storage.Where(), channel, word)
		if err != nil {
			return err
		}
		for _, target := range slices.Sorted(maps.Keys(states)) {
			e, err := tx.edit(ctx, target)
			if err != nil {
				return err
			}
			if states[target] == "" { // it was not there then
				e.adopted = &index.Snapshot{Listings: map[string]index.Ref{}, Files: map[string]index.Ref{}}
				e.mapTables("", *e.adopted)
				for key := range e.old.Listings {
					if e.before[key], err = r.Listing(ctx, e.old, key); err != nil {
						return err
					}
					e.after[key] = index.EmptyListing()
				}
				continue
			}
			if err := e.adopt(ctx, states[target]); err != nil {
				return err
			}
		}
		return nil
	})
}

// past is a snapshot in a chain.
type past struct {
	digest string
	index.Snapshot
}

// chains lists the snapshots of targets, from the newest to the oldest that is
// kept.
func (r *Repository) chains(ctx context.Context, p index.Pointer, targets map[string]string) (map[string][]past, error) {
	out := map[string][]past{}
	for target, digest := range targets {
		for digest != "" && !slices.Contains(p.Pruned, digest) {
			s, err := r.Snapshot(ctx, digest)
			if err != nil {
				return nil, err
			}
			out[target] = append(out[target], past{digest, s})
			digest = s.Parent
		}
	}
	return out, nil
}

// statesAt finds the snapshots that a word means: the digests for each target,
// empty if there was nothing then.
func statesAt(chains map[string][]past, where, channel, word string) (map[string]string, error) {
	states := map[string]string{}
	if serial, err := strconv.ParseInt(word, 10, 64); err == nil && len(word) < shortest {
		any := false
		for target, chain := range chains {
			states[target] = ""
			for _, p := range chain {
				if p.Serial <= serial {
					states[target], any = p.digest, true
					break
				}
			}
		}
		if !any {
			return nil, fact.Errorf(fact.StatusInput, "channel %s has no retained state with serial %d", channel, serial).Try(fact.ShowHistory, where, channel)
		}
		return states, nil
	}
	for target, chain := range chains {
		for _, p := range chain {
			if len(word) >= shortest && strings.HasPrefix(p.digest, word) {
				states[target] = p.digest
				return states, nil
			}
		}
	}
	return nil, fact.Errorf(fact.StatusInput, "channel %s was never at %q: give a serial, or at least %d characters of a snapshot", channel, word, shortest).Try(fact.ShowHistory, where, channel)
}
