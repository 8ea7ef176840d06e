package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/trial"
)

func (a *program) trialCommand() *cobra.Command {
	var o app.TrialOptions
	var junit, image, form string
	var limit time.Duration
	var shell bool
	cmd := &cobra.Command{
		Use:   "trial [PACKAGE...]",
		Short: "Rehearse packages: install, run, upgrade, remove",
		Long: `Rehearse packages in a throwaway root on the target's system, without being root. A PACKAGE is
one as for ` + "`ellwand root install`" + `, or a recipe, which stands for its packages.

They are installed with all that they need. Every program and library is loaded with its libraries
and symbols, every command is called with --version or --help, the recipe's [trial] runs, modules are
imported, a program is compiled with each pkg-config module, and the programs that units and desktop
entries start are looked for. Then the published version is upgraded with edited configuration, and
everything is removed. The exit status is 1 if a check failed.

With --channel and no PACKAGE, all packages of the channel are installed together and tried.

With --image, the image is made if that is needed, and its [trial] runs in it, with a time limit.
What it writes is kept in a file.

--system tells whether the packages work on another system: the directory of one, or a root archive.`,
		Example: `  ellwand trial tidegauge
  ellwand trial foghorn --junit report.xml
  ellwand trial --image harbour`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if image != "" {
				return none(cmd, args)
			}
			if o.Channel == "" {
				return atLeastOne("a package")(cmd, args)
			}
			return nil
		}),
		ValidArgsFunction: a.completeShown,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			if image != "" {
				return a.tryImage(cmd.Context(), image, form, limit)
			}
			if shell {
				o.Shell = os.Stdin
			}
			var report app.TrialReport
			if len(args) == 0 {
				if _, err := a.open(); err != nil {
					return err // there is no workspace, whose repositories have channels
				}
				report, err = u.TrialChannel(cmd.Context(), o)
			} else {
				report, err = u.Trial(cmd.Context(), args, o)
			}
			if err != nil {
				return err
			}
			if junit != "" {
				data, err := trial.JUnit(report.Checks)
				if err != nil {
					return err
				}
				if err := os.WriteFile(junit, data, 0o644); err != nil {
					return err
				}
			}
			err = a.finishTrial(report)
			if o.Keep != "" && !a.json {
				a.out.Printf("the root is %s/root\n", o.Keep)
			}
			return err
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&o.System, "system", "", "the system to try them on: host, or another `SYSTEM`, a directory or a root archive (default: the target's)")
	flags.StringVar(&o.Channel, "channel", "", "the channel that other packages and older versions come from")
	flags.StringVar(&o.Keep, "keep", "", "leave the root, with the packages in it, in `DIR`")
	flags.StringVar(&junit, "junit", "", "also write a JUnit report to `FILE`")
	flags.StringVar(&image, "image", "", "try an image of the workspace: its `NAME`")
	flags.DurationVar(&limit, "time", 0, "with --image: how long its trial may take (default: what its description says)")
	flags.StringVar(&form, "form", "", "with --image: the `FORM` to try, oci, disk or iso (default: the first that the image has)")
	cmd.MarkFlagsMutuallyExclusive("image", "channel")
	cmd.RegisterFlagCompletionFunc("image", a.completeImages)
	flags.BoolVar(&shell, "shell", false, "open a shell in the root after the checks")
	return cmd
}

// tryImage makes an image, reusing what is up to date, and runs its trial.
func (a *program) tryImage(ctx context.Context, name, form string, limit time.Duration) error {
	u, err := a.app()
	if err != nil {
		return err
	}
	var o app.ImageOptions
	if form != "" {
		o.Forms = []string{form}
	}
	if _, err := u.MakeImage(ctx, name, o); err != nil {
		return err
	}
	out := io.Discard
	if a.verbose {
		out = &visibleLines{to: a.err.Stream()}
	}
	run, err := u.TryImage(ctx, name, form, limit, out)
	if err != nil {
		return err
	}
	return a.finishRun(run)
}

// visibleLines passes lines on with nothing in them that a terminal obeys: an image may say
// anything.
type visibleLines struct {
	to   io.Writer
	line []byte
}

func (v *visibleLines) Write(p []byte) (int, error) {
	const most = 64 << 10 // bytes of a line
	for _, b := range p {
		if b != '\n' && len(v.line) < most {
			v.line = append(v.line, b)
			continue
		}
		text := fact.Visible(strings.Trim(ansi.Strip(string(v.line)), "\r "))
		v.line = v.line[:0]
		if text == "" {
			continue
		}
		if _, err := io.WriteString(v.to, text+"\n"); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// finishTrial shows a report, and returns the status that it ends with.
func (a *program) finishTrial(report app.TrialReport) error {
	if !a.json {
		a.showTrial(report)
	} else if err := a.printJSON(report); err != nil {
		return err
	}
	if len(report.Failed()) > 0 {
		return statusError(statusFindings)
	}
	return nil
}

// showTrial shows checks as a table, and the failures with what they wrote.
func (a *program) showTrial(report app.TrialReport) {
	w := a.out
	roles := map[trial.State]term.Role{trial.Passed: term.Good, trial.Failed: term.Bad, trial.Skipped: term.Faint}
	counts := map[trial.State]int{}
	var rows [][]string
	for _, c := range report.Checks {
		counts[c.State]++
		what := c.Name
		if c.Subject != "" {
			what += " " + fact.Visible(c.Subject)
		}
		message := c.Message
		if c.State == trial.Failed {
			message, _, _ = strings.Cut(message, "\n")
		}
		rows = append(rows, []string{w.Style(term.Name, c.Package), what, w.Style(roles[c.State], string(c.State)), fmt.Sprintf("%.1f s", c.Time.Round(time.Millisecond).Seconds()), w.Style(term.Faint, fact.Visible(message))})
	}
	w.Table([]string{"package", "check", "result", "time", ""}, rows)
	for _, c := range report.Failed() {
		what := c.Name
		if c.Subject != "" {
			what += " " + fact.Visible(c.Subject)
		}
		w.Printf("\n%s  %s\n", w.Style(term.Bad, what), w.Style(term.Faint, c.Package))
		for line := range strings.SplitSeq(c.Message, "\n") {
			w.Printf("    %s\n", w.Wrapped(fact.Visible(line), 4))
		}
		if c.Command != "" {
			w.Printf("    $ %s\n", fact.Visible(c.Command))
		}
		a.showOutput(w, c.Output)
		if c.Remedy != "" {
			w.Printf("    → %s\n", w.Wrapped(c.Remedy, 6))
		}
	}
	text := fmt.Sprintf("%s: %d passed, %d failed, %d skipped", fact.Count(len(report.Checks), "check", "checks"), counts[trial.Passed], counts[trial.Failed], counts[trial.Skipped])
	role := term.Good
	if counts[trial.Failed] > 0 {
		role = term.Bad
	}
	w.Printf("\n%s\n", w.Style(role, text))
}
