package merge

import (
	"bytes"
	"strings"
	"testing"
)

// lines writes one word a line.
func lines(words string) []byte {
	return []byte(strings.ReplaceAll(words, " ", "\n") + "\n")
}

func TestMerge(t *testing.T) {
	for _, c := range []struct{ title, base, mine, theirs, want string }{
		{"nothing changed", "a b c", "a b c", "a b c", "a b c"},
		{"I changed it", "a b c", "a X c", "a b c", "a X c"},
		{"they changed it", "a b c", "a b c", "a X c", "a X c"},
		{"both, apart", "a b c d e", "A b c d e", "a b c d E", "A b c d E"},
		{"both, the same", "a b c", "a X c", "a X c", "a X c"},
		{"an added and a removed line", "a b c d e f", "a b c d e f g", "a c d e f", "a c d e f g"},
		{"both add at the end", "a b", "a b c", "a b d", ""},
		{"the same line", "a b c", "a X c", "a Y c", ""},
		{"lines next to each other", "a b c d", "a X c d", "a b Y d", ""},
		{"one removes what the other changes", "a b c", "a c", "a X c", ""},
		{"repeated lines", "a a a b a a", "a a a b a a c", "x a a a b a a", "x a a a b a a c"},
	} {
		t.Run(c.title, func(t *testing.T) {
			got, ok := Merge(lines(c.base), lines(c.mine), lines(c.theirs))
			if c.want == "" {
				if ok {
					t.Errorf("merged to %q", got)
				}
				return
			}
			if !ok || !bytes.Equal(got, lines(c.want)) {
				t.Errorf("%q, %v, want %q", got, ok, lines(c.want))
			}
		})
	}
}

func TestMergeOddTexts(t *testing.T) {
	if got, ok := Merge([]byte("a\nb\nc"), []byte("A\nb\nc"), []byte("a\nb\nc\nd\n")); !ok || string(got) != "A\nb\nc\nd\n" {
		t.Errorf("without a line end: %q, %v", got, ok)
	}
	if got, ok := Merge(nil, []byte("x\n"), nil); !ok || string(got) != "x\n" {
		t.Errorf("of nothing: %q, %v", got, ok)
	}
	if _, ok := Merge([]byte("a\x00"), []byte("b"), []byte("c")); ok {
		t.Error("a binary file is merged")
	}
	if _, ok := Merge(make([]byte, MaxSize+1), nil, nil); ok {
		t.Error("a huge file is merged")
	}
	crlf := []byte("a\r\nb\r\nc\r\n")
	if got, ok := Merge(crlf, []byte("a\r\nb\r\nX\r\n"), []byte("Y\r\nb\r\nc\r\n")); !ok || string(got) != "Y\r\nb\r\nX\r\n" {
		t.Errorf("with CRLF: %q, %v", got, ok)
	}
}

// FuzzMerge checks what has to be true of any merge.
func FuzzMerge(f *testing.F) {
	f.Add([]byte("a\nb\nc\n"), []byte("a\nX\nc\n"), []byte("a\nb\nc\nd\n"))
	f.Add([]byte(""), []byte("\n\n"), []byte("x"))
	f.Add([]byte("a\xff\na"), []byte("a\na\n"), []byte("\xffa"))
	f.Fuzz(func(t *testing.T, base, mine, theirs []byte) {
		if bytes.IndexByte(bytes.Join([][]byte{base, mine, theirs}, nil), 0) >= 0 {
			return
		}
		if got, ok := Merge(base, mine, base); !ok || !bytes.Equal(got, mine) {
			t.Errorf("without a change of theirs: %q, want %q", got, mine)
		}
		if got, ok := Merge(base, base, theirs); !ok || !bytes.Equal(got, theirs) {
			t.Errorf("without a change of mine: %q, want %q", got, theirs)
		}
		if got, ok := Merge(base, mine, mine); !ok || !bytes.Equal(got, mine) {
			t.Errorf("of the same change: %q, want %q", got, mine)
		}
		one, ok := Merge(base, mine, theirs)
		other, okOther := Merge(base, theirs, mine)
		if ok != okOther || !bytes.Equal(one, other) {
			t.Errorf("the sides are not equal: %q, %v and %q, %v", one, ok, other, okOther)
		}
	})
}
