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
	for _, f := range findings {
		if f.discards == "" && gone(findings, f) {
			continue
		}
		edits := f.fix(r)
		if len(edits) == 0 {
			continue
		}
		text, err := r.Doc.Apply(edits)
		if err != nil {
			return out, err
		}
		changed, err := parse(text)
		if err != nil {
			return out, fmt.Errorf("mending %s would break the recipe: %w", f.Code, err)
		}
		r, out.Text = changed, text
		out.Fixed = append(out.Fixed, f)
	}
	return out, nil
}

// gone tells whether another finding takes the path of this one out of the
// package: a layout line for it would match nothing.
func gone(all []Finding, f Finding) bool {
	return f.Path != "" && slices.ContainsFunc(all, func(o Finding) bool {
		ok, _ := doublestar.Match(o.discards, f.Path)
		return ok && o.discards != "" || o.discards != "" && o.discards == f.Path
	})
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
