package lint

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/pattern"
	"ellwand.example/core/shellparse"
)

// program is an example with one script among the commands.
func program(text string) string {
	return "[steps]\nstage = '''\ninstall -d \"$DESTDIR/usr/bin\"\ncat > \"$DESTDIR/usr/bin/tide\" <<'END'\n" + text + "\nEND\nchmod 755 \"$DESTDIR/usr/bin/tide\"\n'''"
}

// nested is an example that installs a script with brackets nested n levels deep.
func nested(n int) string {
	return fmt.Sprintf("[steps]\nstage = '''\ninstall -d \"$DESTDIR/usr/bin\"\n{ echo \"#!/bin/sh\"; printf \"( %%.0s\" $(seq %d); printf :; printf \" )%%.0s\" $(seq %d); } > \"$DESTDIR/usr/bin/tide\"\nchmod 755 \"$DESTDIR/usr/bin/tide\"\n'''", n, n)
}

// shells are the interpreters whose scripts are parsed, by the language that
// they read.
var shells = map[string]syntax.LangVariant{"sh": syntax.LangPOSIX, "dash": syntax.LangPOSIX, "bash": syntax.LangBash}

// shellText is the text of a shell script; ok is false for all else.
func (c *fileCheck) shellText() (text, shell string, ok bool) {
	shell = path.Base(c.found.Interpreter)
	if _, known := shells[shell]; !known || c.found.Interpreter == "" {
		return "", "", false
	}
	text, ok = c.text()
	return text, shell, ok
}

// shellMistake parses a text; empty for a text without a mistake.
func shellMistake(text string, variant syntax.LangVariant) (line uint, message string) {
	_, err := shellparse.Parse(text, variant)
	switch e := err.(type) {
	case syntax.ParseError:
		return e.Pos.Line(), e.Text
	case syntax.LangError:
		return e.Pos.Line(), e.Feature
	}
	return 0, ""
}

var (
	unversionedPython = pattern.New(`^#!\s*(/usr/bin/env\s+(-S\s+)?|/usr/bin/|/bin/)python(\s|$)`)
	throughEnv        = pattern.New(`^#!\s*/(usr/)?bin/env\s`)
	predictable       = pattern.New(`(^|[\s"'=>])(/var)?/tmp/[A-Za-z0-9_.-]+`)
	unfilled          = pattern.New(`^#!\s*@[A-Za-z_]+@`)
)

// scriptRules are about scripts among a package's files.
func scriptRules() []Rule {
	return []Rule{
		ell402(),
		ell403(),
		ell404(),
		ell405(),
		ell406(),
		ell407(),
		ell408(),
		ell409(),
		ell410(),
		ell411(),
		ell412(),
		ell413(),
		ell414(),
	}
}

// ell402 reports: executable that is not a program.
func ell402() Rule {
	return Rule{
		Code: "ELL402", Severity: Warning, Title: "executable that is not a program",
		Why:    "Without a #! line the system does not know which program runs it.",
		Remedy: `add the #! line, or remove the executable bit: mode = "0644"`,
		Wrong:  program("echo high water"),
		Right:  program("#!/bin/sh\necho high water"),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if c.textual[e.Path] && !isData(e.Path) {
					c.setMode(e, fact.ParseMode(e.Mode)&^0o111, "it is executable, and neither a program nor a script with a #! line")
				}
			}
		},
	}
}

// ell403 reports: script interpreter does not exist.
func ell403() Rule {
	return Rule{
		Code: "ELL403", Severity: Error, Title: "script interpreter does not exist",
		Why:    "The script does not start: its #! line names a path under a local or a build directory.",
		Remedy: "name the installed path of the interpreter, below /usr/bin or /bin",
		Wrong:  program("#!/usr/local/bin/tideplot\necho high water"),
		Right:  program("#!/bin/sh\necho high water"),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				i := c.files[e.Path].Interpreter
				local := strings.HasPrefix(i, "/usr/local/") || strings.HasPrefix(i, "/home/") || strings.HasPrefix(i, "/opt/") && !strings.HasPrefix(i, "/opt/"+c.Facts.Name+"/") && !c.there(i)
				if local || buildMark.MatchString(i) {
					c.path(e.Path, "its interpreter is %s", i)
				}
			}
		},
	}
}

// ell404 reports: interpreter without a path.
func ell404() Rule {
	return Rule{
		Code: "ELL404", Severity: Error, Title: "interpreter without a path",
		Why:    "The kernel does not search the PATH. It looks for a file of that name in the current directory.",
		Remedy: "write the full path, such as #!/usr/bin/python3",
		Wrong:  program("#!python3\nprint('high water')"),
		Right:  program("#!/usr/bin/python3\nprint('high water')"),
		file: func(c *fileCheck) {
			if !c.runs() || !bytes.HasPrefix(c.data, []byte("#!")) {
				return
			}
			line, _, _ := strings.Cut(string(c.data[:min(len(c.data), 500)]), "\n")
			words := strings.Fields(strings.TrimPrefix(line, "#!"))
			if len(words) > 0 && !strings.HasPrefix(words[0], "/") && !unfilled.MatchString(line) {
				c.say("its first line is %s", line)
			}
		},
	}
}

// ell405 reports: interpreter found through env.
func ell405() Rule {
	return Rule{
		Code: "ELL405", Severity: Hint, Title: "interpreter found through env",
		Why:    "env uses the first command of that name on the caller's PATH. The package was built and tested with the system's own.",
		Remedy: "write the interpreter's full path; a [[rewrite]] can",
		Wrong:  program("#!/usr/bin/env sh\necho high water"),
		Right:  program("#!/bin/sh\necho high water"),
		file: func(c *fileCheck) {
			if c.data != nil && c.runs() && throughEnv.Match(c.data[:min(len(c.data), 200)]) {
				line, _, _ := bytes.Cut(c.data, []byte("\n"))
				c.say("its first line is %s", line)
			}
		},
	}
}

// ell406 reports: python without a version.
func ell406() Rule {
	return Rule{
		Code: "ELL406", Severity: Warning, Title: "python without a version",
		Why:    "`python` is version 2 on some systems, version 3 on others, and missing on the rest (PEP 394).",
		Remedy: "write python3",
		Wrong:  program("#!/usr/bin/python\nprint('high water')"),
		Right:  program("#!/usr/bin/python3\nprint('high water')"),
		file: func(c *fileCheck) {
			if c.data != nil && c.runs() && unversionedPython.Match(c.data[:min(len(c.data), 200)]) {
				line, _, _ := bytes.Cut(c.data, []byte("\n"))
				c.say("its first line is %s", line)
			}
		},
	}
}

// ell407 reports: invalid shell script.
func ell407() Rule {
	return Rule{
		Code: "ELL407", Severity: Warning, Title: "invalid shell script",
		Why:    "It stops at that line with an error.",
		Remedy: "fix it with a patch, or upstream",
		Wrong:  program("#!/bin/sh\nif true; then\necho high water"),
		Right:  program("#!/bin/sh\nif true; then\necho high water\nfi"),
		file: func(c *fileCheck) {
			text, shell, ok := c.shellText()
			if !ok || !c.runs() {
				return
			}
			// What is only beyond POSIX is another finding.
			if line, message := shellMistake(text, syntax.LangBash); message != "" && line > 0 {
				c.say("line %d: %s (%s)", line, message, shell)
			}
		},
	}
}

// ell408 reports: sh script that needs bash.
func ell408() Rule {
	return Rule{
		Code: "ELL408", Severity: Warning, Title: "sh script that needs bash",
		Why:    "/bin/sh is a different POSIX shell on each system. In another one the line is an error, or worse: means something else.",
		Remedy: "write it in POSIX shell, or name bash in the #! line",
		Wrong:  program("#!/bin/sh\nwater=(high low)\necho \"${water[0]}\""),
		Right:  program("#!/bin/bash\nwater=(high low)\necho \"${water[0]}\""),
		file: func(c *fileCheck) {
			text, shell, ok := c.shellText()
			if !ok || shell == "bash" || !c.runs() {
				return
			}
			if _, message := shellMistake(text, syntax.LangBash); message != "" {
				return
			}
			if line, what := beyondPOSIX(text); what != "" {
				c.say("line %d has what is not in POSIX shell: %s", line, what)
			}
		},
	}
}

// ell409 reports: CRLF line endings.
func ell409() Rule {
	return Rule{
		Code: "ELL409", Severity: Error, Title: "CRLF line endings",
		Why:    "The kernel looks for an interpreter whose name ends in a carriage return, and finds none.",
		Remedy: "convert it in the stage step: sed -i 's/\\r$//' FILE",
		Wrong:  "[steps]\nstage = '''\ninstall -d \"$DESTDIR/usr/bin\"\nprintf '#!/bin/sh\\r\\necho high water\\r\\n' > \"$DESTDIR/usr/bin/tide\"\nchmod 755 \"$DESTDIR/usr/bin/tide\"\n'''",
		Right:  program("#!/bin/sh\necho high water"),
		file: func(c *fileCheck) {
			if c.data != nil && c.runs() && bytes.HasPrefix(c.data, []byte("#!")) {
				if line, _, _ := bytes.Cut(c.data, []byte("\n")); bytes.HasSuffix(line, []byte("\r")) {
					c.say("its first line ends in a carriage return")
				}
			}
		},
	}
}

// ell410 reports: bytes before #!.
func ell410() Rule {
	return Rule{
		Code: "ELL410", Severity: Warning, Title: "bytes before #!",
		Why:    "The kernel checks the first two bytes only. After a space, an empty line or a byte order mark, #! is not recognized, and the calling shell runs the script itself.",
		Remedy: "make the file begin with #!",
		Wrong:  program("\n#!/usr/bin/python3\nprint('high water')"),
		Right:  program("#!/usr/bin/python3\nprint('high water')"),
		file: func(c *fileCheck) {
			if c.data == nil || !c.runs() || bytes.HasPrefix(c.data, []byte("#!")) {
				return
			}
			head := c.data[:min(len(c.data), 200)]
			trimmed := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
			if bytes.HasPrefix(trimmed, []byte("#!/")) {
				c.say("its #! line begins %d bytes behind the start", len(head)-len(trimmed))
			}
		},
	}
}

// ell411 reports: predictable temporary file.
func ell411() Rule {
	return Rule{
		Code: "ELL411", Severity: Warning, Title: "predictable temporary file",
		Why:    "Anyone who knows the name can put a link there first, and the script then overwrites a file of its caller.",
		Remedy: "use mktemp, or a directory that only the program can write to",
		Wrong:  program("#!/bin/sh\necho high water > /tmp/tide.out"),
		Right:  program("#!/bin/sh\nout=$(mktemp)\necho high water > \"$out\""),
		file: func(c *fileCheck) {
			text, _, ok := c.shellText()
			if !ok || !c.runs() {
				return
			}
			if s, valid := parseScript(text); valid {
				if line, what := s.foreseen(); what != "" {
					c.say("line %d writes to %s", line, what)
				}
			}
		},
	}
}

// ell412 reports: placeholder that was not filled in.
func ell412() Rule {
	return Rule{
		Code: "ELL412", Severity: Error, Title: "placeholder that was not filled in",
		Why:    "The build should have put a path there and did not, so the script cannot start.",
		Remedy: "check which step fills in the file, or write the path with a [[rewrite]]",
		Wrong:  program("#!@SHELL@\necho high water"),
		Right:  program("#!/bin/sh\necho high water"),
		file: func(c *fileCheck) {
			if c.data != nil && c.runs() && unfilled.Match(c.data[:min(len(c.data), 100)]) {
				line, _, _ := bytes.Cut(c.data, []byte("\n"))
				c.say("its first line is %s", line)
			}
		},
	}
}

// ell413 reports: command named after its language.
func ell413() Rule {
	return Rule{
		Code: "ELL413", Severity: Hint, Title: "command named after its language",
		Why:    "Users type the name, and other programs call it. If the command is rewritten in another language, the name is wrong or its callers break.",
		Remedy: "install it without the suffix",
		Wrong:  strings.ReplaceAll(program("#!/bin/sh\necho high water"), "/usr/bin/tide\"", "/usr/bin/tide.sh\""),
		Right:  program("#!/bin/sh\necho high water"),
		file: func(c *fileCheck) {
			if scan.CommandDir(path.Dir(c.Path)) && c.found.Interpreter != "" {
				switch ext := path.Ext(c.Path); ext {
				case ".sh", ".py", ".pl", ".rb", ".bash", ".lua":
					c.report(fact.Finding{Message: fmt.Sprintf("its name ends in %s", ext)})
				}
			}
		},
	}
}

// ell414 reports: script that was not checked.
func ell414() Rule {
	return Rule{
		Code: "ELL414", Severity: Hint, Title: "script that was not checked",
		Why:    "It is larger or more deeply nested than any script in practice, and checking it could take hours. The rules on shell scripts did not run on it.",
		Remedy: "split it, or review it yourself",
		Wrong:  nested(250),
		Right:  nested(3),
		file: func(c *fileCheck) {
			if text, _, ok := c.shellText(); ok && c.runs() {
				if _, err := shellparse.Parse(text, syntax.LangBash); errors.Is(err, shellparse.ErrBounds) {
					c.say("%v", err)
				}
			}
		},
	}
}

// beyondPOSIX finds what a shell script has that POSIX shell does not.
func beyondPOSIX(text string) (line uint, what string) {
	if line, message := shellMistake(text, syntax.LangPOSIX); message != "" {
		return line, message
	}
	s, ok := parseScript(text)
	if !ok {
		return 0, ""
	}
	for _, cmd := range s.commands {
		at := cmd.call.Pos().Line()
		switch {
		case cmd.name == "source", cmd.name == "pushd", cmd.name == "popd", cmd.name == "shopt", cmd.name == "declare", cmd.name == "[[":
			return at, cmd.name
		case (cmd.name == "[" || cmd.name == "test") && cmd.has("=="):
			return at, "== in " + cmd.name
		}
	}
	return 0, ""
}

// foreseen finds the place where a script writes to a fixed name in a directory that
// everyone can write to.
func (s script) foreseen() (line uint, what string) {
	syntax.Walk(s.file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.Redirect:
			if n.Op == syntax.RdrOut || n.Op == syntax.AppOut || n.Op == syntax.RdrClob {
				if p := plain(n.Word); predictable.MatchString(p) && what == "" {
					line, what = n.Pos().Line(), p
				}
			}
		case *syntax.CallExpr:
			if len(n.Args) > 1 {
				name, last := plain(n.Args[0]), plain(n.Args[len(n.Args)-1])
				if (name == "cp" || name == "mv" || name == "touch" || name == "tee" || name == "mkdir") && predictable.MatchString(last) && what == "" {
					line, what = n.Pos().Line(), last
				}
			}
		}
		return true
	})
	return line, what
}

// installScript is an example with a script that runs after an installation.
func installScript(text string) string {
	return "[package.tide.layout]\n\"/usr/share/licenses/tide/COPYING\" = { from = \"COPYING\" }\n\"/**\" = {}\n\n[package.tide.script]\npost-install = '''\n" + text + "\n'''"
}

// eachInstall calls f for every install script of the package that is valid.
func (c *packageCheck) eachInstall(f func(name string, s script)) {
	scripts := c.Scripts()
	for _, name := range sortedKeys(scripts) {
		if s, ok := parseScript(scripts[name]); ok {
			s.name = name
			f(name, s)
		}
	}
}

// inScript reports something about a piece of an install script, with its
// place in the recipe.
func (c *packageCheck) inScript(s script, n syntax.Node, format string, args ...any) {
	line := int(n.Pos().Line())
	f := fact.Finding{Message: fmt.Sprintf("%s, line %d: %s", s.name, line, fmt.Sprintf(format, args...))}
	if c.recipe != nil && c.recipe.Doc != nil {
		if node := c.recipe.Doc.Find("package", c.Facts.Name, "script", s.name); node != nil {
			f.File, f.Line = c.recipe.Doc.File, lineOf(c.recipe.Doc, c.recipe.Doc.Inside(node, 0, 0))+line-1
		}
	}
	c.add(f)
}

// installCommands is for rules that look at one command of install scripts
// after the other.
func installCommands(check func(c *packageCheck, s script, cmd command) string) func(*packageCheck) {
	return func(c *packageCheck) {
		c.eachInstall(func(_ string, s script) {
			for _, cmd := range s.commands {
				if message := check(c, s, cmd); message != "" {
					c.inScript(s, cmd.call, "%s", message)
				}
			}
		})
	}
}

// guarded reports whether a command runs only if something is not there yet, or
// may fail: it is in an if, behind && or ||.
func (s script) guarded(call *syntax.CallExpr) bool {
	found := false
	syntax.Walk(s.file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.IfClause:
			for _, stmt := range append(n.Then, n.Cond...) {
				found = found || contains(stmt, call)
			}
			if n.Else != nil {
				found = found || contains(n.Else, call)
			}
		case *syntax.BinaryCmd:
			if n.Op == syntax.OrStmt {
				found = found || contains(n, call)
			} else if n.Op == syntax.AndStmt {
				found = found || contains(n.Y, call)
			}
		case *syntax.CaseClause:
			found = found || contains(n, call)
		}
		return !found
	})
	return found
}

func contains(n syntax.Node, call *syntax.CallExpr) bool {
	return n.Pos().Offset() <= call.Pos().Offset() && call.End().Offset() <= n.End().Offset()
}

// installRules are about scripts that run when a package is installed or taken
// away.
func installRules() []Rule {
	return []Rule{
		ell420(),
		ell421(),
		ell422(),
		ell423(),
		ell424(),
		ell425(),
		ell426(),
		ell427(),
		ell428(),
		ell429(),
		ell430(),
		ell431(),
	}
}

// ell420 reports: install script that works only once.
func ell420() Rule {
	return Rule{
		Code: "ELL420", Severity: Warning, Title: "install script that works only once",
		Why:    "Scripts run again at each upgrade and after an interrupted installation. If the second run fails, the package stays half installed.",
		Remedy: "make it repeatable: mkdir -p, ln -sf, or a test first",
		Wrong:  installScript(`mkdir /var/lib/tide`),
		Right:  installScript(`mkdir -p /var/lib/tide`),
		pkg: installCommands(func(_ *packageCheck, s script, cmd command) string {
			if s.guarded(cmd.call) {
				return ""
			}
			option := func(letter string) bool {
				for _, a := range cmd.args {
					if strings.HasPrefix(a, "-") && !strings.HasPrefix(a, "--") && strings.Contains(a, letter) {
						return true
					}
				}
				return false
			}
			switch {
			case cmd.name == "mkdir" && !option("p") && !cmd.has("--parents"):
				return "mkdir fails where the directory is there"
			case cmd.name == "ln" && !option("f") && !cmd.has("--force"):
				return "ln fails where the link is there"
			case cmd.name == "rm" && !option("f") && !cmd.has("--force") && len(cmd.args) > 0:
				return "rm fails where the file is gone already"
			case cmd.name == "mv":
				return "mv fails where its work is done"
			}
			return ""
		}),
	}
}

// ell421 reports: install script appends to a file each time.
func ell421() Rule {
	return Rule{
		Code: "ELL421", Severity: Warning, Title: "install script appends to a file each time",
		Why:    "Scripts run again at each upgrade, so the line is added each time.",
		Remedy: "test first whether it is there (grep -q), or install a separate file into a directory NAME.d",
		Wrong:  installScript(`echo 'harbour = Ely' >> /etc/tide.conf`),
		Right:  installScript(`grep -q harbour /etc/tide.conf || echo 'harbour = Ely' >> /etc/tide.conf`),
		pkg: func(c *packageCheck) {
			c.eachInstall(func(_ string, s script) {
				syntax.Walk(s.file, func(n syntax.Node) bool {
					stmt, ok := n.(*syntax.Stmt)
					if !ok {
						return true
					}
					call, isCall := stmt.Cmd.(*syntax.CallExpr)
					for _, r := range stmt.Redirs {
						p := plain(r.Word)
						if r.Op == syntax.AppOut && strings.HasPrefix(p, "/") && !strings.HasPrefix(p, "/dev/") && !strings.HasPrefix(p, "/tmp/") && isCall && !s.guarded(call) {
							c.inScript(s, stmt, "it adds to %s", p)
						}
					}
					return true
				})
			})
		},
	}
}

// ell422 reports: install script starts or stops services.
func ell422() Rule {
	return Rule{
		Code: "ELL422", Severity: Warning, Title: "install script starts or stops services",
		Why:    "There may be no service manager: in a container, a chroot or an image under construction. And the administrator may not want the service to run.",
		Remedy: "install the unit, and leave the rest to the system's presets and the administrator",
		Wrong:  installScript(`systemctl enable --now tide.service`),
		Right:  installScript(`systemd-tmpfiles --create tide.conf || true`),
		pkg: installCommands(func(_ *packageCheck, s script, cmd command) string {
			base := cmd.base()
			switch {
			case base == "systemctl" && cmd.has("start", "stop", "restart", "enable", "disable", "try-restart", "reload", "mask", "unmask", "isolate"):
				return s.source(cmd.call)
			case base == "service" && len(cmd.args) > 1, base == "rc-service", base == "initctl", strings.HasPrefix(cmd.name, "/etc/init.d/"), strings.HasPrefix(cmd.name, "/etc/rc.d/"), base == "chkconfig":
				return s.source(cmd.call)
			}
			return ""
		}),
	}
}

// ell423 reports: install script adds accounts.
func ell423() Rule {
	return Rule{
		Code: "ELL423", Severity: Warning, Title: "install script adds accounts",
		Why:    "The files are installed before the script runs, so their owner does not exist yet. Each script also chooses its own numbers, home directories and shells.",
		Remedy: "declare it: [package.NAME.account.NAME] creates it before the files",
		Wrong:  installScript(`getent passwd tide >/dev/null || useradd -r tide`),
		Right:  "[package.tide.layout]\n\"/usr/share/licenses/tide/COPYING\" = { from = \"COPYING\" }\n\"/**\" = {}\n\n[package.tide.account.tide]\nhome = \"/var/lib/tide\"",
		pkg: installCommands(func(_ *packageCheck, _ script, cmd command) string {
			switch cmd.base() {
			case "useradd", "adduser", "groupadd", "addgroup", "usermod", "userdel", "deluser", "groupdel", "delgroup":
				return "it runs " + cmd.base()
			}
			return ""
		}),
	}
}

// ell424 reports: install script asks questions.
func ell424() Rule {
	return Rule{
		Code: "ELL424", Severity: Error, Title: "install script asks questions",
		Why:    "Installations run at night, on a hundred machines, in images. The script waits forever, or takes an empty answer.",
		Remedy: "use a default that a configuration file can change",
		Wrong:  installScript("printf 'Which harbour? '\nread -r harbour\necho \"$harbour\" > /etc/tide.conf"),
		Right:  installScript("echo Ely | while read -r harbour; do echo \"$harbour\" > /etc/tide.conf; done"),
		pkg: func(c *packageCheck) {
			c.eachInstall(func(_ string, s script) {
				if strings.Contains(s.text, "while ") || strings.Contains(s.text, "| read") {
					return
				}
				syntax.Walk(s.file, func(n syntax.Node) bool {
					stmt, ok := n.(*syntax.Stmt)
					if !ok {
						return true
					}
					if call, ok := stmt.Cmd.(*syntax.CallExpr); ok && len(call.Args) > 0 && plain(call.Args[0]) == "read" && len(stmt.Redirs) == 0 {
						c.inScript(s, call, "read waits for somebody to type")
					}
					return true
				})
			})
		},
	}
}

// ell425 reports: install script uses the network.
func ell425() Rule {
	return Rule{
		Code: "ELL425", Severity: Error, Title: "install script uses the network",
		Why:    "What it downloads is in no package and pinned by no digest. Without a network the installation fails halfway.",
		Remedy: "put what it downloads into a package, or let the program download it on first use",
		Wrong:  installScript(`curl -o /usr/share/tide/table https://tide.example/table`),
		Right:  installScript(`cp /usr/share/tide/table /var/lib/tide/table`),
		pkg: installCommands(func(_ *packageCheck, s script, cmd command) string {
			if goesOut(cmd) {
				return "it fetches something: " + s.source(cmd.call)
			}
			return ""
		}),
	}
}

// ell426 reports: install script writes to a predictable name.
func ell426() Rule {
	return Rule{
		Code: "ELL426", Severity: Warning, Title: "install script writes to a predictable name",
		Why:    "The script runs as root. Anyone who knows the name can put a link there first, and root overwrites any file of the system.",
		Remedy: "use mktemp",
		Wrong:  installScript(`tidectl dump > /tmp/tide.out`),
		Right:  installScript("out=$(mktemp)\necho high > \"$out\""),
		pkg: func(c *packageCheck) {
			c.eachInstall(func(_ string, s script) {
				if line, what := s.foreseen(); what != "" {
					c.say("%s, line %d: it writes to %s", s.name, line, what)
				}
			})
		},
	}
}

// ell427 reports: install script changes files of others.
func ell427() Rule {
	return Rule{
		Code: "ELL427", Severity: Error, Title: "install script changes files of others",
		Why:    "Home directories and the account files belong to no package. A change there may be wrong or lost, and cannot be undone when the package is removed.",
		Remedy: "leave it to the program, run by its user, or use a directory NAME.d that the owner of the file reads",
		Wrong:  installScript(`rm -rf /home/*/.cache/tide`),
		Right:  installScript(`rm -rf /var/cache/tide`),
		pkg: installCommands(func(_ *packageCheck, s script, cmd command) string {
			switch cmd.name {
			case "rm", "sed", "chmod", "chown", "cp", "mv", "touch", "mkdir", "install", "ln":
			default:
				return ""
			}
			if cmd.name == "sed" && !strings.Contains(strings.Join(cmd.raw, " "), "-i") {
				return ""
			}
			for _, raw := range cmd.raw {
				text := strings.Trim(raw, `"'`)
				for _, p := range []string{"/home/", "/root/", "/etc/passwd", "/etc/shadow", "/etc/group", "/etc/sudoers", "/etc/fstab", "/boot/", "/usr/local/"} {
					if strings.HasPrefix(text, p) && text != "/etc/sudoers.d" && !strings.HasPrefix(text, "/etc/sudoers.d/") {
						return s.source(cmd.call)
					}
				}
			}
			return ""
		}),
	}
}

// ell428 reports: install script runs an undeclared command.
func ell428() Rule {
	return Rule{
		Code: "ELL428", Severity: Warning, Title: "install script runs an undeclared command",
		Why:    "No dependency ensures that the command is installed. If it is missing, the installation fails halfway.",
		Remedy: "name it in the package's `needs` (command/NAME), or run it only if it exists: command -v NAME",
		Wrong:  installScript(`tidectl reload`),
		Right:  installScript(`if command -v tidectl >/dev/null; then tidectl reload; fi`),
		pkg: func(c *packageCheck) {
			offered := map[string]bool{}
			for _, p := range c.Facts.Provides {
				offered[p.Provide.Name] = true
			}
			for _, n := range c.Facts.Needs {
				for _, a := range n.Need.Alternatives {
					offered[a.Name] = true
				}
			}
			c.eachInstall(func(_ string, s script) {
				own := s.functions()
				for _, cmd := range s.commands {
					base := cmd.base()
					if cmd.name == "" || probe.Everywhere(base) || atInstall[base] || offered[base] || own[base] || strings.Contains(s.text, "command -v "+base) || s.guarded(cmd.call) || strings.Contains(cmd.name, "/") && c.there(cmd.name) {
						continue
					}
					c.inScript(s, cmd.call, "it runs %s, which no need names", base)
				}
			})
		},
	}
}

// ell429 reports: install script sets modes and owners.
func ell429() Rule {
	return Rule{
		Code: "ELL429", Severity: Warning, Title: "install script sets modes and owners",
		Why:    "Modes in the layout are correct from the first moment, can be verified, and are restored by an upgrade. Until the script runs, they are wrong.",
		Remedy: `set them in the layout: { mode = "…", owner = "…" }`,
		Wrong:  installScript(`chmod 0640 /usr/share/licenses/tide/COPYING`),
		Right:  installScript(`chmod 0640 /var/lib/tide/heights || true`),
		pkg: installCommands(func(c *packageCheck, s script, cmd command) string {
			if cmd.name != "chmod" && cmd.name != "chown" && cmd.name != "chgrp" {
				return ""
			}
			for _, a := range cmd.args {
				if strings.HasPrefix(a, "/") && c.there(strings.TrimSuffix(a, "/")) {
					return s.source(cmd.call)
				}
			}
			return ""
		}),
	}
}

// ell430 reports: install script may delete everything.
func ell430() Rule {
	return Rule{
		Code: "ELL430", Severity: Error, Title: "install script may delete everything",
		Why:    "If the variable is empty, the command deletes everything below /. Install scripts run as root.",
		Remedy: `write "${NAME:?}" instead, which stops if it is empty`,
		Wrong:  installScript("tables=$(cat /etc/tide.tables)\nrm -rf \"$tables\"/*"),
		Right:  installScript("tables=$(cat /etc/tide.tables)\nrm -rf \"${tables:?}\"/*"),
		pkg: installCommands(func(_ *packageCheck, s script, cmd command) string {
			if word := s.emptyRemoval(cmd); word != "" {
				return word + " is / where the variable is empty"
			}
			return ""
		}),
	}
}

// ell431 reports: install script raises privileges.
func ell431() Rule {
	return Rule{
		Code: "ELL431", Severity: Hint, Title: "install script raises privileges",
		Why:    "Install scripts already run with all privileges. If sudo is not installed, the command fails.",
		Remedy: "remove it",
		Wrong:  installScript(`sudo touch /var/lib/tide/heights`),
		Right:  installScript(`touch /var/lib/tide/heights`),
		pkg: installCommands(func(_ *packageCheck, _ script, cmd command) string {
			switch cmd.base() {
			case "sudo", "doas", "pkexec":
				return "it runs " + cmd.base()
			}
			return ""
		}),
	}
}

// atInstall are commands of the system that install scripts may count on.
var atInstall = wordSet("ldconfig getent systemctl systemd-tmpfiles systemd-sysusers udevadm useradd adduser groupadd addgroup usermod userdel deluser groupdel delgroup service chkconfig rc-service initctl sudo doas pkexec curl wget mount umount runuser su setcap git pip pip3 npm")
