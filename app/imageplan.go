package app

import (
	"slices"

	"ellwand.example/core/image"
	"ellwand.example/core/plan"
	"ellwand.example/core/recipe"
)

// AddImages notes, for recipes that are planned, the images of the workspace that have a package
// of them for its target.
func (a *App) AddImages(planned []plan.Planned, recipes []*recipe.Recipe) error {
	names, err := a.Images()
	if err != nil {
		return err
	}
	users := map[string][]string{} // images, by the names of packages
	for _, name := range names {
		lock, err := image.ReadLock(a.Workspace.Dir, name)
		if err != nil {
			return err
		}
		for _, p := range lock.Targets[a.Workspace.Target.Name].Packages {
			users[p.Name] = append(users[p.Name], name)
		}
	}
	for i := range planned {
		at := slices.IndexFunc(recipes, func(r *recipe.Recipe) bool { return r.Name == planned[i].Recipe })
		if at < 0 {
			continue
		}
		for _, pkg := range recipes[at].PackageNames() {
			planned[i].Images = append(planned[i].Images, users[pkg]...)
		}
		planned[i].Images = unique(planned[i].Images)
	}
	return nil
}
