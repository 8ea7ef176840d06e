package app

import (
	"context"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
)

// Sources fetches the sources of recipes, modules of languages included: those take a sandbox,
// which is made ready for the first of them.
type Sources struct {
	Cache source.Cache

	app       *App
	fetcher   *source.Fetcher
	isolation Isolation
	builder   *build.Builder
}

// Sources returns what fetches the sources of the workspace's recipes.
func (a *App) Sources(ctx context.Context, isolation Isolation) *Sources {
	f := a.Fetcher(ctx)
	return &Sources{Cache: f.Cache, app: a, fetcher: f, isolation: isolation}
}

// Fetch fetches source number i of a recipe into the cache. Errors are those of
// source.Fetcher.Fetch and of App.Builder, and *build.ModulesError.
func (s *Sources) Fetch(ctx context.Context, r *recipe.Recipe, i int) (source.Fetched, error) {
	if r.Sources[i].Modules == "" {
		return s.fetcher.Fetch(ctx, r, i)
	}
	if s.builder == nil {
		b, err := s.app.Builder(ctx, s.isolation)
		if err != nil {
			return source.Fetched{}, err
		}
		s.builder = b
	}
	return s.builder.FetchSource(ctx, r, i)
}
