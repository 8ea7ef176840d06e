package cli

import (
	"errors"

	"github.com/spf13/cobra"
)

func (a *program) rewindCommand() *cobra.Command {
	var channel string
	cmd := &cobra.Command{
		Use:   "rewind REPO [SERIAL|SNAPSHOT]",
		Short: "Bring a channel back to what it was",
		Long: `Bring a channel of a repository back to the state of a serial or a snapshot, as
` + "`ellwand history`" + ` lists them; with neither, to the state before its last change.
The rewind is a change of its own: what came in between stays in the history, so
that a rewind can be undone by another.`,
		Example: `  ellwand rewind local
  ellwand rewind local 2 --channel stable`,
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
			return a.finishChange(change, r.Storage.Where(), err)
		},
	}
	a.channelFlag(cmd, &channel)
	return cmd
}
