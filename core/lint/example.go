package lint

import (
	"strings"

	"ellwand.example/core/fact"
)

// exampleFacts is what the recipes of examples begin with; an example says what
// is different.
const exampleFacts = `format      = 1
name        = "tide"
version     = "1.2"
release     = 1
arch        = "independent"
summary     = "Print tables of the tides"
description = """
Reads the constituents of a harbour and prints when the water is high and low.
"""
license     = "MIT"
homepage    = "https://tide.example/"
maintainer  = "Ines Quarrell <ines@saltmarsh.example>"
`

// exampleTables are the tables of the recipes of examples, each of which an
// example's own table of the same name takes the place of.
var exampleTables = []string{`[[change]]
version = "1.2-1"
date    = 2031-04-02
by      = "Ines Quarrell <ines@saltmarsh.example>"
text    = ["Tables for three more harbours"]
`, `[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide"
echo 3.14 > "$DESTDIR/usr/share/tide/constituents"
'''
`, `[package.tide.layout]
"/usr/share/licenses/tide/COPYING" = { from = "COPYING" }
"/**" = {}
`}

const exampleLicense = `Copyright (c) 2031 Saltmarsh Harbour Authority

Permission is hereby granted, free of charge, to any person obtaining a copy
of this software and associated documentation files (the "Software"), to deal
in the Software without restriction, including without limitation the rights
to use, copy, modify, merge, publish, distribute, sublicense, and/or sell
copies of the Software, and to permit persons to whom the Software is
furnished to do so, subject to the following conditions:

The above copyright notice and this permission notice shall be included in all
copies or substantial portions of the Software.

THE SOFTWARE IS PROVIDED "AS IS", WITHOUT WARRANTY OF ANY KIND, EXPRESS OR
IMPLIED, INCLUDING BUT NOT LIMITED TO THE WARRANTIES OF MERCHANTABILITY,
FITNESS FOR A PARTICULAR PURPOSE AND NONINFRINGEMENT. IN NO EVENT SHALL THE
AUTHORS OR COPYRIGHT HOLDERS BE LIABLE FOR ANY CLAIM, DAMAGES OR OTHER
LIABILITY, WHETHER IN AN ACTION OF CONTRACT, TORT OR OTHERWISE, ARISING FROM,
OUT OF OR IN CONNECTION WITH THE SOFTWARE OR THE USE OR OTHER DEALINGS IN THE
SOFTWARE.
`

const exampleSettings = `name = "example"

[repository.local]
url = "repository"
`

// Example is an example of a rule as a whole workspace.
type Example struct {
	Files map[string]string // by their paths in it
	// Before are the files of an earlier state, to be built and published
	// first, where there was one.
	Before map[string]string
	Then   string // commands for the shell, after the build
}

// Workspace completes an example: its text is a piece of a recipe, and further
// parts that begin with a line -- NAME --:
//
//	-- published --    a piece of the recipe as it was built and published before
//	-- other NAME --   a piece of another recipe
//	-- then --         commands for the shell, to be run after the build
//	-- /PATH --        a file of the workspace
//	-- FILE --         a file beside the recipe
//
// A piece takes the place of what has the same name in the recipe that all
// examples share.
func Workspace(example string) Example {
	out := Example{Files: map[string]string{"ellwand.toml": exampleSettings}}
	names, texts := []string{""}, []string{""}
	for line := range strings.SplitAfterSeq(example, "\n") {
		name, ok := strings.CutPrefix(strings.TrimSuffix(line, "\n"), "-- ")
		if name, end := strings.CutSuffix(name, " --"); ok && end {
			names, texts = append(names, name), append(texts, "")
			continue
		}
		texts[len(texts)-1] += line
	}
	for i, name := range names {
		text := texts[i]
		switch {
		case name == "":
			putRecipe(out.Files, "tide", text)
		case name == "published":
			out.Before = map[string]string{"ellwand.toml": exampleSettings}
			putRecipe(out.Before, "tide", text)
		case name == "then":
			out.Then = text
		case strings.HasPrefix(name, "other "):
			putRecipe(out.Files, strings.TrimPrefix(name, "other "), text)
		case strings.HasPrefix(name, "/"):
			out.Files[name[1:]] = text
		default:
			out.Files["recipes/tide/"+name] = text
		}
	}
	return out
}

// putRecipe completes a piece of a recipe, and puts it among files. A recipe
// of another name has the same facts under that name.
func putRecipe(files map[string]string, name, piece string) {
	text := complete("")
	if name != "tide" {
		text = strings.NewReplacer(`"tide"`, `"`+name+`"`, "/tide/", "/"+name+"/", "share/tide", "share/"+name, "[package.tide.", "[package."+name+".").Replace(text)
	}
	text = strings.Join(override(text, piece), "")
	dir := "recipes/" + name + "/"
	files[dir+"recipe.toml"] = text
	if strings.Contains(text, `"COPYING"`) {
		files[dir+"COPYING"] = exampleLicense
	}
}

// complete makes a recipe of a piece of one.
func complete(piece string) string {
	return strings.Join(override(exampleFacts+"\n"+strings.Join(exampleTables, "\n"), piece), "")
}

// override puts the facts and tables of a piece in the place of those with the
// same name, and the other tables behind all.
func override(text, piece string) []string {
	facts, tables := split(text)
	ownFacts, ownTables := split(piece)
	var out []string
	for _, f := range facts {
		key, _, _ := strings.Cut(f, "=")
		if !hasKey(ownFacts, strings.TrimSpace(key)) {
			out = append(out, f)
		}
	}
	out = append(append(out, ownFacts...), "\n")
	packages := false
	for _, t := range ownTables {
		packages = packages || strings.HasPrefix(t, "[package.")
	}
	for _, t := range tables {
		head, _, _ := strings.Cut(t, "\n")
		mine := strings.HasPrefix(head, "[package.") && packages
		for _, own := range ownTables {
			ownHead, _, _ := strings.Cut(own, "\n")
			mine = mine || ownHead == head
		}
		if !mine {
			out = append(out, strings.TrimRight(t, "\n")+"\n\n")
		}
	}
	for _, t := range ownTables {
		out = append(out, strings.TrimRight(t, "\n")+"\n\n")
	}
	return out
}

func hasKey(facts []string, key string) bool {
	for _, f := range facts {
		if own, _, _ := strings.Cut(f, "="); strings.TrimSpace(own) == key {
			return true
		}
	}
	return false
}

// split takes a piece of a recipe apart: facts, which may have several lines,
// and tables.
func split(piece string) (facts, tables []string) {
	inString := ""
	for line := range strings.SplitAfterSeq(piece, "\n") {
		began := inString != ""
		for _, quotes := range []string{"'''", `"""`} {
			if strings.Count(line, quotes)%2 == 1 && (inString == "" || inString == quotes) {
				if inString == "" {
					inString = quotes
				} else {
					inString = ""
				}
			}
		}
		switch {
		case !began && strings.HasPrefix(line, "["):
			tables = append(tables, line)
		case len(tables) > 0:
			tables[len(tables)-1] += line
		case began || strings.TrimSpace(line) != "" && !strings.Contains(line, "="):
			facts[len(facts)-1] += line
		case strings.TrimSpace(line) != "":
			facts = append(facts, strings.TrimRight(line, "\n")+"\n")
		}
	}
	return facts, tables
}

// OfPackages reports whether a rule is about packages, which are built before it
// looks at them.
func (r Rule) OfPackages() bool { return r.recipe == nil }

// OfRepositories reports whether a rule is about repositories.
func (r Rule) OfRepositories() bool { return fact.AreaOf(r.Code) == fact.AreaRepository }
