// Package license reads SPDX license expressions (SPDX Specification 2.3,
// Annex D, https://spdx.github.io/spdx-spec/v2.3/SPDX-license-expressions/)
// and knows the identifiers of the SPDX License List. The lists beside this
// file are the SPDX project's own, as data.
package license

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
)

//go:embed ids.json
var idsJSON []byte

//go:embed deprecated.json
var deprecatedJSON []byte

//go:embed exceptions.json
var exceptionsJSON []byte

type lists struct{ ids, deprecated, exceptions []string }

var load = sync.OnceValue(func() lists {
	var l lists
	for _, f := range []struct {
		data []byte
		into *[]string
	}{{idsJSON, &l.ids}, {deprecatedJSON, &l.deprecated}, {exceptionsJSON, &l.exceptions}} {
		if err := json.Unmarshal(f.data, f.into); err != nil {
			panic("license: embedded list: " + err.Error())
		}
	}
	return l
})

var (
	tokens    = pattern.New(`[()]|[^()\s]+`)
	reference = pattern.New(`^(DocumentRef-[A-Za-z0-9.-]+:)?LicenseRef-[A-Za-z0-9.-]+$`)
)

// Check returns what is wrong with an expression, every mistake at once; none
// for a valid one. Identifiers are compared without regard to case, as SPDX
// has it, but one not in its listed spelling is a mistake all the same, since
// tools that read the result often do compare it.
func Check(expression string) []*fact.SyntaxError {
	c := &checker{text: expression, at: tokens.FindAllStringIndex(expression, -1)}
	if len(c.at) == 0 {
		return []*fact.SyntaxError{{Message: "the license expression is empty", Remedy: `for example "MIT" or "GPL-3.0-or-later"`}}
	}
	c.compound(0)
	if c.i < len(c.at) && !c.broken {
		c.fail(fmt.Sprintf("%q where AND, OR or the end is expected", c.peek()), "two licenses are joined by AND or OR")
	}
	return c.errors
}

type checker struct {
	text   string
	at     [][]int
	i      int
	broken bool // the shape is lost: further complaints would be guesses
	errors []*fact.SyntaxError
}

const maxDepth = 50

func (c *checker) peek() string {
	if c.i >= len(c.at) {
		return ""
	}
	return c.text[c.at[c.i][0]:c.at[c.i][1]]
}

func (c *checker) complain(message, remedy string) {
	e := &fact.SyntaxError{Offset: len(c.text), Length: 1, Message: message, Remedy: remedy}
	if c.i < len(c.at) {
		e.Offset, e.Length = c.at[c.i][0], c.at[c.i][1]-c.at[c.i][0]
	}
	c.errors = append(c.errors, e)
}

func (c *checker) fail(message, remedy string) {
	if !c.broken {
		c.complain(message, remedy)
		c.broken = true
	}
}

// compound reads operands joined by AND and OR. Precedence does not matter to
// validity, so both are read on one level.
func (c *checker) compound(depth int) {
	if depth > maxDepth {
		c.fail("parentheses stand too deep inside one another", "")
		return
	}
	for {
		c.operand(depth)
		if c.broken {
			return
		}
		switch word := c.peek(); {
		case word == "AND" || word == "OR":
			c.i++
		case strings.EqualFold(word, "and") || strings.EqualFold(word, "or"):
			c.complain(fmt.Sprintf("%q is written in capitals in an SPDX expression", word), "write "+strings.ToUpper(word))
			c.i++
		default:
			return
		}
	}
}

func (c *checker) operand(depth int) {
	word := c.peek()
	switch word {
	case "":
		c.fail("the expression ends where a license is expected", "")
		return
	case "(":
		c.i++
		c.compound(depth + 1)
		if c.peek() != ")" {
			c.fail("a parenthesis is not closed", "add )")
		}
		c.i++
		return
	case ")", "AND", "OR", "WITH":
		c.fail(fmt.Sprintf("%q where a license is expected", word), "")
		return
	}
	c.identifier(word)
	c.i++
	if c.peek() == "WITH" {
		c.i++
		exception := c.peek()
		if !slices.Contains(load().exceptions, exception) {
			c.complain(fmt.Sprintf("unknown license exception %q", exception), meant(exception, load().exceptions))
		}
		c.i++
	}
}

func (c *checker) identifier(word string) {
	l := load()
	id := strings.TrimSuffix(word, "+")
	if slices.Contains(l.ids, id) || slices.Contains(l.deprecated, id) || reference.MatchString(word) {
		return
	}
	remedy := meant(word, l.ids)
	if remedy == "" {
		remedy = "identifiers are those of the SPDX License List, or LicenseRef- and a name of your own"
	}
	c.complain(fmt.Sprintf("%q is not an SPDX license identifier", word), remedy)
}

// families maps what people call a license to the identifiers they may mean.
var families = map[string]string{
	"gpl": `"GPL-2.0-or-later" or "GPL-3.0-or-later"`, "lgpl": `"LGPL-2.1-or-later" or "LGPL-3.0-or-later"`,
	"gplv2": `"GPL-2.0-only" or "GPL-2.0-or-later"`, "gplv3": `"GPL-3.0-only" or "GPL-3.0-or-later"`,
	"gpl2": `"GPL-2.0-only" or "GPL-2.0-or-later"`, "gpl3": `"GPL-3.0-only" or "GPL-3.0-or-later"`,
	"gpl-2": `"GPL-2.0-only" or "GPL-2.0-or-later"`, "gpl-3": `"GPL-3.0-only" or "GPL-3.0-or-later"`,
	"bsd": `"BSD-2-Clause" or "BSD-3-Clause"`, "apache": `"Apache-2.0"`, "apache2": `"Apache-2.0"`, "public-domain": `"CC0-1.0", or LicenseRef-PublicDomain`,
}

func meant(word string, candidates []string) string {
	if f := families[strings.ToLower(word)]; f != "" {
		return "did you mean " + f + "?"
	}
	if near := fact.Nearest(word, candidates); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return ""
}

// Superseded is an identifier in an expression that the License List has
// deprecated.
type Superseded struct {
	ID      string // as written, with a + behind it
	Offset  int    // in the expression
	Instead string // what says the same now; empty if that is not clear
}

// Deprecated lists the identifiers of an expression that are deprecated.
func Deprecated(expression string) []Superseded {
	var out []Superseded
	for _, at := range tokens.FindAllStringIndex(expression, -1) {
		word := expression[at[0]:at[1]]
		id := strings.TrimSuffix(word, "+")
		l := load()
		if !slices.Contains(l.deprecated, id) && !(word != id && slices.Contains(l.deprecated, word)) {
			continue
		}
		s := Superseded{ID: word, Offset: at[0]}
		for _, suffix := range []string{"-or-later", "-only"} {
			if (suffix == "-or-later") == (word != id) && slices.Contains(l.ids, id+suffix) {
				s.Instead = id + suffix
			}
		}
		out = append(out, s)
	}
	return out
}

// texts are licenses with words of which all are in their texts, and words
// of which none does. The first that fits counts.
var texts = []struct {
	id    string
	words []string
	not   []string
}{
	{"AGPL-3.0", []string{"gnu affero general public license version 3, 19 november 2007"}, nil},
	{"LGPL-3.0", []string{"gnu lesser general public license version 3, 29 june 2007"}, nil},
	{"GPL-3.0", []string{"gnu general public license version 3, 29 june 2007"}, nil},
	{"LGPL-2.1", []string{"gnu lesser general public license version 2.1, february 1999"}, nil},
	{"LGPL-2.0", []string{"gnu library general public license version 2, june 1991"}, nil},
	{"GPL-2.0", []string{"gnu general public license version 2, june 1991"}, nil},
	{"Apache-2.0", []string{"apache license", "version 2.0, january 2004", "terms and conditions for use, reproduction"}, nil},
	{"MPL-2.0", []string{"mozilla public license version 2.0"}, []string{"apache license"}},
	{"BSL-1.0", []string{"boost software license - version 1.0"}, nil},
	{"Unlicense", []string{"this is free and unencumbered software released into the public domain"}, nil},
	{"ISC", []string{"permission to use, copy, modify, and/or distribute this software for any purpose with or without fee is hereby granted, provided that"}, nil},
	{"MIT", []string{"permission is hereby granted, free of charge, to any person obtaining a copy", "the above copyright notice and this permission notice"}, []string{"except as contained in this notice", "endorse"}},
	{"Zlib", []string{"this software is provided 'as-is', without any express or implied warranty", "altered source versions must be plainly marked"}, nil},
	{"BSD-3-Clause", []string{"redistributions of source code must retain", "redistributions in binary form must reproduce", "endorse or promote products"}, []string{"all advertising materials", "apache"}},
	{"BSD-2-Clause", []string{"redistributions of source code must retain", "redistributions in binary form must reproduce"}, []string{"endorse", "all advertising materials", "apache"}},
}

// maxText is how much of a text Recognise looks at: licenses are in front.
const maxText = 64 << 10

// Recognise names the license that a text is, for the most usual ones: without
// -only or -or-later, which the text of a license leaves open. It is empty for
// a text that is none of them, or more than one.
func Recognise(text string) string {
	text = strings.ToLower(strings.Join(strings.Fields(text[:min(len(text), maxText)]), " "))
	contains := func(w string) bool { return strings.Contains(text, w) }
	found := ""
	for _, t := range texts {
		if slices.ContainsFunc(t.not, contains) || slices.ContainsFunc(t.words, func(w string) bool { return !contains(w) }) {
			continue
		}
		if found != "" && strings.Contains(found, "GPL") != strings.Contains(t.id, "GPL") {
			return ""
		}
		if found == "" {
			found = t.id
		}
	}
	return found
}

// Mentions reports whether an expression names a license that Recognise has
// named. One that is a reference of somebody's own may be any of them.
func Mentions(expression, id string) bool {
	for _, word := range tokens.FindAllString(expression, -1) {
		if strings.HasPrefix(word, id) || strings.Contains(word, "LicenseRef-") {
			return true
		}
		// Further forms of one text differ in a line.
		for _, stem := range []string{"MIT", "BSD", "ISC"} {
			if strings.HasPrefix(id, stem) && (strings.HasPrefix(word, stem) || word == "X11" || word == "0BSD") {
				return true
			}
		}
		// The Library GPL became the Lesser one; LGPL 3 comes with the text of GPL 3.
		if strings.HasPrefix(id, "LGPL-2") && strings.HasPrefix(word, "LGPL-2") || id == "GPL-3.0" && strings.HasPrefix(word, "LGPL-3") {
			return true
		}
	}
	return false
}
