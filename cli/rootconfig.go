package cli

import (
	"fmt"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/root"
)

func (a *program) rootConfigCommand() *cobra.Command {
	var keep, restore bool
	cmd := &cobra.Command{
		Use:   "config DIR [PATH]",
		Short: "List edited configuration of a root, compare it and resolve it",
		Long: `List the configuration files of a root that differ from the defaults of their packages, and
those that have a new default beside them because an upgrade could not merge it.

With a PATH, print the difference from the package's default to the file. --keep keeps
the file and removes the new default beside it. --restore replaces the file with the
default.`,
		Example: `  ellwand root config stations
  ellwand root config stations /etc/tidegauge/tidegauge.conf --keep`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			switch {
			case len(args) == 0:
				return fmt.Errorf("missing argument: the directory of the root")
			case len(args) > 2:
				return fmt.Errorf("unexpected argument: %s", args[2])
			case len(args) == 1 && (keep || restore):
				return fmt.Errorf("--keep and --restore take the path of one file")
			case keep && restore:
				return fmt.Errorf("--keep and --restore exclude each other")
			}
			return nil
		}),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRoot(args[0], func(_ *app.App, r *root.Root) error {
				switch {
				case len(args) == 1:
					return a.listConfig(cmd, r)
				case keep:
					return a.resolveConfig(cmd, r, cleanRootPath(args[1]), root.ResolveMine, "is kept; a new default beside it was removed")
				case restore:
					return a.resolveConfig(cmd, r, cleanRootPath(args[1]), root.ResolveDefault, "has its package's default again")
				}
				return a.showConfig(cmd, r, cleanRootPath(args[1]))
			})
		},
	}
	cmd.Flags().BoolVar(&keep, "keep", false, "keep the file, and remove the new default beside it")
	cmd.Flags().BoolVar(&restore, "restore", false, "replace the file with its package's default")
	return cmd
}

func (a *program) listConfig(cmd *cobra.Command, r *root.Root) error {
	all, err := r.Config(cmd.Context())
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(append([]root.ConfigState{}, all...))
	}
	w := a.out
	var rows [][]string
	pending := ""
	for _, c := range all {
		what := "edited"
		switch {
		case c.Pending:
			what, pending = w.Style(term.Doubtful, "edited; a new default is beside it"), c.Path
		case c.Deleted:
			what = "deleted"
		case c.Removed:
			what = "edited; its package was removed"
		}
		rows = append(rows, []string{w.Style(term.Name, fact.Visible(c.Path)), c.Package, what})
	}
	if len(rows) == 0 {
		w.Printf("no configuration file of %s was edited\n", r.Dir)
		return nil
	}
	w.Table([]string{"file", "package", ""}, rows)
	if pending != "" {
		w.Printf("%s\n", w.Wrapped(fmt.Sprintf("`ellwand root config %s %s` shows the difference; --keep or --restore resolves it", r.Dir, pending), 0))
	}
	return nil
}

func (a *program) showConfig(cmd *cobra.Command, r *root.Root, p string) error {
	standard, current, missing, err := r.ConfigTexts(cmd.Context(), p)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"path": p, "default": string(standard), "current": string(current), "deleted": missing})
	}
	if missing {
		a.out.Printf("%s was deleted; `ellwand root config %s %s --restore` installs the default again\n", fact.Visible(p), r.Dir, p)
		return nil
	}
	text := udiff.Unified("default of the package", p, string(standard), string(current))
	if text == "" {
		a.out.Printf("%s is the default of its package\n", fact.Visible(p))
		return nil
	}
	contents := a.out.Contents()
	if _, err := contents.Write([]byte(text)); err != nil {
		return err
	}
	return contents.Close()
}

func (a *program) resolveConfig(cmd *cobra.Command, r *root.Root, p string, how root.Resolution, done string) error {
	if err := r.ResolveConfig(cmd.Context(), p, how); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"path": p, "resolution": how})
	}
	a.out.Printf("%s %s\n", a.out.Style(term.Name, fact.Visible(p)), done)
	return nil
}
