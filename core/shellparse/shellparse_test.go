package shellparse

import (
	"errors"
	"strings"
	"testing"

	"mvdan.cc/sh/v3/syntax"
)

func TestParse(t *testing.T) {
	for what, text := range map[string]string{
		"arithmetic":      strings.Repeat("$((", 50_000),
		"substitutions":   strings.Repeat("$(", 50_000),
		"subshells":       strings.Repeat("(", 50_000),
		"parameters":      strings.Repeat("${a:-", 50_000),
		"blocks":          strings.Repeat("{ ", 50_000),
		"backquotes":      strings.Repeat("\\`", 50_000),
		"a very long one": strings.Repeat("true\n", maxSize),
	} {
		if _, err := Parse(text, syntax.LangPOSIX); !errors.Is(err, ErrBounds) {
			t.Errorf("%s: %v", what, err)
		}
	}
	many := strings.Repeat("case $x in a) f;; b) g;; esac\nif (true); then echo ${y:-$(date)}; fi\n", 1000)
	if f, err := Parse(many, syntax.LangPOSIX); err != nil || len(f.Stmts) != 2000 {
		t.Errorf("a long script: %v", err)
	}
	var mistake syntax.ParseError
	if _, err := Parse("if true", syntax.LangPOSIX); !errors.As(err, &mistake) {
		t.Errorf("a mistake: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("a=$(( 1 + `date` )); case x in (y) z;; esac <<E\nE\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, v := range []syntax.LangVariant{syntax.LangPOSIX, syntax.LangBash} {
			Parse(text, v)
		}
	})
}
