package compare

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/pattern"
	"ellwand.example/core/staging"
)

// Comparison is how two packages differ.
type Comparison struct {
	A           string            `json:"a"` // identities
	B           string            `json:"b"`
	Verdicts    []Verdict         `json:"verdicts"`
	Facts       []Change          `json:"facts"`
	Needs       []Change          `json:"needs"`
	Provides    []Change          `json:"provides"`
	Scripts     []Change          `json:"scripts"`
	Build       []Change          `json:"build"`
	Recipe      []Change          `json:"recipe"`
	Files       []FileChange      `json:"files"`
	Same        int               `json:"same"` // paths with no difference
	Libraries   []Library         `json:"libraries"`
	Directories []DirectoryChange `json:"directories"` // those whose size differs
	Bytes       [2]int64          `json:"bytes"`       // of the two files
	Installed   [2]int64          `json:"installed"`   // bytes of all that is in them
}

// Verdict is something to act on.
type Verdict struct {
	Weight Weight `json:"weight"`
	Path   string `json:"path,omitempty"`
	Text   string `json:"text"`
	Remedy string `json:"remedy,omitempty"`
}

// Weight is how much a verdict matters to those who have the package.
type Weight string

// The weights, the heaviest first.
const (
	Breaks Weight = "breaks" // something that worked stops to work
	Look   Weight = "look"   // someone should look at it
	Note   Weight = "note"   // worth knowing
)

// States of a path in the second package.
const (
	Added   = "added"
	Gone    = "gone"
	Changed = "changed"
	Moved   = "moved" // the same contents at another path
)

// FileChange is a path that differs.
type FileChange struct {
	Path  string `json:"path"`
	State string `json:"state"`
	From  string `json:"from,omitempty"` // of what was moved: where it was
	// Attributes are what differs beside the contents: mode, owner, type, kind,
	// target, attributes.
	Attributes []Change `json:"attributes,omitempty"`
	Contents   bool     `json:"contents,omitempty"` // they differ
	Bytes      [2]int64 `json:"bytes"`              // before and after
	Difference string   `json:"difference,omitempty"`
}

// Library is how what a library offers differs.
type Library struct {
	Before string   `json:"before,omitempty"` // soname; empty where it is new
	After  string   `json:"after,omitempty"`  // the same; empty where it is gone
	Path   string   `json:"path"`
	Added  []string `json:"added"` // symbols, as package scan names them
	Gone   []string `json:"gone"`
}

// DirectoryChange is how much more or less a directory holds, all below it included.
type DirectoryChange struct {
	Path   string `json:"path"`
	Before int64  `json:"before"` // bytes
	After  int64  `json:"after"`
}

// maxText bounds the files whose lines are compared, and maxELF the programs
// and libraries that are looked into.
const (
	maxText = 256 << 10
	maxELF  = 256 << 20
)

// side is one of the two packages.
type side struct {
	p       *ell.Package
	entries []ell.Entry
	byPath  map[string]ell.Entry
	digests map[string]bool
	looked  map[string]looked // by digest
}

// looked is what is known of the contents of a file.
type looked struct {
	text    string
	isText  bool
	elf     *scan.ELF
	symbols []string
}

func newSide(p *ell.Package) (*side, error) {
	s := &side{p: p, byPath: map[string]ell.Entry{}, digests: map[string]bool{}, looked: map[string]looked{}}
	var err error
	if s.entries, err = p.Layout(); err != nil {
		return nil, err
	}
	for _, e := range s.entries {
		s.byPath[e.Path] = e
		s.digests[e.SHA256] = true
	}
	return s, nil
}

// look reads chosen files.
func (s *side) look(ctx context.Context, paths map[string]bool) error {
	var chosen []ell.Entry
	seen := map[string]bool{}
	for _, e := range s.entries {
		if e.Type == staging.File && paths[e.Path] && e.Size <= maxELF && !seen[e.SHA256] {
			seen[e.SHA256] = true
			chosen = append(chosen, e)
		}
	}
	return s.p.Contents(ctx, chosen, func(e ell.Entry, r io.Reader) error {
		head := make([]byte, 4)
		n, _ := io.ReadFull(r, head)
		if head = head[:n]; !bytes.Equal(head, []byte("\x7fELF")) && e.Size > maxText {
			return nil
		}
		rest, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		data := append(head, rest...)
		found, err := scan.Contents(e.Path, bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return err
		}
		l := looked{elf: found.ELF}
		switch {
		case l.elf != nil && l.elf.Type == scan.Shared:
			// A library that cannot be read offers nothing that is known.
			l.symbols, _ = scan.Exported(bytes.NewReader(data))
		case l.elf == nil && bytes.IndexByte(data, 0) < 0 && utf8.Valid(data):
			l.text, l.isText = string(data), true
		}
		s.looked[e.SHA256] = l
		return nil
	})
}

// Built tells how two packages differ. No more of them is read than
// the files that differ.
func Built(ctx context.Context, a, b *ell.Package) (*Comparison, error) {
	left, err := newSide(a)
	if err != nil {
		return nil, err
	}
	right, err := newSide(b)
	if err != nil {
		return nil, err
	}
	c := &Comparison{A: a.Facts.Identity(), B: b.Facts.Identity(), Bytes: [2]int64{a.Size, b.Size}, Installed: [2]int64{a.Facts.Size, b.Facts.Size}}
	c.facts(a.Facts, b.Facts)
	c.Needs = sets(Needs, needsOf(a.Facts), needsOf(b.Facts))
	c.Provides = sets("provides", providesOf(a.Facts), providesOf(b.Facts))
	c.Facts = append(c.Facts, sets("conflicts", among(a.Facts.Conflicts), among(b.Facts.Conflicts))...)
	c.Facts = append(c.Facts, sets("replaces", among(a.Facts.Replaces), among(b.Facts.Replaces))...)
	c.Facts = append(c.Facts, sets("suggests", among(a.Facts.Suggests), among(b.Facts.Suggests))...)
	c.scripts(a.Scripts(), b.Scripts())
	c.build(a, b)
	if err := c.files(ctx, left, right); err != nil {
		return nil, err
	}
	c.directories(left, right)
	c.addVerdicts(left, right)
	return c, nil
}

// Differ reports whether there is any difference.
func (c *Comparison) Differ() bool {
	return len(c.Facts)+len(c.Needs)+len(c.Provides)+len(c.Scripts)+len(c.Build)+len(c.Recipe)+len(c.Files) > 0
}

func (c *Comparison) facts(a, b ell.Facts) {
	c.Facts = []Change{}
	accounts := func(f ell.Facts) string {
		var all []string
		for _, name := range slices.Sorted(maps.Keys(f.Accounts)) {
			all = append(all, strings.TrimSpace(name+" "+f.Accounts[name].Home))
		}
		return strings.Join(all, ", ")
	}
	for _, f := range []struct{ what, before, after string }{
		{"name", a.Name, b.Name}, {"version", a.Full().String(), b.Full().String()}, {"arch", a.Arch, b.Arch}, {"target", a.Target, b.Target},
		{"summary", a.Summary, b.Summary}, {"license", a.License, b.License}, {"homepage", a.Homepage, b.Homepage}, {"maintainer", a.Maintainer, b.Maintainer},
		{"category", a.Category, b.Category}, {"recipe", a.Recipe, b.Recipe}, {"date", a.Date, b.Date}, {"accounts", accounts(a), accounts(b)},
	} {
		if f.before != f.after {
			c.Facts = append(c.Facts, Change{Area: Facts, What: f.what, Before: f.before, After: f.after})
		}
	}
	if a.Description != b.Description {
		c.Facts = append(c.Facts, Change{Area: Facts, What: "description", Difference: difference(a.Description, b.Description)})
	}
}

// needsOf lists needs by what is needed; the value is bounds and symbol
// versions.
func needsOf(f ell.Facts) map[string]string {
	out := map[string]string{}
	for _, n := range f.Needs {
		name, value := n.Need.String(), ""
		if len(n.Need.Alternatives) == 1 {
			alternative := n.Need.Alternatives[0]
			bounds := alternative.String()
			alternative.Constraints = nil
			name = alternative.String()
			value = strings.TrimSpace(strings.TrimPrefix(bounds, name))
		}
		out[name] = strings.TrimSpace(value + " " + strings.Join(n.Symbols, ", "))
	}
	return out
}

func providesOf(f ell.Facts) map[string]string {
	out := map[string]string{}
	for _, p := range f.Provides {
		name, value, _ := strings.Cut(p.Provide.String(), " ")
		out[name] = value
	}
	return out
}

// among is a list as a set of things without values.
func among(list []need.Need) map[string]string {
	out := map[string]string{}
	for _, item := range list {
		out[item.String()] = ""
	}
	return out
}

// sets compares two sets of named things with values.
func sets(area string, a, b map[string]string) []Change {
	out := []Change{}
	for _, name := range slices.Sorted(maps.Keys(union(a, b))) {
		before, was := a[name]
		after, is := b[name]
		switch {
		case was && is && before == after:
		case !was:
			out = append(out, Change{Area: area, What: name, After: cmp.Or(after, "new")})
		case !is:
			out = append(out, Change{Area: area, What: name, Before: cmp.Or(before, "there")})
		default:
			out = append(out, Change{Area: area, What: name, Before: cmp.Or(before, "any version"), After: cmp.Or(after, "any version")})
		}
	}
	return out
}

func (c *Comparison) scripts(a, b map[string]string) {
	c.Scripts = []Change{}
	for _, name := range slices.Sorted(maps.Keys(union(a, b))) {
		if a[name] != b[name] {
			c.Scripts = append(c.Scripts, Change{Area: "scripts", What: name, Difference: difference(a[name], b[name])})
		}
	}
}

// build compares what the two were built from.
func (c *Comparison) build(a, b *ell.Package) {
	record := func(p *ell.Package) map[string]string {
		out := map[string]string{"Ellwand": p.Build.Ellwand, "isolation": p.Build.Isolation, "compression": p.Build.Compression}
		for _, s := range p.Build.Sources {
			out["source "+s.Name] = s.SHA256 + s.Commit
		}
		for n, met := range p.Build.Needs {
			out["need "+n] = met
		}
		for name, value := range p.Build.Options {
			out["option "+name] = value
		}
		maps.DeleteFunc(out, func(_, value string) bool { return value == "" })
		return out
	}
	c.Build = sets("build", record(a), record(b))
	before, _ := a.Meta("recipe.toml")
	after, _ := b.Meta("recipe.toml")
	if c.Recipe = Recipes(map[string][]byte{"recipe.toml": before}, map[string][]byte{"recipe.toml": after}); c.Recipe == nil {
		c.Recipe = []Change{}
	}
}

// files compares paths, and reads those whose contents say more.
func (c *Comparison) files(ctx context.Context, left, right *side) error {
	c.Files = []FileChange{}
	wanted := map[string]bool{} // paths to look into, on either side
	libraries := map[string]bool{}
	for _, s := range []*side{left, right} {
		for _, e := range s.entries {
			if e.Type == staging.File && strings.Contains(path.Base(e.Path), ".so") {
				libraries[e.Path] = true
			}
		}
	}
	gone := map[string][]string{} // digest → paths that are only on the left
	for _, e := range left.entries {
		if _, ok := right.byPath[e.Path]; !ok && e.Type == staging.File && e.Size > 0 {
			gone[e.SHA256] = append(gone[e.SHA256], e.Path)
		}
	}
	renamed := versionedNames(left, right)
	moved := map[string]bool{}
	for _, e := range right.entries {
		was, ok := left.byPath[e.Path]
		f := FileChange{Path: e.Path, State: Changed, Bytes: [2]int64{was.Size, e.Size}}
		from := gone[e.SHA256]
		switch {
		case ok:
		case e.Type == staging.File && len(from) > 0:
			f.State, f.From, was = Moved, from[0], left.byPath[from[0]]
			f.Bytes[0] = was.Size
			gone[e.SHA256] = from[1:]
			moved[f.From] = true
		case renamed[e.Path] != "":
			f.State, f.From, was = Moved, renamed[e.Path], left.byPath[renamed[e.Path]]
			f.Bytes[0] = was.Size
			moved[f.From], wanted[f.From] = true, true
		default:
			f.State = Added
			c.Files = append(c.Files, f)
			if libraries[e.Path] {
				wanted[e.Path] = true
			}
			continue
		}
		f.Attributes = attributes(was, e)
		f.Contents = e.Type == staging.File && was.Type == staging.File && was.SHA256 != e.SHA256
		if f.Contents {
			wanted[e.Path] = true
		}
		if f.State == Changed && len(f.Attributes) == 0 && !f.Contents {
			c.Same++
			continue
		}
		c.Files = append(c.Files, f)
	}
	for _, e := range left.entries {
		if _, ok := right.byPath[e.Path]; !ok && !moved[e.Path] {
			c.Files = append(c.Files, FileChange{Path: e.Path, State: Gone, Bytes: [2]int64{e.Size, 0}})
			if libraries[e.Path] {
				wanted[e.Path] = true
			}
		}
	}
	if err := left.look(ctx, wanted); err != nil {
		return err
	}
	if err := right.look(ctx, wanted); err != nil {
		return err
	}
	for i := range c.Files {
		f := &c.Files[i]
		if !f.Contents {
			continue
		}
		before, after := left.looked[left.byPath[cmp.Or(f.From, f.Path)].SHA256], right.looked[right.byPath[f.Path].SHA256]
		if before.isText && after.isText {
			f.Difference = difference(before.text, after.text)
		}
	}
	slices.SortFunc(c.Files, func(a, b FileChange) int { return cmp.Compare(a.Path, b.Path) })
	c.libraries(left, right)
	return nil
}

var digits = pattern.New(`[0-9]+`)

// versionedNames pairs files that are only on one side each and differ in
// nothing but the numbers in their paths, such as libtide.so.1.4 and
// libtide.so.1.5: path on the right → path on the left.
func versionedNames(left, right *side) map[string]string {
	only := func(s, other *side) map[string][]ell.Entry {
		out := map[string][]ell.Entry{}
		for _, e := range s.entries {
			if _, both := other.byPath[e.Path]; !both && e.Type == staging.File {
				key := digits.ReplaceAllString(e.Path, "0")
				out[key] = append(out[key], e)
			}
		}
		return out
	}
	before, after := only(left, right), only(right, left)
	pairs := map[string]string{}
	for key, is := range after {
		was := before[key]
		if len(is) != 1 || len(was) != 1 || is[0].SHA256 == was[0].SHA256 {
			continue
		}
		// What stays the same and only moved is told as that.
		if !right.digests[was[0].SHA256] && !left.digests[is[0].SHA256] {
			pairs[is[0].Path] = was[0].Path
		}
	}
	return pairs
}

// attributes compares what a layout says of a path beside its contents.
func attributes(a, b ell.Entry) []Change {
	var out []Change
	for _, x := range []struct{ what, before, after string }{
		{"type", string(a.Type), string(b.Type)}, {"mode", a.Mode, b.Mode}, {"owner", a.Owner + ":" + a.Group, b.Owner + ":" + b.Group},
		{"kind", cmp.Or(a.Kind, "none"), cmp.Or(b.Kind, "none")}, {"target", a.Link, b.Link}, {"hard link to", a.Same, b.Same}, {"attributes", xattrs(a), xattrs(b)},
	} {
		if x.before != x.after {
			out = append(out, Change{Area: Files, What: x.what, Before: x.before, After: x.after})
		}
	}
	return out
}

func xattrs(e ell.Entry) string {
	var all []string
	for _, name := range slices.Sorted(maps.Keys(e.Xattrs)) {
		text := fmt.Sprintf("%s=%x", name, e.Xattrs[name])
		if name == staging.Capability {
			text = "may " + strings.Join(staging.Capabilities(e.Xattrs[name]), " ")
		}
		all = append(all, text)
	}
	return strings.Join(all, ", ")
}

// libraries compares what those on both sides offer that differ: those with
// one soname, or else with one name but for the version.
func (c *Comparison) libraries(left, right *side) {
	c.Libraries = []Library{}
	type lib struct {
		path string
		looked
	}
	gather := func(s *side) map[string]lib {
		out := map[string]lib{}
		for _, e := range s.entries {
			l := s.looked[e.SHA256]
			if e.Type == staging.File && l.elf != nil && l.elf.Type == scan.Shared && scan.LibraryDir(path.Dir(e.Path)) {
				out[cmp.Or(l.elf.Soname, path.Base(e.Path))] = lib{e.Path, l}
			}
		}
		return out
	}
	before, after := gather(left), gather(right)
	for _, soname := range slices.Sorted(maps.Keys(after)) {
		is := after[soname]
		was, ok := before[soname]
		name := soname
		if !ok {
			name = ""
			for _, other := range slices.Sorted(maps.Keys(before)) {
				if _, stays := after[other]; !stays && scan.Stem(other) == scan.Stem(soname) {
					name, was = other, before[other]
				}
			}
		}
		delete(before, name)
		added, gone := without(is.symbols, was.symbols), without(was.symbols, is.symbols)
		if name != soname || len(added)+len(gone) > 0 {
			c.Libraries = append(c.Libraries, Library{Before: name, After: soname, Path: is.path, Added: added, Gone: gone})
		}
	}
	for _, soname := range slices.Sorted(maps.Keys(before)) {
		// One that is on the right too was not looked at there: it is the same.
		if e, ok := right.byPath[before[soname].path]; ok && e.SHA256 == left.byPath[before[soname].path].SHA256 {
			continue
		}
		c.Libraries = append(c.Libraries, Library{Before: soname, Path: before[soname].path, Added: []string{}, Gone: before[soname].symbols})
	}
}

// without lists what is in a and not in b; both are sorted.
func without(a, b []string) []string {
	out := []string{}
	for _, s := range a {
		if _, ok := slices.BinarySearch(b, s); !ok {
			out = append(out, s)
		}
	}
	return out
}

// directories sums sizes by directory, and keeps those that differ.
func (c *Comparison) directories(left, right *side) {
	sums := map[string]*DirectoryChange{}
	add := func(entries []ell.Entry, field func(*DirectoryChange) *int64) {
		for _, e := range entries {
			if e.Type != staging.File || e.Same != "" {
				continue
			}
			for dir := path.Dir(e.Path); ; dir = path.Dir(dir) {
				if sums[dir] == nil {
					sums[dir] = &DirectoryChange{Path: dir}
				}
				*field(sums[dir]) += e.Size
				if dir == "/" {
					break
				}
			}
		}
	}
	add(left.entries, func(f *DirectoryChange) *int64 { return &f.Before })
	add(right.entries, func(f *DirectoryChange) *int64 { return &f.After })
	// A directory that only passes on the change of one below it says nothing.
	passes := map[string]bool{}
	for dir, f := range sums {
		if above := sums[path.Dir(dir)]; dir != "/" && above.Before == f.Before && above.After == f.After {
			passes[above.Path] = true
		}
	}
	c.Directories = []DirectoryChange{}
	for _, dir := range slices.Sorted(maps.Keys(sums)) {
		if f := sums[dir]; f.Before != f.After && !passes[dir] {
			c.Directories = append(c.Directories, *f)
		}
	}
}
