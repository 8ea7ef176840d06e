package document

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// An Edit replaces bytes of a document. Everything that no edit names stays as
// it is, to the byte.
type Edit struct {
	At   Span
	Text string
}

// Apply returns the document's text with edits made. Edits may not overlap;
// those at one place are made in their order.
func (d *Document) Apply(edits []Edit) ([]byte, error) {
	sorted := slices.Clone(edits)
	slices.SortStableFunc(sorted, func(a, b Edit) int { return cmp.Compare(a.At.Offset, b.At.Offset) })
	var out []byte
	done := 0
	for _, e := range sorted {
		if e.At.Offset < done || e.At.Offset+e.At.Length > len(d.Data) {
			return nil, fmt.Errorf("edits of %s overlap", d.File)
		}
		out = append(append(out, d.Data[done:e.At.Offset]...), e.Text...)
		done = e.At.Offset + e.At.Length
	}
	return append(out, d.Data[done:]...), nil
}

// newline is how lines of the document end.
func (d *Document) newline() string {
	if i := strings.IndexByte(string(d.Data), '\n'); i > 0 && d.Data[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

// SetString returns the edit that gives a string another value. Its quotes
// stay where they can hold the value.
func (d *Document) SetString(n *Node, value string) Edit {
	quotes := string(d.Data[n.Value.Offset])
	if quotes != "'" || strings.ContainsAny(value, "'\n\r") {
		return Edit{n.Value, Quote(value)}
	}
	return Edit{n.Value, "'" + value + "'"}
}

// InsertAfter returns the edit that adds a line behind the one that a place is
// in, indented like it.
func (d *Document) InsertAfter(at Span, line string) Edit {
	number, _ := d.Position(at.Offset + max(at.Length-1, 0))
	text := d.Line(number)
	indent := text[:len(text)-len(strings.TrimLeft(text, " \t"))]
	end := d.lineEnd(number)
	if end > 0 && d.Data[end-1] == '\r' {
		end--
	}
	return Edit{Span{end, 0}, d.newline() + indent + line}
}

// InsertBefore returns the edit that puts lines before the line that a place is
// in.
func (d *Document) InsertBefore(at Span, lines string) Edit {
	number, _ := d.Position(at.Offset)
	return Edit{Span{d.lines[number-1], 0}, strings.ReplaceAll(lines, "\n", d.newline())}
}

// InsertEnd returns the edit that puts lines at the document's end.
func (d *Document) InsertEnd(lines string) Edit {
	if len(d.Data) > 0 && d.Data[len(d.Data)-1] != '\n' {
		lines = "\n" + lines
	}
	return Edit{Span{len(d.Data), 0}, strings.ReplaceAll(lines, "\n", d.newline())}
}

// Quote writes a value as a TOML basic string on one line.
func Quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
