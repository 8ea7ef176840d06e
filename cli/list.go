package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
)

// each calls a function for the repositories that are enabled. One of several
// that cannot be read is skipped, with a note.
func (a *program) each(ctx context.Context, all []app.Opened, do func(app.Opened) error) error {
	failed := 0
	var last error
	for _, c := range all {
		if c.Disabled {
			continue
		}
		err := do(c)
		if err != nil && (ctx.Err() != nil || len(all) == 1) {
			return err
		}
		if err != nil {
			failed, last = failed+1, err
			a.progress.Note(fmt.Sprintf("repository %s is skipped: %v", c.Name, err))
			continue
		}
		a.offline(c.Repository)
	}
	if failed == len(all) {
		return last
	}
	return nil
}

// showConsulted tells which repositories were looked into, and which not.
func (a *program) showConsulted(ctx context.Context, all []app.Opened) {
	for _, c := range all {
		n, err := c.Count(ctx, c.Channel)
		if err != nil {
			continue
		}
		state := "enabled"
		if c.Disabled {
			state = a.out.Style(term.Doubtful, "disabled, not looked into")
		}
		a.out.Printf("%s, channel %s: %s, %s\n", a.out.Style(term.Name, c.Name), c.Channel, fact.Count(n, "package", "packages"), state)
	}
}

// listed is a listing with the repository that it is of.
type listed struct {
	Repository string `json:"repository"`
	repo.Contents
}

func (a *program) listCommand() *cobra.Command {
	var channel string
	cmd := &cobra.Command{
		Use:   "list [REPO]",
		Short: "List what repositories hold",
		Long: `List the packages in a channel of a repository, for each target. REPO is the name of
a [repository.NAME] in ellwand.toml, a directory or an address; without it, all enabled
repositories of the workspace are listed, and how much the disabled ones hold.`,
		Example:           "  ellwand list\n  ellwand list local --channel stable",
		Args:              arguments(atMostOne),
		ValidArgsFunction: a.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			all, err := u.Repositories(strings.Join(args, ""), channel)
			if err != nil {
				return err
			}
			contents := []listed{}
			err = a.each(cmd.Context(), all, func(c app.Opened) error {
				found, err := c.List(cmd.Context(), c.Channel)
				for _, l := range found {
					contents = append(contents, listed{c.Name, l})
				}
				return err
			})
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(contents)
			}
			a.showContents(contents, len(all) > 1)
			if len(all) > 1 || all[0].Disabled {
				a.showConsulted(cmd.Context(), all)
			}
			return nil
		},
	}
	a.channelFlag(cmd, &channel)
	return cmd
}

// showContents shows a table for each target, with the packages of all
// repositories.
func (a *program) showContents(contents []listed, several bool) {
	var targets []string
	for _, l := range contents {
		if !slices.Contains(targets, l.Target) {
			targets = append(targets, l.Target)
		}
	}
	slices.Sort(targets)
	for _, target := range targets {
		type line struct {
			index.Record
			from string
		}
		var lines []line
		var bytes int64
		where := ""
		for _, l := range contents {
			if l.Target != target {
				continue
			}
			for _, rec := range l.Records {
				bytes += rec.Bytes
				lines = append(lines, line{rec, l.Repository})
			}
			where = fmt.Sprintf("%s, channel %s, serial %d", l.Repository, l.Channel, l.Serial)
		}
		slices.SortStableFunc(lines, func(x, y line) int {
			return cmp.Or(cmp.Compare(x.Name, y.Name), y.Full().Compare(x.Full()))
		})
		var rows [][]string
		for _, l := range lines {
			row := []string{a.out.Style(term.Name, l.Name), l.Full().String(), l.Arch, fmt.Sprintf("%9s", fact.Bytes(l.Bytes))}
			if several {
				row = append(row, l.from)
			}
			rows = append(rows, append(row, l.Summary))
		}
		head := []string{"package", "version", "arch", "     size"}
		if several {
			head, where = append(head, "repository"), "all enabled repositories"
		}
		a.out.Table(append(head, "summary"), rows)
		a.out.Printf("%s for %s in %s: %s\n", fact.Count(len(lines), "package", "packages"), target, where, fact.Bytes(bytes))
	}
}

// found is a hit with the repository that it is in.
type found struct {
	Repository string `json:"repository"`
	repo.Hit
}

func (a *program) searchCommand() *cobra.Command {
	var in, channel string
	cmd := &cobra.Command{
		Use:   "search WORD",
		Short: "Find packages in repositories",
		Long: `Find packages by a word in their names, summaries and provides; a word with a
slash is looked for among the paths of their files too. All enabled repositories of
the workspace are searched, or the one that --in names. Nothing found makes the exit
status 1.`,
		Example: `  ellwand search tide
  ellwand search pkgconfig/harmonic
  ellwand search /usr/bin/`,
		Args: arguments(exactlyOne("WORD")),
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			if strings.TrimSpace(args[0]) == "" {
				return usageError{fmt.Errorf("an empty word is in everything: `ellwand list` lists all packages")}
			}
			all, err := u.Repositories(in, channel)
			if err != nil {
				return err
			}
			hits := []found{}
			err = a.each(cmd.Context(), all, func(c app.Opened) error {
				some, err := c.Search(cmd.Context(), c.Channel, args[0])
				for _, h := range some {
					hits = append(hits, found{c.Name, h})
				}
				return err
			})
			if err != nil {
				return err
			}
			if a.json {
				if err := a.printJSON(hits); err != nil {
					return err
				}
			} else {
				if len(hits) == 0 {
					a.showNoHits(cmd.Context(), all, args[0])
				}
				a.showHits(hits, args[0], len(all) > 1)
				a.showConsulted(cmd.Context(), all)
			}
			if len(hits) == 0 {
				return statusError(statusFindings)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&in, "in", "", "the repository: a name in ellwand.toml, a directory or a URL (default: all enabled ones)")
	cmd.RegisterFlagCompletionFunc("in", a.completeRepositories)
	a.channelFlag(cmd, &channel)
	return cmd
}

// showNoHits says that nothing was found, and which package has a similar name.
func (a *program) showNoHits(ctx context.Context, all []app.Opened, word string) {
	a.err.Printf("no package has %q in its name, summary or what it provides", word)
	if !strings.Contains(word, "/") {
		a.err.Printf("; a word with a slash is searched among paths too")
	}
	a.err.Printf("\n")
	var names []string
	for _, o := range all {
		contents, err := o.List(ctx, o.Channel)
		if err != nil {
			continue // it was reported when it was searched
		}
		for _, c := range contents {
			for _, rec := range c.Records {
				names = append(names, rec.Name)
			}
		}
	}
	if near := fact.Nearest(word, names); near != "" {
		a.err.Printf("did you mean %q?\n", near)
	}
}

// maxShown is how many matching paths of a package are shown.
const maxShown = 5

func (a *program) showHits(hits []found, word string, several bool) {
	w := a.out
	if len(hits) == 0 {
		return
	}
	for _, h := range hits {
		from := ""
		if several {
			from = w.Style(term.Faint, "  "+h.Repository)
		}
		w.Printf("%s %s %s%s  %s\n", w.Style(term.Name, h.Record.Name), h.Record.Full(), w.Style(term.Faint, h.Record.Arch), from, h.Record.Summary)
		for i, t := range h.Text {
			if i == maxShown && !a.verbose {
				w.Printf("    … and %d more\n", len(h.Text)-i)
				break
			}
			w.Printf("    %s\n", fact.Visible(t))
		}
	}
	w.Printf("%s found\n", fact.Count(len(hits), "package", "packages"))
}
