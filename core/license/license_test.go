package license

import (
	"fmt"
	"strings"
	"testing"
)

func TestCheck(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"MIT", ""}, {"GPL-2.0+", ""}, {"(MIT OR Apache-2.0) AND BSD-3-Clause", ""}, {"GPL-2.0-only WITH Classpath-exception-2.0", ""},
		{"LicenseRef-Saltmarsh", ""}, {"DocumentRef-x:LicenseRef-y", ""},
		{"", "0 the licence expression is empty"},
		{"GPL-3", `0 "GPL-3" is not an SPDX licence identifier (did you mean "GPL-3.0-only" or "GPL-3.0-or-later"?)`},
		{"mit", `0 "mit" is not an SPDX licence identifier (did you mean "MIT"?)`},
		{"MIT or ISC", `4 "or" is written in capitals in an SPDX expression (write OR)`},
		{"MIT ISC", `4 "ISC" where AND, OR or the end is expected`},
		{"(MIT OR ISC", `11 a parenthesis is not closed`},
		{"MIT AND", `7 the expression ends where a licence is expected`},
		{"MIT WITH Classpath-exception", `9 unknown licence exception "Classpath-exception" (did you mean "Classpath-exception-2.0"?)`},
		{"Foo AND Bar-1", `0 "Foo" is not; 8 "Bar-1" is not`},
	} {
		var got []string
		for _, e := range Check(c.in) {
			got = append(got, fmt.Sprintf("%d %v", e.Offset, e))
		}
		want := strings.Split(c.want, "; ")
		if c.want == "" {
			want = nil
		}
		ok := len(got) == len(want)
		for i := range min(len(got), len(want)) {
			ok = ok && strings.HasPrefix(got[i], want[i])
		}
		if !ok {
			t.Errorf("Check(%q) = %q, want %q", c.in, got, want)
		}
	}
}

func FuzzCheck(f *testing.F) {
	f.Add("(MIT OR Apache-2.0) AND GPL-2.0-only WITH Classpath-exception-2.0")
	f.Fuzz(func(t *testing.T, s string) {
		for _, e := range Check(s) {
			if e.Offset < 0 || e.Offset > len(s) || e.Length < 0 || e.Message == "" {
				t.Errorf("%q: a mistake without a place: %+v", s, e)
			}
		}
	})
}
