// Package shellparse parses shell scripts that anyone may have written, within
// bounds: a parser that goes back to try another reading can take hours over a
// few kilobytes.
package shellparse

import (
	"errors"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Bounds on a script: bytes, and how deep its brackets are nested. Scripts in
// practice stay far below both.
const (
	maxSize  = 1 << 20
	maxDepth = 200
)

// ErrBounds is a script that is larger, or more deeply nested, than is parsed.
var ErrBounds = errors.New("the script is too large, or too deeply nested, to be parsed")

// Parse parses a script in a variant of the language. Errors are ErrBounds and
// those of package syntax.
func Parse(text string, variant syntax.LangVariant) (*syntax.File, error) {
	if len(text) > maxSize || depth(text) > maxDepth {
		return nil, ErrBounds
	}
	return syntax.NewParser(syntax.Variant(variant)).Parse(strings.NewReader(text), "")
}

// depth is how deep brackets and backquotes are nested, whatever quotes say:
// more than a parser sees, and never less.
func depth(text string) int {
	deepest, open, quotes := 0, 0, 0
	for i := range len(text) {
		switch text[i] {
		case '(', '{':
			open++
		case ')', '}':
			open = max(0, open-1)
		case '`':
			if i > 0 && text[i-1] == '\\' {
				quotes++ // nested backquotes are written with backslashes
			}
		}
		deepest = max(deepest, open)
	}
	return deepest + quotes/2
}
