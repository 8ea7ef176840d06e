package repo

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
)

// Actions that make a snapshot.
const (
	ActionPublish = "publish"
	ActionRetire  = "retire"
	ActionPromote = "promote"
	ActionRewind  = "rewind"
	ActionIndex   = "index"
)

// NoPackageError is a package that is not in a channel.
type NoPackageError struct {
	Channel, Word string
	Near          string // a name that is nearly it
}

func (e *NoPackageError) Error() string {
	s := fmt.Sprintf("there is no package %q in channel %s", e.Word, e.Channel)
	if e.Near != "" {
		s += fmt.Sprintf("; did you mean %q?", e.Near)
	}
	return s
}

// called tells whether a word means a package: its name, NAME@VERSION-RELEASE,
// or its identity.
func (r Record) called(word string) bool {
	return word == r.Name || word == r.Name+"@"+r.Full().String() || word == r.Identity()
}

// Retire takes packages out of a channel: all of a name, or one version. Their
// files stay while a kept snapshot has them.
func (r *Repository) Retire(ctx context.Context, channel string, words []string, o ChangeOptions, sink progress.Sink) (Change, error) {
	return r.change(ctx, channel, ActionRetire, o, sink, func(ctx context.Context, tx *transaction) error {
		targets, ok := tx.pointer.Channels[channel]
		if !ok {
			return &ChannelError{channel, slices.Sorted(maps.Keys(tx.pointer.Channels))}
		}
		found := map[string]bool{}
		for _, target := range slices.Sorted(maps.Keys(targets)) {
			e, err := tx.edit(ctx, target)
			if err != nil {
				return err
			}
			for _, word := range words {
				c, err := e.open(ctx, nameOf(word))
				if err != nil {
					return err
				}
				for _, rec := range slices.Clone(c.records) {
					if !rec.called(word) {
						continue
					}
					found[word] = true
					if err := e.remove(ctx, rec); err != nil {
						return err
					}
				}
			}
		}
		for _, word := range words {
			if !found[word] {
				return r.noPackage(ctx, channel, word)
			}
		}
		return nil
	})
}

// noPackage looks for what a word may have meant.
func (r *Repository) noPackage(ctx context.Context, channel, word string) error {
	e := &NoPackageError{Channel: channel, Word: word}
	contents, err := r.List(ctx, channel)
	if err != nil {
		return e
	}
	var names []string
	for _, l := range contents {
		for _, rec := range l.Records {
			names = append(names, rec.Name)
			if rec.Name == nameOf(word) {
				e.Near = rec.Name + "@" + rec.Full().String()
				return e
			}
		}
	}
	e.Near = fact.Nearest(word, names)
	return e
}

// Promote gives one channel the packages of another: all, so that the two are
// alike, or those that words mean.
func (r *Repository) Promote(ctx context.Context, from, to string, words []string, o ChangeOptions, sink progress.Sink) (Change, error) {
	if from == to {
		return Change{}, fmt.Errorf("channel %s cannot be promoted to itself", from)
	}
	return r.change(ctx, to, ActionPromote, o, sink, func(ctx context.Context, tx *transaction) error {
		targets, ok := tx.pointer.Channels[from]
		if !ok {
			return &ChannelError{from, slices.Sorted(maps.Keys(tx.pointer.Channels))}
		}
		found := map[string]bool{}
		for _, target := range slices.Sorted(maps.Keys(targets)) {
			e, err := tx.edit(ctx, target)
			if err != nil {
				return err
			}
			if len(words) == 0 {
				if err := e.adopt(ctx, targets[target]); err != nil {
					return err
				}
				continue
			}
			if err := e.take(ctx, targets[target], words, found); err != nil {
				return err
			}
		}
		for _, word := range words {
			if !found[word] {
				return r.noPackage(ctx, from, word)
			}
		}
		return nil
	})
}

// take adds the newest packages that words mean from another snapshot.
func (e *edit) take(ctx context.Context, digest string, words []string, found map[string]bool) error {
	s, err := e.tx.snapshot(ctx, digest)
	if err != nil {
		return err
	}
	e.adoptedFrom = digest
	for _, word := range words {
		st, err := e.tx.repo.stored(ctx, s, listingOf(nameOf(word)))
		if err != nil {
			return err
		}
		_, part := placeOf(nameOf(word), len(st.records))
		c, err := st.part(part)
		if err != nil {
			return err
		}
		var meant []Record
		for _, rec := range c.records {
			if rec.called(word) {
				meant = append(meant, rec)
			}
		}
		for _, rec := range newest(meant) {
			found[word] = true
			there, err := e.find(ctx, rec.Name, rec.inPlaceOf)
			if err != nil {
				return err
			}
			if there != nil {
				continue
			}
			paths := slices.DeleteFunc(slices.Clone(c.paths), func(p PathRecord) bool { return p.Package != rec.Identity() })
			if err := e.add(ctx, rec, paths); err != nil {
				return err
			}
		}
	}
	return nil
}

// Rewind brings a channel back to what it was: before its last change with an
// empty word, at a serial, or at the snapshot whose digest begins with the
// word. What came since stays in the history, so that a rewind can be undone
// by another.
func (r *Repository) Rewind(ctx context.Context, channel, word string, sink progress.Sink) (Change, error) {
	return r.change(ctx, channel, ActionRewind, ChangeOptions{}, sink, func(ctx context.Context, tx *transaction) error {
		targets, ok := tx.pointer.Channels[channel]
		if !ok {
			return &ChannelError{channel, slices.Sorted(maps.Keys(tx.pointer.Channels))}
		}
		past, err := r.chains(ctx, tx.pointer, targets)
		if err != nil {
			return err
		}
		if word == "" {
			var serials []int64
			for _, chain := range past {
				for _, p := range chain {
					serials = append(serials, p.Serial)
				}
			}
			slices.Sort(serials)
			serials = slices.Compact(serials)
			if len(serials) < 2 {
				return fmt.Errorf("channel %s has no state before this one", channel)
			}
			word = strconv.FormatInt(serials[len(serials)-2], 10)
		}
		if serial, err := strconv.ParseInt(word, 10, 64); err == nil && len(word) < shortest && serial > tx.pointer.Serial {
			return fmt.Errorf("channel %s has no state of serial %d yet: the repository is at serial %d", channel, serial, tx.pointer.Serial)
		}
		states, err := statesAt(past, r.Storage.Where(), channel, word)
		if err != nil {
			return err
		}
		for _, target := range slices.Sorted(maps.Keys(states)) {
			e, err := tx.edit(ctx, target)
			if err != nil {
				return err
			}
			if states[target] == "" { // it was not there then
				e.adopted = &Snapshot{Listings: map[string]Ref{}, Files: map[string]Ref{}}
				e.mapTables("", *e.adopted)
				for key := range e.old.Listings {
					if e.before[key], err = r.load(ctx, e.old, key); err != nil {
						return err
					}
					e.after[key] = emptyListing()
				}
				continue
			}
			if err := e.adopt(ctx, states[target]); err != nil {
				return err
			}
		}
		return nil
	})
}

// past is a snapshot in a chain.
type past struct {
	digest string
	Snapshot
}

// chains lists the snapshots of targets, from the newest to the oldest that is
// kept.
func (r *Repository) chains(ctx context.Context, p Pointer, targets map[string]string) (map[string][]past, error) {
	out := map[string][]past{}
	for target, digest := range targets {
		for digest != "" && !slices.Contains(p.Pruned, digest) {
			s, err := r.Snapshot(ctx, digest)
			if err != nil {
				return nil, err
			}
			out[target] = append(out[target], past{digest, s})
			digest = s.Parent
		}
	}
	return out, nil
}

// statesAt finds the snapshots that a word means: the digests for each target,
// empty where there was nothing then.
func statesAt(chains map[string][]past, where, channel, word string) (map[string]string, error) {
	states := map[string]string{}
	if serial, err := strconv.ParseInt(word, 10, 64); err == nil && len(word) < shortest {
		any := false
		for target, chain := range chains {
			states[target] = ""
			for _, p := range chain {
				if p.Serial <= serial {
					states[target], any = p.digest, true
					break
				}
			}
		}
		if !any {
			return nil, fact.Errorf(fact.StatusInput, "channel %s has no retained state with serial %d", channel, serial).Try(fact.ShowHistory, where, channel)
		}
		return states, nil
	}
	for target, chain := range chains {
		for _, p := range chain {
			if len(word) >= shortest && strings.HasPrefix(p.digest, word) {
				states[target] = p.digest
				return states, nil
			}
		}
	}
	return nil, fact.Errorf(fact.StatusInput, "channel %s was never at %q: give a serial, or at least %d characters of a snapshot", channel, word, shortest).Try(fact.ShowHistory, where, channel)
}

// Event is one change in a channel's past.
type Event struct {
	Serial   int64       `json:"serial"`
	Time     time.Time   `json:"time"`
	Target   string      `json:"target"`
	Snapshot string      `json:"snapshot"`
	Action   string      `json:"action"`
	From     string      `json:"from,omitempty"` // the snapshot that packages were taken from
	Packages int         `json:"packages"`
	Bytes    int64       `json:"bytes"`
	Added    []string    `json:"added"`
	Removed  []string    `json:"removed"`
	Allowed  []Exception `json:"allowed,omitempty"`
	// MoreAdded and MoreRemoved count those that a page leaves out.
	MoreAdded   int  `json:"more_added,omitempty"`
	MoreRemoved int  `json:"more_removed,omitempty"`
	Oldest      bool `json:"oldest,omitempty"` // what was before was pruned
}

// History tells of the past of a channel, the newest change first; of at most
// limit changes of each target, or of all if limit is 0.
func (r *Repository) History(ctx context.Context, channel string, limit int) ([]Event, error) {
	p, targets, err := r.targets(ctx, channel)
	if err != nil {
		return nil, err
	}
	out := []Event{}
	for _, target := range slices.Sorted(maps.Keys(targets)) {
		digest := targets[target]
		for n := 0; digest != "" && !slices.Contains(p.Pruned, digest) && (limit == 0 || n < limit); n++ {
			s, err := r.Snapshot(ctx, digest)
			if err != nil {
				return nil, err
			}
			e := Event{Serial: s.Serial, Time: s.Time, Target: target, Snapshot: digest, Action: s.Action, From: s.From, Packages: s.Packages, Bytes: s.Bytes,
				Added: []string{}, Removed: []string{}, Allowed: s.Allowed, Oldest: slices.Contains(p.Pruned, s.Parent)}
			if !e.Oldest {
				if e.Added, e.Removed, err = r.between(ctx, s.Parent, s); err != nil {
					return nil, err
				}
			}
			out = append(out, e)
			digest = s.Parent
		}
	}
	slices.SortStableFunc(out, func(a, b Event) int { return cmp.Compare(b.Serial, a.Serial) })
	return out, nil
}

// between lists the packages that came and went from a parent, which may be
// none, to a snapshot.
func (r *Repository) between(ctx context.Context, parent string, s Snapshot) (added, removed []string, err error) {
	var old Snapshot
	if parent != "" {
		if old, err = r.Snapshot(ctx, parent); err != nil {
			return nil, nil, err
		}
	}
	before, after := map[string]*listingContent{}, map[string]*listingContent{}
	for key := range union(old.Listings, s.Listings) {
		if old.Listings[key] == s.Listings[key] {
			continue
		}
		for _, side := range []struct {
			from Snapshot
			to   map[string]*listingContent
		}{{old, before}, {s, after}} {
			side.to[key] = &listingContent{}
			if ref, ok := side.from.Listings[key]; ok {
				if side.to[key].records, err = r.listing(nil)(ctx, ref); err != nil {
					return nil, nil, err
				}
			}
		}
	}
	came, went := difference(before, after)
	return identitiesOf(came), identitiesOf(went), nil
}
