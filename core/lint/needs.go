package lint

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// declaredNeed is a need as the recipe has it.
type declaredNeed struct {
	need.Need
	text string
	list string // build, test or run
	at   document.Span
}

// needs are those of all lists of the recipe.
func (c *recipeCheck) needs() []declaredNeed {
	var out []declaredNeed
	add := func(list string, path ...any) {
		n := c.Doc.Find(path...)
		if n == nil {
			return
		}
		for _, item := range n.Items {
			if parsed, err := need.Parse(item.Text); err == nil && item.Kind == document.String {
				out = append(out, declaredNeed{parsed, item.Text, list, item.Value})
			}
		}
	}
	for _, list := range []string{"build", "test", "run"} {
		add(list, "needs", list)
		for i := range c.Needs.When {
			add(list, "needs", "when", i, list)
		}
	}
	return out
}

// commandName is what commands are called, but for odd ones.
var commandName = pattern.New(`^[A-Za-z0-9][A-Za-z0-9._+-]*$`)

// runners are commands that do what other files say, of which nothing is known
// here.
var runners = wordSet(`make gmake ninja samu cmake ctest meson muon autoreconf python python3 perl ruby go cargo rustc npm node ant mvn gradle sh bash dash env xargs eval . source qmake scons waf bmake just`)

func wordSet(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(s) {
		out[w] = true
	}
	return out
}

// runsBuildFiles reports whether a script starts something that does what files
// of the sources say.
func (c *recipeCheck) runsBuildFiles() bool {
	found := false
	c.eachCommand(func(_ script, cmd command) {
		if cmd.name == "" || strings.Contains(cmd.name, "/") || runners[cmd.name] {
			found = true
		}
	})
	return found
}

// needRules are about needs, options and waivers.
func needRules() []Rule {
	return []Rule{
		ell109(),
		ell110(),
		ell111(),
		ell112(),
		ell150(),
		ell151(),
		ell152(),
		ell153(),
		ell154(),
		ell155(),
		ell156(),
		ell157(),
		ell158(),
	}
}

// ell109 reports: no test step.
func ell109() Rule {
	return Rule{
		Code: "ELL109", Severity: Hint, Title: "no test step",
		Why:    "A package that was never run is tested by its users.",
		Remedy: "run upstream's tests in [steps] test, or at least the built program with --version",
		Wrong: `[steps]
build = 'echo 3.14 > table'
stage = 'install -Dm644 table -t "$DESTDIR/usr/share/tide"'`,
		Right: `[steps]
build = 'echo 3.14 > table'
test  = 'grep -q 3.14 table'
stage = 'install -Dm644 table -t "$DESTDIR/usr/share/tide"'`,
		recipe: func(c *recipeCheck) {
			if c.Script(recipe.Build) != "" && c.Script(recipe.Test) == "" {
				c.at(c.Doc.At("steps"), "the recipe builds something and tests nothing")
			}
		},
	}
}

// ell110 reports: waiver for an unknown rule.
func ell110() Rule {
	return Rule{
		Code: "ELL110", Severity: Error, Title: "waiver for an unknown rule",
		Why:    "It waives nothing, although its author believes that it does.",
		Remedy: "give the code as lint prints it, such as ELL105",
		Wrong: `[[waive]]
code    = "R1050"
reason = "the first release has nothing to tell"`,
		Right: `release = 2
[[waive]]
code    = "ELL105"
reason = "the first release has nothing to tell"`,
		recipe: func(c *recipeCheck) {
			for i, w := range c.Waivers {
				if _, ok := Find(w.Code); !ok {
					remedy := c.rule.Remedy
					if near := fact.Nearest(strings.ToUpper(w.Code), codes()); near != "" {
						remedy = fmt.Sprintf("did you mean %s?", near)
					}
					at := c.Doc.At("waive", i, "code")
					c.add(fact.Finding{File: c.Doc.File, Line: lineOf(c.Doc, at), Message: fmt.Sprintf("there is no rule %q", w.Code), Remedy: remedy})
				}
			}
		},
	}
}

// ell111 reports: unused waiver.
func ell111() Rule {
	return Rule{
		Code: "ELL111", Severity: Warning, Title: "unused waiver",
		Why:    "Its problem was fixed, or it never matched. If it stays, it hides the next problem.",
		Remedy: "remove it",
		Wrong: `[[waive]]
code    = "ELL101"
reason = "it is called so"`,
		Right: `summary = "Tide: tables of high and low water"
[[waive]]
code    = "ELL101"
reason = "it is called so"`,
		recipe: func(*recipeCheck) {}, // told of where all else has been found
	}
}

// ell112 reports: unused option or variable.
func ell112() Rule {
	return Rule{
		Code: "ELL112", Severity: Warning, Title: "unused option or variable",
		Why:    "The key has no effect, although someone expected one.",
		Remedy: "use it, or remove it",
		Wrong: `[option.tls]
summary = "Serve over TLS"
default = false`,
		Right: `[option.tls]
summary = "Serve over TLS"
default = false
[[needs.when]]
if    = "option.tls"
build = ["command/sh"]`,
		recipe: func(c *recipeCheck) {
			text := string(c.Doc.Data)
			for _, name := range sortedKeys(c.Options) {
				uses := strings.Count(text, "option."+name) - strings.Count(text, "[option."+name)
				if uses == 0 && !strings.Contains(text, "ELL_OPT_"+strings.ToUpper(name)) {
					c.at(c.Doc.Find("option", name).Key, "nothing asks for option %q", name)
				}
			}
			for _, name := range sortedKeys(c.Let) {
				if !strings.Contains(text, "{"+name+"}") {
					c.at(c.Doc.Find("let", name).Key, "nothing uses {%s}", name)
				}
			}
		},
	}
}

// ell150 reports: unused build dependency.
func ell150() Rule {
	return Rule{
		Code: "ELL150", Severity: Warning, Title: "unused build dependency",
		Why:    "Everybody who builds the recipe must have it, and each change of it causes a rebuild.",
		Remedy: "remove it; a build with a dependency report shows what the steps use", next: fact.WatchNeeds,
		Wrong: `[needs]
build = ["command/sh", "command/cmp"]`,
		Right: `[needs]
build = ["command/cmp"]
[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide"
echo 3.14 > "$DESTDIR/usr/share/tide/table"
cmp "$DESTDIR/usr/share/tide/table" /dev/null || echo "there is a table"
'''`,
		recipe: func(c *recipeCheck) {
			if u := c.usage(); u != nil {
				for _, n := range c.needs() {
					if n.list != "run" && slices.Contains(u.Unused, n.text) {
						c.at(n.at, "the traced build used nothing of %s", n.text)
					}
				}
				return
			}
			// Without a traced build, only commands can be checked, and only
			// where every command that runs is in sight.
			if c.Steps.Method != "" || c.runsBuildFiles() || len(c.scripts()) == 0 {
				return
			}
			for _, n := range c.needs() {
				commands := !slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool {
					return a.Kind != need.Command || c.scriptsMention(a.Name)
				})
				if n.list != "run" && commands {
					c.at(n.at, "no script runs %s", n.text)
				}
			}
		},
	}
}

// ell151 reports: undeclared build dependency.
func ell151() Rule {
	return Rule{
		Code: "ELL151", Severity: Warning, Title: "undeclared build dependency",
		Why:    "The build works on this machine because the dependency happens to be installed. It fails on the next machine.",
		Remedy: "add it to [needs] build",
		Wrong: `[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide"
gcc --version > "$DESTDIR/usr/share/tide/table"
'''`,
		Right: `[needs]
build = ["command/gcc"]
[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide"
gcc --version > "$DESTDIR/usr/share/tide/table"
'''`,
		recipe: func(c *recipeCheck) {
			if u := c.usage(); u != nil {
				for _, n := range u.Undeclared {
					c.add(fact.Finding{File: c.Doc.File, Line: lineOf(c.Doc, c.Doc.At("needs")), Message: "the traced build used " + n, Paste: document.Quote(n), Fix: &fix{edits: addNeed(n)}})
				}
				return
			}
			declared := map[string]bool{}
			others := false // packages and modules provide commands of any name
			for _, n := range c.needs() {
				for _, a := range n.Alternatives {
					declared[a.Name] = true
					others = others || a.Kind != need.Command && a.Kind != need.PkgConfig && a.Kind != need.Header && n.list != "run"
				}
			}
			if others {
				return
			}
			told := map[string]bool{}
			for _, s := range c.scripts() {
				own := s.functions()
				for _, cmd := range s.commands {
					name := cmd.name
					if name == "" || strings.ContainsAny(name, "/$") || probe.Everywhere(name) || declared[name] || own[name] || told[name] || c.comesWith(name, declared) {
						continue
					}
					told[name] = true
					n := need.Command + "/" + name
					if !commandName.MatchString(name) {
						continue // no need can name it
					}
					line := 1 + strings.Count(s.text[:cmd.call.Pos().Offset()], "\n")
					c.add(fact.Finding{File: c.Doc.File, Line: c.ScriptLine(s.step, line), Message: fmt.Sprintf("%s runs %s, and no need names it", s.name, name), Paste: document.Quote(n), Fix: &fix{edits: addNeed(n)}})
				}
			}
		},
	}
}

// ell152 reports: duplicate dependency.
func ell152() Rule {
	return Rule{
		Code: "ELL152", Severity: Warning, Title: "duplicate dependency",
		Why:    "Sooner or later one of the two is updated and the other is not.",
		Remedy: "keep the stricter one",
		Wrong: `[needs]
build = ["command/cmp", "command/cmp >= 3"]
[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide"
cmp --version > "$DESTDIR/usr/share/tide/table"
'''`,
		Right: `[needs]
build = ["command/cmp"]
[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide"
cmp --version > "$DESTDIR/usr/share/tide/table"
'''`,
		recipe: func(c *recipeCheck) {
			seen := map[string]string{}
			for _, n := range c.needs() {
				if len(n.Alternatives) != 1 || n.conditional(c) {
					continue
				}
				key := n.list + " " + n.Alternatives[0].Kind + "/" + n.Alternatives[0].Name
				if other, twice := seen[key]; twice && !bounds(other, n.text) && !strings.Contains(other+n.text, "!=") {
					c.at(n.at, "%s stands there already, as %q", n.text, other)
				}
				seen[key] = n.text
			}
		},
	}
}

// ell153 reports: dependency that no version can meet.
func ell153() Rule {
	return Rule{
		Code: "ELL153", Severity: Error, Title: "dependency that no version can meet",
		Why:    "The bounds exclude each other: no package can ever meet the dependency.",
		Remedy: "correct one of the bounds",
		Wrong: `[needs]
run = ["harbours >= 2, < 1"]`,
		Right: `[needs]
run = ["harbours >= 1, < 2"]`,
		recipe: func(c *recipeCheck) {
			for _, n := range c.needs() {
				if !slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return satisfiable(a) }) {
					c.at(n.at, "no version is %s", n.text)
				}
			}
			for _, name := range c.PackageNames() {
				for i, n := range c.Packages[name].Needs {
					if !slices.ContainsFunc(n.Alternatives, satisfiable) {
						c.at(c.Doc.At("package", name, "needs", i), "no version is %s", n)
					}
				}
			}
		},
	}
}

// ell154 reports: redundant run-time dependency.
func ell154() Rule {
	return Rule{
		Code: "ELL154", Severity: Hint, Title: "redundant run-time dependency",
		Why:    "Libraries and interpreters are detected in the built files, with the versions that are really needed. A dependency written by hand stays when the program no longer uses it.",
		Remedy: "remove it",
		Wrong: `[needs]
run = ["soname/libc.so.6"]`,
		Right: `[needs]
run = ["command/sh"]`,
		recipe: func(c *recipeCheck) {
			for _, n := range c.needs() {
				if n.list == "run" && !slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind != need.Soname }) {
					c.at(n.at, "%s: packing finds the libraries that the files need", n.text)
				}
			}
		},
	}
}

// ell155 reports: dependency named as on another system.
func ell155() Rule {
	return Rule{
		Code: "ELL155", Severity: Hint, Title: "dependency named as on another system",
		Why:    "The package with a library's headers has another name on every system. What the build looks for has the same name everywhere.",
		Remedy: "depend on what it is: pkgconfig/NAME, header/NAME.h or command/NAME",
		Wrong: `[needs]
run = ["libharmonic-dev"]`,
		Right: `[needs]
build = ["pkgconfig/harmonic | command/sh"]
[steps]
stage = 'sh -c true; install -d "$DESTDIR/usr/share/tide"'`,
		recipe: func(c *recipeCheck) {
			for _, n := range c.needs() {
				for _, a := range n.Alternatives {
					name := a.Name
					devel := strings.HasSuffix(name, "-devel") || strings.HasSuffix(name, "-dev") || strings.HasSuffix(name, "-headers")
					if a.Kind == need.Package && devel && !c.Makes(name) && !bounds(name, n.text) {
						c.at(n.at, "%s names a package of headers", n.text)
					}
				}
			}
		},
	}
}

// ell156 reports: package needs or excludes itself.
func ell156() Rule {
	return Rule{
		Code: "ELL156", Severity: Error, Title: "package needs or excludes itself",
		Why:    "A dependency on itself has no effect or can never be met. A conflict with itself prevents every installation.",
		Remedy: "remove it",
		Wrong: `[package.tide]
conflicts = ["tide"]
[package.tide.layout]
"/**" = {}`,
		Right: `[package.tide]
conflicts = ["ebb"]
[package.tide.layout]
"/**" = {}`,
		recipe: func(c *recipeCheck) {
			for _, name := range c.PackageNames() {
				p := c.Packages[name]
				self := need.Provide{Kind: need.Package, Name: name, Version: c.Full()}
				for _, list := range []struct {
					key   string
					needs []need.Need
				}{{"needs", p.Needs}, {"conflicts", p.Conflicts}, {"suggests", p.Suggests}} {
					for i, n := range list.needs {
						if slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.MetBy(self) }) {
							c.at(c.Doc.At("package", name, list.key, i), "%s is in its own %s", name, list.key)
						}
					}
				}
			}
		},
	}
}

// ell157 reports: package needs what it excludes.
func ell157() Rule {
	return Rule{
		Code: "ELL157", Severity: Error, Title: "package needs what it excludes",
		Why:    "Nothing that meets the dependency may be installed with the package, so it can never be installed.",
		Remedy: "remove the dependency, or give the conflict a bound",
		Wrong: `[package.tide]
needs     = ["harbours"]
conflicts = ["harbours"]
[package.tide.layout]
"/**" = {}`,
		Right: `[package.tide]
needs     = ["harbours >= 2"]
conflicts = ["harbours < 2"]
[package.tide.layout]
"/**" = {}`,
		recipe: func(c *recipeCheck) {
			for _, name := range c.PackageNames() {
				p := c.Packages[name]
				for i, conflict := range p.Conflicts {
					if need.Contains(p.Needs, conflict) {
						c.at(c.Doc.At("package", name, "conflicts", i), "%s needs %s, and conflicts with it", name, conflict)
					}
				}
			}
		},
	}
}

// ell158 reports: replaces a package without excluding it.
func ell158() Rule {
	return Rule{
		Code: "ELL158", Severity: Warning, Title: "replaces a package without excluding it",
		Why:    "Both packages can be installed together, each with its own copy of the same files, and chance decides which one is used.",
		Remedy: "repeat it in `conflicts`, with the same bounds",
		Wrong: `[package.tide]
replaces = ["tidetable < 2"]
[package.tide.layout]
"/**" = {}`,
		Right: `[package.tide]
replaces  = ["tidetable < 2"]
conflicts = ["tidetable < 2"]
[package.tide.layout]
"/**" = {}`,
		recipe: func(c *recipeCheck) {
			for _, name := range c.PackageNames() {
				p := c.Packages[name]
				for i, r := range p.Replaces {
					if len(r.Alternatives) == 0 || slices.ContainsFunc(p.Conflicts, func(other need.Need) bool { return names(other, r.Alternatives[0].Name) }) {
						continue
					}
					c.at(c.Doc.At("package", name, "replaces", i), "%s replaces %s, and does not conflict with it", name, r)
				}
			}
		},
	}
}

// names reports whether a need names a package.
func names(n need.Need, name string) bool {
	return slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind == need.Package && a.Name == name })
}

// usage is what a traced build of this very recipe used.
func (c *recipeCheck) usage() *Usage {
	if c.linter.Used == nil {
		return nil
	}
	return c.linter.Used(c.Recipe)
}

// comesWith reports whether a command comes with one of those declared, as the
// compilers of one collection do, and what a build system's are.
func (c *recipeCheck) comesWith(name string, declared map[string]bool) bool {
	families := [][]string{
		{"cc", "gcc", "g++", "c++", "cpp", "clang", "clang++", "c99", "c89", "ld", "strip"}, {"cmake", "ctest", "cpack"}, {"python3", "python", "pip", "pip3"},
		{"autoreconf", "autoconf", "automake", "aclocal", "autoheader", "libtoolize"}, {"npm", "node", "npx"}, {"cargo", "rustc"}, {"msgfmt", "xgettext", "msgmerge"},
	}
	for _, f := range families {
		if slices.Contains(f, name) && slices.ContainsFunc(f, func(other string) bool { return declared[other] }) {
			return true
		}
	}
	if name == "pkg-config" || name == "pkgconf" {
		for _, n := range c.needs() {
			if slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind == need.PkgConfig }) {
				return true
			}
		}
	}
	// The packages of a method provide what it starts.
	return c.Steps.Method != "" && (runners[name] || name == "cc" || name == "gcc" || name == "pkg-config" || name == path.Base(c.Steps.Method))
}

// functions are those that the script declares.
func (s script) functions() map[string]bool {
	out := map[string]bool{}
	for _, line := range strings.Split(s.text, "\n") {
		if name, _, ok := strings.Cut(strings.TrimSpace(line), "()"); ok {
			out[strings.TrimSpace(name)] = true
		}
	}
	return out
}

// conditional reports whether a need holds only under a condition.
func (n declaredNeed) conditional(c *recipeCheck) bool {
	when := c.Doc.Find("needs", "when")
	return when != nil && len(when.Items) > 0 && n.at.Offset > when.Items[0].Value.Offset
}

// bounds reports whether two needs of one name are a lower and an upper bound.
func bounds(a, b string) bool {
	return strings.Contains(a, ">") && strings.Contains(b, "<") || strings.Contains(a, "<") && strings.Contains(b, ">")
}

// satisfiable reports whether some version is within all bounds of a need: if
// any is, then one of the bounds, or one right beside it.
func satisfiable(a need.Alternative) bool {
	if len(a.Constraints) == 0 {
		return true
	}
	within := func(v string) bool {
		return a.MetBy(need.Provide{Kind: a.Kind, Name: a.Name, Version: v})
	}
	for _, c := range a.Constraints {
		v := c.Full.String()
		if within(v) || within(v+".0.1") || within(v+"~0") {
			return true
		}
	}
	return within("0") || within("999999999")
}

// addNeed adds a build need to the recipe.
func addNeed(text string) edits {
	return func(r *recipe.Recipe) []document.Edit {
		if need.Contains(r.Needs.Build, need.Must(text)) {
			return nil
		}
		if n := r.Doc.Find("needs", "build"); n != nil {
			return []document.Edit{r.Doc.AddItem(n, text)}
		}
		if n := r.Doc.Find("needs"); n != nil && !n.Inline() {
			return []document.Edit{r.Doc.InsertAfter(n.Value, "build = ["+document.Quote(text)+"]")}
		}
		if n := r.Doc.Find("steps"); n != nil {
			return []document.Edit{r.Doc.InsertBefore(n.Value, "[needs]\nbuild = ["+document.Quote(text)+"]\n\n")}
		}
		return nil
	}
}
