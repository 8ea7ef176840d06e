package repo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/cancel"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
)

// Damage is a file of a repository that is not what it should be.
type Damage struct {
	Name   string `json:"name"`
	Reason string `json:"reason"`
}

// Missing is the reason of a file that is not there.
const Missing = "it is missing"

// Verification is what came of reading a repository whole.
type Verification struct {
	Snapshots int      `json:"snapshots"`
	Listings  int      `json:"listings"` // with those of paths
	Packages  int      `json:"packages"`
	Bytes     int64    `json:"bytes"` // of the package files
	Damaged   []Damage `json:"damaged"`
	// Unnamed are files that no kept snapshot names, such as an interrupted
	// publish leaves; they do no harm.
	Unnamed []string `json:"unnamed"`
}

// Findings returns the damage and the unused files as findings.
func (v Verification) Findings() []fact.Finding {
	var out []fact.Finding
	for _, d := range v.Damaged {
		code := DamagedIndex
		switch {
		case strings.HasPrefix(d.Name, "packages/") && d.Reason == Missing:
			code = MissingPackage
		case strings.HasPrefix(d.Name, "packages/"):
			code = DamagedPackage
		}
		out = append(out, fact.Finding{Code: code, Severity: fact.SeverityError, Path: d.Name, Message: d.Reason})
	}
	for _, name := range v.Unnamed {
		out = append(out, fact.Finding{Code: UnusedFile, Severity: fact.SeverityHint, Path: name, Message: "no retained snapshot refers to it"})
	}
	return out
}

// closure is everything that the retained snapshots of a repository name: file → digest.
type closure struct {
	snapshots, listings map[string]string
	packages            map[string]Record
	damaged             []Damage
}

// closureOf follows the snapshots from the channels' own to the oldest that are
// retained. Damage is recorded and skipped.
func (r *Repository) closureOf(ctx context.Context, starts []string, pruned []string) (*closure, error) {
	out := &closure{map[string]string{}, map[string]string{}, map[string]Record{}, nil}
	note := func(err error) error {
		var half *HalfCopiedError
		if errors.As(err, &half) {
			out.damaged = append(out.damaged, Damage{half.Name, Missing})
			return nil
		}
		var damaged *DamagedError
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
				records, err := r.listing(nil)(ctx, ref)
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

// heads are the snapshots that the channels are at.
func (p Pointer) heads() []string {
	seen := map[string]bool{}
	for _, targets := range p.Channels {
		for _, digest := range targets {
			seen[digest] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// immutable are the directories of files that never change.
var immutable = []string{"snapshots/", "listings/", "files/", "packages/"}

// Verify reads every file that a kept snapshot names, and compares each with
// its digest.
func (r *Repository) Verify(ctx context.Context, sink progress.Sink) (Verification, error) {
	v := Verification{Damaged: []Damage{}, Unnamed: []string{}}
	p, err := r.Pointer(ctx)
	if err != nil {
		return v, err
	}
	all, err := r.closureOf(ctx, p.heads(), p.Pruned)
	if err != nil {
		return v, err
	}
	v.Snapshots, v.Listings, v.Packages = len(all.snapshots), len(all.listings), len(all.packages)
	named := map[string]bool{}
	for _, damage := range all.damaged {
		named[damage.Name] = true
	}
	v.Damaged = append(v.Damaged, all.damaged...)
	var mu sync.Mutex
	t := sink.Begin("verify", int64(len(all.snapshots)+len(all.listings)+len(all.packages)), "files")
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	check := func(name, want string, size int64) {
		g.Go(func() error {
			defer t.Advance(1)
			reason, n, err := r.checkFile(gctx, name, want, size)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			v.Bytes += n
			if reason != "" && !named[name] {
				v.Damaged = append(v.Damaged, Damage{name, reason})
			}
			return nil
		})
	}
	for name, digest := range all.snapshots {
		check(name, digest, -1)
	}
	for name, digest := range all.listings {
		check(name, digest, -1)
	}
	for name, rec := range all.packages {
		check(name, rec.SHA256, rec.Bytes)
	}
	err = g.Wait()
	t.End("done")
	if err != nil {
		return v, err
	}
	for _, dir := range immutable {
		err := r.Storage.List(ctx, dir, func(s Stored) error {
			_, snapshot := all.snapshots[s.Name]
			_, listing := all.listings[s.Name]
			_, pkg := all.packages[s.Name]
			if !snapshot && !listing && !pkg && !isPage(s.Name) {
				v.Unnamed = append(v.Unnamed, s.Name)
			}
			return nil
		})
		if err != nil {
			return v, err
		}
	}
	slices.SortFunc(v.Damaged, func(a, b Damage) int { return strings.Compare(a.Name, b.Name) })
	slices.Sort(v.Unnamed)
	return v, nil
}

// isPage tells the pages for people from the files of the index.
func isPage(name string) bool { return path.Ext(name) == ".html" }

// checkFile compares a file with its digest; size is -1 where it is not known.
// It returns how many bytes of a package it read.
func (r *Repository) checkFile(ctx context.Context, name, want string, size int64) (reason string, n int64, err error) {
	f, err := r.Storage.Open(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return Missing, 0, nil
	}
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h := sha256.New()
	n, err = io.Copy(h, cancel.Reader(ctx, f))
	switch found := hex.EncodeToString(h.Sum(nil)); {
	case ctx.Err() != nil:
		return "", 0, context.Cause(ctx)
	case err != nil:
		return err.Error(), 0, nil
	case size >= 0 && n != size:
		return fmt.Sprintf("it has %d bytes, and the index says %d", n, size), n, nil
	case found != want:
		return "its SHA-256 is " + found, n, nil
	}
	if size < 0 {
		n = 0
	}
	return "", n, nil
}

// Keep says which snapshots a prune leaves.
type Keep struct {
	States int           // of each channel and target, at least this many; the newest counts
	Time   time.Duration // and all that a channel was at within this time
}

// Pruned is what a prune took away, or would.
type Pruned struct {
	Kept      int      `json:"kept"`      // snapshots
	Snapshots int      `json:"snapshots"` // taken away
	Listings  int      `json:"listings"`
	Packages  []string `json:"packages"` // package files
	Others    int      `json:"others"`   // files that nothing named
	Bytes     int64    `json:"bytes"`
	Serial    int64    `json:"serial"` // of the repository afterwards
}

// graceTime is how old a file must be that nothing names, before it is taken
// away from a storage that cannot keep publishers out: one may be about to
// name it.
const graceTime = time.Hour

// Prune takes away old snapshots, and all files that no kept one names. With
// dry set it only tells. Readers that are at a kept snapshot notice nothing.
func (r *Repository) Prune(ctx context.Context, keep Keep, dry bool, sink progress.Sink) (Pruned, error) {
	out := Pruned{Packages: []string{}}
	if keep.States < 1 {
		return out, errors.New("at least one state of each channel is kept")
	}
	if _, err := r.Pointer(ctx); err != nil {
		return out, err // a lock would make a directory for what is not there
	}
	unlock, err := r.Storage.Lock(ctx)
	if err != nil {
		return out, err
	}
	defer unlock()
	p, mark, err := r.current(ctx)
	if err != nil {
		return out, err
	}
	out.Serial = p.Serial
	kept, cut, err := r.toKeep(ctx, p, keep)
	if err != nil {
		return out, err
	}
	all, err := r.closureOf(ctx, p.heads(), cut)
	if err != nil {
		return out, err
	}
	if len(all.damaged) > 0 {
		return out, fact.Errorf(fact.StatusInput, "%s is damaged (%s), so the files that it refers to are unknown; nothing was pruned", all.damaged[0].Name, all.damaged[0].Reason).Try(fact.Verify, r.Storage.Where(), "")
	}
	out.Kept = kept
	// What goes is no longer named first; a prune that breaks off in between
	// leaves files that the next one takes.
	if !dry && !slices.Equal(cut, p.Pruned) {
		p.Pruned = cut
		p.Serial++
		p.Time = time.Now().UTC().Truncate(time.Second)
		if err := r.replace(ctx, p, mark); err != nil {
			return out, err
		}
		out.Serial = p.Serial
	}
	t := sink.Begin("prune", 0, "")
	defer t.End("done")
	_, local := r.Storage.LocalPath()
	for _, dir := range immutable {
		var gone []Stored
		err := r.Storage.List(ctx, dir, func(s Stored) error {
			base := s.Name
			if isPage(base) {
				base = strings.TrimSuffix(base, ".html") + ell.Extension
			}
			_, snapshot := all.snapshots[s.Name]
			_, listing := all.listings[s.Name]
			_, pkg := all.packages[base]
			if !snapshot && !listing && !pkg && (local || time.Since(s.Modified) > graceTime) {
				gone = append(gone, s)
			}
			return nil
		})
		if err != nil {
			return out, err
		}
		for _, s := range gone {
			out.Bytes += s.Size
			switch {
			case dir == "snapshots/":
				out.Snapshots++
			case strings.HasSuffix(s.Name, ell.Extension):
				out.Packages = append(out.Packages, s.Name)
			case dir == "packages/":
				out.Others++
			default:
				out.Listings++
			}
			if dry {
				continue
			}
			if err := r.Storage.Remove(ctx, s.Name); err != nil {
				return out, err
			}
		}
	}
	slices.Sort(out.Packages)
	return out, nil
}

// toKeep counts the snapshots to keep, and lists the first ones to go: those
// that a kept one has as its parent.
func (r *Repository) toKeep(ctx context.Context, p Pointer, keep Keep) (kept int, cut []string, err error) {
	chosen := map[string]bool{}
	parents := map[string]bool{}
	since := time.Now().Add(-keep.Time)
	for _, channel := range slices.Sorted(maps.Keys(p.Channels)) {
		chains, err := r.chains(ctx, p, p.Channels[channel])
		if err != nil {
			return 0, nil, err
		}
		for _, chain := range chains {
			for i, s := range chain {
				// The time at which a state ended is that of the next one.
				if i >= keep.States && chain[i-1].Time.Before(since) {
					break
				}
				chosen[s.digest] = true
				parents[s.Parent] = true
			}
		}
	}
	for parent := range parents {
		if parent != "" && !chosen[parent] {
			cut = append(cut, parent)
		}
	}
	slices.Sort(cut)
	return len(chosen), cut, nil
}
