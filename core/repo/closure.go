package repo

import (
	"context"
	"errors"
	"slices"

	"ellwand.example/core/repo/index"
)

// closure is everything that the retained snapshots of a repository name: file → digest.
type closure struct {
	snapshots, listings map[string]string
	packages            map[string]index.Record
	damaged             []Damage
}

// closureOf follows the snapshots from the channels' own to the oldest that are
// retained. Damage is recorded and skipped.
func (r *Repository) closureOf(ctx context.Context, starts []string, pruned []string) (*closure, error) {
	out := &closure{map[string]string{}, map[string]string{}, map[string]index.Record{}, nil}
	note := func(err error) error {
		var half *HalfCopiedError
		if errors.As(err, &half) {
			out.damaged = append(out.damaged, Damage{half.Name, Missing})
			return nil
		}
		var damaged *index.DamagedError
		if errors.As(err, &damaged) {
			out.damaged = append(out.damaged, Damage{damaged.Name, damaged.Err.Error()})
			return nil
		}
		return err
	}
	for _, digest := range starts {
		for digest != "" && !slices.Contains(pruned, digest) {
			name := "snapshots/" + digest + ".json"
			if _, known := out.snapshots[name]; known {
				break
			}
			out.snapshots[name] = digest
			s, err := r.Snapshot(ctx, digest)
			if err != nil {
				if err := note(err); err != nil {
					return nil, err
				}
				break
			}
			for _, ref := range s.Files {
				out.listings["files/"+ref.SHA256+".jsonl.zst"] = ref.SHA256
			}
			for _, ref := range s.Listings {
				name := "listings/" + ref.SHA256 + ".jsonl.zst"
				if _, known := out.listings[name]; known {
					continue
				}
				out.listings[name] = ref.SHA256
				records, err := r.Records(ctx, ref, nil)
				if err := note(err); err != nil {
					return nil, err
				}
				for _, rec := range records {
					out.packages[rec.File] = rec
				}
			}
			digest = s.Parent
		}
	}
	return out, nil
}

// immutable are the directories of files that never change.
var immutable = []string{"snapshots/", "listings/", "files/", "packages/"}
