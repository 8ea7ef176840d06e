package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/image"
	"ellwand.example/core/root"
)

// imageView is what is shown of an image: everything in short, if it is empty.
type imageView struct {
	files, tree, sizes bool
	picture            string
}

// showImage shows an image that was made.
func (a *program) showImage(ctx context.Context, u *app.App, word string, v imageView) error {
	c, err := u.ReadImage(ctx, word)
	if err != nil {
		return err
	}
	m := measured{word, "image", c.Bytes, c.Compressed}
	switch {
	case v.picture != "":
		return a.drawSizes(m, c.Entries, v.picture)
	case v.sizes:
		return a.showSizes(m, c.Entries)
	case v.tree:
		a.showTree(m, c.Entries)
		return nil
	case a.json && v.files:
		return a.printJSON(c.Entries)
	case a.json:
		return a.printJSON(c)
	case v.files:
		a.showFiles(c.Entries)
		return nil
	}
	w := a.out
	w.Printf("%s\n\n", w.Style(term.Strong, word))
	field := func(name, value string) {
		if value != "" {
			w.Printf("  %s %s\n", w.Style(term.Faint, fmt.Sprintf("%-11s", name)), w.Wrapped(fact.Visible(value), 14))
		}
	}
	if c.Digest != "" {
		field("digest", "sha256:"+c.Digest)
	}
	if c.Config != nil {
		run := c.Config.Config
		field("for", c.Config.OS+", "+c.Config.Architecture)
		field("runs", strings.Join(append(slices.Clone(run.Entrypoint), run.Cmd...), " "))
		field("as", run.User)
		field("in", run.WorkingDir)
		field("ports", strings.Join(sortedNames(run.ExposedPorts), ", "))
		for i, variable := range run.Env {
			field([]string{"environment", ""}[min(i, 1)], variable)
		}
	}
	field("holds", fmt.Sprintf("%s in %s", fact.Bytes(c.Bytes), fact.Count(len(c.Entries), "path", "paths")))
	a.showImagePackages(c)
	if len(c.Layers) > 0 {
		w.Printf("\n")
		var rows [][]string
		for i, l := range c.Layers {
			rows = append(rows, []string{fmt.Sprint(i + 1), fmt.Sprintf("%10s", fact.Bytes(l.Size)), l.Digest.Encoded()[:12], w.Style(term.Faint, fact.Visible(layerTitle(c, i)))})
		}
		w.Table([]string{"layer", "      size", "digest", ""}, rows)
	}
	return nil
}

// layerTitle is what the history of an image says of a layer.
func layerTitle(c *image.Contents, i int) string {
	n := -1
	for _, h := range c.Config.History {
		if !h.EmptyLayer {
			n++
		}
		if n == i {
			return strings.TrimPrefix(h.CreatedBy, image.CreatedBy)
		}
	}
	return ""
}

func sortedNames[V any](m map[string]V) []string {
	var out []string
	for name := range m {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// showImagePackages lists the packages of an image, the largest first.
func (a *program) showImagePackages(c *image.Contents) {
	w := a.out
	packages := slices.Clone(c.Packages)
	size := func(p root.Installed) int64 {
		if rec := c.Records[p.Name]; rec != nil {
			return rec.Facts.Size
		}
		return 0
	}
	slices.SortStableFunc(packages, func(a, b root.Installed) int { return int(size(b) - size(a)) })
	var rows [][]string
	for _, p := range packages {
		why := "needed by another package"
		if p.Asked {
			why = "asked for"
		}
		rows = append(rows, []string{w.Style(term.Name, p.Name), p.Full().String(), fmt.Sprintf("%10s", fact.Bytes(size(p))), w.Style(term.Faint, why)})
	}
	if len(rows) > 0 {
		w.Printf("\n")
		w.Table([]string{"package", "version", "      size", ""}, rows)
	}
}

// compareImages compares the packages of two images, their files and what they run.
func (a *program) compareImages(ctx context.Context, u *app.App, args []string) (bool, error) {
	var sides [2]*image.Contents
	for i, arg := range args {
		var err error
		if sides[i], err = u.ReadImage(ctx, arg); err != nil {
			return false, err
		}
	}
	d := image.Compare(sides[0], sides[1])
	if a.json {
		return d.Differ(), a.printJSON(d)
	}
	w := a.out
	if !d.Differ() {
		w.Printf("%s and %s hold the same\n", args[0], args[1])
		return false, nil
	}
	w.Printf("%s → %s\n", w.Style(term.Strong, args[0]), w.Style(term.Strong, args[1]))
	a.showRootChanges(d.Packages)
	a.showChanges(d.Config)
	if n := len(d.Layers.New); n > 0 {
		w.Printf("\n%s  %d of %d new, %s to fetch\n", w.Style(term.Name, "layers"), n, d.Layers.All, fact.Bytes(d.Layers.Bytes))
	}
	a.showPaths(d)
	return true, nil
}

// showPaths lists the paths that differ between two images.
func (a *program) showPaths(d image.Comparison) {
	w := a.out
	counts := map[string]int{}
	for _, p := range d.Paths {
		counts[p.State]++
	}
	if len(d.Paths) == 0 {
		return
	}
	w.Printf("\n%s  %d added, %d gone, %d changed, %d the same; %s → %s\n", w.Style(term.Name, "files"), counts[image.PathAdded], counts[image.PathGone], counts[image.PathChanged], d.Same, fact.Bytes(d.Bytes[0]), fact.Bytes(d.Bytes[1]))
	signs := map[string]string{image.PathAdded: w.Style(term.Good, "+"), image.PathGone: w.Style(term.Bad, "-"), image.PathChanged: "~"}
	for i, p := range d.Paths {
		if i == fewLines && !a.verbose {
			w.Printf("  … and %d more; -v shows them\n", len(d.Paths)-i)
			return
		}
		w.Printf("  %s %s  %s\n", signs[p.State], fact.Visible(p.Path), w.Style(term.Faint, p.Package))
	}
}
