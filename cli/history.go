package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo"
)

func (a *program) historyCommand() *cobra.Command {
	var channel string
	var limit int
	cmd := &cobra.Command{
		Use:   "history [REPO]",
		Short: "List the changes of a channel",
		Long: `List the changes of a channel of a repository, the newest first: when and how each was
made, which packages were added and removed, and which findings were accepted.
` + "`ellwand rewind`" + ` goes back to a state by its serial; ` + "`ellwand compare`" + ` compares two.`,
		Example: `  ellwand history local
  ellwand history local --channel stable --limit 3`,
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, r, err := a.openRepository(args, channel)
			if err != nil {
				return err
			}
			events, err := r.History(cmd.Context(), r.Channel, limit)
			if err != nil {
				return err
			}
			a.offline(r.Repository)
			if a.json {
				return a.printJSON(events)
			}
			a.showEvents(events, r.Name, r.Channel)
			return nil
		},
	}
	a.channelFlag(cmd, &channel)
	cmd.Flags().IntVar(&limit, "limit", 20, "how many changes of each target to list; 0 for all")
	return cmd
}

func (a *program) showEvents(events []repo.Event, where, channel string) {
	w := a.out
	for i, e := range events {
		if i > 0 {
			w.Printf("\n")
		}
		now := ""
		if i == 0 {
			now = w.Style(term.Good, "  now")
		}
		w.Printf("%s  %s  %s%s\n", w.Style(term.Strong, fmt.Sprintf("%4d", e.Serial)), e.Time.Local().Format(time.DateTime), w.Style(term.Name, e.Action), now)
		from := ""
		if a.verbose {
			from = fmt.Sprintf(", snapshot %.12s", e.Snapshot)
			if e.From != "" {
				from += fmt.Sprintf(", from %.12s", e.From)
			}
		}
		w.Printf("      %s for %s, %s%s\n", fact.Count(e.Packages, "package", "packages"), e.Target, fact.Bytes(e.Bytes), from)
		a.showNames("+", term.Good, e.Added)
		a.showNames("-", term.Bad, e.Removed)
		for _, x := range e.Allowed {
			w.Printf("      %s %s of %s, reason: %s\n", w.Style(term.Doubtful, "accepted"), x.Code, x.Package, x.Reason)
		}
		if e.Oldest {
			w.Printf("      %s\n", w.Style(term.Faint, "older states were pruned"))
		}
	}
	w.Printf("\n%s\n", w.Style(term.Faint, w.Wrapped(fmt.Sprintf("%s of %s, channel %s; `ellwand rewind %s SERIAL --channel %s` restores one", fact.Count(len(events), "change", "changes"), where, channel, where, channel), 0)))
}

// showNames lists packages, one a line.
func (a *program) showNames(sign string, role term.Role, names []string) {
	for i, name := range names {
		if i == maxListed && !a.verbose {
			a.out.Printf("      %s … and %d more (-v lists all)\n", a.out.Style(role, sign), len(names)-i)
			return
		}
		a.out.Printf("      %s %s\n", a.out.Style(role, sign), name)
	}
}
