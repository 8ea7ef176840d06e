// Package merge joins two changes of one text, line by line: a three-way merge.
package merge

import (
	"bytes"
	"slices"

	"github.com/aymanbagabas/go-udiff"
)

// MaxSize is the most bytes of a text that is merged.
const MaxSize = 4 << 20

// maxLines is the most different lines that can be told apart.
const maxLines = 1 << 19

// edit replaces lines start to end of the common ancestor.
type edit struct {
	start, end int
	lines      [][]byte
}

func (e edit) equal(other edit) bool {
	return e.start == other.start && e.end == other.end && slices.EqualFunc(e.lines, other.lines, bytes.Equal)
}

// Merge returns mine with what changed from base to theirs. ok is false if both
// changed the same lines, or lines next to each other, in different ways, and if one
// of them is not a text: it has a NUL byte, or is larger than MaxSize.
func Merge(base, mine, theirs []byte) (merged []byte, ok bool) {
	for _, text := range [][]byte{base, mine, theirs} {
		if len(text) > MaxSize || bytes.IndexByte(text, 0) >= 0 {
			return nil, false
		}
	}
	a, ok := edits(base, mine)
	if !ok {
		return nil, false
	}
	b, ok := edits(base, theirs)
	if !ok {
		return nil, false
	}
	lines := split(base)
	at := 0
	apply := func(e edit) {
		merged = append(merged, bytes.Join(lines[at:e.start], nil)...)
		merged = append(merged, bytes.Join(e.lines, nil)...)
		at = e.end
	}
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].end < b[0].start:
			apply(a[0])
			a = a[1:]
		case len(a) == 0 || b[0].end < a[0].start:
			apply(b[0])
			b = b[1:]
		case a[0].equal(b[0]):
			apply(a[0])
			a, b = a[1:], b[1:]
		default:
			return nil, false
		}
	}
	merged = append(merged, bytes.Join(lines[at:], nil)...)
	return merged, true
}

// split cuts a text after each line end.
func split(text []byte) [][]byte {
	lines := bytes.SplitAfter(text, []byte("\n"))
	if len(lines[len(lines)-1]) == 0 {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// width is the bytes of each rune that stands for a line (UTF-8).
const width = 4

// edits lists what turns one text into another. For the comparison, each different
// line becomes a character of its own.
func edits(from, to []byte) ([]edit, bool) {
	runes := map[string]rune{}
	write := func(lines [][]byte) string {
		var out []rune
		for _, l := range lines {
			r, ok := runes[string(l)]
			if !ok {
				r = rune(0x10000 + len(runes))
				runes[string(l)] = r
			}
			out = append(out, r)
		}
		return string(out)
	}
	before, after := split(from), split(to)
	a, b := write(before), write(after)
	if len(runes) > maxLines {
		return nil, false
	}
	text := map[rune][]byte{}
	for line, r := range runes {
		text[r] = []byte(line)
	}
	var out []edit
	for _, e := range udiff.Strings(a, b) {
		next := edit{start: e.Start / width, end: e.End / width}
		for _, r := range e.New {
			next.lines = append(next.lines, text[r])
		}
		out = append(out, next)
	}
	return out, true
}
