package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/credential"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/workspace"
)

// IsPackageURL reports whether a word is the URL of a package.
func IsPackageURL(word string) bool {
	return strings.HasPrefix(word, "http://") || strings.HasPrefix(word, "https://")
}

// IsPackageFile reports whether a word names the file or URL of a package, and not
// a package by its name.
func IsPackageFile(word string) bool {
	info, err := os.Stat(word)
	return err == nil && !info.IsDir() || strings.HasSuffix(word, ell.Extension) || IsPackageURL(word)
}

// NotBuiltError reports that a recipe has no package yet.
type NotBuiltError struct{ Recipe string }

func (e *NotBuiltError) Error() string {
	return fmt.Sprintf("no package of %s has been built yet", e.Recipe)
}

// Action builds one.
func (e *NotBuiltError) Action() fact.Action {
	return fact.Action{Verb: fact.Build, Subject: e.Recipe}
}

// OpenPackage opens a package: a file; one on a server, by its URL; or one by its
// name, with or without @VERSION-RELEASE, that the workspace has built or that an
// enabled repository has.
func (a *App) OpenPackage(ctx context.Context, word string) (*ell.Package, error) {
	switch {
	case IsPackageURL(word):
		// The URL was typed and not configured: a login for all servers is not
		// meant for it.
		return ell.OpenURL(ctx, word, func(req *http.Request) error { return credential.Authorize(req, "") })
	case IsPackageFile(word):
		p, err := ell.Open(word)
		if errors.Is(err, os.ErrNotExist) {
			return nil, fact.Errorf(fact.StatusInput, "there is no file %s", word)
		}
		return p, err
	case a.Workspace == nil:
		return nil, fmt.Errorf("there is no file %s, and no workspace here that could have built a package of this name", word)
	}
	file, names, err := a.BuiltPackage(word)
	if err != nil {
		return nil, err
	}
	if file != "" {
		return ell.Open(file)
	}
	if p, err := a.PublishedPackage(ctx, word); err != nil || p != nil {
		return p, err
	}
	recipes, err := a.Workspace.Recipes()
	if err != nil {
		return nil, err
	}
	if slices.Contains(recipes, word) {
		return nil, &NotBuiltError{word}
	}
	if near := fact.Nearest(word, append(names, recipes...)); near != "" {
		return nil, fmt.Errorf("there is no package %q; did you mean %q?", word, near)
	}
	return nil, fmt.Errorf("there is no file and no package %q in this workspace", word)
}

// BuiltPackage finds the newest package of a name, or the one of
// NAME@VERSION-RELEASE, that the workspace has built; file is empty if there is
// none. It returns the names of all built packages too.
func (a *App) BuiltPackage(word string) (file string, names []string, err error) {
	entries, err := os.ReadDir(a.Workspace.Packages())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", nil, err
	}
	var best ell.Facts
	for _, e := range entries {
		name, full, arch, ok := ell.ParseFileName(e.Name())
		if !ok {
			continue
		}
		names = append(names, name)
		if word != name && word != name+"@"+full && word != name+"@"+full+"."+arch {
			continue
		}
		path := filepath.Join(a.Workspace.Packages(), e.Name())
		p, err := ell.Open(path)
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

// PublishedPackage opens the newest package of a name, or the one of
// NAME@VERSION-RELEASE, in the enabled repositories, in the order of their
// priority; nil if none has it.
func (a *App) PublishedPackage(ctx context.Context, word string) (*ell.Package, error) {
	if len(a.Workspace.Settings.Repositories) == 0 {
		return nil, nil
	}
	all, err := a.Repositories("", "")
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(all, func(x, y Opened) int { return y.Priority - x.Priority })
	for _, o := range all {
		if o.Disabled {
			continue
		}
		contents, err := o.List(ctx, o.Channel)
		if err != nil {
			if ctx.Err() != nil {
				return nil, err
			}
			continue // nothing was published yet, or it cannot be read
		}
		for _, c := range contents {
			for _, rec := range c.Records { // the newest of a name comes first
				if rec.Name == word || rec.Name+"@"+rec.Full().String() == word {
					return o.Package(ctx, rec)
				}
			}
		}
	}
	return nil, nil
}

// Package opens a package of the repository after checking that it is the one in
// the index.
func (o Opened) Package(ctx context.Context, rec index.Record) (*ell.Package, error) {
	return o.Repository.Package(ctx, rec, filepath.Join(o.Cache, "packages"))
}

// PackageFiles lists the package files in a directory, or in the directories of
// targets in it if it has none itself. Paths are relative to the current
// directory, if they are below it.
func PackageFiles(dir string) ([]string, error) {
	files, dirs, err := packageFiles(dir)
	if err != nil || len(files) > 0 {
		return files, err
	}
	for _, below := range dirs {
		inside, _, err := packageFiles(below)
		if err != nil {
			return nil, err
		}
		files = append(files, inside...)
	}
	return files, nil
}

func packageFiles(dir string) (files, dirs []string, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, nil, err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		if e.IsDir() {
			dirs = append(dirs, path)
		} else if _, _, _, ok := ell.ParseFileName(e.Name()); ok {
			files = append(files, workspace.Display(path))
		}
	}
	return files, dirs, nil
}

// ExpandPackages replaces directories by the package files in them, and names by
// the newest packages of these names that the workspace has built.
func (a *App) ExpandPackages(args []string) ([]string, error) {
	var files []string
	for _, arg := range args {
		info, err := os.Stat(arg)
		if err != nil && a.Workspace != nil && !IsPackageFile(arg) && !strings.ContainsAny(arg, "/*") {
			file, _, err := a.BuiltPackage(arg)
			if err != nil {
				return nil, err
			}
			if file == "" && a.isRecipe(arg) {
				return nil, &NotBuiltError{arg}
			}
			if file != "" {
				files = append(files, workspace.Display(file))
				continue
			}
		}
		if err != nil || !info.IsDir() {
			files = append(files, arg)
			continue
		}
		inside, err := PackageFiles(arg)
		if err != nil {
			return nil, err
		}
		if len(inside) == 0 {
			return nil, fact.Errorf(fact.StatusInput, "there are no packages in %s", arg).Try(fact.Build, "", "")
		}
		files = append(files, inside...)
	}
	return files, nil
}

// Unbuilt lists recipes without a package of their present version, as NAME VERSION.
// Recipes with errors are left out: building them reports the errors.
func (a *App) Unbuilt() ([]string, error) {
	names, err := a.Workspace.Recipes()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, name := range names {
		r, err := a.Workspace.Recipe(name)
		if err == nil && len(a.packagesOf(r, nil)) == 0 {
			out = append(out, name+" "+r.Full())
		}
	}
	return out, nil
}

// newestFiles keeps the newest package of each name, and files that cannot be
// read: opening them reports why.
func newestFiles(files []string) []string {
	type newest struct {
		file string
		ell.Facts
	}
	best := map[string]newest{}
	var keep []string
	for _, file := range files {
		p, err := ell.Open(file)
		if err != nil {
			keep = append(keep, file)
			continue
		}
		p.Close()
		if have, ok := best[p.Facts.Name]; !ok || have.Full().Compare(p.Facts.Full()) < 0 {
			best[p.Facts.Name] = newest{file, p.Facts}
		}
	}
	for n := range maps.Values(best) {
		keep = append(keep, n.file)
	}
	return slices.DeleteFunc(slices.Clone(files), func(file string) bool { return !slices.Contains(keep, file) })
}

// Current divides package files into those of the version and release that their recipes are
// at, or that no recipe of the workspace makes, and the identities of older ones. Files that
// are no packages stay, for whoever opens them to report.
func (a *App) Current(paths []string) (current, older []string, err error) {
	at := map[string]version.Full{}
	names, err := a.Workspace.Recipes()
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		if r, err := a.Workspace.Recipe(name); err == nil {
			at[name] = version.Full{Epoch: r.Epoch, Version: r.Version, Release: r.Release}
		}
	}
	for _, file := range paths {
		p, err := ell.Open(file)
		if err != nil {
			current = append(current, file)
			continue
		}
		full, ok := at[p.Facts.Recipe]
		if ok && p.Facts.Full().Compare(full) < 0 {
			older = append(older, p.Facts.Identity())
		} else {
			current = append(current, file)
		}
		p.Close()
	}
	return current, older, nil
}
