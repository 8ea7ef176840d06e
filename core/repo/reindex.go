package repo

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"ellwand.example/core/files"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// seen is what Index found, and what it made of that.
type seen struct {
	Channel   string              `json:"channel"`
	Snapshots map[string]string   `json:"snapshots"` // target → SHA-256
	Files     map[string]seenPack `json:"files"`
}

// seenPack is a package file that was read.
type seenPack struct {
	Size     int64  `json:"size"`
	Modified int64  `json:"modified"` // nanoseconds
	Package  string `json:"package"`  // its identity; empty for what is none
}

// Index makes the index again, from the package files under packages/ alone,
// and gives a channel all of them. Where nothing of them changed since, nothing
// is read but their names. It is for repositories in directories.
func (r *Repository) Index(ctx context.Context, channel string, o ChangeOptions, sink progress.Sink) (Report, error) {
	local, ok := r.Storage.LocalPath()
	d := storage.NewDirectory(local)
	report := Report{Channel: channel}
	if !ok {
		return report, fmt.Errorf("%s: an index is made from package files in a directory; copy the repository, index the copy, and put it in place", r.Storage.Where())
	}
	last := make(chan seen, 1)
	go func() { last <- readSeen(d) }()
	found, err := d.Packages(ctx)
	if err != nil {
		return report, err
	}
	if len(found) == 0 {
		return report, fmt.Errorf("there are no packages in %s", filepath.Join(d.Dir, "packages"))
	}
	// Packages without an index are a repository that was begun.
	if err := files.MkdirAll(d.Path(storage.Incoming)); err != nil {
		return report, err
	}
	before := <-last
	if serial, same := r.indexed(ctx, channel, found, before); same {
		report.Serial = serial
		for _, f := range found {
			report.Outcomes = append(report.Outcomes, Outcome{File: f.Name, Package: before.Files[f.Name].Package, State: Already})
		}
		return report, nil
	}
	var files []string
	for _, s := range found {
		files = append(files, d.Path(s.Name))
	}
	report.Outcomes = make([]Outcome, len(files))
	candidates, err := examineAll(ctx, files, report.Outcomes, sink, examineQuickly)
	if err != nil {
		return report, err
	}
	report.Change, err = r.change(ctx, channel, ActionIndex, o, sink, func(ctx context.Context, tx *transaction) error {
		return tx.reindex(ctx, candidates, report.Outcomes, d)
	})
	report.Serial = report.Change.Serial
	if err == nil {
		r.remember(ctx, d, channel, found, candidates)
	}
	return report, err
}

// reindex gives each target exactly the packages that were found for it.
func (tx *transaction) reindex(ctx context.Context, candidates []*candidate, outcomes []Outcome, d storage.Directory) error {
	targets := targetsOf(candidates)
	for target := range tx.pointer.Channels[tx.channel] {
		if !slices.Contains(targets, target) {
			targets = append(targets, target)
		}
	}
	for _, target := range targets {
		e, err := tx.edit(ctx, target)
		if err != nil {
			return err
		}
		for key := range e.old.Listings {
			if e.before[key], err = tx.repo.Listing(ctx, e.old, key); err != nil {
				return err
			}
			e.stored[key], e.after[key] = &index.StoredListing{}, index.EmptyListing()
		}
		for _, c := range candidates {
			if c.target != target {
				continue
			}
			o := &outcomes[c.index]
			*o = Outcome{File: c.file, Package: c.record.Identity(), State: Added}
			if d.Path(c.record.File) != c.file {
				o.State, o.Reason = Refused, "it does not stand where it belongs: "+c.record.File
				continue
			}
			if err := e.add(ctx, c.record, c.paths); err != nil {
				return err
			}
			for _, was := range e.before[index.ListingOf(c.record.Name)].Records {
				if was.Identity() == c.record.Identity() && was.SHA256 == c.record.SHA256 {
					o.State = Already
				}
			}
		}
	}
	return nil
}

// readSeen reads what the last Index looked at; nothing where that is not known.
func readSeen(d storage.Directory) (s seen) {
	if data, err := os.ReadFile(d.Path(storage.SeenFile)); err == nil {
		json.Unmarshal(data, &s)
	}
	return s
}

// remember writes it down.
func (r *Repository) remember(ctx context.Context, d storage.Directory, channel string, found []storage.Stored, candidates []*candidate) {
	_, targets, err := r.targets(ctx, channel)
	if err != nil {
		return
	}
	byFile := map[string]*candidate{}
	for _, c := range candidates {
		byFile[c.file] = c
	}
	s := seen{channel, targets, map[string]seenPack{}}
	for _, f := range found {
		p := seenPack{Size: f.Size, Modified: f.Modified.UnixNano()}
		if c := byFile[d.Path(f.Name)]; c != nil {
			p.Package = c.record.Identity()
		}
		s.Files[f.Name] = p
	}
	if data, err := json.Marshal(s); err == nil {
		files.Write(d.Path(storage.SeenFile), data)
	}
}

// indexed reports whether all files are as they were when the channel was
// indexed, and the channel is still at what came of that.
func (r *Repository) indexed(ctx context.Context, channel string, found []storage.Stored, before seen) (serial int64, same bool) {
	if len(found) != len(before.Files) || channel != before.Channel {
		return 0, false
	}
	for _, f := range found {
		was, ok := before.Files[f.Name]
		if !ok || was.Package == "" || was.Size != f.Size || was.Modified != f.Modified.UnixNano() {
			return 0, false
		}
	}
	p, targets, err := r.targets(ctx, channel)
	if err != nil || !maps.Equal(targets, before.Snapshots) {
		return 0, false
	}
	// Of which the listings may be lost.
	there := map[string]bool{}
	for _, dir := range []string{"listings", "files"} {
		names, err := os.ReadDir(r.Storage.Address(dir))
		if err != nil {
			return 0, false
		}
		for _, name := range names {
			there[dir+"/"+name.Name()] = true
		}
	}
	for _, digest := range targets {
		s, err := r.Snapshot(ctx, digest)
		if err != nil {
			return 0, false
		}
		for key := range s.Listings {
			if !there["listings/"+s.Listings[key].SHA256+".jsonl.zst"] || !there["files/"+s.Files[key].SHA256+".jsonl.zst"] {
				return 0, false
			}
		}
	}
	return p.Serial, true
}
