package cli

import (
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
)

// printFindings writes what lint found in a format.
func (a *program) printFindings(l *app.Linted, format string) error {
	var data []byte
	var err error
	switch format {
	case "json":
		if l.Findings == nil {
			l.Findings = []fact.Finding{}
		}
		counts, waived := fact.CountFindings(l.Findings)
		return a.printJSON(map[string]any{"findings": l.Findings, "looked_at": l.Subjects, "counts": counts, "waived": waived})
	case "sarif":
		data, err = lint.SARIF(l.Findings, build.Version)
	case "junit":
		data, err = lint.JUnit(l.Subjects, l.Findings)
	default:
		a.showFindings(l.Subjects, l.Findings)
		return nil
	}
	if err == nil {
		_, err = a.out.Exact().Write(data)
	}
	return err
}

var severityRoles = map[fact.Severity]term.Role{lint.Error: term.Bad, lint.Warning: term.Doubtful, lint.Hint: term.Name}

var severityPlurals = map[fact.Severity]string{lint.Error: "errors", lint.Warning: "warnings", lint.Hint: "hints"}

// mostOfKind is how many findings of a rule are shown for one subject.
const mostOfKind = 5

// showFindings shows what was found, by subject, the worst first.
func (a *program) showFindings(subjects []string, findings []fact.Finding) {
	w := a.out
	counts := map[string]int{}
	for i := range findings {
		counts[findings[i].Subject]++
	}
	bySubject := map[string][]fact.Finding{}
	for subject, n := range counts {
		bySubject[subject] = make([]fact.Finding, 0, n)
	}
	for i := range findings {
		if f := &findings[i]; f.Waived == "" || a.verbose {
			bySubject[f.Subject] = append(bySubject[f.Subject], *f)
		}
	}
	for _, subject := range subjects {
		own := bySubject[subject]
		if len(own) == 0 {
			continue
		}
		fact.SortFindings(own)
		w.Printf("%s  %s\n", w.Style(term.Strong, subject), a.counted(own))
		for start := 0; start < len(own); {
			end := start
			for end < len(own) && own[end].Code == own[start].Code && own[end].Severity == own[start].Severity {
				end++
			}
			a.showKind(own[start:end])
			start = end
		}
		w.Printf("\n")
	}
	w.Printf("%s looked at: %s\n", fact.Count(len(subjects), "recipe or package", "recipes and packages"), a.counted(findings))
	var worst *fact.Finding
	fixable := 0
	for i, f := range findings {
		if f.Waived == "" && (worst == nil || fact.CompareSeverity(f, *worst) < 0) {
			worst = &findings[i]
		}
		if f.Fixable() {
			fixable++
		}
	}
	if worst == nil || a.quiet {
		return
	}
	next := fmt.Sprintf("`ellwand explain %s` says why it matters; accept an intended finding with [[waive]] in the recipe", worst.Code)
	if fixable > 0 {
		next += fmt.Sprintf("; --fix fixes %d", fixable)
	}
	w.Printf("%s\n", w.Style(term.Faint, w.Wrapped(next, 0)))
}

// counted says how many findings of each severity there are.
func (a *program) counted(findings []fact.Finding) string {
	counts, waived := fact.CountFindings(findings)
	var parts []string
	for _, s := range fact.Severities {
		if n := counts[s]; n > 0 {
			parts = append(parts, a.out.Style(severityRoles[s], fact.Count(n, string(s), severityPlurals[s])))
		}
	}
	if waived > 0 {
		parts = append(parts, fmt.Sprintf("%d waived", waived))
	}
	if len(parts) == 0 {
		return a.out.Style(term.Good, "no findings")
	}
	return strings.Join(parts, ", ")
}

// showKind prints the findings of one rule about one subject: what it finds,
// where, and below them how to mend it, with lines to paste.
func (a *program) showKind(all []fact.Finding) {
	w := a.out
	rule, _ := lint.Find(all[0].Code)
	w.Printf("  %s  %s  %s\n", all[0].Code, w.Style(severityRoles[all[0].Severity], fmt.Sprintf("%-7s", all[0].Severity)), w.Style(term.Strong, rule.Title))
	indent := strings.Repeat(" ", 8)
	wrapped := func(s string) string {
		return strings.ReplaceAll(ansi.Wordwrap(s, max(w.Width-len(indent)-3, 30), ""), "\n", "\n"+indent+"  ")
	}
	shown := all
	if len(all) > mostOfKind+1 && !a.verbose {
		shown = all[:mostOfKind]
	}
	for _, f := range shown {
		place := ""
		switch {
		case f.Path != "":
			place = w.Style(term.Name, fact.Visible(f.Path)) + ": "
		case f.File != "":
			place = w.Style(term.Name, fmt.Sprintf("%s:%d", f.File, f.Line)) + ": "
		}
		w.Printf("%s%s\n", indent, wrapped(place+fact.Visible(f.Message)))
		if f.Waived != "" {
			w.Printf("%s  %s\n", indent, w.Style(term.Faint, "waived: "+f.Waived))
		}
	}
	if n := len(all) - len(shown); n > 0 {
		w.Printf("%s… and %d more (-v lists all)\n", indent, n)
	}
	left := slices.DeleteFunc(slices.Clone(shown), func(f fact.Finding) bool { return f.Waived != "" })
	if len(left) == 0 {
		return
	}
	for i, f := range left { // remedies of one rule may differ
		if i == len(left)-1 || left[i+1].Remedy != f.Remedy {
			remedy := w.Style(term.Good, "→ "+f.Remedy)
			if f.Action.Verb != "" {
				remedy += ": `" + commandFor(f.Action) + "`"
			}
			if i == len(left)-1 {
				remedy += w.Style(term.Faint, places(left))
			}
			w.Printf("%s%s\n", indent, wrapped(remedy))
		}
	}
	pasted := map[string]bool{}
	for _, f := range left {
		if f.Paste != "" && !pasted[f.Paste] {
			pasted[f.Paste] = true
			w.Printf("%s  %s\n", indent, f.Paste)
		}
	}
}

// places names the lines of the recipe at which findings in a package can be
// mended.
func places(left []fact.Finding) string {
	var lines []string
	seen := map[int]bool{}
	for _, f := range left {
		if f.File != "" && f.Path != "" && !seen[f.Line] {
			seen[f.Line] = true
			lines = append(lines, fmt.Sprint(f.Line))
		}
	}
	if len(lines) == 0 {
		return ""
	}
	return "  " + left[0].File + ":" + strings.Join(lines, ", ")
}

func (a *program) explainCommand() *cobra.Command {
	var into string
	cmd := &cobra.Command{
		Use:   "explain [CODE|recipe]",
		Short: "Tell more of a lint rule, or how a recipe begins",
		Long: `Tell what a lint rule finds, why that matters and how to mend it, with an example
in which it finds something and one in which it does not. With --try, the two are
laid out as workspaces, wrong and right, to build and lint. With the word recipe,
print a recipe to begin with. With nothing, list all rules.`,
		Example: `  ellwand explain ELL105
  ellwand explain ELL201 --try /tmp/ELL201
  ellwand explain recipe`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if into != "" && len(args) == 0 {
				return fmt.Errorf("--try lays out the examples of one rule: name its code")
			}
			return atMostOne(cmd, args)
		}),
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
				return noRule(args[0])
			}
			switch {
			case into != "":
				return a.layOutExamples(r, into)
			case a.json:
				return a.printJSON(r)
			}
			a.showRule(r)
			return nil
		},
	}
	cmd.Flags().StringVar(&into, "try", "", "lay the rule's examples out in a new directory, as workspaces")
	return cmd
}

func noRule(code string) error {
	var codes []string
	for _, r := range lint.Rules() {
		codes = append(codes, r.Code)
	}
	near := fact.Nearest(strings.ToUpper(code), codes)
	if near != "" {
		near = "; did you mean " + near + "?"
	}
	return usageError{fmt.Errorf("there is no rule %q%s `ellwand explain` lists them all", code, near)}
}

func (a *program) showRule(r lint.Rule) {
	w := a.out
	w.Printf("%s  %s  %s\n\n", w.Style(term.Strong, r.Code), w.Style(severityRoles[r.Severity], string(r.Severity)), w.Style(term.Strong, r.Title))
	for _, part := range []string{r.Why, "To fix it: " + r.Remedy + "."} {
		w.Printf("%s\n\n", ansi.Wordwrap(part, min(w.Width, 90), ""))
	}
	for _, example := range []struct {
		title string
		role  term.Role
		text  string
	}{{"Found in this", term.Bad, r.Wrong}, {"Not in this", term.Good, r.Right}} {
		w.Printf("%s\n\n", w.Style(example.role, example.title+":"))
		for line := range strings.SplitSeq(strings.TrimRight(example.text, "\n"), "\n") {
			w.Printf("    %s\n", line)
		}
		w.Printf("\n")
	}
	w.Printf("To accept it on purpose, in the recipe:\n\n    [[waive]]\n    code    = %q\n    reason = \"…\"\n\n", r.Code)
	w.Printf("%s\n", w.Style(term.Faint, fmt.Sprintf("the examples are pieces of a recipe; `ellwand explain %s --try DIR` lays out the whole of them, to try", r.Code)))
}

func (a *program) listRules() error {
	if a.json {
		return a.printJSON(lint.Rules())
	}
	var rows [][]string
	counts := map[fact.Severity]int{}
	for _, r := range lint.Rules() {
		counts[r.Severity]++
		rows = append(rows, []string{r.Code, a.out.Style(severityRoles[r.Severity], string(r.Severity)), r.Title})
	}
	a.out.Table([]string{"code", "severity", "what it finds"}, rows)
	a.out.Printf("%s: %s, %s, %s\n", fact.Count(len(rows), "rule", "rules"), fact.Count(counts[lint.Error], "error", "errors"), fact.Count(counts[lint.Warning], "warning", "warnings"), fact.Count(counts[lint.Hint], "hint", "hints"))
	return nil
}
