package term

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"ellwand.example/core/progress"
	"ellwand.example/core/recipe/document"
)

func writer(width int, color string) (*bytes.Buffer, *Writer) {
	var b bytes.Buffer
	w := NewWriter(&b, color)
	w.Width = width
	return &b, w
}

func TestTable(t *testing.T) {
	for _, c := range []struct {
		width int
		want  string
	}{
		{80, "name        summary\ntide        Tables of the tides, for each hour\nalmanac-ü1  x\n"},
		{30, "name        summary\ntide        Tables of the tid…\nalmanac-ü1  x\n"},
		{5, "name        summary\ntide        Tables of t…\nalmanac-ü1  x\n"},
	} {
		b, w := writer(c.width, "never")
		w.Table([]string{"name", "summary"}, [][]string{{"tide", "Tables of the tides, for each hour"}, {"almanac-ü1", "x"}})
		if b.String() != c.want {
			t.Errorf("%d wide:\n%s", c.width, b)
		}
	}
	// Any other last column is there in full: beside the others if there is room, or
	// else on lines of its own.
	for width, want := range map[int]string{
		80: "name  path\ntide  /usr/share/tide/tables/saltmarsh\n",
		30: "name  path\ntide  /usr/share/tide/tables/\n      saltmarsh\n",
		24: "name  path\ntide\n    /usr/share/tide/\n    tables/saltmarsh\n",
	} {
		b, w := writer(width, "never")
		w.Table([]string{"name", "path"}, [][]string{{"tide", "/usr/share/tide/tables/saltmarsh"}})
		if b.String() != want {
			t.Errorf("%d wide:\n%s", width, b)
		}
	}
	b, w := writer(80, "never")
	w.Table([]string{"name"}, nil)
	if b.Len() != 0 {
		t.Errorf("a table of nothing: %q", b)
	}
}

func TestProblems(t *testing.T) {
	b, w := writer(40, "never")
	w.Problems(document.Problems{
		{File: "r.toml", Line: 7, Column: 5, Width: 3, Text: "a = éée # and so on, further than the terminal is wide", Message: "wrong", Remedy: "fix it"},
		{File: "r.toml", Line: 123, Column: 70, Width: 30, Text: strings.Repeat("x", 69) + strings.Repeat("y", 30), Message: "far right"},
		{File: "r.toml", Message: "is empty", Remedy: "a\nb"},
	})
	for line := range strings.SplitSeq(b.String(), "\n") {
		if n := len([]rune(line)); n > 40 {
			t.Errorf("%d wide: %s", n, line)
		}
	}
	for _, want := range []string{"r.toml:7:5: wrong\n     7 | a = éée", "\n       |     ^^^\n       | fix it\n", "…xx", "xyyyyyyy", "r.toml: is empty\n  a\n  b\n"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("%q is not in\n%s", want, b)
		}
	}
}

func TestColor(t *testing.T) {
	for color, want := range map[string]bool{"always": true, "never": false, "auto": false} {
		_, w := writer(80, color)
		if got := strings.Contains(w.Style(Bad, "x\ny"), "\x1b["); got != want {
			t.Errorf("--color %s: colours %v", color, got)
		}
	}
	_, w := writer(80, "always")
	if lines := strings.Split(w.Style(Good, "long line\nx"), "\n"); len(lines) != 2 || strings.Contains(lines[1], " ") {
		t.Errorf("two lines in a colour: %q", lines)
	}
}

// Away from a terminal, only what takes its time gets lines.
func TestPlainProgress(t *testing.T) {
	b, w := writer(80, "never")
	p := NewProgress(w, Normal)
	p.Begin("quick", 0, "").End("done")
	slow := p.Begin("slow", 100, "bytes")
	slow.Advance(50)
	time.Sleep(patience + 200*time.Millisecond)
	p.Note("a note")
	slow.End("done")
	p.Close()
	if got := b.String(); !strings.HasPrefix(got, "slow …\na note\nslow: done after 1") || strings.Contains(got, "quick") {
		t.Errorf("%q", got)
	}
	b.Reset()
	quiet := NewProgress(w, Quiet)
	quiet.Note("x")
	quiet.Begin("y", 0, "").End("done")
	if b.Len() != 0 {
		t.Errorf("quiet: %q", b)
	}
	chatty := NewProgress(w, Verbose).Begin("step", 0, "")
	chatty.Say("a line")
	chatty.End("done")
	if b.String() != "| a line\n" {
		t.Errorf("verbose: %q", b)
	}
}

// Live lines fit the terminal, whatever its width, and are drawn in one piece.
func TestLiveProgress(t *testing.T) {
	for _, width := range []int{20, 40, 80, 200} {
		b, w := writer(width, "always")
		w.Terminal = true
		p := NewProgress(w, Normal)
		tasks := []progress.Task{p.Begin("libharmonic build", 60_000, progress.Time), p.Begin("fetch tidegauge-2.4.1.tar.gz", 100<<20, "bytes"), p.Begin("tidegauge test", 0, "")}
		live := func(n int) { // waits until so many tasks have a line
			for range 6000 {
				p.mu.Lock()
				there := len(p.live)
				p.mu.Unlock()
				if there == n {
					return
				}
				time.Sleep(10 * time.Millisecond)
			}
			t.Fatalf("there are never %d live lines", n)
		}
		live(3)
		for i := range 9 {
			tasks = append(tasks, p.Begin(fmt.Sprint("more ", i), 0, ""))
		}
		tasks[0].Say("cc -c a very long line of output that does not fit into any terminal of a usual width, let alone " + strings.Repeat("x", 200))
		tasks[1].Advance(50 << 20)
		p.Begin("quick", 0, "").End("done")
		live(12)
		time.Sleep(2 * refresh)
		p.Note("a note")
		for _, t := range tasks {
			t.End("done")
		}
		p.Close()
		got := b.String()
		for _, line := range strings.Split(ansi.Strip(strings.ReplaceAll(got, "\r", "")), "\n") {
			if n := ansi.StringWidth(line); n >= width {
				t.Errorf("%d wide on %d: %q", n, width, line)
			}
		}
		if !strings.HasSuffix(got, eraseBelow) || strings.Contains(got, "quick") || !strings.Contains(got, "a note\n") || !strings.Contains(got, "and 5 more") {
			t.Errorf("on %d columns:\n%q", width, got)
		}
		if bars := strings.Contains(got, "━"); bars != (width >= barFrom) {
			t.Errorf("on %d columns there are bars: %v", width, bars)
		}
	}
}

func TestWrapped(t *testing.T) {
	_, w := writer(40, "never")
	if got := w.Wrapped("one two three four five six seven eight", 8); got != "one two three four five six\n        seven eight" {
		t.Errorf("%q", got)
	}
}
