package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
	"ellwand.example/term"
)

func (a *app) storeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "store",
		Short: "List, check and clear the store of sources",
		Long: `List what the store of sources holds, and which recipes pin it. All workspaces
of a user share one store, under the user's cache folder; a file is in it once,
by its SHA-256 digest.`,
		Example: `  ellwand store
  ellwand store verify
  ellwand store clear --dry-run`,
		Args: arguments(none),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, uses, err := a.openStore(cmd.Context())
			if err != nil {
				return err
			}
			all, err := s.List()
			if err != nil {
				return err
			}
			return a.showStore(s, all, uses)
		},
	}
	verify := &cobra.Command{
		Use:     "verify",
		Short:   "Read every file of the store and compare its digest",
		Long:    "Read every file of the store and compare its digest. A file that is not what it was\nis removed, so that the next fetch brings it anew; the exit status is then 1.",
		Example: "  ellwand store verify",
		Args:    arguments(none),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, _, err := a.openStore(cmd.Context())
			if err != nil {
				return err
			}
			return a.verifyStore(cmd, s)
		},
	}
	var dry bool
	clear := &cobra.Command{
		Use:   "clear",
		Short: "Remove what no recipe pins",
		Long: `Remove what no recipe pins, in any workspace that used the store, and the parts
of downloads that were not completed. Where a recipe cannot be read, nothing is
removed: what it pins is not known.`,
		Example: "  ellwand store clear --dry-run",
		Args:    arguments(none),
		RunE: func(*cobra.Command, []string) error {
			s, uses, err := a.openStore(cmd.Context())
			if err != nil {
				return err
			}
			return a.clearStore(s, uses, dry)
		},
	}
	clear.Flags().BoolVar(&dry, "dry-run", false, "say what would be removed, and remove nothing")
	cmd.AddCommand(verify, clear)
	return cmd
}

// storeUse is what pins files of the store: recipes, by digest, and what of
// the workspaces cannot be read.
type storeUse struct {
	recipes    map[string][]string
	unreadable []string
}

// openStore opens the store, and finds out who uses what of it.
func (a *app) openStore(ctx context.Context) (source.Store, storeUse, error) {
	uses := storeUse{recipes: map[string][]string{}}
	here, err := a.openIfAny()
	if err != nil {
		return source.Store{}, uses, err
	}
	fallback := ""
	if here != nil {
		fallback = here.State("sources")
		a.fetcher(ctx, here) // which makes the store know of this workspace
	}
	s := source.DefaultStore(fallback)
	if s.Dir == "" {
		return s, uses, errors.New("there is no cache folder for this user, and no workspace here: set HOME or XDG_CACHE_HOME")
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

func (a *app) showStore(s source.Store, all []source.Stored, uses storeUse) error {
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
		rows = append(rows, []string{a.out.Style(term.Name, name), fmt.Sprintf("%9s", term.Bytes(f.Size)), f.SHA256[:12], who})
	}
	if a.json {
		return a.printJSON(map[string]any{"store": s.Dir, "files": out})
	}
	if len(rows) > 0 {
		a.out.Table([]string{"source", "size", "sha256", "pinned by"}, rows)
	}
	a.out.Printf("%s, %s in %s\n", term.Count(len(all), "file", "files"), term.Bytes(total), s.Dir)
	if idle > 0 {
		a.out.Printf("`ellwand store clear` would free %s\n", term.Bytes(idle))
	}
	return nil
}

func (a *app) verifyStore(cmd *cobra.Command, s source.Store) error {
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
			a.out.Printf("%s: %s\n", a.out.Style(term.Name, f.Name+" "+f.SHA256[:12]), a.out.Style(term.Bad, "it is not what it was, and is removed: `ellwand fetch` brings it anew"))
		}
		a.out.Printf("%s looked at: %d whole, %d damaged\n", term.Count(len(all), "file", "files"), len(all)-len(damaged), len(damaged))
	}
	if err == nil && len(damaged) > 0 {
		return statusError(statusFindings)
	}
	return err
}

func (a *app) clearStore(s source.Store, uses storeUse, dry bool) error {
	if len(uses.unreadable) > 0 {
		return fmt.Errorf("nothing is removed, since it is not known what these pin:\n  %s\nmend them, or remove their folders", strings.Join(uses.unreadable, "\n  "))
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
		a.out.Printf("  %s  %s\n", a.out.Style(term.Name, f.Name), term.Bytes(f.Size))
	}
	did := "removed, and"
	if dry {
		did = "would be removed, and"
	}
	a.out.Printf("%s %s %s freed; %d stay, which recipes pin\n", term.Count(len(removed), "file", "files"), did, term.Bytes(freed), len(all)-len(removed))
	return nil
}
