package app

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/image"
	"ellwand.example/core/oci"
)

// imageSuffixes end the names of files that an image may be in.
var imageSuffixes = []string{".oci.tar", ".tar", ".tar.gz", ".tar.zst"}

// IsImage reports whether a word names an image: an OCI layout, an archive of one or of all
// files, or one that the workspace describes, unless a recipe or a package has that name.
func (a *App) IsImage(word string) bool {
	if hasMarker(word) {
		return true
	}
	for _, suffix := range imageSuffixes {
		if info, err := os.Stat(word); strings.HasSuffix(word, suffix) && err == nil && info.Mode().IsRegular() {
			return true
		}
	}
	if a.Workspace == nil || strings.Contains(word, "/") || a.isRecipe(word) {
		return false
	}
	if file, _, err := a.BuiltPackage(word); err != nil || file != "" {
		return false
	}
	_, err := os.Lstat(filepath.Join(a.Workspace.Dir, image.Dir, word+image.DescriptionExtension))
	return err == nil
}

// ReadImage reads what is in an image that IsImage knows. Of one of the workspace, that is what
// was made last.
func (a *App) ReadImage(ctx context.Context, word string) (c *image.Contents, err error) {
	place, architecture := word, fact.GoArchitecture(a.machine())
	if info, err := os.Stat(word); err != nil || a.Workspace != nil && info.IsDir() && !hasMarker(word) {
		made, err := a.LastImage(word)
		if err != nil {
			return nil, err
		}
		if place = made.output(image.FormOCI); place == "" {
			place = made.output(image.FormArchive)
		}
		if place == "" {
			return nil, fact.Errorf(fact.StatusInput, "image %s is not there: it was not made yet, or was removed", word).Try(fact.MakeImage, word, "")
		}
	}
	if hasMarker(place) {
		layout, err := oci.Open(place)
		if err != nil {
			return nil, err
		}
		c, err = image.ReadLayout(ctx, layout, architecture)
		return c, errors.Join(wrongImage(word, err), layout.Close())
	}
	inside, err := os.MkdirTemp("", "ellwand-image-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, layer.RemoveAll(inside)) }()
	holds, err := image.HoldsLayout(ctx, place)
	if err != nil {
		return nil, wrongImage(word, err)
	}
	if !holds {
		c, err = image.ReadArchive(ctx, place)
		return c, wrongImage(word, err)
	}
	s, err := build.OpenSystem(ctx, inside, place, a.machine(), a.Progress)
	if err != nil {
		return nil, err
	}
	layout, err := oci.Open(s.Layout)
	if err != nil {
		return nil, err
	}
	c, err = image.ReadLayout(ctx, layout, architecture)
	return c, errors.Join(wrongImage(word, err), layout.Close())
}

func wrongImage(word string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	return fact.Errorf(fact.StatusInput, "%s: %w", word, err)
}

func hasMarker(dir string) bool {
	_, err := os.Lstat(filepath.Join(dir, oci.MarkerFile))
	return err == nil
}

// machine is the architecture that is meant where an image is for several.
func (a *App) machine() string {
	w, err := a.targetOf("")
	if err != nil {
		return ""
	}
	if w.Target.Arch == "" {
		w.UseTarget("")
	}
	return w.Target.Arch
}
