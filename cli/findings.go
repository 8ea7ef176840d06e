package cli

import (
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
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
		data, err = lint.SARIF(l.Findings, build.Version())
	case "junit":
		data, err = lint.JUnit(l.Subjects, l.Findings)
	case "lines":
		a.listFindings(l.Findings)
		return nil
	default:
		a.showFindings(l.Subjects, l.Findings)
		return nil
	}
	if err == nil {
		_, err = a.out.Exact().Write(data)
	}
	return err
}

// listFindings prints a line for each finding that is not waived, in the form
// PLACE: SEVERITY: MESSAGE [CODE].
func (a *program) listFindings(findings []fact.Finding) {
	fact.SortFindings(findings)
	for _, f := range findings {
		if f.Waived != "" && !a.verbose {
			continue
		}
		place := f.Subject
		switch {
		case f.Path != "":
			place += ":" + f.Path
		case f.File != "":
			place = fmt.Sprintf("%s:%d", f.File, f.Line)
		}
		a.out.Printf("%s: %s: %s [%s]\n", fact.Visible(place), a.out.Style(severityRoles[f.Severity], string(f.Severity)), fact.Visible(f.Message), f.Code)
	}
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
	w.Printf("checked %s: %s\n", fact.Count(len(subjects), "recipe or package", "recipes and packages"), a.counted(findings))
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
// where, and below them how to fix it, with lines to paste.
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
// fixed.
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
		Short: "Explain a lint rule, or print a starter recipe",
		Long: `Explain a lint rule: what it finds, why that matters and how to fix it, with an example
that it reports and one that it does not. With --try, both examples are written as
workspaces, "wrong" and "right", to build and lint. With an area such as ELL2, list its
rules; without arguments, list all. With the word recipe, print a starter recipe.`,
		Example: `  ellwand explain ELL105
  ellwand explain ELL201 --try examples-of-ELL201
  ellwand explain recipe`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if into != "" && len(args) == 0 {
				return fmt.Errorf("--try writes the examples of one rule: name its code")
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
			if area := strings.ToUpper(args[0]); len(area) == len(fact.CodePrefix)+1 && fact.AreaOf(area+"00") != fact.AreaNone {
				return a.listArea(fact.AreaOf(area + "00"))
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
	cmd.Flags().StringVar(&into, "try", "", "write the rule's examples into a new directory, as workspaces")
	return cmd
}

func noRule(code string) error {
	var codes []string
	for _, r := range lint.Rules() {
		codes = append(codes, r.Code)
	}
	near := fact.Nearest(strings.ToUpper(code), codes)
	if near != "" {
		near = " (did you mean " + near + "?)"
	}
	return usageError{fmt.Errorf("there is no rule %q%s; `ellwand explain` lists the areas of rules", code, near)}
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
	}{{"Reported here", term.Bad, r.Wrong}, {"Not reported here", term.Good, r.Right}} {
		w.Printf("%s\n\n", w.Style(example.role, example.title+":"))
		for line := range strings.SplitSeq(strings.TrimRight(example.text, "\n"), "\n") {
			w.Printf("    %s\n", line)
		}
		w.Printf("\n")
	}
	w.Printf("To accept an intended finding, in the recipe:\n\n    [[waive]]\n    code   = %q\n    reason = \"…\"\n\n", r.Code)
	w.Printf("%s\n", w.Style(term.Faint, fmt.Sprintf("the examples are parts of a recipe; `ellwand explain %s --try DIR` writes complete workspaces to try", r.Code)))
}

// areaTitles name the areas of rules.
var areaTitles = map[fact.Area]string{
	fact.AreaRecipe: "recipes", fact.AreaLayout: "files and their places", fact.AreaELF: "programs and libraries", fact.AreaScripts: "scripts in packages",
	fact.AreaPackage: "packages", fact.AreaRepository: "repositories", fact.AreaIntegration: "menus, services, man pages and modules",
}

// listRules lists the areas of rules: all rules would fill several screens.
func (a *program) listRules() error {
	if a.json {
		return a.printJSON(lint.Rules())
	}
	counts := map[fact.Area]int{}
	for _, r := range lint.Rules() {
		counts[fact.AreaOf(r.Code)]++
	}
	var rows [][]string
	total := 0
	for area := fact.AreaRecipe; area <= fact.AreaIntegration; area++ {
		rows = append(rows, []string{fmt.Sprintf("%s%d", fact.CodePrefix, area), fmt.Sprintf("%5d", counts[area]), areaTitles[area]})
		total += counts[area]
	}
	a.out.Table([]string{"area", "rules", "about"}, rows)
	a.out.Printf("%d rules; `ellwand explain %s%d` lists those of an area\n", total, fact.CodePrefix, fact.AreaLayout)
	return nil
}

// listArea lists the rules of an area.
func (a *program) listArea(area fact.Area) error {
	var rules []lint.Rule
	for _, r := range lint.Rules() {
		if fact.AreaOf(r.Code) == area {
			rules = append(rules, r)
		}
	}
	if a.json {
		return a.printJSON(rules)
	}
	var rows [][]string
	counts := map[fact.Severity]int{}
	for _, r := range rules {
		counts[r.Severity]++
		rows = append(rows, []string{r.Code, a.out.Style(severityRoles[r.Severity], string(r.Severity)), r.Title})
	}
	a.out.Table([]string{"code", "severity", "finds"}, rows)
	a.out.Printf("%s: %s, %s, %s\n", fact.Count(len(rows), "rule", "rules"), fact.Count(counts[lint.Error], "error", "errors"), fact.Count(counts[lint.Warning], "warning", "warnings"), fact.Count(counts[lint.Hint], "hint", "hints"))
	return nil
}
