package draft

import (
	"io/fs"
	"maps"
	"os/exec"
	"path"
	"regexp"
	"slices"
	"strings"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
)

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
		way(Facts{Method: "make", Steps: map[string]string{recipe.Prepare: ownConfigure},
			Notes: []string{"the configure script is its authors' own: see ./configure --help"}}, "make")
	}
	if t.has("go.mod") && makefile && !installs.MatchString(t.read("Makefile")+t.read("GNUmakefile")+t.read("makefile")) {
		makefile = false // it is for those who work on the source
	}
	if makefile && configure == "" {
		way(Facts{Method: "make", Configure: t.flagArguments()}, "make")
	}
	if t.has("go.mod") {
		f := Facts{Method: "go"}
		if !t.has("vendor") && strings.Contains(t.read("go.mod"), "require") {
			f.Modules = "go"
		}
		if !t.hasText("*.go", `(?m)^package main\b`) {
			f.Unsupported = "it is a library of Go and has no programs: what uses it fetches it as a module, so there is nothing to package"
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
	if len(all) > 0 && len(t.glob("*.[ot]tf", "*/*.[ot]tf", "*/*/*.[ot]tf", "*/*/*/*.[ot]tf")) > 0 {
		// The fonts themselves are there, if what makes them is not.
		all = append(all, Facts{Method: "data", Notes: []string{"the fonts are installed as they are in the source"}})
	}
	if len(all) == 0 {
		all = t.plainWays()
	}
	return all
}

// installs matches a makefile that installs something.
var installs = pattern.New(`(?m)^install\b.*:`)

// ownConfigure runs a configure script that is not of Autoconf.
const ownConfigure = `./configure --prefix="$PREFIX"`

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
	f.Modules, f.Pinned, f.Unsupported = way.Modules, "", way.Unsupported
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
	mesonDep    = pattern.New(`(?:^|[^\w])dependency\s*\(\s*'([\w.+-]+)'([^)]*)\)`)
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
