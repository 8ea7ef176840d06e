package recipe

import (
	"fmt"
	"strings"
	"time"

	"ellwand.example/core/fact/version"
	"ellwand.example/core/recipe/document"
)

// Pin is a source's digest to write into a recipe.
type Pin struct {
	Source int
	SHA256 string
	Commit string // in place of the digest, for a git repository
}

// pins are the edits that write digests: in place of the one that is there, or
// on a line behind the address.
func (r *Recipe) pins(pins []Pin) []document.Edit {
	var edits []document.Edit
	for _, p := range pins {
		place := r.Sources[p.Source].Place
		key, value := "sha256", p.SHA256
		if p.Commit != "" {
			key, value = "commit", p.Commit
		}
		if n := r.Doc.Find("source", place, key); n != nil {
			edits = append(edits, r.Doc.SetString(n, value))
			continue
		}
		item := r.Doc.Find("source", place)
		var n *document.Node
		for _, behind := range []string{"url", "file", "git", "tag", "modules"} {
			if found := item.Get(behind); found != nil {
				n = found
			}
		}
		if item.Inline() {
			edits = append(edits, document.Edit{At: document.Span{Offset: n.Value.Offset + n.Value.Length}, Text: ", " + key + " = " + document.Quote(value)})
			continue
		}
		// The two equals signs are in one column, as far as the address's
		// leaves room.
		line, _ := r.Doc.Position(n.Key.Offset)
		before, _, _ := strings.Cut(strings.TrimLeft(r.Doc.Line(line), " \t"), "=")
		edits = append(edits, r.Doc.InsertAfter(n.Value, fmt.Sprintf("%-*s = %s", len(before)-1, key, document.Quote(value))))
	}
	return edits
}

// WithPins returns the recipe's text with digests written into it. All else is
// the same to the byte.
func (r *Recipe) WithPins(pins []Pin) ([]byte, error) { return r.Doc.Apply(r.pins(pins)) }

// Bump is a step from one version or release to the next.
type Bump struct {
	Version string // the new version; the same one for a new release alone
	Release int
	Date    time.Time
	By      string // empty leaves the key out
	Text    []string
}

// literalVersions are the edits of addresses and tags that have the version written out.
func (r *Recipe) literalVersions(to string) []document.Edit {
	var edits []document.Edit
	for _, s := range r.Sources {
		for _, key := range []string{"url", "tag"} {
			n := r.Doc.Find("source", s.Place, key)
			if n == nil || n.Kind != document.String {
				continue
			}
			written := string(r.Doc.Data[n.Value.Offset : n.Value.Offset+n.Value.Length])
			if strings.Contains(written, "{version}") || !strings.Contains(written, r.Version) {
				continue
			}
			edits = append(edits, document.Edit{At: n.Value, Text: strings.ReplaceAll(written, r.Version, to)})
		}
	}
	return edits
}

// WithBump returns the recipe's text for another version: version and release
// are replaced, also where addresses and tags of sources have the version written out, and a
// change entry is put before the others. All else is the same to the byte.
func (r *Recipe) WithBump(b Bump) ([]byte, error) {
	d := r.Doc
	if all := d.Find("change"); all != nil && (len(all.Items) == 0 || all.Items[0].Inline()) {
		return nil, fmt.Errorf("%s: the change entries are an array in brackets: write each as a [[change]] table, so that one can be put before them", d.File)
	}
	edits := []document.Edit{
		{At: d.Find("release").Value, Text: fmt.Sprint(b.Release)},
	}
	if b.Version != r.Version {
		edits = append(edits, d.SetString(d.Find("version"), b.Version))
	}
	if b.Version != r.Version {
		edits = append(edits, r.literalVersions(b.Version)...)
	}
	var texts []string
	for _, t := range b.Text {
		texts = append(texts, document.Quote(t))
	}
	var entry strings.Builder
	fmt.Fprintf(&entry, "[[change]]\nversion = %s\ndate    = %s\n", document.Quote(version.Full{Epoch: r.Epoch, Version: b.Version, Release: b.Release}.String()), b.Date.Format(time.DateOnly))
	if b.By != "" {
		fmt.Fprintf(&entry, "by      = %s\n", document.Quote(b.By))
	}
	fmt.Fprintf(&entry, "text    = [%s]\n", strings.Join(texts, ", "))
	if first := d.Find("change", 0); first != nil {
		edits = append(edits, d.InsertBefore(first.Key, entry.String()+"\n"))
	} else {
		edits = append(edits, d.InsertEnd("\n"+entry.String()))
	}
	return d.Apply(edits)
}
