package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/image"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/oci"
	"ellwand.example/core/root"
	"ellwand.example/core/workspace"
)

// imageSystem is what is below the packages of an image.
type imageSystem struct {
	build.UnpackedSystem
	lock image.SystemLock
	// layer is that of a directory.
	layer image.Layer
}

// imageSystem finds the system of an image. One in a registry is the one of the lock, if the
// lock has it and does not move.
func (a *App) imageSystem(ctx context.Context, w *workspace.Workspace, d *image.Description, locked image.SystemLock) (s imageSystem, err error) {
	s.lock.Name = cmp.Or(d.System, image.SystemNone)
	if s.lock.Name == image.SystemNone {
		return s, nil
	}
	place := w.Abs(d.System)
	if _, err := os.Stat(place); errors.Is(err, fs.ErrNotExist) {
		if place, err = a.pullSystem(ctx, w, d, locked); err != nil {
			return s, err
		}
	} else if err != nil {
		return s, err
	}
	s.UnpackedSystem, err = build.OpenSystem(ctx, w.State("systems"), place, w.Target.Arch, a.Progress)
	if err != nil {
		return s, fmt.Errorf("the system of image %s: %w", d.Name, err)
	}
	if s.lock.Digest = s.Digest; s.Digest == "" {
		s.layer, err = image.DirectoryLayer(ctx, s.Dir)
		s.lock.Digest = s.layer.Key
	}
	return s, err
}

// pullSystem fetches the system of an image from a registry, and returns its layout.
func (a *App) pullSystem(ctx context.Context, w *workspace.Workspace, d *image.Description, locked image.SystemLock) (string, error) {
	if _, err := oci.ParseReference(d.System); err != nil {
		return "", fact.Errorf(fact.StatusInput, "%s: there is no system %s: it is none, a directory, an archive of a root, an OCI image in the layout or an archive of it, or HOST/NAME:TAG in a registry", d.Doc.File, d.System)
	}
	reference := d.System
	if locked.Name == d.System && locked.Digest != "" {
		if dir := oci.Pulled(w.State("systems"), locked.Digest); dir != "" {
			return dir, nil
		}
		if name, _, ok := strings.Cut(reference, "@"); ok {
			reference = name
		}
		reference = strings.TrimSuffix(reference, ":"+tagOf(reference)) + "@sha256:" + locked.Digest
	}
	task := a.Progress.Begin("pull "+d.System, 0, "")
	defer task.End("done")
	return oci.Registry{}.Pull(ctx, reference, fact.GoArchitecture(w.Target.Arch), w.State("systems"))
}

// tagOf is the tag of a reference; empty if it has none.
func tagOf(reference string) string {
	_, tag, _ := strings.Cut(reference[strings.LastIndex(reference, "/")+1:], ":")
	return tag
}

// imageSettings are those of the root that an image is made of.
func (a *App) imageSettings(w *workspace.Workspace, d *image.Description, s imageSystem) (root.Settings, error) {
	settings := root.Settings{Target: w.Target.Name, Arch: w.Target.Arch, Without: d.Without, System: cmp.Or(s.Dir, root.SystemNone)}
	on := &App{Workspace: w, Progress: a.Progress}
	var err error
	if settings.System != root.SystemNone {
		if settings.System, err = filepath.Abs(settings.System); err != nil {
			return settings, err
		}
	}
	settings.Repositories, err = on.rootRepositories(d.Repositories, d.Channel)
	return settings, err
}

// wantedPackages are what a description asks for: its packages, and those of its list in
// JSON, of which a digest names one exactly.
func wantedPackages(d *image.Description) (wanted []need.Need, exact map[string]string, err error) {
	wanted, exact = slices.Clone(d.Packages), map[string]string{}
	components, err := d.Components()
	if err != nil {
		return nil, nil, err
	}
	for i, c := range components {
		wrong := func(err error) error {
			return fact.Errorf(fact.StatusInput, "%s: %s: component %d: %w", d.Doc.File, d.Manifest, i+1, err)
		}
		n, err := need.Parse(c.Name)
		if err != nil {
			return nil, nil, wrong(err)
		}
		if c.Version != "" {
			if full, errFull := version.ParseFull(c.Version); errFull == nil {
				n = exactly(c.Name, full)
			} else if n, err = need.Parse(c.Name + " = " + c.Version); err != nil {
				return nil, nil, wrong(err)
			}
		}
		if c.Digest != "" {
			exact[c.Name] = c.Digest
		}
		wanted = append(wanted, n)
	}
	return wanted, exact, nil
}

// wantedDigest stands for what the packages of an image were chosen by.
func wantedDigest(d *image.Description, wanted []need.Need, exact map[string]string) (string, error) {
	data, err := canonical.Marshal(map[string]any{
		"packages": wanted, "digests": exact, "system": cmp.Or(d.System, image.SystemNone), "repositories": d.Repositories, "channel": d.Channel, "suggestions": d.Suggestions,
	})
	return fact.SHA256(data), err
}

// imageChoice chooses the packages of an image.
type imageChoice struct {
	description *image.Description
	root        *root.Root // an empty one, with the image's settings
	locked      []image.LockedPackage
	move        []string // packages of the lock that may change
	moveAll     bool
}

// choosePackages solves for the packages of an image. What is locked stays as far as it can,
// unless it may move.
func (a *App) choosePackages(ctx context.Context, w *workspace.Workspace, c imageChoice) ([]image.LockedPackage, error) {
	wanted, exact, err := wantedPackages(c.description)
	if err != nil {
		return nil, err
	}
	on := &App{Workspace: w, Progress: a.Progress}
	u, err := on.openSupply(ctx, c.root, root.State{}, RootChange{UpgradeAll: true})
	if err != nil {
		return nil, err
	}
	defer u.Close()
	if err := u.addPublished(ctx); err != nil {
		return nil, err
	}
	if err := u.preferLocked(ctx, c); err != nil {
		return nil, err
	}
	for name, digest := range exact {
		if err := u.only(ctx, name, digest); err != nil {
			return nil, err
		}
	}
	asked := map[string]bool{}
	for _, n := range wanted {
		if one := n.Alternatives[0]; one.Kind == need.Package {
			if err := u.known(one.Name); err != nil {
				return nil, fmt.Errorf("image %s: %w", c.description.Name, err)
			}
			asked[one.Name] = true
		}
	}
	answer, err := solve.Solve(solve.Request{Packages: u.all, Install: wanted, System: u.meets, Suggestions: c.description.Suggestions})
	if err != nil && c.root.Settings.System == root.SystemNone {
		a.Progress.Note(fmt.Sprintf("image %s is based on no system; `system` in %s names one", c.description.Name, c.description.Doc.File))
	}
	if err != nil {
		return nil, err
	}
	var out []root.Installed
	for _, p := range reached(answer.Packages, wanted, c.description.Suggestions) {
		in, err := u.open(ctx, p)
		if err != nil {
			return nil, err
		}
		f := in.Package.Facts
		out = append(out, root.Installed{Name: f.Name, Version: f.Version, Release: f.Release, Epoch: f.Epoch, Arch: f.Arch, SHA256: in.SHA256, Bytes: in.Bytes, Asked: asked[f.Name]})
	}
	if err := u.keep(ctx); err != nil {
		return nil, err
	}
	return image.NewPackages(out, c.locked), nil
}

// preferLocked marks the packages of the lock that stay as if they were installed.
func (u *supply) preferLocked(ctx context.Context, c imageChoice) error {
	if c.moveAll {
		return nil
	}
	locked := map[string]image.LockedPackage{}
	for _, p := range c.locked {
		if !slices.Contains(c.move, p.Name) {
			locked[p.Name] = p
		}
	}
	for _, p := range u.all {
		l, ok := locked[p.Name]
		if !ok || l.Full().Compare(p.Full) != 0 {
			continue
		}
		same, err := u.hasDigest(ctx, p, l.SHA256)
		if err != nil {
			return err
		}
		if same {
			p.Installed = true
			delete(locked, p.Name)
		}
	}
	return nil
}

func (u *supply) hasDigest(ctx context.Context, p *solve.Package, sha256 string) (bool, error) {
	o := u.from[p]
	if o.sha256 == "" {
		in, err := u.open(ctx, p)
		return in.SHA256 == sha256, err
	}
	return o.sha256 == sha256, nil
}

// only leaves one package of a name to choose: that with a digest.
func (u *supply) only(ctx context.Context, name, sha256 string) error {
	var left []*solve.Package
	found := false
	for _, p := range u.all {
		if p.Name == name {
			same, err := u.hasDigest(ctx, p, sha256)
			if err != nil {
				return err
			}
			if !same {
				continue
			}
			found = true
		}
		left = append(left, p)
	}
	u.all = left
	if !found {
		return fact.Errorf(fact.StatusInput, "no repository has the package %s with the digest %s", name, sha256)
	}
	return nil
}

// reached leaves out packages of a lock that nothing asks for any more.
func reached(all []*solve.Package, wanted []need.Need, suggestions bool) []*solve.Package {
	seen := map[*solve.Package]bool{}
	var visit func(n solve.Need)
	visit = func(n solve.Need) {
		for _, p := range all {
			if seen[p] || !p.Offers(n) {
				continue
			}
			seen[p] = true
			for _, more := range p.Needs {
				visit(more)
			}
			if suggestions {
				for _, more := range p.Suggests {
					visit(solve.Need{Need: more})
				}
			}
		}
	}
	for _, n := range wanted {
		visit(solve.Need{Need: n})
	}
	return slices.DeleteFunc(slices.Clone(all), func(p *solve.Package) bool { return !seen[p] })
}

// PrunedError reports packages of a lock that are nowhere any more.
type PrunedError struct {
	Image    string
	Packages []string // identities
}

func (e *PrunedError) Error() string {
	return fmt.Sprintf("the lock of image %s has %s, which %s in no repository any more", e.Image, strings.Join(e.Packages, ", "), verb(len(e.Packages), "is", "are"))
}

// Status is that of bad input.
func (e *PrunedError) Status() fact.Status { return fact.StatusInput }

// Action moves the lock.
func (e *PrunedError) Action() fact.Action {
	return fact.Action{Verb: fact.UpdateImage, Subject: e.Image}
}

// findLocked finds the very packages of a lock.
func (u *supply) findLocked(ctx context.Context, name string, locked []image.LockedPackage) ([]root.Incoming, error) {
	var out []root.Incoming
	lost := &PrunedError{Image: name}
	for _, p := range locked {
		in, err := u.find(ctx, p.Installed())
		if err != nil {
			return nil, err
		}
		if in.Package == nil {
			lost.Packages = append(lost.Packages, p.Identity())
			continue
		}
		out = append(out, in)
	}
	if len(lost.Packages) > 0 {
		return nil, lost
	}
	return out, nil
}

// builtFile finds a package by its digest among those that the workspace has built.
func (u *supply) builtFile(ctx context.Context, i root.Installed) (*ell.Package, error) {
	w := u.app.Workspace
	if w == nil {
		return nil, nil
	}
	file := filepath.Join(w.AllPackages(), u.root.Settings.Target, i.Identity()+ell.Extension)
	if info, err := os.Stat(file); err != nil || info.Size() != i.Bytes {
		return nil, nil
	}
	p, err := ell.Open(file)
	if err != nil {
		return nil, nil // a file that is damaged is not the one
	}
	same, err := u.isFile(ctx, p, i.SHA256)
	if err != nil || !same {
		return nil, errors.Join(err, p.Close())
	}
	return p, nil
}
