// Package term writes for people: colours where the terminal has them, tables
// sized to its width, errors with the lines they are in, and progress.
package term

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"github.com/muesli/termenv"
	xterm "golang.org/x/term"

	"ellwand.example/core/recipe/document"
)

// defaultWidth is used where the output is no terminal.
const defaultWidth = 100

// Writer writes styled text for people to one stream. Whatever the text has in
// it, no terminal acts on it: see escape.
type Writer struct {
	Width    int
	Terminal bool
	// Edit, if set, edits texts before they are written.
	Edit func(string) string

	out io.Writer
	r   *lipgloss.Renderer
	mu  sync.Mutex
	err error // the first of writing
}

// Write writes text, made safe for a terminal.
func (w *Writer) Write(p []byte) (int, error) {
	if err := w.exactly([]byte(escape(string(p)))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Exact writes bytes as they are: data for programs.
func (w *Writer) Exact() io.Writer { return exactWriter{w} }

type exactWriter struct{ w *Writer }

func (e exactWriter) Write(p []byte) (int, error) {
	if err := e.w.exactly(p); err != nil {
		return 0, err
	}
	return len(p), nil
}

func (w *Writer) exactly(p []byte) error {
	_, err := w.out.Write(p)
	if err != nil {
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.err == nil {
			w.err = err
		}
	}
	return err
}

// Err is the first error of writing; nil if all was written.
func (w *Writer) Err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// Stream is where it writes to, for programs that are to write there too.
func (w *Writer) Stream() io.Writer { return w.out }

// NewWriter looks at what w is. Color is "auto", "always" or "never"; with
// auto, colours are for terminals, unless NO_COLOR is set (no-color.org).
func NewWriter(w io.Writer, color string) *Writer {
	t := &Writer{out: w, Width: defaultWidth, r: lipgloss.NewRenderer(w)}
	if f, ok := w.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) {
		t.Terminal = os.Getenv("TERM") != "dumb"
		if width, _, err := xterm.GetSize(int(f.Fd())); err == nil && width > 0 {
			t.Width = width
		}
	}
	if columns, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && columns > 0 && !t.Terminal {
		t.Width = columns
	}
	profile := termenv.Ascii
	if color == "always" || color == "auto" && t.Terminal && os.Getenv("NO_COLOR") == "" {
		profile = termenv.ANSI
	}
	t.r.SetColorProfile(profile)
	t.r.SetHasDarkBackground(true) // or it would ask the terminal, and wait
	return t
}

// Role says what a piece of text is, and so how it looks.
type Role int

// The roles.
const (
	Plain Role = iota
	Strong
	Faint
	Good
	Bad
	Doubtful
	Name
)

// Style dresses text for a role.
func (w *Writer) Style(role Role, s string) string {
	st := w.r.NewStyle()
	switch role {
	case Strong:
		st = st.Bold(true)
	case Faint:
		st = st.Foreground(lipgloss.Color("8"))
	case Good:
		st = st.Foreground(lipgloss.Color("2"))
	case Bad:
		st = st.Foreground(lipgloss.Color("1")).Bold(true)
	case Doubtful:
		st = st.Foreground(lipgloss.Color("3"))
	case Name:
		st = st.Foreground(lipgloss.Color("6"))
	default:
		return s
	}
	const inside = "x"
	before, after, ok := strings.Cut(st.Render(inside), inside)
	if !ok || before == "" {
		return s
	}
	// Line by line, so that what is written between lines has no colour.
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		lines[i] = own(before) + line + own(after)
	}
	return strings.Join(lines, "\n")
}

// Printf writes formatted text.
func (w *Writer) Printf(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if w.Edit != nil {
		text = w.Edit(text)
	}
	io.WriteString(w, text)
}

// Table writes rows in columns under a faint head. Text in the last column that
// does not fit the width is continued on further lines; a summary is cut, with an
// ellipsis.
func (w *Writer) Table(head []string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	widths := make([]int, len(head))
	for _, row := range append([][]string{head}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], ansi.StringWidth(cell))
		}
	}
	used := 0
	for _, n := range widths[:len(widths)-1] {
		used += n + 2
	}
	last := len(head) - 1
	room := w.Width - used
	// A summary helps to choose; whatever else is last must be legible in full.
	cut := head[last] == "summary"
	indent := strings.Repeat(" ", used)
	if room < narrowest && !cut {
		room, indent = max(w.Width-len(ownLine), narrowest), ownLine
	}
	faint := make([]string, len(head))
	for i, h := range head {
		faint[i] = w.Style(Faint, h)
	}
	var line strings.Builder
	for _, row := range append([][]string{faint}, rows...) {
		line.Reset()
		for i, cell := range row[:last] {
			line.WriteString(cell + strings.Repeat(" ", widths[i]-ansi.StringWidth(cell)+2))
		}
		switch text := row[last]; {
		case cut:
			line.WriteString(ansi.Truncate(text, max(room, 12), "…"))
		case indent == ownLine && ansi.StringWidth(text) > max(w.Width-used, 0) && text != "":
			before := strings.TrimRight(line.String(), " ")
			line.Reset()
			line.WriteString(before + "\n" + indent)
			fallthrough
		default:
			line.WriteString(strings.ReplaceAll(ansi.Wrap(text, room, "/"), "\n", "\n"+indent))
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
}

// narrowest is how narrow a table's last column may be, in cells, before its text
// gets lines of its own, indented by ownLine.
const (
	narrowest = 20
	ownLine   = "    "
)

// Problems writes mistakes with the lines they are in.
func (w *Writer) Problems(ps document.Problems) {
	for _, p := range ps {
		if p.Line == 0 {
			w.Printf("%s: %s\n", w.Style(Strong, p.File), w.Style(Bad, p.Message))
			w.remedy("  ", p.Remedy)
			continue
		}
		w.Printf("%s: %s\n", w.Style(Strong, fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)), w.Style(Bad, p.Message))
		number := fmt.Sprintf("%6d ", p.Line)
		text, column, width := w.window(p, len(number)+2)
		w.Printf("%s %s\n", w.Style(Faint, number+"|"), text)
		gutter := w.Style(Faint, strings.Repeat(" ", len(number))+"|") + " "
		w.Printf("%s%s%s\n", gutter, strings.Repeat(" ", column), w.Style(Bad, strings.Repeat("^", width)))
		w.remedy(gutter, p.Remedy)
	}
}

func (w *Writer) remedy(indent, remedy string) {
	if remedy == "" {
		return
	}
	for line := range strings.SplitSeq(ansi.Wordwrap(remedy, max(w.Width-10, 20), ""), "\n") {
		w.Printf("%s%s\n", indent, w.Style(Good, line))
	}
}

// window cuts a long line down to what is around the marked spot.
func (w *Writer) window(p document.Problem, indent int) (text string, column, width int) {
	runes := []rune(strings.ReplaceAll(p.Text, "\t", " "))
	room := max(w.Width-indent-1, 20)
	column, width = min(p.Column-1, len(runes)), max(p.Width, 1)
	start := 0
	if len(runes) > room {
		start = max(0, min(column-room/3, len(runes)-room))
		runes = runes[start:min(len(runes), start+room)]
		if start > 0 {
			runes[0] = '…'
		}
	}
	column -= start
	return string(runes), column, max(1, min(width, room-column))
}

// Wrapped breaks text into lines that fit beside an indent, which the lines
// after the first begin with.
func (w *Writer) Wrapped(text string, indent int) string {
	return strings.ReplaceAll(ansi.Wordwrap(text, max(w.Width-indent-1, 30), ""), "\n", "\n"+strings.Repeat(" ", indent))
}
