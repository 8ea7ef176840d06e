package cli

import (
	"github.com/spf13/cobra"

	"ellwand.example/app"
)

func (a *program) rootInstallCommand() *cobra.Command {
	var f rootChangeFlags
	c := app.RootChange{Action: "install"}
	cmd := &cobra.Command{
		Use:   "install DIR PACKAGE...",
		Short: "Install packages into a root, with all that they need",
		Long: `Install packages into a root, with all that they depend on. A PACKAGE is a name, one with
its version as NAME@VERSION-RELEASE, a dependency such as "tidegauge >= 2" or command/tidegauge, or a
package file. Names are looked up among what the workspace has built and in the root's repositories.

Everything is checked before anything is changed: dependencies, symbol versions of the root's
system, paths of other packages and of nobody, accounts, free space. --dry-run prints the plan.`,
		Example: `  ellwand root install stations tidegauge
  ellwand root install stations libharmonic --dry-run`,
		Args:              rootArguments(1, "a package"),
		ValidArgsFunction: a.completeShown,
		RunE: func(cmd *cobra.Command, args []string) error {
			c.Install = args[1:]
			return a.changeRoot(cmd.Context(), args[0], c, f)
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&c.Suggestions, "suggested", false, "install what the packages suggest, too")
	cmd.Flags().BoolVar(&c.Rewrite, "rewrite", false, "write every file again, to repair what was damaged")
	return cmd
}

func (a *program) rootUpgradeCommand() *cobra.Command {
	var f rootChangeFlags
	var to string
	c := app.RootChange{Action: "upgrade"}
	cmd := &cobra.Command{
		Use:   "upgrade DIR [PACKAGE...]",
		Short: "Upgrade packages of a root, or all of them",
		Long: `Upgrade packages of a root to the newest version that its repositories have, and that
everything else agrees with. Without PACKAGEs, upgrade all. Only --to VERSION goes back to an
older one. Configuration that was edited is merged with the new default or kept.`,
		Example: `  ellwand root upgrade stations --dry-run
  ellwand root upgrade stations libharmonic --to 1.4.2-1`,
		Args:              rootArguments(0, ""),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			if to != "" {
				if len(args) != 2 {
					return usageError{errToNeedsOne}
				}
				c.Install = []string{args[1] + "@" + to}
				return a.changeRoot(cmd.Context(), args[0], c, f)
			}
			c.Upgrade, c.UpgradeAll = args[1:], len(args) == 1
			return a.changeRoot(cmd.Context(), args[0], c, f)
		},
	}
	f.add(cmd)
	cmd.Flags().StringVar(&to, "to", "", "the `VERSION-RELEASE` to change to, newer or older")
	return cmd
}

func (a *program) rootRemoveCommand() *cobra.Command {
	var f rootChangeFlags
	c := app.RootChange{Action: "remove"}
	cmd := &cobra.Command{
		Use:   "remove DIR PACKAGE...",
		Short: "Remove packages from a root",
		Long: `Remove packages from a root. Configuration that was edited stays, and so does what the
programs wrote into their state; caches go. Accounts stay as well, since files may belong to them.
A package that others depend on is removed only together with them: --with-dependents.`,
		Example: `  ellwand root remove stations saltmarsh-stations --with-dependents --dry-run
  ellwand root remove stations tidegauge`,
		Args:              rootArguments(1, "a package"),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			c.Remove = args[1:]
			return a.changeRoot(cmd.Context(), args[0], c, f)
		},
	}
	cmd.Flags().BoolVar(&f.dryRun, "dry-run", false, "check everything and print what would be done, without changing the root")
	cmd.Flags().BoolVar(&c.WithDependents, "with-dependents", false, "also remove the packages that depend on these")
	return cmd
}
