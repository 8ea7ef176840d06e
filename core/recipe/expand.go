package recipe

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/recipe/document"
)

// values are what {names} in strings stand for: facts, options, and what the
// maintainer names in [let].
type values map[string]string

// Bounds on what {names} become, in bytes: of one string, and of all together.
// Values can use each other, so that a few lines could fill any memory.
const (
	maxExpanded = 1 << 20
	maxTotal    = 16 << 20
)

// expansion replaces {names} in a document.
type expansion struct {
	values
	doc  *document.Document
	left int // bytes that may still come of it
}

// tooMuch is the message for a string that becomes too large.
var tooMuch = fmt.Sprintf("with its {names} replaced, this is larger than %d bytes, or all strings together are than %d", maxExpanded, maxTotal)

// expand replaces every {name} in s. A brace itself is written {{ or }}.
// What cannot be replaced is handed to complain, with its place in s, and
// is not changed.
func (v *expansion) expand(s string, complain func(offset, length int, message, remedy string)) string {
	if !strings.ContainsAny(s, "{}") {
		return s
	}
	var b strings.Builder
	defer func() { v.left -= b.Len() }()
	for i := 0; i < len(s); {
		if b.Len() > min(maxExpanded, v.left) {
			complain(0, len(s), tooMuch, "long texts belong into files beside the recipe")
			return s
		}
		switch {
		case strings.HasPrefix(s[i:], "{{"), strings.HasPrefix(s[i:], "}}"):
			b.WriteByte(s[i])
			i += 2
		case s[i] == '{':
			end := strings.IndexByte(s[i:], '}')
			if end < 0 {
				complain(i, 1, "a { without a }", "a brace itself is written {{")
				b.WriteString(s[i:])
				return b.String()
			}
			name := s[i+1 : i+end]
			value, ok := v.values[name]
			if !ok && v.doc.Full() {
				v.doc.Omit()
				value = s[i : i+end+1]
			} else if !ok {
				remedy := "known are " + v.names() + "; a brace itself is written {{"
				if near := fact.Nearest(name, v.keys()); near != "" {
					remedy = "did you mean {" + near + "}?"
				}
				complain(i, end+1, fmt.Sprintf("unknown value {%s}", name), remedy)
				value = s[i : i+end+1]
			}
			b.WriteString(value)
			i += end + 1
		default:
			b.WriteByte(s[i])
			i++
		}
	}
	return b.String()
}

func (v values) keys() []string {
	var keys []string
	for k := range v {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func (v values) names() string { return "{" + strings.Join(v.keys(), "}, {") + "}" }

// expandAll replaces {names} in every string of the document outside scripts,
// and in the keys of layouts. Facts that are missing or wrong are
// reported on their own.
func expandAll(doc *document.Document, target Target, set Values) {
	text := func(key string) string {
		if n := doc.Find(key); n != nil && (n.Kind == document.String || n.Kind == document.Integer) {
			return n.Text
		}
		return ""
	}
	release, _ := strconv.Atoi(text("release"))
	epoch, _ := strconv.Atoi(text("epoch"))
	own := text("version")
	if !version.Valid(own) {
		own = "0" // it is reported once, not wherever it is used
	}
	v := &expansion{doc: doc, left: maxTotal, values: values{
		"name": text("name"), "version": own, "release": text("release"),
		"full":        version.Full{Epoch: max(epoch, 0), Version: own, Release: max(release, 1)}.String(),
		"target.arch": target.Arch,
	}}
	for name, value := range set {
		v.values["option."+name] = value
	}
	v.addLet()
	for _, key := range doc.Root.Keys {
		switch key {
		case "name", "version", "let":
		case "steps": // all else in there is shell, which has braces of its own
			for _, part := range []string{"configure", "copy"} {
				if n := doc.Find("steps", part); n != nil {
					v.node(n)
				}
			}
		default:
			v.node(doc.Root.Get(key))
		}
	}
	if paths := doc.Find("steps", "copy"); paths != nil {
		v.keysOf(paths)
	}
	packages := doc.Find("package")
	if packages == nil {
		return
	}
	v.keysOf(packages)
	for _, name := range packages.Keys {
		layout := packages.Get(name).Get("layout")
		if layout == nil {
			continue
		}
		v.keysOf(layout)
	}
}

// keysOf replaces {names} in a table's keys.
func (v *expansion) keysOf(table *document.Node) {
	seen := map[string]bool{}
	table.RenameKeys(func(key string, at document.Span) string {
		path := v.expand(key, func(_, _ int, message, remedy string) { v.doc.Add(at, message, remedy) })
		if seen[path] {
			v.doc.Add(at, fmt.Sprintf("%q is in this table already", path), "keep one of the two")
		}
		seen[path] = true
		return path
	})
}

// addLet adds the maintainer's own values; each may use those above it.
func (v *expansion) addLet() {
	let := v.doc.Find("let")
	if let == nil {
		return
	}
	for _, name := range let.Keys {
		n := let.Get(name)
		if _, taken := v.values[name]; taken {
			v.doc.Add(n.Key, fmt.Sprintf("{%s} has a value already", name), "choose another name")
			continue
		}
		if n.Kind == document.String {
			v.node(n)
			v.values[name] = n.Text
		}
	}
}

func (v *expansion) node(n *document.Node) {
	switch n.Kind {
	case document.String:
		n.Text = v.expand(n.Text, func(offset, length int, message, remedy string) {
			v.doc.Add(v.doc.Inside(n, offset, length), message, remedy)
		})
	case document.Array:
		for _, item := range n.Items {
			v.node(item)
		}
	case document.Table:
		for _, key := range n.Keys {
			if key != "script" { // install scripts are shell
				v.node(n.Get(key))
			}
		}
	}
}
