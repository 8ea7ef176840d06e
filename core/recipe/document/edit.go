package document

import (
	"bytes"
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

// Key writes a name as a part of a key, in quotes where it needs them.
func Key(name string) string {
	isOther := func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '-' && r != '_'
	}
	if name == "" || strings.ContainsFunc(name, isOther) {
		return Quote(name)
	}
	return name
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

// AddField returns the edit that puts a key with a value, as written,
// first into a table in braces.
func (d *Document) AddField(n *Node, key, value string) Edit {
	text := key + " = " + value
	if len(n.Keys) > 0 {
		return Edit{Span{n.Get(n.Keys[0]).Key.Offset, 0}, text + ", "}
	}
	return d.fill(n, '{', " "+text+" ")
}

// AddItem returns the edit that puts a string first into an array in brackets.
func (d *Document) AddItem(n *Node, value string) Edit {
	if len(n.Items) > 0 {
		return Edit{Span{n.Items[0].Value.Offset, 0}, Quote(value) + ", "}
	}
	return d.fill(n, '[', Quote(value))
}

// fill returns the edit that puts text into brackets with nothing in them.
func (d *Document) fill(n *Node, open byte, text string) Edit {
	from := n.Key.Offset + n.Key.Length
	from += bytes.IndexByte(d.Data[from:], open) + 1
	end := from + len(d.Data[from:]) - len(bytes.TrimLeft(d.Data[from:], " \t\r\n"))
	return Edit{Span{from, end - from}, text}
}

// TableLines returns the lines of a table that is written with a header: from
// the header to the last line with text before the next one, and the
// empty lines behind it. ok is false for any other value.
func (d *Document) TableLines(path ...any) (at Span, ok bool) {
	n := d.Find(path...)
	if n == nil || n.Kind != Table || !n.explicit || n.closed {
		return at, false
	}
	first, _ := d.Position(n.Value.Offset)
	next := len(d.Data)
	var visit func(*Node)
	visit = func(m *Node) {
		if m.explicit && !m.closed && m.Value.Offset > n.Value.Offset {
			line, _ := d.Position(m.Value.Offset)
			next = min(next, d.lines[line-1])
		}
		for _, key := range m.Keys {
			visit(m.Get(key))
		}
		for _, item := range m.Items {
			visit(item)
		}
	}
	visit(d.Root)
	start := d.lines[first-1]
	// Comments behind the last of its lines belong to what follows.
	body := strings.SplitAfter(string(d.Data[start:next]), "\n")
	end := len(body)
	for i := len(body) - 1; i > 0; i-- {
		line := strings.TrimSpace(body[i])
		if line != "" && !strings.HasPrefix(line, "#") {
			break
		}
		if line != "" {
			end = i
		}
	}
	body = body[:end]
	return Span{start, len(strings.Join(body, ""))}, true
}
