// Package document reads TOML 1.0 files (https://toml.io/en/v1.0.0) in such a
// way that every key and value keeps its place, and every mistake in a file is
// reported in one go: syntax errors, keys given twice, unknown keys, wrong
// types. Recipes and workspace settings are both read through it.
package document

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"slices"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/pattern"
)

// MaxSize bounds a document, in bytes.
const MaxSize = 4 << 20

// maxSyntaxErrors bounds how often parsing starts again behind a syntax error.
const maxSyntaxErrors = 25

// maxNesting bounds arrays and inline tables inside one another.
const maxNesting = 64

// Span is a place in a document, in bytes from its start.
type Span struct{ Offset, Length int }

// Kind is the type of a TOML value.
type Kind int

// The kinds of value; Table covers headers, dotted keys and inline tables.
const (
	Table Kind = iota
	Array
	String
	Integer
	Float
	Bool
	Date     // a local date, such as 2031-04-02
	DateTime // every other date or time
)

var kindNames = map[Kind]string{
	Table: "a table", Array: "an array", String: "a string", Integer: "an integer",
	Float: "a fraction", Bool: "true or false", Date: "a date", DateTime: "a time",
}

func (k Kind) String() string { return kindNames[k] }

// Node is one value of a document.
type Node struct {
	Kind  Kind
	Key   Span   // the key it was given under; empty in arrays
	Value Span   // the value; for a table written as a header, the header's last key
	Text  string // what a scalar says: a string decoded, anything else as written
	Items []*Node
	Keys  []string // a table's keys, in the order of the file

	fields   map[string]*Node
	explicit bool // by a header of its own, or an inline table
	closed   bool // an inline table or a written array: nothing may be added
	headers  bool // an array made by [[headers]]
}

// Inline reports whether a table is written in braces on one line.
func (n *Node) Inline() bool { return n != nil && n.Kind == Table && n.closed }

// Get returns a table's value by key, or nil.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	return n.fields[key]
}

func (n *Node) put(key string, child *Node) {
	if n.fields == nil {
		n.fields = map[string]*Node{}
	}
	n.fields[key] = child
	n.Keys = append(n.Keys, key)
}

// Document is a file that was read, right or wrong.
type Document struct {
	File     string // as shown in messages
	Data     []byte
	Root     *Node
	Problems Problems
	// Garbled are keys on lines that could not be read: they are in the file,
	// whatever was meant.
	Garbled []string

	lines   []int // offset of each line's start
	omitted int   // mistakes beyond MaxProblems
}

// MaxProblems is how many mistakes are recorded. A file with more of them is
// no recipe that somebody mistyped, and each costs a search for what was meant.
const MaxProblems = 500

// Full reports whether no more mistakes are recorded; the next ones are only
// counted.
func (d *Document) Full() bool { return len(d.Problems) >= MaxProblems }

// ReadFile reads a document from path, shown in messages as name. The error
// is for a file that cannot be read at all; mistakes in it are in Problems.
func ReadFile(path, name string) (*Document, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := files.ReadRegular(f, MaxSize)
	var large *files.TooLargeError
	switch {
	case errors.Is(err, files.ErrNotRegular):
		return nil, fmt.Errorf("%s is not a regular file", name)
	case errors.As(err, &large):
		d := &Document{File: name, Root: &Node{}}
		d.Problems = Problems{{File: name, Message: large.Error(), Remedy: "put data into files of its own beside it"}}
		return d, nil
	case err != nil:
		return nil, err
	}
	return Parse(name, data), nil
}

// Parse reads a document. It never fails: what is wrong is in Problems, and
// what could be read is in Root.
func Parse(file string, data []byte) *Document {
	d := &Document{File: file, Data: data, Root: &Node{explicit: true}, lines: []int{0}}
	for i, c := range data {
		if c == '\n' {
			d.lines = append(d.lines, i+1)
		}
	}
	if at, ok := binaryByte(data); ok {
		line, column := d.Position(at)
		d.Problems = Problems{{File: file, Message: fmt.Sprintf("this is not a text file: byte 0x%02x at line %d, column %d is not UTF-8 text", data[at], line, column),
			Remedy: "was another file meant?"}}
		return d
	}
	clean := bytes.Clone(data)
	var syntax Problems
	for range maxSyntaxErrors {
		d.Problems = nil // of the round before: what it read is read again
		root, span, message := d.parse(clean)
		d.Root = root
		if message == "" {
			break
		}
		syntax = append(syntax, d.syntaxError(span, message))
		if !d.erase(clean, span.Offset) {
			break
		}
	}
	d.Problems = append(syntax, d.Problems...)
	d.Sort()
	return d
}

// binaryByte finds the first byte that no text has.
func binaryByte(data []byte) (int, bool) {
	for i := 0; i < len(data); {
		r, size := utf8.DecodeRune(data[i:])
		if r == 0 || r == utf8.RuneError && size == 1 {
			return i, true
		}
		i += size
	}
	return 0, false
}

// erase overwrites with spaces what a syntax error is in: its line, and for a header the
// lines under it, which would otherwise be taken for another table's.
func (d *Document) erase(clean []byte, offset int) bool {
	line, _ := d.Position(min(offset, max(len(clean)-1, 0)))
	erased := false
	for first := true; line <= len(d.lines); line++ {
		start, end := d.lines[line-1], d.lineEnd(line)
		text := bytes.TrimSpace(clean[start:end])
		if key, _, ok := bytes.Cut(text, []byte("=")); ok && first {
			d.Garbled = append(d.Garbled, string(bytes.TrimSpace(key)))
		}
		header := bytes.HasPrefix(text, []byte("["))
		if !first && header {
			break
		}
		erased = erased || len(text) > 0
		for i := start; i < end; i++ {
			clean[i] = ' '
		}
		if first && !header {
			break
		}
		first = false
	}
	return erased
}

func (d *Document) parse(data []byte) (root *Node, at Span, message string) {
	root = &Node{explicit: true}
	// The parser works out offsets from capacities: it must own all of data.
	p := unstable.Parser{}
	p.Reset(data[:len(data):len(data)])
	current := root
	end := 0
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			current = d.header(root, e)
		case unstable.KeyValue:
			d.keyValue(current, e, 0)
			if s := span(e.Raw); s.Length > 0 {
				end = s.Offset + s.Length
			}
		}
	}
	var pe *unstable.ParserError
	if err := p.Error(); errors.As(err, &pe) {
		at = Span{Offset: end}
		if cap(pe.Highlight) > 0 && cap(pe.Highlight) <= len(data) {
			at = span(p.Range(pe.Highlight))
		}
		return root, at, pe.Message
	} else if err != nil {
		return root, Span{Offset: end}, err.Error()
	}
	return root, Span{}, ""
}

func span(r unstable.Range) Span { return Span{int(r.Offset), int(r.Length)} }

func keyParts(it unstable.Iterator) (parts []string, spans []Span) {
	for it.Next() {
		parts = append(parts, string(it.Node().Data))
		spans = append(spans, span(it.Node().Raw))
	}
	return parts, spans
}

func (d *Document) twice(at Span, what string, first *Node) {
	line, _ := d.Position(first.Key.Offset)
	d.Add(at, fmt.Sprintf("%s is already on line %d", what, line), "keep one of the two")
}

// header follows [a.b] or [[a.b]] and returns the table that the next keys go
// into; after a mistake, a table that hangs nowhere.
func (d *Document) header(root *Node, e *unstable.Node) *Node {
	parts, spans := keyParts(e.Key())
	t := root
	for i, part := range parts {
		last := i == len(parts)-1
		child := t.Get(part)
		switch {
		case child == nil:
			child = &Node{Key: spans[i], Value: spans[i]}
			t.put(part, child)
			if last && e.Kind == unstable.ArrayTable {
				child.Kind, child.headers = Array, true
			}
		case child.Kind == Array && child.headers && !last:
			child = child.Items[len(child.Items)-1]
		case child.closed || child.Kind != Table && !(child.headers && last && e.Kind == unstable.ArrayTable):
			d.twice(spans[i], quote(part), child)
			return &Node{}
		}
		if !last {
			t = child
			continue
		}
		if e.Kind == unstable.ArrayTable {
			if child.Kind != Array {
				d.twice(spans[i], "["+strings.Join(parts, ".")+"]", child)
				return &Node{}
			}
			item := &Node{Key: spans[i], Value: spans[i], explicit: true}
			child.Items = append(child.Items, item)
			return item
		}
		if child.explicit {
			d.twice(spans[i], "["+strings.Join(parts, ".")+"]", child)
			return &Node{}
		}
		child.explicit = true
		t = child
	}
	return t
}

func (d *Document) keyValue(t *Node, e *unstable.Node, depth int) {
	parts, spans := keyParts(e.Key())
	for i, part := range parts[:len(parts)-1] {
		child := t.Get(part)
		if child == nil {
			child = &Node{Key: spans[i], Value: spans[i]}
			t.put(part, child)
		} else if child.Kind != Table || child.closed {
			d.twice(spans[i], quote(part), child)
			return
		}
		t = child
	}
	last := len(parts) - 1
	if first := t.Get(parts[last]); first != nil {
		d.twice(spans[last], quote(parts[last]), first)
		return
	}
	child := d.value(e.Value(), depth)
	child.Key = spans[last]
	if child.Value.Length == 0 {
		child.Value = child.Key
	}
	t.put(parts[last], child)
}

var scalarKinds = map[unstable.Kind]Kind{
	unstable.String: String, unstable.Integer: Integer, unstable.Float: Float, unstable.Bool: Bool,
	unstable.LocalDate: Date, unstable.LocalTime: DateTime, unstable.LocalDateTime: DateTime, unstable.DateTime: DateTime,
}

func (d *Document) value(v *unstable.Node, depth int) *Node {
	n := &Node{Value: span(v.Raw)}
	if depth > maxNesting {
		d.Add(n.Value, fmt.Sprintf("values stand more than %d deep inside one another", maxNesting), "")
		return n
	}
	switch v.Kind {
	case unstable.InlineTable:
		n.explicit = true
		for it := v.Children(); it.Next(); {
			d.keyValue(n, it.Node(), depth+1)
		}
		n.closed = true
	case unstable.Array:
		n.Kind, n.closed = Array, true
		for it := v.Children(); it.Next(); {
			n.Items = append(n.Items, d.value(it.Node(), depth+1))
		}
	default:
		n.Kind, n.Text = scalarKinds[v.Kind], string(v.Data)
	}
	return n
}

// Position turns an offset into a line and a column, both from 1, the column
// in characters.
func (d *Document) Position(offset int) (line, column int) {
	offset = min(max(offset, 0), len(d.Data))
	i, exact := slices.BinarySearch(d.lines, offset)
	if !exact {
		i--
	}
	return i + 1, utf8.RuneCount(d.Data[d.lines[i]:offset]) + 1
}

func (d *Document) lineEnd(line int) int {
	if line < len(d.lines) {
		return d.lines[line] - 1
	}
	return len(d.Data)
}

// Line returns the text of a line, from 1, without its end.
func (d *Document) Line(line int) string {
	if line < 1 || line > len(d.lines) {
		return ""
	}
	return strings.TrimSuffix(string(d.Data[d.lines[line-1]:d.lineEnd(line)]), "\r")
}

// Add records a mistake at a place.
func (d *Document) Add(at Span, message, remedy string) {
	if d.Full() {
		d.omitted++
		return
	}
	d.Problems = append(d.Problems, d.ProblemAt(at, message, remedy))
}

// AddAction is Add with an action that may solve it.
func (d *Document) AddAction(at Span, message, remedy string, action fact.Action) {
	before := len(d.Problems)
	d.Add(at, message, remedy)
	if len(d.Problems) > before {
		d.Problems[before].Action = action
	}
}

// Omit counts a mistake that is not recorded, once the document is full.
func (d *Document) Omit() { d.omitted++ }

// ProblemAt makes a problem without recording it.
func (d *Document) ProblemAt(at Span, message, remedy string) Problem {
	line, column := d.Position(at.Offset)
	text := d.Line(line)
	end := min(at.Offset+at.Length, d.lineEnd(line))
	width := 1
	if end > at.Offset {
		width = utf8.RuneCount(d.Data[at.Offset:end])
	}
	return Problem{File: d.File, Line: line, Column: column, Width: width, Text: text, Message: message, Remedy: remedy}
}

// Sort orders the problems by place.
func (d *Document) Sort() {
	sort.SliceStable(d.Problems, func(i, j int) bool {
		a, b := d.Problems[i], d.Problems[j]
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column)) < 0
	})
}

// Err returns the mistakes in the order of their places, with how many more
// there are; nil if there is none.
func (d *Document) Err() error {
	d.Sort()
	if d.omitted > 0 {
		d.Problems = append(d.Problems, Problem{File: d.File, Message: fmt.Sprintf("and %d more mistakes", d.omitted), Remedy: "start with these: some of the others may come from them"})
		d.omitted = 0
	}
	return d.Problems.Err()
}

// Find follows keys (string) and indices (int) from the root; nil when there
// is nothing.
func (d *Document) Find(path ...any) *Node {
	n := d.Root
	for _, p := range path {
		switch p := p.(type) {
		case string:
			n = n.Get(p)
		case int:
			if n == nil || p >= len(n.Items) {
				return nil
			}
			n = n.Items[p]
		}
		if n == nil {
			return nil
		}
	}
	return n
}

// At returns the place of the value at path, or of the nearest thing around it
// that is in the file.
func (d *Document) At(path ...any) Span {
	for ; len(path) > 0; path = path[:len(path)-1] {
		if n := d.Find(path...); n != nil {
			return n.Value
		}
	}
	return Span{}
}

// Inside returns the place of length bytes from offset in what a string says;
// of the whole string where escapes make the two differ.
func (d *Document) Inside(n *Node, offset, length int) Span {
	raw := d.Data[n.Value.Offset : n.Value.Offset+n.Value.Length]
	for _, quotes := range []string{"'''\r\n", "'''\n", `"""` + "\r\n", `"""` + "\n", "'''", `"""`, "'", `"`} {
		if body, ok := bytes.CutPrefix(raw, []byte(quotes)); ok {
			if !bytes.HasPrefix(body, []byte(n.Text)) {
				break
			}
			return Span{n.Value.Offset + len(quotes) + offset, length}
		}
	}
	return n.Value
}

func quote(key string) string { return "`" + key + "`" }

// bare is a line whose value is text that lacks its quotes.
var bare = pattern.New(`^\s*[A-Za-z0-9_."-]+\s*=\s*([A-Za-z/~.<$][^"'\[\]{}]*?)\s*(#.*)?$`)

// syntaxError words what the TOML parser stumbled over.
func (d *Document) syntaxError(at Span, message string) Problem {
	line, _ := d.Position(at.Offset)
	if m := bare.FindStringSubmatchIndex(d.Line(line)); m != nil {
		text := d.Line(line)[m[2]:m[3]]
		return d.ProblemAt(Span{d.lines[line-1] + m[2], m[3] - m[2]}, "text must be in quotes", "write it as "+strconv.Quote(text))
	}
	return d.ProblemAt(at, "this is not TOML: "+strings.TrimPrefix(message, "toml: "), "")
}

// RenameKeys gives each key of a table the name that rename returns. Two keys
// that become one keep the first's value.
func (n *Node) RenameKeys(rename func(key string, at Span) string) {
	old := n.fields
	keys := n.Keys
	n.fields, n.Keys = nil, nil
	for _, key := range keys {
		to := rename(key, old[key].Key)
		if n.Get(to) == nil {
			n.put(to, old[key])
		}
	}
}
