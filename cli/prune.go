package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo"
)

func (a *program) pruneCommand() *cobra.Command {
	var keep, days int
	var dry bool
	cmd := &cobra.Command{
		Use:   "prune [REPO]",
		Short: "Delete old history and the packages that only it uses",
		Long: `Delete old history: keep the newest --keep states of each channel and all from the last
--days days. Packages and index files that no retained state uses are deleted too.
Readers are not disturbed.`,
		Example: `  ellwand prune local --dry-run
  ellwand prune local --keep 5 --days 30`,
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			if keep < 1 || days < 0 {
				return usageError{fmt.Errorf("--keep is at least 1, since a channel keeps the state that it is at; --days is not negative")}
			}
			_, r, err := a.openRepository(args, "")
			if err != nil {
				return err
			}
			p, err := r.Prune(cmd.Context(), repo.Keep{States: keep, Time: time.Duration(days) * 24 * time.Hour}, dry, a.progress)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(p)
			}
			w := a.out
			for i, name := range p.Packages {
				if i == maxListed && !a.verbose {
					w.Printf("  … and %d more (-v lists all)\n", len(p.Packages)-i)
					break
				}
				w.Printf("  %s %s\n", w.Style(term.Bad, "-"), name)
			}
			verb := "deleted"
			if dry {
				verb = "would delete"
			}
			w.Printf("%s: %s kept; %s %s, %s, %s and %s: %s\n", r.Name, fact.Count(p.Kept, "state", "states"), verb, fact.Count(p.Snapshots, "snapshot", "snapshots"), fact.Count(p.Listings, "listing", "listings"), fact.Count(len(p.Packages), "package", "packages"), fact.Count(p.Others, "other file", "other files"), fact.Bytes(p.Bytes))
			return nil
		},
	}
	cmd.Flags().IntVar(&keep, "keep", 10, "how many states of each channel to keep, the newest first")
	cmd.Flags().IntVar(&days, "days", 7, "keep all states of this many days")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "show what would be deleted, and delete nothing")
	return cmd
}
