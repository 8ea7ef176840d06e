package repo

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/ell/seekable"
	"ellwand.example/core/fact"
)

// The packages of a large listing are written in parts, each a frame of its own
// with a seek table after the last, so that a change to one package reads and
// writes no more than its part; the others are copied as they are. In how many
// parts follows from the number of packages, and in which part a package is
// from its name: the same packages give the same bytes.
const (
	partPackages = 32 // no more than so many in a part, on average
	mostParts    = 256
)

// partsOf is in how many parts a listing of so many packages is written.
func partsOf(packages int) int {
	n := 1
	for packages > n*partPackages && n < mostParts {
		n *= 2
	}
	return n
}

// placeOf tells which listing a package's name falls in, and which of its parts
// when there are so many.
func placeOf(name string, parts int) (listing string, part int) {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:1]), int(sum[1]) * parts / 256
}

// listingOf is the listing that a package's name falls in.
func listingOf(name string) string {
	listing, _ := placeOf(name, 1)
	return listing
}

// listingContent is what a listing holds, or some of its parts.
type listingContent struct {
	records []Record
	paths   []PathRecord
	parts   []bool // for each part of the listing whether it is among these
	sorted  bool
}

// emptyListing is a listing without packages.
func emptyListing() *listingContent { return &listingContent{parts: []bool{true}} }

// whole tells whether all parts are there.
func (c *listingContent) whole() bool { return !slices.Contains(c.parts, false) }

// covers tells whether packages of a name would be in the parts that are there.
func (c *listingContent) covers(name string) bool {
	_, part := placeOf(name, len(c.parts))
	return c.parts[part]
}

// sort puts lines in the order in which they are written.
func (c *listingContent) sort() {
	if c.sorted {
		return
	}
	identities := map[string]string{} // by file: they are compared often
	for _, r := range c.records {
		identities[r.File] = r.Identity()
	}
	slices.SortFunc(c.records, func(a, b Record) int { return cmp.Compare(identities[a.File], identities[b.File]) })
	slices.SortFunc(c.paths, func(a, b PathRecord) int {
		return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.Package, b.Package))
	})
	c.sorted = true
}

// load reads a listing of a snapshot whole; one that is not in it is empty.
func (r *Repository) load(ctx context.Context, s Snapshot, key string) (*listingContent, error) {
	c := emptyListing()
	g, ctx := errgroup.WithContext(ctx)
	if ref, ok := s.Listings[key]; ok {
		g.Go(func() (err error) {
			c.records, err = r.listing(nil)(ctx, ref)
			return err
		})
	}
	if ref, ok := s.Files[key]; ok {
		g.Go(func() (err error) {
			c.paths, err = r.files(nil)(ctx, ref)
			return err
		})
	}
	return c, g.Wait()
}

// storedListing is a stored listing of a snapshot: compressed, by part.
// A part is decoded when it is asked for.
type storedListing struct {
	listing, files Ref
	records, paths []packedPart
	decoded        map[int]*listingContent // parts that were decoded in advance
}

// packedPart is the frame of one part.
type packedPart struct {
	data []byte
	size uint32 // decompressed
}

func listingFile(ref Ref) string { return "listings/" + ref.SHA256 + ".jsonl.zst" }
func filesFile(ref Ref) string   { return "files/" + ref.SHA256 + ".jsonl.zst" }

// stored reads a listing of a snapshot without decoding it; one that is not in it
// is empty.
func (r *Repository) stored(ctx context.Context, s Snapshot, key string) (*storedListing, error) {
	st := &storedListing{listing: s.Listings[key], files: s.Files[key], decoded: map[int]*listingContent{}}
	var records, paths []byte
	var err error
	if st.listing.SHA256 != "" {
		if records, err = r.content(ctx, listingFile(st.listing), st.listing.SHA256); err != nil {
			return nil, err
		}
	}
	if st.files.SHA256 != "" {
		if paths, err = r.content(ctx, filesFile(st.files), st.files.SHA256); err != nil {
			return nil, err
		}
	}
	n := partsOf(st.listing.Count)
	st.records, st.paths = framesOf(records, n), framesOf(paths, n)
	if st.records == nil || st.paths == nil { // somebody wrote it in another way
		st.records, st.paths = []packedPart{{data: records}}, []packedPart{{data: paths}}
	}
	return st, nil
}

// framesOf cuts a file into the frames of n parts; nil where it has not so
// many.
func framesOf(data []byte, n int) []packedPart {
	if n == 1 {
		return []packedPart{{data: data}}
	}
	frames, err := seekable.Read(bytes.NewReader(data), int64(len(data)), mostParts)
	if err != nil || len(frames) != n {
		return nil
	}
	out := make([]packedPart, n)
	for i, f := range frames {
		out[i] = packedPart{data[:f.Packed], f.Size}
		data = data[f.Packed:]
	}
	return out
}

// part decodes one part.
func (st *storedListing) part(i int) (*listingContent, error) {
	if c := st.decoded[i]; c != nil {
		return c, nil
	}
	c := &listingContent{parts: make([]bool, len(st.records))}
	c.parts[i] = true
	records, paths := uncounted, uncounted
	if c.whole() {
		records, paths = st.listing.Count, st.files.Count
	}
	var g errgroup.Group
	g.Go(func() (err error) {
		// They are written again as they are.
		c.records, err = decodeLines[Record](st.records[i].data, records, nil, true)
		for _, rec := range c.records {
			if err == nil {
				err = rec.check()
			}
			if err == nil && !c.covers(rec.Name) {
				err = fmt.Errorf("%s is not where it belongs", rec.Identity())
			}
		}
		if err != nil {
			return &DamagedError{listingFile(st.listing), err}
		}
		return nil
	})
	g.Go(func() (err error) {
		if c.paths, err = decodeLines[PathRecord](st.paths[i].data, paths, nil, false); err != nil {
			return &DamagedError{filesFile(st.files), err}
		}
		return nil
	})
	return c, g.Wait()
}

// putListing writes a listing of so many packages and paths, of which c may be some
// parts: the others are those of before. It returns what names the two files.
func (r *Repository) putListing(ctx context.Context, c *listingContent, before *storedListing, packages, paths int) (listing, files Ref, err error) {
	c.sort()
	parts := len(c.parts)
	if c.whole() {
		parts = partsOf(packages)
	}
	records, owned := make([][]Record, parts), make([][]PathRecord, parts)
	for _, rec := range c.records {
		_, i := placeOf(rec.Name, parts)
		records[i] = append(records[i], rec)
	}
	if parts == 1 {
		owned[0] = c.paths
	} else {
		places := map[string]int{} // by name: there are many paths of each
		for _, p := range c.paths {
			name := nameOf(p.Package)
			i, known := places[name]
			if !known {
				_, i = placeOf(name, parts)
				places[name] = i
			}
			owned[i] = append(owned[i], p)
		}
	}
	keep := func(i int) bool { return !c.whole() && !c.parts[i] }
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) {
		listing, err = putParts(ctx, r, listingFile, packages, records, keep, before.records)
		return err
	})
	g.Go(func() (err error) {
		files, err = putParts(ctx, r, filesFile, paths, owned, keep, before.paths)
		return err
	})
	return listing, files, g.Wait()
}

// putParts writes a file of parts; of those that are to be kept, as they were.
func putParts[T any](ctx context.Context, r *Repository, file func(Ref) string, count int, parts [][]T, keep func(int) bool, before []packedPart) (Ref, error) {
	enc, err := encoder()
	if err != nil {
		return Ref{}, err
	}
	var data []byte
	frames := make([]seekable.Frame, len(parts))
	for i, items := range parts {
		start := len(data)
		if keep(i) {
			data = append(data, before[i].data...)
			frames[i].Size = before[i].size
		} else {
			text, err := lines(items)
			if err != nil {
				return Ref{}, err
			}
			data = enc.EncodeAll(text, data)
			frames[i].Size = uint32(len(text))
		}
		frames[i].Packed = uint32(len(data) - start)
	}
	if len(parts) > 1 {
		data = append(data, seekable.Table(frames)...)
	}
	ref := Ref{count, fact.SHA256(data)}
	return ref, r.Storage.Put(ctx, file(ref), bytes.NewReader(data))
}
