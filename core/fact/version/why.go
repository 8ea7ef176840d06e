package version

import (
	"fmt"
	"strings"
)

// Why says in a few words what decides between two versions, of which the first
// does not sort after the second.
func Why(a, b Full) string {
	switch {
	case a.Epoch != b.Epoch:
		return fmt.Sprintf("epoch %d outranks epoch %d", b.Epoch, a.Epoch)
	case Compare(a.Version, b.Version) == 0 && a.Release != b.Release && a.Release > 0 && b.Release > 0:
		return fmt.Sprintf("release %d comes after release %d", b.Release, a.Release)
	case a.Compare(b) == 0 && a == b:
		return "the same"
	case a.Compare(b) == 0 && a.Version == b.Version:
		return "a version without a release equals all its releases"
	case a.Compare(b) == 0:
		return "equal: only the spelling differs"
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
		if ra == preRelease && stage(sa) != stage(sb) {
			return fmt.Sprintf("the pre-release %s comes before the pre-release %s", sa, sb)
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
	case preRelease:
		return "the pre-release " + segment
	case end:
		return "the end"
	case word:
		return "the word " + segment
	}
	return "the number " + segment
}
