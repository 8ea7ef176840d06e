package index

import (
	"bytes"
	"encoding/json"
	"fmt"
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

// plain reports whether nothing in the line would have to be escaped.
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
	return zstd.NewReader(nil, zstd.WithDecoderConcurrency(runtime.GOMAXPROCS(0)), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(MaxListing))
})

// uncounted is the count of lines that is not known.
const uncounted = -1

// decodeLines reads compressed JSON lines, of which there must be count. Those
// that pick does not yield are only counted; a pick of nil takes all. With whole
// set, records hold on to their lines.
func decodeLines[T any](data []byte, count int, pick Picker, whole bool) ([]T, error) {
	dec, err := decoder()
	if err != nil {
		return nil, err
	}
	text, err := dec.DecodeAll(data, nil)
	if err != nil {
		return nil, err
	}
	found := bytes.Count(text, []byte("\n"))
	if len(text) > MaxListing || found > maxLines {
		return nil, fmt.Errorf("it holds more than %d bytes, or %d lines", MaxListing, maxLines)
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
