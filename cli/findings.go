package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"ellwand.example/core/build"
	"ellwand.example/core/document"
	"ellwand.example/core/lint"
	"ellwand.example/term"
)

// printFindings writes what lint found in a format.
func (a *app) printFindings(l *linted, format string) error {
	var data []byte
	var err error
	switch format {
	case "json":
		if l.findings == nil {
			l.findings = []lint.Finding{}
		}
		counts, waived := lint.Counts(l.findings)
		return a.printJSON(map[string]any{"findings": l.findings, "looked_at": l.subjects, "counts": counts, "waived": waived})
	case "sarif":
		data, err = lint.SARIF(l.findings, build.Version)
	case "junit":
		data, err = lint.JUnit(l.subjects, l.findings)
	default:
		a.showFindings(l.subjects, l.findings)
		return nil
	}
	if err == nil {
		_, err = a.out.Exact().Write(data)
	}
	return err
}

var severityRoles = map[lint.Severity]term.Role{lint.Error: term.Bad, lint.Warning: term.Doubtful, lint.Hint: term.Name}

var severityPlurals = map[lint.Severity]string{lint.Error: "errors", lint.Warning: "warnings", lint.Hint: "hints"}

// mostOfKind is how many findings of a rule are shown for one subject.
const mostOfKind = 5

// showFindings shows what was found, by subject, the worst first.
func (a *app) showFindings(subjects []string, findings []lint.Finding) {
	w := a.out
	bySubject := map[string][]lint.Finding{}
	for _, f := range findings {
		if f.Waived == "" || a.verbose {
			bySubject[f.Subject] = append(bySubject[f.Subject], f)
		}
	}
	for _, subject := range subjects {
		own := bySubject[subject]
		if len(own) == 0 {
			continue
		}
		lint.Sort(own)
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
	w.Printf("%s looked at: %s\n", term.Count(len(subjects), "recipe or package", "recipes and packages"), a.counted(findings))
	var worst *lint.Finding
	mendable := 0
	for i, f := range findings {
		if f.Waived == "" && (worst == nil || lint.BySeverity(f, *worst) < 0) {
			worst = &findings[i]
		}
		if f.Mendable() {
			mendable++
		}
	}
	if worst == nil || a.quiet {
		return
	}
	next := fmt.Sprintf("`ellwand explain %s` tells why it matters; a finding that is meant to be goes into the recipe as a [[waive]]", worst.Code)
	if mendable > 0 {
		next += fmt.Sprintf("; --fix mends %d", mendable)
	}
	w.Printf("%s\n", w.Style(term.Faint, w.Wrapped(next, 0)))
}

// counted says how many findings of each severity there are.
func (a *app) counted(findings []lint.Finding) string {
	counts, waived := lint.Counts(findings)
	var parts []string
	for _, s := range lint.Severities {
		if n := counts[s]; n > 0 {
			parts = append(parts, a.out.Style(severityRoles[s], term.Count(n, string(s), severityPlurals[s])))
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
func (a *app) showKind(all []lint.Finding) {
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
			place = w.Style(term.Name, term.Visible(f.Path)) + ": "
		case f.File != "":
			place = w.Style(term.Name, fmt.Sprintf("%s:%d", f.File, f.Line)) + ": "
		}
		w.Printf("%s%s\n", indent, wrapped(place+term.Visible(f.Message)))
		if f.Waived != "" {
			w.Printf("%s  %s\n", indent, w.Style(term.Faint, "waived: "+f.Waived))
		}
	}
	if n := len(all) - len(shown); n > 0 {
		w.Printf("%s… and %d more (-v lists all)\n", indent, n)
	}
	left := slices.DeleteFunc(slices.Clone(shown), func(f lint.Finding) bool { return f.Waived != "" })
	if len(left) == 0 {
		return
	}
	for i, f := range left { // remedies of one rule may differ
		if i == len(left)-1 || left[i+1].Remedy != f.Remedy {
			remedy := w.Style(term.Good, "→ "+f.Remedy)
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
func places(left []lint.Finding) string {
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

func (a *app) explainCommand() *cobra.Command {
	var into string
	cmd := &cobra.Command{
		Use:   "explain [CODE|recipe]",
		Short: "Tell more of a lint rule, or how a recipe begins",
		Long: `Tell what a lint rule finds, why that matters and how to mend it, with an example
in which it finds something and one in which it does not. With --try, the two are
laid out as workspaces, wrong and right, to build and lint. With the word recipe,
print a recipe to begin with. With nothing, list all rules.`,
		Example: `  ellwand explain R105
  ellwand explain L201 --try /tmp/L201
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
	cmd.Flags().StringVar(&into, "try", "", "lay the rule's examples out in a new folder, as workspaces")
	return cmd
}

func noRule(code string) error {
	var codes []string
	for _, r := range lint.Rules() {
		codes = append(codes, r.Code)
	}
	near := document.Nearest(strings.ToUpper(code), codes)
	if near != "" {
		near = "; did you mean " + near + "?"
	}
	return usageError{fmt.Errorf("there is no rule %q%s `ellwand explain` lists them all", code, near)}
}

func (a *app) showRule(r lint.Rule) {
	w := a.out
	w.Printf("%s  %s  %s\n\n", w.Style(term.Strong, r.Code), w.Style(severityRoles[r.Severity], string(r.Severity)), w.Style(term.Strong, r.Title))
	for _, part := range []string{r.Why, "To mend it: " + r.Remedy + "."} {
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
	w.Printf("To accept it on purpose, in the recipe:\n\n    [[waive]]\n    code    = %q\n    because = \"…\"\n\n", r.Code)
	w.Printf("%s\n", w.Style(term.Faint, fmt.Sprintf("the examples are pieces of a recipe; `ellwand explain %s --try DIR` lays out the whole of them, to try", r.Code)))
}

func (a *app) listRules() error {
	if a.json {
		return a.printJSON(lint.Rules())
	}
	var rows [][]string
	counts := map[lint.Severity]int{}
	for _, r := range lint.Rules() {
		counts[r.Severity]++
		rows = append(rows, []string{r.Code, a.out.Style(severityRoles[r.Severity], string(r.Severity)), r.Title})
	}
	a.out.Table([]string{"code", "severity", "what it finds"}, rows)
	a.out.Printf("%s: %s, %s, %s\n", term.Count(len(rows), "rule", "rules"), term.Count(counts[lint.Error], "error", "errors"), term.Count(counts[lint.Warning], "warning", "warnings"), term.Count(counts[lint.Hint], "hint", "hints"))
	return nil
}
