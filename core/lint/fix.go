package lint

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// edits returns the edits that fix a finding in its recipe as that is now; none if
// the place is no longer there.
type edits func(*recipe.Recipe) []document.Edit

// fix is the automatic fix of a finding.
type fix struct {
	edits     edits
	offset    int       // of the text that is replaced in a script
	discards  string    // the pattern of paths that it removes from the package
	attribute [2]string // that it sets in the layout, and its value
}

// AutomaticFix marks it as a fact.Fix.
func (*fix) AutomaticFix() {}

// fixOf returns the fix of a finding; an empty one if it has none of ours.
func fixOf(f fact.Finding) *fix {
	if own, ok := f.Fix.(*fix); ok {
		return own
	}
	return &fix{}
}

// Fixed is a recipe in which findings were fixed.
type Fixed struct {
	Text     []byte         // of the recipe
	Findings []fact.Finding // those that were fixed
}

// Fix applies the automatic fixes of findings in a recipe and its packages. The
// recipe is read again after each change, by parse.
func Fix(r *recipe.Recipe, findings []fact.Finding, parse func(text []byte) (*recipe.Recipe, error)) (Fixed, error) {
	findings = slices.DeleteFunc(slices.Clone(findings), func(f fact.Finding) bool { return !f.Fixable() })
	slices.SortStableFunc(findings, func(a, b fact.Finding) int { return cmp.Compare(fixOf(b).offset, fixOf(a).offset) })
	discarded := discardedBy(findings)
	findings = slices.DeleteFunc(findings, func(f fact.Finding) bool { return fixOf(f).discards == "" && f.Path != "" && discarded(f.Path) })
	x := fixer{Fixed: Fixed{Text: r.Doc.Data}, recipe: r, parse: parse}
	err := x.apply(findings)
	return x.Fixed, err
}

// fixer applies fixes to a recipe.
type fixer struct {
	Fixed
	recipe *recipe.Recipe
	parse  func(text []byte) (*recipe.Recipe, error)
}

// apply fixes findings with as few edits of the recipe as possible: those that
// want the same edit share it, and edits that do not overlap are made
// together. If that breaks the recipe, they are made separately.
func (x *fixer) apply(findings []fact.Finding) error {
	for len(findings) > 0 {
		var now, later []fact.Finding
		var all []document.Edit
		made := map[document.Edit]bool{}
		for _, f := range findings {
			wanted := fixOf(f).edits(x.recipe)
			own := slices.DeleteFunc(slices.Clone(wanted), func(e document.Edit) bool { return made[e] })
			switch {
			case overlaps(all, own):
				later = append(later, f)
				continue
			case len(wanted) == 0:
				continue // done already, or not possible here
			}
			for _, e := range own {
				made[e] = true
				at, _ := slices.BinarySearchFunc(all, e, func(a, b document.Edit) int { return cmp.Compare(a.At.Offset, b.At.Offset) })
				all = slices.Insert(all, at, e)
			}
			now = append(now, f)
		}
		if len(now) == 0 {
			return nil
		}
		text, err := x.recipe.Doc.Apply(all)
		if err != nil {
			return err
		}
		changed, err := x.parse(text)
		if err != nil && len(now) > 1 {
			half := len(now) / 2
			if err := x.apply(now[:half]); err != nil {
				return err
			}
			findings = slices.Concat(now[half:], later)
			continue
		}
		if err != nil {
			return fmt.Errorf("fixing %s would break the recipe: %w", now[0].Code, err)
		}
		x.recipe, x.Text = changed, text
		x.Findings = append(x.Findings, now...)
		findings = later
	}
	return nil
}

// overlaps reports whether edits overlap with others, which are sorted.
func overlaps(sorted, own []document.Edit) bool {
	for _, e := range own {
		i, same := slices.BinarySearchFunc(sorted, e, func(a, b document.Edit) int { return cmp.Compare(a.At.Offset, b.At.Offset) })
		if same || i > 0 && sorted[i-1].At.Offset+sorted[i-1].At.Length > e.At.Offset || i < len(sorted) && e.At.Offset+e.At.Length > sorted[i].At.Offset {
			return true
		}
	}
	return false
}

// discardedBy tells which paths the findings take out of the package: a layout
// line for one of those would match nothing.
func discardedBy(findings []fact.Finding) func(path string) bool {
	exact := map[string]bool{}
	var patterns []string
	for _, f := range findings {
		pattern := fixOf(f).discards
		if pattern == "" || exact[pattern] {
			continue
		}
		exact[pattern] = true
		if strings.ContainsAny(pattern, `*?[{\\`) {
			patterns = append(patterns, pattern)
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
func inScript(step string, offset int, old, now string) edits {
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
func setFact(value string, path ...any) edits {
	return func(r *recipe.Recipe) []document.Edit {
		n := r.Doc.Find(path...)
		if n == nil || n.Kind != document.String {
			return nil
		}
		return []document.Edit{r.Doc.SetString(n, value)}
	}
}

// addFact adds a line to the recipe's facts, behind the license, which every
// recipe has.
func addFact(line string) edits {
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
func inLayout(pkg, path, key, value string) edits {
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
			return []document.Edit{d.InsertEnd(fmt.Sprintf("\n[package.%s.layout]\n\"/**\" = {}\n%s\n", document.Key(pkg), line))}
		}
		return nil
	}
}

// discard takes a path out of all packages.
func discard(path string) edits {
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
