package pattern

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
)

// A pattern finds what the expression finds that is compiled at once.
func TestPattern(t *testing.T) {
	const expression, text = `(\w)(\d+)`, "a1 b22 c"
	p, re := New(expression), regexp.MustCompile(expression)
	same := func(what string, got, want any) {
		t.Helper()
		if g, w := strings.TrimSpace(fmt.Sprint(got)), strings.TrimSpace(fmt.Sprint(want)); g != w {
			t.Errorf("%s: %s, want %s", what, g, w)
		}
	}
	same("Match", p.Match([]byte(text)), re.Match([]byte(text)))
	same("MatchString", p.MatchString("none"), re.MatchString("none"))
	same("FindString", p.FindString(text), re.FindString(text))
	same("FindStringIndex", p.FindStringIndex(text), re.FindStringIndex(text))
	same("FindIndex", p.FindIndex([]byte(text)), re.FindIndex([]byte(text)))
	same("FindSubmatch", p.FindSubmatch([]byte(text)), re.FindSubmatch([]byte(text)))
	same("FindStringSubmatch", p.FindStringSubmatch(text), re.FindStringSubmatch(text))
	same("FindStringSubmatchIndex", p.FindStringSubmatchIndex(text), re.FindStringSubmatchIndex(text))
	same("FindSubmatchIndex", p.FindSubmatchIndex([]byte(text)), re.FindSubmatchIndex([]byte(text)))
	same("FindAllString", p.FindAllString(text, -1), re.FindAllString(text, -1))
	same("FindAllStringIndex", p.FindAllStringIndex(text, 1), re.FindAllStringIndex(text, 1))
	same("FindAllStringSubmatch", p.FindAllStringSubmatch(text, -1), re.FindAllStringSubmatch(text, -1))
	same("FindAllStringSubmatchIndex", p.FindAllStringSubmatchIndex(text, -1), re.FindAllStringSubmatchIndex(text, -1))
	same("ReplaceAll", p.ReplaceAll([]byte(text), []byte("$2")), re.ReplaceAll([]byte(text), []byte("$2")))
	same("ReplaceAllString", p.ReplaceAllString(text, "$2"), re.ReplaceAllString(text, "$2"))
	same("ReplaceAllStringFunc", p.ReplaceAllStringFunc(text, strings.ToUpper), re.ReplaceAllStringFunc(text, strings.ToUpper))
}

// An expression with an error is found when it is used, not at the program's start.
func TestBroken(t *testing.T) {
	p := New("(")
	defer func() {
		if recover() == nil {
			t.Error("a broken expression was accepted")
		}
	}()
	p.MatchString("")
}
