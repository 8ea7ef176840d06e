package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/root"
)

func (a *program) rootCreateCommand() *cobra.Command {
	var s app.RootSettings
	cmd := &cobra.Command{
		Use:   "create DIR",
		Short: "Make a directory a root",
		Long: `Make a directory a root, which packages can be installed into. The directory may have files
in it, such as an operating system; it is created if it does not exist.

In a workspace, the root is for its target, takes packages from its repositories, and is based on the
target's system: programs and libraries of that system are there without being in the
directory. --system chooses another directory for that; "none" means that the root has everything
itself, and is the default for a directory that has an operating system in it.`,
		Example: `  ellwand root create stations
  ellwand root create small --system none --without documentation,translation`,
		Args: rootArguments(-1, ""),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			s.Target = a.target
			r, err := u.CreateRoot(cmd.Context(), args[0], s)
			if err != nil {
				return err
			}
			defer r.Close()
			if a.json {
				return a.printJSON(r.Settings)
			}
			a.showRootSettings(r)
			a.out.Printf("\nnext: `ellwand root install %s PACKAGE...`\n", args[0])
			return nil
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&s.System, "system", "", "what the root is based on: none, host, or a `SYSTEM`: a directory or a root archive (default: the target's)")
	flags.StringSliceVar(&s.Repositories, "repository", nil, "where packages come from: a configured name, a path or a URL (default: all enabled ones)")
	flags.StringVar(&s.Channel, "channel", "", "the channel of each repository (default: the configured one, or testing)")
	flags.StringSliceVar(&s.Without, "without", nil, "kinds to leave out: documentation, translation, or translation=`LANGUAGE`")
	return cmd
}

func (a *program) showRootSettings(r *root.Root) {
	w := a.out
	s := r.Settings
	w.Printf("%s\n", w.Style(term.Name, r.Dir))
	w.Printf("  %-13s %s\n", "target", s.Target)
	system := map[string]string{root.SystemNone: "none: the root has everything itself", root.SystemHost: "this machine's"}[s.System]
	if system == "" {
		system = s.System
	}
	w.Printf("  %-13s %s\n", "system", system)
	for _, repository := range s.Repositories {
		w.Printf("  %-13s %s\n", "repository", w.Wrapped(fmt.Sprintf("%s, channel %s: %s", repository.Name, repository.Channel, repository.Address), 16))
	}
	if len(s.Repositories) == 0 {
		w.Printf("  %-13s none: packages come from files\n", "repository")
	}
	if len(s.Without) > 0 {
		w.Printf("  %-13s %s\n", "without", strings.Join(s.Without, ", "))
	}
}
