package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/core/repo"
	"ellwand.example/term"
)

func (a *app) listCommand() *cobra.Command {
	var channel string
	cmd := &cobra.Command{
		Use:               "list [REPO]",
		Short:             "List what a repository holds",
		Long:              "List the packages in a channel of a repository, for each target. REPO is the\nname of a [repository.NAME] in ellwand.toml, or a folder.",
		Example:           "  ellwand list\n  ellwand list local --channel stable",
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.openIfAny()
			if err != nil {
				return err
			}
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			r, ch, err := a.repository(w, name, channel)
			if err != nil {
				return err
			}
			listings, err := r.List(cmd.Context(), ch)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(listings)
			}
			for _, l := range listings {
				var bytes int64
				var rows [][]string
				for _, rec := range l.Records {
					bytes += rec.Bytes
					rows = append(rows, []string{a.out.Style(term.Name, rec.Name), rec.Full().String(), rec.Arch, fmt.Sprintf("%9s", term.Bytes(rec.Bytes)), rec.Summary})
				}
				a.out.Table([]string{"package", "version", "arch", "     size", "summary"}, rows)
				a.out.Printf("%s for %s in %s, channel %s, serial %d: %s\n", term.Count(len(l.Records), "package", "packages"), l.Target, r.Storage.Where(), l.Channel, l.Serial, term.Bytes(bytes))
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&channel, "channel", "", "the channel (default: the repository's in ellwand.toml, or testing)")
	cmd.RegisterFlagCompletionFunc("channel", a.completeChannels)
	return cmd
}

func (a *app) searchCommand() *cobra.Command {
	var in, channel string
	cmd := &cobra.Command{
		Use:   "search WORD",
		Short: "Find packages in a repository",
		Long: `Find packages by a word in their names, summaries and provides; a word with a
slash is looked for among the paths of their files too. Nothing found makes the
exit status 1.`,
		Example: `  ellwand search tide
  ellwand search pkgconfig/harmonic
  ellwand search /usr/bin/`,
		Args: arguments(exactlyOne("one word to look for")),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.openIfAny()
			if err != nil {
				return err
			}
			if strings.TrimSpace(args[0]) == "" {
				return usageError{fmt.Errorf("an empty word is in everything: `ellwand list` lists all packages")}
			}
			r, ch, err := a.repository(w, in, channel)
			if err != nil {
				return err
			}
			hits, err := r.Search(cmd.Context(), ch, args[0])
			if err != nil {
				return err
			}
			if a.json {
				if hits == nil {
					hits = []repo.Hit{}
				}
				if err := a.printJSON(hits); err != nil {
					return err
				}
			} else {
				a.showHits(hits, args[0], r.Storage.Where(), ch)
			}
			if len(hits) == 0 {
				return statusError(statusFindings)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&in, "in", "", "the repository: a name in ellwand.toml, or a folder (default: the configured one)")
	cmd.Flags().StringVar(&channel, "channel", "", "the channel (default: the repository's in ellwand.toml, or testing)")
	cmd.RegisterFlagCompletionFunc("in", a.completeRepositories)
	cmd.RegisterFlagCompletionFunc("channel", a.completeChannels)
	return cmd
}

// maxShown is how many matching paths of a package are shown.
const maxShown = 5

func (a *app) showHits(hits []repo.Hit, word, where, channel string) {
	w := a.out
	if len(hits) == 0 {
		a.err.Printf("nothing in %s, channel %s, has %q in its name, summary or provides", where, channel, word)
		if !strings.Contains(word, "/") {
			a.err.Printf("; with a slash in it, a word is looked for among paths too")
		}
		a.err.Printf("\n")
		return
	}
	for _, h := range hits {
		w.Printf("%s %s %s  %s\n", w.Style(term.Name, h.Record.Name), h.Record.Full(), w.Style(term.Faint, h.Record.Arch), h.Record.Summary)
		for i, t := range h.Text {
			if i == maxShown && !a.verbose {
				w.Printf("    … and %d more\n", len(h.Text)-i)
				break
			}
			w.Printf("    %s\n", t)
		}
	}
	w.Printf("%s\n", w.Style(term.Faint, fmt.Sprintf("%s in %s, channel %s", term.Count(len(hits), "package", "packages"), where, channel)))
}
