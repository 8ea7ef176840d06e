// What became of builds, as people read it.

package cli

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
	"ellwand.example/core/workspace"
)

func (a *program) showTwice(res build.Result, found []build.Difference) {
	w := a.out
	if len(found) == 0 {
		w.Printf("%s %s  %s: %s, the same both times\n", w.Style(term.Strong, res.Recipe), res.Version, w.Style(term.Good, "same bytes"), fact.Count(len(res.Packages), "package", "packages"))
		return
	}
	w.Printf("%s %s  %s\n", w.Style(term.Strong, res.Recipe), res.Version, w.Style(term.Bad, "the second build made other packages"))
	for _, d := range found {
		w.Printf("  %s  %s: %s", w.Style(term.Name, d.Package), d.Path, d.What)
		if d.What == "contents" {
			w.Printf(" from byte %d on", d.Offset)
			if d.Where != "" {
				w.Printf(", %s", d.Where)
			}
		}
		w.Printf("\n")
		if d.First != d.Second {
			w.Printf("    %s %s\n    %s %s\n", w.Style(term.Bad, "first: "), d.First, w.Style(term.Good, "second:"), d.Second)
		}
		if d.Hint != "" {
			w.Printf("    %s\n", d.Hint)
		}
	}
}

func (a *program) showOutcomes(outcomes []build.Outcome, took time.Duration) {
	w := a.out
	var rows [][]string
	counts := map[string]int{}
	for _, o := range outcomes {
		counts[o.State]++
		if o.State == build.Unchanged && (a.quiet || len(outcomes) > manyOutcomes && !a.verbose) {
			continue
		}
		size, what := int64(0), ""
		for _, p := range o.Packages {
			size += p.Size
		}
		switch {
		case len(o.SkippedFor) > 0:
			what = "needs " + strings.Join(o.SkippedFor, ", ")
		case o.Err != nil:
			what = reason(o.Err)
		default:
			what = fmt.Sprintf("%s, %s", fact.Count(len(o.Packages), "package", "packages"), fact.Bytes(size))
		}
		rows = append(rows, []string{w.Style(term.Name, o.Recipe), o.Version, w.Style(stateRoles[o.State], o.State), fmt.Sprintf("%7s", seconds(o.Seconds)), what})
	}
	if len(rows) > 0 {
		w.Printf("\n")
		w.Table([]string{"recipe", "version", "state", "time", ""}, rows)
	}
	w.Printf("%s in %s: %s\n", fact.Count(len(outcomes), "recipe", "recipes"), seconds(took.Seconds()), a.countedStates(counts))
}

// reason says in a few words why a build failed.
func reason(err error) string {
	var step *build.StepError
	var packing *build.PackError
	switch {
	case errors.As(err, &step) && len(step.Causes) > 0:
		return step.Step + ": " + step.Causes[0].Message
	case errors.As(err, &step):
		return step.Step + " " + step.Ended
	case errors.As(err, &packing):
		return "pack: the staged files do not match the layouts"
	}
	text, _, _ := strings.Cut(err.Error(), "\n")
	return text
}

func (a *program) showBuild(res build.Result) {
	w := a.out
	if res.State == build.Unchanged {
		w.Printf("%s %s  %s\n", w.Style(term.Strong, res.Recipe), res.Version, w.Style(term.Faint, res.State))
	} else {
		var total float64
		var ran, before []string
		for _, s := range res.Steps {
			total += s.Seconds
			if s.Reused {
				before = append(before, s.Step)
			} else if !s.Skipped {
				ran = append(ran, s.Step+" "+w.Style(term.Faint, seconds(s.Seconds)))
			}
		}
		w.Printf("%s %s  %s in %s\n", w.Style(term.Strong, res.Recipe), res.Version, w.Style(term.Good, res.State), seconds(total))
		if len(before) > 0 && !a.quiet {
			w.Printf("  %s\n", w.Style(term.Faint, "reused: "+strings.Join(before, ", ")))
		}
		if !a.quiet {
			w.Printf("  %s\n", strings.Join(ran, "   "))
		}
	}
	for _, p := range res.Packages {
		w.Printf("  %s  %s, %s\n", w.Style(term.Name, workspace.Display(p.Path)), fact.Bytes(p.Size), fact.Count(p.Facts.Paths, "path", "paths"))
	}
	if res.Needs != nil {
		a.showNeedsReport(res.Needs)
	}
	if res.Linted {
		a.showLinted(res)
	}
	if res.Work != "" {
		w.Printf("  a copy of the work tree is %s\n", res.Work)
	}
	if a.verbose && res.Logs != "" {
		w.Printf("  logs in %s\n", res.Logs)
	}
}

// showLinted tells what lint found in what was made: errors in full, since they
// keep it from being published, and of the others how many there are.
func (a *program) showLinted(res build.Result) {
	w := a.out
	counts, _ := fact.CountFindings(res.Findings)
	if len(counts) == 0 {
		if res.State != build.Unchanged {
			w.Printf("  lint: %s\n", a.counted(res.Findings))
		}
		return
	}
	if a.quiet && counts[lint.Error] == 0 {
		return
	}
	w.Printf("  lint: %s; `ellwand lint %s` shows them\n", a.counted(res.Findings), res.Recipe)
	if a.quiet || res.State == build.Unchanged {
		return
	}
	shown := map[string]int{}
	for _, f := range res.Findings {
		if f.Severity == lint.Error && f.Waived == "" {
			if shown[f.Code]++; shown[f.Code] > mostOfKind {
				continue
			}
			place := f.Path
			if place == "" && f.File != "" {
				place = fmt.Sprintf("%s:%d", f.File, f.Line)
			}
			w.Printf("    %s %s\n", w.Style(term.Bad, f.Code), w.Wrapped(strings.TrimPrefix(fact.Visible(place)+": ", ": ")+fact.Visible(f.Message), 9))
		}
	}
	for _, code := range slices.Sorted(maps.Keys(shown)) {
		if n := shown[code] - mostOfKind; n > 0 {
			w.Printf("    %s and %d more\n", w.Style(term.Bad, code), n)
		}
	}
}

// showNeedsReport tells which needs were declared for nothing, and what was
// used without one.
func (a *program) showNeedsReport(r *build.NeedsReport) {
	w := a.out
	if len(r.Unused)+len(r.Undeclared) == 0 {
		w.Printf("  %s\n", w.Style(term.Good, "the steps used what the recipe declares, and nothing else"))
		return
	}
	if len(r.Unused) > 0 {
		w.Printf("  %s\n", w.Style(term.Doubtful, "declared, and nothing of it was used:"))
		for _, n := range r.Unused {
			w.Printf("    %s\n", n)
		}
	}
	if len(r.Undeclared) > 0 {
		w.Printf("  %s\n", w.Style(term.Doubtful, "used, and not declared:"))
		for _, u := range r.Undeclared {
			by := u.Path
			if u.By != "" {
				by = "run by " + u.By
			}
			w.Printf("    %s  %s\n", u.Need, w.Style(term.Faint, by))
		}
	}
}

func seconds(s float64) string {
	d := time.Duration(s * float64(time.Second))
	if d < time.Minute {
		return fmt.Sprintf("%.1f s", s)
	}
	return d.Round(time.Second).String()
}

// explainStep shows how a step failed: the log's end, where, what ran, and of
// all the likely cause last, where the eye falls on it first.
func (a *program) explainStep(e *build.StepError) {
	w := a.err
	for _, line := range e.Tail {
		w.Printf("%s %s\n", w.Style(term.Faint, "|"), line)
	}
	where := e.File
	if e.Line > 0 {
		where = fmt.Sprintf("%s:%d", e.File, e.Line)
	}
	w.Printf("%s: %s\n", w.Style(term.Strong, where), w.Style(term.Bad, fmt.Sprintf("step %s of %s %s", e.Step, e.Recipe, e.Ended)))
	switch {
	case e.Method != "":
		w.Printf("%s %s\n", w.Style(term.Faint, fmt.Sprintf("   in method %s |", e.Method)), e.Command)
	case e.Command != "":
		w.Printf("%s %s\n", w.Style(term.Faint, fmt.Sprintf("%6d |", e.Line)), e.Command)
	}
	if n := len(e.Tests); n > 0 {
		w.Printf("%s failed: %s\n", fact.Count(n, "test", "tests"), w.Style(term.Bad, w.Wrapped(fact.Visible(strings.Join(e.Tests, ", ")), 2)))
	}
	w.Printf("the full log is %s\n", e.Log)
	for i, c := range e.Causes {
		if i > 1 {
			break
		}
		label := "probably:"
		if i > 0 {
			label = "or:"
		}
		at := ""
		if c.LogLine > 0 {
			at = w.Style(term.Faint, fmt.Sprintf(" (line %d of the log)", c.LogLine))
		}
		w.Printf("%s %s%s\n", w.Style(term.Strong, label), w.Style(term.Bad, c.Message), at)
		w.Printf("  %s\n", w.Style(term.Good, c.Remedy))
	}
}

// explainPacking lists everything that does not match between the staged tree
// and the layouts, with lines for the recipe.
func (a *program) explainPacking(e *build.PackError) {
	w, m := a.err, e.Mismatch
	w.Printf("%s\n", w.Style(term.Bad, fmt.Sprintf("step pack of %s: the staged files do not match the layouts", e.Recipe)))
	if n := m.Count(); n > 0 {
		w.Printf("\n%s in no layout:\n", fact.Count(n, "staged path is", "staged paths are"))
		for _, s := range m.Unclaimed {
			for i, p := range s.Paths {
				if i == 10 && len(s.Paths) > 12 && !a.verbose {
					w.Printf("  … and %d more under %s\n", len(s.Paths)-i, strings.TrimSuffix(s.Pattern, "/**"))
					break
				}
				w.Printf("  %s\n", p)
			}
		}
		w.Printf("\nLines to paste into %s (or list the paths in discard = [...]):\n\n%s\n", m.Recipe, w.Style(term.Good, strings.TrimRight(m.Lines(), "\n")))
	}
	if len(m.Unmatched) > 0 {
		w.Printf("\n%s nothing that was staged:\n", fact.Count(len(m.Unmatched), "layout line matches", "layout lines match"))
		for _, l := range m.Unmatched {
			near := ""
			if l.Near != "" {
				near = "  " + w.Style(term.Good, "did you mean "+l.Near+"?")
			}
			w.Printf("  %s  %q%s\n", w.Style(term.Strong, fmt.Sprintf("%s:%d", m.Recipe, l.Line)), l.Pattern, near)
		}
	}
	for _, l := range m.Covered {
		w.Printf("\n%s  %q takes its file from beside the recipe, and the stage step installed one too: remove one of them\n", w.Style(term.Strong, fmt.Sprintf("%s:%d", m.Recipe, l.Line)), l.Pattern)
	}
	for _, t := range m.Tied {
		w.Printf("\n%s  %q and %q (line %d) claim %s equally: give one of them a longer literal start\n",
			w.Style(term.Strong, fmt.Sprintf("%s:%d", m.Recipe, t.B.Line)), t.B.Pattern, t.A.Pattern, t.A.Line, t.Path)
	}
	w.Printf("\nAfter fixing the layout, `ellwand build %s` only packs again; nothing is recompiled.\n", e.Recipe)
}
