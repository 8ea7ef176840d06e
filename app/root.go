package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/root"
	"ellwand.example/core/workspace"
)

// RootSettings say what a new root is like. What is empty is the workspace's.
type RootSettings struct {
	Target string
	// System is what the root is based on: root.SystemNone, root.SystemHost, or a
	// directory. If it is empty, that of the target; for a root that has a system of its
	// own already, none.
	System       string
	Repositories []string // configured names, paths or URLs
	Channel      string   // of each; if it is empty, the configured one
	Without      []string
}

// CreateRoot makes a directory a root. Packages of the workspace's target can be
// installed into it, from the repositories that the workspace configures.
func (a *App) CreateRoot(ctx context.Context, dir string, s RootSettings) (*root.Root, error) {
	if err := root.CheckWithout(s.Without); err != nil {
		return nil, err
	}
	w, err := a.targetOf(s.Target)
	if err != nil {
		return nil, err
	}
	settings := root.Settings{Target: w.Target.Name, Arch: w.Target.Arch, Without: s.Without}
	if settings.System, err = a.systemOf(ctx, w, dir, s.System); err != nil {
		return nil, err
	}
	if settings.Repositories, err = a.rootRepositories(s.Repositories, s.Channel); err != nil {
		return nil, err
	}
	return root.Create(dir, settings)
}

// rootRepositories are what packages of a root come from: the repositories that are named, or
// those that the workspace has enabled.
func (a *App) rootRepositories(names []string, channel string) (out []root.Repository, err error) {
	if len(names) == 0 && a.Workspace != nil {
		for _, name := range a.Workspace.RepositoryNames() {
			if r, _ := a.configured(name); r.IsEnabled() {
				names = append(names, name)
			}
		}
	}
	for _, name := range names {
		place, usual := a.Workspace.Repository(name)
		if !fact.IsRemote(place) {
			if place, err = filepath.Abs(fact.LocalPath(place)); err != nil {
				return nil, err
			}
		}
		configured, _ := a.configured(name)
		out = append(out, root.Repository{Name: name, Address: place, Channel: cmp.Or(channel, usual), Priority: configured.Priority})
	}
	return out, nil
}

// targetOf returns a workspace with a target: its own, or an empty one.
func (a *App) targetOf(target string) (*workspace.Workspace, error) {
	w := workspace.Workspace{}
	if a.Workspace != nil {
		w = *a.Workspace
		if target == "" {
			return &w, nil
		}
		return &w, w.ChooseTarget(target)
	}
	return &w, w.UseTarget(target)
}

// systemOf finds what a new root is based on.
func (a *App) systemOf(ctx context.Context, w *workspace.Workspace, dir, word string) (string, error) {
	switch {
	case word == root.SystemNone, word == root.SystemHost:
		return word, nil
	case word != "":
		info, err := os.Stat(word)
		if errors.Is(err, fs.ErrNotExist) {
			return "", fact.Errorf(fact.StatusInput, "there is no system %s; it is none, host, a directory or a root archive", word)
		}
		if err != nil {
			return "", err
		}
		cache, err := os.UserCacheDir()
		if err != nil {
			return "", err
		}
		dir, err := build.SystemDirectory(ctx, filepath.Join(cache, "ellwand", "systems"), word, w.Target.Arch, a.Progress)
		if err != nil {
			return "", err
		}
		if !info.IsDir() && !hasSystem(dir) {
			return "", fact.Errorf(fact.StatusInput, "%s has no /bin/sh: it is not the archive of a root", word)
		}
		return filepath.Abs(dir)
	case hasSystem(dir):
		return root.SystemNone, nil
	case a.Workspace == nil || !w.RunsHere():
		return root.SystemNone, nil
	}
	system, err := build.System(ctx, w, a.Progress)
	return cmp.Or(system, root.SystemHost), err
}

// hasSystem reports whether a directory has an operating system in it.
func hasSystem(dir string) bool {
	for _, shell := range []string{"bin/sh", "usr/bin/sh"} {
		if _, err := os.Lstat(filepath.Join(dir, shell)); err == nil {
			return true
		}
	}
	return false
}

// RootChange is what to change in a root.
type RootChange struct {
	Action  string
	Install []string // names, NAME@VERSION-RELEASE, files or URLs
	Upgrade []string // names; nothing for all, if UpgradeAll is set
	// UpgradeAll asks for the newest version of everything.
	UpgradeAll bool
	Remove     []string
	// Rewind is the serial of the history to go back to: 0 for no packages at all, nil
	// for no rewind.
	Rewind *int64
	Adopt  []string
	// WithDependents also removes packages that need what is removed.
	WithDependents bool
	Suggestions    bool // install what the packages suggest, too
	Rewrite        bool // write files again that have not changed
	Plan           bool // do not change anything
}

// RootChanged is the result of a change.
type RootChanged struct {
	Plan      *root.Plan     `json:"plan"`
	Recovered *root.Recovery `json:"recovered,omitempty"`
	Entry     *root.Entry    `json:"entry,omitempty"` // nil if nothing was changed
}

// DependentsError reports packages that would have to go with those that are to be
// removed.
type DependentsError struct {
	Remove, Dependents []string
}

func (e *DependentsError) Error() string {
	return fmt.Sprintf("%s %s %s", strings.Join(e.Dependents, ", "), verb(len(e.Dependents), "depends on", "depend on"), strings.Join(e.Remove, ", "))
}

// Status is that of findings.
func (e *DependentsError) Status() fact.Status { return fact.StatusFindings }

func verb(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// ChangeRoot solves and plans a change of a root, and does it unless only the plan is
// wanted. Errors are *solve.NoAnswerError, *DependentsError, *SymbolsError and those of
// root.Transaction.
func (a *App) ChangeRoot(ctx context.Context, r *root.Root, c RootChange) (result RootChanged, err error) {
	runner, err := a.rootRunner(r)
	if err != nil {
		return result, err
	}
	defer runner.Close()
	tx, err := r.Begin(ctx, root.Options{Runner: runner, Progress: a.Progress})
	if err != nil {
		return result, err
	}
	defer tx.Close()
	result.Recovered = tx.Recovered
	supply, err := a.openSupply(ctx, r, tx.State(), c)
	if err != nil {
		return result, err
	}
	defer supply.Close()
	request, err := supply.request(ctx, c)
	if err != nil {
		return result, err
	}
	request.Action, request.Adopt, request.Rewrite = c.Action, c.Adopt, c.Rewrite
	if result.Plan, err = tx.Plan(ctx, request); err != nil || c.Plan {
		return result, err
	}
	if len(result.Plan.Problems) > 0 {
		return result, &root.UnfitError{Problems: result.Plan.Problems}
	}
	if result.Plan.IsEmpty() {
		return result, nil
	}
	if err := supply.keep(ctx); err != nil {
		return result, err
	}
	result.Entry, err = tx.Apply(ctx, result.Plan)
	return result, err
}

// ChooseInRoot makes the link of a choice lead to a package's path; an empty name leaves it
// to the priorities.
func (a *App) ChooseInRoot(ctx context.Context, r *root.Root, link, name string) (result RootChanged, err error) {
	if err := r.Choose(ctx, link, name); err != nil {
		return result, err
	}
	return a.ChangeRoot(ctx, r, RootChange{Action: "choose"})
}

// FinishRoot undoes or finishes a transaction that was interrupted, and runs scripts again
// that failed.
func (a *App) FinishRoot(ctx context.Context, r *root.Root) (recovered *root.Recovery, ran []root.ScriptCall, err error) {
	runner, err := a.rootRunner(r)
	if err != nil {
		return nil, nil, err
	}
	defer runner.Close()
	tx, err := r.Begin(ctx, root.Options{Runner: runner, Progress: a.Progress})
	if err != nil {
		return nil, nil, err
	}
	defer tx.Close()
	ran, err = tx.RunPending(ctx)
	return tx.Recovered, ran, err
}

// VerifyRoot compares a root with what was installed.
func (a *App) VerifyRoot(ctx context.Context, r *root.Root, names []string) (root.Verification, error) {
	dirs := []string{r.Dir}
	if system := r.Settings.SystemDir(); system != "" {
		dirs = append(dirs, system)
	}
	has := func(program string) bool {
		for _, dir := range dirs {
			for _, bin := range []string{"usr/bin", "usr/sbin", "bin", "sbin"} {
				if _, err := os.Lstat(filepath.Join(dir, bin, program)); err == nil {
					return true
				}
			}
		}
		return false
	}
	return r.Verify(ctx, names, has, a.Progress)
}

func unique(words []string) []string {
	slices.Sort(words)
	return slices.Compact(words)
}
