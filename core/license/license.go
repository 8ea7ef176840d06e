// Package license reads SPDX licence expressions (SPDX Specification 2.3,
// Annex D, https://spdx.github.io/spdx-spec/v2.3/SPDX-license-expressions/)
// and knows the identifiers of the SPDX License List. The lists beside this
// file are the SPDX project's own, as data.
package license

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"ellwand.example/core/document"
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
	tokens    = regexp.MustCompile(`[()]|[^()\s]+`)
	reference = regexp.MustCompile(`^(DocumentRef-[A-Za-z0-9.-]+:)?LicenseRef-[A-Za-z0-9.-]+$`)
)

// Check returns what is wrong with an expression, every mistake at once; none
// for a valid one. Identifiers are compared without regard to case, as SPDX
// has it, but one not in its listed spelling is a mistake all the same, since
// tools that read the result often do compare it.
func Check(expression string) []*document.Mistake {
	c := &checker{text: expression, at: tokens.FindAllStringIndex(expression, -1)}
	if len(c.at) == 0 {
		return []*document.Mistake{{Message: "the licence expression is empty", Remedy: `for example "MIT" or "GPL-3.0-or-later"`}}
	}
	c.compound(0)
	if c.i < len(c.at) && !c.broken {
		c.fail(fmt.Sprintf("%q where AND, OR or the end is expected", c.peek()), "two licences are joined by AND or OR")
	}
	return c.errors
}

type checker struct {
	text   string
	at     [][]int
	i      int
	broken bool // the shape is lost: further complaints would be guesses
	errors []*document.Mistake
}

const maxDepth = 50

func (c *checker) peek() string {
	if c.i >= len(c.at) {
		return ""
	}
	return c.text[c.at[c.i][0]:c.at[c.i][1]]
}

func (c *checker) complain(message, remedy string) {
	e := &document.Mistake{Offset: len(c.text), Length: 1, Message: message, Remedy: remedy}
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
		c.fail("the expression ends where a licence is expected", "")
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
		c.fail(fmt.Sprintf("%q where a licence is expected", word), "")
		return
	}
	c.identifier(word)
	c.i++
	if c.peek() == "WITH" {
		c.i++
		exception := c.peek()
		if !slices.Contains(load().exceptions, exception) {
			c.complain(fmt.Sprintf("unknown licence exception %q", exception), meant(exception, load().exceptions))
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
	c.complain(fmt.Sprintf("%q is not an SPDX licence identifier", word), remedy)
}

// families maps what people call a licence to the identifiers they may mean.
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
	if near := document.Nearest(word, candidates); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return ""
}
