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
		{"", "0 the license expression is empty"},
		{"GPL-3", `0 "GPL-3" is not an SPDX license identifier (did you mean "GPL-3.0-only" or "GPL-3.0-or-later"?)`},
		{"mit", `0 "mit" is not an SPDX license identifier (did you mean "MIT"?)`},
		{"MIT or ISC", `4 "or" is written in capitals in an SPDX expression (write OR)`},
		{"MIT ISC", `4 "ISC" where AND, OR or the end is expected`},
		{"(MIT OR ISC", `11 a parenthesis is not closed`},
		{"MIT AND", `7 the expression ends where a license is expected`},
		{"MIT WITH Classpath-exception", `9 unknown license exception "Classpath-exception" (did you mean "Classpath-exception-2.0"?)`},
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

func TestDeprecated(t *testing.T) {
	for expression, want := range map[string]string{
		"MIT": "", "GPL-2.0-or-later": "", "GPL-2.0": "GPL-2.0→GPL-2.0-only@0", "MIT OR (GPL-2.0+ AND LGPL-2.1)": "GPL-2.0+→GPL-2.0-or-later@8 LGPL-2.1→LGPL-2.1-only@21",
		"Apache-2.0+": "", "eCos-2.0": "eCos-2.0→@0",
	} {
		var got []string
		for _, d := range Deprecated(expression) {
			got = append(got, fmt.Sprintf("%s→%s@%d", d.ID, d.Instead, d.Offset))
		}
		if s := strings.Join(got, " "); s != want {
			t.Errorf("%s: %s, want %s", expression, s, want)
		}
	}
}

func TestRecognise(t *testing.T) {
	const gpl3 = "  GNU GENERAL PUBLIC LICENSE\n   Version 3, 29 June 2007\n TERMS AND CONDITIONS\n use the GNU Lesser General\nPublic License instead"
	const lgpl3 = "GNU LESSER GENERAL PUBLIC LICENSE\n Version 3, 29 June 2007\n incorporates version 3 of the GNU General Public License"
	const mit = "Permission is hereby granted, free of charge, to any person obtaining a copy\nof\tthis\n... The above copyright notice and this permission notice shall"
	const bsd = "Redistributions of source code must retain the above.\n Redistributions in binary form must reproduce"
	for text, want := range map[string]string{
		"": "", "Copyright 2031": "", gpl3: "GPL-3.0", lgpl3: "LGPL-3.0", mit: "MIT", bsd: "BSD-2-Clause", bsd + " may be used to endorse or promote products": "BSD-3-Clause",
		gpl3 + mit: "", lgpl3 + gpl3: "LGPL-3.0", bsd + " All advertising materials": "",
	} {
		if got := Recognise(text); got != want {
			t.Errorf("%.60q: %q, want %q", text, got, want)
		}
	}
}

func TestMentions(t *testing.T) {
	for _, c := range []struct {
		expression, id string
		want           bool
	}{
		{"GPL-2.0-or-later", "GPL-2.0", true}, {"GPL-2.0-or-later", "GPL-3.0", false}, {"MIT AND BSD-3-Clause", "BSD-3-Clause", true}, {"X11", "MIT", true}, {"Apache-2.0", "MIT", false},
		{"LGPL-3.0-only", "GPL-3.0", true}, {"LGPL-2.1-or-later", "LGPL-2.0", true}, {"LicenseRef-Own", "MIT", true}, {"BSD-2-Clause-Patent", "BSD-3-Clause", true},
	} {
		if got := Mentions(c.expression, c.id); got != c.want {
			t.Errorf("%s, %s: %v", c.expression, c.id, got)
		}
	}
}
