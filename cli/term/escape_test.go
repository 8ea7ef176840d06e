package term

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"
	"unicode/utf8"

	"ellwand.example/core/fact"
)

// hostile are texts that a terminal would act on.
var hostile = map[string]string{
	"a colour":          "\x1b[31mred",
	"an empty colour":   "\x1b[mx",
	"a title":           "\x1b]0;owned\x07",
	"the clipboard":     "\x1b]52;c;eA==\x1b\\",
	"a C1 sequence":     "\u009b31m",
	"a C1 byte":         "\x9b31m",
	"another direction": "gpj.\u202efile",
	"an isolate":        "a\u2066b\u2069",
	"a mark":            "a\u200eb\u200f",
	"no width":          "pay\u200bpal",
	"a line drawn over": "harmless\rdamage",
	"backspaces":        "abc\b\b\b",
	"a bell":            "\x07",
	"delete":            "\x7f",
	"a broken rune":     "\xe2\x80",
	"tags":              "\U000e0041",
}

func TestEscape(t *testing.T) {
	for what, text := range hostile {
		for _, color := range []string{"never", "always"} {
			b, w := writer(200, color)
			w.Printf("%s\n", text)
			w.Printf("%s\n", w.Style(Bad, text))
			w.Table([]string{"a", "b"}, [][]string{{text, text}})
			plain := b.String()
			for _, own := range []string{"\x1b[1;31m", "\x1b[90m", "\x1b[0m"} {
				if color == "always" {
					plain = strings.ReplaceAll(plain, own, "")
				}
			}
			if !utf8.ValidString(plain) || strings.IndexFunc(plain, func(r rune) bool { return r != '\n' && r != '\t' && !fact.IsVisible(r) }) >= 0 {
				t.Errorf("%s, colours %s: %q", what, color, plain)
			}
		}
		if v := fact.Visible(text); strings.ContainsAny(v, "\x1b\r\n\x07") {
			t.Errorf("%s: %q", what, v)
		}
	}
	b, w := writer(200, "always")
	w.Printf("%s", w.Style(Good, "a\nb")+" é 潮\u3000汐\t"+w.Style(Faint, w.Style(Bad, "x")))
	if got, want := b.String(), "\x1b[32ma\x1b[0m\n\x1b[32mb\x1b[0m é 潮\u3000汐\t\x1b[90m\x1b[1;31mx\x1b[0m\x1b[0m"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}

// Data for programs is exact, and JSON means the same with its escapes.
func TestExact(t *testing.T) {
	for what, text := range hostile {
		b, w := writer(80, "never")
		if _, err := io.WriteString(w.Exact(), text); err != nil || b.String() != text {
			t.Errorf("%s: %q, %v", what, b, err)
		}
		data, _ := json.Marshal(text)
		var back, want string
		escaped := ASCII(data)
		if err := errors.Join(json.Unmarshal(escaped, &back), json.Unmarshal(data, &want)); err != nil || back != want {
			t.Errorf("%s: %s means %q, %v", what, escaped, back, err)
		}
		if bytes.ContainsFunc(escaped, func(r rune) bool { return r >= 0x7f && !fact.IsVisible(r) && r <= 0xffff && r != utf8.RuneError }) {
			t.Errorf("%s: %q", what, escaped)
		}
	}
}

// Contents are escaped on terminals, whatever the pieces that they come in.
func TestContents(t *testing.T) {
	text := "a\x1b[31m é潮\u202e\xff\n"
	for size := 1; size < 8; size++ {
		b, w := writer(80, "never")
		w.Terminal = true
		out := w.Contents()
		for i := 0; i < len(text); i += size {
			io.WriteString(out, text[i:min(i+size, len(text))])
		}
		out.Close()
		if got, want := b.String(), "a\\x1b[31m é潮\\u202e\\xff\n"; got != want {
			t.Errorf("in pieces of %d: %q, want %q", size, got, want)
		}
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no space") }

func TestErr(t *testing.T) {
	w := NewWriter(full{}, "never")
	if w.Err() != nil {
		t.Error("an error before anything is written")
	}
	w.Printf("x")
	if w.Err() == nil {
		t.Error("a write that failed is not told")
	}
}

func FuzzEscape(f *testing.F) {
	for _, text := range hostile {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, mark) {
			return
		}
		for r := range strings.SplitSeq(escape(text), "") {
			if c, _ := utf8.DecodeRuneInString(r); r != "" && c != '\n' && c != '\t' && !fact.IsVisible(c) {
				t.Errorf("%q has %q", escape(text), r)
			}
		}
	})
}
