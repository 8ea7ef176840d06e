package lint

import (
	"path"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/pattern"
	"ellwand.example/core/staging"
)

var unitPath = pattern.New(`^/(?:usr/)?lib/systemd/(?:system|user)/[^/]+\.(?:service|socket|timer|path|mount|target)$|^/usr/share/dbus-1/(?:system-)?services/[^/]+\.service$`)

// unitSections are the sections of each kind of unit beside [Unit] and
// [Install], which all have.
var unitSections = map[string]string{".service": "Service", ".socket": "Socket", ".timer": "Timer", ".path": "Path", ".mount": "Mount"}

// bus reports whether a unit's path is that of a service of D-Bus.
func bus(p string) bool { return strings.HasPrefix(p, "/usr/share/dbus-1/") }

// unit is an example with a program and a unit that starts it.
func unit(name, lines string) string {
	return stageFile("install -d \"$DESTDIR/usr/libexec/tide\" \"$DESTDIR/usr/lib/systemd/system\"\n" +
		"printf '#!/bin/sh\\n' > \"$DESTDIR/usr/libexec/tide/serve\"; chmod 755 \"$DESTDIR/usr/libexec/tide/serve\"\n" +
		"cat > \"$DESTDIR/usr/lib/systemd/system/" + name + "\" <<'END'\n" + lines + "\nEND")
}

const goodUnit = "[Unit]\nDescription=Tide tables\n[Service]\nExecStart=/usr/libexec/tide/serve\n[Install]\nWantedBy=multi-user.target"

// alsoUnit adds a further unit to an example.
func alsoUnit(example, name, lines string) string {
	return strings.TrimSuffix(example, "\n'''") + "\ncat > \"$DESTDIR/usr/lib/systemd/system/" + name + "\" <<'END'\n" + lines + "\nEND\n'''"
}

// eachUnit calls f for each unit with one of the endings.
func (c *packageCheck) eachUnit(f func(p string, k scan.Keys), endings ...string) {
	for _, p := range sortedKeys(c.units) {
		if !bus(p) && (len(endings) == 0 || slices.Contains(endings, path.Ext(p))) {
			f(p, c.units[p])
		}
	}
}

// systemAccounts are there on every system.
var systemAccounts = wordSet("root nobody daemon bin sys adm tty disk wheel mail audio video kmem input render users utmp systemd-network systemd-resolve systemd-journal messagebus dbus")

// unitRules are about units of the service manager, services of the message
// bus, and what is set up at the start of the system.
func unitRules() []Rule {
	return []Rule{
		ell750(),
		ell751(),
		ell752(),
		ell753(),
		ell754(),
		ell755(),
		ell756(),
		ell757(),
		ell760(),
		ell761(),
	}
}

// ell750 reports: invalid unit.
func ell750() Rule {
	return Rule{
		Code: "ELL750", Severity: Error, Title: "invalid unit",
		Why:    "The service manager ignores what it does not understand, and starts the service differently than intended, or not at all.",
		Remedy: "correct the line, or the name of the section",
		Wrong:  unit("tide.service", "[Unit]\nDescription=Tide tables\n[Servce]\nExecStart=/usr/libexec/tide/serve"),
		Right:  unit("tide.service", goodUnit),
		pkg: func(c *packageCheck) {
			c.eachUnit(func(p string, k scan.Keys) {
				for _, n := range k.Stray {
					c.path(p, "line %d is no key with a value", n)
				}
				own := unitSections[path.Ext(p)]
				for _, s := range k.Sections {
					common := []string{"Unit", "Install", own}
					if path.Ext(p) == ".socket" || path.Ext(p) == ".mount" {
						common = append(common, "Service")
					}
					if !slices.Contains(common, s) && !strings.HasPrefix(s, "X-") {
						c.path(p, "there is no section [%s] in a unit of this kind", s)
					}
				}
				kind, _ := k.Get("Service", "Type")
				_, start := k.Get("Service", "ExecStart")
				_, stop := k.Get("Service", "ExecStop")
				_, action := k.Get("Unit", "SuccessAction")
				template := strings.Contains(path.Base(p), "@.")
				if path.Ext(p) == ".service" && !start && !action && !(kind == "oneshot" && stop) && !template {
					c.path(p, "it has no ExecStart")
				}
			})
		},
	}
}

// ell751 reports: unit starts nothing.
func ell751() Rule {
	return Rule{
		Code: "ELL751", Severity: Error, Title: "unit starts nothing",
		Why:    "The service fails to start: the program is missing at that path, or not executable.",
		Remedy: "correct the path; it must be the installed one",
		Wrong:  unit("tide.service", strings.Replace(goodUnit, "/usr/libexec/tide/serve", "/usr/local/bin/serve", 1)),
		Right:  unit("tide.service", goodUnit),
		pkg: func(c *packageCheck) {
			for _, p := range sortedKeys(c.units) {
				k := c.units[p]
				for _, l := range k.Lines {
					if !strings.HasPrefix(l.Key, "Exec") || l.Key == "ExecSearchPath" || l.Key == "ExecPaths" {
						continue
					}
					value := strings.TrimLeft(l.Value, "-@:+!|")
					tolerated := strings.HasPrefix(l.Value, "-")
					word := firstWord(value)
					if word == "" || tolerated || !path.IsAbs(word) && !bus(p) || word == "/bin/false" {
						continue
					}
					if e, ok := ell.Find(c.Layout, word); ok {
						if e.Type == staging.File && fact.ParseMode(e.Mode)&0o111 == 0 {
							c.path(p, "%s starts %s, which is not executable", l.Key, word)
						}
						continue
					}
					if !c.canRun(word) {
						c.path(p, "%s starts %s, which neither the package nor the system has", l.Key, word)
					}
				}
			}
		},
	}
}

// ell752 reports: unit with an undeclared account.
func ell752() Rule {
	return Rule{
		Code: "ELL752", Severity: Error, Title: "unit with an undeclared account",
		Why:    "If the account does not exist, the service does not start.",
		Remedy: "declare it: [package.NAME.account.NAME]; or let the unit say DynamicUser=yes",
		Wrong:  unit("tide.service", strings.Replace(goodUnit, "[Service]", "[Service]\nUser=tide", 1)),
		Right:  unit("tide.service", strings.Replace(goodUnit, "[Service]", "[Service]\nUser=tide", 1)) + "\n[package.tide.layout]\n\"/usr/share/licenses/tide/COPYING\" = { from = \"COPYING\" }\n\"/**\" = {}\n[package.tide.account.tide]\nhome = \"/var/lib/tide\"",
		pkg: func(c *packageCheck) {
			c.eachUnit(func(p string, k scan.Keys) {
				dynamic, _ := k.Get("Service", "DynamicUser")
				for _, key := range []string{"User", "Group"} {
					name, ok := k.Get("Service", key)
					if !ok || name == "" || dynamic == "yes" || dynamic == "true" || systemAccounts[name] || strings.ContainsAny(name, "%$") || strings.Trim(name, "0123456789") == "" {
						continue
					}
					if _, declared := c.Facts.Accounts[name]; !declared && !c.sysusers[name] {
						c.path(p, "%s is %s", key, name)
					}
				}
			}, ".service", ".socket")
		},
	}
}

// ell753 reports: timer that never starts anything.
func ell753() Rule {
	return Rule{
		Code: "ELL753", Severity: Error, Title: "timer that never starts anything",
		Why:    "A timer starts the unit of its own name, or the one that Unit= names, at the times that its On… lines give.",
		Remedy: "install the unit that it starts, and give it a time, such as OnCalendar=daily",
		Wrong:  unit("tide.timer", "[Unit]\nDescription=Tide tables each day\n[Timer]\nOnCalendar=daily\n[Install]\nWantedBy=timers.target"),
		Right:  alsoUnit(unit("tide.timer", "[Unit]\nDescription=Tide tables each day\n[Timer]\nOnCalendar=daily\n[Install]\nWantedBy=timers.target"), "tide.service", goodUnit),
		pkg: func(c *packageCheck) {
			c.eachUnit(func(p string, k scan.Keys) {
				starts, ok := k.Get("Timer", "Unit")
				if !ok {
					starts = strings.TrimSuffix(path.Base(p), ".timer") + ".service"
				}
				if !c.there(path.Join(path.Dir(p), starts)) && !c.meets(need.File, path.Join(path.Dir(p), starts)) {
					c.path(p, "it starts %s, which is not there", starts)
				}
				if !slices.ContainsFunc(k.Lines, func(l scan.KeyLine) bool { return l.Section == "Timer" && strings.HasPrefix(l.Key, "On") }) {
					c.path(p, "it has no On… line, so it never runs out")
				}
			}, ".timer")
		},
	}
}

// ell754 reports: socket without its service.
func ell754() Rule {
	return Rule{
		Code: "ELL754", Severity: Error, Title: "socket without its service",
		Why:    "The first connection should start the service of the same name, but there is none, so the connection is refused.",
		Remedy: "install the service, or name it with Service=",
		Wrong:  unit("tide.socket", "[Unit]\nDescription=Tide tables\n[Socket]\nListenStream=7777\n[Install]\nWantedBy=sockets.target"),
		Right:  alsoUnit(unit("tide.socket", "[Unit]\nDescription=Tide tables\n[Socket]\nListenStream=7777\n[Install]\nWantedBy=sockets.target"), "tide.service", goodUnit),
		pkg: func(c *packageCheck) {
			c.eachUnit(func(p string, k scan.Keys) {
				starts, ok := k.Get("Socket", "Service")
				base := strings.TrimSuffix(path.Base(p), ".socket")
				if !ok {
					starts = base + ".service"
				}
				dir := path.Dir(p)
				if !c.there(path.Join(dir, starts)) && !c.there(path.Join(dir, base+"@.service")) && !c.meets(need.File, path.Join(dir, starts)) {
					c.path(p, "it starts %s, which is not there", starts)
				}
			}, ".socket")
		},
	}
}

// ell755 reports: path under /var/run.
func ell755() Rule {
	return Rule{
		Code: "ELL755", Severity: Hint, Title: "path under /var/run",
		Why:    "/var/run is a link to /run for old programs; the service manager warns about it at each start.",
		Remedy: "write /run instead",
		Wrong:  unit("tide.service", strings.Replace(goodUnit, "[Service]", "[Service]\nPIDFile=/var/run/tide.pid", 1)),
		Right:  unit("tide.service", strings.Replace(goodUnit, "[Service]", "[Service]\nPIDFile=/run/tide.pid", 1)),
		pkg: func(c *packageCheck) {
			for _, p := range sortedKeys(c.units) {
				for _, l := range c.units[p].Lines {
					if strings.Contains(l.Value, "/var/run/") {
						c.path(p, "line %d: %s has /var/run in it", l.Line, l.Key)
					}
				}
			}
		},
	}
}

// ell756 reports: unit that cannot be enabled.
func ell756() Rule {
	return Rule{
		Code: "ELL756", Severity: Hint, Title: "unit that cannot be enabled",
		Why:    "`enable` has nothing to do: no [Install] section, and no other unit of the package that starts it.",
		Remedy: "add [Install] with WantedBy=multi-user.target, or the socket or timer that starts it",
		Wrong:  unit("tide.service", "[Unit]\nDescription=Tide tables\n[Service]\nExecStart=/usr/libexec/tide/serve"),
		Right:  unit("tide.service", goodUnit),
		pkg: func(c *packageCheck) {
			c.eachUnit(func(p string, k scan.Keys) {
				base := path.Base(p)
				name := strings.TrimSuffix(base, path.Ext(base))
				if slices.Contains(k.Sections, "Install") || strings.Contains(base, "@") || bus(p) {
					return
				}
				for _, other := range sortedKeys(c.units) {
					if other == p {
						continue
					}
					o := strings.TrimSuffix(path.Base(other), path.Ext(other))
					if o == name || bus(other) && strings.Contains(joined(c.units[other]), base) || strings.Contains(joined(c.units[other]), base) {
						return
					}
				}
				// Rules of udev and links in directories NAME.wants do the same.
				if c.under("/usr/lib/udev/rules.d") || slices.ContainsFunc(c.Layout, func(e ell.Entry) bool { return e.Type == staging.Symlink && path.Base(e.Path) == base }) {
					return
				}
				c.path(p, "it has no [Install] section, and nothing in the package starts it")
			}, ".service")
		},
	}
}

// ell757 reports: unit without a description.
func ell757() Rule {
	return Rule{
		Code: "ELL757", Severity: Hint, Title: "unit without a description",
		Why:    "Logs and lists show its file name instead.",
		Remedy: "add to [Unit]: Description=…",
		Wrong:  unit("tide.service", strings.Replace(goodUnit, "[Unit]\nDescription=Tide tables\n", "[Unit]\n", 1)),
		Right:  unit("tide.service", goodUnit),
		pkg: func(c *packageCheck) {
			c.eachUnit(func(p string, k scan.Keys) {
				if v, _ := k.Get("Unit", "Description"); v == "" {
					c.path(p, "it does not say what it is")
				}
			})
		},
	}
}

// ell760 reports: invalid tmpfiles.d or sysusers.d line.
func ell760() Rule {
	return Rule{
		Code: "ELL760", Severity: Error, Title: "invalid tmpfiles.d or sysusers.d line",
		Why:    "The line is ignored at each start: the directory or account is not created, and the service fails.",
		Remedy: "see tmpfiles.d(5) and sysusers.d(5) for the format",
		Wrong:  stageFile("install -d \"$DESTDIR/usr/lib/tmpfiles.d\"\necho '/run/tide d 0755 root root' > \"$DESTDIR/usr/lib/tmpfiles.d/tide.conf\""),
		Right:  stageFile("install -d \"$DESTDIR/usr/lib/tmpfiles.d\"\necho 'd /run/tide 0755 root root' > \"$DESTDIR/usr/lib/tmpfiles.d/tide.conf\""),
		file: func(c *fileCheck) {
			tmp, sys := strings.HasPrefix(c.Path, "/usr/lib/tmpfiles.d/"), strings.HasPrefix(c.Path, "/usr/lib/sysusers.d/")
			if !tmp && !sys {
				return
			}
			text, _ := c.text()
			for i, line := range strings.Split(text, "\n") {
				words := strings.Fields(line)
				if len(words) == 0 || strings.HasPrefix(words[0], "#") {
					continue
				}
				switch {
				case tmp && (!tmpType.MatchString(words[0]) || len(words) < 2 || !strings.HasPrefix(strings.Trim(words[1], `"'`), "/") && !strings.HasPrefix(words[1], "%")):
					c.say("line %d: %s", i+1, strings.TrimSpace(line))
				case sys && (!slices.Contains([]string{"u", "u!", "g", "m", "r"}, words[0]) || len(words) < 2):
					c.say("line %d: %s", i+1, strings.TrimSpace(line))
				}
			}
		},
	}
}

// ell761 reports: undeclared sysusers.d account.
func ell761() Rule {
	return Rule{
		Code: "ELL761", Severity: Hint, Title: "undeclared sysusers.d account",
		Why:    "They are created some time after the installation. Accounts that the package declares exist before its files, which may belong to them.",
		Remedy: "declare them: [package.NAME.account.NAME]",
		Wrong:  stageFile("install -d \"$DESTDIR/usr/lib/sysusers.d\"\necho 'u tide - \"Tide tables\" /var/lib/tide' > \"$DESTDIR/usr/lib/sysusers.d/tide.conf\""),
		Right: stageFile("install -d \"$DESTDIR/usr/lib/sysusers.d\"\necho 'u tide - \"Tide tables\" /var/lib/tide' > \"$DESTDIR/usr/lib/sysusers.d/tide.conf\"") +
			"\n[package.tide.layout]\n\"/usr/share/licenses/tide/COPYING\" = { from = \"COPYING\" }\n\"/**\" = {}\n[package.tide.account.tide]\nhome = \"/var/lib/tide\"",
		file: func(c *fileCheck) {
			if !strings.HasPrefix(c.Path, "/usr/lib/sysusers.d/") {
				return
			}
			text, _ := c.text()
			for _, line := range strings.Split(text, "\n") {
				words := strings.Fields(line)
				if len(words) > 1 && strings.HasPrefix(words[0], "u") && !systemAccounts[words[1]] {
					if _, ok := c.pkg.Facts.Accounts[words[1]]; !ok {
						c.say("it makes the account %s", words[1])
					}
				}
			}
		},
	}
}

var tmpType = pattern.New(`^[fwdDeqQpLcbCxXrRzZtThHaA][-+!=~^$?]*$`)

// joined is all that a unit says, to look for a name in.
func joined(k scan.Keys) string {
	var b strings.Builder
	for _, l := range k.Lines {
		b.WriteString(l.Value + "\n")
	}
	return b.String()
}

// sysusersDir is where files say which accounts are made at the next start.
const sysusersDir = "/usr/lib/sysusers.d/"

// accountsIn are the accounts and groups that a file of sysusers.d(5) makes.
func accountsIn(text string) []string {
	var out []string
	for line := range strings.SplitSeq(text, "\n") {
		if words := strings.Fields(line); len(words) > 1 && (strings.HasPrefix(words[0], "u") || words[0] == "g") {
			out = append(out, words[1])
		}
	}
	return out
}
