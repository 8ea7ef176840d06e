package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/root"
)

func (a *program) rootChooseCommand() *cobra.Command {
	var byPriority bool
	cmd := &cobra.Command{
		Use:   "choose DIR [LINK [PACKAGE]]",
		Short: "List or make choices between packages that offer one path",
		Long: `List the links of a root that several packages can offer a path for, such as two versions of one
command, with the package that each leads to. With a LINK and a PACKAGE (/usr/bin/tide tide2), make the link lead to
that package's path; upgrades keep to it while the package is installed. --by-priority leaves the
link to the priorities again, which packages declare.`,
		Example: `  ellwand root choose stations`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			switch {
			case len(args) == 0:
				return fmt.Errorf("missing argument: the directory of the root")
			case len(args) > 3:
				return fmt.Errorf("unexpected argument: %s", args[3])
			case byPriority && len(args) != 2:
				return fmt.Errorf("--by-priority takes the LINK of one choice, and no PACKAGE")
			case !byPriority && len(args) == 2:
				return fmt.Errorf("missing argument: the PACKAGE that %s is to lead to, or --by-priority", args[1])
			}
			return nil
		}),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRoot(args[0], func(u *app.App, r *root.Root) error {
				switch {
				case len(args) == 1:
					return a.showChoices(r)
				case byPriority:
					return a.choose(cmd.Context(), u, r, args[0], args[1], "")
				}
				return a.choose(cmd.Context(), u, r, args[0], args[1], args[2])
			})
		},
	}
	cmd.Flags().BoolVar(&byPriority, "by-priority", false, "leave the link to the priorities of the packages")
	return cmd
}

func (a *program) choose(ctx context.Context, u *app.App, r *root.Root, dir, link, name string) error {
	result, err := u.ChooseInRoot(ctx, r, cleanRootPath(link), name)
	if result.Recovered != nil && !a.json {
		a.showRecovery(result.Recovered)
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(result)
	}
	if result.Plan.IsEmpty() {
		a.out.Printf("%s leads there already\n", link)
		return nil
	}
	a.showRootPlan(dir, result.Plan, result.Entry)
	return nil
}

func (a *program) showChoices(r *root.Root) error {
	all, err := r.Choices()
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(append([]root.Choice{}, all...))
	}
	w := a.out
	if len(all) == 0 {
		w.Printf("no package in %s offers a choice\n", r.Dir)
		return nil
	}
	var rows [][]string
	for _, c := range all {
		for _, o := range c.Offers {
			state := ""
			if o.Package == c.Package {
				state = w.Style(term.Good, "chosen by priority")
				if c.Fixed {
					state = w.Style(term.Good, "chosen by you")
				}
			}
			rows = append(rows, []string{c.Link, o.Package, o.Path, fmt.Sprintf("%8d", o.Priority), state})
		}
	}
	w.Table([]string{"link", "package", "path", "priority", ""}, rows)
	return nil
}
