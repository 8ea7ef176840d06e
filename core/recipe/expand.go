package recipe

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ellwand.example/core/document"
	"ellwand.example/core/version"
)

// values are what {names} in strings stand for: facts, options, and what the
// maintainer names in [let].
type values map[string]string

// expand replaces every {name} in s. A brace itself is written {{ or }}.
// What cannot be replaced is handed to complain, with its place in s, and
// stays as it is.
func (v values) expand(s string, complain func(offset, length int, message, remedy string)) string {
	if !strings.ContainsAny(s, "{}") {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
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
			value, ok := v[name]
			if !ok {
				remedy := "known are " + v.names() + "; a brace itself is written {{"
				if near := document.Nearest(name, v.keys()); near != "" {
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
	v := values{
		"name": text("name"), "version": own, "release": text("release"),
		"full":        version.Full{Epoch: max(epoch, 0), Version: own, Release: max(release, 1)}.String(),
		"target.arch": target.Arch,
	}
	for name, value := range set {
		v["option."+name] = value
	}
	addLet(doc, v)
	for _, key := range doc.Root.Keys {
		switch key {
		case "name", "version", "let":
		case "steps": // all else in there is shell, which has braces of its own
			for _, part := range []string{"configure", "copy"} {
				if n := doc.Find("steps", part); n != nil {
					expandNode(doc, n, v)
				}
			}
		default:
			expandNode(doc, doc.Root.Get(key), v)
		}
	}
	if paths := doc.Find("steps", "copy"); paths != nil {
		expandKeys(doc, paths, v)
	}
	packages := doc.Find("package")
	if packages == nil {
		return
	}
	for _, name := range packages.Keys {
		layout := packages.Get(name).Get("layout")
		if layout == nil {
			continue
		}
		expandKeys(doc, layout, v)
	}
}

// expandKeys replaces {names} in a table's keys.
func expandKeys(doc *document.Document, table *document.Node, v values) {
	seen := map[string]bool{}
	table.RenameKeys(func(key string, at document.Span) string {
		path := v.expand(key, func(_, _ int, message, remedy string) { doc.Add(at, message, remedy) })
		if seen[path] {
			doc.Add(at, fmt.Sprintf("%q is in this table already", path), "keep one of the two")
		}
		seen[path] = true
		return path
	})
}

// addLet adds the maintainer's own values; each may use those above it.
func addLet(doc *document.Document, v values) {
	let := doc.Find("let")
	if let == nil {
		return
	}
	for _, name := range let.Keys {
		n := let.Get(name)
		if _, taken := v[name]; taken {
			doc.Add(n.Key, fmt.Sprintf("{%s} has a value already", name), "choose another name")
			continue
		}
		if n.Kind == document.String {
			expandNode(doc, n, v)
			v[name] = n.Text
		}
	}
}

func expandNode(doc *document.Document, n *document.Node, v values) {
	switch n.Kind {
	case document.String:
		n.Text = v.expand(n.Text, func(offset, length int, message, remedy string) {
			doc.Add(doc.Inside(n, offset, length), message, remedy)
		})
	case document.Array:
		for _, item := range n.Items {
			expandNode(doc, item, v)
		}
	case document.Table:
		for _, key := range n.Keys {
			if key != "script" { // install scripts are shell
				expandNode(doc, n.Get(key), v)
			}
		}
	}
}
