package build

import (
	"bytes"
	"os"
	"regexp"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/progress"
)

// tailLines is how many lines of a log an error carries.
const tailLines = 25

// escapes are the control sequences of ECMA-48, such as colours.
var escapes = regexp.MustCompile(`\x1b(\[[0-?]*[ -/]*[@-~]|[@-Z\\-_])`)

// maxLine bounds the part of a line that is shown; the log has it whole.
const maxLine = 2000

// logWriter keeps a step's output in a file, shows the current line, and
// remembers the last ones.
type logWriter struct {
	file *os.File
	task progress.Task
	part []byte
	tail []string

	warnings int
}

// warning is how compilers begin one.
var warning = regexp.MustCompile(`^\S+?:\d+(:\d+)?: warning: |^(cc1(plus)?|ld|\S+/ld): warning: `)

func (w *logWriter) Write(p []byte) (int, error) {
	if _, err := w.file.Write(p); err != nil {
		return 0, err
	}
	n := len(p)
	for {
		i := bytes.IndexByte(p, '\n')
		if i < 0 {
			break
		}
		w.line(append(w.part, p[:i]...))
		w.part = w.part[:0]
		p = p[i+1:]
	}
	if len(w.part) < maxLine {
		w.part = append(w.part, p...)
	}
	return n, nil
}

func (w *logWriter) line(b []byte) {
	s := trim(string(b))
	w.tail = append(w.tail, s)
	if strings.Contains(s, "warning: ") && warning.MatchString(s) {
		w.warnings++
	}
	if len(w.tail) >= 2*tailLines {
		w.tail = append(w.tail[:0], w.tail[len(w.tail)-tailLines:]...)
	}
	w.task.Say(s)
}

func (w *logWriter) flush() {
	if len(w.part) > 0 {
		w.line(w.part)
		w.part = nil
	}
}

func (w *logWriter) lines() []string {
	return w.tail[max(0, len(w.tail)-tailLines):]
}

// CleanLine makes a line of a log fit to be shown.
func CleanLine(s string) string { return trim(s) }

// scriptDir is where the scripts of steps stand in a sandbox; the shell's
// messages begin with it.
const scriptDir = "/run/ellwand/"

// trim makes a line of output fit to be shown: without control characters,
// and not endless.
func trim(s string) string {
	s = strings.TrimRight(s, "\r\n ")
	if i := strings.LastIndexByte(s, '\r'); i >= 0 {
		s = s[i+1:] // what a terminal would show of a redrawn line
	}
	s = strings.TrimPrefix(escapes.ReplaceAllString(s, ""), scriptDir)
	s = strings.Map(func(r rune) rune {
		if r == '\t' {
			return ' '
		}
		if r < ' ' || r == 0x7f || r == utf8.RuneError {
			return -1
		}
		return r
	}, s)
	if len(s) > maxLine {
		s = strings.ToValidUTF8(s[:maxLine], "") + "…"
	}
	return s
}
