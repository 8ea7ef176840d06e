// Package figure draws pictures of what the core knows, as SVG 1.1 and PNG.
package figure

import (
	"cmp"
	"slices"
	"strings"
)

// Item is a file with its size.
type Item struct {
	Path  string // with / between its names
	Bytes int64
	Group string // one of Sizes.Groups; decides the colour
}

// Sizes is a picture of how large files are: each file is a box whose area is
// its share, in the box of its directory (a treemap, squarified: Bruls, Huizing,
// van Wijk 2000).
type Sizes struct {
	Title  string
	Items  []Item
	Groups []string // in the order of the legend
	Label  func(bytes int64) string
}

// The picture's measures, in pixels.
const (
	width, height = 1280, 800
	top           = 56 // title and legend
	margin        = 8
	headLine      = 18 // a directory's name
	leastBox      = 3  // a side below this is not drawn apart
)

// rect is a place in the picture.
type rect struct{ x, y, w, h float64 }

func (r rect) inset(n float64) rect {
	return rect{r.x + n, r.y + n, max(r.w-2*n, 0), max(r.h-2*n, 0)}
}

// box is a file or directory in its place.
type box struct {
	rect
	label string // empty if there is no room
	size  string
	path  string
	group int // of a file; -1 for a directory
}

// node is a file or directory.
type node struct {
	name, path string
	bytes      int64
	group      int
	below      []*node
	byName     map[string]*node
}

func (n *node) add(item Item, names []string, group int) {
	n.bytes += item.Bytes
	if len(names) == 0 {
		n.group = group
		return
	}
	next := n.byName[names[0]]
	if next == nil {
		next = &node{name: names[0], path: n.path + "/" + names[0], group: -1, byName: map[string]*node{}}
		if n.byName == nil {
			n.byName = map[string]*node{}
		}
		n.byName[names[0]] = next
		n.below = append(n.below, next)
	}
	next.add(item, names[1:], group)
}

// largest is the group that most of a directory is of.
func (n *node) largest() int {
	if n.group >= 0 {
		return n.group
	}
	sums := map[int]int64{}
	var visit func(*node)
	visit = func(n *node) {
		if n.group >= 0 {
			sums[n.group] += n.bytes
		}
		for _, b := range n.below {
			visit(b)
		}
	}
	visit(n)
	best := 0
	for group := range sums {
		if sums[group] > sums[best] || sums[group] == sums[best] && group < best {
			best = group
		}
	}
	return best
}

// boxes gives every file and directory its place, directories before what is in them.
func (s Sizes) boxes() []box {
	root := &node{group: -1}
	for _, item := range s.Items {
		if item.Bytes > 0 {
			root.add(item, strings.Split(strings.Trim(item.Path, "/"), "/"), max(slices.Index(s.Groups, item.Group), 0))
		}
	}
	var out []box
	if root.bytes > 0 {
		s.place(root, rect{margin, top, width - 2*margin, height - top - margin}, &out)
	}
	return out
}

// place lays what is in a directory into its place.
func (s Sizes) place(n *node, in rect, out *[]box) {
	slices.SortFunc(n.below, func(a, b *node) int { return cmp.Or(cmp.Compare(b.bytes, a.bytes), cmp.Compare(a.name, b.name)) })
	for i, r := range squarify(n.below, n.bytes, in) {
		child := n.below[i]
		name := child.name
		if n.path == "" {
			name = "/" + name
		}
		// A directory with a single entry shares its line.
		for child.group < 0 && len(child.below) == 1 {
			child = child.below[0]
			name += "/" + child.name
		}
		b := box{rect: r.inset(0.5), path: child.path, group: child.group, size: s.Label(child.bytes)}
		if r.w < leastBox || r.h < leastBox {
			continue
		}
		if child.group >= 0 || r.w < 3*headLine || r.h < 2*headLine {
			b.group = child.largest()
			b.label = name
			if child.group < 0 {
				b.label += "/"
			}
			*out = append(*out, b)
			continue
		}
		b.label = name + "/"
		*out = append(*out, b)
		s.place(child, rect{r.x + 3, r.y + headLine, r.w - 6, r.h - headLine - 3}, out)
	}
}

// squarify divides a place among nodes by their bytes, largest first, in rows
// whose boxes are as square as can be.
func squarify(nodes []*node, total int64, in rect) []rect {
	out := make([]rect, 0, len(nodes))
	scale := in.w * in.h / float64(max(total, 1))
	for len(nodes) > 0 {
		side := min(in.w, in.h)
		row, sum, worst := 0, 0.0, 0.0
		for i, n := range nodes {
			area := float64(n.bytes) * scale
			next := aspect(nodes[:i+1], sum+area, scale, side)
			if i > 0 && next > worst {
				break
			}
			row, sum, worst = i+1, sum+area, next
		}
		thick := 0.0
		if side > 0 {
			thick = sum / side
		}
		at := 0.0
		for _, n := range nodes[:row] {
			long := 0.0
			if thick > 0 {
				long = float64(n.bytes) * scale / thick
			}
			if in.w >= in.h {
				out = append(out, rect{in.x, in.y + at, thick, long})
			} else {
				out = append(out, rect{in.x + at, in.y, long, thick})
			}
			at += long
		}
		if in.w >= in.h {
			in.x, in.w = in.x+thick, max(in.w-thick, 0)
		} else {
			in.y, in.h = in.y+thick, max(in.h-thick, 0)
		}
		nodes = nodes[row:]
	}
	return out
}

// aspect is the worst ratio of sides in a row of nodes whose areas add up to
// sum, along a side.
func aspect(row []*node, sum, scale, side float64) float64 {
	largest, smallest := float64(row[0].bytes)*scale, float64(row[len(row)-1].bytes)*scale
	if sum == 0 || smallest == 0 || side == 0 {
		return 1e9
	}
	return max(side*side*largest/(sum*sum), sum*sum/(side*side*smallest))
}
