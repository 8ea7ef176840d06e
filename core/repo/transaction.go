package repo

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// Actions that make a snapshot.
const (
	ActionPublish = "publish"
	ActionRetire  = "retire"
	ActionPromote = "promote"
	ActionRewind  = "rewind"
	ActionIndex   = "index"
)

// ChangeOptions are on what o a channel is changed.
type ChangeOptions struct {
	// System returns, for a target, what reports whether the system below its
	// packages meets a need; nil if that system is not known. System itself may
	// be nil.
	System func(target string) func(solve.Need) bool
	// Allow are findings of the gate that are accepted. One that matches none is
	// an error.
	Allow []index.Exception
	// Passed are findings that were accepted before, when the packages were checked;
	// the history keeps them with the others.
	Passed []index.Exception
	// Documents, if set, makes documents about a package that is added, by what follows the
	// name of its file, such as ".spdx.json". They are stored beside it.
	Documents func(ctx context.Context, file, sha256 string) (map[string][]byte, error)
}

// Change is what became of a channel.
type Change struct {
	Channel string         `json:"channel"`
	Action  string         `json:"action"`
	Serial  int64          `json:"serial"` // of the repository afterwards
	Time    time.Time      `json:"time"`
	Targets []TargetChange `json:"targets"` // those that changed
}

// TargetChange is what became of one target of a channel.
type TargetChange struct {
	Target   string            `json:"target"`
	Snapshot string            `json:"snapshot"`
	Added    []string          `json:"added"`   // identities
	Removed  []string          `json:"removed"` // identities
	Allowed  []index.Exception `json:"allowed,omitempty"`
	// Assumed are needs that no package meets, and that are taken to be met by
	// a system that is not known here.
	Assumed int `json:"assumed,omitempty"`
}

// ErrNothing says that a change would change nothing.
var ErrNothing = errors.New("nothing would change")

func checkChannel(name string) error {
	if !index.ChannelName.MatchString(name) {
		return fmt.Errorf("%q cannot be a channel's name: small letters, digits, . and -", name)
	}
	return nil
}

// transaction is a change to one channel, from one state of the repository to
// the next.
type transaction struct {
	repo      *Repository
	pointer   index.Pointer
	channel   string
	action    string
	now       time.Time
	edits     []*edit
	snapshots map[string]index.Snapshot
	documents func(ctx context.Context, file, sha256 string) (map[string][]byte, error)
}

// attempts is how often a change is tried again where others publish at the
// same moment to a storage that cannot keep them out.
const attempts = 30

// change lets a function edit a channel, has the gate check the result,
// and puts it in place: first new files under names of their own, and then the
// pointer.
func (r *Repository) change(ctx context.Context, channel, action string, o ChangeOptions, sink progress.Sink, apply func(context.Context, *transaction) error) (Change, error) {
	if err := checkChannel(channel); err != nil {
		return Change{}, err
	}
	if action != ActionPublish && action != ActionIndex {
		// Only these begin a repository; a lock would make a directory for it.
		if _, err := r.Pointer(ctx); err != nil {
			return Change{}, err
		}
	}
	unlock, err := r.Storage.Lock(ctx)
	if err != nil {
		return Change{}, err
	}
	defer unlock()
	for attempt := 1; ; attempt++ {
		change, err := r.attempt(ctx, channel, action, o, sink, apply)
		if !errors.Is(err, storage.ErrChanged) || attempt == attempts {
			return change, err
		}
		wait := time.Duration(rand.Int64N(int64(attempt) * int64(50*time.Millisecond)))
		select {
		case <-ctx.Done():
			return change, context.Cause(ctx)
		case <-time.After(wait):
		}
	}
}

func (r *Repository) attempt(ctx context.Context, channel, action string, o ChangeOptions, sink progress.Sink, apply func(context.Context, *transaction) error) (Change, error) {
	pointer, mark, err := r.current(ctx)
	var none *storage.NotRepositoryError
	if errors.As(err, &none) {
		pointer, err = index.Pointer{Format: index.Format, Channels: map[string]map[string]string{}}, nil
	}
	tx := &transaction{repo: r, pointer: pointer, channel: channel, action: action, now: time.Now().UTC().Truncate(time.Second), snapshots: map[string]index.Snapshot{}, documents: o.Documents}
	change := Change{Channel: channel, Action: action, Serial: pointer.Serial, Targets: []TargetChange{}}
	if err != nil {
		return change, err
	}
	defer func() {
		for _, e := range tx.edits {
			e.tables()
		}
	}()
	if err := apply(ctx, tx); err != nil {
		return change, err
	}
	for _, e := range tx.edits {
		e.added, e.removed = difference(e.before, e.after)
	}
	edits := slices.DeleteFunc(slices.Clone(tx.edits), func(e *edit) bool { return len(e.added)+len(e.removed) == 0 })
	if len(edits) == 0 {
		return change, nil
	}
	verdicts, err := tx.review(ctx, edits, o, sink)
	if err != nil {
		return change, err
	}
	if pointer.Channels[channel] == nil {
		pointer.Channels[channel] = map[string]string{}
	}
	t := sink.Begin("write packages and index", int64(tx.stored()), "packages")
	for i, e := range edits {
		digest, err := e.write(ctx, verdicts[i], t)
		if err != nil {
			t.End("failed")
			return change, err
		}
		pointer.Channels[channel][e.target] = digest
		change.Targets = append(change.Targets, TargetChange{e.target, digest, identitiesOf(e.added), identitiesOf(e.removed), verdicts[i].allowed, verdicts[i].assumed})
	}
	t.End("done")
	pointer.Serial++
	pointer.Time = tx.now
	if err := r.replace(ctx, pointer, mark); err != nil {
		return change, err
	}
	change.Serial, change.Time = pointer.Serial, tx.now
	var tables sync.WaitGroup
	tables.Go(func() {
		for _, e := range edits {
			e.remember()
		}
	})
	err = tx.pages(ctx, edits, change)
	tables.Wait()
	if err != nil {
		return change, &PagesError{err}
	}
	return change, nil
}

func (r *Repository) replace(ctx context.Context, p index.Pointer, mark string) error {
	data, err := canonical.Marshal(p)
	if err != nil {
		return err
	}
	return r.Storage.Replace(ctx, storage.PointerFile, data, mark)
}

func (tx *transaction) stored() (n int) {
	for _, e := range tx.edits {
		n += len(e.files)
	}
	return n
}

// snapshot reads a snapshot once.
func (tx *transaction) snapshot(ctx context.Context, digest string) (index.Snapshot, error) {
	if s, ok := tx.snapshots[digest]; ok {
		return s, nil
	}
	s, known := tx.repo.prefetched.snapshots.take(digest)
	var err error
	if !known {
		s, err = tx.repo.Snapshot(ctx, digest)
	}
	if err == nil {
		tx.snapshots[digest] = s
	}
	return s, err
}

// edit is the change to one target of a channel.
type edit struct {
	tx     *transaction
	target string
	parent string // the snapshot before; empty for none
	old    index.Snapshot
	// adopted is another state whose packages the channel is to have; nil if
	// single listings are edited.
	adopted     *index.Snapshot
	adoptedFrom string

	before, after  map[string]*index.Listing          // the listings that differ or are edited, by their parts
	stored         map[string]*index.StoredListing    // those that are edited, as they were
	files          []*candidate                       // package files that are new to the channel
	tables         func() map[string]index.KnownTable // waits for those that the cache has of the state to come
	added, removed []index.Record                     // by identity, once the editing is over
	written        index.Snapshot                     // the result
}

// edit begins the change to a target.
func (tx *transaction) edit(ctx context.Context, target string) (*edit, error) {
	e := &edit{tx: tx, target: target, parent: tx.pointer.Channels[tx.channel][target], before: map[string]*index.Listing{}, after: map[string]*index.Listing{}, stored: map[string]*index.StoredListing{}}
	tx.edits = append(tx.edits, e)
	var err error
	if e.parent != "" {
		e.old, err = tx.snapshot(ctx, e.parent)
	}
	e.mapTables(e.parent, e.old)
	return e, err
}

// mapTables begins to map the tables that the gate looks into, while listings are
// read.
func (e *edit) mapTables(digest string, s index.Snapshot) {
	if e.tables != nil {
		e.tables() // those of the state before, which is not edited after all
	}
	e.tables = sync.OnceValue(func() map[string]index.KnownTable {
		if tables, ok := e.tx.repo.prefetched.tables.take(digest); ok {
			return tables
		}
		return e.tx.repo.tableCache().Load(e.tx.channel, s)
	})
	go e.tables()
}

// open reads the part of a listing that a name is in, to edit it.
func (e *edit) open(ctx context.Context, name string) (*index.Listing, error) {
	key := index.ListingOf(name)
	if e.after[key] == nil {
		var err error
		st, ok := e.tx.repo.prefetched.listings.take(listingKey(e.old, key))
		if !ok {
			if st, err = e.tx.repo.stored(ctx, e.old, key); err != nil {
				return nil, err
			}
		}
		parts := make([]bool, len(st.Records))
		e.stored[key], e.before[key], e.after[key] = st, &index.Listing{Parts: parts}, &index.Listing{Parts: parts}
	}
	c := e.after[key]
	if _, part := index.PlaceOf(name, len(c.Parts)); !c.Parts[part] {
		if err := e.openPart(key, part); err != nil {
			return nil, err
		}
		// One of which most is edited is best had whole.
		opened := 0
		for _, there := range c.Parts {
			if there {
				opened++
			}
		}
		if 2*opened > len(c.Parts) {
			return c, e.openAll(key)
		}
	}
	return c, nil
}

func (e *edit) openPart(key string, part int) error {
	opened, err := e.stored[key].Part(part)
	if err != nil {
		return err
	}
	for _, c := range []*index.Listing{e.before[key], e.after[key]} {
		c.Records, c.Paths = append(c.Records, opened.Records...), append(c.Paths, opened.Paths...)
		c.Parts[part], c.Sorted = true, false
	}
	return nil
}

// openAll reads what is not yet read of a listing that is edited.
func (e *edit) openAll(key string) error {
	for part, opened := range e.after[key].Parts {
		if opened {
			continue
		}
		if err := e.openPart(key, part); err != nil {
			return err
		}
	}
	return nil
}

// find looks for a package of a name.
func (e *edit) find(ctx context.Context, name string, same func(index.Record) bool) (*index.Record, error) {
	c, err := e.open(ctx, name)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(c.Records, same); i >= 0 {
		return &c.Records[i], nil
	}
	return nil, nil
}

func (e *edit) add(ctx context.Context, r index.Record, paths []index.PathRecord) error {
	c, err := e.open(ctx, r.Name)
	if err == nil {
		c.Records, c.Paths = append(c.Records, r), append(c.Paths, paths...)
		c.Sorted = false
	}
	return err
}

func (e *edit) remove(ctx context.Context, r index.Record) error {
	c, err := e.open(ctx, r.Name)
	if err == nil {
		identity := r.Identity()
		c.Records = slices.DeleteFunc(c.Records, func(o index.Record) bool { return o.Identity() == identity })
		c.Paths = slices.DeleteFunc(c.Paths, func(p index.PathRecord) bool { return p.Package == identity })
	}
	return err
}

// adopt gives the channel the packages of another snapshot.
func (e *edit) adopt(ctx context.Context, digest string) error {
	s, err := e.tx.snapshot(ctx, digest)
	if err != nil {
		return err
	}
	e.adopted, e.adoptedFrom = &s, digest
	e.mapTables(digest, s)
	for key := range union(e.old.Listings, s.Listings) {
		if e.old.Listings[key] == s.Listings[key] {
			continue
		}
		if e.before[key], err = e.tx.repo.Listing(ctx, e.old, key); err != nil {
			return err
		}
		if e.after[key], err = e.tx.repo.Listing(ctx, s, key); err != nil {
			return err
		}
	}
	return nil
}

func union[V any](a, b map[string]V) map[string]bool {
	out := map[string]bool{}
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
	}
	return out
}

// difference lists the packages that come and go, by identity.
func difference(before, after map[string]*index.Listing) (added, removed []index.Record) {
	missing := func(from, in map[string]*index.Listing) []index.Record {
		var out []index.Record
		for _, key := range slices.Sorted(maps.Keys(from)) {
			there := map[string]string{}
			for _, r := range in[key].Records {
				there[r.Identity()] = r.SHA256
			}
			for _, r := range from[key].Records {
				if there[r.Identity()] != r.SHA256 {
					out = append(out, r)
				}
			}
		}
		slices.SortFunc(out, func(a, b index.Record) int { return cmp.Compare(a.Identity(), b.Identity()) })
		return out
	}
	return missing(after, before), missing(before, after)
}

func identitiesOf(records []index.Record) []string {
	out := make([]string, len(records))
	for i, r := range records {
		out[i] = r.Identity()
	}
	return out
}

// write stores the package files, the listings that changed and the snapshot,
// and returns the snapshot's digest.
func (e *edit) write(ctx context.Context, v verdict, t progress.Task) (string, error) {
	tx, r := e.tx, e.tx.repo
	next := index.Snapshot{
		Format: index.Format, Target: e.target, Parent: e.parent, Time: tx.now, Serial: tx.pointer.Serial + 1, Action: tx.action, From: e.adoptedFrom, Allowed: v.allowed,
		Packages: e.old.Packages, Bytes: e.old.Bytes, Listings: maps.Clone(e.old.Listings), Files: maps.Clone(e.old.Files),
	}
	if next.Listings == nil {
		next.Listings, next.Files = map[string]index.Ref{}, map[string]index.Ref{}
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(2 * runtime.GOMAXPROCS(0)) // much of it is waiting for the storage
	for _, c := range e.files {
		g.Go(func() error {
			defer t.Advance(1)
			if err := e.tx.storeDocuments(gctx, c); err != nil {
				return err
			}
			if err := r.storePackage(gctx, c); err != nil || r.Pages == nil {
				return err
			}
			return e.packagePage(gctx, c, v.met)
		})
	}
	if err := g.Wait(); err != nil {
		return "", err
	}
	if e.adopted != nil {
		next.Packages, next.Bytes, next.Listings, next.Files = e.adopted.Packages, e.adopted.Bytes, e.adopted.Listings, e.adopted.Files
	} else {
		next.Packages += len(e.added) - len(e.removed)
		for _, r := range e.added {
			next.Bytes += r.Bytes
		}
		for _, r := range e.removed {
			next.Bytes -= r.Bytes
		}
		for key := range e.after {
			if err := e.writeListing(ctx, key, &next); err != nil {
				return "", err
			}
		}
	}
	data, err := next.Encode()
	if err != nil {
		return "", err
	}
	e.written = next
	sum := fact.SHA256(data)
	return sum, r.Storage.Put(ctx, "snapshots/"+sum+".json", bytes.NewReader(data))
}

func (e *edit) writeListing(ctx context.Context, key string, next *index.Snapshot) error {
	before, after := e.before[key], e.after[key]
	packages := e.old.Listings[key].Count + len(after.Records) - len(before.Records)
	paths := e.old.Files[key].Count + len(after.Paths) - len(before.Paths)
	delete(next.Listings, key)
	delete(next.Files, key)
	if packages == 0 {
		return nil
	}
	if index.PartsOf(packages) != len(after.Parts) {
		if err := e.openAll(key); err != nil {
			return err
		}
	}
	listing, files, err := e.tx.repo.putListing(ctx, after, e.stored[key], packages, paths)
	next.Listings[key], next.Files[key] = listing, files
	return err
}

// remember keeps the tables of the listings that were written, for the gate of
// the next change, in place of those before.
func (e *edit) remember() {
	if e.tx.repo.Cache == "" {
		return
	}
	tables := maps.Clone(e.tables())
	for key, c := range e.after {
		old, known := tables[key]
		switch {
		case c.Whole():
			tables[key] = index.KnownTable{More: index.TableOf(c)}
		case known:
			tables[key] = old.With(index.TableOf(c))
		}
	}
	e.tx.repo.tableCache().Store(e.tx.channel, e.written, tables)
}
