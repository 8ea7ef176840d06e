// Package bump takes a recipe from one upstream version to the next: it
// fetches and pins the new sources, edits the recipe, and tells what a
// maintainer must look at.
package bump

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"ellwand.example/core/draft"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/patch"
	"ellwand.example/core/recipe/rewrite"
	"ellwand.example/core/source"
)

// Report is the result of a bump.
type Report struct {
	Recipe   string           `json:"recipe"`
	From     string           `json:"from"` // version and release
	To       string           `json:"to"`
	Fetched  []source.Fetched `json:"fetched"`
	Unfit    []Unfit          `json:"unfit"`    // patches and rewrites that do not apply any more
	Licenses []string         `json:"licenses"` // license files that changed, came or went
	Added    []string         `json:"added"`    // new at the top of the source
	Gone     []string         `json:"gone"`
	NewNeeds []string         `json:"new_needs"` // that the build files ask for now
	OldNeeds []string         `json:"old_needs"` // and those that they ask for no longer
	NewFlags []string         `json:"new_flags"` // what new options of configure
	OldFlags []string         `json:"old_flags"`
	Compared bool             `json:"compared"` // the old source was there to compare with
}

// Unfit is a patch or a rewrite that does not apply to the new source.
type Unfit struct {
	What    string `json:"what"` // the patch's file, or the path of a rewrite
	Line    int    `json:"line"` // of the recipe
	Reason  string `json:"reason"`
	Applied bool   `json:"applied"` // upstream has the patch now
}

// Bumper bumps recipes.
type Bumper struct {
	Cache    source.Cache
	Fetch    func(ctx context.Context, r *recipe.Recipe, i int) (source.Fetched, error) // source i of a recipe
	Progress progress.Sink
	Target   recipe.Target
	Temp     string // a directory for trees to look at; it exists
}

// Version takes a recipe to another upstream version. The recipe's file is
// replaced last, and only when all new sources were fetched.
func (b *Bumper) Version(ctx context.Context, r *recipe.Recipe, to string, by string, text []string) (Report, error) {
	report := Report{Recipe: r.Name, From: r.Full()}
	switch c := version.Compare(to, r.Version); {
	case !version.Valid(to):
		return report, fmt.Errorf("%q cannot be a version: %s", to, version.Shape)
	case to == r.Version:
		return report, fact.Errorf(fact.StatusInput, "%s is at version %s already", r.Name, to).Try(fact.RaiseRelease, r.Name, "")
	case c < 0:
		return report, fmt.Errorf("%s sorts before %s, which %s is at: machines that have it would not upgrade, unless the recipe's `epoch` is raised first", to, r.Version, r.Name)
	}
	text = orDefault(text, "New upstream version")
	edited, err := r.WithBump(recipe.Bump{Version: to, Release: 1, Date: date(r), By: by, Text: text})
	if err != nil {
		return report, err
	}
	next, err := recipe.Parse(r.Doc.File, edited, b.Target, r.Set)
	if err != nil {
		return report, err
	}
	next.Dir = r.Dir
	report.To = next.Full()
	var pins []recipe.Pin
	pin := func(i int) error {
		got, err := b.Fetch(ctx, next, i)
		if err != nil {
			return fmt.Errorf("%w\nthe recipe is as it was", err)
		}
		next.Sources[i].SHA256, next.Sources[i].Commit = got.SHA256, got.Commit
		pins = append(pins, recipe.Pin{Source: i, SHA256: got.SHA256, Commit: got.Commit})
		report.Fetched = append(report.Fetched, got)
		return nil
	}
	for i := range next.Sources {
		if i < len(r.Sources) && next.Sources[i].URL == r.Sources[i].URL && next.Sources[i].Tag == r.Sources[i].Tag {
			continue
		}
		next.Sources[i].SHA256, next.Sources[i].Commit = "", "" // the old file's
		if err := pin(i); err != nil {
			return report, err
		}
	}
	// What modules the new sources need is for them to say.
	for i, s := range next.Sources {
		if s.Modules == "" || len(pins) == 0 {
			continue
		}
		next.Sources[i].SHA256 = ""
		if err := pin(i); err != nil {
			return report, err
		}
	}
	if len(pins) == 0 {
		// What has the same address may be another file now.
		for i, s := range next.Sources {
			if s.URL == "" {
				continue
			}
			before := s.SHA256
			next.Sources[i].SHA256 = ""
			if err := pin(i); err != nil {
				return report, err
			}
			if next.Sources[i].SHA256 == before {
				return report, fmt.Errorf("no source of %s has another address for version %s, and %s is the file that it was: write {version} into the `url` or the `tag`\nthe recipe is as it was", r.Name, to, source.FileName(s))
			}
		}
	}
	if edited, err = next.WithPins(pins); err != nil {
		return report, err
	}
	if err := b.look(ctx, r, next, &report); err != nil {
		return report, err
	}
	return report, write(r, edited)
}

// Release raises the release alone.
func (b *Bumper) Release(r *recipe.Recipe, by string, text []string) (Report, error) {
	report := Report{Recipe: r.Name, From: r.Full(), To: version.Full{Epoch: r.Epoch, Version: r.Version, Release: r.Release + 1}.String()}
	edited, err := r.WithBump(recipe.Bump{Version: r.Version, Release: r.Release + 1, Date: date(r), By: by, Text: orDefault(text, "Built again")})
	if err != nil {
		return report, err
	}
	return report, write(r, edited)
}

func orDefault(text []string, otherwise string) []string {
	if len(text) == 0 {
		return []string{otherwise}
	}
	return text
}

// date is today, or the newest entry's date where that is later: entries do
// not go back in time.
func date(r *recipe.Recipe) time.Time {
	now := time.Now().UTC()
	if newest := r.Date(); newest.After(now) {
		return newest
	}
	return now
}

func write(r *recipe.Recipe, text []byte) error {
	file := r.Beside(recipe.FileName)
	there, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if !bytes.Equal(there, r.Doc.Data) {
		return fmt.Errorf("%s was changed in the meantime; nothing was written", r.Doc.File)
	}
	return renameio.WriteFile(file, text, 0o644)
}

// look unpacks the old and the new source and compares them, and tries patches
// and rewrites on the new one.
func (b *Bumper) look(ctx context.Context, old, next *recipe.Recipe, report *Report) error {
	dir, err := os.MkdirTemp(b.Temp, "bump-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	now := filepath.Join(dir, "new")
	if err := b.unpack(ctx, next, now); err != nil {
		return err
	}
	before := filepath.Join(dir, "old")
	if err := b.unpack(ctx, old, before); err == nil {
		report.Compared = true
		if err := compare(before, now, report); err != nil {
			return err
		}
	}
	return try(next, now, report)
}

// unpack lays out a recipe's sources; those that are not in the source cache are an
// error.
func (b *Bumper) unpack(ctx context.Context, r *recipe.Recipe, dir string) error {
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	for i, s := range r.Sources {
		if s.Modules != "" {
			continue
		}
		path, name, digest := "", source.FileName(s), s.SHA256
		if s.File != "" {
			got, err := b.Fetch(ctx, r, i) // from beside the recipe
			if err != nil {
				return err
			}
			path, digest = got.Path, got.SHA256
		} else {
			if s.Git != "" {
				digest = b.Cache.CommitArchive(s.Commit).SHA256
			}
			if digest == "" || !b.Cache.Has(digest) {
				return fs.ErrNotExist
			}
			path = b.Cache.Path(digest)
		}
		if _, err := source.Unpack(ctx, dir, source.Job{Path: path, Name: name, SHA256: digest, Into: s.Into, Skip: s.Skip, Known: r.Name}, b.Progress); err != nil {
			return err
		}
	}
	return nil
}

// compare finds what is new and gone at the top of two trees, and which license
// files differ.
func compare(before, now string, report *Report) error {
	names := func(dir string) ([]string, error) {
		entries, err := os.ReadDir(dir)
		var all []string
		for _, e := range entries {
			all = append(all, e.Name())
		}
		return all, err
	}
	was, err := names(before)
	if err != nil {
		return err
	}
	is, err := names(now)
	if err != nil {
		return err
	}
	for _, n := range is {
		if !slices.Contains(was, n) {
			report.Added = append(report.Added, n)
		}
	}
	for _, n := range was {
		if !slices.Contains(is, n) {
			report.Gone = append(report.Gone, n)
		}
	}
	for _, n := range append(slices.Clone(is), report.Gone...) {
		if !licenseFile(n) {
			continue
		}
		a, errA := os.ReadFile(filepath.Join(before, n))
		b, errB := os.ReadFile(filepath.Join(now, n))
		if (errA == nil) != (errB == nil) || !bytes.Equal(a, b) {
			report.Licenses = append(report.Licenses, n)
		}
	}
	return compareBuilds(before, now, report)
}

// compareBuilds finds what the build files of two trees ask for and offer.
func compareBuilds(before, now string, report *Report) error {
	a, err := draft.Look(before, report.Recipe, "")
	if err != nil {
		return err
	}
	b, err := draft.Look(now, report.Recipe, "")
	if err != nil {
		return err
	}
	more := func(have, than []string) []string {
		return slices.DeleteFunc(slices.Clone(have), func(s string) bool { return slices.Contains(than, s) })
	}
	was, is := append(a.Build, a.Maybe...), append(b.Build, b.Maybe...)
	report.NewNeeds, report.OldNeeds = more(is, was), more(was, is)
	report.NewFlags, report.OldFlags = more(b.Switches, a.Switches), more(a.Switches, b.Switches)
	return nil
}

func licenseFile(name string) bool {
	upper := strings.ToUpper(name)
	return strings.HasPrefix(upper, "LICEN") || strings.HasPrefix(upper, "COPYING") || strings.HasPrefix(upper, "COPYRIGHT") || strings.HasPrefix(upper, "NOTICE")
}

// try applies patches and the rewrites that come right after unpack.
func try(r *recipe.Recipe, dir string, report *Report) error {
	for _, p := range r.Patches {
		data, err := r.ReadBeside(p.File)
		if err != nil {
			return err
		}
		if _, err = patch.ApplyIn(dir, p.Into, data); err != nil {
			var e *patch.Error
			report.Unfit = append(report.Unfit, Unfit{p.File, p.Line, err.Error(), errors.As(err, &e) && e.Applied})
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, w := range r.Rewrites {
		if w.After != recipe.Unpack {
			continue
		}
		if _, err := rewrite.Apply(root, rewrite.Rule{Path: w.Path, Find: w.Find, Regexp: w.Regexp, Replace: w.Replace, Times: w.Times}); err != nil {
			report.Unfit = append(report.Unfit, Unfit{What: "rewrite of " + w.Path, Line: w.Line, Reason: err.Error()})
		}
	}
	return nil
}
