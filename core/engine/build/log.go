package build

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/pattern"
	"ellwand.example/core/progress"
)

// tailLines is how many lines of a log an error carries.
const tailLines = 25

// escapes are the control sequences of ECMA-48, such as colours.
var escapes = pattern.New(`\x1b(\[[0-?]*[ -/]*[@-~]|[@-Z\\-_])`)

// maxLine bounds the part of a line that is shown; the log has it whole.
const maxLine = 2000

// logWriter keeps a step's output in a file, shows the current line, and
// remembers the last ones. Of output that is longer than the file may be, the
// middle is left out.
type logWriter struct {
	file *os.File
	task progress.Task
	part []byte
	tail []string

	size    int64 // that the file may have, in bytes
	written int64
	last    []byte // a ring of the newest bytes, once the file is nearly full
	next    int    // in last
	left    int64  // bytes that passed through last
	// failed is why the file could not be written, and stop ends the step then:
	// a script whose output nobody takes would end for a baffling reason.
	failed error
	stop   func(error)

	warnings int
}

// tailShare is which part of a log is kept for the end of the output.
const tailShare = 4

// warning is how compilers begin one.
var warning = pattern.New(`^\S+?:\d+(:\d+)?: warning: |^(cc1(plus)?|ld|\S+/ld): warning: `)

func (w *logWriter) Write(p []byte) (int, error) {
	w.keep(p)
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

// keep writes output to the file, or to what may become its end.
func (w *logWriter) keep(p []byte) {
	if room := w.size - w.size/tailShare - w.written; room > 0 && w.failed == nil {
		n, err := w.file.Write(p[:min(int64(len(p)), room)])
		w.written += int64(n)
		if err != nil {
			w.fail(err)
		}
		p = p[min(int64(len(p)), room):]
	}
	if len(p) == 0 {
		return
	}
	w.left += int64(len(p))
	limit := int(w.size / tailShare)
	if room := limit - len(w.last); room > 0 {
		n := min(room, len(p))
		w.last, p = append(w.last, p[:n]...), p[n:]
	}
	for len(p) > 0 && limit > 0 {
		n := copy(w.last[w.next:], p)
		w.next, p = (w.next+n)%limit, p[n:]
	}
}

func (w *logWriter) fail(err error) {
	w.failed = err
	w.stop(err)
}

// end writes what was kept for the end, and says what was left out.
func (w *logWriter) end() error {
	if len(w.part) > 0 {
		w.line(w.part)
		w.part = nil
	}
	if len(w.last) == 0 || w.failed != nil {
		return w.failed
	}
	end := append(slices.Clone(w.last[w.next:]), w.last[:w.next]...)
	if cut := w.left - int64(len(end)); cut > 0 {
		// From the next line on, as far as there is one.
		if i := bytes.IndexByte(end, '\n'); i >= 0 {
			cut, end = cut+int64(i)+1, end[i+1:]
		}
		note := fmt.Sprintf("\n[ellwand: %d bytes of output are left out here; [build] log bounds what is kept]\n", cut)
		end = append([]byte(note), end...)
	}
	_, err := w.file.Write(end)
	return err
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

func (w *logWriter) lines() []string {
	return w.tail[max(0, len(w.tail)-tailLines):]
}

// CleanLine makes a line of a log fit to be shown.
func CleanLine(s string) string { return trim(s) }

// scriptDir is where the scripts of steps are in a sandbox; the shell's
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
