package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
)

// openRepository opens the repository that a command's first argument names; the
// configured one without an argument.
func (a *program) openRepository(args []string, channel string) (*app.App, app.Opened, error) {
	u, err := a.appIfAny()
	if err != nil {
		return nil, app.Opened{}, err
	}
	name := ""
	if len(args) > 0 {
		name = args[0]
	}
	o, err := u.Repository(name, channel)
	return u, o, err
}

// offline tells that what is shown is not of today.
func (a *program) offline(r *repo.Repository) {
	if r.Offline {
		a.progress.Note(r.Storage.Where() + " does not answer: this is the state of the last `ellwand sync`")
	}
}

// channelFlag adds --channel.
func (a *program) channelFlag(cmd *cobra.Command, channel *string) {
	cmd.Flags().StringVar(channel, "channel", "", "the channel (default: the repository's in ellwand.toml, or testing)")
	cmd.RegisterFlagCompletionFunc("channel", a.completeChannels)
}

// allowFlags are the flags of commands that the gate checks.
type allowFlags struct {
	allow  []string
	reason string
}

func (f *allowFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.allow, "allow", nil, "accept a finding, as `CODE:PACKAGE`; may be repeated")
	cmd.Flags().StringVar(&f.reason, "reason", "", "why the findings are accepted; recorded in the history")
}

// exceptions returns the findings that are accepted: those of the gate, and with
// lints also those of rules on packages.
func (f *allowFlags) exceptions(lints bool) (out []index.Exception, err error) {
	reason := strings.TrimSpace(f.reason)
	for _, text := range f.allow {
		code, name, ok := strings.Cut(text, ":")
		code = strings.ToUpper(code)
		gated := slices.Contains([]string{gate.UnmetNeed, gate.SharedPath, gate.OlderVersion, gate.NoRoot}, code)
		rule, known := lint.Find(code)
		if !ok || name == "" || !gated && !(lints && known && rule.OfPackages() && !rule.OfRepositories()) {
			return nil, usageError{fmt.Errorf("--allow takes the code of a finding and a package, such as %s:tidegauge, not %q", gate.UnmetNeed, text)}
		}
		out = append(out, index.Exception{Code: code, Package: name, Reason: reason})
	}
	if len(out) > 0 != (reason != "") {
		return nil, usageError{errors.New("--allow and --reason belong together: the history records why a finding was accepted")}
	}
	return out, nil
}

// changeOptions are the conditions of a change to a repository's channel.
func (f *allowFlags) changeOptions(ctx context.Context, u *app.App) (repo.ChangeOptions, error) {
	allow, err := f.exceptions(false)
	return repo.ChangeOptions{System: u.Systems(ctx), Allow: allow}, err
}

// showFaults lists findings by code, the gravest first.
func (a *program) showFaults(w *term.Writer, findings []fact.Finding) {
	last, shown := "", 0
	for i, f := range findings {
		if f.Code != last {
			title := f.Code
			if rule, ok := lint.Find(f.Code); ok {
				title = rule.Title
			}
			w.Printf("%s  %s\n", w.Style(severityRoles[f.Severity], f.Code), w.Style(term.Strong, title))
			last, shown = f.Code, 0
		}
		// Of what is only to be known, a few will do.
		if shown++; shown > maxListed && f.Severity != fact.SeverityError && !a.verbose {
			if i+1 == len(findings) || findings[i+1].Code != f.Code {
				w.Printf("  … and %d more (-v lists all)\n", shown-maxListed)
			}
			continue
		}
		w.Printf("  %s  %s\n", w.Style(term.Name, f.Subject), w.Wrapped(fact.Visible(f.Message), len(f.Subject)+4))
	}
}

// explainRefused shows what the gate found, and what to do about it.
func (a *program) explainRefused(e *repo.RefusedError) {
	w := a.err
	w.Printf("%s\n\n", w.Style(term.Bad, fmt.Sprintf("refused: channel %s would become inconsistent; nothing was changed", e.Channel)))
	a.showFaults(w, e.Findings)
	w.Printf("\n")
	if len(e.Rebuild) > 0 {
		w.Printf("Build again, in this order, and publish all of it together:\n  %s\n", w.Style(term.Good, "ellwand build "+strings.Join(e.Rebuild, " ")))
		w.Printf("(if a version and release are published already, increase the release first: `ellwand bump RECIPE --release`)\n")
	}
	f := e.Findings[0]
	w.Printf("To accept a finding, with a reason for the history:\n  %s\n", w.Style(term.Faint, fmt.Sprintf("--allow %s:%s --reason \"…\"", f.Code, f.SubjectName())))
	w.Printf("`ellwand explain %s` explains it.\n", f.Code)
}

// finishChange shows what became of a channel, and returns the error that the
// command ends with.
func (a *program) finishChange(c repo.Change, where string, err error) error {
	var pages *repo.PagesError // after the change was made
	if err != nil && !errors.As(err, &pages) {
		return err
	}
	if a.json {
		if err := a.printJSON(c); err != nil {
			return err
		}
	} else {
		a.showChange(c, where)
	}
	return err
}

// showChange tells what became of a channel.
func (a *program) showChange(c repo.Change, where string) {
	w := a.out
	for _, t := range c.Targets {
		a.showNames("+", term.Good, t.Added)
		a.showNames("-", term.Bad, t.Removed)
		for _, x := range t.Allowed {
			w.Printf("  %s %s of %s, reason: %s\n", w.Style(term.Doubtful, "accepted"), x.Code, x.Package, x.Reason)
		}
		if t.Assumed > 0 {
			w.Printf("  %s\n", w.Style(term.Faint, fmt.Sprintf("%s left to the system of %s, which is not known here", fact.Count(t.Assumed, "need is", "needs are"), t.Target)))
		}
		w.Printf("%s: %d added, %d removed\n", t.Target, len(t.Added), len(t.Removed))
	}
	if len(c.Targets) == 0 {
		w.Printf("nothing changed: %s is at serial %d\n", strings.TrimSuffix(where, "/"), c.Serial)
		return
	}
	w.Printf("%s, channel %s, is at serial %d\n", strings.TrimSuffix(where, "/"), c.Channel, c.Serial)
}

// maxListed is how many packages of a change are listed.
const maxListed = 12

// explainLintError shows what keeps packages from being published, and what to do
// about it.
func (a *program) explainLintError(e *app.LintError) {
	w := a.err
	w.Printf("%s\n\n", w.Style(term.Bad, "refused: lint found errors; nothing was published"))
	subject := ""
	for i, f := range e.Findings {
		if f.Subject != subject {
			subject = f.Subject
			w.Printf("%s\n", w.Style(term.Strong, subject))
		}
		place := ""
		if f.Path != "" {
			place = fact.Visible(f.Path) + ": "
		}
		w.Printf("  %s  %s\n", w.Style(term.Bad, f.Code), w.Wrapped(place+fact.Visible(f.Message), 8))
		if i == len(e.Findings)-1 || e.Findings[i+1].Code != f.Code {
			w.Printf("        %s\n", w.Style(term.Good, w.Wrapped("→ "+f.Remedy, 8)))
		}
	}
	f := e.Findings[0]
	w.Printf("\nAccept an intended finding with [[waive]] and a reason in the recipe. To accept one for this publish only, with a reason that the history records:\n  %s\n",
		w.Style(term.Faint, fmt.Sprintf("--allow %s:%s --reason \"…\"", f.Code, f.SubjectName())))
	w.Printf("`ellwand explain %s` says more; `refuse` in [lint] of ellwand.toml sets the severity that prevents a publish.\n", f.Code)
}
