package document

import (
	"fmt"
	"strings"
	"testing"
)

type settings struct {
	Name  string            `toml:"name"`
	Count int               `toml:"count"`
	On    bool              `toml:"on"`
	Date  LocalDate         `toml:"date"`
	Words []string          `toml:"words"`
	Items []item            `toml:"item"`
	Table map[string]item   `toml:"table"`
	More  map[string]string `toml:"more"`
}

type item struct {
	Key   string `toml:"key"`
	Value int    `toml:"value"`
}

func decode(text string) (settings, *Document) {
	d := Parse("f.toml", []byte(text))
	var s settings
	d.Decode(&s)
	return s, d
}

func TestDecode(t *testing.T) {
	s, d := decode(`
name = "a\tb"
count = 1_000
on = true
date = 2031-04-02
words = ["x", 'y']
table.one = { key = "k", value = 7 }
[table.two]
key = """
long
"""
[[item]]
key = "first"
[[item]]
value = 0x10
`)
	if err := d.Problems.Err(); err != nil {
		t.Fatal(err)
	}
	if s.Name != "a\tb" || s.Count != 1000 || !s.On || s.Date != "2031-04-02" || fmt.Sprint(s.Words) != "[x y]" ||
		s.Table["one"] != (item{"k", 7}) || s.Table["two"].Key != "long\n" || s.Items[0].Key != "first" || s.Items[1].Value != 16 {
		t.Errorf("decoded %+v", s)
	}
}

func TestProblems(t *testing.T) {
	for _, c := range []struct {
		text, want string // want: LINE:COLUMN+WIDTH message (remedy), several with ; between
	}{
		{"nam = \"x\"", "1:1+3 unknown key `nam` (did you mean `name`?)"},
		{"name = 3", "1:8+1 `name` is an integer where a string is expected (write it in quotes: \"3\")"},
		{"count = \"3\"", "1:9+3 `count` is a string where an integer is expected (write it without the quotes: 3)"},
		{"count = 99999999999999999999", "1:9+20 `count` is not a usable number: 99999999999999999999"},
		{"words = \"x\"", "1:9+3 `words` is a string where an array is expected (write it in brackets: [\"x\"])"},
		{"date = \"2031-04-02\"", "1:8+12 `date` is a string where a date such as 2031-04-02, without quotes, is expected (write it without the quotes: 2031-04-02)"},
		{"name = \"a\"\nname = \"b\"", "2:1+4 `name` is already on line 1 (keep one of the two)"},
		{"[table.x]\n[table.x]", "2:8+1 [table.x] is already on line 1 (keep one of the two)"},
		{"table = {a = {}}\n[table.a.b]", "2:2+5 `table` is already on line 1 (keep one of the two)"},
		{"[[item]]\nkee = \"é\"", "2:1+3 unknown key `kee` in `item` (did you mean `key`?)"},
		{"name = saltmarsh # here", "1:8+9 text must be in quotes (write it as \"saltmarsh\")"},
		{"name = \"ü\" x\ncont = 1\n[oops\nkey = 1\n[more]\na = \"b\"",
			"1:12+1 this is not TOML: expected newline but got U+0078 'x'; 2:1+4 unknown key `cont` (did you mean `count`?); 3:6+1 *"},
		{"a\x00b", "0:0+0 this is not a text file: byte 0x00 at line 1, column 2 is not UTF-8 text (was another file meant?)"},
	} {
		_, d := decode(c.text)
		var got []string
		for _, p := range d.Problems {
			s := fmt.Sprintf("%d:%d+%d %s", p.Line, p.Column, p.Width, p.Message)
			if p.Remedy != "" {
				s += " (" + p.Remedy + ")"
			}
			got = append(got, s)
		}
		want := strings.Split(c.want, "; ")
		same := len(got) == len(want)
		for i := range min(len(got), len(want)) {
			prefix, any := strings.CutSuffix(want[i], "*") // the parser's own words
			same = same && (got[i] == want[i] || any && strings.HasPrefix(got[i], prefix))
		}
		if !same {
			t.Errorf("%q:\n got %s\nwant %s", c.text, strings.Join(got, "; "), c.want)
		}
	}
}

func TestInside(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{`k = "héllo"`, "1:7"}, {`k = 'hello'`, "1:7"}, {"k = '''\nhello'''", "2:2"}, {"k = \"\"\"hello\"\"\"", "1:9"},
		{`k = "\u0068ello"`, "1:5"}, // escapes: the whole string
	} {
		d := Parse("f", []byte(c.text))
		line, column := d.Position(d.Inside(d.Find("k"), 1, 1).Offset)
		if got := fmt.Sprintf("%d:%d", line, column); got != c.want {
			t.Errorf("%s: the second byte is at %s, want %s", c.text, got, c.want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"name = \"x\"\n[table.a]\nkey='''\ny'''", "[[item]]\nkey = 1\n[[item.x]]", "a = [1, {b = \"c\"}]\n]x\n= y", "table.a.b = 1\n[table.a]\nc = 2"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		d := Parse("f", data)
		var s settings
		d.Decode(&s)
		for _, p := range d.Problems {
			if p.Line > 0 && (p.Column < 1 || p.Width < 1 || p.Message == "") {
				t.Errorf("a problem without a place: %+v", p)
			}
		}
	})
}
