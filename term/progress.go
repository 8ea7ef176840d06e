package term

import (
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"ellwand.example/core/progress"
)

// patience is how long work may take before it is worth a line.
const patience = time.Second

// Progress shows work that takes longer than a second: on a terminal as a live
// line that goes away when it is done, elsewhere as plain lines.
type Progress struct {
	w     *Writer
	mu    sync.Mutex
	bars  *mpb.Progress // made when the first live line is due
	level Level
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
	if p.bars != nil {
		p.bars.Shutdown()
		p.bars = nil
	}
}

// Together runs what prints several lines, with the live lines out of the way
// and nothing of others in between.
func (p *Progress) Together(print func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	print()
}

// Note writes a line above the live ones.
func (p *Progress) Note(text string) {
	if p.level == Quiet {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.line(text)
}

func (p *Progress) line(text string) {
	if p.bars != nil {
		p.bars.Write([]byte(text + "\n"))
		return
	}
	fmt.Fprintln(p.w, text)
}

// Begin starts a task.
func (p *Progress) Begin(name string, total int64, unit string) progress.Task {
	if p.level == Quiet {
		return progress.None.Begin(name, total, unit)
	}
	t := &task{p: p, name: name, unit: unit, began: time.Now()}
	t.total.Store(total)
	t.timer = time.AfterFunc(patience, t.show)
	return t
}

type task struct {
	p           *Progress
	name, unit  string
	began       time.Time
	timer       *time.Timer
	done, total atomic.Int64
	saying      atomic.Value // string

	mu    sync.Mutex
	bar   *mpb.Bar
	shown bool
	ended bool
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
	t.saying.Store(line)
}

// show announces a task that is not done within the patience.
func (t *task) show() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ended {
		return
	}
	t.shown = true
	t.p.mu.Lock()
	defer t.p.mu.Unlock()
	if !t.p.w.Terminal {
		t.p.line(t.name + " …")
		return
	}
	if t.p.bars == nil {
		t.p.bars = mpb.New(mpb.WithOutput(t.p.w.Writer), mpb.WithWidth(t.p.w.Width), mpb.WithRefreshRate(120*time.Millisecond))
	}
	t.bar = t.p.bars.MustAdd(0, nil, mpb.BarRemoveOnComplete(), mpb.PrependDecorators(decor.Any(func(decor.Statistics) string { return t.text() })))
}

// text is the live line: the name, how far, how long, what is going on.
func (t *task) text() string {
	s := t.p.w.Style(Strong, t.name) + t.p.w.Style(Faint, fmt.Sprintf("  %s", time.Since(t.began).Round(time.Second)))
	done, total := t.done.Load(), t.total.Load()
	amount := func(n int64) string {
		if t.unit == "bytes" {
			return Bytes(n)
		}
		return fmt.Sprint(n)
	}
	switch {
	case total > 0:
		s += fmt.Sprintf("  %3d%%  %s of %s", min(100, done*100/total), amount(done), amount(total))
	case done > 0:
		s += "  " + amount(done)
	}
	if line, ok := t.saying.Load().(string); ok && line != "" {
		s += "  " + t.p.w.Style(Faint, line)
	}
	return ansi.Truncate(s, t.p.w.Width-4, "…") // mpb takes colours away from what might not fit
}

func (t *task) End(result string) {
	t.timer.Stop()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.ended = true
	switch {
	case !t.shown:
	case t.bar != nil:
		t.bar.Abort(true)
		t.bar.Wait()
	default:
		t.p.Note(fmt.Sprintf("%s: %s after %s", t.name, result, time.Since(t.began).Round(100*time.Millisecond)))
	}
}
