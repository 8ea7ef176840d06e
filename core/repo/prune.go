package repo

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// Keep says which snapshots a prune leaves.
type Keep struct {
	States int           // of each channel and target, at least this many; the newest counts
	Time   time.Duration // and all that a channel was at within this time
}

// Pruned is what a prune took away, or would.
type Pruned struct {
	Kept      int      `json:"kept"`      // snapshots
	Snapshots int      `json:"snapshots"` // taken away
	Listings  int      `json:"listings"`
	Packages  []string `json:"packages"` // package files
	Others    int      `json:"others"`   // files that nothing named
	Bytes     int64    `json:"bytes"`
	Serial    int64    `json:"serial"` // of the repository afterwards
}

// graceTime is how old a file must be that nothing names, before it is taken
// away from a storage that cannot keep publishers out: one may be about to
// name it.
const graceTime = time.Hour

// Prune takes away old snapshots, and all files that no kept one names. With
// dry set it only tells. Readers that are at a kept snapshot notice nothing.
func (r *Repository) Prune(ctx context.Context, keep Keep, dry bool, sink progress.Sink) (Pruned, error) {
	out := Pruned{Packages: []string{}}
	if keep.States < 1 {
		return out, errors.New("at least one state of each channel is kept")
	}
	if _, err := r.Pointer(ctx); err != nil {
		return out, err // a lock would make a directory for what is not there
	}
	unlock, err := r.Storage.Lock(ctx)
	if err != nil {
		return out, err
	}
	defer unlock()
	p, mark, err := r.current(ctx)
	if err != nil {
		return out, err
	}
	out.Serial = p.Serial
	kept, cut, err := r.toKeep(ctx, p, keep)
	if err != nil {
		return out, err
	}
	all, err := r.closureOf(ctx, p.Heads(), cut)
	if err != nil {
		return out, err
	}
	if len(all.damaged) > 0 {
		return out, fact.Errorf(fact.StatusInput, "%s is damaged (%s), so the files that it refers to are unknown; nothing was pruned", all.damaged[0].Name, all.damaged[0].Reason).Try(fact.Verify, r.Storage.Where(), "")
	}
	out.Kept = kept
	// What goes is no longer named first; a prune that breaks off in between
	// leaves files that the next one takes.
	if !dry && !slices.Equal(cut, p.Pruned) {
		p.Pruned = cut
		p.Serial++
		p.Time = time.Now().UTC().Truncate(time.Second)
		if err := r.replace(ctx, p, mark); err != nil {
			return out, err
		}
		out.Serial = p.Serial
	}
	t := sink.Begin("prune", 0, "")
	defer t.End("done")
	_, local := r.Storage.LocalPath()
	for _, dir := range immutable {
		var gone []storage.Stored
		err := r.Storage.List(ctx, dir, func(s storage.Stored) error {
			base := packageOf(s.Name)
			_, snapshot := all.snapshots[s.Name]
			_, listing := all.listings[s.Name]
			_, pkg := all.packages[base]
			if !snapshot && !listing && !pkg && (local || time.Since(s.Modified) > graceTime) {
				gone = append(gone, s)
			}
			return nil
		})
		if err != nil {
			return out, err
		}
		for _, s := range gone {
			out.Bytes += s.Size
			switch {
			case dir == "snapshots/":
				out.Snapshots++
			case strings.HasSuffix(s.Name, ell.Extension):
				out.Packages = append(out.Packages, s.Name)
			case dir == "packages/":
				out.Others++
			default:
				out.Listings++
			}
			if dry {
				continue
			}
			if err := r.Storage.Remove(ctx, s.Name); err != nil {
				return out, err
			}
		}
	}
	slices.Sort(out.Packages)
	return out, nil
}

// toKeep counts the snapshots to keep, and lists the first ones to go: those
// that a kept one has as its parent.
func (r *Repository) toKeep(ctx context.Context, p index.Pointer, keep Keep) (kept int, cut []string, err error) {
	chosen := map[string]bool{}
	parents := map[string]bool{}
	since := time.Now().Add(-keep.Time)
	for _, channel := range slices.Sorted(maps.Keys(p.Channels)) {
		chains, err := r.chains(ctx, p, p.Channels[channel])
		if err != nil {
			return 0, nil, err
		}
		for _, chain := range chains {
			for i, s := range chain {
				// The time at which a state ended is that of the next one.
				if i >= keep.States && chain[i-1].Time.Before(since) {
					break
				}
				chosen[s.digest] = true
				parents[s.Parent] = true
			}
		}
	}
	for parent := range parents {
		if parent != "" && !chosen[parent] {
			cut = append(cut, parent)
		}
	}
	slices.Sort(cut)
	return len(chosen), cut, nil
}
