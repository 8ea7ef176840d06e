package draft

import (
	"context"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/recipe"
)

// maxWatched is up to how long the steps of a build may take for it to be done again under
// watch.
const maxWatched = 3 * time.Minute

// notNeeds are commands that builds run and do well without, and those that a compiler comes
// with.
var notNeeds = map[string]bool{
	"git": true, "hg": true, "svn": true, "install-info": true, "update-desktop-database": true, "gtk-update-icon-cache": true, "ldconfig": true, "ccache": true,
	"as": true, "ld": true, "ar": true, "nm": true, "ranlib": true, "strip": true, "objcopy": true, "objdump": true, "readelf": true, "cpp": true, "gcc": true, "g++": true, "c++": true, "cc": true,
	"fakeroot": true, "file": true, "arch": true,
}

// watched builds once more and watches what the steps run: commands that no need declares
// become needs, so that the recipe builds on systems that have less than this one. The
// result is the last build's, or the one before if this one failed.
func (t *Trials) watched(ctx context.Context, res build.Result) (build.Result, error) {
	var took float64
	for _, s := range res.Steps {
		took += s.Seconds
	}
	if !t.Builder.Runner.OwnFileSystem() || time.Duration(took*float64(time.Second)) > maxWatched {
		return res, nil
	}
	r, err := t.Builder.Workspace.Recipe(t.Facts.Name)
	if err != nil {
		return res, err
	}
	again, err := t.Builder.Build(ctx, r, build.Options{Needs: true, Tests: testTime})
	if ctx.Err() != nil {
		return res, err
	}
	if err != nil || again.Needs == nil {
		return res, nil // it was built before, and that counts
	}
	if !t.learnCommands(again.Needs) {
		return again, nil
	}
	if err := t.Write(); err != nil {
		return again, err
	}
	if r, err = t.Builder.Workspace.Recipe(t.Facts.Name); err != nil {
		return again, err
	}
	final, err := t.Builder.Build(ctx, r, build.Options{})
	if err == nil && final.State == build.Repacked {
		final.State, final.Steps = again.State, again.Steps
	}
	return final, err
}

// learnCommands adds commands that the build, or the tests alone, ran, and drops those that
// nothing ran.
func (t *Trials) learnCommands(report *build.NeedsReport) (learned bool) {
	f := t.Facts
	before := len(f.Build)
	f.Build = slices.DeleteFunc(f.Build, func(n string) bool {
		return strings.HasPrefix(n, need.Command+"/") && slices.Contains(report.Unused, n)
	})
	learned = len(f.Build) != before
	for _, u := range report.Undeclared {
		name, ok := strings.CutPrefix(u.Need, need.Command+"/")
		if !ok || notNeeds[name] || strings.Contains(name, "-linux-gnu") || slices.Contains(f.Build, u.Need) || slices.Contains(f.Test, u.Need) {
			continue
		}
		switch {
		case slices.Contains(u.Steps, recipe.Build) || slices.Contains(u.Steps, recipe.Stage):
			f.Build = append(f.Build, u.Need)
		case slices.Contains(u.Steps, recipe.Test):
			f.Test = append(f.Test, u.Need)
		default:
			continue // a configuration looks for much that it can do without
		}
		learned = true
	}
	slices.Sort(f.Build)
	slices.Sort(f.Test)
	return learned
}
