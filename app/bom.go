package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"ellwand.example/core/bom"
	"ellwand.example/core/ell"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/oci"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
	"ellwand.example/core/root"
	"ellwand.example/core/workspace"
)

// Bill makes the bill of materials of a package, a root, an image, or a channel of a
// repository (REPOSITORY@CHANNEL). Of what is installed and no longer available as a package,
// the bill has no sources.
func (a *App) Bill(ctx context.Context, word string) (*bom.Bill, error) {
	name, channel, at := strings.Cut(word, "@")
	switch {
	case root.IsRoot(word):
		return a.billOfRoot(ctx, word)
	case a.IsImage(word):
		return a.billOfImage(ctx, word)
	case at && a.isRepository(name), a.isRepository(word):
		return a.billOfChannel(ctx, name, channel)
	}
	p, err := a.OpenPackage(ctx, word)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	sum := ""
	if !IsPackageURL(p.Path) {
		if sum, err = files.SHA256(ctx, p.Path); err != nil {
			return nil, err
		}
	}
	one, err := a.billedPackage(ctx, p, sum, true)
	if err != nil {
		return nil, err
	}
	return a.bill(bom.Subject{Kind: bom.KindPackage, Name: p.Facts.Name, Version: p.Facts.Full().String(), Summary: p.Facts.Summary, SHA256: sum}, []bom.Package{one}), nil
}

// isRepository reports whether a word is a configured repository, or a place with one.
func (a *App) isRepository(word string) bool {
	if a.IsConfigured(word) {
		return true
	}
	_, err := os.Stat(filepath.Join(word, storage.PointerFile))
	return err == nil
}

func (a *App) bill(s bom.Subject, packages []bom.Package) *bom.Bill {
	slices.SortFunc(packages, func(x, y bom.Package) int {
		return cmp.Or(strings.Compare(x.Facts.Name, y.Facts.Name), strings.Compare(x.Facts.Identity(), y.Facts.Identity()))
	})
	return &bom.Bill{Subject: s, Packages: packages, Tool: build.Version()}
}

// billedPackage reads what a bill has of a package. What takes reading all of it is kept below
// the workspace's state.
func (a *App) billedPackage(ctx context.Context, p *ell.Package, sha256 string, withFiles bool) (bom.Package, error) {
	kept := ""
	if a.Workspace != nil && sha256 != "" && withFiles {
		kept = a.Workspace.State("bom", sha256+".json")
	}
	out := bom.Package{Facts: p.Facts, Build: &p.Build, SHA256: sha256}
	var read struct {
		Files     []bom.File `json:"files"`
		Concluded string     `json:"concluded"`
	}
	if data, err := os.ReadFile(kept); err == nil && json.Unmarshal(data, &read) == nil {
		out.Files, out.Concluded = read.Files, read.Concluded
	} else {
		if out, err = bom.Read(ctx, p, sha256, withFiles); err != nil {
			return out, err
		}
		read.Files, read.Concluded = out.Files, out.Concluded
		if data, err := json.Marshal(read); err == nil && kept != "" {
			if err := errors.Join(os.MkdirAll(filepath.Dir(kept), 0o755), files.Write(kept, data)); err != nil {
				return out, err
			}
		}
	}
	out.URLs = sourceURLs(p)
	return out, nil
}

// sourceURLs are where the sources of a package were downloaded, as its recipe says, by their
// digests or commits.
func sourceURLs(p *ell.Package) map[string]string {
	text, ok := p.Meta(recipe.FileName)
	if !ok {
		return nil
	}
	// A recipe of another version may have mistakes: what can be read of it counts.
	r, _ := recipe.Parse(recipe.FileName, text, recipe.Target{Name: p.Facts.Target, Arch: p.Facts.Arch}, p.Build.Options)
	if r == nil {
		return nil
	}
	out := map[string]string{}
	for _, s := range r.Sources {
		if key := cmp.Or(s.SHA256, s.Commit); key != "" {
			out[key] = cmp.Or(s.URL, s.Git)
		}
	}
	return out
}

// billOfRoot is the bill of what is installed in a root.
func (a *App) billOfRoot(ctx context.Context, dir string) (*bom.Bill, error) {
	r, err := root.Open(dir)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	s, err := r.State()
	if err != nil {
		return nil, err
	}
	records := map[string]*root.Record{}
	for _, p := range s.Packages {
		if records[p.Name], err = r.Record(p); err != nil {
			return nil, err
		}
	}
	packages, err := a.billedInstalled(ctx, r, s.Packages, records)
	return a.bill(bom.Subject{Kind: bom.KindRoot, Name: filepath.Base(filepath.Clean(dir)), Version: r.Settings.Target}, packages), err
}

// billedInstalled reads what a bill has of installed packages: of their files where these can
// be found, and otherwise of the record.
func (a *App) billedInstalled(ctx context.Context, r *root.Root, installed []root.Installed, records map[string]*root.Record) ([]bom.Package, error) {
	out := make([]bom.Package, len(installed))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range installed {
		g.Go(func() error {
			u := &supply{app: a, root: r}
			defer u.Close()
			in, err := u.find(ctx, p)
			if err != nil {
				return err
			}
			if in.Package != nil {
				out[i], err = a.billedPackage(ctx, in.Package, p.SHA256, true)
				out[i].Asked = p.Asked
				return err
			}
			if rec := records[p.Name]; rec != nil {
				out[i] = bom.Package{Facts: rec.Facts, SHA256: p.SHA256, Asked: p.Asked}
				return nil
			}
			return fact.Errorf(fact.StatusInput, "%s is in no repository any more", p.Identity())
		})
	}
	return out, g.Wait()
}

// billOfImage is the bill of an image: of one of the workspace, by its lock.
func (a *App) billOfImage(ctx context.Context, word string) (*bom.Bill, error) {
	c, err := a.ReadImage(ctx, word)
	if err != nil {
		return nil, err
	}
	settings := root.Settings{System: root.SystemNone}
	if a.Workspace != nil {
		settings.Target, settings.Arch = a.Workspace.Target.Name, a.Workspace.Target.Arch
		if settings.Repositories, err = a.rootRepositories(nil, ""); err != nil {
			return nil, err
		}
	}
	packages, err := a.billedInstalled(ctx, &root.Root{Settings: settings}, c.Packages, c.Records)
	return a.bill(bom.Subject{Kind: bom.KindImage, Name: imageName(word), SHA256: c.Digest}, packages), err
}

// imageName is what an image is called: its file's name without what says of which form it is.
func imageName(word string) string {
	name := filepath.Base(filepath.Clean(word))
	for _, suffix := range append([]string{".oci"}, imageSuffixes...) {
		if short, ok := strings.CutSuffix(name, suffix); ok {
			return short
		}
	}
	return name
}

// billOfChannel is the bill of a channel, without the files of its packages.
func (a *App) billOfChannel(ctx context.Context, name, channel string) (*bom.Bill, error) {
	o, err := a.Repository(name, channel)
	if err != nil {
		return nil, err
	}
	state, err := o.At(ctx, o.Channel)
	if err != nil {
		return nil, err
	}
	var records []index.Record
	for _, target := range slices.Sorted(maps.Keys(state.Records)) {
		records = append(records, state.Records[target]...)
	}
	out := make([]bom.Package, len(records))
	task := a.Progress.Begin("bom", int64(len(records)), "packages")
	defer task.End("done")
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, rec := range records {
		g.Go(func() error {
			p, err := o.Package(ctx, rec)
			if err != nil {
				return err
			}
			defer p.Close()
			defer task.Advance(1)
			out[i], err = a.billedPackage(ctx, p, rec.SHA256, false)
			return err
		})
	}
	err = g.Wait()
	return a.bill(bom.Subject{Kind: bom.KindChannel, Name: o.Name, Version: o.Channel}, out), err
}

// documents makes documents about packages that are published.
func (a *App) documents(kinds []string) func(ctx context.Context, file, sha256 string) (map[string][]byte, error) {
	return func(ctx context.Context, file, sha256 string) (map[string][]byte, error) {
		p, err := ell.Open(file)
		if err != nil {
			return nil, err
		}
		defer p.Close()
		one, err := a.billedPackage(ctx, p, sha256, true)
		if err != nil {
			return nil, err
		}
		bill := a.bill(bom.Subject{Kind: bom.KindPackage, Name: p.Facts.Name, Version: p.Facts.Full().String(), Summary: p.Facts.Summary, SHA256: sha256}, []bom.Package{one})
		out := map[string][]byte{}
		for _, kind := range kinds {
			suffix, write := ".spdx.json", bill.SPDX
			switch kind {
			case workspace.DocumentCycloneDX:
				suffix, write = ".cdx.json", bill.CycloneDX
			case workspace.DocumentProvenance:
				suffix, write = ".provenance.json", one.Provenance
			}
			if out[suffix], err = write(); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
}

// attachBills adds the bills of an image to its layout, as documents that belong to its
// manifest.
func (j *imageJob) attachBills(ctx context.Context, c *content, w *oci.Writer, d v1.Descriptor) ([]v1.Descriptor, error) {
	packages := make([]bom.Package, len(c.packages))
	task := j.app.Progress.Begin("image "+j.description.Name+": bill of materials", int64(len(packages)), "packages")
	defer task.End("done")
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range c.packages {
		g.Go(func() (err error) {
			defer task.Advance(1)
			packages[i], err = j.app.billedPackage(inner, p.Package, p.Installed.SHA256, true)
			packages[i].Asked = p.Installed.Asked
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	bill := j.app.bill(bom.Subject{Kind: bom.KindImage, Name: j.description.Name, Summary: j.description.Summary, SHA256: d.Digest.Encoded()}, packages)
	var out []v1.Descriptor
	for _, form := range []struct {
		mediaType string
		write     func() ([]byte, error)
	}{{bom.SPDXType, bill.SPDX}, {bom.CycloneDXType, bill.CycloneDX}} {
		data, err := form.write()
		if err != nil {
			return nil, err
		}
		one, err := w.Attach(d, form.mediaType, data, map[string]string{v1.AnnotationCreated: c.when.Format(time.RFC3339)})
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}
