package recipe

import (
	"strings"
	"testing"
	"time"
)

var someDay = time.Date(2031, 5, 6, 0, 0, 0, 0, time.UTC)

func TestEdits(t *testing.T) {
	before := "# The head\r\nformat=1\r\nname='tide'   # its name\r\n  version =  '1.0' # keep me\r\nrelease\t= 7\r\nsummary = \"x\"\r\nlicense = \"MIT\"\r\n\r\n[[source]]\r\n  url   = \"https://x.example/{version}\" # where\r\n  into  = \"a\"\r\n[[source]]\r\nurl = \"https://y.example/{version}\"\r\nsha256 = \"" + strings.Repeat("0", 64) + "\" # old\r\n\r\n# the changes\r\n[[change]] # first\r\nversion = \"1.0-7\"\r\ndate = 2031-04-02\r\ntext = []"
	r, err := Parse("recipe.toml", []byte(before), target, nil)
	if err != nil {
		t.Fatal(err)
	}
	bumped, err := r.WithBump(Bump{Version: "1.1", Release: 1, Date: someDay, By: `Ines "Q" Quarrell`, Text: []string{"a", "b\\c"}})
	want := strings.NewReplacer("'1.0'", "'1.1'", "= 7", "= 1").Replace(before)
	want = strings.Replace(want, "[[change]] # first", "[[change]]\r\nversion = \"1.1-1\"\r\ndate    = 2031-05-06\r\nby      = \"Ines \\\"Q\\\" Quarrell\"\r\ntext    = [\"a\", \"b\\\\c\"]\r\n\r\n[[change]] # first", 1)
	if err != nil || string(bumped) != want {
		t.Errorf("bumped (%v):\n%q\nwant\n%q", err, bumped, want)
	}
	one, two := strings.Repeat("1", 64), strings.Repeat("2", 64)
	pinned, err := r.WithPins([]Pin{{Source: 0, SHA256: one}, {Source: 1, SHA256: two}})
	want = strings.Replace(before, "# where\r\n", "# where\r\n  sha256 = \""+one+"\"\r\n", 1)
	want = strings.Replace(want, strings.Repeat("0", 64), two, 1)
	if err != nil || string(pinned) != want {
		t.Errorf("pinned (%v):\n%q\nwant\n%q", err, pinned, want)
	}
	inline, err := Parse("recipe.toml", []byte(facts+`source = [{url = "https://x.example/a", into = "b"}]`), target, nil)
	if err != nil {
		t.Fatal(err)
	}
	if pinned, err = inline.WithPins([]Pin{{Source: 0, SHA256: one}}); err != nil || !strings.Contains(string(pinned), `{url = "https://x.example/a", sha256 = "`+one+`", into = "b"}`) {
		t.Errorf("in braces (%v): %s", err, pinned)
	}
	first, err := inline.WithBump(Bump{Version: "2", Release: 1, Date: someDay, Text: []string{"x"}})
	if err != nil || !strings.HasSuffix(string(first), "into = \"b\"}]\n\n[[change]]\nversion = \"2-1\"\ndate    = 2031-05-06\ntext    = [\"x\"]\n") {
		t.Errorf("the first entry (%v):\n%s", err, first)
	}
}

// FuzzEdits bumps any recipe: the result reads as one, says what it should,
// and all lines but the two that change are there, in their order.
func FuzzEdits(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte(language))
	f.Add([]byte(facts + "[[source]]\nurl = \"https://x.example/{version}\"\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := Parse("recipe.toml", data, target, nil)
		if err != nil {
			return
		}
		digest := strings.Repeat("a", 64)
		var pins []Pin
		for i, s := range r.Sources {
			if s.URL != "" {
				pins = append(pins, Pin{Source: i, SHA256: digest})
			}
		}
		pinned, err := r.WithPins(pins)
		if err != nil {
			t.Fatalf("%q: %v", data, err)
		}
		if again, err := Parse("recipe.toml", pinned, target, nil); err != nil {
			t.Fatalf("%q\npinned: %q\n%v", data, pinned, err)
		} else {
			for _, p := range pins {
				if again.Sources[p.Source].SHA256 != digest {
					t.Errorf("%q\npinned: %q", data, pinned)
				}
			}
		}
		bumped, err := r.WithBump(Bump{Version: "99.9", Release: 1, Date: someDay, By: "x", Text: []string{"y"}})
		if inlineChanges(r) && err != nil {
			return
		}
		if err != nil {
			t.Fatalf("%q: %v", data, err)
		}
		again, err := Parse("recipe.toml", bumped, target, nil)
		if err != nil || again.Full() != "99.9-1" || len(again.Changes) != len(r.Changes)+1 || again.Changes[0].Version != "99.9-1" {
			t.Fatalf("%q\nbumped: %q\n%v", data, bumped, err)
		}
		rest := strings.Split(string(bumped), "\n")
		for i, line := range strings.Split(string(data), "\n") {
			a, _ := r.Doc.Position(r.Doc.At("version").Offset)
			b, _ := r.Doc.Position(r.Doc.At("release").Offset)
			if i+1 == a || i+1 == b || line == "" {
				continue
			}
			for len(rest) > 0 && rest[0] != line {
				rest = rest[1:]
			}
			if len(rest) == 0 {
				t.Fatalf("%q\nbumped: %q\nline %d is not there", data, bumped, i+1)
			}
		}
	})
}

func inlineChanges(r *Recipe) bool {
	n := r.Doc.Find("change")
	return n != nil && (len(n.Items) == 0 || n.Items[0].Inline())
}
