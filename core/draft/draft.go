// Package draft looks at a source tree and writes a first recipe for it: what
// the archive's name, its build system and its own texts say. Nothing of the
// source is run, and nothing is made up: what is not found is left open, with
// a line that says so.
package draft

import (
	"cmp"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/inspect/license"
	"ellwand.example/core/inspect/license/recognize"
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
	Notes     []string          // for the reader of the recipe
	Kept      Kept

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

// readmeSummary takes a line of the README that says "name - what it is" or
// "name is what it is".
func (t *tree) readmeSummary(name string) string {
	pattern, err := regexp.Compile(`(?mi)^[#=\s*]*` + regexp.QuoteMeta(name) + `[*\s]*(?:[-–—:]+\s+|\s+is\s+(?:an?\s+|the\s+)?)(.{8,100}?)(?:\.\s|\.$|$)|^[^.\n]{0,30}\b` + regexp.QuoteMeta(name) + `\b\W{0,3}\s+provides\s+([^.\n]{8,90})`)
	if err != nil {
		return ""
	}
	for _, file := range t.names {
		if !strings.HasPrefix(strings.ToUpper(file), "README") {
			continue
		}
		if m := pattern.FindStringSubmatch(t.read(file)); m != nil {
			return sentence(cmp.Or(m[1], m[2]))
		}
	}
	return ""
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

// installed reports whether the machine has a command; where a source can be
// built in two ways, the one that can be tried here is taken.
func installed(command string) bool {
	_, err := exec.LookPath(command)
	return err == nil
}

// methods finds the ways in which the source can be built, the likeliest
// first.
func (t *tree) methods() []Facts {
	var all []Facts
	way := func(f Facts, commands ...string) {
		for _, c := range commands {
			f.Build = append(f.Build, "command/"+c)
		}
		all = append(all, f)
	}
	configure := t.read("configure")
	makefile := t.has("Makefile") || t.has("GNUmakefile") || t.has("makefile")
	if strings.Contains(configure, "Autoconf") {
		way(Facts{Method: "autotools", Switches: switches(configure)}, "make")
	}
	meson, cmake := t.has("meson.build"), t.has("CMakeLists.txt")
	if meson && (installed("meson") || !cmake && !makefile) {
		way(Facts{Method: "meson", Switches: t.mesonOptions()}, "meson", "ninja")
	}
	if cmake && (installed("cmake") || !makefile) {
		way(Facts{Method: "cmake", Switches: t.cmakeOptions()}, "cmake", "make")
	}
	if configure == "" && (t.has("configure.ac") || t.has("configure.in")) {
		way(Facts{Method: "autotools", Notes: []string{"there is no configure script yet: autoreconf makes it"}}, "make", "autoreconf")
	}
	if configure != "" && !strings.Contains(configure, "Autoconf") {
		way(Facts{Method: "make", Steps: map[string]string{recipe.Prepare: `./configure --prefix="$PREFIX"`},
			Notes: []string{"the configure script is its authors' own: see ./configure --help"}}, "make")
	}
	if makefile && configure == "" {
		way(Facts{Method: "make", Configure: t.flagArguments()}, "make")
	}
	if t.has("go.mod") {
		f := Facts{Method: "go"}
		if !t.has("vendor") && strings.Contains(t.read("go.mod"), "require") {
			f.Notes = []string{"the modules it needs are not vendored, and a build has no network"}
		}
		way(f, "go")
	}
	if t.has("pyproject.toml") || t.has("setup.py") {
		way(Facts{Method: "python"}, "python3", "pip3")
	}
	if t.has("Makefile.PL") {
		way(Facts{Method: "perl"}, "perl", "make")
	}
	if t.has("Build.PL") {
		way(Facts{Steps: map[string]string{
			recipe.Prepare: `perl Build.PL --installdirs vendor --create_packlist 0 </dev/null`,
			recipe.Build:   `./Build`,
			recipe.Test:    `./Build test`,
			recipe.Stage:   `./Build install --destdir "$DESTDIR"`,
		}}, "perl")
	}
	if len(all) == 0 {
		all = t.waysBelow()
	}
	if len(all) == 0 {
		all = t.plainWays()
	}
	return all
}

// waysBelow finds the ways in which the one directory of the source that has a build system
// can be built.
func (t *tree) waysBelow() []Facts {
	var dirs []string
	for _, file := range t.glob("*/configure", "*/configure.ac", "*/CMakeLists.txt", "*/meson.build") {
		if dir := path.Dir(file); !slices.Contains(dirs, dir) && !notForUsers.MatchString(dir) {
			dirs = append(dirs, dir)
		}
	}
	if slices.Contains(dirs, "unix") {
		dirs = []string{"unix"} // beside those of other systems
	}
	if len(dirs) != 1 {
		return nil
	}
	root, err := t.root.OpenRoot(dirs[0])
	if err != nil {
		return nil
	}
	defer root.Close()
	below := &tree{root: root, names: t.in(dirs[0])}
	ways := below.methods()
	for i := range ways {
		w := &ways[i]
		if w.Method == "" || w.Method == "copy" {
			continue
		}
		below.needs(w)
		steps := map[string]string{}
		for _, step := range recipe.StepNames {
			script := w.Steps[step]
			if script == "" {
				script = recipe.MethodScript(w.Method, step, w.Configure)
			}
			if script != "" {
				// What else a step does is done at the top.
				steps[step] = "(\ncd " + shellWord(dirs[0]) + "\n" + script + "\n)"
			}
		}
		w.Steps, w.Method, w.Configure, w.Switches = steps, "", nil, nil
		w.Notes = append(w.Notes, "the build system is in the directory "+dirs[0])
	}
	return ways
}

// in lists what is in a directory.
func (t *tree) in(dir string) (names []string) {
	entries, err := fs.ReadDir(t.root.FS(), dir)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// take sets how the source is built. What the other ways have is dropped.
func (f *Facts) take(way Facts) {
	f.Method, f.Build, f.Maybe, f.Switches, f.wayNotes = way.Method, way.Build, way.Maybe, way.Switches, way.Notes
	f.Configure, f.Steps = way.Configure, map[string]string{}
	maps.Copy(f.Steps, way.Steps)
}

var help = pattern.New(`(?m)^  (--(?:enable|disable|with|without)-[\w+-]+\S*)\s+(.*)$`)

// everywhere are switches that all configure scripts of Autoconf have.
var everywhere = pattern.New(`FEATURE|PACKAGE|dependency-tracking|silent-rules|option-checking|libtool-lock|fast-install|shared|static|pic\b|gnu-ld|sysroot|maintainer-mode|aix-soname`)

// switches lists what a configure script can turn on and off.
func switches(configure string) []string {
	var all []string
	for _, m := range help.FindAllStringSubmatch(configure, -1) {
		if !everywhere.MatchString(m[1]) {
			all = append(all, strings.TrimSpace(m[1]+"  "+m[2]))
		}
	}
	return all[:min(len(all), 30)]
}

var (
	pkgCheck    = pattern.New(`(?ms)^([ \t]*)PKG_CHECK_MODULES(?:_STATIC)?\s*\(\s*\[?\w+\]?\s*,\s*\[?([^\],)]+)\]?\s*([,)])`)
	pkgMade     = pattern.New(`\$PKG_CONFIG --exists --print-errors \\?"([^"\\$]+)\\?"`)
	mesonDep    = pattern.New(`dependency\s*\(\s*'([\w.+-]+)'([^)]*)\)`)
	mesonVer    = pattern.New(`version\s*:\s*'>=\s*([\w.]+)'`)
	cinMakefile = pattern.New(`(?i)pkg_(?:check|search)_modules?\s*\(\s*\w+\s+((?:REQUIRED\s+|QUIET\s+|IMPORTED_TARGET\s+|GLOBAL\s+)*)([^)$]+)\)`)
	inMakefile  = pattern.New(`(?:pkg-config|\$[({]PKG_?CONFIG[)}])((?:\s+--[\w-]+(?:=\S+)?)+)\s+["']?([a-z][\w.+-]*)`)
	module      = pattern.New(`([\w.+-]+)(?:\s*(>=|<=|=|<|>)\s*([\w.]+))?`)
)

// needs finds what the build files ask for.
func (t *tree) needs(f *Facts) {
	if len(t.glob("*.c", "*/*.c", "*/*/*.c")) > 0 {
		f.Build = append(f.Build, "command/cc")
	}
	if len(t.glob("*.cpp", "*/*.cpp", "*.cc", "*/*.cc", "*.cxx", "*/*.cxx")) > 0 {
		f.Build = append(f.Build, "command/c++")
	}
	text := t.read("configure.ac") + t.read("configure.in")
	for _, m := range pkgCheck.FindAllStringSubmatch(text, -1) {
		// Under a condition, or with something to do where it is missing.
		if m[1] != "" || m[3] == "," {
			f.Maybe = append(f.Maybe, modules(m[2])...)
		} else {
			f.Build = append(f.Build, modules(m[2])...)
		}
	}
	if text == "" {
		for _, m := range pkgMade.FindAllStringSubmatch(t.read("configure"), -1) {
			f.Maybe = append(f.Maybe, modules(m[1])...)
		}
	}
	for pattern, command := range map[string]string{`AC_PROG_YACC|AX_PROG_BISON`: "bison", `AC_PROG_LEX|AM_PROG_LEX`: "flex", `AM_GNU_GETTEXT|IT_PROG_INTLTOOL`: "msgfmt", `AX_PROG_DOXYGEN|DX_INIT_DOXYGEN`: "doxygen"} {
		if regexp.MustCompile(`(?m)^\s*(` + pattern + `)\b`).MatchString(text) {
			f.Maybe = append(f.Maybe, "command/"+command)
		}
	}
	if f.Method == "make" {
		for _, m := range inMakefile.FindAllStringSubmatch(t.read("Makefile")+t.read("GNUmakefile"), -1) {
			f.Build = append(f.Build, need.PkgConfig+"/"+m[2])
		}
	}
	if f.Method == "meson" {
		for _, m := range mesonDep.FindAllStringSubmatch(t.read("meson.build"), -1) {
			n := need.PkgConfig + "/" + m[1]
			if v := mesonVer.FindStringSubmatch(m[2]); v != nil {
				n += " >= " + v[1]
			}
			switch {
			case m[1] == "threads" || m[1] == "dl" || m[1] == "m":
			case strings.Contains(m[2], "required") && !regexp.MustCompile(`required\s*:\s*true`).MatchString(m[2]):
				f.Maybe = append(f.Maybe, n)
			default:
				f.Build = append(f.Build, n)
			}
		}
	}
	if f.Method == "cmake" {
		for _, m := range cinMakefile.FindAllStringSubmatch(t.read("CMakeLists.txt"), -1) {
			if strings.Contains(strings.ToUpper(m[1]), "REQUIRED") {
				f.Build = append(f.Build, modules(m[2])...)
			} else {
				f.Maybe = append(f.Maybe, modules(m[2])...)
			}
		}
	}
	for _, list := range []*[]string{&f.Build, &f.Maybe} {
		*list = slices.DeleteFunc(*list, func(s string) bool { _, err := need.Parse(s); return err != nil })
		if slices.ContainsFunc(*list, func(s string) bool { return strings.HasPrefix(s, need.PkgConfig) }) && list == &f.Build {
			*list = append(*list, "command/pkg-config")
		}
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	f.Maybe = slices.DeleteFunc(f.Maybe, func(s string) bool { return slices.Contains(f.Build, s) })
}

// modules reads a list of pkg-config modules with bounds.
func modules(list string) []string {
	var out []string
	for _, m := range module.FindAllStringSubmatch(strings.ReplaceAll(list, "\n", " "), -1) {
		n := need.PkgConfig + "/" + m[1]
		if m[2] != "" {
			n += " " + m[2] + " " + m[3]
		}
		out = append(out, n)
	}
	return out
}

// licenseFiles are names that license texts go by.
var licenseFiles = pattern.New(`(?i)^(licen[cs]es?|copying|copyright|unlicense)([-._].*)?$`)

// license finds the license texts at the top of the source, and what they are.
// Where they do not tell, what is in directories and in source files is noted
// for a person to decide.
func (t *tree) license(f *Facts, own stated) error {
	notes := len(f.Notes)
	for _, name := range t.names {
		if licenseFiles.MatchString(name) && t.read(name) != "" {
			f.Texts = append(f.Texts, name)
		}
	}
	found := map[string]bool{}
	for _, name := range f.Texts {
		ids, err := recognize.Licenses([]byte(t.read(name)))
		switch {
		case err != nil:
			return err
		case len(ids) == 0:
			f.Notes = append(f.Notes, "what license "+name+" is was not recognised")
		case len(ids) > 1:
			f.Notes = append(f.Notes, name+" holds several licenses ("+strings.Join(ids, ", ")+"): say how they go together, with AND or OR")
		default:
			found[t.laterVersions(ids[0])] = true
		}
	}
	ids := slices.Sorted(maps.Keys(found))
	switch {
	case own.expression() != "" && (len(ids) != 1 || license.Mentions(own.expression(), strings.TrimSuffix(strings.TrimSuffix(ids[0], "-only"), "-or-later"))):
		f.License, f.Notes = own.expression(), f.Notes[:notes]
	case len(ids) == 1:
		f.License = ids[0]
		if own.expression() != "" {
			f.Notes = append(f.Notes, "the build files state the license "+own.expression()+", and the license text is "+ids[0])
		}
	case len(ids) > 1:
		f.License = strings.Join(ids, " AND ")
		f.Notes = append(f.Notes, "several license texts were found: "+f.License+" is the strictest reading; write OR if a user may choose")
	default:
		return t.licenseHints(f, own)
	}
	return nil
}

var spdxLine = pattern.New(`SPDX-License-Identifier:\s*([\w.+-]+(?:\s+(?:AND|OR|WITH)\s+[\w.+-]+)*)`)

// licenseHints notes what directories, source files and the build's own files say
// of the license.
func (t *tree) licenseHints(f *Facts, own stated) error {
	for _, name := range t.glob("*/*") {
		if !licenseFiles.MatchString(path.Base(name)) {
			continue
		}
		ids, err := recognize.Licenses([]byte(t.read(name)))
		if err != nil {
			return err
		}
		if len(ids) > 0 {
			f.Notes = append(f.Notes, name+" is "+strings.Join(ids, ", "))
		}
	}
	stated := map[string]bool{}
	for _, name := range t.glob("*.c", "*/*.c", "*.h", "*/*.h", "*.py", "*/*.py", "*.cc", "*/*.cc") {
		if m := spdxLine.FindStringSubmatch(t.read(name)); m != nil {
			stated[m[1]] = true
		}
	}
	if len(stated) > 0 {
		f.Notes = append(f.Notes, "source files state "+strings.Join(slices.Sorted(maps.Keys(stated)), ", "))
	}
	if own.license != "" {
		f.Notes = append(f.Notes, "the build files call the license "+document.Quote(own.license))
	}
	return nil
}

// laterVersions tells from the head of source files whether a license of the
// GNU family is meant with its later versions; the text itself does not say.
func (t *tree) laterVersions(id string) string {
	if !regexp.MustCompile(`^(A|L)?GPL-\d\.\d$`).MatchString(id) {
		return id
	}
	for _, file := range t.glob("*.c", "*/*.c", "*.h", "*/*.h", "*.py", "*/*.py", "configure.ac", "README*") {
		text := t.read(file)
		head := strings.Join(strings.Fields(strings.Map(func(r rune) rune {
			if r == '*' || r == '#' {
				return ' '
			}
			return r
		}, text[:min(len(text), 4000)])), " ")
		if strings.Contains(head, "any later version") {
			return id + "-or-later"
		}
	}
	return id + "-only"
}
