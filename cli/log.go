package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"ellwand.example/app"

	"github.com/gofrs/flock"
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/engine/history"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/workspace"
)

func (a *program) logCommand() *cobra.Command {
	var step string
	var follow bool
	var limit int
	cmd := &cobra.Command{
		Use:   "log [RECIPE|NUMBER [RECIPE|NUMBER]]",
		Short: "List past builds, with their steps, times and logs",
		Long: `List past builds, the newest first. With the NUMBER of a build, or a RECIPE for its
last one, show that build: how long each step took, how many compiler warnings it had,
and how it ended. With two, show how they differ: in times, and in the lines of their
logs.

The logs of a recipe's last 20 builds are kept.`,
		Example: `  ellwand log
  ellwand log tidegauge
  ellwand log tidegauge --step build
  ellwand log tidegauge --follow
  ellwand log 3 4`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			switch {
			case len(args) > 2:
				return fmt.Errorf("%s takes two builds at most", cmd.CommandPath())
			case (step != "" || follow) && len(args) != 1:
				return fmt.Errorf("--step and --follow need one build")
			}
			return nil
		}),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkSteps(map[string]string{"step": step}); err != nil {
				return err
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			h, err := history.Open(cmd.Context(), app.HistoryFile(w))
			if err != nil {
				return err
			}
			defer h.Close()
			var builds []history.Build
			for _, arg := range args {
				b, err := findBuild(cmd.Context(), h, arg)
				if err != nil {
					return err
				}
				builds = append(builds, b)
			}
			switch {
			case len(builds) == 0:
				return a.listBuilds(cmd.Context(), w, h, limit)
			case len(builds) == 2:
				return a.compareBuilds(builds[0], builds[1])
			case follow:
				return a.followBuild(cmd.Context(), w, h, builds[0])
			case step != "":
				return a.printLog(builds[0], step)
			case a.json:
				return a.printJSON(builds[0])
			}
			a.showPast(w, builds[0])
			return nil
		},
	}
	cmd.Flags().StringVar(&step, "step", "", "print the full log of this step")
	cmd.Flags().BoolVar(&follow, "follow", false, "print the log of a running build as it grows")
	cmd.Flags().IntVar(&limit, "limit", 20, "how many builds to list")
	cmd.RegisterFlagCompletionFunc("step", cobra.FixedCompletions(recipe.StepNames, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// findBuild finds a build by its number, or the last one of a recipe.
func findBuild(ctx context.Context, h *history.Store, arg string) (history.Build, error) {
	if n, err := strconv.ParseInt(arg, 10, 64); err == nil {
		b, err := h.Get(ctx, n)
		if errors.Is(err, history.ErrNone) {
			return b, fmt.Errorf("build number %d does not exist: `ellwand log` lists them", n)
		}
		return b, err
	}
	all, err := h.List(ctx, app.RecipeName(arg), 1)
	if err != nil {
		return history.Build{}, err
	}
	if len(all) == 0 {
		return history.Build{}, fmt.Errorf("%s was not built yet: `ellwand log` lists what was", arg)
	}
	return all[0], nil
}

// isRunning reports whether a build that never ended is still under way.
func isRunning(w *workspace.Workspace, b history.Build) bool {
	if b.State != history.Running {
		return false
	}
	lock := flock.New(w.State("build", b.Recipe, "lock"), flock.SetFlag(os.O_RDONLY))
	free, err := lock.TryLock()
	if free {
		lock.Unlock()
	}
	return err == nil && !free
}

func (a *program) stateOf(w *workspace.Workspace, b history.Build) (string, term.Role) {
	switch {
	case b.State == history.Running && !isRunning(w, b):
		return build.Interrupted, term.Doubtful
	case b.State == history.Running:
		return b.State, term.Name
	case b.State == build.Interrupted:
		return b.State, term.Doubtful
	}
	return b.State, stateRoles[b.State]
}

func (a *program) listBuilds(ctx context.Context, w *workspace.Workspace, h *history.Store, limit int) error {
	all, err := h.List(ctx, "", limit)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(all)
	}
	if len(all) == 0 {
		a.out.Printf("nothing was built yet: `ellwand build RECIPE` builds\n")
		return nil
	}
	var rows [][]string
	for _, b := range all {
		state, role := a.stateOf(w, b)
		took, warnings := "", 0
		if b.State != history.Running {
			took = seconds(b.Seconds)
		}
		for _, s := range b.Steps {
			warnings += s.Warnings
		}
		rows = append(rows, []string{fmt.Sprintf("%4d", b.ID), a.out.Style(term.Name, b.Recipe), b.Version, b.Began.Local().Format("2006-01-02 15:04"), a.out.Style(role, state), fmt.Sprintf("%7s", took), count(warnings), b.Cause})
	}
	a.out.Table([]string{"", "recipe", "version", "began", "state", "time", "warnings", ""}, rows)
	return nil
}

func count(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%8d", n)
}

// showPast reports one build.
func (a *program) showPast(w *workspace.Workspace, b history.Build) {
	o := a.out
	state, role := a.stateOf(w, b)
	o.Printf("build %d: %s %s  %s", b.ID, o.Style(term.Strong, b.Recipe), b.Version, o.Style(role, state))
	if b.State != history.Running {
		o.Printf(" in %s", seconds(b.Seconds))
	}
	o.Printf("\n  %s, for %s, isolation %s\n", b.Began.Local().Format("2006-01-02 15:04:05"), b.Target, b.Isolation)
	var rows [][]string
	for _, s := range b.Steps {
		if s.Reused {
			rows = append(rows, []string{s.Step, o.Style(term.Faint, "reused"), "", "", "", ""})
			continue
		}
		memory := ""
		if s.Memory > 0 {
			memory = fmt.Sprintf("%9s", fact.Bytes(s.Memory))
		}
		result := ""
		if s.Status != 0 {
			result = o.Style(term.Bad, fmt.Sprintf("status %d", s.Status))
		}
		cpu := ""
		if s.CPU > 0 {
			cpu = fmt.Sprintf("%7s", seconds(s.CPU))
		}
		rows = append(rows, []string{s.Step, fmt.Sprintf("%7s", seconds(s.Seconds)), cpu, memory, count(s.Warnings), result})
	}
	if len(rows) > 0 {
		o.Printf("\n")
		o.Table([]string{"step", "time", "cpu", "memory", "warnings", ""}, rows)
	}
	for _, p := range b.Packages {
		o.Printf("  %s  %s, sha256 %.12s…\n", o.Style(term.Name, p.Name), fact.Bytes(p.Bytes), p.SHA256)
	}
	if b.State == build.Failed {
		a.showFailedEnd(b)
	}
	if b.Logs != "" {
		if _, err := os.Stat(b.Logs); err == nil {
			o.Printf("logs in %s; `ellwand log %d --step STEP` prints one\n", workspace.Display(b.Logs), b.ID)
		} else {
			o.Printf("its logs are no longer kept\n")
		}
	}
}

// showFailedEnd prints the end of the log of the step that failed.
func (a *program) showFailedEnd(b history.Build) {
	o := a.out
	const lines = 15
	o.Printf("\n%s\n", o.Style(term.Bad, b.Error))
	i := slices.IndexFunc(b.Steps, func(s history.Step) bool { return s.Status != 0 })
	if i >= 0 {
		if text, err := logLines(b, b.Steps[i].Step); err == nil {
			for _, line := range text[max(0, len(text)-lines):] {
				o.Printf("%s %s\n", o.Style(term.Faint, "|"), line)
			}
		}
	}
	if b.Cause != "" {
		o.Printf("%s %s\n", o.Style(term.Strong, "probably:"), o.Style(term.Bad, b.Cause))
	}
}

func logFile(b history.Build, step string) string { return filepath.Join(b.Logs, step+".log") }

// maxLogLines bounds how much of a log is compared.
const maxLogLines = 200_000

// logLines reads a step's log, without control characters.
func logLines(b history.Build, step string) ([]string, error) {
	f, err := os.Open(logFile(b, step))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var out []string
	for in := bufio.NewReader(f); len(out) < maxLogLines; {
		line, err := in.ReadString('\n')
		if line != "" {
			out = append(out, build.CleanLine(line))
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (a *program) printLog(b history.Build, step string) error {
	f, err := os.Open(logFile(b, step))
	if errors.Is(err, fs.ErrNotExist) {
		var there []string
		for _, s := range b.Steps {
			if !s.Reused && s.Step != recipe.Pack {
				there = append(there, s.Step)
			}
		}
		return fmt.Errorf("build %d of %s has no log of step %s; it ran %s", b.ID, b.Recipe, step, strings.Join(there, ", "))
	}
	if err != nil {
		return err
	}
	defer f.Close()
	out := a.out.Contents()
	_, err = io.Copy(out, f)
	return errors.Join(err, out.Close())
}

// followBuild prints the logs of a build as they grow, until it ends.
func (a *program) followBuild(ctx context.Context, w *workspace.Workspace, h *history.Store, b history.Build) error {
	out := a.out.Contents()
	defer out.Close()
	for _, step := range recipe.StepNames[:len(recipe.StepNames)-1] {
		var f *os.File
		for {
			var err error
			if f == nil {
				f, err = os.Open(logFile(b, step))
				if err == nil {
					defer f.Close()
					a.out.Printf("%s\n", a.out.Style(term.Name, "== "+step))
				}
			}
			if f != nil {
				if _, err := io.Copy(out, f); err != nil {
					return err
				}
			}
			// A step has ended once a later one has a log, or the build has.
			running := isRunning(w, b)
			if later(b, step) || !running {
				if f != nil {
					if _, err := io.Copy(out, f); err != nil {
						return err
					}
				}
				break
			}
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(200 * time.Millisecond):
			}
		}
	}
	ended, err := h.Get(ctx, b.ID)
	if err != nil {
		return err
	}
	state, role := a.stateOf(w, ended)
	a.out.Printf("build %d of %s: %s\n", b.ID, b.Recipe, a.out.Style(role, state))
	return nil
}

func later(b history.Build, step string) bool {
	for _, s := range recipe.StepNames[slices.Index(recipe.StepNames, step)+1:] {
		if _, err := os.Stat(logFile(b, s)); err == nil {
			return true
		}
	}
	return false
}

// stepDifference is how one step differs between two builds.
type stepDifference struct {
	Step     string   `json:"step"`
	Before   float64  `json:"before"` // seconds
	After    float64  `json:"after"`
	Warnings int      `json:"warnings"` // more than before
	New      []string `json:"new"`      // lines that only the later log has
	Gone     int      `json:"gone"`     // how many only the earlier one has
}

// compareBuilds tells which steps took longer, and what their logs have new.
func (a *program) compareBuilds(x, y history.Build) error {
	var out []stepDifference
	for _, step := range recipe.StepNames {
		i := slices.IndexFunc(x.Steps, func(s history.Step) bool { return s.Step == step && !s.Reused })
		j := slices.IndexFunc(y.Steps, func(s history.Step) bool { return s.Step == step && !s.Reused })
		if i < 0 || j < 0 {
			continue
		}
		d := stepDifference{Step: step, Before: x.Steps[i].Seconds, After: y.Steps[j].Seconds, Warnings: y.Steps[j].Warnings - x.Steps[i].Warnings, New: []string{}}
		before, errX := logLines(x, step)
		after, errY := logLines(y, step)
		if errX == nil && errY == nil {
			d.New, d.Gone = onlyIn(after, before), len(onlyIn(before, after))
		}
		out = append(out, d)
	}
	if a.json {
		return a.printJSON(map[string]any{"a": x.ID, "b": y.ID, "steps": out})
	}
	o := a.out
	o.Printf("build %d of %s %s → build %d of %s %s\n\n", x.ID, o.Style(term.Strong, x.Recipe), x.Version, y.ID, o.Style(term.Strong, y.Recipe), y.Version)
	if len(out) == 0 {
		o.Printf("no step ran in both of them\n")
		return nil
	}
	var rows [][]string
	for _, d := range out {
		change := ""
		if slower := d.After - d.Before; slower > 0.5 && d.After > 1.2*d.Before {
			change = o.Style(term.Bad, fmt.Sprintf("%.1f times as long", d.After/max(d.Before, 0.1)))
		} else if -slower > 0.5 && d.Before > 1.2*d.After {
			change = o.Style(term.Good, "faster")
		}
		warnings := ""
		if d.Warnings != 0 {
			warnings = fmt.Sprintf("%+d", d.Warnings)
		}
		rows = append(rows, []string{d.Step, fmt.Sprintf("%7s", seconds(d.Before)), fmt.Sprintf("%7s", seconds(d.After)), warnings, change})
	}
	o.Table([]string{"step", "before", "after", "warnings", ""}, rows)
	const shown = 20
	for _, d := range out {
		if len(d.New) == 0 && d.Gone == 0 {
			continue
		}
		o.Printf("\n%s: %s new in its log, %d gone\n", o.Style(term.Name, d.Step), fact.Count(len(d.New), "line", "lines"), d.Gone)
		for i, line := range d.New {
			if i == shown && !a.verbose {
				o.Printf("  … and %d more\n", len(d.New)-shown)
				break
			}
			o.Printf("  %s\n", o.Style(term.Good, "+ "+line))
		}
	}
	return nil
}

// onlyIn lists lines, each once, that the other log does not have.
func onlyIn(lines, other []string) []string {
	known := map[string]bool{}
	for _, line := range other {
		known[line] = true
	}
	out := []string{}
	for _, line := range lines {
		if !known[line] {
			known[line] = true
			out = append(out, line)
		}
	}
	return out
}
