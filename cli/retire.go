package cli

import (
	"github.com/spf13/cobra"
)

func (a *program) retireCommand() *cobra.Command {
	var from, channel string
	var flags allowFlags
	cmd := &cobra.Command{
		Use:   "retire PACKAGE...",
		Short: "Remove packages from a channel",
		Long: `Remove packages from a channel of a repository: NAME means all versions,
NAME@VERSION-RELEASE one. It is refused if a remaining package would have an unmet
dependency. No file is deleted: the history refers to the packages until ` + "`ellwand prune`" + `
deletes it.`,
		Example: `  ellwand retire tide-almanac --from local
  ellwand retire libharmonic@1.4.2-1`,
		Args: arguments(atLeastOne("PACKAGE")),
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			r, err := u.Repository(from, channel)
			if err != nil {
				return err
			}
			options, err := flags.changeOptions(cmd.Context(), u)
			if err != nil {
				return err
			}
			change, err := r.Retire(cmd.Context(), r.Channel, args, options, a.progress)
			return a.finishChange(change, r.Name, err)
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "the repository: a name in ellwand.toml, a directory or a URL (default: the configured one)")
	cmd.RegisterFlagCompletionFunc("from", a.completeRepositories)
	a.channelFlag(cmd, &channel)
	flags.add(cmd)
	return cmd
}
