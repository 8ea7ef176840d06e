package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
)

func (a *program) extractCommand() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use:   "extract PACKAGE [PATH...]",
		Short: "Unpack a package, or some of its paths",
		Long: `Unpack a package into a directory named like it, or into --to. With PATHs, unpack only
these: a path includes everything below it, and may be a pattern. Existing files are
never overwritten, and nothing is written outside the directory.

As root, files get the owners that the package names, if the machine has them.`,
		Example: `  ellwand extract tidegauge
  ellwand extract tidegauge /usr/bin /etc --to looked-at`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return fmt.Errorf("%s needs a package", cmd.CommandPath())
			}
			return nil
		}),
		ValidArgsFunction: completePackages,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			p, err := u.OpenPackage(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			defer p.Close()
			dir := to
			if dir == "" {
				dir = p.Facts.Identity()
			}
			return a.extract(cmd.Context(), p, args[1:], dir)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the directory to unpack into (default: a new one named like the package)")
	cmd.MarkFlagDirname("to")
	return cmd
}

func (a *program) extract(ctx context.Context, p *ell.Package, words []string, dir string) error {
	entries, err := p.Layout()
	if err != nil {
		return err
	}
	chosen := entries
	if len(words) > 0 {
		if chosen, err = ell.Choose(entries, words); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	how := ell.Extraction{Owners: os.Geteuid() == 0}
	if len(words) > 0 {
		how.Chosen = chosen
	}
	done, err := p.Extract(ctx, dir, how)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%w\nnothing is written over: name another directory with --to", err)
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"directory": dir, "paths": len(chosen), "unknown_owners": done.Unknown, "without_attributes": done.Bare})
	}
	a.out.Printf("%s  %s of %s\n", a.out.Style(term.Name, dir), fact.Count(len(chosen), "path", "paths"), p.Facts.Identity())
	for _, name := range done.Unknown {
		a.out.Printf("  there is no %s on this machine: its files stay yours\n", name)
	}
	for _, path := range done.Bare {
		a.out.Printf("  %s: its capabilities or other attributes could not be set here\n", path)
	}
	return nil
}
