package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/advisory"
	"ellwand.example/core/bom"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/httpclient"
	"ellwand.example/core/image"
)

// AffectedPackage is a package that an advisory is about, or a module or source of which
// packages were built.
type AffectedPackage struct {
	advisory.Match
	Packages []string `json:"packages"` // identities of those that have it
	Recipes  []string `json:"recipes"`
	Images   []string `json:"images,omitempty"` // of the workspace, whose locks have one of the packages
}

// Bounds on advisories that are downloaded.
const (
	maxAdvisories   = 2 << 30 // bytes
	advisoriesStall = 30 * time.Second
)

// Advisories tells which packages of a channel, and which images of the workspace, are
// affected by the advisories in a directory, a file, or at a URL. Searched is how many
// advisories there are.
func (a *App) Advisories(ctx context.Context, o Opened, place string) (found []AffectedPackage, searched int, err error) {
	if fact.IsRemote(place) {
		file, remove, err := a.downloadAdvisories(ctx, place)
		if err != nil {
			return nil, 0, err
		}
		defer remove()
		place = file
	}
	task := a.Progress.Begin("advisories", 0, "")
	set, err := advisory.Load(ctx, place)
	task.End("done")
	if err != nil {
		return nil, 0, err
	}
	bill, err := a.billOfChannel(ctx, o.Name, o.Channel)
	if err != nil {
		return nil, 0, err
	}
	uses := map[advisory.Component]*AffectedPackage{}
	var components []advisory.Component
	use := func(c advisory.Component) *AffectedPackage {
		if uses[c] == nil {
			uses[c] = &AffectedPackage{}
			components = append(components, c)
		}
		return uses[c]
	}
	for _, p := range bill.Packages {
		for _, c := range p.Components() {
			one := use(c)
			one.Packages, one.Recipes = append(one.Packages, p.Facts.Identity()), append(one.Recipes, p.Facts.Recipe)
		}
	}
	if err := a.useImages(bill, use); err != nil {
		return nil, 0, err
	}
	found = []AffectedPackage{}
	for _, m := range set.Match(components) {
		one := *uses[m.Component]
		one.Match = m
		one.Packages, one.Recipes, one.Images = unique(one.Packages), unique(one.Recipes), unique(one.Images)
		found = append(found, one)
	}
	// A package and its recipe may be found under one name.
	slices.SortStableFunc(found, func(x, y AffectedPackage) int {
		return cmp.Or(strings.Compare(x.Advisory, y.Advisory), strings.Compare(x.Component.Name, y.Component.Name))
	})
	return found, set.Count, nil
}

// useImages notes the images of the workspace by what is in them: all that is known of a
// package that the channel has, and otherwise its name and version.
func (a *App) useImages(bill *bom.Bill, use func(advisory.Component) *AffectedPackage) error {
	if a.Workspace == nil {
		return nil
	}
	published := map[string]bom.Package{}
	for _, p := range bill.Packages {
		published[p.SHA256] = p
	}
	names, err := a.Images()
	if err != nil {
		return err
	}
	for _, name := range names {
		lock, err := image.ReadLock(a.Workspace.Dir, name)
		if err != nil {
			return err
		}
		for _, t := range lock.Targets {
			for _, l := range t.Packages {
				p, ok := published[l.SHA256]
				if !ok {
					p = bom.Package{Facts: ell.Facts{Name: l.Name, Recipe: l.Name, Version: l.Version}}
				}
				for _, c := range p.Components() {
					one := use(c)
					one.Packages, one.Images = append(one.Packages, l.Identity()), append(one.Images, name)
				}
			}
		}
	}
	return nil
}

// downloadAdvisories downloads a file or an archive of advisories.
func (a *App) downloadAdvisories(ctx context.Context, address string) (file string, remove func(), err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", nil, fact.Errorf(fact.StatusUsage, "%w", err)
	}
	response, err := httpclient.Do(request, advisoriesStall)
	if err != nil {
		return "", nil, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return "", nil, fact.Errorf(fact.StatusInput, "%s: %s", address, response.Status)
	}
	f, err := os.CreateTemp("", "ellwand-advisories-*"+path.Ext(request.URL.Path))
	if err != nil {
		return "", nil, err
	}
	_, err = io.Copy(f, httpclient.Limit(response.Body, address, maxAdvisories))
	if err = errors.Join(err, f.Close()); err != nil {
		return "", nil, errors.Join(fmt.Errorf("%s: %w", address, err), os.Remove(f.Name()))
	}
	return f.Name(), func() { os.Remove(f.Name()) }, nil
}
