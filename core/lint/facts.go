package lint

import (
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/inspect/license"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// address is Name <address>.
var address = pattern.New(`<[^<>@\s]+@[^<>@\s]+>$`)

// factRules are about what a recipe says of its packages.
func factRules() []Rule {
	return []Rule{
		ell101(),
		ell102(),
		ell105(),
		ell106(),
		ell107(),
		ell113(),
		ell114(),
		ell115(),
		ell116(),
		ell117(),
		ell118(),
		ell119(),
		ell120(),
		ell121(),
		ell122(),
		ell123(),
		ell129(),
		ell130(),
		ell147(),
	}
}

// ell101 reports: summary repeats the name.
func ell101() Rule {
	return Rule{
		Code: "ELL101", Severity: Warning, Title: "summary repeats the name",
		Why:    "Every list shows the name right beside the summary, so its first words are wasted.",
		Remedy: "begin with what the package does",
		Wrong:  `summary = "tide: prints tables of the tides"`,
		Right:  `summary = "Print tables of the tides"`,
		recipe: func(c *recipeCheck) {
			words := strings.Fields(strings.ToLower(c.Summary))
			if len(words) > 0 && strings.Trim(words[0], ":,-–—") == c.Name {
				c.at(c.Doc.At("summary"), "the summary begins with the package's name: %q", c.Summary)
			}
		},
	}
}

// ell102 reports: summary too long, or a sentence.
func ell102() Rule {
	return Rule{
		Code: "ELL102", Severity: Hint, Title: "summary too long, or a sentence",
		Why:    "Summaries are shown in tables, one per line. Text that does not fit is cut off, and full stops are noise.",
		Remedy: "use at most 80 characters, without a full stop",
		Wrong:  `summary = "Print tables of the tides."`,
		Right:  `summary = "Print tables of the tides, currents, etc."`,
		recipe: func(c *recipeCheck) {
			n := len([]rune(c.Summary))
			short := strings.TrimSuffix(c.Summary, ".")
			words := strings.Fields(short)
			switch {
			case n > 80:
				c.at(c.Doc.At("summary"), "the summary has %d characters", n)
			case short == c.Summary || strings.HasSuffix(short, ".") || len(words) == 0 || abbreviation(words[len(words)-1]):
			default:
				c.fixable(c.Doc.At("summary"), setFact(short, "summary"), "the summary ends in a full stop")
			}
		},
	}
}

// ell105 reports: no changelog entry for this version.
func ell105() Rule {
	return Rule{
		Code: "ELL105", Severity: Warning, Title: "no changelog entry for this version",
		Why:    "Users read the changelog to see what an upgrade changes. Its newest date is also the timestamp of all built files.",
		Remedy: "add a [[change]] with version, date, by and text",
		Wrong:  "release = 2",
		Right:  "release = 1",
		recipe: func(c *recipeCheck) {
			if !slices.ContainsFunc(c.Changes, func(ch recipe.Change) bool { return ch.Version == c.Full() }) {
				c.at(c.Doc.At("release"), "no [[change]] says what is new in %s", c.Full())
			}
		},
	}
}

// ell106 reports: changelog entries out of order.
func ell106() Rule {
	return Rule{
		Code: "ELL106", Severity: Warning, Title: "changelog entries out of order",
		Why:    "Readers assume that the first entry is the newest. A date that goes back is usually a typing mistake.",
		Remedy: "put the newest entry first, and check the date",
		Wrong: `[[change]]
version = "1.2-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = ["Tables for three more harbours"]

[[change]]
version = "1.1-1"
date    = 2031-05-02
by      = "Ines Quarrell"
text    = ["The first release with a package"]`,
		Right: `[[change]]
version = "1.2-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = ["Tables for three more harbours"]

[[change]]
version = "1.1-1"
date    = 2031-03-02
by      = "Ines Quarrell"
text    = ["The first release with a package"]`,
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
	}
}

// ell129 reports: placeholder in place of a fact.
func ell129() Rule {
	return Rule{
		Code: "ELL129", Severity: Error, Title: "placeholder in place of a fact",
		Why:    "A draft could not find the fact in the source. Those who get the package would see the placeholder, and would not know what they may do with the package.",
		Remedy: "write the fact into the recipe, and build again",
		Wrong:  "summary = " + document.Quote(fact.PlaceholderSummary),
		Right:  `summary = "High water"`,
		recipe: func(c *recipeCheck) {
			for _, f := range placeholders(c.Summary, c.License, c.Version) {
				c.at(c.Doc.At(f), "the %s is still a placeholder", f)
			}
		},
	}
}

// unended matches a text that does not end where a phrase does.
var unended = pattern.New(`(?:\b(?:a|an|and|as|at|by|for|from|in|into|is|of|on|or|that|the|to|which|with)|[,;:(-]|\.\.\.|…)$`)

// ell147 reports: summary that is cut off.
func ell147() Rule {
	return Rule{
		Code: "ELL147", Severity: Warning, Title: "summary that is cut off",
		Why:    "It ends in the middle of a phrase, as if it was taken from a longer text.",
		Remedy: "write a phrase that ends, and the rest into `description`",
		Wrong:  `summary = "Reader of tables that shows the height of"`,
		Right:  `summary = "Reader of tables that shows heights"`,
		recipe: func(c *recipeCheck) {
			if c.Summary != fact.PlaceholderSummary && unended.MatchString(strings.TrimSpace(c.Summary)) {
				c.at(c.Doc.At("summary"), "it ends with %q", c.Summary[strings.LastIndexByte(strings.TrimSpace(c.Summary), ' ')+1:])
			}
		},
	}
}

// ell130 reports: package with a placeholder in place of a fact.
func ell130() Rule {
	return Rule{
		Code: "ELL130", Severity: Error, Title: "package with a placeholder in place of a fact",
		Why:    "Those who get the package see the placeholder, and do not know what they may do with the package.",
		Remedy: "write the fact into the recipe, and build again",
		Wrong:  "summary = " + document.Quote(fact.PlaceholderSummary) + "\n" + stageFile(""),
		Right:  "summary = \"High water\"\n" + stageFile(""),
		pkg: func(c *packageCheck) {
			for _, f := range placeholders(c.Facts.Summary, c.Facts.License, c.Facts.Version) {
				c.say("the %s is still a placeholder", f)
			}
		},
	}
}

// placeholders names the facts that are placeholders.
func placeholders(summary, license, version string) (out []string) {
	for _, f := range []struct{ key, value, placeholder string }{
		{"summary", summary, fact.PlaceholderSummary}, {"license", license, fact.PlaceholderLicense}, {"version", version, fact.PlaceholderVersion},
	} {
		if f.value == f.placeholder {
			out = append(out, f.key)
		}
	}
	return out
}

// ell107 reports: no maintainer.
func ell107() Rule {
	return Rule{
		Code: "ELL107", Severity: Hint, Title: "no maintainer",
		Why:    "People with a problem need somebody to ask.",
		Remedy: `add: maintainer = "Name <address>"`,
		Wrong:  `maintainer = ""`,
		Right:  `maintainer = "Ines Quarrell <ines@saltmarsh.example>"`,
		recipe: func(c *recipeCheck) {
			if c.Maintainer == "" {
				c.at(c.Doc.At("name"), "the recipe names no maintainer")
			}
		},
	}
}

// ell113 reports: summary says nothing.
func ell113() Rule {
	return Rule{
		Code: "ELL113", Severity: Warning, Title: "summary says nothing",
		Why:    "It is what people see in a search and choose by.",
		Remedy: "say in a few words what the package does",
		Wrong:  `summary = "A tool"`,
		Right:  `summary = "High water"`,
		recipe: func(c *recipeCheck) {
			words := slices.DeleteFunc(strings.FieldsFunc(strings.ToLower(c.Summary), func(r rune) bool { return strings.ContainsRune(" ,.:;-–—!", r) }), func(w string) bool {
				return emptyWords[w] || w == c.Name
			})
			if len(words) == 0 {
				c.at(c.Doc.At("summary"), "%q does not tell what the package does", c.Summary)
			}
		},
	}
}

// ell114 reports: missing or empty description.
func ell114() Rule {
	return Rule{
		Code: "ELL114", Severity: Hint, Title: "missing or empty description",
		Why:    "People who have read the summary and still wonder whether to install the package have nothing else to read.",
		Remedy: "write a few sentences in `description`: what it is for, what it needs, what it is not",
		Wrong:  `description = "Tides."`,
		Right: `description = """
Reads the constituents of a harbour and prints when the water is high and low.
"""`,
		recipe: func(c *recipeCheck) {
			text := strings.TrimRight(strings.TrimSpace(c.Description), ".")
			switch {
			case text == "":
				c.at(c.Doc.At("summary"), "the recipe has no description")
			case len(strings.Fields(text)) < 3:
				c.at(c.Doc.At("description"), "the description has no more to it than %q", text)
			case strings.EqualFold(text, strings.TrimRight(c.Summary, ".")):
				c.at(c.Doc.At("description"), "the description repeats the summary")
			}
		},
	}
}

// ell115 reports: deprecated license identifier.
func ell115() Rule {
	return Rule{
		Code: "ELL115", Severity: Warning, Title: "deprecated license identifier",
		Why:    "The SPDX License List has replaced it, usually because it did not say whether later versions of the license are allowed.",
		Remedy: "find out from the sources what is meant, and write the identifier that says it",
		Wrong:  `license = "GPL-2.0+"`,
		Right:  `license = "GPL-2.0-or-later"`,
		recipe: func(c *recipeCheck) {
			for _, d := range license.Deprecated(c.License) {
				n := c.Doc.Find("license")
				if d.Instead == "" {
					c.at(n.Value, "%s is deprecated", d.ID)
					continue
				}
				c.fixable(n.Value, setFact(c.License[:d.Offset]+d.Instead+c.License[d.Offset+len(d.ID):], "license"), "%s is deprecated: it is %s now", d.ID, d.Instead)
			}
		},
	}
}

// ell116 reports: license differs from the sources.
func ell116() Rule {
	return Rule{
		Code: "ELL116", Severity: Warning, Title: "license differs from the sources",
		Why:    "People who redistribute the package rely on its license field.",
		Remedy: "read the license files, and write the SPDX expression for what they allow; where more than one holds, join them with AND or OR",
		Wrong: `license = "Apache-2.0"
[[source]]
file = "COPYING"
`,
		Right: `license = "MIT"
[[source]]
file = "COPYING"
`,
		recipe: func(c *recipeCheck) {
			if c.linter.Licenses == nil {
				return
			}
			if name, family := otherLicense(c.License, c.linter.Licenses(c.ctx, c.Recipe)); name != "" {
				c.at(c.Doc.At("license"), "%s in the sources has the text of %s, and the recipe says %s", name, family, c.License)
			}
		},
	}
}

// ell117 reports: no homepage.
func ell117() Rule {
	return Rule{
		Code: "ELL117", Severity: Hint, Title: "no homepage",
		Why:    "Users look there for documentation, and maintainers for the next version.",
		Remedy: `add: homepage = "https://…"`,
		Wrong:  `homepage = ""`,
		Right:  `homepage = "https://tide.example/"`,
		recipe: func(c *recipeCheck) {
			if c.Homepage == "" {
				c.at(c.Doc.At("name"), "the recipe names no homepage")
			}
		},
	}
}

// ell118 reports: maintainer without an email address.
func ell118() Rule {
	return Rule{
		Code: "ELL118", Severity: Hint, Title: "maintainer without an email address",
		Why:    "Nobody can write to a name alone.",
		Remedy: `write: maintainer = "Name <address>"`,
		Wrong:  `maintainer = "Ines Quarrell"`,
		Right:  `maintainer = "Ines Quarrell <ines@saltmarsh.example>"`,
		recipe: func(c *recipeCheck) {
			if c.Maintainer != "" && !address.MatchString(c.Maintainer) && !strings.Contains(c.Maintainer, "://") {
				c.at(c.Doc.At("maintainer"), "%q has no address", c.Maintainer)
			}
		},
	}
}

// ell119 reports: two changelog entries for one version.
func ell119() Rule {
	return Rule{
		Code: "ELL119", Severity: Warning, Title: "two changelog entries for one version",
		Why:    "Readers who look up a version find the first entry only.",
		Remedy: "merge the two entries, or correct the version of one",
		Wrong: `[[change]]
version = "1.2-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = ["Tables for three more harbours"]

[[change]]
version = "1.2-1"
date    = 2031-04-01
by      = "Ines Quarrell"
text    = ["Times in UTC"]`,
		Right: `[[change]]
version = "1.2-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = ["Tables for three more harbours", "Times in UTC"]`,
		recipe: func(c *recipeCheck) {
			seen := map[string]bool{}
			for i, ch := range c.Changes {
				if seen[ch.Version] {
					c.at(c.Doc.At("change", i), "%s has an entry already", ch.Version)
				}
				seen[ch.Version] = true
			}
		},
	}
}

// ell120 reports: changelog entry without an author.
func ell120() Rule {
	return Rule{
		Code: "ELL120", Severity: Hint, Title: "changelog entry without an author",
		Why:    "Years later, somebody who wonders about a change needs to know whom to ask.",
		Remedy: `add: by = "Name <address>"`,
		Wrong: `[[change]]
version = "1.2-1"
date    = 2031-04-02
text    = ["Tables for three more harbours"]`,
		Right: `[[change]]
version = "1.2-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = ["Tables for three more harbours"]`,
		recipe: func(c *recipeCheck) {
			// Older entries will not be signed any more.
			if len(c.Changes) > 0 && c.Changes[0].By == "" {
				c.at(c.Doc.At("change", 0), "the entry for %s does not say who made it", c.Changes[0].Version)
			}
		},
	}
}

// ell121 reports: changelog entry without text.
func ell121() Rule {
	return Rule{
		Code: "ELL121", Severity: Hint, Title: "changelog entry without text",
		Why:    "An entry tells users what is new for them.",
		Remedy: "say what changed, or why the package was rebuilt",
		Wrong: `[[change]]
version = "1.2-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = []`,
		Right: `[[change]]
version = "1.2-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = ["Built again with a newer compiler"]`,
		recipe: func(c *recipeCheck) {
			for i, ch := range c.Changes {
				if !slices.ContainsFunc(ch.Text, func(t string) bool { return strings.TrimSpace(t) != "" }) {
					c.at(c.Doc.At("change", i), "the entry for %s is empty", ch.Version)
				}
			}
		},
	}
}

// ell122 reports: packages with the same summary.
func ell122() Rule {
	return Rule{
		Code: "ELL122", Severity: Hint, Title: "packages with the same summary",
		Why:    "In a search the packages of a recipe are listed together, and identical summaries do not tell them apart.",
		Remedy: "give each package a summary of its own",
		Wrong: `[package.tide.layout]
"/**" = {}
[package.tide-data.layout]
"/usr/share/tide/**" = {}`,
		Right: `[package.tide.layout]
"/**" = {}
[package.tide-data]
summary = "Constituents for tide"
[package.tide-data.layout]
"/usr/share/tide/**" = {}`,
		recipe: func(c *recipeCheck) {
			seen := map[string]string{}
			for _, name := range c.PackageNames() {
				summary := c.Packages[name].Summary
				if summary == "" {
					summary = c.Summary
				}
				if other := seen[summary]; other != "" {
					c.at(c.Doc.At("package", name), "%s and %s have the same summary", other, name)
				}
				seen[summary] = name
			}
		},
	}
}

// ell123 reports: option without a summary.
func ell123() Rule {
	return Rule{
		Code: "ELL123", Severity: Hint, Title: "option without a summary",
		Why:    "People choose an option by its summary.",
		Remedy: `add to the option: summary = "…"`,
		Wrong: `[option.tls]
default = false
[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide"
echo "$ELL_OPT_TLS" > "$DESTDIR/usr/share/tide/table"
'''`,
		Right: `[option.tls]
summary = "Serve over TLS"
default = false
[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide"
echo "$ELL_OPT_TLS" > "$DESTDIR/usr/share/tide/table"
'''`,
		recipe: func(c *recipeCheck) {
			for _, name := range sortedKeys(c.Options) {
				if strings.TrimSpace(c.Options[name].Summary) == "" {
					c.at(c.Doc.Find("option", name).Key, "option %s has no summary", name)
				}
			}
		},
	}
}

// otherLicense finds a text of a license that an expression does not name.
// Where it names that of another text, the texts are parts of one whole, as the
// GPL is of the LGPL, and a person has to decide.
func otherLicense(expression string, texts map[string]string) (name, family string) {
	for _, n := range sortedKeys(texts) {
		f := license.Recognise(texts[n])
		switch {
		case f == "":
		case license.Mentions(expression, f):
			return "", ""
		case name == "":
			name, family = n, f
		}
	}
	return name, family
}

// emptyWords are words that say nothing of what a package does.
var emptyWords = func() map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields("a an the of for and or this is it small simple new great best useful free tool tools utility utilities program programs package packages library libraries software application app system command description summary todo none") {
		out[w] = true
	}
	return out
}()

// abbreviation reports whether a word in front of a full stop keeps it.
func abbreviation(word string) bool {
	return word == "etc" || word == "al" || word == "Inc" || word == "Ltd" || strings.Contains(word, ".")
}
