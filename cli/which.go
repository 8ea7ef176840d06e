package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/credential"
	"ellwand.example/core/fact"
	"ellwand.example/core/pack"
	"ellwand.example/core/repo"
	"ellwand.example/core/workspace"
)

// remotePackage tells whether a word is the address of a package.
func remotePackage(word string) bool {
	return strings.HasPrefix(word, "http://") || strings.HasPrefix(word, "https://")
}

// packageFile tells whether a word names a package's file or address, rather
// than a package by its name.
func packageFile(word string) bool {
	info, err := os.Stat(word)
	return err == nil && !info.IsDir() || strings.HasSuffix(word, pack.Extension) || remotePackage(word)
}

// openPackage opens a package: a file, one on a server, or one of this
// workspace by its name, with or without a version.
func (a *program) openPackage(ctx context.Context, arg string) (*pack.Package, error) {
	switch {
	case remotePackage(arg):
		// What is typed is no repository that somebody set up: its login is not
		// for every address.
		return pack.OpenURL(ctx, arg, func(req *http.Request) error { return credential.Authorize(req, "") })
	case packageFile(arg):
		return pack.Open(arg)
	}
	w, err := a.openIfAny()
	if err != nil {
		return nil, err
	}
	if w == nil {
		return nil, fmt.Errorf("there is no file %s, and no workspace here whose packages could be meant", arg)
	}
	file, names, err := builtPackage(w, arg)
	if err != nil {
		return nil, err
	}
	if file != "" {
		return pack.Open(file)
	}
	if p, err := a.publishedPackage(ctx, w, arg); err != nil || p != nil {
		return p, err
	}
	recipes, _ := w.Recipes()
	near := fact.Nearest(arg, append(names, recipes...))
	switch {
	case slices.Contains(recipes, arg):
		return nil, &notBuiltError{arg}
	case near != "":
		return nil, fmt.Errorf("there is no package %q; did you mean %q?", arg, near)
	}
	return nil, fmt.Errorf("there is no file and no package %q in this workspace", arg)
}

// notBuiltError is a recipe of which there is no package.
type notBuiltError struct{ recipe string }

func (e *notBuiltError) Error() string {
	return fmt.Sprintf("no package of %s has been built yet: `ellwand build %s`", e.recipe, e.recipe)
}

// builtPackage finds the newest package that the workspace has made of a
// name, or the one of NAME@VERSION-RELEASE; the file is empty if there is
// none. It lists the names of all.
func builtPackage(w *workspace.Workspace, word string) (file string, names []string, err error) {
	entries, err := os.ReadDir(w.Packages())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", nil, err
	}
	var best pack.Facts
	for _, e := range entries {
		name, full, arch, ok := pack.ParseFileName(e.Name())
		if !ok {
			continue
		}
		names = append(names, name)
		if word != name && word != name+"@"+full && word != name+"@"+full+"."+arch {
			continue
		}
		path := filepath.Join(w.Packages(), e.Name())
		p, err := pack.Open(path)
		if err != nil {
			return "", nil, err
		}
		p.Close()
		if file == "" || best.Full().Compare(p.Facts.Full()) < 0 {
			file, best = path, p.Facts
		}
	}
	return file, names, nil
}

// publishedPackage opens the newest package of a name in the workspace's
// enabled repositories, if one has it; the one of a higher priority first.
func (a *program) publishedPackage(ctx context.Context, w *workspace.Workspace, word string) (*pack.Package, error) {
	if len(w.Settings.Repositories) == 0 {
		return nil, nil
	}
	all, err := a.consult(w, "", "")
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(all, func(x, y consulted) int {
		return cmp.Compare(w.Settings.Repositories[y.name].Priority, w.Settings.Repositories[x.name].Priority)
	})
	for _, c := range all {
		if c.disabled {
			continue
		}
		contents, err := c.List(ctx, c.channel)
		if err != nil {
			continue // nothing has been published yet, or it cannot be read
		}
		for _, l := range contents {
			for _, rec := range l.Records { // the newest of a name comes first
				if rec.Name == word || rec.Name+"@"+rec.Full().String() == word {
					return a.openPublished(ctx, c.Repository, rec)
				}
			}
		}
	}
	return nil, nil
}

// openPublished opens a package in a repository, which is the one that the
// index names, or an error.
func (a *program) openPublished(ctx context.Context, r *repo.Repository, rec repo.Record) (*pack.Package, error) {
	return r.Package(ctx, rec, filepath.Join(r.Cache, "packages"))
}
