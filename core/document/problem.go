package document

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
)

// A Problem is one mistake in a document, with its place.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`   // from 1; 0 when the file as a whole is meant
	Column  int    `json:"column"` // from 1, in characters
	Width   int    `json:"width"`  // characters to mark, at least 1
	Text    string `json:"text"`   // the line as it stands in the file
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
}

// String gives the problem on one line, without the source line.
func (p Problem) String() string {
	where := p.File
	if p.Line > 0 {
		where = fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
	}
	s := where + ": " + p.Message
	if p.Remedy != "" {
		s += " (" + p.Remedy + ")"
	}
	return s
}

// Mistake is something wrong in a piece of text that does not know where it
// stands, such as one string of a document.
type Mistake struct {
	Offset, Length  int // bytes
	Message, Remedy string
}

func (m *Mistake) Error() string {
	if m.Remedy != "" {
		return m.Message + " (" + m.Remedy + ")"
	}
	return m.Message
}

// Problems is every mistake found in one or more documents. As an error it
// stands for bad input.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.String()
	}
	return strings.Join(lines, "\n")
}

// Err returns the problems as an error, or nil when there are none.
func (ps Problems) Err() error {
	if len(ps) == 0 {
		return nil
	}
	return ps
}

// Nearest returns the candidate that word was most likely meant to be, or ""
// when none is near: at most one edit for every four characters, two for
// short words.
func Nearest(word string, candidates []string) string {
	if len(word) > maxNearest {
		return ""
	}
	best, bestDistance := "", max(2, len(word)/4)+1
	for _, c := range slices.Sorted(slices.Values(candidates)) {
		if strings.EqualFold(c, word) {
			return c
		}
		a, b := strings.ToLower(word), strings.ToLower(c)
		d := levenshtein.ComputeDistance(a, b)
		if letters(a) == letters(b) {
			d = 1 // two letters that changed places are one slip of the finger
		}
		if d < bestDistance && d < utf8.RuneCountInString(c) {
			best, bestDistance = c, d
		}
	}
	return best
}

// maxNearest bounds a word for which a similar one is looked for, in bytes.
const maxNearest = 100

func letters(s string) string {
	r := []rune(s)
	slices.Sort(r)
	return string(r)
}
