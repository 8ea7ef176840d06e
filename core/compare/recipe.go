// Package compare tells what differs between two of a kind, in the words of
// that kind.
package compare

import (
	"bytes"
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// Change is one difference between two recipes.
type Change struct {
	Area   string `json:"area"` // one of the areas below
	What   string `json:"what"` // the key, the step, the path …
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	// Difference is how a longer text differs, in the unified format.
	Difference string `json:"difference,omitempty"`
}

// The areas of a recipe, in the order in which they are told.
const (
	Facts    = "facts"
	Sources  = "sources"
	Changing = "patches and rewrites"
	Options  = "options"
	Needs    = "needs"
	Steps    = "steps"
	Packages = "packages"
	Layout   = "layout"
	Lint     = "waivers"
	History  = "changes"
	Files    = "files beside the recipe"
)

var areas = []string{Facts, Sources, Changing, Options, Needs, Steps, Packages, Layout, Lint, History, Files}

// areaOf are the areas of a recipe's tables; everything else is facts.
var areaOf = map[string]string{
	"source": Sources, "patch": Changing, "rewrite": Changing, "option": Options, "needs": Needs, "steps": Steps,
	"trial": Steps, "package": Packages, "discard": Layout, "waive": Lint, "change": History,
}

// identity names what tells an entry of an array of tables from the others.
var identity = map[string][]string{
	"source": {"url", "git", "file"}, "patch": {"file"}, "rewrite": {"after", "path", "find", "regexp"}, "waive": {"code", "path"}, "change": {"version"}, "when": {"if"},
}

// Recipes compares two recipes' directories, given as files by path.
func Recipes(a, b map[string][]byte) []Change {
	left, right := map[string]entry{}, map[string]entry{}
	flatten(document.Parse("", a[recipe.FileName]).Root, "", nil, left)
	flatten(document.Parse("", b[recipe.FileName]).Root, "", nil, right)
	var out []Change
	for _, key := range slices.Sorted(maps.Keys(union(left, right))) {
		if c, ok := change(left[key], right[key]); ok {
			out = append(out, c)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(union(a, b))) {
		_, was := a[name]
		_, is := b[name]
		if name == recipe.FileName || was && is && bytes.Equal(a[name], b[name]) {
			continue
		}
		c := Change{Area: Files, What: name}
		switch {
		case !was:
			c.After = "new"
		case !is:
			c.Before = "removed"
		case bytes.IndexByte(a[name], 0) < 0 && bytes.IndexByte(b[name], 0) < 0:
			c.Difference = difference(string(a[name]), string(b[name]))
		default:
			c.Before, c.After = strconv.Itoa(len(a[name]))+" bytes", strconv.Itoa(len(b[name]))+" bytes"
		}
		out = append(out, c)
	}
	slices.SortStableFunc(out, func(x, y Change) int {
		return cmp.Compare(slices.Index(areas, x.Area), slices.Index(areas, y.Area))
	})
	return out
}

func union[V any](a, b map[string]V) map[string]bool {
	out := map[string]bool{}
	for key := range a {
		out[key] = true
	}
	for key := range b {
		out[key] = true
	}
	return out
}

// entry is one thing that a recipe says.
type entry struct {
	area, what, value string
	there             bool
	text              bool // of several lines
}

// flatten lists what a table says, under keys that are the same for the same
// thing in another recipe.
func flatten(n *document.Node, key string, path []string, out map[string]entry) {
	area, what := place(path)
	put := func(key, what, value string, text bool) { out[key] = entry{area, what, value, true, text} }
	switch n.Kind {
	case document.Table:
		if len(path) > 0 && len(n.Keys) == 0 {
			put(key, what, "{}", false)
		}
		// A layout's line is one thing, with all that it says.
		if len(path) == 4 && path[0] == "package" && path[2] == "layout" {
			put(key, what, inline(n), false)
			return
		}
		for _, k := range n.Keys {
			flatten(n.Get(k), key+"\x00"+k, append(slices.Clone(path), k), out)
		}
	case document.Array:
		for i, item := range n.Items {
			name := strconv.Itoa(i)
			switch item.Kind {
			case document.Table:
				if id := identify(path[len(path)-1], item); id != "" {
					name = id
				}
				if path[0] == "change" {
					put(key+"\x00"+name, name, inline(item), false)
					continue
				}
				flatten(item, key+"\x00"+name, append(slices.Clone(path), name), out)
			case document.String:
				// Lists of strings are sets, as far as a reader is concerned.
				put(key+"\x00"+item.Text, what, item.Text, false)
			default:
				put(key+"\x00"+name, what, item.Text, false)
			}
		}
	default:
		put(key, what, n.Text, strings.Contains(strings.TrimSpace(n.Text), "\n"))
	}
}

func identify(kind string, item *document.Node) string {
	var parts []string
	for _, key := range identity[kind] {
		if n := item.Get(key); n != nil {
			parts = append(parts, n.Text)
		}
	}
	return strings.Join(parts, " ")
}

// inline writes a table on one line.
func inline(n *document.Node) string {
	var parts []string
	for _, k := range n.Keys {
		parts = append(parts, k+" = "+value(n.Get(k)))
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

func value(n *document.Node) string {
	switch n.Kind {
	case document.Table:
		return inline(n)
	case document.Array:
		var items []string
		for _, item := range n.Items {
			items = append(items, value(item))
		}
		return "[" + strings.Join(items, ", ") + "]"
	case document.String:
		return document.Quote(n.Text)
	}
	return n.Text
}

// place tells the area of a path in a recipe, and what it is called there.
func place(path []string) (area, what string) {
	if len(path) == 0 {
		return Facts, ""
	}
	area = areaOf[path[0]]
	switch {
	case area == "":
		return Facts, strings.Join(path, ".")
	case path[0] == "package" && len(path) > 3 && path[2] == "layout":
		return Layout, path[1] + ": " + strings.Join(path[3:], " ")
	case len(path) == 1:
		return area, path[0]
	}
	return area, strings.Join(path[1:], " ")
}

func change(a, b entry) (Change, bool) {
	if a.there && b.there && a.value == b.value {
		return Change{}, false
	}
	c := Change{Area: cmp.Or(a.area, b.area), What: cmp.Or(a.what, b.what), Before: a.value, After: b.value}
	if a.text || b.text {
		c.Before, c.After = "", ""
		c.Difference = difference(a.value, b.value)
	}
	return c, true
}

func difference(a, b string) string { return udiff.Unified("before", "after", a, b) }
