package cli

import (
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
)

func (a *program) verifyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "verify [REPO]",
		Short: "Verify every file of a repository",
		Long: `Read every file that the channels of a repository refer to, now and in the retained
history: snapshots, listings and packages, and compare each with its digest. Missing
and changed files make the exit status 1. Files that nothing refers to, such as an
interrupted publish leaves, do no harm; they are counted, and ` + "`ellwand prune`" + ` deletes
them.`,
		Example:           "  ellwand verify local",
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, r, err := a.openRepository(args, "")
			if err != nil {
				return err
			}
			v, err := r.Verify(cmd.Context(), a.progress)
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(v)
			} else {
				w := a.out
				for _, d := range v.Damaged {
					w.Printf("  %s  %s: %s\n", w.Style(term.Bad, "damaged"), d.Name, d.Reason)
				}
				for i, name := range v.Unnamed {
					if i == maxListed && !a.verbose {
						w.Printf("  … and %d more that nothing names (-v lists all)\n", len(v.Unnamed)-i)
						break
					}
					w.Printf("  %s  %s\n", w.Style(term.Faint, "unnamed"), name)
				}
				result := w.Style(term.Good, "no damage found")
				if len(v.Damaged) > 0 {
					result = w.Style(term.Bad, fact.Count(len(v.Damaged), "file is damaged", "files are damaged"))
				}
				w.Printf("%s: %s, %s, %s (%s): %s", r.Name, fact.Count(v.Snapshots, "snapshot", "snapshots"), fact.Count(v.Listings, "listing", "listings"), fact.Count(v.Packages, "package", "packages"), fact.Bytes(v.Bytes), result)
				if len(v.Unnamed) > 0 {
					w.Printf("; %s by nothing", fact.Count(len(v.Unnamed), "file is named", "files are named"))
				}
				w.Printf("\n")
				if len(v.Damaged) > 0 {
					w.Printf("restore the files from a copy, or, in a directory, let `ellwand index` create the index from the intact packages\n")
				}
			}
			if err == nil && len(v.Damaged) > 0 {
				return statusError(statusFindings)
			}
			return err
		},
	}
}
