package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo/gate"
)

func (a *program) auditCommand() *cobra.Command {
	var channel, advisories string
	cmd := &cobra.Command{
		Use:   "audit [REPO]",
		Short: "Check that every package in a channel can be installed",
		Long: `Check a channel of a repository as a whole: whether every package can be installed
with its dependencies, which packages own the same path without declaring a
conflict, which depend on each other in a cycle, and which libraries are unused.
Only the newest package of each name is checked. Dependencies that the target's
system provides are looked up there, if the workspace knows the system. Errors make
the exit status 1.

With --advisories, read advisories in the OSV format instead: a JSON file, a zip archive or
a directory of them, or a URL. Packages of the channel, modules of languages in their
sources, and images of the workspace that are affected are listed, with the version
that fixes each; then the exit status is 1. An advisory is about a package if its package
URL is pkg:generic/NAME, and about a module if ecosystem and name are the module's.`,
		Example: `  ellwand audit
  ellwand audit local --channel stable
  ellwand audit local --advisories advisories`,
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, r, err := a.openRepository(args, channel)
			if err != nil {
				return err
			}
			if advisories != "" {
				return a.auditAdvisories(cmd.Context(), u, r, advisories)
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
	cmd.Flags().StringVar(&advisories, "advisories", "", "look for packages and images that the advisories at a `PLACE` are about")
	return cmd
}

// auditAdvisories lists what advisories are about.
func (a *program) auditAdvisories(ctx context.Context, u *app.App, r app.Opened, place string) error {
	found, searched, err := u.Advisories(ctx, r, place)
	if err != nil {
		return err
	}
	w := a.out
	if a.json {
		err = a.printJSON(map[string]any{"advisories": searched, "affected": found})
	}
	for _, m := range found {
		if a.json {
			break
		}
		fixed := w.Style(term.Bad, "no version fixes it yet")
		if m.Fixed != "" {
			fixed = w.Style(term.Good, "fixed in "+fact.Visible(m.Fixed))
		}
		w.Printf("%s  %s %s  %s\n", w.Style(term.Strong, fact.Visible(m.Advisory)), w.Style(term.Name, fact.Visible(m.Component.Name)), fact.Visible(m.Component.Version), fixed)
		if m.Summary != "" {
			w.Printf("    %s\n", w.Wrapped(fact.Visible(m.Summary), 4))
		}
		line := func(title string, names []string) {
			if len(names) > 0 {
				w.Printf("    %s %s\n", w.Style(term.Faint, fmt.Sprintf("%-9s", title)), w.Wrapped(strings.Join(names, ", "), 14))
			}
		}
		line("also", visible(m.Aliases))
		line("packages", m.Packages)
		line("recipes", m.Recipes)
		line("images", m.Images)
	}
	if !a.json {
		if len(found) > 0 {
			w.Printf("\n")
		}
		w.Printf("%s, channel %s: %s looked up, %s\n", r.Name, r.Channel, fact.Count(searched, "advisory", "advisories"), fact.Count(len(found), "match", "matches"))
	}
	if err == nil && len(found) > 0 {
		return statusError(statusFindings)
	}
	return err
}

func visible(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fact.Visible(s)
	}
	return out
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
