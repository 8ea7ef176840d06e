package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
)

// lintOptions are the flags of lint.
type lintOptions struct {
	all, fix, dry  bool
	format, since  string
	level, channel string
}

// formats of lint's output.
var lintFormats = []string{"text", "lines", "json", "sarif", "junit"}

func (a *program) lintCommand() *cobra.Command {
	var o lintOptions
	cmd := &cobra.Command{
		Use:   "lint RECIPE|PACKAGE|REPO...",
		Short: "Check recipes, packages and repositories for problems",
		Long: `Check recipes (by name, each with the packages built from it), packages (names, files,
or a directory of them) and repositories for problems. Each finding has a code, a
severity, a place and a remedy; ` + "`ellwand explain CODE`" + ` says more, with examples. Errors
make the exit status 1; warnings and hints do not.

Accept an intended finding with [[waive]] and a reason. The table [lint] of
ellwand.toml sets what is reported: a level (lenient, normal, strict), severities of
single rules, and rules that are off.

--fix applies automatic fixes: shows the diff, then writes it.`,
		Example: `  ellwand lint tidegauge
  ellwand lint packages/*/*.ell
  ellwand lint --all --fix --dry-run
  ellwand lint packages/*/tidegauge@2.4.1-3.x86_64.ell --new-since tidegauge
  ellwand lint --all --format sarif > findings.sarif`,
		Args: arguments(func(_ *cobra.Command, args []string) error {
			switch {
			case o.all == (len(args) > 0):
				return errors.New("name recipes, packages or repositories, or give --all")
			case !slices.Contains(lintFormats, o.format):
				return fmt.Errorf("--format is %s, not %q", strings.Join(lintFormats, ", "), o.format)
			case o.level != "" && !slices.Contains(lint.Levels, o.level):
				return fmt.Errorf("--level is %s, not %q", strings.Join(lint.Levels, ", "), o.level)
			case o.dry && !o.fix:
				return errors.New("--dry-run is only for --fix")
			case o.since != "" && len(args) != 1:
				return errors.New("--new-since compares one package with another one")
			}
			return nil
		}),
		ValidArgsFunction: a.completeLinted,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.lint(cmd.Context(), args, o)
		},
	}
	cmd.Flags().BoolVar(&o.all, "all", false, "all recipes of the workspace, and the newest package of each name that it has built")
	cmd.Flags().StringVar(&o.format, "format", "text", "the output format: text, lines, json, sarif or junit")
	cmd.Flags().StringVar(&o.since, "new-since", "", "report only what is new since another `PACKAGE`: a file, or the name of a built or published package")
	cmd.Flags().BoolVar(&o.fix, "fix", false, "apply automatic fixes to the recipes")
	cmd.Flags().BoolVar(&o.dry, "dry-run", false, "with --fix: show the diff, and write nothing")
	cmd.Flags().StringVar(&o.level, "level", "", "lenient, normal or strict, instead of the workspace's level")
	a.channelFlag(cmd, &o.channel)
	cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(lintFormats, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("level", cobra.FixedCompletions(lint.Levels, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// completeLinted proposes what can be looked at.
func (a *program) completeLinted(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	names, _ := a.completeShown(cmd, args, word)
	repositories, _ := a.completeRepositories(cmd, args, word)
	return append(names, repositories...), cobra.ShellCompDirectiveDefault
}

func (a *program) lint(ctx context.Context, args []string, o lintOptions) error {
	u, err := a.appIfAny()
	if err != nil {
		return err
	}
	l := u.Linter(ctx)
	l.Profile.Level = cmp.Or(o.level, l.Profile.Level)
	var targets app.LintTargets
	if o.all {
		targets, err = u.AllLintTargets()
	} else {
		targets, err = u.ClassifyLintTargets(args)
	}
	if err != nil {
		return err
	}
	targets.Channel = o.channel
	found, err := u.Lint(ctx, l, targets)
	if err != nil {
		return err
	}
	if o.since != "" {
		before, err := u.LintBefore(ctx, l, o.since)
		if err != nil {
			return err
		}
		found.Findings = lint.NewSince(found.Findings, before)
	}
	if a.json {
		o.format = "json"
	}
	if len(found.Subjects) == 0 && len(found.Broken) > 0 && o.format == "text" {
		return found.Broken
	}
	if err := a.printFindings(found, o.format); err != nil {
		return err
	}
	if o.fix {
		if err := a.fix(u, found.Findings, o.dry); err != nil {
			return err
		}
	}
	switch {
	case len(found.Broken) > 0:
		return found.Broken
	case slices.ContainsFunc(found.Findings, func(f fact.Finding) bool { return f.Reaches(fact.SeverityError) }):
		return statusError(statusFindings)
	}
	return nil
}

// fix applies automatic fixes to recipes, and shows the differences first.
func (a *program) fix(u *app.App, findings []fact.Finding, dry bool) error {
	fixed, unknown, err := u.Fix(findings)
	if err != nil {
		return err
	}
	for _, name := range unknown {
		a.err.Printf("there is no recipe %s here, so its findings cannot be fixed\n", name)
	}
	n := 0
	for _, f := range fixed {
		file := f.Recipe.Doc.File
		a.err.Printf("\n")
		a.showFixed(udiff.Unified(file, file+" (fixed)", string(f.Recipe.Doc.Data), string(f.Text)))
		n += len(f.Findings)
		if !dry {
			if err := app.WriteFixed(f); err != nil {
				return err
			}
		}
	}
	switch {
	case n == 0:
		a.err.Printf("no automatic fix is available for these findings\n")
	case dry:
		a.err.Printf("this would fix %s; nothing was written\n", fact.Count(n, "finding", "findings"))
	default:
		a.err.Printf("fixed %s; build again to check those in packages\n", fact.Count(n, "finding", "findings"))
	}
	return nil
}

// showFixed prints a difference to standard error: a program may be reading the
// findings.
func (a *program) showFixed(difference string) {
	for line := range strings.SplitSeq(strings.TrimSuffix(difference, "\n"), "\n") {
		switch {
		case strings.HasPrefix(line, "+"):
			line = a.err.Style(term.Good, line)
		case strings.HasPrefix(line, "-"):
			line = a.err.Style(term.Bad, line)
		}
		a.err.Printf("%s\n", line)
	}
}
