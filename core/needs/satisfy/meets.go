package satisfy

import (
	"context"
	"slices"
	"sync"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/repo/index"
)

// Meets returns a function that reports whether the system, a package of the
// workspace or a published one meets a dependency. Everything is looked up when
// it is first needed; if packages cannot be listed, the answer is yes.
func (b *Resolver) Meets(ctx context.Context, system *probe.System) func(need.Need) bool {
	var mu sync.Mutex
	known := map[string]bool{}
	repositories := sync.OnceValue(func() []published {
		all, err := b.published(ctx)
		if err != nil {
			return nil
		}
		return all
	})
	meets := func(n need.Need) bool {
		if found, ok := system.Look(n, nil); ok && found.Enough {
			return true
		}
		all, err := b.Packages()
		if err != nil || Find(all, n) != nil {
			return true
		}
		return slices.ContainsFunc(repositories(), func(p published) bool {
			return slices.ContainsFunc(p.records, func(r index.Record) bool { return slices.ContainsFunc(r.AllProvides(), n.MetBy) })
		})
	}
	return func(n need.Need) bool {
		mu.Lock()
		defer mu.Unlock()
		met, ok := known[n.String()]
		if !ok {
			met = meets(n)
			known[n.String()] = met
		}
		return met
	}
}
