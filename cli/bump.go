package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/bump"
	"ellwand.example/core/fact"
	"ellwand.example/core/workspace"
)

func (a *program) bumpCommand() *cobra.Command {
	var release, check, all, fresh bool
	var messages []string
	cmd := &cobra.Command{
		Use:   "bump RECIPE VERSION",
		Short: "Move a recipe to a new upstream version",
		Long: `Move a recipe to a new upstream version: set the version, reset the release to 1,
fetch and pin the new sources, and add a changelog entry. Comments, order and spacing
of the recipe are kept. Then list what to check: patches and rewrites that no longer
apply, license files that changed, and what was added or removed at the top of the
source. Modules of languages are fetched anew.

With --check, nothing is changed: upstream is asked for newer versions of the named
recipes, or with --all of every recipe. It is asked where [upstream] of the recipe says, or
else where its sources are from: for the tags of the git repository, or the page that
lists the directory of the archive. Answers are kept for six hours.`,
		Example: `  ellwand bump libharmonic 2.0.0 -m "A soname of its own"
  ellwand bump --check --all
  ellwand bump tidegauge --release -m "Built with the new library"`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if check {
				if all == (len(args) > 0) {
					return errors.New("with --check, bump takes recipes, or --all")
				}
				return nil
			}
			if all || fresh {
				return errors.New("--all and --fresh belong to --check")
			}
			if release && len(args) == 1 || !release && len(args) == 2 {
				return nil
			}
			if release {
				return errors.New("with --release, bump takes a recipe alone")
			}
			return errors.New("bump takes a recipe and a version")
		}),
		ValidArgsFunction: a.completeRecipes,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open()
			if err != nil {
				return err
			}
			if check {
				return a.checkUpstream(cmd.Context(), w, args, fresh)
			}
			r, err := w.Recipe(app.RecipeName(args[0]))
			if err != nil {
				return err
			}
			sources := (&app.App{Workspace: w, Progress: a.progress}).Sources(cmd.Context(), app.Namespaces)
			b := &bump.Bumper{Cache: sources.Cache, Fetch: sources.Fetch, Progress: a.progress, Target: w.Target, Temp: w.State()}
			var report bump.Report
			if release {
				report, err = b.Release(r, author(), messages)
			} else {
				report, err = b.Version(cmd.Context(), r, args[1], author(), messages)
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(report)
			}
			a.showBump(report, r.Doc.File)
			return nil
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "ask upstream for newer versions")
	cmd.Flags().BoolVar(&all, "all", false, "with --check: of every recipe")
	cmd.Flags().BoolVar(&fresh, "fresh", false, "with --check: ask again, whatever was answered before")
	cmd.Flags().BoolVar(&release, "release", false, "raise the release only")
	cmd.Flags().StringArrayVarP(&messages, "message", "m", nil, "what is new, for the changelog entry; may be repeated")
	return cmd
}

// answersKept is how long upstream's answers are taken for current.
const answersKept = 6 * time.Hour

// checkUpstream shows which recipes upstream has newer versions of.
func (a *program) checkUpstream(ctx context.Context, w *workspace.Workspace, names []string, fresh bool) error {
	all, err := recipes(w, names)
	if err != nil {
		return err
	}
	if err := w.MakeState(); err != nil {
		return err
	}
	c := &bump.Checker{Registries: w.Settings.Sources.Registries, Cache: w.State("upstream"), Fresh: answersKept}
	if fresh {
		c.Fresh = 0
	}
	results := []bump.Checked{}
	var rows [][]string
	failed := 0
	t := a.progress.Begin("ask upstream", int64(len(all)), "recipes")
	for _, r := range all {
		found, err := c.Check(ctx, r)
		if ctx.Err() != nil {
			t.End("interrupted")
			return context.Cause(ctx)
		}
		t.Advance(1)
		state := a.out.Style(term.Faint, "is the newest")
		switch {
		case errors.Is(err, bump.ErrNoPlace):
			found.Error = err.Error()
			state = a.out.Style(term.Faint, found.Error)
		case err != nil:
			found.Error = err.Error()
			first, _, _ := strings.Cut(found.Error, "\n")
			state = a.out.Style(term.Bad, fact.Visible(first))
			failed++
		case found.Newest != "":
			state = a.out.Style(term.Good, fact.Visible(found.Newest))
			if n := len(found.Newer); n > 1 {
				state += a.out.Style(term.Faint, fmt.Sprintf(", and %d between", n-1))
			}
		}
		results = append(results, found)
		rows = append(rows, []string{r.Name, r.Version, state})
	}
	t.End("done")
	if a.json {
		err = a.printJSON(results)
	} else {
		a.out.Table([]string{"recipe", "version", "upstream"}, rows)
		if i := slices.IndexFunc(results, func(c bump.Checked) bool { return c.Newest != "" }); i >= 0 {
			a.out.Printf("next: `ellwand bump %s %s`\n", results[i].Recipe, fact.Visible(results[i].Newest))
		}
	}
	if err == nil && failed > 0 {
		err = statusError(statusMachine)
	}
	return err
}

// author is who makes the change: as git knows it, or nobody.
func author() string {
	name, address := os.Getenv("GIT_AUTHOR_NAME"), os.Getenv("GIT_AUTHOR_EMAIL")
	for key, value := range map[string]*string{"user.name": &name, "user.email": &address} {
		if *value == "" {
			if out, err := exec.Command("git", "config", key).Output(); err == nil {
				*value = strings.TrimSpace(string(out))
			}
		}
	}
	switch {
	case name == "":
		return ""
	case address == "":
		return name
	}
	return name + " <" + address + ">"
}

func (a *program) showBump(r bump.Report, file string) {
	w := a.out
	w.Printf("%s %s → %s\n", w.Style(term.Strong, r.Recipe), r.From, w.Style(term.Good, r.To))
	for _, f := range r.Fetched {
		w.Printf("  pinned %s, %s\n", f.Name, fact.Bytes(f.Size))
	}
	for _, u := range r.Unfit {
		what := "does not apply to this source"
		if u.Applied {
			what = "is in this source already: remove it"
		}
		w.Printf("  %s  %s %s\n", w.Style(term.Strong, fmt.Sprintf("%s:%d", file, u.Line)), u.What, w.Style(term.Bad, what))
		if !u.Applied {
			for line := range strings.SplitSeq(u.Reason, "\n") {
				w.Printf("    %s %s\n", w.Style(term.Faint, "|"), line)
			}
		}
	}
	list := func(what string, names []string) {
		if len(names) > 0 {
			w.Printf("  %s %s\n", w.Style(term.Doubtful, what+":"), strings.Join(names, ", "))
		}
	}
	list("the license texts differ", r.Licenses)
	list("new at the top of the source", r.Added)
	list("gone from it", r.Gone)
	list("the build files ask for", r.NewNeeds)
	list("and no longer for", r.OldNeeds)
	for _, s := range r.NewFlags {
		list("new options of configure", []string{s})
	}
	for _, s := range r.OldFlags {
		list("and no longer", []string{s})
	}
	if len(r.Fetched) > 0 && !r.Compared {
		w.Printf("  the old source is not in the source cache, so nothing could be compared\n")
	}
	w.Printf("%s is edited; next: `ellwand build %s`\n", file, r.Recipe)
}
