package repo

import (
	"context"
	"maps"
	"slices"

	"ellwand.example/core/needs/solve"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/gate"
)

// Audit checks all of a channel, for each of its targets; see gate.Audit.
// The system is as in ChangeOptions.
func (r *Repository) Audit(ctx context.Context, channel string, system func(target string) func(solve.Need) bool, sink progress.Sink) ([]gate.Audit, error) {
	_, targets, err := r.targets(ctx, channel)
	if err != nil {
		return nil, err
	}
	var out []gate.Audit
	for _, target := range slices.Sorted(maps.Keys(targets)) {
		var known func(solve.Need) bool
		if system != nil {
			known = system(target)
		}
		t := sink.Begin("audit "+channel+" for "+target, 0, "")
		s, records, err := r.records(ctx, targets[target], nil)
		var a gate.Audit
		if err == nil {
			a, err = gate.AuditChannel(ctx, channel, s, records, r, known)
		}
		t.End("done")
		if err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, nil
}
