package lint

import (
	"fmt"
	"slices"
	"strings"

	"ellwand.example/core/document"
	"ellwand.example/core/recipe"
	"ellwand.example/core/version"
)

// recipeCheck is what rules on recipes see.
type recipeCheck struct {
	collector
	*recipe.Recipe
}

// at reports something about a place in the recipe.
func (c *recipeCheck) at(span document.Span, format string, args ...any) {
	line, _ := c.Doc.Position(span.Offset)
	c.add(Finding{File: c.Doc.File, Line: line, Message: fmt.Sprintf(format, args...)})
}

var recipeRules = []Rule{
	{
		Code: "R101", Severity: Warning, Title: "the summary repeats the name",
		Why:    "In every listing the name stands right beside the summary, so the first words of it are spent on nothing.",
		Remedy: "begin with what the package does",
		recipe: func(c *recipeCheck) {
			words := strings.Fields(strings.ToLower(c.Summary))
			if len(words) > 0 && strings.Trim(words[0], ":,-–—") == c.Name {
				c.at(c.Doc.At("summary"), "the summary begins with the package's name: %q", c.Summary)
			}
		},
	},
	{
		Code: "R102", Severity: Hint, Title: "the summary is long, or written as a sentence",
		Why:    "Summaries stand in tables, one to a line: what does not fit is cut off, and full stops add up to noise.",
		Remedy: "at most 80 characters, without a full stop",
		recipe: func(c *recipeCheck) {
			n := len([]rune(c.Summary))
			if n > 80 {
				c.at(c.Doc.At("summary"), "the summary has %d characters", n)
			} else if strings.HasSuffix(c.Summary, ".") && !strings.HasSuffix(c.Summary, "...") {
				c.at(c.Doc.At("summary"), "the summary ends in a full stop")
			}
		},
	},
	{
		Code: "R103", Severity: Error, Title: "a source has no digest",
		Why:    "Without one, whoever answers for the address decides what gets built, today and at the next rebuild.",
		Remedy: "add its sha256; `ellwand fetch` prints it",
		recipe: func(c *recipeCheck) {
			for i, s := range c.Sources {
				if s.URL != "" && s.SHA256 == "" {
					c.at(c.Doc.At("source", i, "url"), "%s is not pinned by a digest", s.URL)
				}
			}
		},
	},
	{
		Code: "R104", Severity: Warning, Title: "an address uses plain http",
		Why:    "Anyone between here and the server can read along and answer in its place. A digest catches a changed file, but only after it has failed everyone's build.",
		Remedy: "use https where the server has it",
		recipe: func(c *recipeCheck) {
			if strings.HasPrefix(c.Homepage, "http://") {
				c.at(c.Doc.At("homepage"), "the homepage is %s", c.Homepage)
			}
			for i, s := range c.Sources {
				if strings.HasPrefix(s.URL, "http://") {
					c.at(c.Doc.At("source", i, "url"), "the source comes from %s", s.URL)
				}
			}
		},
	},
	{
		Code: "R105", Severity: Warning, Title: "no change entry for this version",
		Why:    "Users see what an upgrade brings by the change entries. The newest date is also the time that stands in all built files.",
		Remedy: "add a [[change]] with version, date, by and text",
		recipe: func(c *recipeCheck) {
			if !slices.ContainsFunc(c.Changes, func(ch recipe.Change) bool { return ch.Version == c.Full() }) {
				c.at(c.Doc.At("release"), "no [[change]] says what is new in %s", c.Full())
			}
		},
	},
	{
		Code: "R106", Severity: Warning, Title: "change entries are out of order",
		Why:    "Readers take the first entry for the newest. A date that goes back is most often a slip of the pen.",
		Remedy: "put the newest entry first, and check the date",
		recipe: func(c *recipeCheck) {
			for i := 1; i < len(c.Changes); i++ {
				newer, older := c.Changes[i-1], c.Changes[i]
				a, errA := version.ParseFull(newer.Version)
				b, errB := version.ParseFull(older.Version)
				if newer.Date < older.Date || errA == nil && errB == nil && a.Compare(b) < 0 {
					c.at(c.Doc.At("change", i), "the entry for %s (%s) stands below the one for %s (%s)", older.Version, older.Date, newer.Version, newer.Date)
				}
			}
		},
	},
	{
		Code: "R107", Severity: Hint, Title: "nobody is named as maintainer",
		Why:    "Whoever has trouble with the package wants to know whom to ask.",
		Remedy: `add: maintainer = "Name <address>"`,
		recipe: func(c *recipeCheck) {
			if c.Maintainer == "" {
				c.at(c.Doc.At("name"), "the recipe names no maintainer")
			}
		},
	},
	{
		Code: "R108", Severity: Warning, Title: "the version is written out in a source",
		Why:    "At the next version it has to be found and changed in several places; the one that is missed fetches the old source under the new name.",
		Remedy: "write {version} in its place",
		recipe: func(c *recipeCheck) {
			for i := range c.Sources {
				n := c.Doc.Find("source", i, "url")
				if n == nil || !strings.ContainsAny(c.Version, "._~") {
					continue
				}
				raw := string(c.Doc.Data[n.Value.Offset : n.Value.Offset+n.Value.Length])
				if strings.Contains(raw, c.Version) {
					c.at(n.Value, "the address has %s written out", c.Version)
				}
			}
		},
	},
	{
		Code: "R109", Severity: Hint, Title: "no test step",
		Why:    "A package that was never run is tested by its users.",
		Remedy: "run upstream's tests in [steps] test, or at least the built program with --version",
		recipe: func(c *recipeCheck) {
			if c.Script(recipe.Build) != "" && c.Script(recipe.Test) == "" {
				c.at(c.Doc.At("steps"), "the recipe builds something and tests nothing")
			}
		},
	},
	{
		Code: "R110", Severity: Error, Title: "a waiver names no rule",
		Why:    "It waives nothing, and whoever wrote it believes that it does.",
		Remedy: "give the code as lint prints it, such as R105",
		recipe: func(c *recipeCheck) {
			for i, w := range c.Waivers {
				if _, ok := Find(w.Code); !ok {
					c.at(c.Doc.At("waive", i, "code"), "there is no rule %q", w.Code)
				}
			}
		},
	},
	{
		Code: "R112", Severity: Warning, Title: "an option or value that nothing uses",
		Why:    "Whoever sets it believes that something changes.",
		Remedy: "use it, or take it out",
		recipe: func(c *recipeCheck) {
			text := string(c.Doc.Data)
			for name := range c.Options {
				uses := strings.Count(text, "option."+name) - strings.Count(text, "[option."+name)
				if uses == 0 && !strings.Contains(text, "ELL_OPT_"+strings.ToUpper(name)) {
					c.at(c.Doc.Find("option", name).Key, "nothing asks for option %q", name)
				}
			}
			for name := range c.Let {
				if !strings.Contains(text, "{"+name+"}") {
					c.at(c.Doc.Find("let", name).Key, "nothing uses {%s}", name)
				}
			}
		},
	},
}
