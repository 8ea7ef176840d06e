package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/root"
)

func (a *program) rootHistoryCommand() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use:   "history DIR",
		Short: "List the changes of a root",
		Long: `List the changes of a root, the newest first: who made each and when, which packages were
installed, changed and removed, what became of edited configuration, and which scripts ran. -v prints
their output. ` + "`ellwand root rewind`" + ` goes back to a state by its serial.`,
		Example:           `  ellwand root history stations --limit 3`,
		Args:              rootArguments(-1, ""),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRoot(args[0], func(_ *app.App, r *root.Root) error {
				if limit <= 0 {
					limit = -1
				}
				all, err := r.History(limit)
				if err != nil {
					return err
				}
				if a.json {
					return a.printJSON(append([]root.Entry{}, all...))
				}
				for i, e := range all {
					if i > 0 {
						a.out.Printf("\n")
					}
					a.showRootEntry(e, i == 0)
				}
				if len(all) == 0 {
					a.out.Printf("nothing was installed into %s yet\n", args[0])
				}
				return nil
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", 20, "how many changes to list; 0 for all")
	return cmd
}

func (a *program) showRootEntry(e root.Entry, newest bool) {
	w := a.out
	now := ""
	if newest {
		now = w.Style(term.Good, "  now")
	}
	w.Printf("%s  %s  %s by %s%s\n", w.Style(term.Strong, fmt.Sprintf("%4d", e.Serial)), e.Time.Local().Format(time.DateTime), w.Style(term.Name, e.Action), fact.Visible(e.User), now)
	for i, c := range e.Changes {
		if i == maxListed && !a.verbose {
			w.Printf("      … and %d more (-v lists all)\n", len(e.Changes)-i)
			break
		}
		switch {
		case c.From == nil:
			w.Printf("      %s %s %s\n", w.Style(term.Good, "+"), c.Name, c.To.Full())
		case c.To == nil:
			w.Printf("      %s %s %s\n", w.Style(term.Bad, "-"), c.Name, c.From.Full())
		default:
			w.Printf("      %s %s %s → %s\n", w.Style(term.Doubtful, "~"), c.Name, c.From.Full(), c.To.Full())
		}
	}
	for _, c := range e.Config {
		w.Printf("      %s\n", w.Wrapped(fmt.Sprintf("%s: %s", fact.Visible(c.Path), configOutcomes[c.Outcome]), 8))
	}
	for _, s := range e.Scripts {
		if s.Script == "refresh" && s.State == "done" && !a.verbose {
			continue
		}
		role := term.Faint
		if s.State != "done" {
			role = term.Bad
		}
		w.Printf("      %s\n", w.Style(role, fmt.Sprintf("%s of %s: %s", s.Script, s.Package, s.State)))
		if a.verbose || s.State != "done" {
			a.showOutput(w, s.Output)
		}
	}
}

func (a *program) rootRewindCommand() *cobra.Command {
	var f rootChangeFlags
	c := app.RootChange{Action: "rewind"}
	cmd := &cobra.Command{
		Use:   "rewind DIR SERIAL",
		Short: "Go back to the packages that a root had",
		Long: `Go back to the very packages that a root had after an earlier change, by the change's
serial in ` + "`ellwand root history`" + `; 0 stands for none at all. This is a change of its own, with everything that belongs to
one: edited configuration is kept, and the defaults are those of that time.`,
		Example: `  ellwand root rewind stations 1 --dry-run`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if len(args) != 2 {
				return fmt.Errorf("expected the directory of a root and a serial")
			}
			return nil
		}),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			serial, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil || serial < 0 {
				return usageError{fmt.Errorf("%q is not a serial of the history", args[1])}
			}
			c.Rewind = &serial
			return a.changeRoot(cmd.Context(), args[0], c, f)
		},
	}
	f.add(cmd)
	return cmd
}
