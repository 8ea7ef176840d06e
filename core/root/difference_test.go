package root

import (
	"fmt"
	"strings"
	"testing"
)

func TestDifference(t *testing.T) {
	set := func(words string) (out []Installed) {
		for _, w := range strings.Fields(words) {
			name, version, _ := strings.Cut(w, "@")
			out = append(out, Installed{Name: name, Version: version, Release: 1, SHA256: w})
		}
		return out
	}
	for _, c := range []struct{ from, to, want string }{
		{"", "", ""},
		{"a@1 b@1", "a@1 b@1", ""},
		{"a@1", "", "a 1 →"},
		{"", "a@1", "a → 1"},
		{"a@1 b@2 c@1", "b@3 c@1 d@1", "a 1 →, b 2 → 3, d → 1"},
	} {
		var got []string
		for _, d := range Difference(set(c.from), set(c.to)) {
			text := d.Name
			if d.From != nil {
				text += " " + d.From.Version
			}
			text += " →"
			if d.To != nil {
				text += " " + d.To.Version
			}
			got = append(got, text)
		}
		if fmt.Sprint(strings.Join(got, ", ")) != c.want {
			t.Errorf("from %q to %q: %q, want %q", c.from, c.to, got, c.want)
		}
	}
}
