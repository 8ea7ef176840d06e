package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/site"
	"ellwand.example/core/repo/storage"
	"ellwand.example/core/workspace"
)

// Opened is a repository with what the configuration says of it.
type Opened struct {
	*repo.Repository
	Name     string // as in the configuration, or its path or URL
	Channel  string
	Disabled bool
	Priority int
}

// Repository opens a repository by its configured name, path or URL; without a
// name, the configured one. Without a channel, the configured one is used.
func (a *App) Repository(name, channel string) (Opened, error) {
	if name == "" {
		if a.Workspace == nil {
			return Opened{}, fact.Errorf(fact.StatusUsage, "no repository was named, and there is no workspace here that configures one")
		}
		var err error
		if name, err = a.Workspace.DefaultRepository(); err != nil {
			return Opened{}, err
		}
	}
	place, configured := a.Workspace.Repository(name)
	r, err := repo.OpenCached(place)
	if err != nil {
		return Opened{}, err
	}
	r.Pages = site.Renderer{}
	o := Opened{Repository: r, Name: name, Channel: cmp.Or(channel, configured)}
	if settings, ok := a.configured(name); ok {
		o.Disabled, o.Priority = !settings.IsEnabled(), settings.Priority
	}
	return o, nil
}

// Repositories opens the named repository, or all configured ones; without any,
// the error is that of Repository.
func (a *App) Repositories(name, channel string) ([]Opened, error) {
	if name != "" || a.Workspace == nil || len(a.Workspace.Settings.Repositories) == 0 {
		o, err := a.Repository(name, channel)
		o.Disabled = false // it was asked for by name
		return []Opened{o}, err
	}
	var out []Opened
	for _, name := range a.Workspace.RepositoryNames() {
		o, err := a.Repository(name, channel)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

func (a *App) configured(name string) (workspace.Repository, bool) {
	if a.Workspace == nil {
		return workspace.Repository{}, false
	}
	r, ok := a.Workspace.Settings.Repositories[name]
	return r, ok
}

// IsConfigured reports whether the configuration names a repository.
func (a *App) IsConfigured(name string) bool {
	_, ok := a.configured(name)
	return ok
}

// NoRepositoryError reports that there is no repository to publish to, at a place
// that the configuration does not name.
type NoRepositoryError struct {
	Place string // path or URL
	Name  string // as it was given
	Near  string // a configured name that is similar; may be empty
}

func (e *NoRepositoryError) Error() string {
	if e.Near != "" {
		return fmt.Sprintf("there is no repository at %s; did you mean %q?", e.Place, e.Near)
	}
	return "there is no repository at " + e.Place
}

// Action starts one.
func (e *NoRepositoryError) Action() fact.Action {
	return fact.Action{Verb: fact.StartRepository, Subject: e.Name}
}

// checkStarted returns a *NoRepositoryError if publishing would start a repository
// at a place that nobody configured: it may be a typing error.
func (a *App) checkStarted(ctx context.Context, o Opened) error {
	if dir, ok := o.Storage.LocalPath(); ok {
		if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
			return nil // publishing reports what it is, if it is not a repository
		}
	}
	_, err := o.Pointer(ctx)
	var none *storage.NotRepositoryError
	if !errors.As(err, &none) || a.IsConfigured(o.Name) {
		return nil // publishing reports other errors
	}
	e := &NoRepositoryError{Place: o.Storage.Where(), Name: o.Name}
	if a.Workspace != nil {
		e.Near = fact.Nearest(o.Name, slices.Collect(maps.Keys(a.Workspace.Settings.Repositories)))
	}
	return e
}

// Systems returns, for a target of the workspace, what reports whether its system
// meets a dependency; nil for targets whose system is unknown.
func (a *App) Systems(ctx context.Context) func(target string) func(solve.Need) bool {
	w := a.Workspace
	if w == nil {
		return nil
	}
	return func(target string) func(solve.Need) bool {
		on := *w
		if _, known := w.Settings.Targets[target]; !known && target != w.Target.Name {
			return nil
		}
		if err := on.UseTarget(target); err != nil {
			return nil
		}
		if target == w.Target.Name {
			on.On, on.Target = w.On, w.Target
		}
		root, err := build.System(ctx, &on, a.Progress)
		if err != nil {
			if !errors.Is(err, fs.ErrNotExist) || ctx.Err() == nil {
				a.Progress.Note(fmt.Sprintf("the system of %s is not checked: %v", target, err))
			}
			return nil
		}
		system := probe.OpenFor(root, on.Cross())
		return func(n solve.Need) bool {
			found, ok := system.Look(n.Need, n.Symbols)
			return ok && found.Enough
		}
	}
}
