package cli

import (
	"errors"

	"github.com/spf13/cobra"
)

func (a *program) rewindCommand() *cobra.Command {
	var channel string
	cmd := &cobra.Command{
		Use:   "rewind REPO [SERIAL|SNAPSHOT]",
		Short: "Restore an earlier state of a channel",
		Long: `Restore the state that a channel of a repository had at a serial, as ` + "`ellwand history`" + `
lists them; without one, the state before its last change. A rewind is a change too:
the states in between stay in the history, so a rewind can be undone by another.`,
		Example: `  ellwand rewind local
  ellwand rewind local 3 --channel stable`,
		Args: arguments(func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return errors.New("name the repository, and the state if it is not the one before the last change")
			}
			return nil
		}),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, r, err := a.openRepository(args, channel)
			if err != nil {
				return err
			}
			word := ""
			if len(args) > 1 {
				word = args[1]
			}
			change, err := r.Rewind(cmd.Context(), r.Channel, word, a.progress)
			return a.finishChange(change, r.Name, err)
		},
	}
	a.channelFlag(cmd, &channel)
	return cmd
}
