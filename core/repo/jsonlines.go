package repo

import (
	"bytes"
	"encoding/json"
	"fmt"
	"iter"
	"runtime"
	"strings"
	"sync"
	"unicode/utf8"
	"unsafe"

	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/ell/canonical"
)

// The parts of a line around package and path, in canonical JSON.
const (
	pathBegin  = `{"package":"`
	pathMiddle = `","path":"`
	pathEnd    = "\"}\n"
)

// parse reads a line that has nothing escaped in it, as nearly all are: it
// takes a tenth of the time. The strings share the memory of the line.
func (p *PathRecord) parse(line []byte) bool {
	rest, ok := bytes.CutPrefix(line, []byte(pathBegin))
	name, rest, ok2 := bytes.Cut(rest, []byte(pathMiddle))
	text, ok3 := bytes.CutSuffix(rest, []byte(pathEnd))
	if !ok || !ok2 || !ok3 || bytes.ContainsAny(line, `\`) || bytes.IndexByte(text, '"') >= 0 || bytes.IndexByte(name, '"') >= 0 || !utf8.Valid(line) ||
		bytes.ContainsFunc(line[:len(line)-1], func(c rune) bool { return c < ' ' }) {
		return false
	}
	p.Package, p.Path = unsafe.String(unsafe.SliceData(name), len(name)), unsafe.String(unsafe.SliceData(text), len(text))
	return true
}

// plain tells whether nothing in the line would have to be escaped.
func (p *PathRecord) plain() bool {
	for _, text := range []string{p.Package, p.Path} {
		for i := range len(text) {
			if c := text[i]; c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf {
				return false
			}
		}
	}
	return true
}

// lines writes values as canonical JSON, a line each.
func lines[T any](items []T) ([]byte, error) {
	var b bytes.Buffer
	for i := range items {
		switch item := any(&items[i]).(type) {
		case *Record:
			if item.line != nil {
				b.Write(item.line)
				continue
			}
		case *PathRecord:
			if item.plain() {
				for _, part := range []string{pathBegin, item.Package, pathMiddle, item.Path, pathEnd} {
					b.WriteString(part)
				}
				continue
			}
		}
		line, err := canonical.Marshal(items[i])
		if err != nil {
			return nil, err
		}
		b.Write(line)
		b.WriteByte('\n')
	}
	return b.Bytes(), nil
}

// encoder is shared, like decoder.
var encoder = sync.OnceValues(func() (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderConcurrency(runtime.GOMAXPROCS(0)), zstd.WithEncoderCRC(true), zstd.WithLowerEncoderMem(true), zstd.WithZeroFrames(true))
})

// decoder is shared: it has no state of its own between frames.
var decoder = sync.OnceValues(func() (*zstd.Decoder, error) {
	return zstd.NewReader(nil, zstd.WithDecoderConcurrency(runtime.GOMAXPROCS(0)), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(maxListing))
})

// uncounted is the count of lines that is not known.
const uncounted = -1

// decodeLines reads compressed JSON lines, of which there must be count. Those
// that pick does not yield are only counted; a pick of nil takes all. With whole
// set, records hold on to their lines.
func decodeLines[T any](data []byte, count int, pick picker, whole bool) ([]T, error) {
	dec, err := decoder()
	if err != nil {
		return nil, err
	}
	text, err := dec.DecodeAll(data, nil)
	if err != nil {
		return nil, err
	}
	found := bytes.Count(text, []byte("\n"))
	if len(text) > maxListing || found > maxLines {
		return nil, fmt.Errorf("it holds more than %d bytes, or %d lines", maxListing, maxLines)
	}
	if len(text) > 0 && text[len(text)-1] != '\n' || found != count && count != uncounted {
		return nil, fmt.Errorf("it does not hold the %d lines that the snapshot says", count)
	}
	var items []T
	if pick == nil {
		pick = bytes.Lines
		items = make([]T, 0, found)
	}
	few := items == nil
	for line := range pick(text) {
		var item T
		if p, ok := any(&item).(*PathRecord); ok && p.parse(line) {
			if few { // these are not to hold on to all lines
				p.Package, p.Path = strings.Clone(p.Package), strings.Clone(p.Path)
			}
			items = append(items, item)
			continue
		}
		if err := json.Unmarshal(line, &item); err != nil {
			return nil, err
		}
		if r, ok := any(&item).(*Record); ok && whole {
			r.line = line
		}
		items = append(items, item)
	}
	return items, nil
}

// picker yields some lines of a text, each with its end.
type picker func(text []byte) iter.Seq[[]byte]

// where picks the lines that a function keeps.
func where(keep func(line []byte) bool) picker {
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

// mentions picks the lines that have a text in them.
func mentions(text string) picker {
	return where(func(line []byte) bool { return bytes.Contains(line, []byte(text)) })
}

// nameIn finds the name of the package that a line of a listing tells of.
func nameIn(line []byte) string {
	_, rest, _ := bytes.Cut(line, []byte(`"name":"`))
	name, _, _ := bytes.Cut(rest, []byte(`"`))
	return string(name)
}

// ofNamesWith picks all lines of the packages of which one line has a text in
// it. The lines of a name are together, as they are sorted by identity.
func ofNamesWith(word string) picker {
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
				if now := nameIn(line); now != name {
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

// spelling finds a word of small ASCII letters in either case. It looks for the
// letter of the word that is the rarest in names and paths, so that most of a
// text is skipped at the speed of memory.
type spelling struct {
	word         string
	at           int // of that letter
	small, large byte
}

// byRarity are characters of names and paths, the rarest first; all others are
// rarer still.
const byRarity = "zqjxvkwy9876543_bf2h10gpmudclrnasoit.e-/"

func spellingOf(word string) spelling {
	s := spelling{word: word}
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

// index is where the word first is in a text, or -1.
func (s spelling) index(text []byte) int {
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

// begins tells whether a text that is long enough begins with the word.
func (s spelling) begins(text []byte) bool {
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

// pick is a picker of the lines that have the word.
func (s spelling) pick(text []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for {
			i := s.index(text)
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
