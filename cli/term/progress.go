package term

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/x/ansi"
	xterm "golang.org/x/term"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
)

const (
	// patience is how long work may take before it is worth a line.
	patience = time.Second
	// liveAfter is the same for a live line, which goes away by itself.
	liveAfter = 300 * time.Millisecond
	// refresh is how often live lines are drawn.
	refresh = 120 * time.Millisecond
	// maxLive bounds the live lines.
	maxLive = 8
)

// Progress shows work that takes its time: on a terminal as live lines at its
// bottom that go away when it is done, elsewhere as plain lines.
type Progress struct {
	w     *Writer
	level Level

	mu    sync.Mutex
	live  []*task       // that have a live line, in the order of their beginnings
	drawn int           // how many lines are on the terminal now
	stop  chan struct{} // ends the drawing; nil while there is none
}

// Level is how much is shown.
type Level int

// The levels.
const (
	Quiet   Level = -1 // nothing
	Normal  Level = 0
	Verbose Level = 1 // every line of output that a task passes on
)

// NewProgress shows progress on w.
func NewProgress(w *Writer, level Level) *Progress { return &Progress{w: w, level: level} }

// Close takes the live lines away.
func (p *Progress) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.live = nil
	p.rest()
}

// Note writes a line above the live ones.
func (p *Progress) Note(text string) {
	if p.level != Quiet {
		p.Together(func() { fmt.Fprintln(p.w, text) })
	}
}

// Together runs what prints several lines, with the live lines out of the way
// and nothing of others in between.
func (p *Progress) Together(print func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.clear()
	print()
	p.draw()
}

// Begin starts a task.
func (p *Progress) Begin(name string, total int64, unit string) progress.Task {
	if p.level == Quiet {
		return progress.None.Begin(name, total, unit)
	}
	t := &task{p: p, name: fact.Visible(name), unit: unit, began: time.Now()}
	if unit == progress.Time {
		t.usual = time.Duration(total) * time.Millisecond
	} else {
		t.total.Store(total)
	}
	wait := patience
	if p.w.Terminal {
		wait = liveAfter
	}
	t.timer = time.AfterFunc(wait, t.show)
	return t
}

// begin starts the drawing; p.mu is held.
func (p *Progress) begin() {
	if p.stop != nil {
		return
	}
	stop := make(chan struct{})
	p.stop = stop
	go func() {
		tick := time.NewTicker(refresh)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				return
			case <-tick.C:
				p.mu.Lock()
				p.draw()
				p.mu.Unlock()
			}
		}
	}()
}

// rest ends the drawing when there is nothing to draw; p.mu is held.
func (p *Progress) rest() {
	if len(p.live) > 0 {
		return
	}
	p.clear()
	if p.stop != nil {
		close(p.stop)
		p.stop = nil
	}
}

// Control sequences of ECMA-48.
const (
	eraseLine  = "\x1b[K" // to its end
	eraseBelow = "\x1b[J"
)

func up(lines int) string {
	if lines == 0 {
		return ""
	}
	return fmt.Sprintf("\x1b[%dA", lines)
}

// clear takes the live lines off the terminal; p.mu is held.
func (p *Progress) clear() {
	if p.drawn > 0 {
		p.w.exactly([]byte("\r" + up(p.drawn) + eraseBelow))
		p.drawn = 0
	}
}

// draw writes the live lines over the ones that stand there, in one piece, so
// that nothing flickers; p.mu is held.
func (p *Progress) draw() {
	if len(p.live) == 0 {
		return
	}
	width, height := p.size()
	lines := p.lines(width, min(maxLive, max(height-2, 1)))
	var b strings.Builder
	b.WriteString("\r" + up(p.drawn))
	for _, line := range lines {
		b.WriteString(escape(line) + eraseLine + "\n")
	}
	b.WriteString(eraseBelow)
	p.w.exactly([]byte(b.String()))
	p.drawn = len(lines)
}

// size asks for the terminal's size, which may change at any time.
func (p *Progress) size() (width, height int) {
	if f, ok := p.w.out.(*os.File); ok {
		if width, height, err := xterm.GetSize(int(f.Fd())); err == nil && width > 0 {
			return width, height
		}
	}
	return p.w.Width, 24
}

// lines are the live lines for a terminal of some width.
func (p *Progress) lines(width, most int) []string {
	shown := p.live
	if len(shown) > most {
		shown = shown[:most-1]
	}
	names := 0
	for _, t := range shown {
		names = max(names, ansi.StringWidth(t.name))
	}
	names = min(names, max(width/2, 12))
	var out []string
	for _, t := range shown {
		out = append(out, t.line(names, width-1))
	}
	if hidden := len(p.live) - len(shown); hidden > 0 {
		out = append(out, ansi.Truncate(p.w.Style(Faint, fmt.Sprintf("and %d more", hidden)), width-1, "…"))
	}
	return out
}

type task struct {
	p           *Progress
	name, unit  string
	began       time.Time
	usual       time.Duration // that it takes; 0 where that is not known
	timer       *time.Timer
	done, total atomic.Int64
	saying      atomic.Value // string

	shown, ended bool // p.mu is held for these
}

func (t *task) Advance(n int64) { t.done.Add(n) }

func (t *task) Set(done, total int64) {
	t.done.Store(done)
	t.total.Store(total)
}

func (t *task) Say(line string) {
	if t.p.level == Verbose {
		t.p.Note(t.p.w.Style(Faint, "| ") + line)
		return
	}
	t.saying.Store(fact.Visible(line))
}

// show announces a task that is not done within the patience.
func (t *task) show() {
	p := t.p
	p.mu.Lock()
	defer p.mu.Unlock()
	if t.ended {
		return
	}
	t.shown = true
	if !p.w.Terminal {
		fmt.Fprintln(p.w, t.name+" …")
		return
	}
	p.live = append(p.live, t)
	p.begin()
	p.draw()
}

// Widths of the parts of a live line.
const (
	clockWidth = 6
	barWidth   = 14
	barFrom    = 60 // how wide a terminal must be for bars
)

// line is the live line: the name, how long, how far, what is going on.
func (t *task) line(names, width int) string {
	w := t.p.w
	name := ansi.Truncate(t.name, names, "…")
	s := w.Style(Strong, name) + strings.Repeat(" ", names-ansi.StringWidth(name)) + " " + w.Style(Faint, fmt.Sprintf("%*s", clockWidth, clock(time.Since(t.began))))
	if part, known := t.part(); width >= barFrom {
		if known {
			s += "  " + t.bar(part)
		} else {
			s += strings.Repeat(" ", barWidth+2)
		}
	} else if known {
		s += fmt.Sprintf(" %3d%%", int(part*100))
	}
	if amount := t.amount(); amount != "" {
		s += "  " + amount
	}
	if line, ok := t.saying.Load().(string); ok && line != "" {
		s += "  " + w.Style(Faint, line)
	}
	return ansi.Truncate(s, width, "…")
}

// clock writes a time in as few signs as tell it.
func clock(d time.Duration) string {
	d = d.Round(time.Second)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d:%02d", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%dh%02d", int(d.Hours()), int(d.Minutes())%60)
}

// part is how much is done, from 0 to 1. Of work that takes longer than usual
// nobody knows how much is left: it stays just short of the end.
func (t *task) part() (part float64, known bool) {
	const almost = 0.97
	if total := t.total.Load(); total > 0 {
		return min(1, float64(t.done.Load())/float64(total)), true
	}
	if t.usual > 0 {
		return min(almost, float64(time.Since(t.began))/float64(t.usual)), true
	}
	return 0, false
}

func (t *task) bar(part float64) string {
	full := int(part * barWidth)
	return t.p.w.Style(Good, strings.Repeat("━", full)) + t.p.w.Style(Faint, strings.Repeat("─", barWidth-full))
}

func (t *task) amount() string {
	done, total := t.done.Load(), t.total.Load()
	write := func(n int64) string {
		if t.unit == "bytes" {
			return fact.Bytes(n)
		}
		return fmt.Sprint(n)
	}
	switch {
	case total > 0:
		return write(done) + " of " + write(total)
	case done > 0:
		return write(done)
	}
	return ""
}

func (t *task) End(result string) {
	t.timer.Stop()
	p := t.p
	p.mu.Lock()
	defer p.mu.Unlock()
	t.ended = true
	switch {
	case !t.shown:
	case p.w.Terminal:
		p.live = slices.DeleteFunc(p.live, func(other *task) bool { return other == t })
		p.rest()
	default:
		fmt.Fprintf(p.w, "%s: %s after %s\n", t.name, result, time.Since(t.began).Round(100*time.Millisecond))
	}
}
