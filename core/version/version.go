// Package version orders the versions of packages.
//
// A version is made of segments: runs of digits, runs of letters, and tildes.
// Everything else (".", "+", "_") only separates. Two versions are compared
// segment by segment from the left; the first difference decides:
//
//   - numbers are compared as numbers, of any length, leading zeros ignored;
//   - words are compared byte by byte;
//   - where the kinds differ: ~ < the end < a word < a number.
//
// So 1.0~rc1 < 1.0 < 1.0a < 1.0.1 < 1.2 < 1.10, and dates in the order
// 2031.04.02 sort as dates. 1.0, 1.00 and 1_0 are equal in rank.
package version

import (
	"cmp"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

var valid = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z.+~_]{0,127}$`)

// Shape describes a valid version in a message.
const Shape = `letters, digits and . + ~ _, beginning with a letter or a digit`

// Valid tells whether v can be a package's version.
func Valid(v string) bool { return valid.MatchString(v) }

type rank int

const (
	tilde rank = iota
	end
	word
	number
)

// next cuts the first segment off v.
func next(v string) (r rank, segment, rest string) {
	v = strings.TrimLeft(v, ".+_-")
	if v == "" {
		return end, "", ""
	}
	class := func(c byte) rank {
		switch {
		case c >= '0' && c <= '9':
			return number
		case c == '~':
			return tilde
		case strings.IndexByte(".+_-", c) >= 0:
			return end
		}
		return word
	}
	r = class(v[0])
	i := 1
	for r != tilde && i < len(v) && class(v[i]) == r {
		i++
	}
	return r, v[:i], v[i:]
}

// Compare returns -1, 0 or +1 as a sorts before, with or after b.
func Compare(a, b string) int {
	for {
		ra, sa, resta := next(a)
		rb, sb, restb := next(b)
		c := cmp.Compare(ra, rb)
		switch {
		case c != 0:
			return c
		case ra == end:
			return 0
		case ra == number:
			sa, sb = strings.TrimLeft(sa, "0"), strings.TrimLeft(sb, "0")
			c = cmp.Or(cmp.Compare(len(sa), len(sb)), cmp.Compare(sa, sb))
		default:
			c = cmp.Compare(sa, sb)
		}
		if c != 0 {
			return c
		}
		a, b = resta, restb
	}
}

// Full is a version with a release number, as in 2.4.1-3, and with an epoch
// before it where that is not 0, as in 1:2.4.1-3.
type Full struct {
	Epoch   int
	Version string
	Release int // 0 stands for "any release" in a constraint
}

// ParseFull reads [EPOCH:]VERSION[-RELEASE].
func ParseFull(s string) (Full, error) {
	var f Full
	if before, after, ok := strings.Cut(s, ":"); ok {
		n, err := strconv.Atoi(before)
		if err != nil || n < 0 {
			return f, fmt.Errorf("%q is not an epoch: a whole number from 0", before)
		}
		f.Epoch, s = n, after
	}
	v, r, found := strings.Cut(s, "-")
	f.Version = v
	if !Valid(v) {
		return f, fmt.Errorf("%q is not a version: %s", v, Shape)
	}
	if found {
		n, err := strconv.Atoi(r)
		if err != nil || n < 1 {
			return f, fmt.Errorf("%q is not a release number: a whole number from 1", r)
		}
		f.Release = n
	}
	return f, nil
}

func (f Full) String() string {
	s := f.Version
	if f.Epoch > 0 {
		s = strconv.Itoa(f.Epoch) + ":" + s
	}
	if f.Release == 0 {
		return s
	}
	return s + "-" + strconv.Itoa(f.Release)
}

// Compare orders by epoch, then by version, then by release; a release of 0
// equals every release.
func (f Full) Compare(g Full) int {
	if c := cmp.Or(cmp.Compare(f.Epoch, g.Epoch), Compare(f.Version, g.Version)); c != 0 || f.Release == 0 || g.Release == 0 {
		return c
	}
	return cmp.Compare(f.Release, g.Release)
}
