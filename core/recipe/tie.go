package recipe

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe/document"
)

// PatternStart is how many bytes of a layout's pattern stand before its first
// sign; -1 for a path without any.
func PatternStart(pattern string) int { return strings.IndexAny(pattern, `*?[{\`) }

// PatternWeight counts the characters of a pattern that stand for themselves.
func PatternWeight(pattern string) int {
	n, depth := 0, 0
	for _, r := range pattern {
		switch r {
		case '[', '{':
			depth++
		case ']', '}':
			depth--
		case '*', '?', '\\':
		default:
			if depth == 0 {
				n++
			}
		}
	}
	return n
}

// claimant is a line of a layout, or of discard, with a pattern.
type claimant struct {
	pkg, pattern string
	entry        Entry
	key          document.Span
}

// checkSharedPaths looks for lines that two layouts have.
func (r *Recipe) checkSharedPaths() {
	d := r.Doc
	first := map[string]string{} // path → the package whose layout has it
	for _, name := range slices.Sorted(maps.Keys(r.Packages)) {
		layout := d.Find("package", name, "layout")
		for path := range r.Packages[name].Layout {
			n := layout.Get(path)
			if n == nil {
				continue
			}
			other, tie := first[path]
			if !tie {
				first[path] = name
				continue
			}
			line, _ := d.Position(d.Find("package", other, "layout", path).Key.Offset)
			d.Add(n.Key, fmt.Sprintf("%q is in the layout of %q too, on line %d", path, other, line), "a path belongs to one package")
		}
	}
}

// rank is what decides which of several patterns claims a path: how long its
// literal start is, and how many literal characters it has. The start stands
// here itself, since patterns with different ones of the same length have no
// path in common.
type rank struct {
	start  string
	weight int
}

// maxCompared bounds how many pairs of patterns are compared.
const maxCompared = 100_000

// checkTies looks for patterns that could claim a path with equal right: those
// of one rank, with a path that both match.
func (r *Recipe) checkTies() {
	r.checkSharedPaths()
	byRank := map[rank][]claimant{}
	add := func(c claimant) {
		if start := PatternStart(c.pattern); start >= 0 && fact.IsPathPattern(c.pattern) {
			at := rank{c.pattern[:start], PatternWeight(c.pattern)}
			byRank[at] = append(byRank[at], c)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Packages)) {
		layout := r.Doc.Find("package", name, "layout")
		for pattern, e := range r.Packages[name].Layout {
			if n := layout.Get(pattern); n != nil {
				add(claimant{name, pattern, e, n.Key})
			}
		}
	}
	for i, pattern := range r.Discard {
		add(claimant{"", pattern, Entry{}, r.Doc.At("discard", i)})
	}
	compared := 0
	for at, same := range byRank {
		if compared += len(same) * (len(same) - 1) / 2; compared > maxCompared {
			r.Doc.Add(same[len(same)-1].key, fmt.Sprintf("%d patterns begin with %q and have the same number of literal characters: they are too many to tell which could claim the same path", len(same), at.start), "give them longer literal starts, or write one pattern for several")
			return
		}
		slices.SortFunc(same, func(a, b claimant) int { return cmp.Compare(a.key.Offset, b.key.Offset) })
		for i, b := range same {
			for _, a := range same[:i] {
				if a.pkg == b.pkg && reflect.DeepEqual(a.entry, b.entry) || a.pattern == b.pattern {
					continue
				}
				if path := overlap(a.pattern, b.pattern); path != "" {
					line, _ := r.Doc.Position(a.key.Offset)
					r.Doc.Add(b.key, fmt.Sprintf("%q and %q (line %d) claim %s with equal right", b.pattern, a.pattern, line, path), "write one of them with a longer literal start")
				}
			}
		}
	}
}

// overlap returns a path that two patterns both match; empty if none is
// found. Only braces with few alternatives are looked into.
func overlap(a, b string) string {
	for _, x := range alternatives(a) {
		for _, y := range alternatives(b) {
			f := finder{x: tokens(x), y: tokens(y), failed: map[[2]int]bool{}}
			if !f.match(0, 0) {
				continue
			}
			path := string(f.path)
			// The tokens are a little wider than the patterns.
			if left, _ := doublestar.Match(a, path); !left {
				continue
			}
			if right, _ := doublestar.Match(b, path); right {
				return path
			}
		}
	}
	return ""
}

// maxAlternatives bounds how many patterns are made of one with braces.
const maxAlternatives = 64

// alternatives writes a pattern with braces out as several without.
func alternatives(pattern string) []string {
	open := strings.IndexByte(pattern, '{')
	end := -1
	if open >= 0 {
		end = strings.IndexByte(pattern[open:], '}')
	}
	if open < 0 || end < 0 || strings.ContainsRune(pattern, '\\') {
		return []string{pattern}
	}
	var out []string
	for choice := range strings.SplitSeq(pattern[open+1:open+end], ",") {
		out = append(out, alternatives(pattern[:open]+choice+pattern[open+end+1:])...)
		if len(out) >= maxAlternatives {
			break
		}
	}
	return out
}

// token is a part of a pattern: a character, or a choice of characters, which
// may come any number of times.
type token struct {
	char   rune // 0 for a choice
	set    string
	many   bool
	slash  bool // the choice has the slash as well
	except bool // the choice is of all but the set
}

func tokens(pattern string) []token {
	var out []token
	for i := 0; i < len(pattern); i++ {
		switch c := pattern[i]; {
		case strings.HasPrefix(pattern[i:], "**"):
			out = append(out, token{many: true, slash: true, except: true})
			i++
		case c == '*':
			out = append(out, token{many: true, except: true})
		case c == '?':
			out = append(out, token{except: true})
		case c == '[':
			end := strings.IndexByte(pattern[i+1:], ']')
			if end < 0 {
				return nil
			}
			set := pattern[i+1 : i+1+end]
			rest := strings.TrimLeft(set, "^!")
			out = append(out, token{set: rest, except: rest != set})
			i += end + 1
		case c == '\\' && i+1 < len(pattern):
			i++
			out = append(out, token{char: rune(pattern[i])})
		default:
			r, size := utf8.DecodeRuneInString(pattern[i:])
			out = append(out, token{char: r})
			i += size - 1
		}
	}
	return out
}

func (t token) takes(c rune) bool {
	if t.char != 0 {
		return t.char == c
	}
	if c == '/' {
		return t.slash
	}
	in := false
	for i := 0; i < len(t.set); i++ {
		if i+2 < len(t.set) && t.set[i+1] == '-' {
			in = in || rune(t.set[i]) <= c && c <= rune(t.set[i+2])
			i += 2
			continue
		}
		in = in || rune(t.set[i]) == c
	}
	return in != t.except
}

// common is a character that two tokens take; 0 for none.
func common(a, b token) rune {
	candidates := "x" + a.set + b.set + "abcdefghijklmnopqrstuvwyz0123456789_."
	if a.char != 0 {
		candidates = string(a.char)
	} else if b.char != 0 {
		candidates = string(b.char)
	}
	for _, c := range candidates {
		if a.takes(c) && b.takes(c) {
			return c
		}
	}
	return 0
}

// finder looks for a path that two lists of tokens match.
type finder struct {
	x, y   []token
	path   []rune
	failed map[[2]int]bool
}

func (f *finder) match(i, j int) bool {
	if i == len(f.x) && j == len(f.y) {
		return true
	}
	if f.failed[[2]int{i, j}] {
		return false
	}
	if i < len(f.x) && j < len(f.y) {
		a, b := f.x[i], f.y[j]
		if c := common(a, b); c != 0 && !(a.many && b.many) {
			f.path = append(f.path, c)
			next, other := i+1, j+1
			if a.many {
				next = i
			}
			if b.many {
				other = j
			}
			if f.match(next, other) {
				return true
			}
			f.path = f.path[:len(f.path)-1]
		}
	}
	if i < len(f.x) && f.x[i].many && f.match(i+1, j) || j < len(f.y) && f.y[j].many && f.match(i, j+1) {
		return true
	}
	f.failed[[2]int{i, j}] = true
	return false
}
