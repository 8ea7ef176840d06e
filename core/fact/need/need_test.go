package need

import (
	"errors"
	"fmt"
	"testing"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"saltmarsh-stations >= 2031.1", "saltmarsh-stations >= 2031.1"},
		{"package/zlib", "zlib"},
		{" command/awk|command/gawk ", "command/awk | command/gawk"},
		{"pkgconfig/zlib>=1.2,<2", "pkgconfig/zlib >= 1.2, < 2"},
		{"soname/libstdc++.so.6", "soname/libstdc++.so.6"},
		{"header/zlib.h", "header/zlib.h"},
		{"file/etc/passwd", "file/etc/passwd"}, {"file//etc/passwd", "file/etc/passwd"},
		{"x = 1.2-3", "x = 1.2-3"},
		{"", `0+1: a dependency without a name (for example "command/make" or "pkgconfig/zlib >= 1.2")`},
		{"comand/cc", `0+6: unknown kind of dependency "comand" (did you mean command/cc?)`},
		{"/etc/passwd", `0+1: unknown kind of dependency "" (a file is needed as file/etc/passwd)`},
		{"a | Upper", `4+5: "Upper" is not a package's name (` + PackageNameShape + `)`},
		{"a > = 1", `1+6: "> = 1" is not a bound on a version (write it like ">= 1.2" or "= 2.0-1", several with commas between)`},
		{"a >= 1, b", `7+2: "b" is not a bound on a version (write it like ">= 1.2" or "= 2.0-1", several with commas between)`},
		{"a >= 1-x", `1+7: "x" is not a release number: a whole number from 1`},
	} {
		n, err := Parse(c.in)
		got := n.String()
		var e *fact.SyntaxError
		if errors.As(err, &e) {
			got = fmt.Sprintf("%d+%d: %v", e.Offset, e.Length, e)
		}
		if got != c.want {
			t.Errorf("Parse(%q)\n got %s\nwant %s", c.in, got, c.want)
		}
	}
}

func TestMetBy(t *testing.T) {
	for _, c := range []struct {
		need, provide string
		want          bool
	}{
		{"zlib >= 1.2", "zlib = 1.10-1", true}, {"zlib >= 1.2, < 1.10", "zlib = 1.10-1", false}, {"zlib = 1.2", "zlib = 1.2-9", true},
		{"zlib = 1.2-3", "zlib = 1.2-4", false}, {"zlib != 1.2", "zlib = 1.2-4", false}, {"zlib", "pkgconfig/zlib = 1", false},
		{"pkgconfig/zlib >= 1", "pkgconfig/zlib", false}, {"a | command/x", "command/x", true}, {"a > 1~rc1", "a = 1", true}, {"a <= 1", "a = 1.0.1", false},
	} {
		n, err := Parse(c.need)
		if err != nil {
			t.Fatal(err)
		}
		p, err := ParseProvide(c.provide)
		if err != nil {
			t.Fatal(err)
		}
		if got := n.MetBy(p); got != c.want {
			t.Errorf("%s met by %s: %v", c.need, c.provide, got)
		}
	}
	if _, err := ParseProvide("x >= 1"); err == nil {
		t.Error("a provide with a bound other than = is accepted")
	}
}

func FuzzParse(f *testing.F) {
	f.Add("pkgconfig/zlib >= 1.2, < 2 | command/x")
	f.Fuzz(func(t *testing.T, s string) {
		n, err := Parse(s)
		if err != nil {
			var e *fact.SyntaxError
			if !errors.As(err, &e) || e.Offset < 0 || e.Length < 1 {
				t.Errorf("%q: an error without a place: %v", s, err)
			}
			return
		}
		again, err := Parse(n.String())
		if err != nil || again.String() != n.String() {
			t.Errorf("%q is written as %q, which reads as %q, %v", s, n, again, err)
		}
		n.MetBy(Provide{Package, "x", version.Full{Version: "1", Release: 1}.String()})
	})
}
