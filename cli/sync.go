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
		Short: "Bring the index of repositories on servers here",
		Long: `Bring the index of a repository here, or of all enabled ones of the workspace: of what
is on a server, only the listings that changed since the last time are fetched. Each
file is compared with its digest, and a repository that is older than it was when it
was last read is refused. Afterwards the index can be read without the server.

With --forget, all that is kept of a repository is removed: for one that was begun
anew on purpose.`,
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
	cmd.Flags().BoolVar(&paths, "files", false, "bring the lists of paths too, which a search for a path reads")
	cmd.Flags().BoolVar(&forget, "forget", false, "remove all that is kept of it first")
	return cmd
}
