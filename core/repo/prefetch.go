package repo

import (
	"context"
	"sync"

	"ellwand.example/core/ell"
	"ellwand.example/core/repo/index"
)

// prefetcher reads values before they are needed. Each is taken once.
type prefetcher[T any] struct {
	mu      sync.Mutex
	pending map[string]func() (T, error) // key → waits for the value
}

// start registers how a value is read, unless its key is registered already. The
// first call of the returned function reads it; others wait.
func (p *prefetcher[T]) start(key string, read func() (T, error)) func() (T, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pending == nil {
		p.pending = map[string]func() (T, error){}
	}
	if p.pending[key] == nil {
		p.pending[key] = sync.OnceValues(read)
	}
	return p.pending[key]
}

// take returns the value of a key and forgets it. ok is false if the key is not
// registered, or reading it failed: the caller reads it itself then.
func (p *prefetcher[T]) take(key string) (value T, ok bool) {
	p.mu.Lock()
	read := p.pending[key]
	delete(p.pending, key)
	p.mu.Unlock()
	if read == nil {
		return value, false
	}
	value, err := read()
	return value, err == nil
}

// prefetched is what a publish is about to edit.
type prefetched struct {
	snapshots prefetcher[index.Snapshot]              // by digest
	tables    prefetcher[map[string]index.KnownTable] // by the digest of the snapshot
	listings  prefetcher[*index.StoredListing]        // by listingKey
}

func listingKey(s index.Snapshot, listing string) string {
	return s.Listings[listing].SHA256 + " " + s.Files[listing].SHA256
}

// maxPrefetch is the largest number of packages for which listings are read in
// advance: all of them are in memory at the same time.
const maxPrefetch = 8

// Prefetch reads in advance what a publish of a few packages to a local repository
// is going to edit, while the caller checks them. Errors are left to the publish.
// Wait returns once nothing is being read any more.
func (r *Repository) Prefetch(ctx context.Context, channel string, packages []ell.Facts) (wait func()) {
	var running sync.WaitGroup
	if _, local := r.Storage.LocalPath(); !local || len(packages) > maxPrefetch {
		return running.Wait
	}
	running.Go(func() {
		_, targets, err := r.targets(ctx, channel)
		if err != nil {
			return
		}
		for _, f := range packages {
			digest := targets[f.Target]
			if digest == "" {
				continue
			}
			s, err := r.prefetched.snapshots.start(digest, func() (index.Snapshot, error) { return r.Snapshot(ctx, digest) })()
			if err != nil {
				return
			}
			key := index.ListingOf(f.Name)
			// Both are registered before either is read: the publish may ask for
			// them at any moment.
			tables := r.prefetched.tables.start(digest, func() (map[string]index.KnownTable, error) { return r.tableCache().Load(channel, s), nil })
			listing := r.prefetched.listings.start(listingKey(s, key), func() (*index.StoredListing, error) {
				st, err := r.stored(ctx, s, key)
				if err == nil {
					_, part := index.PlaceOf(f.Name, len(st.Records))
					st.Decoded[part], err = st.Part(part)
				}
				return st, err
			})
			running.Go(func() { tables() })
			listing()
		}
	})
	return running.Wait
}
