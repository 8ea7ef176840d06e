package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo"
)

func (a *program) publishCommand() *cobra.Command {
	var to, channel string
	var all, start bool
	var flags allowFlags
	cmd := &cobra.Command{
		Use:   "publish PACKAGE... --to REPO",
		Short: "Add packages to a repository, in one atomic step",
		Long: `Verify packages and add them to a channel of a repository. REPO is the name of a
[repository.NAME] in ellwand.toml, a directory or an address; one that does not exist
yet is started. A directory given in place of a package stands for all packages in it.

Readers see all of the packages or none. A package that is there already is no
change; another file under the same identity is refused, and so is a damaged
one. Refused packages make the exit status 3; the others are published.

Lint looks at the packages first: errors keep them back ([lint] refuse in
ellwand.toml says how bad findings must be for that).

What the channel would become is judged then: nothing is published, and the exit
status is 1, if a package would be left without what it needs, if two would own one
path without saying so, or if one is older than what is there. What is published
together is judged together. --allow lets a finding pass, with a reason.`,
		Example: `  ellwand publish packages/*/*.ell --to local
  ellwand publish --all --to local --channel stable
  ellwand publish packages/*/*.ell --to local --allow ELL601:tidegauge --reason "built again tonight"`,
		Args: arguments(func(_ *cobra.Command, args []string) error {
			if all == (len(args) > 0) {
				return errors.New("name packages, or give --all")
			}
			return nil
		}),
		ValidArgsFunction: completePackages,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			o, err := u.Repository(to, channel)
			if err != nil {
				return err
			}
			if all {
				if u.Workspace == nil {
					return usageError{errors.New("--all publishes what a workspace has built, and there is no workspace here")}
				}
				args = []string{u.Workspace.AllPackages()}
			}
			files, err := app.ExpandPackages(args)
			if err != nil {
				return err
			}
			allow, err := flags.exceptions(true)
			if err != nil {
				return err
			}
			report, err := u.Publish(cmd.Context(), o, files, app.PublishOptions{Start: start, Allow: allow})
			return a.finishReport(report, o.Storage.Where(), err)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the repository: a name in ellwand.toml, a directory or an address (default: the configured one)")
	cmd.Flags().BoolVar(&start, "new", false, "start a repository where there is none")
	cmd.Flags().BoolVar(&all, "all", false, "all packages that this workspace has built")
	cmd.RegisterFlagCompletionFunc("to", a.completeRepositories)
	a.channelFlag(cmd, &channel)
	flags.add(cmd)
	return cmd
}

// completeChannels proposes the channels of the repository that the command
// line names so far.
func (a *program) completeChannels(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	name := ""
	for _, flag := range []string{"to", "in", "from"} {
		if f := cmd.Flags().Lookup(flag); f != nil {
			name = f.Value.String()
		}
	}
	if name == "" && cmd.Flags().Lookup("to") == nil && cmd.Name() != "retire" && len(args) > 0 {
		name = args[0]
	}
	u, err := a.appIfAny()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	r, err := u.Repository(name, "")
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	p, err := r.Pointer(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for name := range p.Channels {
		names = append(names, name)
	}
	slices.Sort(names)
	return names, cobra.ShellCompDirectiveNoFileComp
}

// finishReport shows what became of packages, and returns the error that the
// command ends with. Where nothing was published, it tells of the packages that
// could not have been anyway.
func (a *program) finishReport(r repo.Report, where string, err error) error {
	var pages *repo.PagesError // after the change was made
	if err != nil && !errors.As(err, &pages) {
		for _, o := range r.Outcomes {
			if o.State == repo.Refused {
				a.err.Printf("%s: %s\n", o.File, o.Reason)
			}
		}
		return err
	}
	if a.json {
		if err := a.printJSON(r); err != nil {
			return err
		}
	} else {
		a.showReport(r, where)
	}
	if err == nil && r.Count(repo.Refused) > 0 {
		return statusError(statusInput)
	}
	return err
}

func (a *program) showReport(r repo.Report, where string) {
	w := a.out
	roles := map[string]term.Role{repo.Added: term.Good, repo.Already: term.Faint, repo.Refused: term.Bad}
	for _, o := range r.Outcomes {
		name := o.Package
		if name == "" {
			name = o.File
		}
		w.Printf("  %s  %s\n", w.Style(roles[o.State], fmt.Sprintf("%-17s", o.State)), name)
		if o.Reason != "" {
			w.Printf("                     %s\n", o.Reason)
		}
	}
	for _, t := range r.Change.Targets {
		for _, x := range t.Allowed {
			w.Printf("  %s %s of %s, reason: %s\n", w.Style(term.Doubtful, "let pass"), x.Code, x.Package, x.Reason)
		}
		if t.Assumed > 0 {
			w.Printf("  %s\n", w.Style(term.Faint, fmt.Sprintf("%s left to the system of %s, which is not known here", fact.Count(t.Assumed, "need is", "needs are"), t.Target)))
		}
	}
	var parts []string
	for _, state := range []string{repo.Added, repo.Already, repo.Refused} {
		if n := r.Count(state); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	counted := strings.Join(parts, ", ")
	w.Printf("%s: %s\n", fact.Count(len(r.Outcomes), "package", "packages"), counted)
	switch {
	case r.Count(repo.Added) > 0:
		w.Printf("%s, channel %s, is at serial %d\n", where, r.Channel, r.Serial)
	case r.Count(repo.Refused) > 0 && r.Serial == 0:
		w.Printf("nothing was published\n")
	default:
		w.Printf("nothing changed: %s is at serial %d\n", strings.TrimSuffix(where, "/"), r.Serial)
	}
}
