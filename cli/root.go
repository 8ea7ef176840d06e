package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/root"
)

func (a *program) rootCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "root",
		Short: "Install packages into a directory tree",
		Long: `Install packages into a root: any directory tree, or / of a running machine. Each change is
a transaction: everything is checked first, and after a power failure or a kill the root is as
it was before, or the next command finishes the change. Edited configuration is kept.

An ordinary user can have roots too. Owners that cannot be set on disk are recorded.`,
		Example: `  ellwand root create stations
  ellwand root install stations tidegauge
  ellwand root run stations -- tidegauge --version`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return fmt.Errorf("there is no command %q", cmd.CommandPath()+" "+args[0])
			}
			return nil
		}),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.rootCreateCommand(), a.rootInstallCommand(), a.rootUpgradeCommand(), a.rootRemoveCommand(), a.rootListCommand(), a.rootOwnerCommand(),
		a.rootVerifyCommand(), a.rootConfigCommand(), a.rootChooseCommand(), a.rootHistoryCommand(), a.rootRewindCommand(), a.rootRunCommand(), a.rootFinishCommand())
	return cmd
}

// rootArguments expects a root directory, and then at least as many words as given, or
// exactly none for -1.
func rootArguments(words int, what string) cobra.PositionalArgs {
	return arguments(func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) == 0:
			return fmt.Errorf("missing argument: the directory of the root")
		case words >= 0 && len(args)-1 < words:
			return fmt.Errorf("missing argument: %s", what)
		case words < 0 && len(args) > 1:
			return fmt.Errorf("unexpected argument: %s", args[1])
		}
		return nil
	})
}

// openRoot opens the root that a command's first argument names.
func (a *program) openRoot(dir string) (*app.App, *root.Root, error) {
	u, err := a.appIfAny()
	if err != nil {
		return nil, nil, err
	}
	r, err := root.Open(dir)
	return u, r, err
}

// withRoot opens a root for a function.
func (a *program) withRoot(dir string, f func(*app.App, *root.Root) error) error {
	u, r, err := a.openRoot(dir)
	if err != nil {
		return err
	}
	defer r.Close()
	return f(u, r)
}

// rootChangeFlags are the flags of commands that change a root.
type rootChangeFlags struct {
	dryRun bool
	adopt  []string
}

func (f *rootChangeFlags) add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.dryRun, "dry-run", false, "check everything and print what would be done, without changing the root")
	cmd.Flags().StringArrayVar(&f.adopt, "adopt", nil, "replace a `PATH` of the root that no package owns; may be repeated")
}

// changeRoot changes a root and shows what was done.
func (a *program) changeRoot(ctx context.Context, dir string, c app.RootChange, f rootChangeFlags) error {
	c.Plan, c.Adopt = f.dryRun, f.adopt
	return a.withRoot(dir, func(u *app.App, r *root.Root) error {
		result, err := u.ChangeRoot(ctx, r, c)
		if result.Recovered != nil && !a.json {
			a.showRecovery(result.Recovered)
		}
		if result.Plan == nil {
			return err
		}
		if a.json && (err == nil || result.Entry != nil) {
			if printed := a.printJSON(result); printed != nil {
				return printed
			}
			return err
		}
		if err != nil && result.Entry == nil {
			return err
		}
		a.showRootPlan(dir, result.Plan, result.Entry)
		if c.Plan && len(result.Plan.Problems) > 0 {
			return &root.UnfitError{Problems: result.Plan.Problems}
		}
		return err
	})
}

// showRootPlan shows what will be done to a root, or what was done.
func (a *program) showRootPlan(dir string, p *root.Plan, done *root.Entry) {
	w := a.out
	if p.IsEmpty() {
		w.Printf("nothing to do: %s has what was asked for\n", dir)
		return
	}
	if len(p.Changes) > 0 {
		a.showRootChanges(p.Changes)
		w.Printf("\n")
	}
	field := func(name, text string) {
		if text != "" {
			w.Printf("%-14s %s\n", name, w.Wrapped(text, 15))
		}
	}
	field("files", fmt.Sprintf("%d written (%s), %d removed", p.Written, fact.Bytes(p.Bytes), p.Removed))
	field("accounts", strings.Join(p.Accounts, ", "))
	var scripts []string
	for _, s := range p.Scripts {
		if s.Script != "refresh" {
			scripts = append(scripts, s.Script+" of "+s.Package)
		}
	}
	field("scripts", strings.Join(scripts, ", "))
	field("refreshed", strings.Join(p.Refresh, ", "))
	var chosen []string
	for _, c := range p.Chosen {
		chosen = append(chosen, fmt.Sprintf("%s → %s", c.Link, c.Package))
	}
	field("choices", strings.Join(chosen, ", "))
	field("service units", strings.Join(p.Units, ", "))
	if len(p.Config) > 0 {
		w.Printf("configuration\n")
		a.showConfigChanges(dir, p.Config)
	}
	switch {
	case done != nil:
		w.Printf("\n%s\n", w.Style(term.Faint, w.Wrapped(fmt.Sprintf("serial %d; `ellwand root history %s` lists the changes, `ellwand root rewind %s %d` undoes this one", done.Serial, dir, dir, done.Serial-1), 0)))
	case len(p.Problems) == 0:
		w.Printf("\n%s\n", w.Style(term.Faint, "nothing was changed: this is what the command does without --dry-run"))
	default:
		w.Printf("\n")
	}
}

// showRootChanges lists packages that come, go or change.
func (a *program) showRootChanges(all []root.Change) {
	w := a.out
	width := 0
	for _, c := range all {
		width = max(width, len(c.Name))
	}
	for _, c := range all {
		name := w.Style(term.Name, c.Name) + strings.Repeat(" ", width-len(c.Name))
		switch {
		case c.From == nil:
			w.Printf("  %s %s  %s\n", w.Style(term.Good, "+"), name, c.To.Full())
		case c.To == nil:
			w.Printf("  %s %s  %s\n", w.Style(term.Bad, "-"), name, c.From.Full())
		case c.From.Full().Compare(c.To.Full()) == 0:
			w.Printf("  %s %s  %s  %s\n", w.Style(term.Doubtful, "="), name, c.To.Full(), w.Style(term.Faint, "again"))
		case c.From.Full().Compare(c.To.Full()) > 0:
			w.Printf("  %s %s  %s → %s  %s\n", w.Style(term.Doubtful, "~"), name, c.From.Full(), c.To.Full(), w.Style(term.Doubtful, "older"))
		default:
			w.Printf("  %s %s  %s → %s\n", w.Style(term.Doubtful, "~"), name, c.From.Full(), c.To.Full())
		}
	}
}

// outcomes of configuration files, in words.
var configOutcomes = map[root.Outcome]string{
	root.ConfigKept:     "edited, and kept; its default did not change",
	root.ConfigMerged:   "edited; the change of its default is merged into it",
	root.ConfigConflict: "edited, and kept; the new default is beside it, in NAME" + root.DefaultSuffix,
	root.ConfigDeleted:  "deleted, and not installed again",
	root.ConfigLeft:     "edited, and kept although its package goes",
}

func (a *program) showConfigChanges(dir string, all []root.ConfigChange) {
	w := a.out
	conflict := false
	for _, c := range all {
		role := term.Good
		if c.Outcome == root.ConfigConflict {
			role, conflict = term.Doubtful, true
		}
		w.Printf("  %s\n      %s\n", w.Style(term.Name, fact.Visible(c.Path)), w.Style(role, w.Wrapped(configOutcomes[c.Outcome], 6)))
	}
	if conflict {
		w.Printf("  %s\n", w.Style(term.Faint, "`ellwand root config "+dir+"` shows the differences, and resolves them"))
	}
}

// showRecovery says what became of a transaction that was interrupted.
func (a *program) showRecovery(r *root.Recovery) {
	if r.Finished {
		a.progress.Note(fmt.Sprintf("an interrupted %s was finished first", r.Action))
		return
	}
	a.progress.Note(fmt.Sprintf("an interrupted %s was undone first", r.Action))
	for _, s := range r.Ran {
		a.progress.Note(fmt.Sprintf("its %s script of %s had been started: what it did is not undone", s.Script, s.Package))
	}
}

// explainUnfit lists what prevents a change of a root.
func (a *program) explainUnfit(e *root.UnfitError) {
	w := a.err
	w.Printf("%s\n", w.Style(term.Bad, fmt.Sprintf("nothing was changed: %s", fact.Count(len(e.Problems), "problem", "problems"))))
	adopt := ""
	for i, p := range e.Problems {
		if i == maxListed && !a.verbose {
			w.Printf("  … and %d more (-v lists all)\n", len(e.Problems)-i)
			break
		}
		subject := p.Path
		if subject == "" {
			subject = p.Package
		} else if p.Package != "" {
			subject += "  " + w.Style(term.Faint, p.Package)
		}
		w.Printf("  %s\n      %s\n", w.Style(term.Name, subject), w.Wrapped(fact.Visible(p.Message), 6))
		if p.Remedy != "" {
			w.Printf("      → %s\n", w.Wrapped(p.Remedy, 8))
		}
		if p.Adopt && adopt == "" {
			adopt = p.Path
		}
	}
	if adopt != "" {
		w.Printf("%s\n", w.Wrapped(fmt.Sprintf("to replace a file, add --adopt %s; --dry-run shows what happens", adopt), 0))
	}
}

// explainScript shows the output of a package's script that failed.
func (a *program) explainScript(e *root.ScriptError) {
	w := a.err
	w.Printf("%s\n", w.Style(term.Bad, w.Wrapped(fact.Visible(e.Error()), 0)))
	a.showOutput(w, e.Call.Output)
	if !e.Undone {
		w.Printf("everything else is done; once the cause is fixed,\n")
	}
}

// showOutput shows the end of a script's output.
func (a *program) showOutput(w *term.Writer, text string) {
	if text == "" {
		return
	}
	lines := strings.Split(text, "\n")
	const most = 20
	if skipped := len(lines) - most; skipped > 0 && !a.verbose {
		w.Printf("    … %d more lines (-v shows all)\n", skipped)
		lines = lines[skipped:]
	}
	for _, line := range lines {
		w.Printf("    %s\n", fact.Visible(line))
	}
}

// completeInstalled proposes the packages in the root that the first word names.
func completeInstalled(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return nil, cobra.ShellCompDirectiveFilterDirs
	}
	r, err := root.Open(args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer r.Close()
	s, err := r.State()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return s.Names(), cobra.ShellCompDirectiveNoFileComp
}
