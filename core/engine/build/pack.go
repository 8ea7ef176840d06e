package build

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/recipe/layout"
	"ellwand.example/core/recipe/revision"
	"ellwand.example/core/source"
	"ellwand.example/core/staging"
	"ellwand.example/core/workspace"
)

// Unpinned is the problem of a source that states no digest, with the line
// that states it.
func Unpinned(r *recipe.Recipe, i int, f source.Fetched) document.Problem {
	if f.Commit != "" {
		p := r.Doc.ProblemAt(r.Origin(i), fmt.Sprintf("%s names no commit, and a tag can be moved", f.Name),
			fmt.Sprintf("if you trust the commit that the tag %s points to, add:\ncommit = %q", r.Sources[i].Tag, f.Commit))
		p.Action = fact.Action{Verb: fact.PinSources, Subject: r.Name}
		return p
	}
	p := r.Doc.ProblemAt(r.Origin(i), fmt.Sprintf("%s has no sha256, so it cannot be verified", f.Name),
		fmt.Sprintf("if you trust the file that was fetched (%d bytes), add:\nsha256 = %q", f.Size, f.SHA256))
	p.Action = fact.Action{Verb: fact.PinSources, Subject: r.Name}
	return p
}

// pack makes the packages from the staged tree.
func (j *job) pack(ctx context.Context, dir string) ([]ell.Written, error) {
	staged, err := staging.Walk(dir)
	if err != nil {
		return nil, fmt.Errorf("%s: step pack: %w", j.recipe.Name, err)
	}
	staged, debug := j.separateDebug(staged)
	claims, err := layout.Resolve(j.recipe, staged)
	var mismatch *layout.Mismatch
	if errors.As(err, &mismatch) {
		return nil, &PackError{j.recipe.Name, mismatch}
	}
	if err != nil {
		return nil, err
	}
	record, err := j.buildRecord(ctx)
	if err != nil {
		return nil, err
	}
	if len(staged) == 0 && !slices.ContainsFunc(slices.Collect(maps.Values(claims)), func(c []staging.Claim) bool { return len(c) > 0 }) {
		return nil, fmt.Errorf("%s: step pack: the stage step installed nothing into $DESTDIR", j.recipe.Name)
	}
	var parts []*part
	defer func() {
		for _, p := range parts {
			p.payload.Close()
		}
	}()
	for _, p := range j.parts(claims, debug) {
		spec := ell.Spec{
			Facts: j.facts(p), Claims: p.claims, Scripts: j.recipe.Packages[p.name].Scripts.All(),
			Recipe: j.recipe.Doc.Data, Build: record, Time: j.recipe.Date(), Compression: record.Compression,
		}
		known, err := ell.NewKnownFrames(record, ell.Newest(j.Workspace.Packages(), p.name, maxEarlier)...)
		if err != nil {
			return nil, err
		}
		spec.Known = known
		found := scan.Collect(p.claims)
		if !p.debug {
			spec.Look = found.Look
		}
		p.payload, err = ell.Begin(ctx, j.Workspace.Packages(), spec, j.Progress)
		known.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: step pack: %w", j.recipe.Name, err)
		}
		p.files, p.facts = found.Files(), spec.Facts
		p.provides = scan.Provides(p.claims, p.files)
		parts = append(parts, p)
	}
	var written []ell.Written
	for _, p := range parts {
		if !p.debug {
			j.declare(p, parts)
		}
		if err := j.checkReplaced(p, record); err != nil {
			return nil, err
		}
		w, err := p.payload.Finish(p.facts)
		if err == nil {
			err = w.Digest()
		}
		if err != nil {
			return nil, fmt.Errorf("%s: step pack: %w", j.recipe.Name, err)
		}
		written = append(written, w)
	}
	return written, nil
}

// maxEarlier is how many earlier packages of a name are looked into for frames.
const maxEarlier = 2

// SharedNameError is a package that would take the place of another, which was
// built with other options and has other contents.
type SharedNameError struct {
	Recipe, Path string
	Was, Now     map[string]string // options
}

func (e *SharedNameError) Error() string {
	return fmt.Sprintf("%s: %s was built with %s, and has other contents than this build with %s: two packages would share one name", e.Recipe, e.Path, optionText(e.Was), optionText(e.Now))
}

func optionText(options map[string]string) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(options)) {
		out = append(out, name+"="+options[name])
	}
	if len(out) == 0 {
		return "no options"
	}
	return strings.Join(out, " ")
}

// checkReplaced looks at the package that a part is about to take the place of.
func (j *job) checkReplaced(p *part, record ell.BuildRecord) error {
	path := filepath.Join(j.Workspace.Packages(), p.facts.FileName())
	old, err := ell.Open(path)
	if err != nil {
		return nil // there is none, or it is damaged
	}
	defer old.Close()
	// A recipe that was edited since makes another package on purpose.
	if maps.Equal(old.Build.Options, record.Options) || old.Build.Recipe != record.Recipe {
		return nil
	}
	if same, err := p.payload.HasContents(old); err != nil || same {
		return nil
	}
	return &SharedNameError{j.recipe.Name, workspace.Display(path), old.Build.Options, record.Options}
}

// part is one of the packages of a recipe while it is made.
type part struct {
	name     string
	debug    bool
	claims   []staging.Claim
	payload  *ell.Payload
	files    []scan.File
	provides []scan.Provide
	facts    ell.Facts
}

// parts lists the packages that are to be made.
func (j *job) parts(claims map[string][]staging.Claim, debug []staging.Path) []*part {
	var out []*part
	for _, name := range j.recipe.PackageNames() {
		out = append(out, &part{name: name, claims: claims[name]})
	}
	split := &part{name: j.recipe.Name + symbolsSuffix, debug: true}
	for _, p := range debug {
		if p.Type == staging.File {
			split.claims = append(split.claims, staging.Claim{Path: p, Owner: staging.Root, Group: staging.Root})
		}
	}
	if len(split.claims) > 0 {
		out = append(out, split)
	}
	return out
}

// facts gathers what the recipe says of a package.
func (j *job) facts(made *part) ell.Facts {
	r, p := j.recipe, j.recipe.Packages[made.name]
	f := ell.Facts{
		Name: made.name, Version: r.Version, Release: r.Release, Epoch: r.Epoch, Arch: j.Workspace.Target.Arch, Target: j.Workspace.Target.Name,
		Summary: cmp.Or(p.Summary, r.Summary), Description: cmp.Or(p.Description, r.Description), License: r.License,
		Homepage: r.Homepage, Maintainer: r.Maintainer, Category: cmp.Or(p.Category, r.Category), Recipe: r.Name,
		Date: r.Date().Format(time.DateOnly), Accounts: accountsOf(p), Changes: changesOf(r),
	}
	if made.debug {
		f.Summary, f.Description, f.Category = "Debug information for "+r.Name, "", "debug"
		return f
	}
	if cmp.Or(p.Arch, r.Arch) == fact.Independent {
		f.Arch = fact.Independent
	}
	return f
}

// declare adds the needs and provides of a package: those of the recipe, and
// what was found in its files.
func (j *job) declare(p *part, all []*part) {
	r, own := j.recipe, j.recipe.Packages[p.name]
	for _, o := range own.Provides {
		p.facts.Provides = append(p.facts.Provides, ell.Provide{Provide: o})
	}
	for _, o := range p.provides {
		p.facts.Provides = append(p.facts.Provides, ell.Provide{Provide: o.Provide, Path: o.Path, Symbols: o.Symbols})
	}
	p.facts.Choices, p.facts.Refresh = choicesOf(own), refreshOf(own)
	for _, c := range p.facts.Choices {
		if dir, command := path.Split(c.Link); dir == "/usr/bin/" || dir == "/usr/sbin/" {
			p.facts.Provides = append(p.facts.Provides, ell.Provide{Provide: need.Provide{Kind: need.Command, Name: command}, Path: c.Path})
		}
	}
	p.facts.Conflicts, p.facts.Replaces, p.facts.Suggests = own.Conflicts, own.Replaces, own.Suggests
	declared := own.Needs
	if p.name == r.PackageNames()[0] {
		declared = slices.Concat(r.Needs.Run, own.Needs)
	}
	for _, n := range declared {
		p.facts.Needs = append(p.facts.Needs, ell.Need{Need: n})
	}
	found := scan.Needs(p.files, p.provides)
	for _, n := range siblings(p, found, all) {
		if !need.Contains(declared, n.Need) {
			p.facts.Needs = append(p.facts.Needs, n)
		}
	}
	for _, n := range found {
		p.facts.Needs = append(p.facts.Needs, ell.Need{Need: need.Of(n.Need), Path: n.Path, Symbols: n.Symbols})
	}
}

// choicesOf lists the links that a package offers paths for.
func choicesOf(p recipe.Package) []ell.Choice {
	var out []ell.Choice
	for _, path := range slices.Sorted(maps.Keys(p.Layout)) {
		if e := p.Layout[path]; e.Choice != "" {
			out = append(out, ell.Choice{Link: e.Choice, Path: path, Priority: e.Priority})
		}
	}
	slices.SortFunc(out, func(a, b ell.Choice) int { return strings.Compare(a.Link, b.Link) })
	return out
}

func refreshOf(p recipe.Package) []ell.Refresh {
	var out []ell.Refresh
	for _, r := range p.Refresh {
		out = append(out, ell.Refresh{Paths: r.Paths, Run: r.Run})
	}
	return out
}

// siblings are the packages of the same recipe that meet a need of this one,
// or hold what its links lead to: in exactly the version that they were made
// with, since nobody has tried it with another.
func siblings(p *part, needs []scan.Need, all []*part) []ell.Need {
	var out []ell.Need
	for _, other := range all {
		if other == p || other.debug {
			continue
		}
		from := ""
		for _, n := range needs {
			if slices.ContainsFunc(other.provides, func(o scan.Provide) bool { return n.Need.MetBy(o.Provide) }) {
				from = n.Path
				break
			}
		}
		if from == "" {
			from = linkInto(p.claims, other.claims)
		}
		if from != "" {
			exact := need.Alternative{Kind: need.Package, Name: other.name, Constraints: []need.Constraint{{Op: "=", Full: other.facts.Full()}}}
			out = append(out, ell.Need{Need: need.Of(exact), Path: from})
		}
	}
	return out
}

// linkInto finds a symbolic link among claims that leads to one of others.
func linkInto(claims, others []staging.Claim) string {
	there := map[string]bool{}
	for _, c := range others {
		if c.Type != staging.Directory {
			there[c.Path.Path] = true
		}
	}
	for _, c := range claims {
		if c.Type != staging.Symlink {
			continue
		}
		target := c.Link
		if !path.IsAbs(target) {
			target = path.Join(path.Dir(c.Path.Path), target)
		}
		if there[path.Clean(target)] {
			return c.Path.Path
		}
	}
	return ""
}

// sourceRecord names a source by what pins it: how git writes an archive of a
// commit may change with its version.
func sourceRecord(s source.Fetched) ell.SourceRecord {
	if s.Commit != "" {
		return ell.SourceRecord{Name: s.Name, Commit: s.Commit}
	}
	return ell.SourceRecord{Name: s.Name, SHA256: s.SHA256}
}

func (j *job) buildRecord(ctx context.Context) (ell.BuildRecord, error) {
	b := ell.BuildRecord{Ellwand: Version(), Recipe: fact.SHA256(j.recipe.Doc.Data), Needs: j.met, Options: j.recipe.Set, Isolation: j.Runner.Isolation(), Allow: j.recipe.Steps.Allow, Compression: j.compression(), Sources: []ell.SourceRecord{}, Files: map[string]string{}}
	if at, ok := revision.Of(ctx, j.recipe.Dir); ok {
		r := ell.Revision(at)
		b.Revision = &r
	}
	for i, s := range j.sources {
		record := sourceRecord(s)
		var err error
		if record.Modules, err = j.moduleList(i); err != nil {
			return b, err
		}
		b.Sources = append(b.Sources, record)
	}
	for _, p := range j.recipe.Packages {
		for _, e := range p.Layout {
			if e.From == "" {
				continue
			}
			data, err := j.recipe.ReadBeside(e.From)
			if err != nil {
				return b, err
			}
			b.Files[e.From] = fact.SHA256(data)
		}
	}
	return b, nil
}

// compression is the one that the recipe names, or the workspace; empty for
// the usual one.
func (j *job) compression() string {
	c := cmp.Or(j.recipe.Compression, j.Workspace.Settings.Build.Compression)
	if c == fact.CompressionNormal {
		return ""
	}
	return c
}

// accountsOf returns the accounts that a package declares.
func accountsOf(p recipe.Package) map[string]fact.Account {
	if len(p.Accounts) == 0 {
		return nil
	}
	out := map[string]fact.Account{}
	for name, a := range p.Accounts {
		out[name] = fact.Account{Home: a.Home, Summary: a.Summary}
	}
	return out
}

// changesOf returns the changelog of a recipe.
func changesOf(r *recipe.Recipe) []fact.Change {
	var out []fact.Change
	for _, c := range r.Changes {
		out = append(out, fact.Change{Version: c.Version, Date: string(c.Date), By: c.By, Text: c.Text})
	}
	return out
}
