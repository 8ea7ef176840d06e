package cli

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/build"
	"ellwand.example/core/layout"
	"ellwand.example/core/recipe"
	"ellwand.example/term"
)

// buildLayout runs the steps up to stage, and shows what was staged as a tree,
// with who claims each path.
func (a *app) buildLayout(ctx context.Context, b *build.Builder, all []*recipe.Recipe) error {
	shown := map[string][]layout.Owned{}
	for _, r := range all {
		staged, err := b.Staged(ctx, r)
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

// branch is a folder of the tree that is shown.
type branch struct {
	name     string
	branches map[string]*branch
	leaves   []layout.Owned
	bytes    int64
	files    int
}

func (b *branch) add(o layout.Owned, dirs []string) {
	b.bytes += o.Bytes
	b.files++
	if len(dirs) == 0 {
		b.leaves = append(b.leaves, o)
		return
	}
	if b.branches == nil {
		b.branches = map[string]*branch{}
	}
	next := b.branches[dirs[0]]
	if next == nil {
		next = &branch{name: dirs[0]}
		b.branches[dirs[0]] = next
	}
	next.add(o, dirs[1:])
}

func (a *app) showLayout(r *recipe.Recipe, owned []layout.Owned) {
	w := a.out
	root := &branch{}
	type sum struct {
		files int
		bytes int64
	}
	sums := map[string]sum{}
	left := 0
	for _, o := range owned {
		root.add(o, strings.Split(strings.Trim(path.Dir(o.Name), "/"), "/"))
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
	w.Printf("%s %s, as it is staged\n", w.Style(term.Strong, r.Name), r.Full())
	var rows [][]string
	a.layoutRows(root, 0, &rows)
	w.Table([]string{"path", "size", "kind", "package"}, rows)
	var parts []string
	for _, name := range append(r.PackageNames(), layout.Discarded, layout.LeftOver) {
		if s := sums[name]; s.files > 0 {
			parts = append(parts, fmt.Sprintf("%s: %s, %s", w.Style(ownerRole(name), name), term.Count(s.files, "file", "files"), term.Bytes(s.bytes)))
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

// layoutRows writes a branch's rows: its folders, one below the other where
// there is nothing else in them on one line, then its files.
func (a *app) layoutRows(b *branch, depth int, rows *[][]string) {
	w := a.out
	indent := strings.Repeat("  ", depth)
	var names []string
	for name := range b.branches {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		next, label := b.branches[name], name
		for len(next.branches) == 1 && len(next.leaves) == 0 {
			for _, only := range next.branches {
				next, label = only, label+"/"+only.name
			}
		}
		if depth == 0 {
			label = "/" + label
		}
		*rows = append(*rows, []string{indent + w.Style(term.Strong, label+"/"), w.Style(term.Faint, fmt.Sprintf("%9s", term.Bytes(next.bytes))), "", w.Style(term.Faint, term.Count(next.files, "file", "files"))})
		a.layoutRows(next, depth+1, rows)
	}
	for _, o := range b.leaves {
		label := path.Base(o.Name)
		if o.Link != "" {
			label += " -> " + o.Link
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
		*rows = append(*rows, []string{indent + label, fmt.Sprintf("%9s", term.Bytes(o.Bytes)), o.Kind, owner})
	}
}
