package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo/gate"
)

func (a *program) auditCommand() *cobra.Command {
	var channel string
	cmd := &cobra.Command{
		Use:   "audit [REPO]",
		Short: "Check that every package in a channel can be installed",
		Long: `Check a channel of a repository as a whole: whether every package can be installed
with its dependencies, which packages own the same path without declaring a
conflict, which depend on each other in a cycle, and which libraries are unused.
Only the newest package of each name is checked. Dependencies that the target's
system provides are looked up there, if the workspace knows the system. Errors make
the exit status 1.`,
		Example: `  ellwand audit
  ellwand audit local --channel stable`,
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, r, err := a.openRepository(args, channel)
			if err != nil {
				return err
			}
			audits, err := r.Audit(cmd.Context(), r.Channel, u.Systems(cmd.Context()), a.progress)
			if err != nil {
				return err
			}
			a.offline(r.Repository)
			if a.json {
				err = a.printJSON(audits)
			} else {
				a.showAudits(audits, r.Name)
			}
			for _, audit := range audits {
				for _, f := range audit.Findings {
					if f.Severity == fact.SeverityError && err == nil {
						return statusError(statusFindings)
					}
				}
			}
			return err
		},
	}
	a.channelFlag(cmd, &channel)
	return cmd
}

func (a *program) showAudits(audits []gate.Audit, where string) {
	w := a.out
	for i, audit := range audits {
		if i > 0 {
			w.Printf("\n")
		}
		a.showFaults(w, audit.Findings)
		grave := 0
		for _, f := range audit.Findings {
			if f.Severity == fact.SeverityError {
				grave++
			}
		}
		if len(audit.Findings) > 0 {
			w.Printf("\n")
		}
		if n := len(audit.Assumed); n > 0 {
			shown := audit.Assumed
			if n > maxListed && !a.verbose {
				shown = append(append([]string{}, shown[:maxListed]...), fmt.Sprintf("and %d more (-v lists all)", n-maxListed))
			}
			w.Printf("%s left to the system of %s, which is not known here:\n  %s\n", fact.Count(n, "need is", "needs are"), audit.Target, w.Wrapped(strings.Join(shown, ", "), 2))
		}
		older := ""
		if audit.Older > 0 {
			older = fmt.Sprintf(" (and %d older)", audit.Older)
		}
		result := w.Style(term.Good, "all can be installed")
		if grave > 0 {
			result = w.Style(term.Bad, fact.Count(grave, "error", "errors"))
		}
		if notes := len(audit.Findings) - grave; notes > 0 {
			result += ", " + fact.Count(notes, "hint", "hints")
		}
		w.Printf("%s, channel %s for %s: %s%s, %s: %s\n", where, audit.Channel, audit.Target, fact.Count(audit.Packages, "package", "packages"), older, fact.Count(audit.Needs, "dependency", "dependencies"), result)
	}
}
