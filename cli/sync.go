package cli

import (
	"time"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo"
)

func (a *program) syncCommand() *cobra.Command {
	var channel string
	var paths, forget bool
	cmd := &cobra.Command{
		Use:   "sync [REPO]",
		Short: "Fetch the index of remote repositories",
		Long: `Fetch the index of a repository, or of all enabled ones of the workspace. From a server,
only the listings that changed since the last time are fetched. Each file is verified
by its digest, and a repository that is older than when it was last read is refused.
Afterwards the index can be read without the server.

With --forget, everything stored about a repository is removed first: use it for one
that was started again on purpose.`,
		Example:           "  ellwand sync\n  ellwand sync local --files",
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			all, err := u.Repositories(name, channel)
			if err != nil {
				return err
			}
			type result struct {
				Repository string `json:"repository"`
				Channel    string `json:"channel"`
				repo.Synced
			}
			results := []result{}
			err = a.each(cmd.Context(), all, func(c app.Opened) error {
				if forget {
					if err := c.Forget(); err != nil {
						return err
					}
				}
				s, err := c.Sync(cmd.Context(), c.Channel, paths, a.progress)
				if err == nil {
					results = append(results, result{c.Name, c.Channel, s})
				}
				return err
			})
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(results)
			}
			for _, s := range results {
				w := a.out
				w.Printf("%s, channel %s: serial %d of %s", w.Style(term.Name, s.Repository), s.Channel, s.Serial, s.Time.Local().Format(time.DateTime))
				switch {
				case s.Local:
					w.Printf(", read where it is\n")
				case s.Offline:
					w.Printf(", %s\n", w.Style(term.Doubtful, "as it was: the server does not answer"))
				default:
					w.Printf(", %s fetched (%s), %d unchanged\n", fact.Count(s.Fetched, "listing", "listings"), fact.Bytes(s.Bytes), s.Kept)
				}
			}
			return nil
		},
	}
	a.channelFlag(cmd, &channel)
	cmd.Flags().BoolVar(&paths, "files", false, "fetch the lists of paths too, so that paths can be searched")
	cmd.Flags().BoolVar(&forget, "forget", false, "remove everything stored about it first")
	return cmd
}
