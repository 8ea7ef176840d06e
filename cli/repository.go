package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
	"ellwand.example/core/probe"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/site"
	"ellwand.example/core/solve"
	"ellwand.example/core/workspace"
)

// repository opens the repository with a name, path or address; with none, the
// configured one.
func (a *program) repository(w *workspace.Workspace, name, channel string) (*repo.Repository, string, error) {
	if name == "" {
		if w == nil {
			return nil, "", usageError{errors.New("which repository? There is no workspace here to take one from; name its folder or address")}
		}
		var err error
		if name, err = w.DefaultRepository(); err != nil {
			return nil, "", err
		}
	}
	place, configured := w.Repository(name)
	r, err := repo.OpenCached(place)
	if err != nil {
		return nil, "", err
	}
	r.Pages = site.Renderer{}
	if channel == "" {
		channel = configured
	}
	return r, channel, nil
}

// openRepository is repository for a command whose first argument, if there is
// one, is the repository.
func (a *program) openRepository(args []string, channel string) (*workspace.Workspace, *repo.Repository, string, error) {
	w, err := a.openIfAny()
	if err != nil {
		return nil, nil, "", err
	}
	name := ""
	if len(args) > 0 {
		name = args[0]
	}
	r, channel, err := a.repository(w, name, channel)
	return w, r, channel, err
}

// offline tells that what is shown is not of today.
func (a *program) offline(r *repo.Repository) {
	if r.Offline {
		a.progress.Note(r.Storage.Where() + " does not answer: this is what the last `ellwand sync` brought")
	}
}

// channelFlag adds --channel.
func (a *program) channelFlag(cmd *cobra.Command, channel *string) {
	cmd.Flags().StringVar(channel, "channel", "", "the channel (default: the repository's in ellwand.toml, or testing)")
	cmd.RegisterFlagCompletionFunc("channel", a.completeChannels)
}

// termsFlags are the options of commands that the gate judges.
type termsFlags struct {
	allow  []string
	reason string
	lints  bool // findings of lint may be let pass too
}

func (t *termsFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&t.allow, "allow", nil, "let a finding pass, as `CODE:PACKAGE`; may be repeated")
	cmd.Flags().StringVar(&t.reason, "reason", "", "the reason why, which is kept in the history")
}

// terms reads them. Needs are judged by the system of each target, as far as it
// is known here.
func (a *program) terms(ctx context.Context, w *workspace.Workspace, t termsFlags) (repo.Terms, error) {
	terms := repo.Terms{System: a.systems(ctx, w)}
	for _, text := range t.allow {
		code, name, ok := strings.Cut(text, ":")
		code = strings.ToUpper(code)
		gate := slices.Contains([]string{repo.UnmetNeed, repo.SharedPath, repo.OlderVersion, repo.NoRoot}, code)
		rule, known := lint.Find(code)
		if !ok || name == "" || !gate && !(t.lints && known && rule.OfPackages() && !rule.OfRepositories()) {
			return terms, usageError{fmt.Errorf("--allow takes the code of a finding and a package, such as %s:tidegauge, not %q", repo.UnmetNeed, text)}
		}
		terms.Allow = append(terms.Allow, repo.Exception{Code: code, Package: name, Reason: strings.TrimSpace(t.reason)})
	}
	if len(terms.Allow) > 0 != (strings.TrimSpace(t.reason) != "") {
		return terms, usageError{errors.New("--allow and --reason go together: an exception has a reason, which the history keeps")}
	}
	return terms, nil
}

// systems finds, for a target of the workspace, what tells whether its system
// meets a need. Of other targets nothing is known.
func (a *program) systems(ctx context.Context, w *workspace.Workspace) func(target string) func(solve.Need) bool {
	if w == nil {
		return nil
	}
	return func(target string) func(solve.Need) bool {
		on := *w
		if _, known := w.Settings.Targets[target]; !known && target != w.Target.Name {
			return nil
		}
		if err := on.UseTarget(target); err != nil {
			return nil
		}
		if target == w.Target.Name {
			on.On, on.Target = w.On, w.Target
		}
		root, err := build.System(ctx, &on, a.progress)
		if err != nil {
			a.progress.Note(fmt.Sprintf("the system of %s is not looked into: %v", target, err))
			return nil
		}
		system := probe.Open(root)
		return func(n solve.Need) bool {
			found, ok := system.Look(n.Need, n.Symbols)
			return ok && found.Enough
		}
	}
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
		w.Printf("(where a recipe's version and release are published already, raise the release first: `ellwand bump RECIPE --release`)\n")
	}
	f := e.Findings[0]
	w.Printf("To let one pass all the same, with a reason that the history keeps:\n  %s\n", w.Style(term.Faint, fmt.Sprintf("--allow %s:%s --reason \"…\"", f.Code, f.SubjectName())))
	w.Printf("`ellwand explain %s` tells more.\n", f.Code)
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
			w.Printf("  %s %s of %s, reason: %s\n", w.Style(term.Doubtful, "let pass"), x.Code, x.Package, x.Reason)
		}
		if t.Assumed > 0 {
			w.Printf("  %s\n", w.Style(term.Faint, fmt.Sprintf("%s left to the system of %s, which is not known here", fact.Count(t.Assumed, "need is", "needs are"), t.Target)))
		}
		w.Printf("%s for %s is at snapshot %.12s: %d added, %d taken out\n", c.Channel, t.Target, t.Snapshot, len(t.Added), len(t.Removed))
	}
	if len(c.Targets) == 0 {
		w.Printf("nothing changed: %s is at serial %d\n", strings.TrimSuffix(where, "/"), c.Serial)
		return
	}
	w.Printf("%s is at serial %d\n", strings.TrimSuffix(where, "/"), c.Serial)
}

// maxListed is how many packages of a change are listed.
const maxListed = 12
