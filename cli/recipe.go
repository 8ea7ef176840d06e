package cli

import (
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/charmbracelet/x/ansi"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/recipe"
)

// showRecipe prints what a recipe says.
func (a *program) showRecipe(name string) error {
	ws, err := a.open()
	if err != nil {
		return err
	}
	r, err := ws.Recipe(app.RecipeName(name))
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(r)
	}
	w := a.out
	w.Printf("%s  %s\n", w.Style(term.Strong, r.Name+" "+r.Full()), r.Summary)
	if r.Description != "" {
		text := ansi.Wordwrap(strings.TrimSpace(r.Description), min(w.Width, 90)-2, "")
		w.Printf("\n  %s\n", strings.ReplaceAll(text, "\n", "\n  "))
	}
	w.Printf("\n")
	for _, f := range [][2]string{
		{"recipe", r.Doc.File}, {"arch", r.Arch}, {"license", r.License}, {"homepage", r.Homepage}, {"maintainer", r.Maintainer}, {"category", r.Category}, {"method", r.Steps.Method},
	} {
		if f[1] != "" {
			w.Printf("  %s %s\n", w.Style(term.Faint, fmt.Sprintf("%-11s", f[0])), f[1])
		}
	}
	list := func(title string, lines []string) {
		if len(lines) > 0 {
			w.Printf("\n%s\n  %s\n", w.Style(term.Strong, title), strings.Join(lines, "\n  "))
		}
	}
	var sources, patches, options []string
	for _, s := range r.Sources {
		origin := s.URL + s.File + s.Git
		if s.Modules != "" {
			origin = "modules of " + s.Modules
		}
		pin := shortened(s.SHA256) + s.Commit
		if pin == "" && s.File == "" {
			pin = "not pinned"
		}
		sources = append(sources, origin+"  "+w.Style(term.Faint, pin))
	}
	for _, p := range r.Patches {
		patches = append(patches, p.File)
	}
	for name, o := range r.Options {
		options = append(options, fmt.Sprintf("%s = %s  %s", name, r.Set[name], w.Style(term.Faint, o.Summary)))
	}
	slices.Sort(options)
	list("sources", sources)
	list("patches", patches)
	list("options", options)
	for _, needs := range []struct {
		title string
		all   []need.Need
	}{{"build dependencies", r.Needs.Build}, {"test dependencies", r.Needs.Test}, {"run-time dependencies", r.Needs.Run}} {
		var lines []string
		for _, n := range needs.all {
			lines = append(lines, n.String())
		}
		list(needs.title, lines)
	}
	var packages []string
	for _, name := range r.PackageNames() {
		p := r.Packages[name]
		about := fact.Count(len(p.Layout), "line of layout", "lines of layout")
		if p.Layout == nil {
			about = "everything that is staged"
		}
		packages = append(packages, name+"  "+w.Style(term.Faint, about))
	}
	list("packages", packages)
	if len(r.Changes) > 0 {
		c := r.Changes[0]
		list("newest change", append([]string{fmt.Sprintf("%s  %s", c.Version, w.Style(term.Faint, string(c.Date)+"  "+c.By))}, c.Text...))
	}
	w.Printf("\n`ellwand show %s --steps` prints what it runs\n", r.Name)
	return nil
}

// showSteps prints what a recipe runs, in order.
func (a *program) showSteps(name string) error {
	w, err := a.open()
	if err != nil {
		return err
	}
	r, err := w.Recipe(app.RecipeName(name))
	if err != nil {
		return err
	}
	if a.json {
		scripts := map[string]string{}
		for _, step := range recipe.StepNames {
			scripts[step] = r.Script(step)
		}
		return a.printJSON(map[string]any{"scripts": scripts, "patches": r.Patches, "rewrites": r.Rewrites})
	}
	for _, step := range recipe.StepNames {
		a.showStep(r, step)
	}
	return nil
}

func (a *program) showStep(r *recipe.Recipe, step string) {
	w := a.out
	script := strings.Trim(r.Script(step), "\n")
	origin := ""
	switch {
	case step == recipe.Unpack || step == recipe.Pack:
		script, origin = "", "built in"
	case script == "":
		script = "# nothing"
	case r.Steps.Script(step) == "":
		origin = "from method " + r.Steps.Method
	}
	w.Printf("%s  %s\n", w.Style(term.Strong, step), w.Style(term.Faint, origin))
	if script != "" {
		w.Printf("  %s\n", strings.ReplaceAll(script, "\n", "\n  "))
	}
	if step == recipe.Unpack {
		for _, p := range r.Patches {
			w.Printf("  after unpack: patch %s\n", p.File)
		}
	}
	for _, rw := range r.Rewrites {
		if rw.After != step {
			continue
		}
		find, times := fmt.Sprintf("%q", rw.Find), "at least once"
		if rw.Regexp != "" {
			find = "/" + rw.Regexp + "/"
		}
		if rw.Times > 0 {
			times = fact.Count(rw.Times, "time", "times")
		}
		w.Printf("  after %s, in %s: %s becomes %q, %s\n", step, rw.Path, find, rw.Replace, times)
	}
}
