package draft

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
)

// Sources without a build system: the files in them are installed without changes.

// maxPlain bounds the paths of a source that are looked at.
const maxPlain = 20_000

var (
	fontFile    = pattern.New(`(?i)\.(ttf|otf|ttc|pcf(\.gz)?|pfb|afm|woff2?)$`)
	manualFile  = pattern.New(`\.([1-8])$`)
	headerFile  = pattern.New(`\.(h|hh|hpp|hxx)$`)
	codeFile    = pattern.New(`\.(c|cc|cpp|cxx|rs|go|hs|lhs|java|kt|scala|ml|d|f|f90|pas|adb|swift|cs|vala|zig|asm|s)$`)
	notForUsers = pattern.New(`(?i)(^|/)(\.[^/]*|tests?|t|testing|examples?|samples?|bench(marks?)?|debian|build|dist|node_modules|vendor|ci)(/|$)`)
)

// plainWays finds how a source that has no build system can be installed.
func (t *tree) plainWays() []Facts {
	switch {
	case t.has("Cargo.toml"):
		f := Facts{Method: "cargo", Build: []string{"command/cargo", "command/cc"}}
		if !t.has("vendor") && strings.Contains(t.read("Cargo.lock"), "registry+") {
			f.Modules = "cargo"
		}
		if !t.hasText("main.rs", "") && !t.hasText("Cargo.toml", `(?m)^\[\[bin\]\]`) && len(t.glob("src/bin/*.rs", "*/src/bin/*.rs")) == 0 {
			f.Unsupported = "it is a library of Rust and has no programs: what uses it fetches it as a crate, so there is nothing to package"
		}
		return []Facts{f}
	case strings.Contains(t.read("DESCRIPTION"), "Package:") && t.has("R"):
		return []Facts{{Build: []string{"command/R"}, Steps: map[string]string{recipe.Stage: `mkdir -p "$DESTDIR/usr/lib/R/library"
R CMD INSTALL --no-test-load --library="$DESTDIR/usr/lib/R/library" .`}}}
	case t.has("pom.xml"):
		return []Facts{{Method: "java", Modules: "maven", Build: []string{"command/mvn"}}}
	case t.has("build.gradle") || t.has("build.gradle.kts"):
		return []Facts{{Method: "java", Build: []string{"command/gradle"}, Notes: []string{"Gradle downloads what it builds with, and a build has no network: the system must have it"}}}
	case t.has("package.json") && t.has("package-lock.json") && needsModules(t.read("package.json")):
		return []Facts{{Method: "npm", Modules: "npm", Build: []string{"command/node", "command/npm"}}}
	case t.has("package.json") && len(t.glob("*.js", "*/*.js", "*.mjs", "*.cjs", "*/*/*.js")) > 0:
		return []Facts{t.node()}
	case len(t.glob("*.gemspec")) > 0 && t.has("lib"):
		return []Facts{{Method: "ruby", Build: []string{}}}
	}
	if why := t.foreign(); why != "" {
		return []Facts{{Method: "copy", Unsupported: why, Notes: []string{why}}}
	}
	return t.files()
}

// needsModules reports whether a package of Node.js is more than what its source has: it has
// dependencies, or a script makes something of it.
func needsModules(manifest string) bool {
	var p struct {
		Dependencies map[string]any `json:"dependencies"`
		Scripts      map[string]any `json:"scripts"`
	}
	if json.Unmarshal([]byte(manifest), &p) != nil {
		return true
	}
	return len(p.Dependencies) > 0 || p.Scripts["build"] != nil || p.Scripts["prepare"] != nil
}

func (t *tree) node() Facts {
	name := path.Base(readNode(t.read("package.json")).name)
	if !plainName.MatchString(name) {
		name = "$ELL_NAME"
	}
	script := `dir="$DESTDIR/usr/lib/node_modules/` + name + `"
mkdir -p "$dir"
cp -R ` + strings.Join(t.shipped(), " ") + ` "$dir/"`
	for _, bin := range nodePrograms(t.read("package.json")) {
		script += fmt.Sprintf("\nmkdir -p \"$DESTDIR/usr/bin\"\nchmod 755 \"$dir/%s\"\nln -s \"../lib/node_modules/${dir##*/}/%s\" \"$DESTDIR/usr/bin/%s\"", bin[1], bin[1], bin[0])
	}
	return Facts{Build: []string{}, Steps: map[string]string{recipe.Stage: script}}
}

// hasText reports whether the source has a file with a name like that and a text that an
// expression matches, other than in examples and tests.
func (t *tree) hasText(name, expression string) bool {
	text := regexp.MustCompile(expression)
	found, n := false, 0
	fs.WalkDir(t.root.FS(), ".", func(file string, e fs.DirEntry, err error) error {
		if n++; err != nil || n > maxPlain || found {
			return fs.SkipAll
		}
		if file != "." && e.IsDir() && notForUsers.MatchString(file) {
			return fs.SkipDir
		}
		if ok, _ := path.Match(name, path.Base(file)); ok && e.Type().IsRegular() {
			found = text.MatchString(t.read(file))
		}
		return nil
	})
	return found
}

// foreignKinds are kinds of sources that no method builds, by a file that they have.
var foreignKinds = [][2]string{
	{"*.cabal", "Haskell"}, {"dune-project", "OCaml"}, {"*.opam", "OCaml"}, {"mix.exs", "Elixir"}, {"rebar.config", "Erlang"}, {"build.sbt", "Scala"},
	{"Package.swift", "Swift"}, {"build.zig", "Zig"}, {"*.nimble", "Nim"}, {"shard.yml", "Crystal"}, {"dub.json", "D"}, {"*.csproj", "C#"}, {"*.sln", "C#"},
	{"SConstruct", "SCons"}, {"wscript", "Waf"}, {"WORKSPACE", "Bazel"}, {"MODULE.bazel", "Bazel"}, {"build.xml", "Ant"}, {"*.pro", "qmake"}, {"Jamroot", "Jam"}, {"*.asd", "Lisp"}, {"pubspec.yaml", "Dart"},
}

// foreign says that a source is of a kind that no method builds; empty if it is not.
func (t *tree) foreign() string {
	for _, kind := range foreignKinds {
		if len(t.glob(kind[0])) > 0 {
			return "it is built with " + kind[1] + ", for which there is no method: write the steps prepare, build and stage, and what they need"
		}
	}
	return ""
}

// shipped lists what is at the top of a source, but for what users do not need.
func (t *tree) shipped() (out []string) {
	for _, name := range t.names {
		if !notForUsers.MatchString(name) && isQuotable(name) {
			out = append(out, shellWord(name))
		}
	}
	return out
}

func installLine(mode, from, dir string) string {
	return fmt.Sprintf("install -D -m %s %s \"$DESTDIR\"%s", mode, shellWord(from), shellWord(path.Join(dir, path.Base(from))))
}

// isQuotable reports whether a name can stand in a script of a recipe, in quotes.
func isQuotable(name string) bool {
	return !strings.ContainsRune(name, '\'') && !strings.ContainsFunc(name, unicode.IsControl) && utf8.ValidString(name)
}

func isScript(text string) bool { return strings.HasPrefix(text, "#!") }

// files installs fonts, scripts with their man pages, headers, or data. Sources of programs
// that nothing known builds are left alone.
func (t *tree) files() []Facts {
	var fonts, scripts, pages, headers, data []string
	code := false
	n := 0
	err := fs.WalkDir(t.root.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		if n++; err != nil || n > maxPlain {
			return fs.SkipAll
		}
		if name != "." && notForUsers.MatchString(name) {
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !e.Type().IsRegular() || !isQuotable(name) {
			return nil
		}
		switch base := path.Base(name); {
		case fontFile.MatchString(base):
			fonts = append(fonts, name)
		case codeFile.MatchString(strings.ToLower(base)):
			code = true
		case headerFile.MatchString(base):
			headers = append(headers, name)
		case manualFile.MatchString(base) && strings.Contains(t.head(name), "."):
			pages = append(pages, name)
		case licenseFiles.MatchString(base) || isAbout(base):
		case isScript(t.head(name)) && path.Dir(name) != "." && !strings.HasSuffix(path.Dir(name), "bin"):
			data = append(data, name)
		case isScript(t.head(name)):
			scripts = append(scripts, name)
		default:
			data = append(data, name)
		}
		return nil
	})
	if err != nil {
		return nil
	}
	var lines []string
	switch {
	case len(fonts) > 0:
		return []Facts{{Method: "data", Build: []string{}, Notes: []string{"no build system was found: the fonts are installed as they are"}}}
	case len(scripts) > 0:
		for _, s := range scripts {
			lines = append(lines, installLine("755", s, "/usr/bin"))
		}
		for _, p := range pages {
			lines = append(lines, installLine("644", p, "/usr/share/man/man"+p[len(p)-1:]))
		}
	case len(headers) > 0 && !code:
		for _, h := range headers {
			dir := path.Dir(h)
			for _, prefix := range []string{"include", "src", "single_include"} {
				if dir == prefix || strings.HasPrefix(dir, prefix+"/") {
					dir = strings.TrimPrefix(strings.TrimPrefix(dir, prefix), "/")
					break
				}
			}
			lines = append(lines, installLine("644", h, path.Join("/usr/include", dir)))
		}
	case len(data) > 0 && !code:
		var tops []string
		for _, d := range data {
			top, _, _ := strings.Cut(d, "/")
			if !slices.Contains(tops, shellWord(top)) {
				tops = append(tops, shellWord(top))
			}
		}
		lines = []string{`mkdir -p "$DESTDIR/usr/share/$ELL_NAME"`, `cp -R ` + strings.Join(tops, " ") + ` "$DESTDIR/usr/share/$ELL_NAME/"`}
	default:
		return []Facts{{Method: "copy", Unsupported: "no build system that draft knows was found: write the build and stage steps", Notes: []string{"no build system was found: write the build and stage steps, or [steps.copy], which says what goes where"}}}
	}
	return []Facts{{Build: []string{}, Steps: map[string]string{recipe.Stage: strings.Join(lines, "\n")}, Notes: []string{"no build system was found: the files are installed as they are"}}}
}

// head is how a file begins; what is no regular file has none, so that a pipe is not waited
// for.
func (t *tree) head(name string) string {
	if info, err := t.root.Stat(name); err != nil || !info.Mode().IsRegular() {
		return ""
	}
	f, err := t.root.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	b := make([]byte, 512)
	n, _ := f.Read(b)
	return string(b[:n])
}

// isAbout reports whether a file is about the source, and not a part of what it is.
func isAbout(base string) bool {
	upper := strings.ToUpper(base)
	for _, prefix := range []string{"README", "CHANGE", "NEWS", "AUTHORS", "CONTRIBUT", "TODO", "INSTALL", "HISTORY", "THANKS", "MAKEFILE", "CREDITS", "FAQ", "RELEASE", "CODE_OF_CONDUCT", "SECURITY"} {
		if strings.HasPrefix(upper, prefix) {
			return true
		}
	}
	return false
}
