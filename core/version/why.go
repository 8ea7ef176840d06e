package version

import (
	"fmt"
	"strings"
)

// Why says in a few words what decides between two versions, the first of
// which does not sort after the second.
func Why(a, b Full) string {
	switch {
	case a.Epoch != b.Epoch:
		return fmt.Sprintf("epoch %d outranks epoch %d", b.Epoch, a.Epoch)
	case Compare(a.Version, b.Version) == 0 && a.Release != b.Release && a.Release > 0 && b.Release > 0:
		return fmt.Sprintf("release %d comes after release %d", b.Release, a.Release)
	case a.Compare(b) == 0 && a == b:
		return "the same"
	case a.Compare(b) == 0 && a.Version == b.Version:
		return "no release stands for any"
	case a.Compare(b) == 0:
		return "equal: only what separates differs, or zeros before a number"
	}
	x, y := a.Version, b.Version
	for {
		ra, sa, resta := next(x)
		rb, sb, restb := next(y)
		if ra != rb {
			return fmt.Sprintf("%s comes before %s", describe(ra, sa), describe(rb, sb))
		}
		if ra == number && strings.TrimLeft(sa, "0") != strings.TrimLeft(sb, "0") {
			return fmt.Sprintf("the number %s is less than %s", sa, sb)
		}
		if ra == word && sa != sb {
			return fmt.Sprintf("the word %s sorts before %s, byte by byte", sa, sb)
		}
		x, y = resta, restb
	}
}

func describe(r rank, segment string) string {
	switch r {
	case tilde:
		return "a tilde"
	case end:
		return "the end"
	case word:
		return "the word " + segment
	}
	return "the number " + segment
}
