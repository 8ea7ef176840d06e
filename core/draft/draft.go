// Package draft looks at a source tree and writes a first recipe for it: what
// the archive's name, its build system and its own texts say. Nothing of the
// source is run, and nothing is made up: what is not found is left open, with
// a line that says so.
package draft

import (
	"cmp"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// Facts are what was found out about a source.
type Facts struct {
	Name     string
	Version  string
	Upstream string // the version as upstream writes it
	Summary  string
	Homepage string
	// Description is a paragraph of the source's own texts; empty if none
	// says what it is.
	Description string

	License   string   // an SPDX identifier; empty if none is certain
	Texts     []string // license files, in the tree
	Method    string
	Steps     map[string]string // scripts, where the method's will not do
	Configure []string          // arguments that the method passes on
	Layout    string            // the packages' tables, once something was staged
	Discard   []string          // staged paths that go into no package
	Arch      string            // fact.Independent if nothing that was staged contains machine code
	Build     []string          // build needs
	Test      []string          // needs of the tests alone
	Maybe     []string          // build needs of parts that can be left out
	Switches  []string          // options of the configure script, as it describes them
	Modules   string            // the language whose modules it needs; empty for none
	// Unsupported says why the source cannot be built without somebody who writes how.
	Unsupported string
	Pinned      string   // the SHA-256 of the modules, once they were fetched
	Notes       []string // for the reader of the recipe
	Kept        Kept

	chosen   []string // options of the source that the recipe has as its own
	wayNotes []string // more of them, on how it is built
	others   []Facts  // other ways to build it
}

// AllNotes are the notes on the source, and on how it is built.
func (f Facts) AllNotes() []string { return slices.Concat(f.Notes, f.wayNotes) }

var (
	archiveName = pattern.New(`^(.+?)[-_]v?([0-9][0-9A-Za-z.+~_]*?(?:-(?:stable|release|final|(?:rc|alpha|beta|pre)[0-9.]*))?)(?:[-_.](?:orig|src|source))?$`)
	released    = pattern.New(`-(?:stable|release|final)$`)
	unfinished  = pattern.New(`-((?:rc|alpha|beta|pre)[0-9.]*)$`)
	extension   = pattern.New(`(?i)\.(tar(\.(gz|bz2|xz|zst|lz|Z))?|tgz|tbz2?|txz|zip)$`)
)

// SplitName tells name and version from the name of an archive or a directory.
func SplitName(file string) (name, v string) {
	base := extension.ReplaceAllString(path.Base(file), "")
	// NAME_VERSION.orig: the name may have a number in it, such as 1.0.
	if whole, ok := strings.CutSuffix(base, ".orig"); ok {
		if at := strings.LastIndexByte(whole, '_'); at > 0 {
			if m := archiveName.FindStringSubmatch("x-" + whole[at+1:]); m != nil {
				return packageName(whole[:at]), m[2]
			}
		}
	}
	m := archiveName.FindStringSubmatch(base)
	if m == nil {
		return packageName(base), ""
	}
	return packageName(m[1]), m[2]
}

// versionOf makes a version that sorts rightly of one as upstream writes it:
// 2.1-stable is 2.1, and 2.1-rc1 comes before it.
func versionOf(s string) string {
	s = unfinished.ReplaceAllString(released.ReplaceAllString(s, ""), "~$1")
	if s = strings.ReplaceAll(s, "-", "."); !version.Valid(s) {
		return ""
	}
	return s
}

// packageName makes a valid name of one that may not be.
func packageName(s string) string {
	s = strings.Map(func(r rune) rune {
		if strings.ContainsRune("abcdefghijklmnopqrstuvwxyz0123456789+._-", r) {
			return r
		}
		return '-'
	}, strings.ToLower(s))
	s = strings.Trim(s, "-._+")
	if !need.ValidPackageName(s) {
		return ""
	}
	return s
}

// maxText bounds the files that are read, in bytes.
const maxText = 4 << 20

// tree reads files of the source; those that are missing, too large, or lead
// out of it are empty.
type tree struct {
	root  *os.Root
	names []string // at the top
}

func (t *tree) read(name string) string {
	info, err := t.root.Stat(name)
	if err != nil || !info.Mode().IsRegular() || info.Size() > maxText {
		return ""
	}
	data, err := t.root.ReadFile(name)
	if err != nil {
		return ""
	}
	return strings.ToValidUTF8(string(data), "")
}

func (t *tree) has(name string) bool { return slices.Contains(t.names, name) }

// Look looks at the source tree in dir. Known is the name of the archive or
// directory that it came in; top the name of the archive's own directory.
func Look(dir, known, top string) (Facts, error) {
	f := Facts{Steps: map[string]string{}}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return f, err
	}
	defer root.Close()
	t := &tree{root: root}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return f, err
	}
	for _, e := range entries {
		t.names = append(t.names, e.Name())
	}
	f.Name, f.Version = SplitName(known)
	topName, topVersion := SplitName(top)
	f.Name, f.Version = cmp.Or(f.Name, topName), cmp.Or(f.Version, topVersion)
	own := t.stated()
	if own.version = versionOf(own.version); !version.Valid(own.version) {
		own.version = ""
	}
	if f.Version == "" { // then the archive's name is an unreliable source of a name, too
		f.Name = cmp.Or(packageName(own.name), f.Name)
	}
	f.Name, f.Version, f.Upstream = cmp.Or(f.Name, packageName(own.name)), cmp.Or(versionOf(f.Version), own.version), cmp.Or(f.Version, own.version)
	if own.version != "" && f.Version != "" && version.Compare(own.version, f.Version) != 0 {
		f.Notes = append(f.Notes, "the build files say version "+own.version+", and the archive is called "+f.Version)
	}
	module, moduleHomepage := t.moduleSummary(f.Name)
	texts := t.texts(f.Name)
	f.Summary, f.Description, f.Homepage = cmp.Or(phrase(own.summary), phrase(module), shortened(texts.Summary)), texts.Description, cmp.Or(own.homepage, moduleHomepage, texts.Homepage)
	ways := t.methods()
	for i := range ways {
		t.needs(&ways[i])
	}
	f.take(ways[0])
	f.others = ways[1:]
	if err := t.license(&f, own); err != nil {
		return f, err
	}
	return f, nil
}

// Kept is what a draft takes over from an existing recipe unchanged.
type Kept struct {
	Release    int
	Maintainer string
	Run, Test  []need.Need
	Tables     string // the tables that a draft does not write, or writes only once: packages, changes, options, …
}

// Keep takes over what an existing recipe says, so that a draft made again
// differs only in what is new. What the maintainer decided stands.
func (f *Facts) Keep(r *recipe.Recipe) {
	f.Kept = Kept{Release: r.Release, Maintainer: r.Maintainer, Run: r.Needs.Run, Test: r.Needs.Test, Tables: ownTables(r.Doc)}
	if r.Summary != fact.PlaceholderSummary {
		f.Summary = cmp.Or(r.Summary, f.Summary)
	}
	if r.License != fact.PlaceholderLicense {
		f.License = cmp.Or(r.License, f.License)
	}
	f.Homepage, f.Description = cmp.Or(r.Homepage, f.Homepage), cmp.Or(r.Description, f.Description)
	if r.Steps.Method != "" && r.Steps.Method != f.Method {
		f.Method, f.Switches = r.Steps.Method, nil
		f.Steps = map[string]string{}
	}
	f.Configure = r.Steps.Configure
	for _, n := range r.Needs.Build {
		if !slices.Contains(f.Build, n.String()) {
			f.Build = append(f.Build, n.String())
		}
	}
	slices.Sort(f.Build)
	for _, step := range recipe.StepNames {
		if script := r.Steps.Script(step); script != "" {
			f.Steps[step] = strings.TrimSpace(script)
		}
	}
}

// drafted are the tables that every draft writes anew.
var drafted = []string{"source", "needs", "steps"}

// ownTables returns the text of the tables that no draft writes anew, with
// the comments above each.
func ownTables(doc *document.Document) string {
	var out, comments strings.Builder
	own, quotes := false, ""
	for line := range strings.Lines(string(doc.Data)) {
		trimmed := strings.TrimSpace(line)
		if quotes == "" && strings.HasPrefix(trimmed, "#") {
			comments.WriteString(line)
			continue
		}
		if quotes == "" && strings.HasPrefix(line, "[") {
			name := strings.TrimLeft(line, "[ ")
			if end := strings.IndexAny(name, ".] "); end >= 0 {
				name = name[:end]
			}
			own = !slices.Contains(drafted, name)
		}
		if own {
			out.WriteString(comments.String() + line)
		}
		comments.Reset()
		for _, q := range []string{"'''", `"""`} {
			if (quotes == "" || quotes == q) && strings.Count(line, q)%2 == 1 {
				if quotes == "" {
					quotes = q
				} else {
					quotes = ""
				}
				break
			}
		}
	}
	if own {
		out.WriteString(comments.String())
	}
	return strings.Trim(out.String(), "\n")
}

func (t *tree) glob(patterns ...string) []string {
	var all []string
	for _, p := range patterns {
		found, _ := fs.Glob(t.root.FS(), p)
		all = append(all, found...)
	}
	return all[:min(len(all), 50)]
}

var roff = pattern.New(`\\f[A-Z]|\\f\[[A-Z]*\]|\\`)

// manualSummary takes the line that a program's manual begins with: "name \-
// what it does".
func (t *tree) manualSummary(name string) string {
	name = strings.NewReplacer("-", "[-_]", "_", "[-_]").Replace(name)
	for _, file := range t.glob(name+".[18]", "*/"+name+".[18]", name+".[18].in", "*/"+name+".[18].in", "*/*/"+name+".[18]") {
		lines := strings.Split(t.read(file), "\n")
		for i, line := range lines {
			title := strings.ToUpper(strings.ReplaceAll(line, `"`, ""))
			if !strings.HasPrefix(title, ".SH NAME") || i+1 >= len(lines) {
				continue
			}
			if _, what, ok := strings.Cut(roff.ReplaceAllString(lines[i+1], ""), " - "); ok {
				return sentence(what)
			}
		}
	}
	return ""
}

// readmeSummary takes a sentence of the README that says "name - what it is" or
// "name is what it is".
func (t *tree) readmeSummary(name string) string {
	pattern, err := regexp.Compile(`(?mi)^[#=\s*]*` + regexp.QuoteMeta(name) + `[*\s]*(?:[-–—:]+\s+|,?\s+is\s+(?:an?\s+|the\s+)?)(.{8,240}?)(?:\.\s|[.:]?$)|^[^.\n]{0,30}\b` + regexp.QuoteMeta(name) + `\b\W{0,3}\s+provides\s+([^.\n]{8,240})`)
	if err != nil {
		return ""
	}
	for _, text := range t.readmes() {
		if m := pattern.FindStringSubmatch(joined(text)); m != nil {
			return sentence(cmp.Or(m[1], m[2]))
		}
	}
	return ""
}

// joined makes a line of each paragraph of a text, and of each of its headings.
func joined(text string) string {
	var out []string
	for paragraph := range strings.SplitSeq(text, "\n\n") {
		lines := strings.Split(strings.Trim(paragraph, "\n"), "\n")
		for len(lines) > 0 && isHeading(lines) {
			out = append(out, plain(lines[0]))
			lines = lines[1:]
		}
		out = append(out, plain(strings.Join(lines, "\n")))
	}
	return strings.Join(out, "\n")
}

var (
	article     = pattern.New(`^(?i:an?|the)\s+`)
	versionTail = pattern.New(`,?\s+v?[0-9]+(\.[0-9]+)+$`)
)

// sentence makes a summary of a line, with no article before it and no version
// behind.
func sentence(s string) string {
	s = strings.TrimRight(strings.TrimSpace(s), ".")
	s = strings.ReplaceAll(strings.ReplaceAll(s, "**", ""), "`", "")
	s = versionTail.ReplaceAllString(article.ReplaceAllString(s, ""), "")
	r, size := utf8.DecodeRuneInString(s)
	if size == 0 {
		return ""
	}
	return strings.ToUpper(string(r)) + s[size:]
}
