package lint

import (
	"path"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/pattern"
	"ellwand.example/core/shellparse"
)

// environmentRules are about files that set the environment of all users.
func environmentRules() []Rule { return []Rule{ell770(), ell771()} }

// profile is an example with a script that login shells read.
func profile(lines string) string {
	return withLayout("install -d \"$DESTDIR/etc/profile.d\"\ncat > \"$DESTDIR/etc/profile.d/tide.sh\" <<'END'\n"+lines+"\nEND", `"/etc/profile.d/tide.sh" = { kind = "config" }`)
}

// ell770 reports: login script that harms the shell that reads it.
func ell770() Rule {
	return Rule{
		Code: "ELL770", Severity: Error, Title: "login script that harms the shell that reads it",
		Why:    "Login shells of all users read /etc/profile.d/*.sh, whichever POSIX shell they have. A mistake, an exit or a changed option of the shell prevents users from logging in, or changes how their shells work.",
		Remedy: "write POSIX shell that only sets variables and functions: no exit, exec or set; a file for another shell has that shell's suffix",
		Wrong:  profile("set -e\nexport TIDE_TABLES=/usr/share/tide"),
		Right:  profile("export TIDE_TABLES=/usr/share/tide"),
		file: func(c *fileCheck) {
			if path.Dir(c.Path) != "/etc/profile.d" || path.Ext(c.Path) != ".sh" {
				return
			}
			text, ok := c.text()
			if !ok {
				return
			}
			if line, message := shellMistake(text, syntax.LangPOSIX); message != "" {
				c.say("line %d is not POSIX shell: %s", line, message)
				return
			}
			file, err := shellparse.Parse(text, syntax.LangPOSIX)
			if err != nil {
				return
			}
			for _, word := range harmful(file) {
				c.say("line %d runs %s in the user's shell", word.line, word.text)
			}
		},
	}
}

type harmfulWord struct {
	line uint
	text string
}

// harmful lists the commands that end a shell, or change how it works, where they run in
// the shell that reads the file itself: not in a subshell or a function.
func harmful(file *syntax.File) []harmfulWord {
	var out []harmfulWord
	syntax.Walk(file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.Subshell, *syntax.CmdSubst, *syntax.FuncDecl:
			return false
		case *syntax.CallExpr:
			if len(n.Args) == 0 {
				return true
			}
			switch name := n.Args[0].Lit(); {
			case name == "exit", name == "exec" && len(n.Args) > 1, name == "logout":
				out = append(out, harmfulWord{n.Pos().Line(), name})
			case name == "set" && len(n.Args) > 1 && strings.HasPrefix(n.Args[1].Lit(), "-") && n.Args[1].Lit() != "--":
				out = append(out, harmfulWord{n.Pos().Line(), "set " + n.Args[1].Lit()})
			}
		}
		return true
	})
	return out
}

// ell771 reports: environment file with an invalid line.
func ell771() Rule {
	return Rule{
		Code: "ELL771", Severity: Error, Title: "environment file with an invalid line",
		Why:    "The session manager reads lines of the form NAME=VALUE (environment.d(5)) from *.conf, and no others. It is not a shell: export, quotes around names and commands have no effect there.",
		Remedy: "write NAME=VALUE, and name the file *.conf",
		Wrong:  stageFile("install -d \"$DESTDIR/usr/lib/environment.d\"\necho 'export TIDE_TABLES=/usr/share/tide' > \"$DESTDIR/usr/lib/environment.d/50-tide.conf\""),
		Right:  stageFile("install -d \"$DESTDIR/usr/lib/environment.d\"\necho 'TIDE_TABLES=/usr/share/tide' > \"$DESTDIR/usr/lib/environment.d/50-tide.conf\""),
		file: func(c *fileCheck) {
			if dir := path.Dir(c.Path); dir != "/usr/lib/environment.d" && dir != "/etc/environment.d" {
				return
			}
			if path.Ext(c.Path) != ".conf" {
				c.say("its name does not end in .conf")
				return
			}
			text, ok := c.text()
			if !ok {
				return
			}
			number, continued := 0, false
			for line := range strings.Lines(text) {
				number++
				line = strings.TrimRight(line, "\n")
				start := !continued
				continued = strings.HasSuffix(line, `\`)
				trimmed := strings.TrimSpace(line)
				if !start || trimmed == "" || strings.HasPrefix(trimmed, "#") {
					continue
				}
				if !assignment.MatchString(trimmed) {
					c.say("line %d is not NAME=VALUE", number)
					return
				}
			}
		},
	}
}

var assignment = pattern.New(`^[A-Za-z_][A-Za-z0-9_]*=`)
