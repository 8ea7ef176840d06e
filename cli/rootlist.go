package cli

import (
	"errors"
	"fmt"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/root"
)

var errToNeedsOne = errors.New("--to takes one package")

func (a *program) rootListCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "list DIR",
		Short: "List the packages in a root",
		Long: `List the packages in a root with their versions, and whether each was asked for or came with
another. -v prints the settings of the root as well.`,
		Example:           `  ellwand root list stations`,
		Args:              rootArguments(-1, ""),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.listRoot(args[0], a.verbose)
		},
	}
	return cmd
}

// showRoot shows the settings of a root, and its packages.
func (a *program) showRoot(dir string) error { return a.listRoot(dir, true) }

func (a *program) listRoot(dir string, settings bool) error {
	return a.withRoot(dir, func(_ *app.App, r *root.Root) error {
		s, err := r.State()
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(struct {
				root.Settings
				Packages []root.Installed `json:"packages"`
			}{r.Settings, s.Packages})
		}
		if settings {
			a.showRootSettings(r)
			a.out.Printf("\n")
		}
		var rows [][]string
		for _, p := range s.Packages {
			why := "needed by another package"
			if p.Asked {
				why = "asked for"
			}
			rows = append(rows, []string{a.out.Style(term.Name, p.Name), p.Full().String(), a.out.Style(term.Faint, why)})
		}
		if len(rows) > 0 {
			a.out.Table([]string{"package", "version", ""}, rows)
		}
		a.out.Printf("%s in %s\n", fact.Count(len(rows), "package", "packages"), dir)
		return nil
	})
}

func (a *program) rootOwnerCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "owner DIR PATH...",
		Short: "Tell which package of a root a path belongs to",
		Long: `Tell which package of a root each PATH belongs to. A PATH is one of the root, such as
/usr/bin/tidegauge, and may lead through symbolic links of the root. A directory may belong to several
packages. The exit status is 1 if no package has one of the paths.`,
		Example: `  ellwand root owner stations /usr/bin/tidegauge`,
		Args:    rootArguments(1, "a path"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRoot(args[0], func(_ *app.App, r *root.Root) error {
				type owner struct {
					Path     string   `json:"path"`
					Packages []string `json:"packages"`
				}
				var all []owner
				missing := false
				for _, p := range args[1:] {
					names, err := r.Owner(cleanRootPath(p))
					if err != nil {
						return err
					}
					missing = missing || len(names) == 0
					all = append(all, owner{cleanRootPath(p), append([]string{}, names...)})
				}
				if a.json {
					if err := a.printJSON(all); err != nil {
						return err
					}
				} else {
					for _, o := range all {
						text := strings.Join(o.Packages, ", ")
						if text == "" {
							text = a.out.Style(term.Faint, "no package")
						}
						a.out.Printf("%s  %s\n", a.out.Style(term.Name, fact.Visible(o.Path)), text)
					}
				}
				if missing {
					return statusError(statusFindings)
				}
				return nil
			})
		},
	}
	return cmd
}

// cleanRootPath makes a typed path one of a root.
func cleanRootPath(p string) string {
	return path.Clean("/" + p)
}

func (a *program) rootVerifyCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "verify DIR [PACKAGE...]",
		Short: "Compare a root with what was installed",
		Long: `Compare every file, link and directory of the packages in a root with what was installed:
contents, mode, owner, target. Configuration may be edited; everything else that differs is
a finding, and the exit status 1. Scripts that failed and databases that could not be refreshed are
listed too.`,
		Example:           `  ellwand root verify stations`,
		Args:              rootArguments(0, ""),
		ValidArgsFunction: completeInstalled,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withRoot(args[0], func(u *app.App, r *root.Root) error {
				v, err := u.VerifyRoot(cmd.Context(), r, args[1:])
				if err != nil {
					return err
				}
				if a.json {
					err = a.printJSON(v)
				} else {
					a.showVerification(args[0], v)
				}
				if err == nil && !v.Whole() {
					return statusError(statusFindings)
				}
				return err
			})
		},
	}
	return cmd
}

func (a *program) showVerification(dir string, v root.Verification) {
	w := a.out
	edited := 0
	for _, d := range v.Deviations {
		role := term.Bad
		if d.Edited {
			edited++
			role = term.Faint
			d.Message = "configuration, edited"
		}
		w.Printf("%s  %s\n    %s\n", w.Style(term.Name, fact.Visible(d.Path)), w.Style(term.Faint, d.Package), w.Style(role, w.Wrapped(fact.Visible(d.Message), 4)))
	}
	if v.Unfinished {
		w.Printf("%s\n", w.Style(term.Bad, w.Wrapped(fmt.Sprintf("a change was interrupted: `ellwand root finish %s` finishes or undoes it", dir), 0)))
	}
	for _, s := range v.Pending {
		w.Printf("%s\n", w.Style(term.Bad, w.Wrapped(fmt.Sprintf("the %s script of %s failed: `ellwand root finish %s` runs it again", s.Script, s.Package, dir), 0)))
	}
	if len(v.NotRefreshed) > 0 {
		w.Printf("%s\n", w.Wrapped(w.Style(term.Doubtful, "not refreshed: ")+"the root does not have "+strings.Join(v.NotRefreshed, ", "), 0))
	}
	if v.Whole() {
		text := fmt.Sprintf("no damage found: %s of %s", fact.Count(v.Paths, "path", "paths"), fact.Count(v.Packages, "package", "packages"))
		if edited > 0 {
			text += fmt.Sprintf(", %s edited", fact.Count(edited, "configuration file", "configuration files"))
		}
		w.Printf("%s\n", w.Style(term.Good, text))
		return
	}
	if n := len(v.Deviations) - edited; n > 0 {
		w.Printf("%s; `ellwand root install %s PACKAGE --rewrite` writes the files of a package again\n", fact.Count(n, "path differs", "paths differ"), dir)
	}
}
