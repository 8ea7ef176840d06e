package figure

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image/png"
	"io"
	"strings"
	"testing"
)

func example(n int) Sizes {
	s := Sizes{Title: "tide <1.0> & \xff", Groups: []string{"programs", "data"}, Label: func(n int64) string { return fmt.Sprintf("%d B", n) }}
	for i := range n {
		s.Items = append(s.Items, Item{Path: fmt.Sprintf("/usr/share/d%d/f%d", i%7, i), Bytes: int64(i * i % 1013), Group: s.Groups[i%2]})
	}
	s.Items = append(s.Items, Item{Path: "/usr/bin/tide", Bytes: 40_000, Group: "programs"})
	return s
}

// Every file's area is its share of its directory's, boxes do not overlap, and
// none leaves the one that it is in.
func TestAreas(t *testing.T) {
	nodes := []*node{{bytes: 600}, {bytes: 300}, {bytes: 60}, {bytes: 40}, {bytes: 0}}
	in := rect{10, 20, 400, 100}
	places := squarify(nodes, 1000, in)
	for i, r := range places {
		if want := float64(nodes[i].bytes) * 40; r.w*r.h < want-0.01 || r.w*r.h > want+0.01 {
			t.Errorf("%d bytes have an area of %.2f, want %.0f", nodes[i].bytes, r.w*r.h, want)
		}
		if r.x < in.x-0.01 || r.y < in.y-0.01 || r.x+r.w > in.x+in.w+0.01 || r.y+r.h > in.y+in.h+0.01 {
			t.Errorf("%+v is not inside %+v", r, in)
		}
		for _, other := range places[:i] {
			if min(r.x+r.w, other.x+other.w)-max(r.x, other.x) > 0.01 && min(r.y+r.h, other.y+other.h)-max(r.y, other.y) > 0.01 {
				t.Errorf("%+v overlaps %+v", r, other)
			}
		}
	}
}

// Both formats can be read again, with many files, none, and names that are no
// text.
func TestFormats(t *testing.T) {
	for _, s := range []Sizes{example(2000), example(0), {Title: "empty", Label: func(int64) string { return "" }}} {
		var vector, pixel bytes.Buffer
		if err := errors.Join(s.SVG(&vector), s.PNG(&pixel)); err != nil {
			t.Fatal(err)
		}
		text := vector.String()
		for d := xml.NewDecoder(strings.NewReader(text)); ; {
			if _, err := d.Token(); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				t.Fatalf("%v\n%.500s", err, text)
			}
		}
		if len(s.Items) > 0 && !strings.Contains(text, "/usr/bin/tide  40000 B") {
			t.Error("a box does not tell its path and size")
		}
		img, err := png.Decode(&pixel)
		if err != nil || img.Bounds().Dx() != width || img.Bounds().Dy() != height {
			t.Errorf("%v, %v", img.Bounds(), err)
		}
	}
}

// A graph's boxes do not overlap, boxes stand near those that they lead to,
// and an arrow to what is not there is left out.
func TestGraph(t *testing.T) {
	g := Graph{Title: "tide & co", Nodes: []Node{
		{Name: "a", Lines: []string{"1.0"}, Level: 1}, {Name: "b", Level: 1}, {Name: "c", Level: 1},
		{Name: "on c", Level: 2, Stands: []string{"c", "not there"}, Marked: true}, {Name: "on a", Level: 2, Stands: []string{"a"}},
	}}
	var b bytes.Buffer
	if err := g.SVG(&b); err != nil {
		t.Fatal(err)
	}
	text := b.String()
	for d := xml.NewDecoder(&b); ; {
		if _, err := d.Token(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
	}
	if strings.Count(text, "<path d=\"M3") != 2 || !strings.Contains(text, ">on a<") || strings.Count(text, "<rect") != 6 {
		t.Errorf("%s", text)
	}
	at := func(name string) (y float64) {
		i := strings.Index(text, "<title>"+name+"</title>")
		j := strings.LastIndex(text[:i], " y=")
		fmt.Sscanf(text[j:], " y=\"%f\"", &y)
		return y
	}
	if at("on a") >= at("on c") {
		t.Errorf("on a is at %v, below on c at %v", at("on a"), at("on c"))
	}
}
