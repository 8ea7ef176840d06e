package repo

import (
	"context"
	"sync"

	"ellwand.example/core/pack"
)

// ahead is what is read before it is asked for: functions that wait for it, by
// what it is. Each is taken once.
type ahead struct{ sync.Map }

// promise notes what is going to be read; whoever calls the function first reads
// it.
func promise[T any](a *ahead, what string, read func() (T, error)) func() (T, error) {
	f, _ := a.LoadOrStore(what, sync.OnceValues(read))
	return f.(func() (T, error))
}

// taken returns what was read ahead. What failed is read again by the caller.
func taken[T any](a *ahead, what string) (T, bool) {
	if f, ok := a.LoadAndDelete(what); ok {
		if v, err := f.(func() (T, error))(); err == nil {
			return v, true
		}
	}
	var none T
	return none, false
}

func aheadSnapshot(sha256 string) string { return "snapshot " + sha256 }
func aheadTables(sha256 string) string   { return "tables " + sha256 }
func aheadListing(s Snapshot, listing string) string {
	return "listing " + s.Listings[listing].SHA256 + " " + s.Files[listing].SHA256
}

// mostPrepared is for how many packages it is worth to read ahead: their listings
// are all in memory at once.
const mostPrepared = 8

// Prepare reads ahead what a publish of a few packages into a folder is going to
// edit, while the caller looks at them. It returns at once; errors are left to
// the publish.
func (r *Repository) Prepare(ctx context.Context, channel string, packages []pack.Facts) {
	if _, folder := r.Storage.(Directory); !folder || len(packages) > mostPrepared {
		return
	}
	go func() {
		_, targets, err := r.targets(ctx, channel)
		if err != nil {
			return
		}
		for _, f := range packages {
			digest := targets[f.Target]
			if digest == "" {
				continue
			}
			s, err := promise(&r.ahead, aheadSnapshot(digest), func() (Snapshot, error) { return r.Snapshot(ctx, digest) })()
			if err != nil {
				return
			}
			key := listingOf(f.Name)
			// The publish may be there any moment, and is to find both.
			tables := promise(&r.ahead, aheadTables(digest), func() (map[string]knownTable, error) { return r.cachedTables(channel, s), nil })
			listing := promise(&r.ahead, aheadListing(s, key), func() (*storedListing, error) {
				st, err := r.stored(ctx, s, key)
				if err == nil {
					_, part := placeOf(f.Name, len(st.records))
					st.ahead[part], err = st.part(part)
				}
				return st, err
			})
			go tables()
			listing()
		}
	}()
}
