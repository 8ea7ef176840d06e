package index

import (
	"bytes"
	"iter"
	"strings"
)

// Picker yields some lines of a text, each with its end.
type Picker func(text []byte) iter.Seq[[]byte]

// Where picks the lines that a function keeps.
func Where(keep func(line []byte) bool) Picker {
	return func(text []byte) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) {
			for line := range bytes.Lines(text) {
				if keep(line) && !yield(line) {
					return
				}
			}
		}
	}
}

// Mentions picks the lines that have a text in them.
func Mentions(text string) Picker {
	return Where(func(line []byte) bool { return bytes.Contains(line, []byte(text)) })
}

// NameIn finds the name of the package that a line of a listing reports.
func NameIn(line []byte) string {
	_, rest, _ := bytes.Cut(line, []byte(`"name":"`))
	name, _, _ := bytes.Cut(rest, []byte(`"`))
	return string(name)
}

// ofNamesWith picks all lines of the packages of which one line has a text in
// it. The lines of a name are together, as they are sorted by identity.
func ofNamesWith(word string) Picker {
	return func(text []byte) iter.Seq[[]byte] {
		return func(yield func([]byte) bool) {
			var group [][]byte
			name, has := "", false
			flush := func() bool {
				if has {
					for _, line := range group {
						if !yield(line) {
							return false
						}
					}
				}
				group, has = group[:0], false
				return true
			}
			for line := range bytes.Lines(text) {
				if now := NameIn(line); now != name {
					if !flush() {
						return
					}
					name = now
				}
				group = append(group, line)
				has = has || bytes.Contains(line, []byte(word))
			}
			flush()
		}
	}
}

// Finder finds a word of lower-case ASCII letters in either case. It looks for the
// letter of the word that is the rarest in names and paths, so that most of a
// text is skipped at the speed of memory.
type Finder struct {
	word         string
	at           int // of that letter
	small, large byte
}

// byRarity are characters of names and paths, the rarest first; all others are
// rarer still.
const byRarity = "zqjxvkwy9876543_bf2h10gpmudclrnasoit.e-/"

// NewFinder returns a finder of a word in lower case.
func NewFinder(word string) Finder {
	s := Finder{word: word}
	for i := range len(word) {
		if strings.IndexByte(byRarity, word[i]) < strings.IndexByte(byRarity, word[s.at]) {
			s.at = i
		}
	}
	s.small, s.large = word[s.at], word[s.at]
	if 'a' <= s.small && s.small <= 'z' {
		s.large -= 'a' - 'A'
	}
	return s
}

// Index is where the word first is in a text, or -1.
func (s Finder) Index(text []byte) int {
	next := func(c byte, from int) int {
		if i := bytes.IndexByte(text[from:], c); i >= 0 {
			return from + i
		}
		return len(text)
	}
	if len(s.word) > len(text) {
		return -1
	}
	small, large := next(s.small, s.at), len(text)
	if s.large != s.small {
		large = next(s.large, s.at)
	}
	for {
		i := min(small, large)
		start := i - s.at
		if start+len(s.word) > len(text) {
			return -1
		}
		if s.begins(text[start:]) {
			return start
		}
		if i == small {
			small = next(s.small, i+1)
		} else {
			large = next(s.large, i+1)
		}
	}
}

// begins reports whether a text that is long enough begins with the word.
func (s Finder) begins(text []byte) bool {
	for i := range len(s.word) {
		c := text[i]
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		if c != s.word[i] {
			return false
		}
	}
	return true
}

// Pick is a picker of the lines that have the word.
func (s Finder) Pick(text []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for {
			i := s.Index(text)
			if i < 0 {
				return
			}
			start := bytes.LastIndexByte(text[:i], '\n') + 1
			end := len(text)
			if n := bytes.IndexByte(text[i:], '\n'); n >= 0 {
				end = i + n + 1
			}
			if !yield(text[start:end]) {
				return
			}
			text = text[end:]
		}
	}
}
