package cli

import (
	"github.com/spf13/cobra"
)

func (a *program) indexCommand() *cobra.Command {
	var channel string
	var flags allowFlags
	cmd := &cobra.Command{
		Use:   "index [REPO]",
		Short: "Make a repository's index anew from its packages alone",
		Long: `Make the index of a repository in a directory anew, from the package files below its
packages directory and nothing else, and give a channel all of them. It is for an index
that was lost or damaged, and for packages that were put there by hand. Where no file
changed since the last time, nothing is read again.`,
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
			return a.finishReport(report, r.Storage.Where(), err)
		},
	}
	a.channelFlag(cmd, &channel)
	flags.add(cmd)
	return cmd
}
