// Package lint looks for what will bite the users of a package: in recipes
// before they are built, in packages from any origin, in packages that
// belong together, and in repositories. Each rule is in one place with its
// code, what it finds, why that matters, how to fix it, and two examples: one
// in which it finds something and one in which it does not. Rules are grouped
// by what they look at, a file for each group.
package lint

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// The severities of rules.
const (
	Error   = fact.SeverityError
	Warning = fact.SeverityWarning
	Hint    = fact.SeverityHint
)

// Rule is one thing that is looked for.
type Rule struct {
	Code     string        `json:"code"`
	Severity fact.Severity `json:"severity"`
	Title    string        `json:"title"`  // what it finds, in a few words
	Why      string        `json:"why"`    // why that matters
	Remedy   string        `json:"remedy"` // how to fix it
	Wrong    string        `json:"wrong"`  // an example in which it finds something, see Example
	Right    string        `json:"right"`  // and one in which it does not

	next   fact.Verb           // an action that helps; empty if there is none
	recipe func(*recipeCheck)  // looks at a recipe
	file   func(*fileCheck)    // looks at a file of a package; several run at once
	pkg    func(*packageCheck) // looks at a package whose files were all looked at
	set    func(*setCheck)     // looks at all packages of a recipe
}

// Rules lists all rules by code.
func Rules() []Rule { return catalogue() }

// Find returns the rule with a code, in any case.
func Find(code string) (Rule, bool) {
	all := catalogue()
	i, ok := slices.BinarySearchFunc(all, strings.ToUpper(code), func(r Rule, code string) int { return cmp.Compare(r.Code, code) })
	if !ok {
		return Rule{}, false
	}
	return all[i], true
}

// catalogue holds every rule; each area's file adds its own. It is put
// together when it is first asked for: most commands do without.
var catalogue func() []Rule

// Rules on waivers look into the catalogue themselves.
func init() { catalogue = sync.OnceValue(allRules) }

func allRules() []Rule {
	all := slices.Concat(factRules(), sourceRules(), needRules(), shellRules(), layoutRules(), placeRules(), elfRules(), scriptRules(), installRules(),
		integrationRules(), environmentRules(), unitRules(), packageRules(), setRules(), repositoryRules())
	slices.SortFunc(all, func(a, b Rule) int { return cmp.Compare(a.Code, b.Code) })
	return all
}

// Linter looks at recipes and packages. Its fields say what is known beside
// them; the zero value knows nothing, and what cannot be checked without them is left
// alone.
type Linter struct {
	Profile Profile
	// System is the system below packages for Target, where symbols and symbol
	// versions are looked up.
	System *probe.System
	Target string
	// Meets reports whether a package known here, or the system, meets a need.
	Meets func(need.Need) bool
	// Published opens the newest published package of the same name that is
	// older, or returns nil.
	Published func(ctx context.Context, f ell.Facts) (*ell.Package, error)
	// Used is what a traced build of the recipe used, if there was one.
	Used func(r *recipe.Recipe) *Usage
	// Licenses are the license texts in a recipe's sources, by name, as far as
	// they are at hand.
	Licenses func(ctx context.Context, r *recipe.Recipe) map[string]string

	libraries libraries // of Base
}

// Usage is what the steps of a build used, as far as it was traced.
type Usage struct {
	Unused     []string // declared build needs of which no file was used
	Undeclared []string // needs that would declare what was used
}

// collector gathers findings.
type collector struct {
	rule     Rule
	subject  string
	findings []fact.Finding
}

func (c *collector) add(f fact.Finding) {
	f.Code, f.Severity, f.Subject = c.rule.Code, c.rule.Severity, c.subject
	if f.Remedy == "" {
		f.Remedy = c.rule.Remedy
	}
	c.findings = append(c.findings, f)
}

// say reports something that has no place of its own.
func (c *collector) say(format string, args ...any) {
	c.add(fact.Finding{Message: fmt.Sprintf(format, args...)})
}

// Recipe looks at a recipe. Waivers of rules on recipes that accepted nothing
// are findings too.
func (l *Linter) Recipe(ctx context.Context, r *recipe.Recipe) []fact.Finding {
	c := &recipeCheck{collector: collector{subject: r.Name}, Recipe: r, linter: l, ctx: ctx}
	for _, rule := range catalogue() {
		if rule.recipe != nil && l.Profile.has(rule.Code) {
			c.rule = rule
			rule.recipe(c)
		}
	}
	return append(l.finish(c.findings, r), l.unused(r, c.findings, func(a fact.Area) bool { return a == fact.AreaRecipe })...)
}

// check has all rules on packages look at one, of which all is read. An error
// is a package that cannot be read.
func (l *Linter) check(ctx context.Context, p *ell.Package) (*packageCheck, error) {
	c := &packageCheck{collector: collector{subject: p.Facts.Identity()}, Package: p, recipe: recipeOf(p), linter: l, ctx: ctx}
	if err := c.look(ctx); err != nil {
		return nil, err
	}
	for _, rule := range catalogue() {
		if rule.pkg != nil && l.Profile.has(rule.Code) {
			c.rule = rule
			rule.pkg(c)
		}
	}
	c.place(c.findings)
	return c, nil
}

// recipeOf reads the recipe that a package was made from. It was read without
// a mistake then; what a later format has in it does not matter here.
func recipeOf(p *ell.Package) *recipe.Recipe {
	text, _ := p.Meta("recipe.toml")
	r, _ := recipe.Parse("recipes/"+p.Facts.Recipe+"/"+recipe.FileName, text, recipe.Target{Name: p.Facts.Target, Arch: p.Facts.Arch}, p.Build.Options)
	return r
}

// Together looks at all packages of one recipe: at each of them, and at what
// they are to one another. The findings of each package stand together, in the
// order of the packages, those of the set behind them.
func (l *Linter) Together(ctx context.Context, packages []*ell.Package) ([]fact.Finding, error) {
	each := make([]*packageCheck, len(packages))
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range packages {
		g.Go(func() (err error) {
			each[i], err = l.check(gctx, p)
			return err
		})
	}
	if err := g.Wait(); err != nil || len(packages) == 0 {
		return nil, err
	}
	var all []fact.Finding
	c := &setCheck{packages: packages, linter: l, ctx: ctx, pages: map[string]bool{}}
	for _, one := range each {
		all = append(all, l.finish(one.findings, one.recipe)...)
		maps.Copy(c.pages, one.pages)
	}
	for _, rule := range catalogue() {
		if rule.set != nil && l.Profile.has(rule.Code) {
			c.rule = rule
			rule.set(c)
		}
	}
	if c.err != nil {
		return nil, c.err
	}
	r := recipeOf(packages[0])
	all = append(all, l.finish(c.findings, r)...)
	// Without its siblings, nobody knows what a waiver was for.
	for _, name := range r.PackageNames() {
		if !slices.ContainsFunc(packages, func(p *ell.Package) bool { return p.Facts.Name == name }) {
			return all, nil
		}
	}
	return append(all, l.unused(r, all, func(a fact.Area) bool { return a != fact.AreaRecipe && a != fact.AreaRepository })...), nil
}

// Groups sorts packages by the recipe and version that they come from, in the
// order in which the first of each stands. Packages are numbers: their places
// among the facts.
func Groups(packages []ell.Facts) [][]int {
	var out [][]int
	at := map[string]int{}
	for i, f := range packages {
		key := f.Recipe + " " + f.Full().String() + " " + f.Target
		group, ok := at[key]
		if !ok {
			group = len(out)
			at[key] = group
			out = append(out, nil)
		}
		out[group] = append(out[group], i)
	}
	return out
}

// finish applies the profile and waivers, and sorts.
func (l *Linter) finish(findings []fact.Finding, r *recipe.Recipe) []fact.Finding {
	for i := range findings {
		f := &findings[i]
		f.Recipe = r.Name
		f.Severity = l.Profile.severity(f.Code, f.Severity)
		if rule, ok := Find(f.Code); ok && rule.next != "" {
			f.Action = fact.Action{Verb: rule.next, Subject: cmp.Or(r.Name, f.Subject)}
		}
		for _, w := range r.Waivers {
			if accepts(w, *f) {
				f.Waived = w.Reason
			}
		}
	}
	findings = slices.DeleteFunc(findings, func(f fact.Finding) bool { return f.Severity == "" })
	fact.SortFindings(findings)
	return findings
}

// NewSince leaves those findings that are not among those of an earlier state:
// versions in paths and messages, and lines, do not make a finding new.
func NewSince(now, before []fact.Finding) []fact.Finding {
	key := func(f fact.Finding) string {
		return f.Code + "\x00" + numbers.ReplaceAllString(f.Path+"\x00"+f.Message, "0")
	}
	known := map[string]int{}
	for _, f := range before {
		known[key(f)]++
	}
	return slices.DeleteFunc(slices.Clone(now), func(f fact.Finding) bool {
		known[key(f)]--
		return known[key(f)] >= 0
	})
}

// several names a few of many paths.
func several(paths []string) string {
	if len(paths) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(paths[:3], ", "), len(paths)-3)
	}
	return strings.Join(paths, ", ")
}

// lineOf is the line of the recipe that a place is on.
func lineOf(d *document.Document, at document.Span) int {
	line, _ := d.Position(at.Offset)
	return line
}
