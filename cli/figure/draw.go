package figure

import (
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// colours of the groups, and what is written on them: told apart also by those
// who see few colours (after Okabe and Ito, lightened).
var colours = []color.RGBA{
	{0x8f, 0xc1, 0xe8, 255}, {0xf2, 0xc1, 0x6b, 255}, {0x8f, 0xd4, 0xb5, 255}, {0xe8, 0xa8, 0xc8, 255}, {0xe9, 0xdf, 0x80, 255}, {0xc9, 0xc9, 0xd3, 255},
}

var (
	paper = color.RGBA{255, 255, 255, 255}
	ink   = color.RGBA{0x22, 0x26, 0x2c, 255}
	faint = color.RGBA{0x4c, 0x52, 0x5c, 255}
	frame = color.RGBA{0xee, 0xf0, 0xf3, 255}
	edge  = color.RGBA{0xb8, 0xbe, 0xc8, 255}
)

// faces are the sizes of type that are used.
type faces struct{ title, text, small font.Face }

func newFaces() (faces, error) {
	var f faces
	for _, x := range []struct {
		face *font.Face
		data []byte
		size float64
	}{{&f.title, gobold.TTF, 17}, {&f.text, goregular.TTF, 12}, {&f.small, goregular.TTF, 11}} {
		parsed, err := opentype.Parse(x.data)
		if err != nil {
			return f, err
		}
		if *x.face, err = opentype.NewFace(parsed, &opentype.FaceOptions{Size: x.size, DPI: 72, Hinting: font.HintingFull}); err != nil {
			return f, err
		}
	}
	return f, nil
}

// fit cuts text to a width; nothing is left where that makes no sense.
func fit(face font.Face, text string, room float64) string {
	if measure(face, text) <= room {
		return text
	}
	runes := []rune(text)
	for n := len(runes) - 1; n >= 3; n-- {
		if short := string(runes[:n]) + "…"; measure(face, short) <= room {
			return short
		}
	}
	return ""
}

func measure(face font.Face, text string) float64 {
	return float64(font.MeasureString(face, text)) / 64
}

// canvas is what a picture is drawn on.
type canvas interface {
	fill(r rect, c, border color.RGBA, hint string)
	text(x, y float64, s string, size int, bold bool, c color.RGBA) // y is the base line
}

// draw draws the picture, the same on every canvas.
func (s Sizes) draw(c canvas, f faces) {
	c.fill(rect{0, 0, width, height}, paper, paper, "")
	c.text(margin, 22, fit(f.title, s.Title, width-2*margin), 17, true, ink)
	sums := make([]int64, len(s.Groups))
	for _, item := range s.Items {
		for i, g := range s.Groups {
			if g == item.Group {
				sums[i] += item.Bytes
			}
		}
	}
	x := float64(margin)
	for i, g := range s.Groups {
		if sums[i] == 0 {
			continue
		}
		label := g + "  " + s.Label(sums[i])
		c.fill(rect{x, 34, 12, 12}, colours[i%len(colours)], edge, "")
		c.text(x+17, 44, label, 12, false, ink)
		x += 17 + measure(f.text, label) + 22
	}
	for _, b := range s.boxes() {
		hint := b.path + "  " + b.size
		if b.group < 0 {
			c.fill(b.rect, frame, edge, hint)
			size := measure(f.small, b.size)
			label := fit(f.text, b.label, b.w-12-size-8)
			if label == "" {
				label, size = fit(f.text, b.label, b.w-8), b.w
			}
			c.text(b.x+4, b.y+13, label, 12, false, ink)
			if size+measure(f.text, label)+12 < b.w {
				c.text(b.x+b.w-size-4, b.y+13, b.size, 11, false, faint)
			}
			continue
		}
		c.fill(b.rect, colours[b.group%len(colours)], paper, hint)
		if b.h < 16 {
			continue
		}
		c.text(b.x+4, b.y+13, fit(f.text, b.label, b.w-8), 12, false, ink)
		if b.h >= 31 && measure(f.small, b.size) <= b.w-8 {
			c.text(b.x+4, b.y+27, b.size, 11, false, faint)
		}
	}
}

// PNG writes the picture as PNG, 1280 by 800.
func (s Sizes) PNG(w io.Writer) error {
	f, err := newFaces()
	if err != nil {
		return err
	}
	p := &pixels{image.NewRGBA(image.Rect(0, 0, width, height)), f}
	s.draw(p, f)
	return png.Encode(w, p.image)
}

type pixels struct {
	image *image.RGBA
	faces faces
}

func (p *pixels) fill(r rect, c, border color.RGBA, _ string) {
	outer := image.Rect(round(r.x), round(r.y), round(r.x+r.w), round(r.y+r.h))
	draw.Draw(p.image, outer, image.NewUniform(border), image.Point{}, draw.Src)
	if outer.Dx() > 2 && outer.Dy() > 2 {
		draw.Draw(p.image, outer.Inset(1), image.NewUniform(c), image.Point{}, draw.Src)
	} else {
		draw.Draw(p.image, outer, image.NewUniform(c), image.Point{}, draw.Src)
	}
}

func round(x float64) int { return int(x + 0.5) }

func (p *pixels) text(x, y float64, s string, size int, bold bool, c color.RGBA) {
	face := p.faces.text
	switch {
	case bold:
		face = p.faces.title
	case size < 12:
		face = p.faces.small
	}
	d := font.Drawer{Dst: p.image, Src: image.NewUniform(c), Face: face, Dot: fixed.P(round(x), round(y))}
	d.DrawString(s)
}

// SVG writes the picture as SVG; a box tells its path and size where the
// pointer rests on it.
func (s Sizes) SVG(w io.Writer) error {
	f, err := newFaces()
	if err != nil {
		return err
	}
	v := newVectors(s.Title, width, height)
	s.draw(v, f)
	v.b.WriteString("</svg>\n")
	_, err = io.WriteString(w, v.b.String())
	return err
}

type vectors struct{ b strings.Builder }

func newVectors(title string, w, h int) *vectors {
	v := &vectors{}
	fmt.Fprintf(&v.b, "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"%d\" height=\"%d\" viewBox=\"0 0 %d %d\" font-family=\"Go, 'DejaVu Sans', Arial, sans-serif\">\n", w, h, w, h)
	fmt.Fprintf(&v.b, "<title>%s</title>\n", escaped(title))
	return v
}

func hex(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

func escaped(s string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(s)) // also makes what is no character of XML one
	return b.String()
}

func (v *vectors) fill(r rect, c, border color.RGBA, hint string) {
	fmt.Fprintf(&v.b, "<rect x=\"%.1f\" y=\"%.1f\" width=\"%.1f\" height=\"%.1f\" fill=\"%s\" stroke=\"%s\">", r.x, r.y, r.w, r.h, hex(c), hex(border))
	if hint != "" {
		fmt.Fprintf(&v.b, "<title>%s</title>", escaped(hint))
	}
	v.b.WriteString("</rect>\n")
}

func (v *vectors) text(x, y float64, s string, size int, bold bool, c color.RGBA) {
	if s == "" {
		return
	}
	weight := ""
	if bold {
		weight = " font-weight=\"bold\""
	}
	fmt.Fprintf(&v.b, "<text x=\"%.1f\" y=\"%.1f\" font-size=\"%d\"%s fill=\"%s\">%s</text>\n", x, y, size, weight, hex(c), escaped(s))
}
