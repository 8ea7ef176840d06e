package app

import (
	"fmt"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/needs/solve"
)

// SymbolsError reports programs that need symbol versions that the root's system lacks.
type SymbolsError struct{ Missing []MissingSymbols }

// MissingSymbols are those of one program.
type MissingSymbols struct {
	Package, Path, Library string
	Symbols                []string
}

func (e *SymbolsError) Error() string {
	var lines []string
	for _, m := range e.Missing {
		lines = append(lines, fmt.Sprintf("%s of %s needs %s of %s, which the root's system does not have", m.Path, m.Package, strings.Join(m.Symbols, ", "), m.Library))
	}
	return strings.Join(lines, "\n")
}

// Status is that of findings.
func (e *SymbolsError) Status() fact.Status { return fact.StatusFindings }

// symbols finds what the newest of some packages need of libraries that the system has
// in an older version.
func (u *supply) symbols(names map[string]bool) error {
	e := &SymbolsError{}
	for _, p := range u.all {
		o, ok := u.from[p]
		if !ok || !names[p.Name] || u.superseded(p) {
			continue
		}
		needs := o.record.Needs
		if o.pkg != nil {
			needs = o.pkg.Facts.Needs
		}
		for _, n := range needs {
			if found, ok := u.look(solve.Need{Need: n.Need, Symbols: n.Symbols}); ok && len(found.Lacks) > 0 {
				e.Missing = append(e.Missing, MissingSymbols{p.Name + "@" + p.Full.String(), n.Path, found.Provide.Name, found.Lacks})
			}
		}
	}
	if len(e.Missing) == 0 {
		return nil
	}
	return e
}

func (u *supply) superseded(p *solve.Package) bool {
	return slices.ContainsFunc(u.all, func(other *solve.Package) bool {
		return other.Name == p.Name && !other.Installed && other.Full.Compare(p.Full) > 0
	})
}
