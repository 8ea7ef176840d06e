package recipe

import (
	"fmt"
	"unicode"
	"unicode/utf8"

	"ellwand.example/core/recipe/document"
)

// Lengths of facts, in bytes: those that the package format allows.
const (
	maxLine        = 1024
	maxDescription = 64 << 10
)

// checkLengths looks at texts that are longer than a package can have.
func (r *Recipe) checkLengths() {
	for key, text := range map[string]string{"summary": r.Summary, "license": r.License, "homepage": r.Homepage, "maintainer": r.Maintainer, "category": r.Category} {
		if len(text) > maxLine {
			r.Doc.Add(r.Doc.At(key), fmt.Sprintf("%s has %d bytes, and %d is the most that a package takes", key, len(text), maxLine), "what is longer belongs in the description")
		}
	}
	if len(r.Description) > maxDescription {
		r.Doc.Add(r.Doc.At("description"), fmt.Sprintf("the description has %d bytes, and %d is the most that a package takes", len(r.Description), maxDescription), "documentation belongs in a file that the package installs")
	}
}

// hidden are formatting characters that do not show, and make a text read
// otherwise than it is (Unicode TR36): directions of writing, and spaces without
// width.
var hidden = map[rune]string{
	0x061c: "Arabic letter mark", 0x200b: "zero width space", 0x200e: "left-to-right mark", 0x200f: "right-to-left mark",
	0x202a: "left-to-right embedding", 0x202b: "right-to-left embedding", 0x202c: "pop directional formatting", 0x202d: "left-to-right override", 0x202e: "right-to-left override",
	0x2066: "left-to-right isolate", 0x2067: "right-to-left isolate", 0x2068: "first strong isolate", 0x2069: "pop directional isolate", 0xfeff: "zero width no-break space",
}

// HiddenCharacter finds a character in a text that does not show, or that a
// terminal acts on; ok is false if there is none.
func HiddenCharacter(text string) (name string, ok bool) {
	for _, c := range text {
		switch {
		case hidden[c] != "":
			return fmt.Sprintf("U+%04X, %s", c, hidden[c]), true
		case unicode.IsControl(c) && c != '\n' && c != '\t' && c != '\r':
			return fmt.Sprintf("U+%04X, a control character", c), true
		}
	}
	return "", false
}

// checkCharacters looks for characters that do not show: in all of the file,
// comments and scripts included, and for those that escapes in strings stand
// for.
func (r *Recipe) checkCharacters() {
	d := r.Doc
	for i := 0; i < len(d.Data) && !d.Full(); {
		c, n := utf8.DecodeRune(d.Data[i:])
		if name := hidden[c]; name != "" && i > 0 {
			d.Add(document.Span{Offset: i, Length: n}, fmt.Sprintf("U+%04X, %s, does not show here, and makes the text read otherwise than it is", c, name), "remove it")
		}
		i += n
	}
	checkNode(d, d.Root)
}

func checkNode(d *document.Document, n *document.Node) {
	if n == nil || d.Full() {
		return
	}
	switch n.Kind {
	case document.String:
		for i, c := range n.Text {
			if unicode.IsControl(c) && c != '\n' && c != '\t' && c != '\r' {
				d.Add(d.Inside(n, i, utf8.RuneLen(c)), fmt.Sprintf("U+%04X is a control character, which a terminal acts on", c), "remove it; a script can write it with printf")
				return
			}
			if name := hidden[c]; name != "" && !hasRaw(d, n, c) {
				d.Add(n.Value, fmt.Sprintf("U+%04X, %s, does not show, and makes the text read otherwise than it is", c, name), "remove it")
				return
			}
		}
	case document.Array:
		for _, item := range n.Items {
			checkNode(d, item)
		}
	case document.Table:
		for _, key := range n.Keys {
			checkNode(d, n.Get(key))
		}
	}
}

// hasRaw reports whether a character is in a value unescaped, where it has
// been reported already, and not as an escape.
func hasRaw(d *document.Document, n *document.Node, c rune) bool {
	for _, have := range string(d.Data[n.Value.Offset : n.Value.Offset+n.Value.Length]) {
		if have == c {
			return true
		}
	}
	return false
}
