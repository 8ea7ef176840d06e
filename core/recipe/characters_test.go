package recipe

import (
	"strings"
	"testing"
)

func TestCharacters(t *testing.T) {
	for what, c := range map[string]struct{ text, says string }{
		"an override in a comment": {"# harmless \u202e\n", "7:12: U+202E, right-to-left override, does not show"},
		"an isolate in a script":   {"[steps]\nbuild = 'echo a\u2066b'\n", "U+2066"},
		"a space without width":    {"homepage = \"https://pay\u200bpal.example\"\n", "U+200B"},
		"an escape for one":        {`description = "a\\u202eb"` + "\n", "U+202E"},
		"an escape character":      {`description = "\\u001b[31m"` + "\n", "U+001B is a control character"},
		"a C1 character":           {`description = "\\u009b31m"` + "\n", "U+009B is a control character"},
		"in a list":                {`discard = ["/a\\u0007"]` + "\n", "U+0007"},
		"a long summary":           {"[package.tide]\n", ""},
		"a long description":       {"description = \"" + strings.Repeat("x", maxDescription+1) + "\"\n", "is the most that a package takes"},
		"other scripts":            {"description = \"\"\"\n潮汐 é\tمد\n\"\"\"\n", ""},
	} {
		_, err := Parse("recipe.toml", []byte(facts+strings.ReplaceAll(c.text, `\\u`, `\u`)), target, nil)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", what, err, c.says)
		}
	}
}
