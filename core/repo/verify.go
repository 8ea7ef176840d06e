package repo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/cancel"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/storage"
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
		code := gate.DamagedIndex
		switch {
		case strings.HasPrefix(d.Name, "packages/") && d.Reason == Missing:
			code = gate.MissingPackage
		case strings.HasPrefix(d.Name, "packages/"):
			code = gate.DamagedPackage
		}
		out = append(out, fact.Finding{Code: code, Severity: fact.SeverityError, Path: d.Name, Message: d.Reason})
	}
	for _, name := range v.Unnamed {
		out = append(out, fact.Finding{Code: gate.UnusedFile, Severity: fact.SeverityHint, Path: name, Message: "no retained snapshot refers to it"})
	}
	return out
}

// Verify reads every file that a kept snapshot names, and compares each with
// its digest.
func (r *Repository) Verify(ctx context.Context, sink progress.Sink) (Verification, error) {
	v := Verification{Damaged: []Damage{}, Unnamed: []string{}}
	p, err := r.Pointer(ctx)
	if err != nil {
		return v, err
	}
	all, err := r.closureOf(ctx, p.Heads(), p.Pruned)
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
		err := r.Storage.List(ctx, dir, func(s storage.Stored) error {
			_, snapshot := all.snapshots[s.Name]
			_, listing := all.listings[s.Name]
			_, pkg := all.packages[packageOf(s.Name)]
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
