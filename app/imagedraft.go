package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/files"
	"ellwand.example/core/image"
	"ellwand.example/core/staging"
)

// DraftImage writes a first description of an image with some packages, and returns its file.
// Without a name, it is that of the first package.
func (a *App) DraftImage(ctx context.Context, name string, packages []string) (file string, err error) {
	t := image.Draft{Name: name}
	for _, word := range packages {
		n, err := need.Parse(word)
		if err != nil || n.Alternatives[0].Kind != need.Package {
			return "", fact.Errorf(fact.StatusUsage, "%q is not the name of a package, with or without a bound on its version", word)
		}
		t.Packages = append(t.Packages, n.String())
		if t.Name == "" {
			t.Name = n.Alternatives[0].Name
		}
		if err := a.describePackage(ctx, &t, n.Alternatives[0].Name); err != nil {
			return "", err
		}
	}
	if !need.ValidPackageName(t.Name) || t.Name == "list" {
		return "", fact.Errorf(fact.StatusUsage, "%q cannot be the name of an image", t.Name)
	}
	t.System = a.Workspace.On.System
	if t.System == "host" {
		t.System = ""
	}
	file = filepath.Join(a.Workspace.Dir, image.Dir, t.Name+image.DescriptionExtension)
	if _, err := os.Lstat(file); err == nil {
		return "", fact.Errorf(fact.StatusInput, "there is an image %s already: --name gives this one another name", t.Name)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return "", err
	}
	return file, files.Write(file, []byte(t.Text()))
}

// describePackage takes what a draft can use of a package: its summary, its first program and
// its account.
func (a *App) describePackage(ctx context.Context, t *image.Draft, name string) error {
	p, err := a.OpenPackage(ctx, name)
	var none *NotBuiltError
	if errors.As(err, &none) {
		return fmt.Errorf("an image cannot have it yet: %w", err)
	}
	if err != nil {
		return err
	}
	defer p.Close()
	if t.Summary == "" {
		t.Summary = p.Facts.Summary
	}
	entries, err := p.Layout()
	if err != nil {
		return err
	}
	if t.Program == "" {
		t.Program = firstProgram(entries, name)
	}
	if t.User == "" {
		for account := range p.Facts.Accounts {
			if t.User == "" || account < t.User {
				t.User = account
			}
		}
	}
	return nil
}

// firstProgram is the program that is called like its package, or else the first.
func firstProgram(entries []ell.Entry, name string) string {
	first := ""
	for _, e := range entries {
		dir, base := filepath.Split(e.Path)
		if e.Type == staging.Directory || !strings.HasSuffix(dir, "bin/") {
			continue
		}
		if base == name {
			return e.Path
		}
		if first == "" {
			first = e.Path
		}
	}
	return first
}
