package scan

import (
	"regexp"
	"strings"

	"ellwand.example/core/need"
	"ellwand.example/core/version"
)

// PkgConfig is a pkg-config module.
type PkgConfig struct {
	Name     string // of the module: the file's name
	Version  string // as the file has it
	Requires []need.Alternative
}

var (
	variable    = regexp.MustCompile(`^([A-Za-z0-9_.]+)\s*=\s*(.*)$`)
	field       = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9_.]*)\s*:\s*(.*)$`)
	reference   = regexp.MustCompile(`\$\{([^}]*)\}`)
	requirement = regexp.MustCompile(`([^\s,<>=!]+)(?:\s*(<=|>=|!=|=|<|>)\s*([^\s,]+))?`)
)

// maxExpansion bounds variables that grow by naming one another.
const maxExpansion = 1 << 16

// readPkgConfig reads a module's file: variables, and fields that use them.
func readPkgConfig(name, text string) *PkgConfig {
	p := &PkgConfig{Name: name}
	vars := map[string]string{}
	expand := func(s string) string {
		out := reference.ReplaceAllStringFunc(s, func(m string) string { return vars[m[2:len(m)-1]] })
		return out[:min(len(out), maxExpansion)]
	}
	for line := range strings.SplitSeq(strings.ReplaceAll(text, "\\\n", " "), "\n") {
		line, _, _ = strings.Cut(line, "#")
		line = strings.TrimSpace(line)
		if m := variable.FindStringSubmatch(line); m != nil {
			vars[m[1]] = expand(m[2])
		} else if m := field.FindStringSubmatch(line); m != nil {
			switch strings.ToLower(m[1]) {
			case "version":
				p.Version = strings.TrimSpace(expand(m[2]))
			case "requires", "requires.private":
				p.require(expand(m[2]))
			}
		}
	}
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
