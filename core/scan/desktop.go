package scan

import (
	"path"
	"regexp"
	"strings"
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

var servicePath = regexp.MustCompile(`^/(?:usr/)?lib/systemd/(?:system|user)/[^/]+\.service$`)

// sections reads a file of [sections] with keys and values, as desktop entries
// and units are; a key may stand there several times.
func sections(text string, visit func(section, key, value string)) {
	section := ""
	for line := range strings.SplitSeq(strings.ReplaceAll(text, "\\\n", " "), "\n") {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#' || line[0] == ';':
		case line[0] == '[' && strings.HasSuffix(line, "]"):
			section = line[1 : len(line)-1]
		default:
			if key, value, ok := strings.Cut(line, "="); ok {
				visit(section, strings.TrimSpace(key), strings.TrimSpace(value))
			}
		}
	}
}

func readDesktop(text string) *Desktop {
	d := &Desktop{}
	sections(text, func(section, key, value string) {
		switch {
		case section != "Desktop Entry":
		case key == "Name":
			d.Name = value
		case key == "Exec":
			d.Exec = started(value)
		}
	})
	return d
}

func readService(text string) *Service {
	s := &Service{}
	sections(text, func(section, key, value string) {
		switch {
		case section != "Service":
		case key == "User":
			s.User = value
		case key == "Group":
			s.Group = value
		case strings.HasPrefix(key, "Exec"):
			// Signs before a command say how it is run.
			if command := started(strings.TrimLeft(value, "-@:+!|")); command != "" {
				s.Exec = append(s.Exec, command)
			}
		}
	})
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
	manual   = regexp.MustCompile(`^/usr/(?:share/)?man/(?:([a-z][A-Za-z_@.]*)/)?man[^/]+/(.+)\.([0-9][0-9a-zA-Z]*)(?:\.(?:gz|xz|bz2|zst))?$`)
	language = regexp.MustCompile(`^/usr/share/locale(?:-langpack)?/([A-Za-z][A-Za-z0-9_@.-]*)/LC_MESSAGES/.+\.mo$`)
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
