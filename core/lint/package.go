package lint

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/recipe/layout"
	"ellwand.example/core/staging"
)

// packageCheck is what rules about packages see.
type packageCheck struct {
	collector
	*ell.Package
	recipe *recipe.Recipe // that it was made from
	linter *Linter
	ctx    context.Context

	Layout []ell.Entry
	holds  map[string]int // directory → paths right in it

	mu       sync.Mutex           // of what follows, while files are looked at
	files    map[string]scan.File // those with something to tell
	textual  map[string]bool      // executable files that are text without #!
	imports  map[string]symbols   // of ELF files
	exports  map[string][]string  // library → what it offers, see scan.Exported
	pages    map[string]bool      // commands that manuals are about
	licenses map[string]string    // license texts
	desktops map[string]scan.Keys // desktop entries
	units    map[string]scan.Keys // units of the service manager
	sysusers map[string]bool      // accounts that files of sysusers.d make
}

// symbols are names of dynamic symbols without versions: those that a file
// must find, those that it can do without, and its own.
type symbols struct{ strong, weak, own []string }

// path reports something about a path in the package.
func (c *packageCheck) path(p, format string, args ...any) {
	c.add(fact.Finding{Path: p, Message: fmt.Sprintf(format, args...)})
}

// discard reports a path that does not belong into the package, with the
// pattern that would take it out.
func (c *packageCheck) discard(p, pattern, format string, args ...any) {
	c.add(fact.Finding{Path: p, Message: fmt.Sprintf(format, args...), Fix: &fix{edits: discard(pattern), discards: pattern}, Paste: "discard = [" + document.Quote(pattern) + "]"})
}

// attribute reports a path that wants another attribute in the layout.
func (c *packageCheck) attribute(e ell.Entry, key, value, format string, args ...any) {
	p := e.Path
	if e.Type == staging.Directory {
		p += "/" // as layouts have it
	}
	c.add(fact.Finding{Path: e.Path, Message: fmt.Sprintf(format, args...), Paste: layoutLine(p, key, value), Fix: &fix{edits: inLayout(c.Facts.Name, p, key, value), attribute: [2]string{key, value}}})
}

// setMode reports a path whose mode is to be another.
func (c *packageCheck) setMode(e ell.Entry, mode fs.FileMode, format string, args ...any) {
	c.attribute(e, "mode", fact.Octal(mode), format, args...)
}

// layoutLine is a line for a layout, ready to paste.
func layoutLine(path, key, value string) string {
	return fmt.Sprintf("%q = { %s = %q }", path, key, value)
}

// there reports whether the package has a path.
func (c *packageCheck) there(p string) bool {
	_, ok := ell.Find(c.Layout, p)
	return ok
}

// development reports whether the package is one of headers and the like.
func (c *packageCheck) development() bool {
	return strings.HasSuffix(c.Facts.Name, "-dev") || strings.HasSuffix(c.Facts.Name, "-devel") || strings.HasSuffix(c.Facts.Name, "-headers")
}

// debug reports whether the package has split-off debug information alone.
func (c *packageCheck) debug() bool { return c.Facts.Category == "debug" }

// main reports whether the package is the recipe's first.
func (c *packageCheck) main() bool { return c.Facts.Name == c.Facts.Recipe }

// inMemory is up to which size a file's contents are kept in memory to be
// looked into; larger ones go through a temporary file.
const inMemory = 8 << 20

// maxText bounds the texts that rules read whole.
const maxText = 1 << 20

// fileCheck is what rules about files see: one file, under one of its paths.
type fileCheck struct {
	ell.Entry
	found scan.File
	data  []byte      // the whole of it; nil if it is large
	at    io.ReaderAt // the same
	pkg   *packageCheck

	rule     Rule
	findings []fact.Finding
	asText   string // data, once somebody has asked for it
}

// say reports something about the file.
func (c *fileCheck) say(format string, args ...any) {
	c.report(fact.Finding{Message: fmt.Sprintf(format, args...)})
}

func (c *fileCheck) report(f fact.Finding) {
	f.Code, f.Severity, f.Subject, f.Path = c.rule.Code, c.rule.Severity, c.pkg.subject, c.Path
	f.Remedy = cmp.Or(f.Remedy, c.rule.Remedy)
	c.findings = append(c.findings, f)
}

// text is what a text says; ok is false for others, and for very long ones.
func (c *fileCheck) text() (text string, ok bool) {
	if c.data == nil || len(c.data) > maxText || bytes.IndexByte(c.data[:min(len(c.data), 4096)], 0) >= 0 {
		return "", false
	}
	if c.asText == "" {
		c.asText = string(c.data)
	}
	return c.asText, true
}

// manual tells what the file's path says of the manual in it: as a match of
// manFile; nil if it is none, or compressed.
func (c *fileCheck) manual() []string {
	if !strings.HasPrefix(c.Path, "/usr/share/man/") || c.compressed() {
		return nil
	}
	return manFile.FindStringSubmatch(c.Path)
}

// runs reports whether the file may be executed.
func (c *fileCheck) runs() bool { return fact.ParseMode(c.Mode)&0o111 != 0 }

// look reads the payload once: rules on files are asked about each, and what
// the other rules need is gathered.
func (c *packageCheck) look(ctx context.Context) error {
	var err error
	if c.Layout, err = c.Package.Layout(); err != nil {
		return err
	}
	c.files, c.textual, c.imports, c.exports = map[string]scan.File{}, map[string]bool{}, map[string]symbols{}, map[string][]string{}
	c.pages, c.licenses, c.desktops, c.units = map[string]bool{}, map[string]string{}, map[string]scan.Keys{}, map[string]scan.Keys{}
	c.holds, c.sysusers = map[string]int{}, map[string]bool{}
	also := map[string][]ell.Entry{} // the other paths of a file's contents
	for _, e := range c.Layout {
		c.holds[path.Dir(e.Path)]++
		if page := manualOf(e.Path); page != "" {
			name, _, _ := strings.Cut(page, "(")
			c.pages[name] = true
		}
		if first := cmp.Or(e.Copy, e.Same); first != "" {
			also[first] = append(also[first], e)
		}
	}
	var rules []Rule
	for _, r := range catalogue() {
		if r.file != nil && c.linter.Profile.has(r.Code) {
			rules = append(rules, r)
		}
	}
	return c.Look(ctx, func(e ell.Entry, r io.Reader) error {
		f, done, err := open(e, r)
		if err != nil {
			return err
		}
		defer done()
		f.pkg = c
		for _, e := range append([]ell.Entry{e}, also[e.Path]...) {
			f.Entry, f.found.Path = e, e.Path
			if err := f.gather(); err != nil {
				return err
			}
			for _, r := range rules {
				f.rule = r
				r.file(f)
			}
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.findings = append(c.findings, f.findings...)
		return nil
	})
}

// open makes the contents of a file readable at any place.
func open(e ell.Entry, r io.Reader) (f *fileCheck, done func(), err error) {
	f, done = &fileCheck{}, func() {}
	if e.Size <= inMemory {
		f.data = make([]byte, e.Size)
		if b, ok := r.(*bytes.Reader); ok && b.Size() == e.Size {
			// The bytes are there already, until this call is over.
			f.data = f.data[:0]
			_, err = b.WriteTo(borrow{&f.data})
		} else {
			_, err = io.ReadFull(r, f.data)
		}
		f.at = bytes.NewReader(f.data)
	} else {
		f.at, done, err = spill(r)
	}
	if err == nil {
		f.found, err = scan.Contents(e.Path, f.at, e.Size)
	}
	if err != nil {
		done()
	}
	return f, done, err
}

// borrow is written to once, and keeps the slice itself.
type borrow struct{ to *[]byte }

func (b borrow) Write(p []byte) (int, error) {
	*b.to = p
	return len(p), nil
}

// spill puts what is read into a temporary file.
func spill(r io.Reader) (io.ReaderAt, func(), error) {
	f, err := os.CreateTemp("", "ellwand-lint-")
	if err != nil {
		return nil, func() {}, err
	}
	done := func() {
		f.Close()
		os.Remove(f.Name())
	}
	if _, err := io.Copy(f, r); err != nil {
		return nil, done, err
	}
	return f, done, nil
}

// gather keeps what rules on the whole package need of a file.
func (c *fileCheck) gather() error {
	p := c.pkg
	var in symbols
	var exported []string
	if c.found.ELF != nil && c.found.ELF.Broken == "" && !strings.HasPrefix(c.Path, debugDir) {
		// An error is a file without dynamic symbols.
		in.strong, in.weak, _ = scan.Undefined(c.at)
		exported, _ = scan.Exported(c.at)
		in.own = unversioned(exported)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if c.found.ELF != nil || c.found.Interpreter != "" || c.found.PkgConfig != nil || c.found.Python != nil {
		p.files[c.Path] = c.found
	}
	if len(in.strong)+len(in.weak)+len(exported) > 0 {
		p.imports[c.Path] = in
	}
	if len(exported) > 0 && c.found.ELF.Type == scan.Shared {
		p.exports[c.Path] = exported
	}
	if c.found.ELF == nil && c.found.Interpreter == "" && c.runs() && !strings.HasPrefix(c.Path, debugDir) {
		p.textual[c.Path] = true
	}
	switch {
	case c.Kind == fact.KindLicense:
		if text, ok := c.text(); ok {
			p.licenses[c.Path] = text
		}
	case isDesktop(c.Path):
		if text, ok := c.text(); ok {
			p.desktops[c.Path] = scan.ReadKeys(text)
		}
	case isUnit(c.Path):
		if text, ok := c.text(); ok {
			p.units[c.Path] = scan.ReadKeys(text)
		}
	case strings.HasPrefix(c.Path, sysusersDir):
		if text, ok := c.text(); ok {
			for _, name := range accountsIn(text) {
				p.sysusers[name] = true
			}
		}
	case manualOf(c.Path) != "" && !c.compressed():
		if text, ok := c.text(); ok {
			for _, name := range namesOfManual(text) {
				p.pages[name] = true
			}
		}
	}
	return nil
}

// manualOf is scan.Manual, which most paths need not be asked of.
func manualOf(p string) string {
	if !strings.Contains(p, "/man/") {
		return ""
	}
	return scan.Manual(p)
}

func isDesktop(p string) bool {
	return strings.HasSuffix(p, ".desktop") && desktopPath.MatchString(p)
}

func isUnit(p string) bool {
	return (strings.Contains(p, "/systemd/") || bus(p)) && unitPath.MatchString(p)
}

// debugDir is where split-off debug information lies. It is no program, and
// names the directories of the build.
const debugDir = "/usr/lib/debug/"

// buildMark is what paths of a build's own directories have in them: those that
// steps see in a sandbox, and those of a build without one.
var buildMark = pattern.New(`/build/(?:work|stage|home|needs)/|/\.ellwand/build/`)

// findBuildPath looks for the path of a build directory.
func findBuildPath(r io.ReaderAt, size int64) (string, error) {
	const block, overlap = 1 << 20, 4096
	buf := make([]byte, min(size, block+overlap))
	for at := int64(0); at < size; at += block {
		n, err := r.ReadAt(buf, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		if mark := buildPathIn(buf[:n]); mark != "" {
			return mark, nil
		}
	}
	return "", nil
}

// buildPathIn is findBuildPath for bytes in memory.
func buildPathIn(data []byte) string {
	for from := 0; ; {
		// A plain search is many times faster than the expression's.
		i := bytes.Index(data[from:], []byte("/build/"))
		if i < 0 {
			return ""
		}
		at := from + i
		start := max(at-len("/.ellwand"), 0)
		if found := buildMark.FindIndex(data[start:min(at+len("/build/needs/"), len(data))]); found != nil {
			begin := start + found[0]
			end := start + found[1]
			for end < len(data) && end-begin < 200 && data[end] > ' ' && data[end] < 0x7f && !strings.ContainsRune("\"':;<>()[]", rune(data[end])) {
				end++
			}
			return string(data[begin:end])
		}
		from = at + len("/build/")
	}
}

// place names for findings at paths the line of the layout that claims them,
// so far as the recipe has one.
func (c *packageCheck) place(findings []fact.Finding) {
	if !slices.ContainsFunc(findings, func(f fact.Finding) bool { return f.Path != "" && f.File == "" }) || c.recipe == nil || c.recipe.Doc == nil || len(c.recipe.Packages) == 0 {
		return
	}
	paths := make([]staging.Path, 0, len(c.Layout))
	for _, e := range c.Layout {
		paths = append(paths, staging.Path{Path: e.Path, Type: e.Type, Size: e.Size})
	}
	lines := make(map[string]int, len(paths))
	claimed := map[int][]string{}
	for _, o := range layout.Owners(c.recipe, paths) {
		if o.Package == c.Facts.Name && o.Line > 0 {
			lines[o.Name] = o.Line
			claimed[o.Line] = append(claimed[o.Line], o.Name)
		}
	}
	for i, f := range findings {
		if line := lines[f.Path]; line > 0 && f.File == "" {
			findings[i].File, findings[i].Line = c.recipe.Doc.File, line
		}
	}
	c.widen(findings, claimed)
}

// widen has attributes set in the line of the layout itself where all that it
// claims wants the same one: a line of its own for each would leave that one
// with nothing to claim.
func (c *packageCheck) widen(findings []fact.Finding, claimed map[int][]string) {
	patterns := map[int]string{}
	table := c.recipe.Doc.Find("package", c.Facts.Name, "layout")
	if table == nil {
		return
	}
	for _, pattern := range table.Keys {
		patterns[lineOf(c.recipe.Doc, table.Get(pattern).Key)] = pattern
	}
	type want struct {
		path      string
		attribute [2]string
	}
	wanted, discarded := map[want]bool{}, map[string]bool{}
	for _, f := range findings {
		if own := fixOf(f); own.attribute[0] != "" {
			wanted[want{f.Path, own.attribute}] = true
		}
		if fixOf(f).discards != "" {
			discarded[f.Path] = true
		}
	}
	type lineWant struct {
		line      int
		attribute [2]string
	}
	whole := map[lineWant]bool{} // whether all that the line claims wants it
	for i, f := range findings {
		own := fixOf(f)
		if own.attribute[0] == "" || patterns[f.Line] == "" {
			continue
		}
		key := lineWant{f.Line, own.attribute}
		all, known := whole[key]
		if !known {
			all = !slices.ContainsFunc(claimed[f.Line], func(p string) bool { return !wanted[want{p, own.attribute}] && !discarded[p] })
			whole[key] = all
		}
		if all {
			pattern := patterns[f.Line]
			findings[i].Fix = &fix{edits: inLayout(c.Facts.Name, pattern, own.attribute[0], own.attribute[1]), attribute: own.attribute}
			findings[i].Paste = layoutLine(pattern, own.attribute[0], own.attribute[1])
		}
	}
}

// eachELF calls f for every ELF file, in the order of paths.
func (c *packageCheck) eachELF(f func(string, *scan.ELF)) {
	for _, e := range c.Layout {
		if elf := c.files[e.Path].ELF; elf != nil && !strings.HasPrefix(e.Path, debugDir) {
			f(e.Path, elf)
		}
	}
}

// provides reports whether the package offers something of one of these kinds.
func (c *packageCheck) provides(kinds ...string) bool {
	return slices.ContainsFunc(c.Facts.Provides, func(p ell.Provide) bool {
		return slices.Contains(kinds, p.Provide.Kind)
	})
}

// mayBeElsewhere reports whether a link's target may come with another package
// of the same recipe: a library's development link points to its run-time one.
func (c *packageCheck) mayBeElsewhere(target string) bool {
	return strings.Contains(path.Base(target), ".so.") || slices.ContainsFunc(c.Facts.Needs, func(n ell.Need) bool {
		return strings.Contains(n.Need.String(), " = "+c.Facts.Full().String())
	})
}
