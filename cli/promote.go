package cli

import (
	"errors"

	"github.com/spf13/cobra"
)

func (a *program) promoteCommand() *cobra.Command {
	var flags allowFlags
	cmd := &cobra.Command{
		Use:   "promote REPO FROM TO [PACKAGE...]",
		Short: "Copy the packages of one channel to another",
		Long: `Give channel TO of a repository exactly the packages of channel FROM; with package
names, add only the newest of these. No package file is copied: both channels refer to
the same ones. The promotion is refused if TO would become inconsistent, or if a
package would be downgraded.`,
		Example: `  ellwand promote local testing stable
  ellwand promote local testing stable tide-almanac`,
		Args: arguments(func(_ *cobra.Command, args []string) error {
			if len(args) < 3 {
				return errors.New("name the repository and the two channels")
			}
			return nil
		}),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			switch len(args) {
			case 0:
				return a.completeRepositories(cmd, args, word)
			case 1, 2:
				return a.completeChannels(cmd, args, word)
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			u, r, err := a.openRepository(args, "")
			if err != nil {
				return err
			}
			options, err := flags.changeOptions(cmd.Context(), u)
			if err != nil {
				return err
			}
			change, err := u.Promote(cmd.Context(), r, args[1], args[2], args[3:], options, a.progress)
			return a.finishChange(change, r.Name, err)
		},
	}
	flags.add(cmd)
	return cmd
}
