package cli

import (
	"context"
	"fmt"
	"path"
	"strings"

	"ellwand.example/cli/term"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/layout"
)

// buildLayout runs the steps up to stage, and shows what was staged as a tree,
// with who claims each path.
func (a *program) buildLayout(ctx context.Context, b *build.Builder, all []*recipe.Recipe) error {
	shown := map[string][]layout.Owned{}
	for _, r := range all {
		staged, err := b.Staged(ctx, r, build.Options{})
		if err != nil {
			return err
		}
		owned := layout.Owners(r, staged)
		shown[r.Name] = owned
		if !a.json {
			a.showLayout(r, owned)
		}
	}
	if a.json {
		return a.printJSON(shown)
	}
	return nil
}

func (a *program) showLayout(r *recipe.Recipe, owned []layout.Owned) {
	w := a.out
	root := &branch{}
	type sum struct {
		files int
		bytes int64
	}
	sums := map[string]sum{}
	left := 0
	for _, o := range owned {
		root.add(o.Name, a.ownedLeaf(o))
		name := o.Package
		if o.State != layout.Claimed {
			name = o.State
		}
		if o.State == layout.LeftOver {
			left++
		}
		s := sums[name]
		sums[name] = sum{s.files + 1, s.bytes + o.Bytes}
	}
	w.Printf("%s %s, as staged\n", w.Style(term.Strong, r.Name), r.Full())
	var rows [][]string
	root.rows(w, 0, 2, &rows)
	w.Table([]string{"path", "     size", "kind", "package"}, rows)
	var parts []string
	for _, name := range append(r.PackageNames(), layout.Discarded, layout.LeftOver) {
		if s := sums[name]; s.files > 0 {
			parts = append(parts, fmt.Sprintf("%s: %s, %s", w.Style(ownerRole(name), name), fact.Count(s.files, "file", "files"), fact.Bytes(s.bytes)))
		}
	}
	w.Printf("%s\n", strings.Join(parts, "; "))
	if left > 0 {
		w.Printf("`ellwand build %s` proposes lines for what is left over\n", r.Name)
	}
}

func ownerRole(name string) term.Role {
	switch name {
	case layout.LeftOver:
		return term.Bad
	case layout.Discarded:
		return term.Faint
	}
	return term.Name
}

// ownedLeaf is a path of the tree, with who claims it.
func (a *program) ownedLeaf(o layout.Owned) leaf {
	w := a.out
	label := fact.Visible(path.Base(o.Name))
	if o.Link != "" {
		label += " -> " + fact.Visible(o.Link)
	}
	owner := w.Style(term.Name, o.Package)
	switch {
	case o.State != layout.Claimed:
		owner = w.Style(ownerRole(o.State), o.State)
		label = w.Style(ownerRole(o.State), label)
	case o.Line == 0:
		owner += w.Style(term.Faint, "  by default")
	}
	if o.Line > 0 {
		owner += w.Style(term.Faint, fmt.Sprintf("  line %d", o.Line))
	}
	return leaf{label: label, bytes: o.Bytes, cells: []string{o.Kind, owner}}
}
