package lint

import (
	"fmt"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe/document"
)

// Levels of a profile.
const (
	// Lenient is for those who begin: hints are left out, and warnings are
	// hints.
	Lenient = "lenient"
	// Normal takes every rule unchanged.
	Normal = "normal"
	// Strict takes warnings for errors and hints for warnings.
	Strict = "strict"
)

// Levels lists them, from the one that says least.
var Levels = []string{Lenient, Normal, Strict}

// Never is the threshold that refuses nothing.
const Never = "never"

// Profile is the table [lint] of a workspace's settings: what a team wants to
// hear, and how loud.
type Profile struct {
	Level      string                   `toml:"level" shape:"\"lenient\", \"normal\" or \"strict\""`
	Off        []string                 `toml:"off" shape:"codes of rules"`
	Severities map[string]fact.Severity `toml:"severity" shape:"codes with severities"`
	Refuse     string                   `toml:"refuse" shape:"a severity, or \"never\""`
}

// has reports whether a rule is on.
func (p Profile) has(code string) bool {
	return !slices.ContainsFunc(p.Off, func(off string) bool { return strings.EqualFold(off, code) })
}

// severity is how bad a finding of a rule is under the profile; empty if it
// is not told.
func (p Profile) severity(code string, s fact.Severity) fact.Severity {
	if !p.has(code) {
		return ""
	}
	for other, own := range p.Severities {
		if strings.EqualFold(other, code) {
			return own
		}
	}
	switch {
	case p.Level == Lenient && s == Hint:
		return ""
	case p.Level == Lenient && s == Warning:
		return Hint
	case p.Level == Strict && s != Error:
		return fact.Severities[s.Rank()-1]
	}
	return s
}

// Refuses is the severity from which on a package is not published; ok is
// false where none keeps it back.
func (p Profile) Refuses() (s fact.Severity, ok bool) {
	switch p.Refuse {
	case "":
		return Error, true
	case Never:
		return "", false
	}
	return fact.Severity(p.Refuse), true
}

// Check records what is wrong with the table, which doc has under key.
func (p Profile) Check(doc *document.Document, key string) {
	known := func(code string, at document.Span) {
		if _, ok := Find(code); ok {
			return
		}
		remedy := "see the list of rules"
		if near := fact.Nearest(strings.ToUpper(code), codes()); near != "" {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		doc.Add(at, fmt.Sprintf("there is no rule %q", code), remedy)
	}
	for i, code := range p.Off {
		known(code, doc.At(key, "off", i))
	}
	for code, s := range p.Severities {
		known(code, doc.Find(key, "severity", code).Key)
		if s.Rank() < 0 {
			doc.Add(doc.At(key, "severity", code), fmt.Sprintf("%q is not a severity", s), "error, warning or hint; `off` lists the rules that are not wanted at all")
		}
	}
	if p.Level != "" && !slices.Contains(Levels, p.Level) {
		doc.Add(doc.At(key, "level"), fmt.Sprintf("%q is not a level", p.Level), "they are "+strings.Join(Levels, ", "))
	}
	if s, ok := p.Refuses(); ok && s.Rank() < 0 {
		doc.Add(doc.At(key, "refuse"), fmt.Sprintf("%q is not a severity", p.Refuse), "error, warning or hint, from which on nothing is published; or "+Never)
	}
}

// codes lists the codes of all rules.
func codes() []string {
	var out []string
	for _, r := range catalogue() {
		out = append(out, r.Code)
	}
	return out
}
