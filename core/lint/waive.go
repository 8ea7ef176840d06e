package lint

import (
	"fmt"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// numbers are what differs between two versions of a path or message.
var numbers = pattern.New(`[0-9]+(\.[0-9]+)*`)

// accepts reports whether a waiver is for a finding. One without a path is for
// all of them.
func accepts(w recipe.Waiver, f fact.Finding) bool {
	if !strings.EqualFold(w.Code, f.Code) {
		return false
	}
	ok, _ := doublestar.Match(w.Path, f.Path)
	return ok || w.Path == "" || w.Path == f.Path
}

// unused reports waivers that accepted none of the findings, among those whose
// code is in scope. A waiver of a rule that is off may wait for it.
func (l *Linter) unused(r *recipe.Recipe, findings []fact.Finding, inScope func(fact.Area) bool) []fact.Finding {
	rule, _ := Find("ELL111")
	if !l.Profile.has(rule.Code) {
		return nil
	}
	c := collector{subject: r.Name, rule: rule}
	for i, w := range r.Waivers {
		known, ok := Find(w.Code)
		if !ok || !inScope(fact.AreaOf(known.Code)) || known.Code == rule.Code || l.Profile.severity(known.Code, known.Severity) == "" {
			continue
		}
		used := false
		for _, f := range findings {
			used = used || accepts(w, f)
		}
		if used {
			continue
		}
		where := ""
		if w.Path != "" {
			where = " at " + w.Path
		}
		c.add(fact.Finding{
			File: r.Doc.File, Line: lineOf(r.Doc, r.Doc.At("waive", i)),
			Message: fmt.Sprintf("nothing is found of %s%s that it could accept", known.Code, where),
			Fix:     &fix{edits: dropWaiver(w)},
		})
	}
	return l.finish(c.findings, r)
}

// dropWaiver takes a waiver out of the recipe.
func dropWaiver(w recipe.Waiver) edits {
	return func(r *recipe.Recipe) []document.Edit {
		for i, have := range r.Waivers {
			if have != w {
				continue
			}
			if at, ok := r.Doc.TableLines("waive", i); ok {
				return []document.Edit{{At: at}}
			}
		}
		return nil
	}
}
