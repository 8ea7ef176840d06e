// Package app holds the use cases: what a user asks for, made of calls to the core.
// Every front end goes through it, so that each applies the same rules. It never
// prints, and knows neither flags nor terminals.
package app

import (
	"context"

	"ellwand.example/core/progress"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

// App runs use cases in one workspace.
type App struct {
	Workspace *workspace.Workspace // nil outside of a workspace
	Progress  progress.Sink
}

// Fetcher returns what fetches the sources of the workspace's recipes. The cache
// is told about the workspace, so that clearing it keeps what the recipes pin.
func (a *App) Fetcher(ctx context.Context) *source.Fetcher {
	f := source.NewFetcher(source.DefaultCache(a.Workspace.State("sources")), a.Progress)
	f.Team.URL = a.Workspace.Settings.Sources.URL
	if err := f.Cache.Enlist(ctx, a.Workspace.Dir); err != nil && ctx.Err() == nil {
		a.Progress.Note("the source cache cannot record that this workspace uses it: " + err.Error())
	}
	return f
}
