package scan

import (
	"slices"
	"strings"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/pattern"
)

// PkgConfig is a pkg-config module.
type PkgConfig struct {
	Name     string // of the module: the file's name
	Version  string // as the file has it
	Requires []need.Alternative
}

var (
	variable    = pattern.New(`^([A-Za-z0-9_.]+)\s*=\s*(.*)$`)
	field       = pattern.New(`^([A-Za-z][A-Za-z0-9_.]*)\s*:\s*(.*)$`)
	reference   = pattern.New(`\$\{([^}]*)\}`)
	requirement = pattern.New(`([^\s,<>=!]+)(?:\s*(<=|>=|!=|=|<|>)\s*([^\s,]+))?`)
)

// maxExpansion bounds variables that grow by naming one another.
const maxExpansion = 1 << 16

// Module is what the file of a pkg-config module says: variables, and fields
// by their names in small letters, both with what they refer to filled in.
type Module struct {
	Variables, Fields map[string]string
	Undefined         []string // variables that are used and nowhere set before
}

// ReadModule reads the file of a pkg-config module.
func ReadModule(text string) Module {
	m := Module{Variables: map[string]string{"pcfiledir": "/usr/lib/pkgconfig", "pc_sysrootdir": "/", "pc_top_builddir": ""}, Fields: map[string]string{}}
	expand := func(s string) string {
		out := reference.ReplaceAllStringFunc(s, func(ref string) string {
			name := ref[2 : len(ref)-1]
			value, ok := m.Variables[name]
			if !ok && !slices.Contains(m.Undefined, name) {
				m.Undefined = append(m.Undefined, name)
			}
			return value
		})
		return out[:min(len(out), maxExpansion)]
	}
	for line := range strings.SplitSeq(strings.ReplaceAll(text, "\\\n", " "), "\n") {
		line, _, _ = strings.Cut(line, "#")
		line = strings.TrimSpace(line)
		if v := variable.FindStringSubmatch(line); v != nil {
			m.Variables[v[1]] = expand(v[2])
		} else if f := field.FindStringSubmatch(line); f != nil {
			m.Fields[strings.ToLower(f[1])] = strings.TrimSpace(expand(f[2]))
		}
	}
	return m
}

// readPkgConfig reads what a module says of itself and of what it needs.
func readPkgConfig(name, text string) *PkgConfig {
	m := ReadModule(text)
	p := &PkgConfig{Name: name, Version: m.Fields["version"]}
	p.require(m.Fields["requires"])
	p.require(m.Fields["requires.private"])
	return p
}

func (p *PkgConfig) require(list string) {
	for _, m := range requirement.FindAllStringSubmatch(list, -1) {
		text := need.PkgConfig + "/" + m[1]
		if m[2] != "" && version.Valid(m[3]) {
			text += " " + m[2] + " " + m[3]
		}
		if n, err := need.Parse(text); err == nil {
			p.Requires = append(p.Requires, n.Alternatives[0])
		}
	}
}
