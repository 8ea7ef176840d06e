package scan

import (
	"path"
	"strings"

	"ellwand.example/core/pattern"
)

// Desktop is an entry of a menu (Desktop Entry Specification, freedesktop.org).
type Desktop struct {
	Name string
	Exec string // the command that it starts
}

// Service is a unit of systemd(1) that starts something.
type Service struct {
	Exec        []string // the commands that it starts, in order
	User, Group string
}

var servicePath = pattern.New(`^/(?:usr/)?lib/systemd/(?:system|user)/[^/]+\.service$`)

func readDesktop(text string) *Desktop {
	d := &Desktop{}
	for _, l := range ReadKeys(text).Lines {
		switch {
		case l.Section != "Desktop Entry":
		case l.Key == "Name":
			d.Name = l.Value
		case l.Key == "Exec":
			d.Exec = started(l.Value)
		}
	}
	return d
}

func readService(text string) *Service {
	s := &Service{}
	for _, l := range ReadKeys(text).Lines {
		switch {
		case l.Section != "Service":
		case l.Key == "User":
			s.User = l.Value
		case l.Key == "Group":
			s.Group = l.Value
		case strings.HasPrefix(l.Key, "Exec"):
			// Signs before a command say how it is run.
			if command := started(strings.TrimLeft(l.Value, "-@:+!|")); command != "" {
				s.Exec = append(s.Exec, command)
			}
		}
	}
	return s
}

// started is the command of a line that starts one: its first word, which may
// be quoted. Variables and specifiers stand for what is not known here.
func started(line string) string {
	word := line
	if quoted, ok := strings.CutPrefix(line, `"`); ok {
		word, _, _ = strings.Cut(quoted, `"`)
	} else if fields := strings.Fields(line); len(fields) > 0 {
		word = fields[0]
	}
	if strings.ContainsAny(word, "$%") {
		return ""
	}
	return word
}

var (
	manual   = pattern.New(`^/usr/(?:share/)?man/(?:([a-z][A-Za-z_@.]*)/)?man[^/]+/(.+)\.([0-9][0-9a-zA-Z]*)(?:\.(?:gz|xz|bz2|zst))?$`)
	language = pattern.New(`^/usr/share/locale(?:-langpack)?/([A-Za-z][A-Za-z0-9_@.-]*)/LC_MESSAGES/.+\.mo$`)
)

// Manual is the page that a path holds, as in "tide(1)"; empty for other
// paths and for translations.
func Manual(p string) string {
	if m := manual.FindStringSubmatch(p); m != nil && m[1] == "" {
		return m[2] + "(" + m[3] + ")"
	}
	return ""
}

// Language is the language whose messages (GNU gettext) a path holds; empty
// for other paths.
func Language(p string) string {
	if m := language.FindStringSubmatch(p); m != nil {
		return m[1]
	}
	return ""
}

// commandOf is the name of the command that a path or a bare word is; ok is
// false for paths elsewhere.
func commandOf(word string) (name string, ok bool) {
	dir, base := path.Split(word)
	return base, base != "" && (dir == "" || commandDirs[path.Clean(dir)])
}
