package cli

import (
	"github.com/spf13/cobra"
)

func (a *program) indexCommand() *cobra.Command {
	var channel string
	var flags allowFlags
	cmd := &cobra.Command{
		Use:   "index [REPO]",
		Short: "Rebuild the index of a repository from its packages",
		Long: `Rebuild the index of a local repository from the package files below its packages
directory, and put all of them into a channel. Use it if the index was lost or
damaged, or after adding package files by hand. If no file changed since the last
time, nothing is read again.`,
		Example:           "  ellwand index local",
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, r, err := a.openRepository(args, channel)
			if err != nil {
				return err
			}
			options, err := flags.changeOptions(cmd.Context(), u)
			if err != nil {
				return err
			}
			report, err := r.Index(cmd.Context(), r.Channel, options, a.progress)
			return a.finishReport(report, r.Name, err)
		},
	}
	a.channelFlag(cmd, &channel)
	flags.add(cmd)
	return cmd
}
