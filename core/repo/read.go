// Package repo keeps repositories: directories of packages with an index over
// them, made of static files that any web server or bucket can hold.
//
//	repository.json        the only file that changes
//	snapshots/SHA256.json  immutable: one state of one target's index
//	listings/SHA256.jsonl.zst  immutable: the packages whose names fall in one listing
//	files/SHA256.jsonl.zst   immutable: the paths in those packages
//	packages/TARGET/NAME/    the .ell files
//
// A publish adds immutable files and then replaces repository.json by rename.
// Readers need no lock: whatever they have read of the index stays whole.
// docs/repository-format.md is the specification.
package repo

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/fact"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// Repository is a repository to read from and publish to.
type Repository struct {
	Storage storage.Storage
	// Cache is a directory for what can be made again from the repository; empty
	// for none.
	Cache string
	// Pages writes the pages to browse it by; nil for none.
	Pages Renderer
	// Offline is set when a server did not answer, and what was read is the
	// state of the last sync.
	Offline bool

	serial     atomic.Int64 // of the pointer that was last read
	prefetched prefetched
}

// Open returns the repository in a directory, which need not exist yet.
func Open(dir string) *Repository { return &Repository{Storage: storage.NewDirectory(dir)} }

// read reads a whole file of bounded size.
func (r *Repository) read(ctx context.Context, name string, limit int64) ([]byte, error) {
	f, err := r.Storage.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var b bytes.Buffer
	if local, ok := f.(fs.File); ok {
		if info, err := local.Stat(); err == nil && info.Size() <= limit {
			b.Grow(int(info.Size()) + bytes.MinRead)
		}
	}
	if _, err := b.ReadFrom(io.LimitReader(f, limit+1)); err != nil {
		return nil, err
	}
	if int64(b.Len()) > limit {
		return nil, &index.DamagedError{Name: name, Err: fmt.Errorf("it is larger than %d bytes", limit)}
	}
	return b.Bytes(), nil
}

// Pointer reads repository.json. The error is a *NotRepositoryError where
// there is none.
func (r *Repository) Pointer(ctx context.Context) (index.Pointer, error) {
	p, _, err := r.current(ctx)
	var unreachable *storage.UnreachableError
	if errors.As(err, &unreachable) && r.copied() {
		if p, err := r.offline(); err == nil {
			r.Offline = true
			return p, nil
		}
	}
	return p, err
}

// current reads repository.json with its mark.
func (r *Repository) current(ctx context.Context) (index.Pointer, string, error) {
	data, mark, err := r.Storage.Current(ctx, storage.PointerFile)
	if errors.Is(err, fs.ErrNotExist) {
		return index.Pointer{}, "", &storage.NotRepositoryError{Dir: r.Storage.Where()}
	}
	if err != nil {
		return index.Pointer{}, "", err
	}
	p, err := index.ParsePointer(data)
	if err == nil && r.copied() {
		err = r.newer(p, data)
	}
	if err == nil {
		r.serial.Store(p.Serial)
	}
	return p, mark, err
}

// content reads an immutable file and checks its digest. What comes from a
// server is kept.
func (r *Repository) content(ctx context.Context, name, want string) ([]byte, error) {
	if r.copied() {
		if data, err := os.ReadFile(r.copyFile(name)); err == nil && fact.SHA256(data) == want {
			return data, nil
		}
	}
	limit := int64(index.MaxStored)
	if strings.HasSuffix(name, ".json") {
		limit = index.MaxSnapshot
	}
	data, err := r.read(ctx, name, limit)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, r.missing(name)
	}
	if err != nil {
		return nil, err
	}
	if found := fact.SHA256(data); found != want {
		return nil, &index.DamagedError{Name: name, Err: fmt.Errorf("its SHA-256 is %s", found)}
	}
	if r.copied() {
		return data, r.keepCopy(name, data)
	}
	return data, nil
}

// Snapshot reads a snapshot by its digest.
func (r *Repository) Snapshot(ctx context.Context, sha256 string) (index.Snapshot, error) {
	var s index.Snapshot
	if !fact.IsSHA256(sha256) {
		return s, &index.DamagedError{Name: storage.PointerFile, Err: fmt.Errorf("%q is not a digest", sha256)}
	}
	name := "snapshots/" + sha256 + ".json"
	data, err := r.content(ctx, name, sha256)
	if err != nil {
		return s, err
	}
	if s, err = index.ParseSnapshot(data); err != nil {
		return s, &index.DamagedError{Name: name, Err: err}
	}
	return s, nil
}

// Contents are the packages that a channel offers for one target.
type Contents struct {
	Channel string         `json:"channel"`
	Target  string         `json:"target"`
	Serial  int64          `json:"serial"`
	Records []index.Record `json:"packages"` // by name, newest first
}

// ChannelError is a channel that a repository does not have.
type ChannelError struct {
	Channel string
	Known   []string
}

func (e *ChannelError) Error() string {
	return fmt.Sprintf("there is no channel %q in this repository; it has %s", e.Channel, strings.Join(e.Known, ", "))
}

// targets returns a channel's targets with their snapshots.
func (r *Repository) targets(ctx context.Context, channel string) (index.Pointer, map[string]string, error) {
	p, err := r.Pointer(ctx)
	if err != nil {
		return p, nil, err
	}
	targets, ok := p.Channels[channel]
	if !ok {
		return p, nil, &ChannelError{channel, slices.Sorted(maps.Keys(p.Channels))}
	}
	return p, targets, nil
}

// List reads all packages of a channel, for each of its targets.
func (r *Repository) List(ctx context.Context, channel string) (out []Contents, err error) {
	err = r.retryIfPruned(ctx, func() error {
		out, err = r.list(ctx, channel, nil)
		return err
	})
	return out, err
}

// Count counts the packages of a channel, without reading them.
func (r *Repository) Count(ctx context.Context, channel string) (n int, err error) {
	_, targets, err := r.targets(ctx, channel)
	if err != nil {
		return 0, err
	}
	for _, digest := range targets {
		s, err := r.Snapshot(ctx, digest)
		if err != nil {
			return 0, err
		}
		n += s.Packages
	}
	return n, nil
}

// list reads those packages of a channel that a picker for their target picks.
func (r *Repository) list(ctx context.Context, channel string, pick func(target string) index.Picker) ([]Contents, error) {
	p, targets, err := r.targets(ctx, channel)
	if err != nil {
		return nil, err
	}
	var out []Contents
	for _, target := range slices.Sorted(maps.Keys(targets)) {
		var picked index.Picker
		if pick != nil {
			picked = pick(target)
		}
		_, records, err := r.records(ctx, targets[target], picked)
		if err != nil {
			return nil, err
		}
		out = append(out, Contents{channel, target, p.Serial, records})
	}
	return out, nil
}

// records reads all packages of a snapshot, sorted by name, the newest first.
func (r *Repository) records(ctx context.Context, sha256 string, pick index.Picker) (index.Snapshot, []index.Record, error) {
	s, err := r.Snapshot(ctx, sha256)
	if err != nil {
		return s, nil, err
	}
	records, err := eachListing(ctx, s.Listings, pick, r.Records)
	slices.SortFunc(records, func(a, b index.Record) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), b.Full().Compare(a.Full()), cmp.Compare(a.Arch, b.Arch))
	})
	return s, records, err
}

// Named reads the packages of one name in a channel for a target, the newest
// first: no more of the index than the listing that they are in.
func (r *Repository) Named(ctx context.Context, channel, target, name string) (records []index.Record, err error) {
	err = r.retryIfPruned(ctx, func() error {
		_, targets, err := r.targets(ctx, channel)
		if err != nil || targets[target] == "" {
			return err
		}
		s, err := r.Snapshot(ctx, targets[target])
		if err != nil {
			return err
		}
		ref, ok := s.Listings[index.ListingOf(name)]
		if !ok {
			return nil
		}
		found, err := r.Records(ctx, ref, index.Mentions(strconv.Quote(name)))
		records = slices.DeleteFunc(found, func(r index.Record) bool { return r.Name != name })
		slices.SortFunc(records, func(a, b index.Record) int { return b.Full().Compare(a.Full()) })
		return err
	})
	return records, err
}

// State is what a repository held at some time, for each of its targets.
type State struct {
	Snapshots map[string]string         // target → SHA-256
	Time      time.Time                 // of the newest of them
	Serial    int64                     // of the newest of them
	Records   map[string][]index.Record // target → packages
}

// At reads a state: that of a channel, the one that a channel had at a serial, or
// that of the snapshot whose digest begins with word. The error is a *ChannelError if
// there is none.
func (r *Repository) At(ctx context.Context, word string) (s State, err error) {
	err = r.retryIfPruned(ctx, func() error {
		s, err = r.at(ctx, word)
		return err
	})
	return s, err
}

func (r *Repository) at(ctx context.Context, word string) (State, error) {
	p, err := r.Pointer(ctx)
	if err != nil {
		return State{}, err
	}
	if targets, ok := p.Channels[word]; ok {
		return r.state(ctx, targets)
	}
	if serial, err := strconv.ParseInt(word, 10, 64); err == nil && len(word) < shortest {
		targets, err := r.atSerial(ctx, p, serial)
		if err != nil {
			return State{}, err
		}
		if targets != nil {
			return r.state(ctx, targets)
		}
	}
	if target, sha256, err := r.find(ctx, p, word); err != nil || sha256 != "" {
		if err != nil {
			return State{}, err
		}
		return r.state(ctx, map[string]string{target: sha256})
	}
	return State{}, &ChannelError{word, slices.Sorted(maps.Keys(p.Channels))}
}

// atSerial returns the snapshots of the channel that the change with a serial was
// made to, as they were then; nil if no retained change has it.
func (r *Repository) atSerial(ctx context.Context, p index.Pointer, serial int64) (map[string]string, error) {
	for _, targets := range p.Channels {
		chains, err := r.chains(ctx, p, targets)
		if err != nil {
			return nil, err
		}
		changed := false
		then := map[string]string{}
		for target, chain := range chains {
			for _, s := range chain { // the newest first
				changed = changed || s.Serial == serial
				if s.Serial <= serial && then[target] == "" {
					then[target] = s.digest
				}
			}
		}
		if changed {
			return then, nil
		}
	}
	return nil, nil
}

// Before reads the state that a channel was in before its last change; a
// target that was not there then is left out.
func (r *Repository) Before(ctx context.Context, channel string) (State, error) {
	p, targets, err := r.targets(ctx, channel)
	if err != nil {
		return State{}, err
	}
	var last int64
	parents := map[string]index.Snapshot{}
	for target, sha256 := range targets {
		s, err := r.Snapshot(ctx, sha256)
		if err != nil {
			return State{}, err
		}
		parents[target] = s
		last = max(last, s.Serial)
	}
	// Targets that the last change did not touch are as they were.
	before := map[string]string{}
	for target, s := range parents {
		switch {
		case s.Serial != last:
			before[target] = targets[target]
		case s.Parent != "" && !slices.Contains(p.Pruned, s.Parent):
			before[target] = s.Parent
		}
	}
	return r.state(ctx, before)
}

func (r *Repository) state(ctx context.Context, snapshots map[string]string) (State, error) {
	state := State{Snapshots: snapshots, Records: map[string][]index.Record{}}
	for target, sha256 := range snapshots {
		s, records, err := r.records(ctx, sha256, nil)
		if err != nil {
			return state, err
		}
		state.Records[target] = records
		if s.Time.After(state.Time) {
			state.Time = s.Time
		}
		state.Serial = max(state.Serial, s.Serial)
	}
	return state, nil
}

// shortest is the least of a digest that names a snapshot.
const shortest = 6

// find looks for a snapshot by the start of its digest, in the past of all
// channels.
func (r *Repository) find(ctx context.Context, p index.Pointer, start string) (target, sha256 string, err error) {
	if len(start) < shortest {
		return "", "", nil
	}
	seen := map[string]bool{}
	for _, targets := range p.Channels {
		for target, at := range targets {
			for at != "" && !seen[at] {
				if strings.HasPrefix(at, start) {
					return target, at, nil
				}
				seen[at] = true
				if slices.Contains(p.Pruned, at) {
					break
				}
				s, err := r.Snapshot(ctx, at)
				if err != nil {
					return "", "", err
				}
				at = s.Parent
			}
		}
	}
	return "", "", nil
}

// maxReaders is how many listings are read at once: each may take as much memory
// as maxListing says.
const maxReaders = 4

// eachListing reads listings on all cores and joins what they hold.
func eachListing[T any](ctx context.Context, refs map[string]index.Ref, pick index.Picker, read func(context.Context, index.Ref, index.Picker) ([]T, error)) ([]T, error) {
	keys := slices.Sorted(maps.Keys(refs))
	parts := make([][]T, len(keys))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(min(runtime.GOMAXPROCS(0), maxReaders))
	for i, key := range keys {
		g.Go(func() (err error) {
			parts[i], err = read(ctx, refs[key], pick)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return slices.Concat(parts...), nil
}
