package image

import (
	"context"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"
)

// node is a path in the tree of all layers.
type node struct {
	layer     int // that the path is from; -1 for none
	dir       bool
	directory Entry // if it is one
	children  map[string]*node
}

// flattening is the tree that layers make, one put over the other.
type flattening struct {
	layers []Layer
	top    node
	// links are the hard links of a layer that stay, by the file that they are links to. If
	// that file is replaced by another layer, the first of them gets the contents.
	links []map[string][]string
}

// Flatten returns what calls a function for the paths that are left of several layers, once
// each: whoever puts them below an empty directory has the image's tree.
func Flatten(ctx context.Context, layers []Layer) (func(context.Context, func(Entry, io.Reader) error) error, error) {
	f := &flattening{layers: layers, top: node{layer: -1, dir: true}}
	for i, l := range layers {
		links := map[string][]string{}
		err := l.List(ctx, func(e Entry) error {
			f.put(i, e)
			if e.Type == Hardlink {
				links[e.Link] = append(links[e.Link], e.Path)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		f.links = append(f.links, links)
	}
	return f.each, nil
}

func parts(p string) []string { return strings.Split(strings.TrimPrefix(p, "/"), "/") }

// put adds an entry of a layer to the tree.
func (f *flattening) put(layer int, e Entry) {
	n := &f.top
	names := parts(e.Path)
	switch e.Type {
	case Removed:
		last := names[len(names)-1]
		if above := f.find(names[:len(names)-1]); above != nil && above.children[last] != nil && above.children[last].layer != layer {
			delete(above.children, last)
		}
		return
	case Emptied:
		if n := f.find(names); n != nil {
			maps.DeleteFunc(n.children, func(_ string, c *node) bool { return c.layer != layer })
		}
		return
	}
	for _, name := range names {
		if !n.dir { // a directory takes the place of what was there
			n.layer, n.dir, n.children = -1, true, nil
		}
		if n.children == nil {
			n.children = map[string]*node{}
		}
		if n.children[name] == nil {
			n.children[name] = &node{layer: -1, dir: true}
		}
		n = n.children[name]
	}
	n.layer, n.dir = layer, e.Type == Directory
	if n.dir {
		n.directory = e
	} else {
		n.children = nil
	}
}

func (f *flattening) find(names []string) *node {
	n := &f.top
	for _, name := range names {
		if n = n.children[name]; n == nil {
			return nil
		}
	}
	return n
}

// stays reports whether a path of a layer is in the image.
func (f *flattening) stays(layer int, p string) bool {
	n := f.find(parts(p))
	return n != nil && n.layer == layer
}

// directories calls a function for the directories below a node at a path, the outer ones first.
// Those that no layer names have the usual mode.
func (n *node) directories(p string, visit func(Entry, io.Reader) error) error {
	e := n.directory
	switch {
	case !n.dir:
		return nil
	case n.layer < 0 && (p == "/" || len(n.children) == 0):
	case n.layer < 0:
		e = Entry{Path: p, Type: Directory, Mode: 0o755, Modified: time.Unix(0, 0).UTC()}
		fallthrough
	default:
		if err := visit(e, nil); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(n.children)) {
		if err := n.children[name].directories(path.Join(p, name), visit); err != nil {
			return err
		}
	}
	return nil
}

func (f *flattening) each(ctx context.Context, visit func(Entry, io.Reader) error) error {
	if err := f.top.directories("/", visit); err != nil {
		return err
	}
	for i, l := range f.layers {
		moved := map[string]string{} // a file that does not stay → the link that has its contents
		done := map[string]bool{}    // paths that an archive has twice
		err := l.Each(ctx, func(e Entry, r io.Reader) error {
			switch {
			case e.Type == Removed || e.Type == Emptied || e.Type == Directory || done[e.Path]:
				return nil
			case f.stays(i, e.Path):
				if to := moved[e.Link]; e.Type == Hardlink && to != "" {
					if e.Path == to {
						return nil // it is there already
					}
					e.Link = to
				}
				done[e.Path] = true
				return visit(e, r)
			case e.Type != File:
				return nil
			}
			links := slices.DeleteFunc(slices.Clone(f.links[i][e.Path]), func(p string) bool { return !f.stays(i, p) })
			if len(links) == 0 {
				return nil
			}
			moved[e.Path], done[links[0]] = links[0], true
			e.Path = links[0]
			return visit(e, r)
		})
		if err != nil {
			return err
		}
	}
	return nil
}
