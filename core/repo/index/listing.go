package index

import (
	"bytes"
	"cmp"
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
	MostParts    = 256
)

// PartsOf is in how many parts a listing of so many packages is written.
func PartsOf(packages int) int {
	n := 1
	for packages > n*partPackages && n < MostParts {
		n *= 2
	}
	return n
}

// PlaceOf tells which listing a package's name falls in, and which of its parts
// when there are so many.
func PlaceOf(name string, parts int) (listing string, part int) {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:1]), int(sum[1]) * parts / 256
}

// ListingOf is the listing that a package's name falls in.
func ListingOf(name string) string {
	listing, _ := PlaceOf(name, 1)
	return listing
}

// listingContent is what a listing holds, or some of its parts.
type Listing struct {
	Records []Record
	Paths   []PathRecord
	Parts   []bool // for each part of the listing whether it is among these
	Sorted  bool
}

// EmptyListing is a listing without packages.
func EmptyListing() *Listing { return &Listing{Parts: []bool{true}} }

// Whole reports whether all parts are there.
func (c *Listing) Whole() bool { return !slices.Contains(c.Parts, false) }

// covers reports whether packages of a name would be in the parts that are there.
func (c *Listing) covers(name string) bool {
	_, part := PlaceOf(name, len(c.Parts))
	return c.Parts[part]
}

// sort puts lines in the order in which they are written.
func (c *Listing) sort() {
	if c.Sorted {
		return
	}
	identities := map[string]string{} // by file: they are compared often
	for _, r := range c.Records {
		identities[r.File] = r.Identity()
	}
	slices.SortFunc(c.Records, func(a, b Record) int { return cmp.Compare(identities[a.File], identities[b.File]) })
	slices.SortFunc(c.Paths, func(a, b PathRecord) int {
		return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.Package, b.Package))
	})
	c.Sorted = true
}

// StoredListing is a stored listing of a snapshot: compressed, by part.
// A part is decoded when it is asked for.
type StoredListing struct {
	listing, files Ref
	Records, paths []PackedPart
	Decoded        map[int]*Listing // parts that were decoded in advance
}

// PackedPart is the frame of one part.
type PackedPart struct {
	Data []byte
	Size uint32 // decompressed
}

// ListingFile is the name of a listing's file.
func ListingFile(ref Ref) string { return "listings/" + ref.SHA256 + ".jsonl.zst" }

// FilesFile is the name of the file with a listing's paths.
func FilesFile(ref Ref) string { return "files/" + ref.SHA256 + ".jsonl.zst" }

// NewStored holds the stored files of a listing: its packages and its paths.
func NewStored(listing, files Ref, records, paths []byte) *StoredListing {
	st := &StoredListing{listing: listing, files: files, Decoded: map[int]*Listing{}}
	n := PartsOf(listing.Count)
	st.Records, st.paths = FramesOf(records, n), FramesOf(paths, n)
	if st.Records == nil || st.paths == nil { // another program wrote it
		st.Records, st.paths = []PackedPart{{Data: records}}, []PackedPart{{Data: paths}}
	}
	return st
}

// FramesOf cuts a file into the frames of n parts; nil if it has not so
// many.
func FramesOf(data []byte, n int) []PackedPart {
	if n == 1 {
		return []PackedPart{{Data: data}}
	}
	frames, err := seekable.Read(bytes.NewReader(data), int64(len(data)), MostParts)
	if err != nil || len(frames) != n {
		return nil
	}
	out := make([]PackedPart, n)
	for i, f := range frames {
		out[i] = PackedPart{data[:f.Packed], f.Size}
		data = data[f.Packed:]
	}
	return out
}

// Part decodes one part.
func (st *StoredListing) Part(i int) (*Listing, error) {
	if c := st.Decoded[i]; c != nil {
		return c, nil
	}
	c := &Listing{Parts: make([]bool, len(st.Records))}
	c.Parts[i] = true
	records, paths := uncounted, uncounted
	if c.Whole() {
		records, paths = st.listing.Count, st.files.Count
	}
	var g errgroup.Group
	g.Go(func() (err error) {
		// They are written again as they are.
		c.Records, err = decodeLines[Record](st.Records[i].Data, records, nil, true)
		for _, rec := range c.Records {
			if err == nil {
				err = rec.check()
			}
			if err == nil && !c.covers(rec.Name) {
				err = fmt.Errorf("%s is not where it belongs", rec.Identity())
			}
		}
		if err != nil {
			return &DamagedError{ListingFile(st.listing), err}
		}
		return nil
	})
	g.Go(func() (err error) {
		if c.Paths, err = decodeLines[PathRecord](st.paths[i].Data, paths, nil, false); err != nil {
			return &DamagedError{FilesFile(st.files), err}
		}
		return nil
	})
	return c, g.Wait()
}

// Encoded is a file of a listing in the form that is stored.
type Encoded struct {
	Ref  Ref
	Data []byte
}

// EncodeListing encodes a listing of so many packages and paths. If c holds only
// some of its parts, the others are copied from before.
func EncodeListing(c *Listing, before *StoredListing, packages, paths int) (listing, files Encoded, err error) {
	c.sort()
	parts := len(c.Parts)
	if c.Whole() {
		parts = PartsOf(packages)
	}
	records, owned := make([][]Record, parts), make([][]PathRecord, parts)
	for _, rec := range c.Records {
		_, i := PlaceOf(rec.Name, parts)
		records[i] = append(records[i], rec)
	}
	if parts == 1 {
		owned[0] = c.Paths
	} else {
		places := map[string]int{} // by name: there are many paths of each
		for _, p := range c.Paths {
			name := NameOf(p.Package)
			i, known := places[name]
			if !known {
				_, i = PlaceOf(name, parts)
				places[name] = i
			}
			owned[i] = append(owned[i], p)
		}
	}
	keep := func(i int) bool { return !c.Whole() && !c.Parts[i] }
	var g errgroup.Group
	g.Go(func() (err error) {
		listing, err = encodeParts(packages, records, keep, before.Records)
		return err
	})
	g.Go(func() (err error) {
		files, err = encodeParts(paths, owned, keep, before.paths)
		return err
	})
	return listing, files, g.Wait()
}

// encodeParts encodes a file of parts; those to keep are copied as they were.
func encodeParts[T any](count int, parts [][]T, keep func(int) bool, before []PackedPart) (Encoded, error) {
	enc, err := encoder()
	if err != nil {
		return Encoded{}, err
	}
	var data []byte
	frames := make([]seekable.Frame, len(parts))
	for i, items := range parts {
		start := len(data)
		if keep(i) {
			data = append(data, before[i].Data...)
			frames[i].Size = before[i].Size
		} else {
			text, err := lines(items)
			if err != nil {
				return Encoded{}, err
			}
			data = enc.EncodeAll(text, data)
			frames[i].Size = uint32(len(text))
		}
		frames[i].Packed = uint32(len(data) - start)
	}
	if len(parts) > 1 {
		data = append(data, seekable.Table(frames)...)
	}
	return Encoded{Ref{count, fact.SHA256(data)}, data}, nil
}
