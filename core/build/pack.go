package build

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"time"

	"ellwand.example/core/document"
	"ellwand.example/core/layout"
	"ellwand.example/core/pack"
	"ellwand.example/core/recipe"
	"ellwand.example/core/revision"
	"ellwand.example/core/scan"
	"ellwand.example/core/source"
)

// Unpinned is the problem of a source that states no digest, with the line
// that states it.
func Unpinned(r *recipe.Recipe, i int, f source.Fetched) document.Problem {
	if f.Commit != "" {
		return r.Doc.ProblemAt(r.Doc.At("source", i, "git"), fmt.Sprintf("%s names no commit, and a tag can be moved", f.Name),
			fmt.Sprintf("once you trust what the tag %s stands for, `ellwand fetch %s --pin` adds:\ncommit = %q", r.Sources[i].Tag, r.Name, f.Commit))
	}
	return r.Doc.ProblemAt(r.Doc.At("source", i, "url"), fmt.Sprintf("%s has no sha256, so nobody can tell whether it is the right file", f.Name),
		fmt.Sprintf("once you trust what was fetched (%d bytes), `ellwand fetch %s --pin` adds:\nsha256 = %q", f.Size, r.Name, f.SHA256))
}

// pack makes the packages from the staged tree.
func (j *job) pack(ctx context.Context, dir string) ([]pack.Written, error) {
	staged, err := layout.Walk(dir)
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
	var specs []pack.Spec
	for _, name := range j.recipe.PackageNames() {
		if len(claims[name]) == 0 && len(staged) == 0 {
			return nil, fmt.Errorf("%s: step pack: the stage step installed nothing into $DESTDIR", j.recipe.Name)
		}
		files, err := scan.Claims(ctx, claims[name])
		if err != nil {
			return nil, err
		}
		specs = append(specs, pack.Spec{
			Facts: j.facts(name, claims[name], files), Claims: claims[name], Scripts: j.recipe.Packages[name].Scripts.All(),
			Recipe: j.recipe.Doc.Data, Build: record, Time: j.recipe.Date(),
		})
	}
	if spec := j.debugSpec(debug, record); spec != nil {
		specs = append(specs, *spec)
	}
	var written []pack.Written
	for _, spec := range specs {
		w, err := pack.Write(ctx, j.Workspace.Packages(), spec, j.Progress)
		if err != nil {
			return nil, fmt.Errorf("%s: step pack: %w", j.recipe.Name, err)
		}
		written = append(written, w)
	}
	return written, nil
}

// debugSpec is the package of what was split off; nil where there is nothing.
func (j *job) debugSpec(files []layout.Path, record pack.BuildRecord) *pack.Spec {
	var claims []layout.Claim
	for _, p := range files {
		if p.Type == layout.File {
			claims = append(claims, layout.Claim{Path: p, Owner: layout.Root, Group: layout.Root})
		}
	}
	if len(claims) == 0 {
		return nil
	}
	f := j.facts(j.recipe.Name+debugSuffix, nil, nil)
	f.Summary, f.Description, f.Category = "Debug information for "+j.recipe.Name, "", "debug"
	return &pack.Spec{Facts: f, Claims: claims, Recipe: j.recipe.Doc.Data, Build: record, Time: j.recipe.Date()}
}

// facts gathers what a package says of itself: from the recipe, and from what
// was found in its files.
func (j *job) facts(name string, claims []layout.Claim, files []scan.File) pack.Facts {
	r, p := j.recipe, j.recipe.Packages[name]
	f := pack.Facts{
		Name: name, Version: r.Version, Release: r.Release, Epoch: r.Epoch, Arch: j.Workspace.Target.Arch, Target: j.Workspace.Target.Name,
		Summary: cmp.Or(p.Summary, r.Summary), Description: cmp.Or(p.Description, r.Description), License: r.License,
		Homepage: r.Homepage, Maintainer: r.Maintainer, Category: cmp.Or(p.Category, r.Category), Recipe: r.Name,
		Date: r.Date().Format(time.DateOnly), Accounts: p.Accounts, Changes: r.Changes,
	}
	if cmp.Or(p.Arch, r.Arch) == recipe.AnyArch {
		f.Arch = recipe.AnyArch
	}
	own := scan.Provides(claims, files)
	for _, text := range p.Provides {
		f.Provides = append(f.Provides, pack.Provide{Provide: text})
	}
	for _, o := range own {
		f.Provides = append(f.Provides, pack.Provide{Provide: o.String(), Path: o.Path})
	}
	declared := p.Needs
	if name == r.PackageNames()[0] {
		declared = append(append([]string{}, r.Needs.Run...), p.Needs...)
	}
	for _, text := range declared {
		f.Needs = append(f.Needs, pack.Need{Need: text})
	}
	for _, n := range scan.Needs(files, own) {
		f.Needs = append(f.Needs, pack.Need{Need: n.Need.String(), Path: n.Path, Symbols: n.Symbols})
	}
	return f
}

// sourceRecord names a source by what pins it: how git writes an archive of a
// commit may change with its version.
func sourceRecord(s source.Fetched) pack.SourceRecord {
	if s.Commit != "" {
		return pack.SourceRecord{Name: s.Name, Commit: s.Commit}
	}
	return pack.SourceRecord{Name: s.Name, SHA256: s.SHA256}
}

func (j *job) buildRecord(ctx context.Context) (pack.BuildRecord, error) {
	sum := sha256.Sum256(j.recipe.Doc.Data)
	b := pack.BuildRecord{Ellwand: Version, Recipe: hex.EncodeToString(sum[:]), Needs: j.met, Options: j.recipe.Set, Isolation: j.Runner.Isolation(), Sources: []pack.SourceRecord{}, Files: map[string]string{}}
	if at, ok := revision.Of(ctx, j.recipe.Dir); ok {
		r := pack.Revision(at)
		b.Revision = &r
	}
	for _, s := range j.sources {
		b.Sources = append(b.Sources, sourceRecord(s))
	}
	for _, p := range j.recipe.Packages {
		for _, e := range p.Layout {
			if e.From == "" {
				continue
			}
			data, err := os.ReadFile(j.recipe.Beside(e.From))
			if err != nil {
				return b, err
			}
			sum := sha256.Sum256(data)
			b.Files[e.From] = hex.EncodeToString(sum[:])
		}
	}
	return b, nil
}
