package fact

import (
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
)

// Nearest returns the candidate that is most similar to word, or "" if none is
// similar: at most one edit for words of up to four characters, two for up to eight, and one
// for every four characters of longer ones.
func Nearest(word string, candidates []string) string {
	if len(word) > maxNearest {
		return ""
	}
	limit := max(2, len(word)/4)
	if len(word) <= 4 {
		limit = 1
	}
	best, bestDistance := "", limit+1
	for _, c := range slices.Sorted(slices.Values(candidates)) {
		if strings.EqualFold(c, word) {
			return c
		}
		a, b := strings.ToLower(word), strings.ToLower(c)
		d := levenshtein.ComputeDistance(a, b)
		if letters(a) == letters(b) {
			d = 1 // swapped letters count as one edit
		}
		if d < bestDistance && d < utf8.RuneCountInString(c) {
			best, bestDistance = c, d
		}
	}
	return best
}

// maxNearest is the length of the longest word that is compared, in bytes.
const maxNearest = 100

func letters(s string) string {
	r := []rune(s)
	slices.Sort(r)
	return string(r)
}
