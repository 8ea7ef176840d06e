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
	"ellwand.example/core/workspace"
)

func (a *program) publishCommand() *cobra.Command {
	var to, channel string
	var all, start bool
	var flags allowFlags
	cmd := &cobra.Command{
		Use:   "publish PACKAGE... | --all",
		Short: "Add packages to a repository in one atomic step",
		Long: `Verify packages and add them to a channel of a repository; without --channel, that is
"testing" or the configured one. REPO is the name of a [repository.NAME] in
ellwand.toml, a directory or a URL. A package is a file, or the name of one that this
workspace has built; a directory stands for all packages in it.

Readers see all of the packages or none. Publishing a package again changes nothing. A
damaged package is refused, and so is another file with the same identity: the exit
status is 3 then, and the others are published.

Lint checks the packages first. Findings of severity "error" prevent the publish; [lint]
refuse in ellwand.toml sets another severity.

Then the gate checks what the channel would become. Nothing is published, and the exit
status is 1, if a package would have an unmet dependency, if two packages would own a
path without declaring a conflict, or if a package would be downgraded. Packages that
are published together are checked together. --allow accepts a finding, with a reason.`,
		Example: `  ellwand publish packages/*/*.ell --to local
  ellwand publish --all --to local --channel stable
  ellwand publish tidegauge --allow ELL601:tidegauge --reason "rebuilt tonight"`,
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
				unbuilt, err := u.Unbuilt()
				if err != nil {
					return err
				}
				for _, recipe := range unbuilt {
					a.err.Printf("recipe %s has not been built, and is not published\n", recipe)
				}
			}
			files, err := u.ExpandPackages(args)
			if err != nil {
				return err
			}
			if all {
				var outdated []string
				if files, outdated, err = u.Current(files); err != nil {
					return err
				}
				for _, identity := range outdated {
					a.err.Printf("%s is older than its recipe, and is not published\n", identity)
				}
				if len(files) == 0 && len(outdated) > 0 {
					return errors.New("nothing to publish: `ellwand build --all` builds what is newer")
				}
			}
			allow, err := flags.exceptions(true)
			if err != nil {
				return err
			}
			report, err := u.Publish(cmd.Context(), o, files, app.PublishOptions{Start: start, Allow: allow})
			return a.finishReport(report, o.Name, err)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the repository: a name in ellwand.toml, a directory or a URL (default: the configured one)")
	cmd.Flags().BoolVar(&start, "new", false, "start a repository if there is none")
	cmd.Flags().BoolVar(&all, "all", false, "publish all packages that this workspace has built")
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
// command ends with. Where nothing was published, it reports the packages that
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
			w.Printf("  %s %s of %s, reason: %s\n", w.Style(term.Doubtful, "accepted"), x.Code, x.Package, x.Reason)
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

// explainRequirements lists what packages lack that a repository requires.
func (a *program) explainRequirements(e *app.RequirementError) {
	w := a.err
	w.Printf("%s\n", w.Style(term.Bad, fmt.Sprintf("refused: repository %s requires more; nothing was changed", e.Repository)))
	for _, m := range e.Missing {
		w.Printf("  %s  %s\n", w.Style(term.Name, m.Package), w.Wrapped(fact.Visible(m.Reason), len(m.Package)+4))
		switch {
		case m.Channel != "":
			w.Printf("      → `ellwand trial --channel %s` tries its packages together\n", m.Channel)
		case m.Requirement == workspace.RequireTrial:
			w.Printf("      → `ellwand trial %s`\n", m.Recipe)
		case m.Requirement == workspace.RequireCommitted:
			w.Printf("      → commit recipes/%s, and build it again: `ellwand build %s`\n", m.Recipe, m.Recipe)
		}
	}
}
