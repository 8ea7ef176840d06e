package lint

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
)

// directories are variables of a script that hold paths, which may have spaces in
// them.
var directories = wordSet("DESTDIR PWD OLDPWD HOME TMPDIR ELL_SOURCE ELL_RECIPE")

// failing are commands whose failure matters, in front of a pipe.
var failing = wordSet("make gmake ninja samu cmake ctest meson muon cargo go gcc cc g++ clang tar unzip patch install cp mv python python3 perl pytest autoreconf npm gpg sha256sum")

// checkers are commands that fail where what they read is not as it should be.
var checkers = wordSet("grep egrep fgrep cmp diff test sha256sum")

// networkTools are commands that are there to fetch something.
var networkTools = wordSet("curl wget ftp sftp scp aria2c rsync")

// networkCalls are commands that fetch when they are called in this way.
var networkCalls = map[string][]string{
	"git": {"clone", "fetch", "pull", "submodule"}, "pip": {"install", "download"}, "pip3": {"install", "download"}, "npm": {"install", "ci"}, "cargo": {"fetch", "install"},
	"go": {"get", "install"}, "gem": {"install"}, "svn": {"checkout", "co", "update"}, "hg": {"clone", "pull"}, "yarn": {"install"},
}

// goesOut reports whether a command uses the network.
func goesOut(cmd command) bool {
	base := cmd.base()
	if networkTools[base] {
		// rsync and scp copy locally, too.
		return base != "rsync" && base != "scp" || slices.ContainsFunc(cmd.args, func(a string) bool { return strings.Contains(a, ":") })
	}
	for _, sub := range networkCalls[base] {
		local := cmd.has("--offline", "--no-index", "--no-fetch", "-mod=vendor", "--global") || slices.ContainsFunc(cmd.args, func(a string) bool { return strings.HasPrefix(a, ".") || strings.HasPrefix(a, "--root-dir") })
		if cmd.first() == sub && !local && !(base == "git" && sub == "submodule" && !cmd.has("update", "add")) {
			return true
		}
	}
	return false
}

var fixedJobs = pattern.New(`^(-j|--jobs=?|--parallel=?)([0-9]+)$`)

// expandsFlags reports whether a text keeps the flags that the build was given.
var expandsFlags = pattern.New(`\$\{?(C|CXX|CPP|LD|F)FLAGS`)

var flagVariable = pattern.New(`^(C|CXX|LD)FLAGS$`)

// stage is a step's script with only the parts that a rule on scripts cares
// for.
func stageFile(content string) string {
	return "[steps]\nstage = '''\ninstall -d \"$DESTDIR/usr/share/tide\"\n" + content + "\n'''"
}

func buildFile(content string) string {
	return "[needs]\nbuild = [\"command/make\", \"command/cc\"]\n[steps]\nbuild = '''\n" + content + "\n'''\ntest = 'true'\nstage = 'install -d \"$DESTDIR/usr/share/tide\"'"
}

// shellRules are about the scripts of steps.
func shellRules() []Rule {
	return []Rule{
		ell131(),
		ell132(),
		ell133(),
		ell134(),
		ell135(),
		ell136(),
		ell137(),
		ell138(),
		ell139(),
		ell140(),
		ell141(),
		ell142(),
		ell143(),
		ell144(),
		ell145(),
		ell146(),
	}
}

// ell131 reports: step asks for more privileges.
func ell131() Rule {
	return Rule{
		Code: "ELL131", Severity: Warning, Title: "step asks for more privileges",
		Why:    "A build runs as an ordinary user: owners and modes are set in the layout, and nothing outside of the staging directory is changed.",
		Remedy: "remove it, and set the owner in the layout",
		Wrong:  stageFile(`sudo touch "$DESTDIR/usr/share/tide/table"`),
		Right:  stageFile(`touch "$DESTDIR/usr/share/tide/table"`),
		recipe: func(c *recipeCheck) {
			c.eachCommand(func(s script, cmd command) {
				if slices.Contains([]string{"sudo", "su", "doas", "pkexec"}, cmd.base()) {
					c.inScript(s, cmd.call, "it runs %s", cmd.base())
				}
			})
		},
	}
}

// ell132 reports: step uses the network.
func ell132() Rule {
	return Rule{
		Code: "ELL132", Severity: Error, Title: "step uses the network",
		Why:    "Steps have no network. A download is pinned by no digest and may be gone when the package is rebuilt.",
		Remedy: "make it a [[source]], pinned by its digest",
		Wrong:  stageFile(`curl -o "$DESTDIR/usr/share/tide/table" https://tide.example/table`),
		Right:  stageFile(`echo 3.14 > "$DESTDIR/usr/share/tide/table"`),
		recipe: func(c *recipeCheck) {
			c.eachCommand(func(s script, cmd command) {
				if goesOut(cmd) {
					c.inScript(s, cmd.call, "it fetches something: %s", s.source(cmd.call))
				}
			})
		},
	}
}

// ell133 reports: unquoted path.
func ell133() Rule {
	return Rule{
		Code: "ELL133", Severity: Warning, Title: "unquoted path",
		Why:    "Without quotes the shell splits a path at spaces: the build fails in a workspace with a space in its path, or deletes something else.",
		Remedy: `write it in quotes, as in "$DESTDIR/usr"`,
		Wrong:  "[steps]\nstage = '''\ninstall -d $DESTDIR/usr/share/tide\n'''",
		Right:  "[steps]\nstage = '''\ninstall -d \"$DESTDIR/usr/share/tide\"\n'''",
		recipe: func(c *recipeCheck) {
			for _, s := range c.scripts() {
				c.unquoted(s)
			}
		},
	}
}

// ell134 reports: pipe hides a failure.
func ell134() Rule {
	return Rule{
		Code: "ELL134", Severity: Warning, Title: "pipe hides a failure",
		Why:    "In a pipe only the last command's failure stops the step. Failures of the others go unnoticed, and half a result is packed.",
		Remedy: "write to a file and read that, or leave the pipe out: the step's log keeps everything",
		Wrong:  buildFile("make --version | tee build.log"),
		Right:  buildFile("make --version"),
		recipe: func(c *recipeCheck) {
			for _, s := range c.scripts() {
				syntax.Walk(s.file, func(n syntax.Node) bool {
					pipe, ok := n.(*syntax.BinaryCmd)
					if !ok || pipe.Op != syntax.Pipe && pipe.Op != syntax.PipeAll {
						return true
					}
					// Who looks for something in the output notices.
					if last := s.in(pipe.Y); len(last) > 0 && checkers[last[len(last)-1].base()] {
						return true
					}
					for _, cmd := range s.in(pipe.X) {
						if cmd.call != nil && (failing[cmd.base()] || strings.Contains(cmd.name, "/")) && !archiveFlow(cmd) {
							c.inScript(s, pipe, "a failure of %s is not noticed", cmd.name)
							return false
						}
					}
					return true
				})
			}
		},
	}
}

// ell135 reports: fixed number of jobs.
func ell135() Rule {
	return Rule{
		Code: "ELL135", Severity: Hint, Title: "fixed number of jobs",
		Why:    "It is too many for one machine and too few for another; the workspace's settings say how many there are to be.",
		Remedy: `leave it out for make, which reads $MAKEFLAGS, and write -j"$ELL_JOBS" for others`,
		Wrong:  buildFile("make --version -j4"),
		Right:  buildFile("make --version"),
		recipe: func(c *recipeCheck) {
			c.eachCommand(func(s script, cmd command) {
				if !slices.Contains([]string{"make", "gmake", "ninja", "samu", "cmake", "ctest", "cargo", "xargs", "meson"}, cmd.base()) {
					return
				}
				for i, a := range cmd.args {
					m := fixedJobs.FindStringSubmatch(a)
					switch {
					case m != nil && m[2] != "1":
						c.replace(s, cmd.call.Args[i+1], cmd.raw[i], m[1]+`"$ELL_JOBS"`, "%s runs %s jobs, on every machine", cmd.base(), m[2])
					case strings.Contains(cmd.raw[i], "$(nproc)"):
						c.replace(s, cmd.call.Args[i+1], cmd.raw[i], strings.NewReplacer(`"$(nproc)"`, `"$ELL_JOBS"`, "$(nproc)", `"$ELL_JOBS"`).Replace(cmd.raw[i]), "%s takes every core, whatever the settings say", cmd.base())
					}
				}
			})
		},
	}
}

// ell136 reports: compiler flags of the target dropped.
func ell136() Rule {
	return Rule{
		Code: "ELL136", Severity: Warning, Title: "compiler flags of the target dropped",
		Why:    "They contain the hardening flags and the path mappings that make builds reproducible. A variable that is set anew loses them.",
		Remedy: `add to them: CFLAGS="$CFLAGS -DTIDE"`,
		Wrong:  buildFile(`make --version CFLAGS=-O3`),
		Right:  buildFile(`make --version CFLAGS="$CFLAGS -O3"`),
		recipe: func(c *recipeCheck) {
			for _, s := range c.scripts() {
				syntax.Walk(s.file, func(n syntax.Node) bool {
					a, ok := n.(*syntax.Assign)
					if ok && a.Name != nil && flagVariable.MatchString(a.Name.Value) && a.Value != nil && !a.Append && !expandsFlags.MatchString(s.source(a.Value)) {
						c.inScript(s, a, "%s is set without what it was", a.Name.Value)
					}
					return true
				})
				for _, cmd := range s.commands {
					for i, raw := range cmd.raw {
						name, value, ok := strings.Cut(raw, "=")
						if ok && flagVariable.MatchString(strings.Trim(name, `"'`)) && !expandsFlags.MatchString(value) {
							c.inScript(s, cmd.call.Args[i+1], "%s is set without what it was", strings.Trim(name, `"'`))
						}
					}
				}
			}
		},
	}
}

// ell137 reports: ignored failure.
func ell137() Rule {
	return Rule{
		Code: "ELL137", Severity: Warning, Title: "ignored failure",
		Why:    "Whatever goes wrong there, the build goes on, and packs what is left.",
		Remedy: "fix what fails; if one test cannot work here, leave out only that one",
		Wrong:  buildFile("make --version || true"),
		Right:  buildFile("make --version"),
		recipe: func(c *recipeCheck) {
			for _, s := range c.scripts() {
				syntax.Walk(s.file, func(n syntax.Node) bool {
					or, ok := n.(*syntax.BinaryCmd)
					if !ok || or.Op != syntax.OrStmt {
						return true
					}
					last := s.in(or.Y)
					if len(last) != 1 || !slices.Contains([]string{"true", ":"}, last[0].name) {
						return true
					}
					for _, cmd := range s.in(or.X) {
						if failing[cmd.base()] || strings.Contains(cmd.name, "/") {
							c.inScript(s, or, "%s may fail, and the step goes on", cmd.name)
							return false
						}
					}
					return true
				})
				for _, cmd := range s.commands {
					if cmd.name == "set" && cmd.has("+e") {
						c.inScript(s, cmd.call, "set +e makes the step go on after every failure")
					}
				}
			}
		},
	}
}

// ell138 reports: owner set in a step.
func ell138() Rule {
	return Rule{
		Code: "ELL138", Severity: Warning, Title: "owner set in a step",
		Why:    "Steps run as an ordinary user, and the owner that counts is the one in the layout: what a step says of it is lost.",
		Remedy: `in the layout: "/var/lib/tide/" = { owner = "tide" }`,
		Wrong:  stageFile(`install -d -o root "$DESTDIR/var/lib/tide" || install -d "$DESTDIR/var/lib/tide"`),
		Right:  stageFile(`install -d "$DESTDIR/var/lib/tide"`),
		recipe: func(c *recipeCheck) {
			c.eachCommand(func(s script, cmd command) {
				switch {
				case cmd.name == "chown" || cmd.name == "chgrp":
					c.inScript(s, cmd.call, "it runs %s", cmd.name)
				case cmd.name == "install" && slices.ContainsFunc(cmd.raw, func(a string) bool {
					return a == "-o" || a == "-g" || strings.HasPrefix(a, "--owner") || strings.HasPrefix(a, "--group")
				}):
					c.inScript(s, cmd.call, "install is told an owner")
				}
			})
		},
	}
}

// ell139 reports: step strips programs.
func ell139() Rule {
	return Rule{
		Code: "ELL139", Severity: Hint, Title: "step strips programs",
		Why:    "Then there is nothing left to split off into the package with debug information, and a crash cannot be traced.",
		Remedy: "leave it out: packing strips, and keeps what it takes off in NAME-symbols",
		Wrong:  stageFile(`install -s /bin/true "$DESTDIR/usr/share/tide/x" || true`),
		Right:  stageFile(`install -m755 /bin/true "$DESTDIR/usr/share/tide/x"`),
		recipe: func(c *recipeCheck) {
			if c.Debug != nil && !*c.Debug {
				return
			}
			c.eachCommand(func(s script, cmd command) {
				switch {
				case cmd.base() == "strip":
					c.inScript(s, cmd.call, "it runs strip")
				case cmd.name == "install" && (cmd.has("-s", "--strip") || slices.ContainsFunc(cmd.args, shortStrip)):
					c.inScript(s, cmd.call, "install is told to strip")
				case cmd.base() == "make" && cmd.has("install-strip"):
					c.inScript(s, cmd.call, "install-strip strips")
				}
			})
		},
	}
}

// ell140 reports: path into a home directory.
func ell140() Rule {
	return Rule{
		Code: "ELL140", Severity: Warning, Title: "path into a home directory",
		Why:    "It is there on one machine, for one person.",
		Remedy: "make what lies there a source, or a file beside the recipe ($ELL_RECIPE)",
		Wrong:  stageFile(`cp /home/ines/tables/* "$DESTDIR/usr/share/tide" || true`),
		Right:  stageFile(`cp "$ELL_RECIPE/harbours" "$DESTDIR/usr/share/tide"`) + "\n-- harbours --\nEly\n",
		recipe: func(c *recipeCheck) {
			for _, s := range c.scripts() {
				syntax.Walk(s.file, func(n syntax.Node) bool {
					if w, ok := n.(*syntax.Word); ok {
						if text := s.source(w); ownDirectory.MatchString(text) {
							c.inScript(s, w, "it uses %s", strings.Trim(text, `"'`))
							return false
						}
					}
					return true
				})
			}
		},
	}
}

// ell141 reports: build depends on the time, the machine or chance.
func ell141() Rule {
	return Rule{
		Code: "ELL141", Severity: Warning, Title: "build depends on the time, the machine or chance",
		Why:    "Each build has other bytes then, and nobody can tell whether two of them are the same.",
		Remedy: `for a date: date -u -d "@$SOURCE_DATE_EPOCH"; leave out the others`,
		Wrong:  stageFile(`date > "$DESTDIR/usr/share/tide/table"`),
		Right:  stageFile(`date -u -d "@$SOURCE_DATE_EPOCH" > "$DESTDIR/usr/share/tide/table"`),
		recipe: func(c *recipeCheck) {
			c.eachCommand(func(s script, cmd command) {
				text := s.source(cmd.call)
				switch cmd.name {
				case "date":
					if !strings.Contains(text, "SOURCE_DATE_EPOCH") && !cmd.has("-r", "--reference") && !slices.ContainsFunc(cmd.raw, func(a string) bool {
						return strings.HasPrefix(a, "-d") || strings.HasPrefix(a, "--date") || strings.HasPrefix(a, "-r")
					}) {
						c.inScript(s, cmd.call, "date is the time of the build")
					}
				case "hostname", "whoami", "uuidgen", "mcookie":
					c.inScript(s, cmd.call, "%s is another one for each build", cmd.name)
				case "uname":
					if cmd.has("-a", "-n", "-r", "-v") {
						c.inScript(s, cmd.call, "%s tells of the machine that builds", text)
					}
				}
			})
		},
	}
}

// ell142 reports: built with -march=native.
func ell142() Rule {
	return Rule{
		Code: "ELL142", Severity: Error, Title: "built with -march=native",
		Why:    "The compiler uses every instruction that this machine has. Others stop at the first that they lack.",
		Remedy: "leave -march=native out; the target's flags say what its machines can do",
		Wrong:  buildFile(`make --version CFLAGS="$CFLAGS -march=native"`),
		Right:  buildFile(`make --version CFLAGS="$CFLAGS"`),
		recipe: func(c *recipeCheck) {
			for _, s := range c.scripts() {
				for _, flag := range []string{"-march=native", "-mcpu=native", "target-cpu=native"} {
					if i := strings.Index(s.text, flag); i >= 0 {
						c.line(s, i, "%s is in it", flag)
					}
				}
			}
		},
	}
}

// ell143 reports: compiler warnings stop the build.
func ell143() Rule {
	return Rule{
		Code: "ELL143", Severity: Hint, Title: "compiler warnings stop the build",
		Why:    "The next compiler has new warnings, and then the same sources do not build any more.",
		Remedy: "leave -Werror out, or switch it off where upstream sets it",
		Wrong:  buildFile(`make --version CFLAGS="$CFLAGS -Werror"`),
		Right:  buildFile(`make --version CFLAGS="$CFLAGS -Wall"`),
		recipe: func(c *recipeCheck) {
			for _, s := range c.scripts() {
				if i := werror.FindStringIndex(s.text); i != nil {
					c.line(s, i[0], "-Werror is in it")
				}
			}
		},
	}
}

// ell144 reports: step waits for input.
func ell144() Rule {
	return Rule{
		Code: "ELL144", Severity: Hint, Title: "step waits for input",
		Why:    "Nobody sits at a build. It reads an empty input, and takes whatever is the default of the moment.",
		Remedy: "say the answer on the command line",
		Wrong:  stageFile(`read -r harbour || harbour=Ely; echo "$harbour" > "$DESTDIR/usr/share/tide/table"`),
		Right:  stageFile(`echo Ely | while read -r harbour; do echo "$harbour"; done > "$DESTDIR/usr/share/tide/table"`),
		recipe: func(c *recipeCheck) {
			for _, s := range c.scripts() {
				// In a pipe, a loop or with a redirection, it reads something.
				if strings.Contains(s.text, "while ") || strings.Contains(s.text, "| read") {
					continue
				}
				syntax.Walk(s.file, func(n syntax.Node) bool {
					stmt, ok := n.(*syntax.Stmt)
					if !ok {
						return true
					}
					if call, ok := stmt.Cmd.(*syntax.CallExpr); ok && len(call.Args) > 0 && plain(call.Args[0]) == "read" && len(stmt.Redirs) == 0 {
						c.inScript(s, call, "read waits for its input")
					}
					return true
				})
			}
		},
	}
}

// ell145 reports: deletes a path that may be empty.
func ell145() Rule {
	return Rule{
		Code: "ELL145", Severity: Warning, Title: "deletes a path that may be empty",
		Why:    "Where the variable is empty, the command deletes from / on, or everything in the directory.",
		Remedy: `write "${NAME:?}" in its place, which stops where it is empty`,
		Wrong:  stageFile(`tables=$(ls | grep old || true); rm -rf "$tables"/*`),
		Right:  stageFile(`tables=$(ls | grep old || true); rm -rf "${tables:?}"/* || true`),
		recipe: func(c *recipeCheck) {
			c.eachCommand(func(s script, cmd command) {
				if word := s.emptyRemoval(cmd); word != "" {
					c.inScript(s, cmd.call, "%s deletes more than is meant where the variable is empty", word)
				}
			})
		},
	}
}

// ell146 reports: prefix differs from the target's.
func ell146() Rule {
	return Rule{
		Code: "ELL146", Severity: Hint, Title: "prefix differs from the target's",
		Why:    "/usr/local is the administrator's, and /opt is for what is not part of a system.",
		Remedy: "configure with --prefix=/usr, or write PREFIX=/usr",
		Wrong:  buildFile("make --version PREFIX=/usr/local"),
		Right:  buildFile("make --version PREFIX=/usr"),
		recipe: func(c *recipeCheck) {
			c.eachCommand(func(s script, cmd command) {
				for i, raw := range cmd.raw {
					text := strings.Trim(raw, `"'`)
					if localPrefix.MatchString(text) {
						c.inScript(s, cmd.call.Args[i+1], "%s", text)
					}
				}
			})
			for i, flag := range c.Steps.Configure {
				if localPrefix.MatchString(flag) {
					c.at(c.Doc.At("steps", "configure", i), "%s", flag)
				}
			}
		},
	}
}

var (
	ownDirectory = pattern.New(`^"?'?(/home/[^/"$]+/|/root/|~/)`)
	werror       = pattern.New(`(^|[ "'=])-Werror([ "']|$)`)
	localPrefix  = pattern.New(`^(--prefix=|prefix=|PREFIX=|-DCMAKE_INSTALL_PREFIX=|-Dprefix=)/(usr/local|opt)`)
)

// line reports something at an offset of a script.
func (c *recipeCheck) line(s script, offset int, format string, args ...any) {
	line := 1 + strings.Count(s.text[:offset], "\n")
	c.add(fact.Finding{File: c.Doc.File, Line: c.ScriptLine(s.step, line), Message: s.name + ": " + fmt.Sprintf(format, args...)})
}

// in lists the commands of a statement, those of its own pipes too.
func (s script) in(stmt *syntax.Stmt) []command {
	var out []command
	syntax.Walk(stmt, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CmdSubst:
			return false
		case *syntax.CallExpr:
			if len(n.Args) > 0 {
				out = append(out, s.command(n))
			}
		}
		return true
	})
	return out
}

// archiveFlow reports whether a command only passes on what it reads, as tar
// does in tar -c | tar -x: the reader notices when it ends too early.
func archiveFlow(cmd command) bool {
	return cmd.base() == "tar" && slices.ContainsFunc(cmd.args, func(a string) bool {
		return strings.HasPrefix(a, "-c") || strings.HasPrefix(a, "c") || a == "--create"
	})
}

// shortStrip reports whether an option of install in one letter group strips.
func shortStrip(a string) bool {
	return len(a) > 1 && a[0] == '-' && a[1] != '-' && strings.Trim(a[1:], "Dcpsv") == "" && strings.Contains(a, "s")
}

// emptyRemoval is the word of an `rm -r` that would go too far with an empty
// variable: "$X/…" at the start. Variables that are always set are fine.
func (s script) emptyRemoval(cmd command) string {
	if cmd.name != "rm" || !slices.ContainsFunc(cmd.args, func(a string) bool { return strings.HasPrefix(a, "-") && strings.ContainsAny(a, "rR") }) {
		return ""
	}
	for i, w := range cmd.call.Args[1:] {
		parts := w.Parts
		if q, ok := parts[0].(*syntax.DblQuoted); ok && len(q.Parts) > 0 {
			parts = append(slices.Clone(q.Parts), parts[1:]...)
		}
		p, ok := parts[0].(*syntax.ParamExp)
		if !ok || p.Exp != nil || directories[p.Param.Value] || strings.HasPrefix(p.Param.Value, "ELL_") || len(parts) < 2 {
			continue
		}
		if lit, ok := parts[1].(*syntax.Lit); ok && strings.HasPrefix(lit.Value, "/") && !s.filled(p.Param.Value) {
			return cmd.raw[i]
		}
	}
	return ""
}

// filled reports whether the script itself gives a variable a value that is not
// empty.
func (s script) filled(name string) bool {
	return pattern.New(`(?m)(^|[\s;])(` + regexp.QuoteMeta(name) + `=(\$\(mktemp|"?[A-Za-z0-9/._-])|for\s+` + regexp.QuoteMeta(name) + `\s+in\s)`).MatchString(s.text)
}

// unquoted reports words with a variable outside of quotes that holds a path.
func (c *recipeCheck) unquoted(s script) {
	check := func(w *syntax.Word) {
		for _, part := range w.Parts {
			p, ok := part.(*syntax.ParamExp)
			if !ok || p.Param == nil || !directories[p.Param.Value] {
				continue
			}
			old, now := s.source(w), ""
			// Patterns and quotes keep a word from being put in quotes whole.
			if !strings.ContainsAny(old, "*?[]{}\"'\\`(") || strings.HasPrefix(old, "${") && !strings.ContainsAny(old[2:], "*?[{\"'\\`(") {
				now = `"` + old + `"`
			}
			if now == "" {
				old = ""
			}
			c.replace(s, w, old, now, "%s is not in quotes", s.source(w))
			return
		}
	}
	syntax.Walk(s.file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CallExpr:
			for _, w := range n.Args {
				check(w)
			}
		case *syntax.Redirect:
			if n.Hdoc == nil && n.Word != nil {
				check(n.Word)
			}
			return false // here-documents are no words
		case *syntax.ForClause:
			if it, ok := n.Loop.(*syntax.WordIter); ok {
				for _, w := range it.Items {
					check(w)
				}
			}
		}
		return true
	})
}
