package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

func (a *program) sourcesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "sources",
		Short: "List, verify and clear the source cache",
		Long: `List what the source cache contains, and which recipes pin it. All workspaces of a user
share one cache, in the user's cache directory; each file is stored once, under its
SHA-256 digest.`,
		Example: `  ellwand sources
  ellwand sources verify
  ellwand sources clear --dry-run`,
		Args: arguments(none),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, uses, err := a.openSources(cmd.Context())
			if err != nil {
				return err
			}
			all, err := s.List()
			if err != nil {
				return err
			}
			return a.showSources(s, all, uses)
		},
	}
	verify := &cobra.Command{
		Use:     "verify",
		Short:   "Read every file of the source cache and compare its digest",
		Long:    "Read every file of the source cache and compare its digest. A damaged file is\nremoved, so that the next fetch downloads it again; the exit status is then 1.",
		Example: "  ellwand sources verify",
		Args:    arguments(none),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, _, err := a.openSources(cmd.Context())
			if err != nil {
				return err
			}
			return a.verifySources(cmd, s)
		},
	}
	var dry bool
	clear := &cobra.Command{
		Use:   "clear",
		Short: "Remove what no recipe pins",
		Long: `Remove what no recipe pins, in any workspace that used the source cache, and the parts
of downloads that were not completed. Where a recipe cannot be read, nothing is
removed: what it pins is not known.`,
		Example: "  ellwand sources clear --dry-run",
		Args:    arguments(none),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, uses, err := a.openSources(cmd.Context())
			if err != nil {
				return err
			}
			return a.clearSources(s, uses, dry)
		},
	}
	clear.Flags().BoolVar(&dry, "dry-run", false, "show what would be removed, and remove nothing")
	cmd.AddCommand(verify, clear)
	return cmd
}

// sourceUse is what pins files of the source cache: recipes, by digest, and what of
// the workspaces cannot be read.
type sourceUse struct {
	recipes    map[string][]string
	unreadable []string
}

// openSources opens the source cache, and finds out who uses what of it.
func (a *program) openSources(ctx context.Context) (source.Cache, sourceUse, error) {
	uses := sourceUse{recipes: map[string][]string{}}
	here, err := a.openIfAny()
	if err != nil {
		return source.Cache{}, uses, err
	}
	fallback := ""
	if here != nil {
		fallback = here.State("sources")
		(&app.App{Workspace: here, Progress: a.progress}).Fetcher(ctx) // records that this workspace uses the cache
	}
	s := source.DefaultCache(fallback)
	if s.Dir == "" {
		return s, uses, errors.New("there is no cache directory for this user, and no workspace here: set HOME or XDG_CACHE_HOME")
	}
	for _, dir := range s.Workspaces() {
		w, err := workspace.Open(dir)
		if errors.Is(err, workspace.ErrGone) {
			continue
		}
		if err != nil {
			uses.unreadable = append(uses.unreadable, dir)
			continue
		}
		names, err := w.Recipes()
		if err != nil {
			return s, uses, err
		}
		for _, name := range names {
			r, err := w.Recipe(name)
			if err != nil {
				uses.unreadable = append(uses.unreadable, dir+": "+name)
				continue
			}
			for _, src := range r.Sources {
				digest := src.SHA256
				if src.Commit != "" {
					digest = s.CommitArchive(src.Commit).SHA256
				}
				uses.recipes[digest] = append(uses.recipes[digest], name)
			}
		}
	}
	return s, uses, nil
}

func (a *program) showSources(s source.Cache, all []source.Stored, uses sourceUse) error {
	type listed struct {
		source.Stored
		Recipes []string `json:"recipes"`
	}
	out := []listed{}
	var rows [][]string
	var total, idle int64
	for _, f := range all {
		by := uses.recipes[f.SHA256]
		out = append(out, listed{f, append([]string{}, by...)})
		total += f.Size
		who := strings.Join(by, ", ")
		if len(by) == 0 {
			idle += f.Size
			who = a.out.Style(term.Faint, "no recipe")
		}
		name := f.Name
		if name == "" {
			name = "?"
		}
		rows = append(rows, []string{a.out.Style(term.Name, name), fmt.Sprintf("%9s", fact.Bytes(f.Size)), f.SHA256[:12], who})
	}
	if a.json {
		return a.printJSON(map[string]any{"cache": s.Dir, "files": out})
	}
	if len(rows) > 0 {
		a.out.Table([]string{"source", "size", "sha256", "pinned by"}, rows)
	}
	a.out.Printf("%s, %s in %s\n", fact.Count(len(all), "file", "files"), fact.Bytes(total), s.Dir)
	if idle > 0 {
		a.out.Printf("`ellwand sources clear` would free %s\n", fact.Bytes(idle))
	}
	return nil
}

func (a *program) verifySources(cmd *cobra.Command, s source.Cache) error {
	all, err := s.List()
	if err != nil {
		return err
	}
	damaged := []source.Stored{}
	t := a.progress.Begin("verify", int64(len(all)), "files")
	for _, f := range all {
		if err := cmd.Context().Err(); err != nil {
			return err
		}
		var wrong *source.DigestError
		if err := s.Verify(cmd.Context(), f.SHA256); errors.As(err, &wrong) {
			damaged = append(damaged, f)
		} else if err != nil {
			return err
		}
		t.Advance(1)
	}
	t.End("done")
	if a.json {
		err = a.printJSON(map[string]any{"files": len(all), "damaged": damaged})
	} else {
		for _, f := range damaged {
			a.out.Printf("%s: %s\n", a.out.Style(term.Name, f.Name+" "+f.SHA256[:12]), a.out.Style(term.Bad, "damaged, and removed: `ellwand fetch` downloads it again"))
		}
		a.out.Printf("%s checked: %d intact, %d damaged\n", fact.Count(len(all), "file", "files"), len(all)-len(damaged), len(damaged))
	}
	if err == nil && len(damaged) > 0 {
		return statusError(statusFindings)
	}
	return err
}

func (a *program) clearSources(s source.Cache, uses sourceUse, dry bool) error {
	if len(uses.unreadable) > 0 {
		return fmt.Errorf("nothing is removed, since it is not known what these pin:\n  %s\nmend them, or remove their directories", strings.Join(uses.unreadable, "\n  "))
	}
	all, err := s.List()
	if err != nil {
		return err
	}
	removed := []source.Stored{}
	var freed int64
	for _, f := range all {
		if len(uses.recipes[f.SHA256]) > 0 {
			continue
		}
		if !dry {
			if err := s.Remove(f.SHA256); err != nil {
				return err
			}
		}
		removed = append(removed, f)
		freed += f.Size
	}
	if !dry {
		n, err := s.ClearPartial()
		if err != nil {
			return err
		}
		freed += n
	}
	if a.json {
		return a.printJSON(map[string]any{"removed": removed, "bytes": freed, "dry_run": dry})
	}
	for _, f := range removed {
		a.out.Printf("  %s  %s\n", a.out.Style(term.Name, f.Name), fact.Bytes(f.Size))
	}
	did := "removed, and"
	if dry {
		did = "would be removed, and"
	}
	a.out.Printf("%s %s %s freed; %d stay, which recipes pin\n", fact.Count(len(removed), "file", "files"), did, fact.Bytes(freed), len(all)-len(removed))
	return nil
}
