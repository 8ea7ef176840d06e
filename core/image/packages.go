package image

import (
	"cmp"
	"context"
	"fmt"
	"hash/fnv"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/root"
	"ellwand.example/core/staging"
)

// Content is a package that is in an image.
type Content struct {
	Installed root.Installed
	Record    *root.Record
	Package   *ell.Package
	Numbers   root.Numbers
	// Changes is how often the image's lock moved the package to another version.
	Changes int
}

// How packages are divided among layers: by how often they change, so that a layer that
// changes often is small. Within a group, the name alone decides, so that a package neither
// comes nor goes with others.
const (
	steadyLayers = 4 // of packages that others need, and that never changed
	movingLayers = 4 // of packages that were asked for, or that changed
	busyLayers   = 2 // of packages that changed many times
	manyChanges  = 4
)

// layerOf names the layer that a package is in.
func (c Content) layerOf() string {
	group, n := "steady", uint32(steadyLayers)
	switch {
	case c.Changes >= manyChanges:
		group, n = "busy", busyLayers
	case c.Changes > 0 || c.Installed.Asked:
		group, n = "moving", movingLayers
	}
	h := fnv.New32a()
	h.Write([]byte(c.Installed.Name))
	return fmt.Sprintf("packages %s %d", group, h.Sum32()%n+1)
}

// groups are the layers in the order that they have in an image.
var groups = []string{"steady", "moving", "busy"}

// PackageLayers divides packages among layers. There reports whether a directory is in the
// system below; those that are nowhere are created.
func PackageLayers(all []Content, there func(dir string) bool) ([]Layer, error) {
	byLayer := map[string][]Content{}
	for _, c := range all {
		byLayer[c.layerOf()] = append(byLayer[c.layerOf()], c)
	}
	var names []string
	for name := range byLayer {
		names = append(names, name)
	}
	order := func(name string) int {
		return slices.IndexFunc(groups, func(g string) bool { return strings.Contains(name, " "+g+" ") })
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(order(a)-order(b), strings.Compare(a, b)) })
	var out []Layer
	for _, name := range names {
		l, err := packageLayer(name, byLayer[name], there)
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}

// packageEntries are a package's entries as an image has them: those that go first, files
// with contents of their own, and those that refer to them.
type packageEntries struct {
	content      Content
	first, after []Entry
	files        []ell.Entry
	byPath       map[string]Entry     // of files, by their path in the package
	copies       map[string]ell.Entry // files with the contents of another, by their path in the image
}

func packageLayer(name string, all []Content, there func(string) bool) (Layer, error) {
	slices.SortFunc(all, func(a, b Content) int { return strings.Compare(a.Installed.Name, b.Installed.Name) })
	l := Layer{Name: name}
	var parts []packageEntries
	found := map[string]Entry{}
	var listed []Entry
	for _, c := range all {
		p, err := c.entries(found, there)
		if err != nil {
			return l, err
		}
		parts = append(parts, p)
		l.Packages = append(l.Packages, c.Installed.Identity())
		listed = append(listed, p.first...)
		for _, e := range p.files {
			listed = append(listed, p.byPath[e.Path])
		}
		listed = append(listed, p.after...)
		for _, e := range listed {
			found[e.Path] = e
		}
	}
	var err error
	l.Key, err = keyOf(listed)
	l.List = listOf(listed)
	l.Each = func(ctx context.Context, visit func(Entry, io.Reader) error) error {
		for _, p := range parts {
			if err := p.each(ctx, visit); err != nil {
				return fmt.Errorf("%s: %w", p.content.Installed.Identity(), err)
			}
		}
		return nil
	}
	return l, err
}

// entries lists what a package adds to a layer that has some entries already.
func (c Content) entries(found map[string]Entry, there func(string) bool) (packageEntries, error) {
	p := packageEntries{content: c, byPath: map[string]Entry{}, copies: map[string]ell.Entry{}}
	when, err := time.Parse(time.DateOnly, c.Record.Facts.Date)
	if err != nil {
		when = time.Unix(0, 0)
	}
	directories := map[string]bool{}
	var parents func(dir string)
	parents = func(dir string) {
		if dir == "/" || directories[dir] || there(dir) {
			return
		}
		if _, ok := found[dir]; ok {
			return
		}
		directories[dir] = true
		parents(path.Dir(dir))
		p.first = append(p.first, Entry{Path: dir, Type: Directory, Mode: 0o755, Modified: when.UTC()})
	}
	layout := ell.Standalone(c.Record.Layout)
	for _, e := range layout { // what it lists itself has its own mode
		if e.Type == staging.Directory {
			directories[c.Record.At(e.Path)] = true
		}
	}
	for _, e := range layout {
		uid, gid, ok := c.Numbers.Of(e.Owner, e.Group)
		if !ok {
			return p, fact.Errorf(fact.StatusInput, "%s: %s belongs to %s:%s, and the image has no such account: the recipe has to declare it", c.Installed.Identity(), e.Path, e.Owner, e.Group)
		}
		one := Entry{Path: c.Record.At(e.Path), Mode: fact.ModeBits(fact.ParseMode(e.Mode)), UID: uid, GID: gid, Modified: when.UTC()}
		for name, value := range e.Xattrs {
			if one.Xattrs == nil {
				one.Xattrs = map[string]string{}
			}
			one.Xattrs[name] = string(value)
		}
		parents(path.Dir(one.Path))
		switch {
		case e.Type == staging.Directory:
			one.Type = Directory
			if other, ok := found[one.Path]; !ok || other.Mode != one.Mode || other.UID != one.UID || other.GID != one.GID {
				p.first = append(p.first, one)
			}
		case e.Type == staging.Symlink:
			one.Type, one.Link, one.Mode = Symlink, e.Link, 0o777
			p.first = append(p.first, one)
		case e.Same != "":
			one.Type, one.Link = Hardlink, c.Record.At(e.Same)
			p.after = append(p.after, one)
		default:
			one.Type, one.Size, one.SHA256 = File, e.Size, e.SHA256
			if e.Copy != "" {
				p.copies[one.Path] = e
				p.after = append(p.after, one)
				continue
			}
			p.files = append(p.files, e)
			p.byPath[e.Path] = one
		}
	}
	return p, nil
}

// each calls a function for the entries of a package.
func (p packageEntries) each(ctx context.Context, visit func(Entry, io.Reader) error) error {
	for _, e := range p.first {
		if err := visit(e, nil); err != nil {
			return err
		}
	}
	stored, err := p.content.Package.Layout()
	if err != nil {
		return err
	}
	// The record does not say where the contents are in the payload.
	locate := func(files []ell.Entry) []ell.Entry {
		var out []ell.Entry
		for _, e := range files {
			at, ok := ell.Find(stored, e.Path)
			if !ok || at.SHA256 != e.SHA256 {
				continue
			}
			if of, ok := ell.Find(stored, cmp.Or(at.Copy, at.Same)); ok {
				at.At = of.At
			}
			out = append(out, at)
		}
		return out
	}
	seen := 0
	err = p.content.Package.Contents(ctx, locate(p.files), func(e ell.Entry, r io.Reader) error {
		seen++
		return visit(p.byPath[e.Path], r)
	})
	if err == nil && seen != len(p.files) {
		err = fmt.Errorf("%d of %d files are not in the package as its record has them", len(p.files)-seen, len(p.files))
	}
	if err != nil {
		return err
	}
	for _, e := range p.after {
		if e.Type != File {
			if err := visit(e, nil); err != nil {
				return err
			}
			continue
		}
		if err := p.copied(ctx, e, visit); err != nil {
			return err
		}
	}
	return nil
}

// copied reads a file whose contents are those of another.
func (p packageEntries) copied(ctx context.Context, e Entry, visit func(Entry, io.Reader) error) error {
	stored, err := p.content.Package.Layout()
	if err != nil {
		return err
	}
	at, ok := ell.Find(stored, p.copies[e.Path].Copy)
	if !ok {
		return fmt.Errorf("%s has no contents", e.Path)
	}
	return p.content.Package.Contents(ctx, []ell.Entry{at}, func(_ ell.Entry, r io.Reader) error { return visit(e, r) })
}
