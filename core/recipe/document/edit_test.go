package document

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestApply(t *testing.T) {
	d := Parse("f", []byte("a = 'x' # one\n  b = 2\n[t]\nc = \"y\""))
	out, err := d.Apply([]Edit{
		d.InsertEnd("d = 4\n"), d.InsertBefore(d.Find("t").Key, "# before\n"), d.SetString(d.Find("a"), "it's"), d.InsertAfter(d.At("b"), "bb = 3"), d.SetString(d.Find("t", "c"), "z"),
	})
	if want := "a = \"it's\" # one\n  b = 2\n  bb = 3\n# before\n[t]\nc = \"z\"\nd = 4\n"; err != nil || string(out) != want {
		t.Errorf("%v\n%s\nwant\n%s", err, out, want)
	}
	if _, err := d.Apply([]Edit{{d.At("a"), ""}, {Span{d.At("a").Offset + 1, 1}, ""}}); err == nil {
		t.Error("edits that overlap are made")
	}
}

func TestReadFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f.toml")
	os.WriteFile(path, []byte("a = 1\r\nb = \r\n"), 0o644)
	d, err := ReadFile(path, "shown.toml")
	if err != nil || len(d.Problems) != 1 || !strings.HasPrefix(d.Problems.Error(), "shown.toml:2:") || d.Line(1) != "a = 1" || d.Line(99) != "" {
		t.Errorf("%v, %v", err, d.Problems)
	}
	os.WriteFile(path, make([]byte, MaxSize+1), 0o644)
	if d, err := ReadFile(path, "f"); err != nil || len(d.Problems) != 1 || d.Problems[0].Line != 0 {
		t.Errorf("too large: %v, %v", err, d.Problems)
	}
	if _, err := ReadFile(path+"x", "f"); !os.IsNotExist(err) {
		t.Errorf("missing: %v", err)
	}
}

// What is quoted is read back the same.
func FuzzQuote(f *testing.F) {
	f.Add("a\"b\\c\n\t\x01é\u2028")
	f.Fuzz(func(t *testing.T, s string) {
		if !utf8.ValidString(s) || strings.ContainsRune(s, 0) {
			return
		}
		d := Parse("f", []byte("k = "+Quote(s)))
		if n := d.Find("k"); len(d.Problems) > 0 || n == nil || n.Text != s {
			t.Errorf("%q is quoted as %s: %v", s, Quote(s), d.Problems)
		}
	})
}

// TestAddTo adds to tables in braces and arrays in brackets, however they are
// written.
func TestAddTo(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"a = { b = 1 }\nc = [\"x\"]", "a = { k = \"v\", b = 1 }\nc = [\"n\", \"x\"]"},
		{"a = {}\nc = []", "a = { k = \"v\" }\nc = [\"n\"]"},
		{"a = {   } # {\nc = [ # one\n]", "a = { k = \"v\" } # {\nc = [\"n\"# one\n]"},
		{"\"a\" = { b.c = 1 }\n'c' = [\n  \"x\",\n  \"y\",\n]", "\"a\" = { k = \"v\", b.c = 1 }\n'c' = [\n  \"n\", \"x\",\n  \"y\",\n]"},
	} {
		d := Parse("f", []byte(c.text))
		got, err := d.Apply([]Edit{d.AddField(d.Find("a"), "k", `"v"`), d.AddItem(d.Find("c"), "n")})
		if err != nil || string(got) != c.want {
			t.Errorf("%q became %q, want %q (%v)", c.text, got, c.want, err)
		}
	}
}

func TestTableLines(t *testing.T) {
	const text = "a = 1\n\n# of x\n[[x]]\nb = 1\n\n# of the next\n[[x]]\nb = '''\n[y]\n'''\n[z] # end\nc = 1\n\n# last\n"
	d := Parse("f", []byte(text))
	for _, c := range []struct {
		path []any
		want string
	}{
		{[]any{"x", 0}, "[[x]]\nb = 1\n\n"}, {[]any{"x", 1}, "[[x]]\nb = '''\n[y]\n'''\n"}, {[]any{"z"}, "[z] # end\nc = 1\n\n"},
	} {
		at, ok := d.TableLines(c.path...)
		if got := text[at.Offset:][:at.Length]; !ok || got != c.want {
			t.Errorf("%v: %q, %v, want %q", c.path, got, ok, c.want)
		}
	}
	for _, path := range [][]any{{"a"}, {"none"}, {"x", 7}} {
		if _, ok := d.TableLines(path...); ok {
			t.Errorf("%v is a table", path)
		}
	}
}
