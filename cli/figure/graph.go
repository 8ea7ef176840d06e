package figure

import (
	"cmp"
	"fmt"
	"io"
	"math"
	"slices"
)

// Node is a box of a graph.
type Node struct {
	Name   string
	Lines  []string // below the name
	Level  int      // its column, from 1; arrows lead to smaller ones
	Marked bool
	Stands []string // names of the nodes that arrows lead to
}

// Graph is a picture of dependencies: columns by level, from left to
// right.
type Graph struct {
	Title string
	Nodes []Node
}

// The measures of a graph, in pixels.
const (
	nodeWidth, columnGap = 210, 90
	lineHeight, rowGap   = 16, 26
)

// leadsTo is the mean height of where a node's arrows lead to; below all for
// one without any.
func leadsTo(n Node, places map[string]rect) float64 {
	sum, count := 0.0, 0.0
	for _, name := range n.Stands {
		if r, ok := places[name]; ok {
			sum, count = sum+r.y, count+1
		}
	}
	if count == 0 {
		return math.Inf(1)
	}
	return sum / count
}

// SVG writes the picture as SVG.
func (g Graph) SVG(w io.Writer) error {
	f, err := newFaces()
	if err != nil {
		return err
	}
	columns := map[int]float64{} // level → where its next box begins
	places := map[string]rect{}
	right, bottom := 0.0, 0.0
	// In each column the boxes stand about where their arrows lead to.
	nodes := slices.Clone(g.Nodes)
	slices.SortStableFunc(nodes, func(a, b Node) int { return cmp.Compare(a.Level, b.Level) })
	for i, n := range nodes {
		if i == 0 || nodes[i-1].Level != n.Level {
			end := i
			for end < len(nodes) && nodes[end].Level == n.Level {
				end++
			}
			slices.SortStableFunc(nodes[i:end], func(a, b Node) int { return cmp.Compare(leadsTo(a, places), leadsTo(b, places)) })
		}
		n = nodes[i]
		y, begun := columns[n.Level]
		if !begun {
			y = top
		}
		r := rect{float64(2*margin + (n.Level-1)*(nodeWidth+columnGap)), y, nodeWidth, float64(lineHeight*(1+len(n.Lines)) + 12)}
		places[n.Name] = r
		columns[n.Level] = r.y + r.h + rowGap
		right, bottom = max(right, r.x+r.w), max(bottom, r.y+r.h)
	}
	v := newVectors(g.Title, int(right)+2*margin, int(bottom)+2*margin)
	v.fill(rect{0, 0, right + 2*margin, bottom + 2*margin}, paper, paper, "")
	v.text(2*margin, 26, g.Title, 17, true, ink)
	v.b.WriteString("<defs><marker id=\"tip\" viewBox=\"0 0 8 8\" refX=\"8\" refY=\"4\" markerWidth=\"8\" markerHeight=\"8\" orient=\"auto\"><path d=\"M0 0L8 4L0 8z\" fill=\"" + hex(faint) + "\"/></marker></defs>\n")
	for _, n := range g.Nodes {
		from := places[n.Name]
		for i, name := range n.Stands {
			to, ok := places[name]
			if !ok {
				continue
			}
			// Arrows leave a box one below the other, and come in at its middle.
			x, y := from.x, from.y+from.h*float64(i+1)/float64(len(n.Stands)+1)
			tx, ty := to.x+to.w+1, to.y+to.h/2
			fmt.Fprintf(&v.b, "<path d=\"M%.1f %.1fC%.1f %.1f %.1f %.1f %.1f %.1f\" fill=\"none\" stroke=\"%s\" marker-end=\"url(#tip)\"/>\n", x, y, x-columnGap/2, y, tx+columnGap/2, ty, tx, ty, hex(faint))
		}
	}
	for _, n := range g.Nodes {
		r := places[n.Name]
		fill := frame
		if n.Marked {
			fill = colours[4]
		}
		v.fill(r, fill, edge, n.Name)
		v.text(r.x+8, r.y+18, fit(f.title, n.Name, r.w-16), 14, true, ink)
		for i, line := range n.Lines {
			v.text(r.x+8, r.y+18+float64(lineHeight*(i+1)), fit(f.text, line, r.w-16), 12, false, faint)
		}
	}
	v.b.WriteString("</svg>\n")
	_, err = io.WriteString(w, v.b.String())
	return err
}
