// Package layout decides which staged paths belong to which package, and as
// what. Layouts are declared in the recipe: a literal path beats a pattern,
// and of two patterns the one with the longer literal start wins, or with the
// same start the one with more literal characters in all; a tie is an error.
// Patterns have the signs *, **, ?, [a-z] and {a,b}; ** also crosses
// slashes.
package layout

import (
	"fmt"
	"maps"
	"os"
	"path"
	"reflect"
	"slices"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/staging"
)

// Mismatch says where staged paths and layouts do not fit together: all of it.
type Mismatch struct {
	Recipe    string       // the recipe's file
	Unclaimed []Suggestion // staged, and in no layout
	Unmatched []Line       // layout lines that match nothing
	Tied      []Tie
	Covered   []Line // `from` lines whose path is staged as well
}

// Line is a line of a layout.
type Line struct {
	Package string // empty for discard
	Pattern string
	Line    int
	Near    string // a staged path that was perhaps meant
}

// Tie is a path that two lines claim with equal right.
type Tie struct {
	Path string
	A, B Line
}

// Suggestion is an unclaimed path with the layout line that would claim it.
type Suggestion struct {
	Package string // to whose layout it would fit best; empty for discard
	Pattern string // a path, or a pattern for several
	Paths   []string
}

func (m *Mismatch) Error() string {
	var b strings.Builder
	if n := m.Count(); n > 0 {
		fmt.Fprintf(&b, "%d staged %s in no layout", n, plural(n, "path is", "paths are"))
		for _, s := range m.Unclaimed {
			for _, p := range s.Paths {
				b.WriteString("\n  " + p)
			}
		}
	}
	section := func(lines []Line, what string) {
		for _, l := range lines {
			if b.Len() > 0 {
				b.WriteByte('\n')
			}
			fmt.Fprintf(&b, "%s:%d: %q %s", m.Recipe, l.Line, l.Pattern, what)
			if l.Near != "" {
				fmt.Fprintf(&b, " (did you mean %q?)", l.Near)
			}
		}
	}
	section(m.Unmatched, "matches nothing that was staged")
	section(m.Covered, "takes its file from the recipe's directory, and the stage step installed one too")
	for _, t := range m.Tied {
		if b.Len() > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "%s:%d: %q and line %d's %q claim %s with equal right", m.Recipe, t.B.Line, t.B.Pattern, t.A.Line, t.A.Pattern, t.Path)
	}
	return b.String()
}

// Count is how many paths are unclaimed.
func (m *Mismatch) Count() int {
	n := 0
	for _, s := range m.Unclaimed {
		n += len(s.Paths)
	}
	return n
}

// Lines returns lines for the recipe that would claim every unclaimed path,
// ready to paste.
func (m *Mismatch) Lines() string { return Lines(m.Unclaimed) }

// Lines writes suggestions as they are in a recipe.
func Lines(suggestions []Suggestion) string {
	byPackage := map[string][]string{}
	var order []string
	width := map[string]int{}
	for _, s := range suggestions {
		if byPackage[s.Package] == nil {
			order = append(order, s.Package)
		}
		key := quote(s.Pattern)
		if dir, ok := strings.CutSuffix(s.Pattern, "/**"); ok && len(s.Paths) > 1 {
			key = strings.TrimSuffix(quote(dir), `"`) + `/**"`
		} else if start, ok := strings.CutSuffix(s.Pattern, "*"); ok && len(s.Paths) > 1 {
			key = strings.TrimSuffix(quote(start), `"`) + `*"`
		}
		byPackage[s.Package] = append(byPackage[s.Package], key)
		width[s.Package] = max(width[s.Package], len(key))
	}
	var b strings.Builder
	for i, name := range order {
		if i > 0 {
			b.WriteByte('\n')
		}
		if name == "" {
			fmt.Fprintf(&b, "discard = [%s] # above the first [table]\n", strings.Join(byPackage[name], ", "))
			continue
		}
		fmt.Fprintf(&b, "[package.%s.layout]\n", document.Key(name))
		for _, key := range byPackage[name] {
			entry := "{}"
			if strings.HasPrefix(key, `"/etc/`) && !strings.HasSuffix(key, `/"`) {
				entry = fmt.Sprintf("{ kind = %q }", fact.KindConfig)
			}
			fmt.Fprintf(&b, "%-*s = %s\n", width[name], key, entry)
		}
	}
	return b.String()
}

// quote writes a path as a TOML key in which every sign stands for itself.
func quote(p string) string {
	escaped := strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "{", `\{{`, "}", `\}}`).Replace(p)
	return document.Quote(escaped)
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// rule is a line of a layout made ready for matching.
type rule struct {
	Line
	entry   recipe.Entry
	literal bool
	dir     bool // a literal directory
	start   int  // length of a pattern's literal start
	weight  int  // literal characters in all
	used    bool
	// replaces is whether what it replaces was staged.
	replaces bool
}

type resolver struct {
	literals map[string]*rule
	patterns []*rule // longest literal start first
	all      []*rule
	mismatch Mismatch
	tied     map[[2]int]bool
}

func newResolver(r *recipe.Recipe) *resolver {
	x := &resolver{literals: map[string]*rule{}, tied: map[[2]int]bool{}, mismatch: Mismatch{Recipe: r.Doc.File}}
	add := func(pkg, pattern string, e recipe.Entry, line int) {
		ru := &rule{Line: Line{Package: pkg, Pattern: pattern, Line: line}, entry: e}
		ru.start, ru.weight = recipe.PatternStart(pattern), recipe.PatternWeight(pattern)
		ru.literal = ru.start < 0
		x.all = append(x.all, ru)
		if ru.literal {
			ru.dir = strings.HasSuffix(pattern, "/")
			x.literals[strings.TrimSuffix(pattern, "/")] = ru
			return
		}
		x.patterns = append(x.patterns, ru)
	}
	for _, name := range r.PackageNames() {
		layout := r.Doc.Find("package", name, "layout")
		for pattern, e := range r.Packages[name].Layout {
			line, _ := r.Doc.Position(layout.Get(pattern).Key.Offset)
			add(name, pattern, e, line)
		}
	}
	for i, pattern := range r.Discard {
		line, _ := r.Doc.Position(r.Doc.At("discard", i).Offset)
		add("", pattern, recipe.Entry{}, line)
	}
	sort.Slice(x.patterns, func(i, j int) bool {
		a, b := x.patterns[i], x.patterns[j]
		if a.start != b.start {
			return a.start > b.start
		}
		if a.weight != b.weight {
			return a.weight > b.weight
		}
		return a.Pattern < b.Pattern
	})
	sort.Slice(x.all, func(i, j int) bool { return x.all[i].Line.Line < x.all[j].Line.Line })
	return x
}

func (x *resolver) find(p staging.Path) *rule {
	if ru := x.literals[p.Path]; ru != nil {
		return ru
	}
	var best *rule
	for _, ru := range x.patterns {
		if best != nil && (ru.start < best.start || ru.weight < best.weight) {
			break
		}
		if !strings.HasPrefix(p.Path, strings.TrimSuffix(ru.Pattern[:ru.start], "/")) {
			continue
		}
		if ok, _ := doublestar.Match(ru.Pattern, p.Path); !ok {
			continue
		}
		if best == nil {
			best = ru
			continue
		}
		// One tied path tells all that is to know of two lines.
		pair := [2]int{best.Line.Line, ru.Line.Line}
		if (best.Package != ru.Package || !reflect.DeepEqual(best.entry, ru.entry)) && p.Type != staging.Directory && !x.tied[pair] {
			x.tied[pair] = true
			x.mismatch.Tied = append(x.mismatch.Tied, Tie{p.Path, best.Line, ru.Line})
		}
		ru.used = true
	}
	return best
}

// Resolve gives every staged path to its package. With no layout at all, one
// package gets everything. The error is a *Mismatch when something does not
// fit.
func Resolve(r *recipe.Recipe, staged []staging.Path) (map[string][]staging.Claim, error) {
	claims := map[string][]staging.Claim{}
	for _, name := range r.PackageNames() {
		claims[name] = nil
	}
	if len(r.Packages) == 1 && r.Packages[r.PackageNames()[0]].Layout == nil {
		return everything(r, staged, claims), nil
	}
	x := newResolver(r)
	holds := map[string]map[string]bool{} // package → directories that hold its paths
	var dirs []staging.Path
	var unclaimed []staging.Path
	for _, p := range staged {
		if p.Type == staging.Directory {
			dirs = append(dirs, p)
			continue
		}
		ru := x.find(p)
		switch {
		case ru == nil || ru.dir:
			unclaimed = append(unclaimed, p)
			continue
		case ru.entry.Replace:
			ru.replaces = true
			continue
		case ru.entry.From != "":
			ru.used = true
			x.mismatch.Covered = append(x.mismatch.Covered, ru.Line)
			continue
		}
		ru.used = true
		claims[ru.Package] = append(claims[ru.Package], claim(p, ru))
		if holds[ru.Package] == nil {
			holds[ru.Package] = map[string]bool{}
		}
		for d := path.Dir(p.Path); d != "/"; d = path.Dir(d) {
			holds[ru.Package][d] = true
		}
	}
	x.directories(dirs, staged, holds, claims, &unclaimed)
	x.declared(r, claims)
	delete(claims, "") // discarded
	for _, ru := range x.all {
		if !ru.used {
			l := ru.Line
			l.Near = nearest(l.Pattern, staged)
			x.mismatch.Unmatched = append(x.mismatch.Unmatched, l)
		}
	}
	x.mismatch.Unclaimed = suggest(r, unclaimed, staged)
	m := &x.mismatch
	if len(m.Unclaimed)+len(m.Unmatched)+len(m.Tied)+len(m.Covered) > 0 {
		return nil, m
	}
	for name := range claims {
		slices.SortFunc(claims[name], func(a, b staging.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	}
	return claims, nil
}

// directories gives a directory to the package that names it, or to the one
// whose pattern matches it and that has something in it. Those that all
// packages share (/usr/bin and the like) belong to no package.
func (x *resolver) directories(dirs, staged []staging.Path, holds map[string]map[string]bool, claims map[string][]staging.Claim, unclaimed *[]staging.Path) {
	filled := map[string]bool{}
	for _, p := range staged {
		filled[path.Dir(p.Path)] = true
	}
	for _, d := range dirs {
		ru := x.find(d)
		switch {
		case ru == nil && filled[d.Path], ru != nil && !ru.literal && staging.IsShared(d.Path):
		case ru == nil:
			if !staging.IsShared(d.Path) {
				*unclaimed = append(*unclaimed, d)
			}
		case ru.literal || holds[ru.Package][d.Path] || !filled[d.Path]:
			ru.used = true
			claims[ru.Package] = append(claims[ru.Package], claim(d, ru))
		}
	}
}

// declared adds what a layout adds by itself: files from the recipe's directory
// and directories that the stage step did not make.
func (x *resolver) declared(r *recipe.Recipe, claims map[string][]staging.Claim) {
	for _, ru := range x.all {
		if ru.used || !ru.literal || ru.entry.Replace && !ru.replaces {
			continue // a line that replaces nothing is one that matches nothing
		}
		switch {
		case ru.entry.From != "":
			p := staging.Path{Path: ru.Pattern, Type: staging.File, Mode: 0o644, Size: -1, Disk: r.Beside(ru.entry.From)}
			if info, err := os.Stat(p.Disk); err == nil && info.Mode()&0o111 != 0 {
				p.Mode = 0o755 // version control keeps no more of a mode than this
			}
			claims[ru.Package] = append(claims[ru.Package], claim(p, ru))
			ru.used = true
		case ru.dir:
			p := staging.Path{Path: strings.TrimSuffix(ru.Pattern, "/"), Type: staging.Directory, Mode: 0o755}
			claims[ru.Package] = append(claims[ru.Package], claim(p, ru))
			ru.used = true
		}
	}
}

func claim(p staging.Path, ru *rule) staging.Claim {
	c := staging.Claim{Path: p, Kind: ru.entry.Kind, Owner: staging.Root, Group: staging.Root, Line: ru.Line.Line}
	if c.Kind == "" && p.Type != staging.Directory {
		c.Kind = staging.DefaultKind(p.Path)
	}
	if ru.entry.Owner != "" {
		c.Owner = ru.entry.Owner
		c.Group = ru.entry.Owner
	}
	if ru.entry.Group != "" {
		c.Group = ru.entry.Group
	}
	if len(ru.entry.Capabilities) > 0 && p.Type == staging.File {
		c.Xattrs = maps.Clone(c.Xattrs)
		if c.Xattrs == nil {
			c.Xattrs = map[string][]byte{}
		}
		c.Xattrs[staging.Capability] = staging.CapabilityValue(fact.CapabilitySet(ru.entry.Capabilities))
	}
	// A pattern's mode is meant for the files; a directory's is named.
	if ru.entry.Mode != "" && p.Type != staging.Symlink && (p.Type == staging.File || ru.literal) {
		c.Mode = fact.ParseMode(ru.entry.Mode)
	}
	return c
}

// kindWithoutLayout is the kind of a path in a recipe that has no layout.
func kindWithoutLayout(p staging.Path) string {
	switch {
	case p.Type == staging.Directory:
		return ""
	case p.Type == staging.File && strings.HasPrefix(p.Path, "/etc/"):
		return fact.KindConfig
	}
	return staging.DefaultKind(p.Path)
}

func everything(r *recipe.Recipe, staged []staging.Path, claims map[string][]staging.Claim) map[string][]staging.Claim {
	name := r.PackageNames()[0]
	for _, p := range staged {
		if p.Type == staging.Directory && staging.IsShared(p.Path) {
			continue
		}
		c := staging.Claim{Path: p, Kind: kindWithoutLayout(p), Owner: staging.Root, Group: staging.Root}
		claims[name] = append(claims[name], c)
	}
	slices.SortFunc(claims[name], func(a, b staging.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	return claims
}

// Owned is a staged path with the layout line that claims it.
type Owned struct {
	staging.Path `json:"-"`
	Name         string `json:"path"`
	Bytes        int64  `json:"bytes"`
	Package      string `json:"package"` // empty for what is discarded, or in no layout
	Kind         string `json:"kind,omitempty"`
	Line         int    `json:"line,omitempty"` // of the recipe; 0 where a default applies, or nothing
	State        string `json:"state"`          // Claimed, Discarded or LeftOver
}

// States of an owned path.
const (
	Claimed   = "claimed"
	Discarded = "discarded"
	LeftOver  = "left over" // in no layout
)

// Owners reports for every staged file and link, and for files from beside the
// recipe, which package claims it, and which line of the recipe says so.
func Owners(r *recipe.Recipe, staged []staging.Path) []Owned {
	x := newResolver(r)
	whole := len(r.Packages) == 1 && r.Packages[r.PackageNames()[0]].Layout == nil
	out := make([]Owned, 0, len(staged))
	for _, p := range staged {
		if p.Type == staging.Directory {
			continue
		}
		o := Owned{Path: p, Name: p.Path, Bytes: p.Size, State: Claimed}
		switch ru := x.find(p); {
		case ru != nil && ru.Package == "":
			o.State, o.Line = Discarded, ru.Line.Line
		case ru != nil && !ru.dir:
			c := claim(p, ru)
			o.Package, o.Kind, o.Line = ru.Package, c.Kind, c.Line
		case whole:
			o.Package, o.Kind = r.PackageNames()[0], kindWithoutLayout(p)
		default:
			o.State = LeftOver
		}
		out = append(out, o)
	}
	claims := map[string][]staging.Claim{}
	x.declared(r, claims)
	for _, name := range slices.Sorted(maps.Keys(claims)) {
		for _, c := range claims[name] {
			if c.Path.Type != staging.File {
				continue
			}
			size := int64(0)
			if info, err := os.Stat(c.Path.Disk); err == nil {
				size = info.Size()
			}
			out = append(out, Owned{Path: c.Path, Name: c.Path.Path, Bytes: size, Package: name, Kind: c.Kind, Line: c.Line, State: Claimed})
		}
	}
	slices.SortFunc(out, func(a, b Owned) int { return strings.Compare(a.Name, b.Name) })
	return out
}
