package document

import (
	"fmt"
	"strings"

	"ellwand.example/core/fact"
)

// A Problem is one mistake in a document, with its place.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`   // from 1; 0 when the file as a whole is meant
	Column  int    `json:"column"` // from 1, in characters
	Width   int    `json:"width"`  // characters to mark, at least 1
	Text    string `json:"text"`   // the line in the file
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
	// Action may solve it; empty if there is none.
	Action fact.Action `json:"action,omitzero"`
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
