package repo

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/cancel"
	"ellwand.example/core/ell"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/staging"
)

// Outcome is what became of one package file in a publish.
type Outcome struct {
	File    string `json:"file"` // as it was given
	Package string `json:"package,omitempty"`
	State   string `json:"state"` // one of those below
	Reason  string `json:"reason,omitempty"`
}

// States of an outcome.
const (
	Added   = "added"
	Already = "already published"
	Refused = "refused"
)

// Report is the result of a publish. Every file that was looked at is in it
// once.
type Report struct {
	Channel  string    `json:"channel"`
	Serial   int64     `json:"serial"` // of the repository afterwards
	Outcomes []Outcome `json:"outcomes"`
	Change   Change    `json:"change"`
}

// Count counts the outcomes of a state.
func (r Report) Count(state string) int {
	n := 0
	for _, o := range r.Outcomes {
		if o.State == state {
			n++
		}
	}
	return n
}

// candidate is a package file that was found to be whole.
type candidate struct {
	file   string
	record index.Record
	target string
	paths  []index.PathRecord
	index  int // of its outcome
}

// Publish adds package files to a channel in one atomic step. Each file is
// verified completely first; a damaged file, or one whose identity belongs to
// another file already, is refused. The gate checks what the channel would become
// with the rest: either all are added, or, with a *RefusedError, none. After an
// error nothing has changed.
func (r *Repository) Publish(ctx context.Context, channelName string, files []string, o ChangeOptions, sink progress.Sink) (Report, error) {
	report := Report{Channel: channelName, Outcomes: make([]Outcome, len(files))}
	candidates, err := examine(ctx, files, report.Outcomes, sink)
	if err != nil {
		return report, err
	}
	if len(candidates) == 0 {
		return report, checkChannel(channelName)
	}
	report.Change, err = r.change(ctx, channelName, ActionPublish, o, sink, func(ctx context.Context, tx *transaction) error {
		for _, target := range targetsOf(candidates) {
			e, err := tx.edit(ctx, target)
			if err != nil {
				return err
			}
			if err := e.addCandidates(ctx, candidates, report.Outcomes); err != nil {
				return err
			}
		}
		return nil
	})
	report.Serial = report.Change.Serial
	return report, err
}

func targetsOf(candidates []*candidate) []string {
	seen := map[string]bool{}
	for _, c := range candidates {
		seen[c.target] = true
	}
	return slices.Sorted(maps.Keys(seen))
}

// examine verifies files on all cores. Those that cannot be read as packages
// get their outcome here.
func examine(ctx context.Context, files []string, outcomes []Outcome, sink progress.Sink) ([]*candidate, error) {
	return examineAll(ctx, files, outcomes, sink, func(ctx context.Context, file string) (*candidate, error) {
		return examineOne(ctx, file, true)
	})
}

// examineQuickly reads what a package says of itself, and its digest, without
// unpacking it.
func examineQuickly(ctx context.Context, file string) (*candidate, error) {
	return examineOne(ctx, file, false)
}

func examineAll(ctx context.Context, files []string, outcomes []Outcome, sink progress.Sink, one func(context.Context, string) (*candidate, error)) ([]*candidate, error) {
	found := make([]*candidate, len(files))
	t := sink.Begin("read packages", int64(len(files)), "packages")
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, file := range files {
		g.Go(func() error {
			defer t.Advance(1)
			c, err := one(ctx, file)
			if err != nil {
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				reason := err.Error()
				var damaged *ell.DamagedError
				if errors.As(err, &damaged) {
					reason = damaged.Err.Error()
				}
				outcomes[i] = Outcome{File: file, State: Refused, Reason: reason}
				return nil
			}
			c.index = i
			found[i] = c
			return nil
		})
	}
	err := g.Wait()
	t.End("done")
	return slices.DeleteFunc(found, func(c *candidate) bool { return c == nil }), err
}

func examineOne(ctx context.Context, file string, whole bool) (*candidate, error) {
	p, err := ell.Open(file)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if whole {
		if err := p.Verify(ctx); err != nil {
			return nil, err
		}
	}
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	h := sha256.New()
	n, err := io.Copy(h, cancel.Reader(ctx, in))
	if err != nil {
		return nil, err
	}
	f := p.Facts
	c := &candidate{file: file, target: f.Target, record: index.RecordOf(f)}
	c.record.Bytes, c.record.SHA256 = n, hex.EncodeToString(h.Sum(nil))
	entries, err := p.Layout()
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.Type != staging.Directory {
			c.paths = append(c.paths, index.PathRecord{Path: e.Path, Package: f.Identity()})
		}
	}
	return c, nil
}

// addCandidates compares candidates with what is there, gives each its outcome, and
// adds those that are new.
func (e *edit) addCandidates(ctx context.Context, candidates []*candidate, outcomes []Outcome) error {
	for _, c := range candidates {
		if c.target != e.target {
			continue
		}
		o := &outcomes[c.index]
		*o = Outcome{File: c.file, Package: c.record.Identity(), State: Added}
		there, err := e.find(ctx, c.record.Name, c.record.Collides)
		if err != nil {
			return err
		}
		if there != nil {
			o.State = Already
			if there.SHA256 != c.record.SHA256 {
				o.State, o.Reason = Refused, differs(c.record, *there, "this channel")
			}
			continue
		}
		there, name, err := e.elsewhere(ctx, c.record)
		if err != nil {
			return err
		}
		if there != nil && there.SHA256 != c.record.SHA256 {
			o.State, o.Reason = Refused, differs(c.record, *there, "channel "+name)
			continue
		}
		if err := e.add(ctx, c.record, c.paths); err != nil {
			return err
		}
		e.files = append(e.files, c)
	}
	return nil
}

func differs(r, there index.Record, where string) string {
	return fmt.Sprintf("%s holds another file as %s (sha256 %.12s…, this one %.12s…): raise the release in the recipe and build again", where, r.Identity(), there.SHA256, r.SHA256)
}

// elsewhere looks for a package in the target's other channels: all channels
// share the package files.
func (e *edit) elsewhere(ctx context.Context, rec index.Record) (*index.Record, string, error) {
	for _, name := range slices.Sorted(maps.Keys(e.tx.pointer.Channels)) {
		digest := e.tx.pointer.Channels[name][e.target]
		if name == e.tx.channel || digest == "" {
			continue
		}
		s, err := e.tx.snapshot(ctx, digest)
		if err != nil {
			return nil, "", err
		}
		ref, ok := s.Listings[index.ListingOf(rec.Name)]
		if !ok {
			continue
		}
		records, err := e.tx.repo.Records(ctx, ref, index.Mentions(rec.Name))
		if err != nil {
			return nil, "", err
		}
		if i := slices.IndexFunc(records, rec.Collides); i >= 0 {
			return &records[i], name, nil
		}
	}
	return nil, "", nil
}

// storePackage copies a package file, and makes sure that what arrives is what
// was examined.
func (r *Repository) storePackage(ctx context.Context, c *candidate) error {
	in, err := os.Open(c.file)
	if err != nil {
		return err
	}
	defer in.Close()
	checked := &checkedReader{r: in, size: c.record.Bytes, want: c.record.SHA256, sum: sha256.New(), name: filepath.Base(c.file)}
	return r.Storage.Put(ctx, c.record.File, checked)
}

// DocumentSuffixes end the names of documents about packages, beside these.
var DocumentSuffixes = []string{".spdx.json", ".cdx.json", ".provenance.json"}

// storeDocuments stores the documents about a package. They come first: whoever finds the
// package finds them.
func (tx *transaction) storeDocuments(ctx context.Context, c *candidate) error {
	if tx.documents == nil {
		return nil
	}
	all, err := tx.documents(ctx, c.file, c.record.SHA256)
	if err != nil {
		return err
	}
	for _, suffix := range slices.Sorted(maps.Keys(all)) {
		if err := tx.repo.Storage.Put(ctx, c.record.File+suffix, bytes.NewReader(all[suffix])); err != nil {
			return err
		}
	}
	return nil
}

// packageOf is the package that a page or a document is about, by the names of their files;
// other names are returned as they are.
func packageOf(name string) string {
	if isPage(name) {
		return strings.TrimSuffix(name, ".html") + ell.Extension
	}
	for _, suffix := range DocumentSuffixes {
		if pkg, ok := strings.CutSuffix(name, ell.Extension+suffix); ok {
			return pkg + ell.Extension
		}
	}
	return name
}

// checkedReader fails at the end of a file whose digest is another one, so
// that the copy is never completed.
type checkedReader struct {
	r          io.Reader
	size       int64
	want, name string
	sum        interface {
		io.Writer
		Sum([]byte) []byte
	}
}

// Size is how much there is to read.
func (c *checkedReader) Size() int64 { return c.size }

func (c *checkedReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.sum.Write(p[:n])
	if errors.Is(err, io.EOF) && hex.EncodeToString(c.sum.Sum(nil)) != c.want {
		return n, fmt.Errorf("%s changed while it was published", c.name)
	}
	return n, err
}
