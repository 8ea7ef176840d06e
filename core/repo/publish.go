package repo

import (
	"bytes"
	"cmp"
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
	"time"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/canonical"
	"ellwand.example/core/layout"
	"ellwand.example/core/pack"
	"ellwand.example/core/progress"
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
	Already = "already there"
	Refused = "refused"
)

// Report is what came of a publish. Every file that was looked at is in it
// once.
type Report struct {
	Channel  string    `json:"channel"`
	Serial   int64     `json:"serial"` // of the repository afterwards
	Outcomes []Outcome `json:"outcomes"`
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
	record Record
	target string
	paths  []PathRecord
	index  int // of its outcome
}

// Publish adds package files to a channel in one atomic step. Each file is
// verified whole first; those that are damaged, or that another file of the
// same identity stands in the way of, are refused, and the others go in. The
// error is for the repository itself: after one, nothing has changed.
func (r *Repository) Publish(ctx context.Context, channelName string, files []string, sink progress.Sink) (Report, error) {
	report := Report{Channel: channelName, Outcomes: make([]Outcome, len(files))}
	if !channel.MatchString(channelName) {
		return report, fmt.Errorf("%q cannot be a channel's name: small letters, digits, . and -", channelName)
	}
	candidates, err := examine(ctx, files, report.Outcomes, sink)
	if err != nil {
		return report, err
	}
	if len(candidates) == 0 {
		return report, nil
	}
	unlock, err := r.Storage.Lock(ctx)
	if err != nil {
		return report, err
	}
	defer unlock()
	pointer, err := r.Pointer(ctx)
	var none *NotRepositoryError
	if errors.As(err, &none) {
		pointer, err = Pointer{Format: Format, Channels: map[string]map[string]string{}}, nil
	}
	if err != nil {
		return report, err
	}
	report.Serial = pointer.Serial
	now := time.Now().UTC().Truncate(time.Second)
	changed := false
	for _, target := range targetsOf(candidates) {
		t := &targetUpdate{repo: r, pointer: pointer, channel: channelName, target: target, shards: map[string][]Record{}}
		if err := t.open(ctx); err != nil {
			return report, err
		}
		added, err := t.judge(ctx, candidates, report.Outcomes)
		if err != nil {
			return report, err
		}
		if len(added) == 0 {
			continue
		}
		snapshot, err := t.write(ctx, added, now)
		if err != nil {
			return report, err
		}
		if pointer.Channels[channelName] == nil {
			pointer.Channels[channelName] = map[string]string{}
		}
		pointer.Channels[channelName][target] = snapshot
		changed = true
	}
	if !changed {
		return report, nil
	}
	pointer.Serial++
	pointer.Time = now
	data, err := canonical.Marshal(pointer)
	if err != nil {
		return report, err
	}
	if err := r.Storage.Replace(ctx, PointerFile, data); err != nil {
		return report, err
	}
	report.Serial = pointer.Serial
	return report, nil
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
	found := make([]*candidate, len(files))
	t := sink.Begin("verify packages", int64(len(files)), "packages")
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, file := range files {
		g.Go(func() error {
			defer t.Advance(1)
			c, err := examineOne(ctx, file)
			if err != nil {
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				reason := err.Error()
				var damaged *pack.DamagedError
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

func examineOne(ctx context.Context, file string) (*candidate, error) {
	p, err := pack.Open(file)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if err := p.Verify(ctx); err != nil {
		return nil, err
	}
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	h := sha256.New()
	n, err := io.Copy(h, in)
	if err != nil {
		return nil, err
	}
	f := p.Facts
	c := &candidate{file: file, target: f.Target, record: Record{
		Name: f.Name, Version: f.Version, Release: f.Release, Arch: f.Arch, Summary: f.Summary, License: f.License,
		Category: f.Category, Homepage: f.Homepage, Recipe: f.Recipe, Date: f.Date, Needs: f.Needs, Provides: f.Provides,
		Size: f.Size, Bytes: n, SHA256: hex.EncodeToString(h.Sum(nil)),
		File: "packages/" + f.Target + "/" + f.Name + "/" + f.FileName(),
	}}
	entries, err := p.Layout()
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.Type != layout.Directory {
			c.paths = append(c.paths, PathRecord{e.Path, f.Identity()})
		}
	}
	return c, nil
}

// targetUpdate is the change to one target's index.
type targetUpdate struct {
	repo            *Repository
	pointer         Pointer
	channel, target string
	parent          string
	old             Snapshot
	shards          map[string][]Record // those that were read
}

func (t *targetUpdate) open(ctx context.Context) (err error) {
	t.parent = t.pointer.Channels[t.channel][t.target]
	if t.parent != "" {
		t.old, err = t.repo.Snapshot(ctx, t.parent)
	}
	return err
}

// judge compares candidates with what is there, and gives each its outcome.
func (t *targetUpdate) judge(ctx context.Context, candidates []*candidate, outcomes []Outcome) ([]*candidate, error) {
	elsewhere, err := t.otherChannels(ctx)
	if err != nil {
		return nil, err
	}
	var added []*candidate
	for _, c := range candidates {
		if c.target != t.target {
			continue
		}
		o := &outcomes[c.index]
		*o = Outcome{File: c.file, Package: c.record.Identity(), State: Added}
		key := shardOf(c.record.Name)
		if _, read := t.shards[key]; !read {
			if ref, ok := t.old.Shards[key]; ok {
				if t.shards[key], err = t.repo.shard(nil)(ctx, ref); err != nil {
					return nil, err
				}
			}
		}
		same := func(r Record) bool { return r.Identity() == c.record.Identity() }
		if i := slices.IndexFunc(t.shards[key], same); i >= 0 {
			there := t.shards[key][i]
			if there.SHA256 == c.record.SHA256 {
				o.State = Already
				continue
			}
			o.State, o.Reason = Refused, differs(c.record, there, "this channel")
			continue
		}
		there, name, err := elsewhere(ctx, key, same)
		if err != nil {
			return nil, err
		}
		if there != nil && there.SHA256 != c.record.SHA256 {
			o.State, o.Reason = Refused, differs(c.record, *there, "channel "+name)
			continue
		}
		t.shards[key] = append(t.shards[key], c.record)
		added = append(added, c)
	}
	return added, nil
}

func differs(r, there Record, where string) string {
	return fmt.Sprintf("%s holds another file as %s (sha256 %.12s…, this one %.12s…): raise the release in the recipe and build again", where, r.Identity(), there.SHA256, r.SHA256)
}

// otherChannels returns a function that looks for a package in the target's
// other channels: all channels share the package files.
func (t *targetUpdate) otherChannels(ctx context.Context) (func(context.Context, string, func(Record) bool) (*Record, string, error), error) {
	snapshots := map[string]Snapshot{}
	for name, targets := range t.pointer.Channels {
		if name == t.channel || targets[t.target] == "" {
			continue
		}
		s, err := t.repo.Snapshot(ctx, targets[t.target])
		if err != nil {
			return nil, err
		}
		snapshots[name] = s
	}
	return func(ctx context.Context, key string, same func(Record) bool) (*Record, string, error) {
		for _, name := range slices.Sorted(maps.Keys(snapshots)) {
			ref, ok := snapshots[name].Shards[key]
			if !ok {
				continue
			}
			records, err := t.repo.shard(nil)(ctx, ref)
			if err != nil {
				return nil, "", err
			}
			if i := slices.IndexFunc(records, same); i >= 0 {
				return &records[i], name, nil
			}
		}
		return nil, "", nil
	}, nil
}

// write stores the package files, the shards that changed and the snapshot,
// and returns the snapshot's digest.
func (t *targetUpdate) write(ctx context.Context, added []*candidate, now time.Time) (string, error) {
	next := Snapshot{
		Format: Format, Target: t.target, Parent: t.parent, Time: now, Action: "publish",
		Packages: t.old.Packages + len(added), Bytes: t.old.Bytes, Shards: map[string]Ref{}, Files: map[string]Ref{},
	}
	maps.Copy(next.Shards, t.old.Shards)
	maps.Copy(next.Files, t.old.Files)
	paths := map[string][]PathRecord{}
	for _, c := range added {
		if err := t.storePackage(ctx, c); err != nil {
			return "", err
		}
		next.Bytes += c.record.Bytes
		key := shardOf(c.record.Name)
		paths[key] = append(paths[key], c.paths...)
	}
	for key, more := range paths {
		records := t.shards[key]
		slices.SortFunc(records, func(a, b Record) int { return cmp.Compare(a.Identity(), b.Identity()) })
		ref, err := putLines(ctx, t.repo, "shards/", records)
		if err != nil {
			return "", err
		}
		next.Shards[key] = ref
		if old, ok := t.old.Files[key]; ok {
			before, err := t.repo.files(nil)(ctx, old)
			if err != nil {
				return "", err
			}
			more = append(before, more...)
		}
		slices.SortFunc(more, func(a, b PathRecord) int {
			return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.Package, b.Package))
		})
		if next.Files[key], err = putLines(ctx, t.repo, "files/", more); err != nil {
			return "", err
		}
	}
	data, err := canonical.Marshal(next)
	if err != nil {
		return "", err
	}
	sum := digestOf(data)
	return sum, t.repo.Storage.Put(ctx, "snapshots/"+sum+".json", bytes.NewReader(data))
}

func putLines[T any](ctx context.Context, r *Repository, dir string, items []T) (Ref, error) {
	data, err := encodeLines(items)
	if err != nil {
		return Ref{}, err
	}
	ref := Ref{digestOf(data), len(items)}
	return ref, r.Storage.Put(ctx, dir+ref.SHA256+".jsonl.zst", bytes.NewReader(data))
}

// storePackage copies a package file, and makes sure that what arrives is what
// was examined.
func (t *targetUpdate) storePackage(ctx context.Context, c *candidate) error {
	in, err := os.Open(c.file)
	if err != nil {
		return err
	}
	defer in.Close()
	checked := &checkedReader{r: in, want: c.record.SHA256, sum: sha256.New(), name: filepath.Base(c.file)}
	return t.repo.Storage.Put(ctx, c.record.File, checked)
}

// checkedReader fails at the end of a file whose digest is another one, so
// that the copy is never completed.
type checkedReader struct {
	r          io.Reader
	want, name string
	sum        interface {
		io.Writer
		Sum([]byte) []byte
	}
}

func (c *checkedReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.sum.Write(p[:n])
	if errors.Is(err, io.EOF) && hex.EncodeToString(c.sum.Sum(nil)) != c.want {
		return n, fmt.Errorf("%s changed while it was published", c.name)
	}
	return n, err
}
