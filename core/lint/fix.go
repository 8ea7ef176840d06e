package lint

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ellwand.example/core/document"
	"ellwand.example/core/recipe"
)

// fix makes the edits that mend a finding in its recipe, as that is now; none
// where it is not there to be mended.
type fix func(*recipe.Recipe) []document.Edit

// Mendable tells whether Mend knows what to do about a finding.
func (f Finding) Mendable() bool { return f.fix != nil && f.Waived == "" }

// Mended is what Mend made of a recipe.
type Mended struct {
	Text  []byte    // of the recipe
	Fixed []Finding // that are mended in it
}

// Mend mends in a recipe what is mechanical about findings in it and in its
// packages. The recipe is read again after each change, by parse.
func Mend(r *recipe.Recipe, findings []Finding, parse func(text []byte) (*recipe.Recipe, error)) (Mended, error) {
	out := Mended{Text: r.Doc.Data}
	findings = slices.DeleteFunc(slices.Clone(findings), func(f Finding) bool { return !f.Mendable() })
	slices.SortStableFunc(findings, func(a, b Finding) int { return cmp.Compare(b.offset, a.offset) })
	discarded := discardedBy(findings)
	findings = slices.DeleteFunc(findings, func(f Finding) bool { return f.discards == "" && f.Path != "" && discarded(f.Path) })
	m := mending{Mended: out, recipe: r, parse: parse}
	err := m.apply(findings)
	return m.Mended, err
}

// mending is a Mend under way.
type mending struct {
	Mended
	recipe *recipe.Recipe
	parse  func(text []byte) (*recipe.Recipe, error)
}

// apply mends findings, in as few edits of the recipe as it takes: those that
// want the same edit are mended by one, and edits that do not touch each other
// are made together. Where that breaks the recipe, they are made apart.
func (m *mending) apply(findings []Finding) error {
	for len(findings) > 0 {
		var now, later []Finding
		var edits []document.Edit
		made := map[document.Edit]bool{}
		for _, f := range findings {
			own := f.fix(m.recipe)
			own = slices.DeleteFunc(slices.Clone(own), func(e document.Edit) bool { return made[e] })
			switch {
			case touches(edits, own):
				later = append(later, f)
				continue
			case len(own) == 0 && len(f.fix(m.recipe)) == 0:
				continue // nothing is left to be done, or it cannot be done here
			}
			for _, e := range own {
				made[e] = true
				at, _ := slices.BinarySearchFunc(edits, e, func(a, b document.Edit) int { return cmp.Compare(a.At.Offset, b.At.Offset) })
				edits = slices.Insert(edits, at, e)
			}
			now = append(now, f)
		}
		if len(now) == 0 {
			return nil
		}
		text, err := m.recipe.Doc.Apply(edits)
		if err != nil {
			return err
		}
		changed, err := m.parse(text)
		if err != nil && len(now) > 1 {
			half := len(now) / 2
			if err := m.apply(now[:half]); err != nil {
				return err
			}
			findings = slices.Concat(now[half:], later)
			continue
		}
		if err != nil {
			return fmt.Errorf("mending %s would break the recipe: %w", now[0].Code, err)
		}
		m.recipe, m.Text = changed, text
		m.Fixed = append(m.Fixed, now...)
		findings = later
	}
	return nil
}

// touches reports whether edits would be at the places of others, which are
// sorted.
func touches(edits, own []document.Edit) bool {
	for _, e := range own {
		i, same := slices.BinarySearchFunc(edits, e, func(a, b document.Edit) int { return cmp.Compare(a.At.Offset, b.At.Offset) })
		if same || i > 0 && edits[i-1].At.Offset+edits[i-1].At.Length > e.At.Offset || i < len(edits) && e.At.Offset+e.At.Length > edits[i].At.Offset {
			return true
		}
	}
	return false
}

// discardedBy tells which paths the findings take out of the package: a layout
// line for one of those would match nothing.
func discardedBy(findings []Finding) func(path string) bool {
	exact := map[string]bool{}
	var patterns []string
	for _, f := range findings {
		if f.discards == "" || exact[f.discards] {
			continue
		}
		exact[f.discards] = true
		if strings.ContainsAny(f.discards, `*?[{\\`) {
			patterns = append(patterns, f.discards)
		}
	}
	return func(path string) bool {
		return exact[path] || slices.ContainsFunc(patterns, func(p string) bool {
			ok, _ := doublestar.Match(p, path)
			return ok
		})
	}
}

// inScript replaces a piece of a step's script. Changes of one script are made
// from its end on, so that the places of the others stay true.
func inScript(step string, offset int, old, now string) fix {
	return func(r *recipe.Recipe) []document.Edit {
		n := r.Doc.Find("steps", step)
		if n == nil || !strings.HasPrefix(n.Text[min(offset, len(n.Text)):], old) {
			return nil
		}
		span := r.Doc.Inside(n, offset, len(old))
		if span == n.Value { // escapes: the place is not known
			return nil
		}
		return []document.Edit{{At: span, Text: now}}
	}
}

// setFact gives a fact of the recipe another value.
func setFact(value string, path ...any) fix {
	return func(r *recipe.Recipe) []document.Edit {
		n := r.Doc.Find(path...)
		if n == nil || n.Kind != document.String {
			return nil
		}
		return []document.Edit{r.Doc.SetString(n, value)}
	}
}

// addFact adds a line to the recipe's facts, behind the licence, which every
// recipe has.
func addFact(line string) fix {
	return func(r *recipe.Recipe) []document.Edit {
		n := r.Doc.Find("license")
		if n == nil {
			return nil
		}
		return []document.Edit{r.Doc.InsertAfter(n.Value, line)}
	}
}

// inLayout gives a path of a package an attribute in the layout: in its own
// line, if it has one, or in a new one.
func inLayout(pkg, path, key, value string) fix {
	return func(r *recipe.Recipe) []document.Edit {
		if _, ok := r.Packages[pkg]; !ok {
			return nil
		}
		d := r.Doc
		table := d.Find("package", pkg, "layout")
		if entry := table.Get(path); entry != nil {
			if have := entry.Get(key); have != nil {
				return []document.Edit{d.SetString(have, value)}
			}
			if !entry.Inline() {
				return nil
			}
			return []document.Edit{d.AddField(entry, key, document.Quote(value))}
		}
		line := fmt.Sprintf("%s = { %s = %s }", document.Quote(path), key, document.Quote(value))
		switch {
		case table.Inline():
			return []document.Edit{d.AddField(table, document.Quote(path), fmt.Sprintf("{ %s = %s }", key, document.Quote(value)))}
		case table != nil && len(table.Keys) > 0:
			last := table.Get(table.Keys[len(table.Keys)-1])
			if !last.Inline() {
				return nil
			}
			end := last.Key
			for _, k := range last.Keys {
				if v := last.Get(k).Value; v.Offset > end.Offset {
					end = v
				}
			}
			return []document.Edit{d.InsertAfter(end, line)}
		case len(r.Packages) == 1:
			return []document.Edit{d.InsertEnd(fmt.Sprintf("\n[package.%s.layout]\n\"/**\" = {}\n%s\n", pkg, line))}
		}
		return nil
	}
}

// discard takes a path out of all packages.
func discard(path string) fix {
	return func(r *recipe.Recipe) []document.Edit {
		if slices.Contains(r.Discard, path) {
			return nil
		}
		if n := r.Doc.Find("discard"); n != nil {
			return []document.Edit{r.Doc.AddItem(n, path)}
		}
		return addFact("discard = [" + document.Quote(path) + "]")(r)
	}
}
