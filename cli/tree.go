package cli

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
)

// branch is a directory of a tree that is shown.
type branch struct {
	branches map[string]*branch
	leaves   []leaf
	bytes    int64
	files    int
}

// leaf is a path that is no directory, or an empty one, with what stands beside
// it.
type leaf struct {
	label string
	bytes int64
	cells []string
	empty bool // it is an empty directory
}

func (b *branch) add(p string, l leaf) {
	b.below(strings.Split(strings.Trim(path.Dir(p), "/"), "/"), l)
}

func (b *branch) below(dirs []string, l leaf) {
	b.bytes += l.bytes
	if !l.empty {
		b.files++
	}
	if len(dirs) == 0 || dirs[0] == "" {
		b.leaves = append(b.leaves, l)
		return
	}
	if b.branches == nil {
		b.branches = map[string]*branch{}
	}
	if b.branches[dirs[0]] == nil {
		b.branches[dirs[0]] = &branch{}
	}
	b.branches[dirs[0]].below(dirs[1:], l)
}

// rows writes a branch's rows: its directories, one below the other where there is
// nothing else in them on one line, then its files. A directory's row has its
// count of files in the last cell.
func (b *branch) rows(w *term.Writer, depth, cells int, rows *[][]string) {
	indent := strings.Repeat("  ", depth)
	var names []string
	for name := range b.branches {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		next, label := b.branches[name], fact.Visible(name)
		for len(next.branches) == 1 && len(next.leaves) == 0 {
			for only := range next.branches {
				next, label = next.branches[only], label+"/"+fact.Visible(only)
			}
		}
		if depth == 0 {
			label = "/" + label
		}
		row := []string{indent + w.Style(term.Strong, label+"/"), w.Style(term.Faint, fmt.Sprintf("%9s", fact.Bytes(next.bytes)))}
		row = append(row, make([]string, cells-1)...)
		*rows = append(*rows, append(row, w.Style(term.Faint, fact.Count(next.files, "file", "files"))))
		next.rows(w, depth+1, cells, rows)
	}
	for _, l := range b.leaves {
		size := ""
		if !l.empty {
			size = fmt.Sprintf("%9s", fact.Bytes(l.bytes))
		}
		*rows = append(*rows, append([]string{indent + l.label, size}, l.cells...))
	}
}
