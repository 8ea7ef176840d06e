package recipe

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
)

// A recipe of a few kilobytes takes neither all memory nor all time, and says
// what is wrong with it. What it may take is far more than a sound one does,
// and far less than these would.
func TestBudgets(t *testing.T) {
	var let, values strings.Builder
	let.WriteString("[let]\na0 = \"xxxxxxxxxx\"\n")
	for i := range 11 {
		fmt.Fprintf(&let, "a%d = %q\n", i+1, strings.Repeat(fmt.Sprintf("{a%d}", i), 10))
	}
	values.WriteString("[let]\nlong = \"" + strings.Repeat("x", 1000) + "\"\nmany = \"" + strings.Repeat("{long}", 1000) + "\"\n")
	for i := range 2000 {
		fmt.Fprintf(&values, "v%d = \"{many}\"\n", i)
	}
	var unknown, conditions strings.Builder
	for i := range 40_000 {
		fmt.Fprintf(&unknown, "unknown_key_%d = 1\n", i)
	}
	for i := range 12 {
		fmt.Fprintf(&conditions, "[option.o%d]\ndefault = false\n", i)
	}
	for i := range 2000 {
		fmt.Fprintf(&conditions, "[[needs.when]]\nif = \"option.o%d && !option.o%d\"\nbuild = [\"command/x%d\"]\n", i%12, i%12, i)
	}
	var ranked strings.Builder
	ranked.WriteString("[package.tide.layout]\n")
	for i := range 3000 {
		fmt.Fprintf(&ranked, "\"/usr/*%04d\" = {}\n", i)
	}
	when := func(condition string) string {
		return "[[needs.when]]\nif = '" + condition + "'\nbuild = [\"command/x\"]\n"
	}
	stars := "/" + strings.Repeat("**/", 60) + "x"
	for what, c := range map[string]struct{ text, says string }{
		"values that use each other":      {let.String(), "is larger than"},
		"many large values":               {values.String(), "all strings together"},
		"a condition that builds a text":  {when(`len(reduce(1..60, #acc + #acc, "ab")) > 1`), "cannot be read"},
		"a condition that repeats":        {when(`len(repeat("x", 1000000000)) > 1`), "cannot be read"},
		"a condition over a range":        {when(`len(1..1000000000) > 1`), "condition"},
		"a long condition":                {when(strings.Repeat("true && ", 100_000) + "true"), "is the most that is read"},
		"a nested condition":              {when(strings.Repeat("(", 2000) + "true" + strings.Repeat(")", 2000)), ""},
		"a deep condition":                {when(strings.Repeat("!", 4000) + "true"), "condition"},
		"unknown keys":                    {unknown.String(), "and 39"},
		"conditions":                      {conditions.String(), "more mistakes"},
		"a pattern of stars":              {"discard = [\"" + stars + "\"]\n", "more than 4"},
		"a rewrite's pattern of stars":    {"[[rewrite]]\nafter = \"unpack\"\npath = \"" + stars[1:] + "\"\nfind = \"a\"\nreplace = \"b\"\n", "pattern"},
		"a skip of braces":                {"[[source]]\nurl = \"https://a.example/a.tar\"\nskip = [\"" + strings.Repeat("{a,b}", 30) + "\"]\n", "pattern"},
		"values that are unknown":         {"description = \"" + strings.Repeat("{nothing}", 100_000) + "\"\n", "more mistakes"},
		"patterns of one rank":            {ranked.String(), "too many to tell"},
		"a script of brackets":            {"[steps]\nbuild = '''\n" + strings.Repeat("$((", 50_000) + "'''\n", ""},
		"a very long line with a mistake": {"unknown = \"" + strings.Repeat("x", 1<<20) + "\"\n", "unknown key"},
	} {
		t.Run(what, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := Parse("recipe.toml", []byte(facts+c.text), target, nil)
			runtime.ReadMemStats(&after)
			if c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
				text := fmt.Sprint(err)
				t.Errorf("%s\nwant %s", text[:min(len(text), 500)], c.says)
			}
			if took := after.TotalAlloc - before.TotalAlloc; took > 2<<30 {
				t.Errorf("it takes %d MiB in all", took>>20)
			}
		})
	}
}
