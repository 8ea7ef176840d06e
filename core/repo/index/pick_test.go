package index

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// A word is found in every line that has it, in whichever case, and only there.
func TestFinder(t *testing.T) {
	d := rand.New(rand.NewPCG(1, 2))
	letters := func(n int, of string) string {
		var b strings.Builder
		for range n {
			b.WriteByte(of[d.IntN(len(of))])
		}
		return b.String()
	}
	for range 20_000 {
		word := letters(1+d.IntN(4), "abz/-")
		text := letters(d.IntN(60), "abzABZ/-\n\n")
		got := slices.Collect(NewFinder(word).Pick([]byte(text)))
		want := slices.Collect(Where(func(line []byte) bool { return bytes.Contains(bytes.ToLower(line), []byte(word)) })([]byte(text)))
		if !slices.EqualFunc(got, want, bytes.Equal) {
			t.Fatalf("%q in %q: %q, not %q", word, text, got, want)
		}
	}
}

func TestLinesOfNames(t *testing.T) {
	text := `{"name":"tide-dev","needs":[]}
{"name":"tide","version":"1"}
{"name":"tide","version":"2","needs":["moon"]}
{"name":"tide","version":"3"}
{"name":"tidy","needs":["moon"]}
`
	all := strings.SplitAfter(text, "\n")
	for word, want := range map[string][]string{"moon": all[1:5], "sun": nil, "tide-dev": all[:1], "name": all[:5]} {
		var got []string
		for line := range ofNamesWith(word)([]byte(text)) {
			got = append(got, string(line))
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s: %q, not %q", word, got, want)
		}
		for range ofNamesWith(word)([]byte(text)) {
			break // what reads no further is no fault
		}
	}
}
