package repo

import (
	"bytes"
	"context"
	"maps"
	"runtime"
	"slices"

	"ellwand.example/core/repo/index"
	"golang.org/x/sync/errgroup"
)

// Listing reads a listing of a snapshot whole; one that is not in it is empty.
func (r *Repository) Listing(ctx context.Context, s index.Snapshot, key string) (*index.Listing, error) {
	c := index.EmptyListing()
	g, ctx := errgroup.WithContext(ctx)
	if ref, ok := s.Listings[key]; ok {
		g.Go(func() (err error) {
			c.Records, err = r.Records(ctx, ref, nil)
			return err
		})
	}
	if ref, ok := s.Files[key]; ok {
		g.Go(func() (err error) {
			c.Paths, err = r.Paths(ctx, ref, nil)
			return err
		})
	}
	return c, g.Wait()
}

// stored reads a listing of a snapshot without decoding it; one that is not in it
// is empty.
func (r *Repository) stored(ctx context.Context, s index.Snapshot, key string) (*index.StoredListing, error) {
	listing, files := s.Listings[key], s.Files[key]
	var records, paths []byte
	var err error
	if listing.SHA256 != "" {
		if records, err = r.content(ctx, index.ListingFile(listing), listing.SHA256); err != nil {
			return nil, err
		}
	}
	if files.SHA256 != "" {
		if paths, err = r.content(ctx, index.FilesFile(files), files.SHA256); err != nil {
			return nil, err
		}
	}
	return index.NewStored(listing, files, records, paths), nil
}

// putListing stores a listing; see encodeListing.
func (r *Repository) putListing(ctx context.Context, c *index.Listing, before *index.StoredListing, packages, paths int) (listing, files index.Ref, err error) {
	l, f, err := index.EncodeListing(c, before, packages, paths)
	if err != nil {
		return index.Ref{}, index.Ref{}, err
	}
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return r.Storage.Put(ctx, index.ListingFile(l.Ref), bytes.NewReader(l.Data)) })
	g.Go(func() error { return r.Storage.Put(ctx, index.FilesFile(f.Ref), bytes.NewReader(f.Data)) })
	return l.Ref, f.Ref, g.Wait()
}

// Records reads those packages of a listing that are picked; nil takes all.
func (r *Repository) Records(ctx context.Context, ref index.Ref, pick index.Picker) ([]index.Record, error) {
	name := index.ListingFile(ref)
	data, err := r.content(ctx, name, ref.SHA256)
	if err != nil {
		return nil, err
	}
	records, err := index.DecodeRecords(data, ref.Count, pick)
	if err != nil {
		return nil, &index.DamagedError{Name: name, Err: err}
	}
	return records, nil
}

// Paths reads those paths of a listing that are picked; nil takes all.
func (r *Repository) Paths(ctx context.Context, ref index.Ref, pick index.Picker) ([]index.PathRecord, error) {
	name := index.FilesFile(ref)
	data, err := r.content(ctx, name, ref.SHA256)
	if err != nil {
		return nil, err
	}
	paths, err := index.DecodePaths(data, ref.Count, pick)
	if err != nil {
		return nil, &index.DamagedError{Name: name, Err: err}
	}
	return paths, nil
}

// EachPath calls a function for every path of a snapshot. Calls are concurrent
// for different listings, which are numbered from 0. The strings are valid during
// the call only.
func (r *Repository) EachPath(ctx context.Context, s index.Snapshot, each func(listing int, p index.PathRecord)) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, key := range slices.Sorted(maps.Keys(s.Files)) {
		g.Go(func() error {
			name := index.FilesFile(s.Files[key])
			data, err := r.content(ctx, name, s.Files[key].SHA256)
			if err != nil {
				return err
			}
			if err := index.EachPath(data, s.Files[key].Count, func(p index.PathRecord) { each(i, p) }); err != nil {
				return &index.DamagedError{Name: name, Err: err}
			}
			return nil
		})
	}
	return g.Wait()
}
