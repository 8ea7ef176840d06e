package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"ellwand.example/core/document"
	"ellwand.example/core/lint"
	"ellwand.example/core/pack"
	"ellwand.example/core/workspace"
	"ellwand.example/term"
)

func (a *app) lintCommand() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use:   "lint RECIPE|PACKAGE...",
		Short: "Look for what will bite users",
		Long: `Look at recipes (by name) and packages (files) for mistakes and weaknesses. Each
finding has a code, a severity, a place and a remedy; ` + "`ellwand explain CODE`" + `
tells more. Errors make the exit status 1, warnings and hints do not. A finding
that is meant to be is waived in the recipe, with its reason.`,
		Example: `  ellwand lint tidegauge
  ellwand lint packages/*.ell
  ellwand lint --all`,
		Args: arguments(func(_ *cobra.Command, args []string) error {
			if all == (len(args) > 0) {
				return errors.New("name recipes or packages, or give --all")
			}
			return nil
		}),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.openIfAny()
			if err != nil {
				return err
			}
			if all {
				if args, err = everythingIn(w); err != nil {
					return err
				}
			}
			var findings []lint.Finding
			var subjects []string
			for _, arg := range args {
				subject, found, err := a.lintOne(cmd.Context(), w, arg)
				if err != nil {
					return err
				}
				subjects = append(subjects, subject)
				findings = append(findings, found...)
			}
			counts, _ := lint.Counts(findings)
			if a.json {
				if findings == nil {
					findings = []lint.Finding{}
				}
				err = a.printJSON(map[string]any{"findings": findings, "looked_at": subjects, "counts": counts})
			} else {
				a.showFindings(subjects, findings)
			}
			if err == nil && counts[lint.Error] > 0 {
				return statusError(statusFindings)
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "all recipes of the workspace and all packages it has built")
	return cmd
}

func everythingIn(w *workspace.Workspace) ([]string, error) {
	if w == nil {
		return nil, workspace.ErrNotFound
	}
	args, err := w.Recipes()
	if err != nil {
		return nil, err
	}
	files, err := packageFiles(w.Packages())
	return append(args, files...), err
}

// packageFiles lists the package files in a folder.
func packageFiles(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	var files []string
	for _, e := range entries {
		if _, _, _, ok := pack.ParseFileName(e.Name()); ok {
			files = append(files, workspace.Display(filepath.Join(dir, e.Name())))
		}
	}
	return files, nil
}

func (a *app) lintOne(ctx context.Context, w *workspace.Workspace, arg string) (subject string, findings []lint.Finding, err error) {
	if info, err := os.Stat(arg); strings.HasSuffix(arg, pack.Extension) || err == nil && info.Mode().IsRegular() && filepath.Base(arg) != "recipe.toml" {
		p, err := pack.Open(arg)
		if err != nil {
			return "", nil, err
		}
		defer p.Close()
		t := a.progress.Begin("lint "+p.Facts.Identity(), 0, "")
		findings, err = lint.Package(ctx, p)
		t.End("done")
		return p.Facts.Identity(), findings, err
	}
	if w == nil {
		return "", nil, workspace.ErrNotFound
	}
	r, err := w.Recipe(recipeName(arg))
	if err != nil {
		return "", nil, err
	}
	return r.Name, lint.Recipe(r), nil
}

var severityRoles = map[lint.Severity]term.Role{lint.Error: term.Bad, lint.Warning: term.Doubtful, lint.Hint: term.Name}

func (a *app) showFindings(subjects []string, findings []lint.Finding) {
	w := a.out
	for _, subject := range subjects {
		var own []lint.Finding
		for _, f := range findings {
			if f.Subject == subject && (f.Waived == "" || a.verbose) {
				own = append(own, f)
			}
		}
		if len(own) == 0 {
			continue
		}
		w.Printf("%s\n", w.Style(term.Strong, subject))
		for i, f := range own {
			a.showFinding(f, i == len(own)-1 || own[i+1].Code != f.Code)
		}
		w.Printf("\n")
	}
	counts, waived := lint.Counts(findings)
	parts := []string{}
	for _, s := range []struct {
		lint.Severity
		many string
	}{{lint.Error, "errors"}, {lint.Warning, "warnings"}, {lint.Hint, "hints"}} {
		if n := counts[s.Severity]; n > 0 {
			parts = append(parts, w.Style(severityRoles[s.Severity], term.Count(n, string(s.Severity), s.many)))
		}
	}
	if waived > 0 {
		parts = append(parts, fmt.Sprintf("%d waived", waived))
	}
	if len(parts) == 0 {
		parts = []string{w.Style(term.Good, "no findings")}
	}
	w.Printf("%s looked at: %s\n", term.Count(len(subjects), "recipe or package", "recipes and packages"), strings.Join(parts, ", "))
	if len(findings) > waived && !a.quiet {
		worst := slices.MinFunc(slices.DeleteFunc(slices.Clone(findings), func(f lint.Finding) bool { return f.Waived != "" }), lint.BySeverity)
		w.Printf("%s\n", w.Style(term.Faint, fmt.Sprintf("`ellwand explain %s` tells why it matters; a finding that is meant to be goes into the recipe as a [[waive]]", worst.Code)))
	}
}

// showFinding prints a finding; its remedy only under the last of a kind.
func (a *app) showFinding(f lint.Finding, last bool) {
	w := a.out
	place := f.Path
	if f.File != "" {
		place = fmt.Sprintf("%s:%d", f.File, f.Line)
	}
	severity := w.Style(severityRoles[f.Severity], fmt.Sprintf("%-7s", f.Severity))
	if place != "" {
		place += ": "
	}
	indent := strings.Repeat(" ", 16)
	message := ansi.Wordwrap(place+f.Message, max(w.Width-len(indent)-1, 30), "")
	w.Printf("  %s  %s %s\n", f.Code, severity, strings.ReplaceAll(message, "\n", "\n"+indent))
	switch {
	case f.Waived != "":
		w.Printf("%s%s\n", indent, w.Style(term.Faint, "waived: "+f.Waived))
	case last:
		remedy := ansi.Wordwrap(f.Remedy, max(w.Width-len(indent)-1, 30), "")
		for line := range strings.SplitSeq(remedy, "\n") {
			w.Printf("%s%s\n", indent, w.Style(term.Good, line))
		}
	}
}

func (a *app) explainCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "explain [CODE|recipe]",
		Short: "Tell more of a lint rule, or how a recipe begins",
		Long: `Tell what a lint rule finds, why that matters and how to mend it. With the word
recipe, print a recipe to begin with. With nothing, list all rules.`,
		Example: `  ellwand explain R105
  ellwand explain recipe`,
		Args: arguments(atMostOne),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			codes := []string{"recipe"}
			for _, r := range lint.Rules() {
				codes = append(codes, r.Code)
			}
			return codes, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.listRules()
			}
			if args[0] == "recipe" {
				_, err := a.out.Write(starter)
				return err
			}
			r, ok := lint.Find(args[0])
			if !ok {
				var codes []string
				for _, r := range lint.Rules() {
					codes = append(codes, r.Code)
				}
				near := document.Nearest(strings.ToUpper(args[0]), codes)
				if near != "" {
					near = "; did you mean " + near + "?"
				}
				return usageError{fmt.Errorf("there is no rule %q%s `ellwand explain` lists them all", args[0], near)}
			}
			if a.json {
				return a.printJSON(r)
			}
			w := a.out
			w.Printf("%s  %s  %s\n\n", w.Style(term.Strong, r.Code), w.Style(severityRoles[r.Severity], string(r.Severity)), w.Style(term.Strong, r.Title))
			for _, part := range []string{r.Why, "To mend it: " + r.Remedy + "."} {
				w.Printf("%s\n\n", ansi.Wordwrap(part, min(w.Width, 90), ""))
			}
			w.Printf("To accept it on purpose, in the recipe:\n\n[[waive]]\ncode    = %q\nbecause = \"…\"\n", r.Code)
			return nil
		},
	}
}

func (a *app) listRules() error {
	if a.json {
		return a.printJSON(lint.Rules())
	}
	var rows [][]string
	for _, r := range lint.Rules() {
		rows = append(rows, []string{r.Code, a.out.Style(severityRoles[r.Severity], string(r.Severity)), r.Title})
	}
	a.out.Table([]string{"code", "severity", "what it finds"}, rows)
	return nil
}
