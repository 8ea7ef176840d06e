package repo

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"ellwand.example/core/repo/index"
)

// Event is one change in a channel's past.
type Event struct {
	Serial   int64             `json:"serial"`
	Time     time.Time         `json:"time"`
	Target   string            `json:"target"`
	Snapshot string            `json:"snapshot"`
	Action   string            `json:"action"`
	From     string            `json:"from,omitempty"` // the snapshot that packages were taken from
	Packages int               `json:"packages"`
	Bytes    int64             `json:"bytes"`
	Added    []string          `json:"added"`
	Removed  []string          `json:"removed"`
	Allowed  []index.Exception `json:"allowed,omitempty"`
	// MoreAdded and MoreRemoved count those that a page leaves out.
	MoreAdded   int  `json:"more_added,omitempty"`
	MoreRemoved int  `json:"more_removed,omitempty"`
	Oldest      bool `json:"oldest,omitempty"` // what was before was pruned
}

// History reports the past of a channel, the newest change first; of at most
// limit changes of each target, or of all if limit is 0.
func (r *Repository) History(ctx context.Context, channel string, limit int) ([]Event, error) {
	p, targets, err := r.targets(ctx, channel)
	if err != nil {
		return nil, err
	}
	out := []Event{}
	for _, target := range slices.Sorted(maps.Keys(targets)) {
		digest := targets[target]
		for n := 0; digest != "" && !slices.Contains(p.Pruned, digest) && (limit == 0 || n < limit); n++ {
			s, err := r.Snapshot(ctx, digest)
			if err != nil {
				return nil, err
			}
			e := Event{Serial: s.Serial, Time: s.Time, Target: target, Snapshot: digest, Action: s.Action, From: s.From, Packages: s.Packages, Bytes: s.Bytes,
				Added: []string{}, Removed: []string{}, Allowed: s.Allowed, Oldest: slices.Contains(p.Pruned, s.Parent)}
			if !e.Oldest {
				if e.Added, e.Removed, err = r.between(ctx, s.Parent, s); err != nil {
					return nil, err
				}
			}
			out = append(out, e)
			digest = s.Parent
		}
	}
	slices.SortStableFunc(out, func(a, b Event) int { return cmp.Compare(b.Serial, a.Serial) })
	return out, nil
}

// between lists the packages that came and went from a parent, which may be
// none, to a snapshot.
func (r *Repository) between(ctx context.Context, parent string, s index.Snapshot) (added, removed []string, err error) {
	var old index.Snapshot
	if parent != "" {
		if old, err = r.Snapshot(ctx, parent); err != nil {
			return nil, nil, err
		}
	}
	before, after := map[string]*index.Listing{}, map[string]*index.Listing{}
	for key := range union(old.Listings, s.Listings) {
		if old.Listings[key] == s.Listings[key] {
			continue
		}
		for _, side := range []struct {
			from index.Snapshot
			to   map[string]*index.Listing
		}{{old, before}, {s, after}} {
			side.to[key] = &index.Listing{}
			if ref, ok := side.from.Listings[key]; ok {
				if side.to[key].Records, err = r.Records(ctx, ref, nil); err != nil {
					return nil, nil, err
				}
			}
		}
	}
	came, went := difference(before, after)
	return identitiesOf(came), identitiesOf(went), nil
}
