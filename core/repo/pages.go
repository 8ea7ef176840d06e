package repo

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"path"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/ell"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
)

// Renderer writes the pages that people browse a repository by.
type Renderer interface {
	Style() []byte // the style sheet of all pages
	Front(Front) ([]byte, error)
	Channel(ChannelPage) ([]byte, error)
	Group(GroupPage) ([]byte, error)
	History(HistoryPage) ([]byte, error)
	Package(PackagePage) ([]byte, error)
}

// Where the pages are:
//
//	index.html                              all channels
//	pages/style.css
//	pages/CHANNEL/TARGET/index.html         its packages, or the groups of them
//	pages/CHANNEL/TARGET/group-KEY.html     those that begin so, or, of many, are after it
//	pages/CHANNEL/TARGET/history.html
//	packages/TARGET/NAME/IDENTITY.html      beside the package: it never changes
//
// and for the next publish, beside each page of a channel, what it was made of:
//
//	pages/CHANNEL/TARGET/state.json, group-XY.json
const (
	frontPage = "index.html"
	pagesDir  = "pages/"
	stylePage = pagesDir + "style.css"
)

// Front is the first page.
type Front struct {
	Serial   int64
	Time     time.Time
	Channels []FrontChannel
}

// FrontChannel is one target of a channel on the first page.
type FrontChannel struct {
	Channel, Target string
	Packages        int
	Bytes           int64
	Time            time.Time
	Action          string
	Link            string // from the first page
}

// ChannelPage lists what a channel has for a target: all packages, or, where
// they are many, their groups.
type ChannelPage struct {
	Channel, Target string
	Packages        int
	Bytes           int64
	Serial          int64
	Time            time.Time
	Rows            []Row
	Groups          []Group
	Recent          []Event
	Top             string // the way to the repository's own directory
}

// Group is packages whose names begin alike. Where these are too many for a
// page, they are divided like a dictionary: the key of each group is the
// beginning of its first name, and its names go on to the key of the next.
type Group struct {
	Key      string
	Packages int
	Link     string
}

// GroupPage lists one group.
type GroupPage struct {
	Channel, Target, Key string
	Rows                 []Row
	Top                  string
}

// Row is a package in a list.
type Row struct {
	Name    string `json:"name"`
	Full    string `json:"full"`
	Arch    string `json:"arch"`
	Summary string `json:"summary"`
	Bytes   int64  `json:"bytes"`
	Link    string `json:"link"` // from the repository's own directory
}

// HistoryPage reports a channel's past, the newest change first.
type HistoryPage struct {
	Channel, Target string
	Events          []Event
	Top             string
}

// PackagePage shows one package.
type PackagePage struct {
	ell.Facts
	File    string // of the package, from the page
	Bytes   int64
	SHA256  string
	Needs   []LinkedNeed
	Entries []ell.Entry // of its layout
	Top     string
}

// LinkedNeed is a need, and the package that met it when this one was
// published.
type LinkedNeed struct {
	ell.Need
	By   string // its identity; empty for the system
	Link string // from the repository's own directory
}

// Bounds of pages.
const (
	smallChannel = 400 // packages that are listed on one page
	largestGroup = 300 // packages of one group, before it is divided
	usualGroup   = 200 // about, afterwards
	recentEvents = 20
	eventNames   = 12 // packages of one change that are listed
)

// pageState is what the pages of a channel and target were made of.
type pageState struct {
	Snapshot string         `json:"snapshot"`
	Groups   map[string]int `json:"groups"` // key → packages
	Events   []Event        `json:"events"`
}

func pageOf(file string) string { return strings.TrimSuffix(file, ell.Extension) + ".html" }

// shortestKey is what a group's key at least has of a name: two letters, and for
// libraries one more than "lib".
func shortestKey(name string) string {
	n := 2
	if strings.HasPrefix(name, "lib") {
		n = 4
	}
	return name[:min(n, len(name))]
}

// groupOf is the key of the group that a name is in: the last that is not after
// the name, of those that begin like it. The keys are sorted.
func groupOf(name string, keys []string) string {
	begin := shortestKey(name)
	i, found := slices.BinarySearch(keys, name)
	switch {
	case found:
		return name
	case i > 0 && strings.HasPrefix(keys[i-1], begin):
		return keys[i-1]
	}
	return begin
}

// cut divides a group that is too large into some of about the usual size; the
// first keeps the key. The rows are sorted. Of the places to cut at that are as
// good, it takes the one with the shortest key.
func cut(key string, rows []Row) map[string][]Row {
	out := map[string][]Row{}
	for len(rows) > largestGroup {
		aim := min(usualGroup, len(rows)/2)
		best, next := 0, ""
		for at := aim * 3 / 4; at < len(rows) && (best == 0 || at <= aim*5/4); at++ {
			if rows[at-1].Name == rows[at].Name {
				continue // versions stay together
			}
			if k := keyBetween(rows[at-1].Name, rows[at].Name); best == 0 || len(k) < len(next) {
				best, next = at, k
			}
		}
		if best == 0 {
			break
		}
		out[key], rows, key = rows[:best], rows[best:], next
	}
	out[key] = rows
	return out
}

// keyBetween is the shortest beginning of a name that is after the one before
// it.
func keyBetween(before, name string) string {
	n := 0
	for n < len(before) && before[n] == name[n] {
		n++
	}
	return name[:n+1]
}

func rowOf(r index.Record) Row {
	return Row{r.Name, r.Full().String(), r.Arch, r.Summary, r.Bytes, pageOf(r.File)}
}

func (r *Repository) putPage(ctx context.Context, name string, data []byte, err error) error {
	if err != nil {
		return err
	}
	return r.Storage.Put(ctx, name, bytes.NewReader(data))
}

// putJSON stores what pages were made of.
func (r *Repository) putJSON(ctx context.Context, name string, v any) error {
	data, err := json.Marshal(v)
	return r.putPage(ctx, name, data, err)
}

// getJSON reads it again; found is false where it is not there or is unusable.
func (r *Repository) getJSON(ctx context.Context, name string, v any) (found bool, err error) {
	data, err := r.read(ctx, name, index.MaxListing)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil && json.Unmarshal(data, v) == nil, err
}

// packagePage writes the page of a package that is new to the repository.
func (e *edit) packagePage(ctx context.Context, c *candidate, met map[string][]index.Record) error {
	r := e.tx.repo
	p, err := ell.Open(c.file)
	if err != nil {
		return err
	}
	defer p.Close()
	entries, err := p.Layout()
	if err != nil {
		return err
	}
	page := PackagePage{Facts: p.Facts, File: path.Base(c.record.File), Bytes: c.record.Bytes, SHA256: c.record.SHA256, Entries: entries, Top: "../../../"}
	for i, n := range c.record.Dependencies() {
		l := LinkedNeed{Need: p.Facts.Needs[i]}
		if by := met[gate.TextOf(n)]; len(by) > 0 {
			l.By, l.Link = by[0].Identity(), pageOf(by[0].File)
		}
		page.Needs = append(page.Needs, l)
	}
	data, err := r.Pages.Package(page)
	return r.putPage(ctx, pageOf(c.record.File), data, err)
}

// pages writes the pages of a channel again after a change. Only the groups in
// which something changed are touched.
func (tx *transaction) pages(ctx context.Context, edits []*edit, change Change) error {
	r := tx.repo
	if r.Pages == nil {
		return nil
	}
	g, ctx := errgroup.WithContext(ctx)
	for i, e := range edits {
		g.Go(func() error { return e.channelPages(ctx, change.Targets[i], change) })
	}
	g.Go(func() error {
		if err := r.putPage(ctx, stylePage, r.Pages.Style(), nil); err != nil {
			return err
		}
		return tx.frontPage(ctx, edits, change)
	})
	return g.Wait()
}

func (tx *transaction) frontPage(ctx context.Context, edits []*edit, change Change) error {
	front := Front{Serial: change.Serial, Time: change.Time}
	for _, channel := range slices.Sorted(maps.Keys(tx.pointer.Channels)) {
		targets := tx.pointer.Channels[channel]
		for _, target := range slices.Sorted(maps.Keys(targets)) {
			var s index.Snapshot
			var err error
			if i := slices.IndexFunc(edits, func(e *edit) bool { return channel == tx.channel && e.target == target }); i >= 0 {
				s = edits[i].written
			} else if s, err = tx.snapshot(ctx, targets[target]); err != nil {
				return err
			}
			front.Channels = append(front.Channels, FrontChannel{channel, target, s.Packages, s.Bytes, s.Time, s.Action, pagesDir + channel + "/" + target + "/index.html"})
		}
	}
	data, err := tx.repo.Pages.Front(front)
	return tx.repo.putPage(ctx, frontPage, data, err)
}

func (e *edit) channelPages(ctx context.Context, now TargetChange, change Change) error {
	r := e.tx.repo
	dir := pagesDir + e.tx.channel + "/" + e.target + "/"
	const top = "../../../"
	var state pageState
	known, err := r.getJSON(ctx, dir+"state.json", &state)
	if err != nil {
		return err
	}
	// What pages do not list is not kept for them.
	short := func(names []string) ([]string, int) {
		n := min(len(names), eventNames)
		return names[:n], len(names) - n
	}
	event := Event{Serial: change.Serial, Time: change.Time, Target: e.target, Snapshot: now.Snapshot, Action: change.Action, From: e.adoptedFrom,
		Packages: e.written.Packages, Bytes: e.written.Bytes, Allowed: now.Allowed}
	event.Added, event.MoreAdded = short(now.Added)
	event.Removed, event.MoreRemoved = short(now.Removed)
	page := ChannelPage{Channel: e.tx.channel, Target: e.target, Packages: e.written.Packages, Bytes: e.written.Bytes, Serial: change.Serial, Time: change.Time, Top: top}
	if known && state.Snapshot == e.parent {
		state.Events = append([]Event{event}, state.Events...)
		state.Events = state.Events[:min(len(state.Events), recentEvents)]
	} else { // an interrupted publish, or the first
		state = pageState{Groups: nil}
		if state.Events, err = r.History(ctx, e.tx.channel, recentEvents); err != nil {
			return err
		}
		state.Events = slices.DeleteFunc(state.Events, func(x Event) bool { return x.Target != e.target })
		for i := range state.Events {
			x := &state.Events[i]
			x.Added, x.MoreAdded = short(x.Added)
			x.Removed, x.MoreRemoved = short(x.Removed)
		}
	}
	state.Snapshot = now.Snapshot
	var g errgroup.Group
	g.SetLimit(2 * runtime.GOMAXPROCS(0)) // much of it is waiting for the storage
	events := state.Events
	g.Go(func() error {
		data, err := r.Pages.History(HistoryPage{e.tx.channel, e.target, events, top})
		return r.putPage(ctx, dir+"history.html", data, err)
	})
	defer g.Wait()
	if e.written.Packages <= smallChannel {
		_, records, err := r.records(ctx, now.Snapshot, nil)
		if err != nil {
			return err
		}
		for _, rec := range records {
			page.Rows = append(page.Rows, rowOf(rec))
		}
		state.Groups = nil
	} else if state.Groups, err = e.groupPages(ctx, &g, dir, top, state.Groups, now.Snapshot); err != nil {
		return err
	}
	for _, key := range slices.Sorted(maps.Keys(state.Groups)) {
		page.Groups = append(page.Groups, Group{key, state.Groups[key], groupFile(key) + ".html"})
	}
	page.Recent = state.Events[:min(5, len(state.Events))]
	data, err := r.Pages.Channel(page)
	if err := r.putPage(ctx, dir+"index.html", data, err); err != nil {
		return err
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return r.putJSON(ctx, dir+"state.json", state) // last: what it says is there
}

func groupFile(key string) string { return "group-" + strings.ReplaceAll(key, "+", "_plus") }

// groupPages writes the pages of the groups in which something changed, or,
// with no groups known, of all. It returns how many packages each has, and leaves
// the writing to g.
func (e *edit) groupPages(ctx context.Context, g *errgroup.Group, dir, top string, groups map[string]int, snapshot string) (map[string]int, error) {
	r := e.tx.repo
	keys := slices.Sorted(maps.Keys(groups))
	rows := map[string][]Row{}
	if groups == nil {
		groups = map[string]int{}
		_, records, err := r.records(ctx, snapshot, nil)
		if err != nil {
			return nil, err
		}
		for _, rec := range records {
			key := shortestKey(rec.Name)
			rows[key] = append(rows[key], rowOf(rec))
		}
	} else {
		for _, rec := range slices.Concat(e.added, e.removed) {
			key := groupOf(rec.Name, keys)
			if _, read := rows[key]; read {
				continue
			}
			var old []Row
			if _, err := r.getJSON(ctx, dir+groupFile(key)+".json", &old); err != nil {
				return nil, err
			}
			rows[key] = old
		}
		for _, rec := range e.removed {
			key := groupOf(rec.Name, keys)
			rows[key] = slices.DeleteFunc(rows[key], func(row Row) bool { return row.Link == pageOf(rec.File) })
		}
		for _, rec := range e.added {
			key := groupOf(rec.Name, keys)
			rows[key] = append(rows[key], rowOf(rec))
		}
	}
	for key, list := range rows {
		slices.SortStableFunc(list, func(a, b Row) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(b.Full, a.Full)) })
		for key, list := range cut(key, list) {
			groups[key] = len(list)
			if len(list) == 0 {
				delete(groups, key)
			}
			g.Go(func() error {
				data, err := r.Pages.Group(GroupPage{e.tx.channel, e.target, key, list, top})
				if err := r.putPage(ctx, dir+groupFile(key)+".html", data, err); err != nil {
					return err
				}
				return r.putJSON(ctx, dir+groupFile(key)+".json", list)
			})
		}
	}
	return groups, nil
}

// PagesError is pages that could not be written after a change, which is made
// all the same.
type PagesError struct{ Err error }

func (e *PagesError) Error() string {
	return "the change is made, but the pages to browse it by could not be written: " + e.Err.Error()
}

func (e *PagesError) Unwrap() error { return e.Err }
