package cli

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/root"
)

func (a *program) rootRunCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "run DIR [-- PROGRAM [ARGUMENT...]]",
		Short: "Run a program in a root",
		Long: `Run a program in a root, which is its whole file system, in a sandbox without a network: what the
program writes stays in the root. It runs as the root's own root user. Without a PROGRAM, open a
shell. The exit status is that of the program.`,
		Example: `  ellwand root run stations -- tidegauge --version
  ellwand root run stations`,
		Args:              rootArguments(0, ""),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRoot(args[0], func(u *app.App, r *root.Root) error {
				err := u.RunInRoot(cmd.Context(), r, args[1:], os.Stdout, os.Stdin)
				var failed *sandbox.ExitError
				if errors.As(err, &failed) && failed.Limit == "" {
					return statusError(failed.Status)
				}
				if errors.Is(err, sandbox.ErrNoTerminal) {
					return usageError{fmt.Errorf("standard input is not a terminal: name a program, as in `ellwand root run %s -- ls /`", args[0])}
				}
				return err
			})
		},
	}
	return cmd
}

func (a *program) rootFinishCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "finish DIR",
		Short: "Finish an interrupted change, and run failed scripts again",
		Long: `Finish or undo a change of a root that was interrupted, as every other change of the root
would, and run the scripts of packages again that failed. They can tell by ELLWAND_REPEATED=1 that
they were started before.`,
		Example:           `  ellwand root finish stations`,
		Args:              rootArguments(-1, ""),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRoot(args[0], func(u *app.App, r *root.Root) error {
				recovered, ran, err := u.FinishRoot(cmd.Context(), r)
				if a.json && err == nil {
					return a.printJSON(map[string]any{"recovered": recovered, "scripts": append([]root.ScriptCall{}, ran...)})
				}
				if recovered != nil {
					a.showRecovery(recovered)
				}
				for _, s := range ran {
					if s.State == "done" {
						a.out.Printf("%s of %s: done\n", s.Script, s.Package)
					}
				}
				if err == nil && recovered == nil && len(ran) == 0 {
					a.out.Printf("nothing to finish in %s\n", args[0])
				}
				return err
			})
		},
	}
	return cmd
}
