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
