// Package lint looks for what will bite the users of a package: in recipes
// before they are built, and in packages, whoever built them. Each rule stands
// in one place with its code, what it finds, why that matters and how to mend
// it; rules are grouped by what they look at.
package lint

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ellwand.example/core/pack"
	"ellwand.example/core/recipe"
)

// Severity says how bad a finding is.
type Severity string

// The severities. Only errors stand in the way of a publish.
const (
	Error   Severity = "error"   // users will be hurt
	Warning Severity = "warning" // users may be, or the next maintainer
	Hint    Severity = "hint"    // it could be better
)

var ranks = map[Severity]int{Error: 0, Warning: 1, Hint: 2}

// Rule is one thing that is looked for.
type Rule struct {
	Code     string   `json:"code"`
	Severity Severity `json:"severity"`
	Title    string   `json:"title"`  // what it finds, in a few words
	Why      string   `json:"why"`    // why that matters
	Remedy   string   `json:"remedy"` // how to mend it

	recipe func(*recipeCheck)
	pkg    func(*packageCheck)
}

// Finding is what a rule has to say of one place.
type Finding struct {
	Code     string   `json:"code"`
	Severity Severity `json:"severity"`
	Subject  string   `json:"subject"`        // a recipe's name or a package's identity
	File     string   `json:"file,omitempty"` // of the recipe
	Line     int      `json:"line,omitempty"`
	Path     string   `json:"path,omitempty"` // in the package
	Message  string   `json:"message"`
	Remedy   string   `json:"remedy"`
	Waived   string   `json:"waived,omitempty"` // the reason, when it was accepted
}

// Rules lists all rules by code.
func Rules() []Rule { return catalogue }

// Find returns the rule with a code, in any case.
func Find(code string) (Rule, bool) {
	i := slices.IndexFunc(catalogue, func(r Rule) bool { return strings.EqualFold(r.Code, code) })
	if i < 0 {
		return Rule{}, false
	}
	return catalogue[i], true
}

// catalogue holds every rule; the files of each area bring theirs.
var catalogue []Rule

// A rule on waivers looks into the catalogue, so it is put together once all
// of them are there.
func init() {
	catalogue = slices.Concat(recipeRules, layoutRules, elfRules, scriptRules, packageRules, repositoryRules)
	slices.SortFunc(catalogue, func(a, b Rule) int { return cmp.Compare(a.Code, b.Code) })
}

// collector gathers the findings of the rule at work.
type collector struct {
	rule     Rule
	subject  string
	findings []Finding
}

func (c *collector) add(f Finding) {
	f.Code, f.Severity, f.Subject = c.rule.Code, c.rule.Severity, c.subject
	if f.Remedy == "" {
		f.Remedy = c.rule.Remedy
	}
	c.findings = append(c.findings, f)
}

// Recipe looks at a recipe.
func Recipe(r *recipe.Recipe) []Finding {
	c := &recipeCheck{collector: collector{subject: r.Name}, Recipe: r}
	for _, rule := range catalogue {
		if rule.recipe != nil {
			c.rule = rule
			rule.recipe(c)
		}
	}
	return finish(c.findings, r.Waivers)
}

// Package looks at a package: all of it is read and verified. An error is a
// package that cannot be read.
func Package(ctx context.Context, p *pack.Package) ([]Finding, error) {
	text, _ := p.Meta("recipe.toml")
	// The recipe was read when the package was made; what a later edition has
	// in it does not matter here.
	r, _ := recipe.Parse("recipe.toml", text, recipe.Target{Name: p.Facts.Target, Arch: p.Facts.Arch}, nil)
	c := &packageCheck{collector: collector{subject: p.Facts.Identity()}, Package: p, siblings: r.Packages}
	if err := c.look(ctx); err != nil {
		return nil, err
	}
	for _, rule := range catalogue {
		if rule.pkg != nil {
			c.rule = rule
			rule.pkg(c)
		}
	}
	return finish(c.findings, r.Waivers), nil
}

// finish applies waivers and sorts. A waiver without a path is for all of
// them; one with a code that no rule has is told of with the recipe.
func finish(findings []Finding, waivers []recipe.Waiver) []Finding {
	for i := range findings {
		f := &findings[i]
		for _, w := range waivers {
			if !strings.EqualFold(w.Code, f.Code) {
				continue
			}
			if ok, _ := doublestar.Match(w.Path, f.Path); ok || w.Path == "" || w.Path == f.Path {
				f.Waived = w.Because
			}
		}
	}
	slices.SortStableFunc(findings, func(a, b Finding) int {
		return cmp.Or(BySeverity(a, b), cmp.Compare(a.Code, b.Code), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Path, b.Path))
	})
	return findings
}

// BySeverity puts the worst findings first.
func BySeverity(a, b Finding) int { return cmp.Compare(ranks[a.Severity], ranks[b.Severity]) }

// Counts says how many findings of each severity there are, waived ones apart.
func Counts(findings []Finding) (bySeverity map[Severity]int, waived int) {
	bySeverity = map[Severity]int{}
	for _, f := range findings {
		if f.Waived != "" {
			waived++
		} else {
			bySeverity[f.Severity]++
		}
	}
	return bySeverity, waived
}

// several names a few of many paths.
func several(paths []string) string {
	if len(paths) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(paths[:3], ", "), len(paths)-3)
	}
	return strings.Join(paths, ", ")
}
