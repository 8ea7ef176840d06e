// Package version orders the versions of packages.
//
// A version is made of segments: runs of digits, runs of letters, and tildes.
// Everything else (".", "+", "_") only separates. Two versions are compared
// segment by segment from the left; the first difference decides:
//
//   - numbers are compared as numbers, of any length, leading zeros ignored;
//   - pre-release words are ordered dev < alpha < beta < pre < rc, in any case;
//   - other words are compared byte by byte;
//   - segments of different kinds are ordered
//     ~ < a pre-release word < the end < another word < a number.
//
// The pre-release words are dev, alpha, beta, pre, preview (the same as pre) and
// rc, and also a and b if a number follows directly. A tilde directly before
// one of them adds nothing.
//
// So 1.0~ < 1.0b1 < 1.0rc1 = 1.0~rc1 < 1.0 < 1.0a < 1.0.1 < 1.2 < 1.10, and
// dates written as 2031.04.02 sort as dates. 1.0, 1.00 and 1_0 are equal.
package version

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
)

// Shape describes a valid version in a message.
const Shape = `letters, digits and . + ~ _, beginning with a letter or a digit`

// Valid reports whether v can be a package's version.
func Valid(v string) bool {
	if v == "" || len(v) > 128 {
		return false
	}
	for i := range len(v) {
		c := v[i]
		if alphanumeric := c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'; !alphanumeric && (i == 0 || strings.IndexByte(".+~_", c) < 0) {
			return false
		}
	}
	return true
}

type rank int

const (
	tilde rank = iota
	preRelease
	end
	word
	number
)

// rankOf returns the rank of the segment that begins with c.
func rankOf(c byte) rank {
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

// next cuts the first segment off v.
func next(v string) (r rank, segment, rest string) {
	v = strings.TrimLeft(v, ".+_-")
	if v == "" {
		return end, "", ""
	}
	if v[0] != '~' {
		return segmentOf(v)
	}
	if r, segment, rest = segmentOf(v[1:]); r == preRelease {
		return r, segment, rest
	}
	return tilde, v[:1], v[1:]
}

// segmentOf cuts the first segment off v, which does not begin with a separator.
func segmentOf(v string) (r rank, segment, rest string) {
	if v == "" {
		return end, "", ""
	}
	r = rankOf(v[0])
	i := 1
	for i < len(v) && rankOf(v[i]) == r {
		i++
	}
	segment, rest = v[:i], v[i:]
	if r == word && stage(segment) > 0 {
		short := len(segment) == 1
		if !short || rest != "" && rankOf(rest[0]) == number {
			r = preRelease
		}
	}
	return r, segment, rest
}

// stage is the place of a pre-release word among its kind, from 1; 0 for other
// words.
func stage(word string) int {
	switch strings.ToLower(word) {
	case "dev":
		return 1
	case "alpha", "a":
		return 2
	case "beta", "b":
		return 3
	case "pre", "preview":
		return 4
	case "rc":
		return 5
	}
	return 0
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
		case ra == preRelease:
			c = cmp.Compare(stage(sa), stage(sb))
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
