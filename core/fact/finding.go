package fact

import (
	"cmp"
	"slices"
	"strings"
)

// Severity is how bad a finding is.
type Severity string

// The severities. Unless configured otherwise, only errors prevent a publish.
const (
	SeverityError   Severity = "error"   // users will have problems
	SeverityWarning Severity = "warning" // users, or the next maintainer, may have problems
	SeverityHint    Severity = "hint"    // it could be better
)

// Severities lists them, the worst first.
var Severities = []Severity{SeverityError, SeverityWarning, SeverityHint}

// Rank is the place of a severity among Severities, 0 for the worst; -1 for
// anything else.
func (s Severity) Rank() int { return slices.Index(Severities, s) }

// CodePrefix begins the code of every finding, as in ELL201.
const CodePrefix = "ELL"

// Area is what findings are about: the hundreds digit of their code.
type Area int

// The areas.
const (
	AreaNone        Area = iota
	AreaRecipe           // recipes
	AreaLayout           // which path is where, and as what
	AreaELF              // programs and libraries
	AreaScripts          // scripts in packages
	AreaPackage          // metadata of packages, and packages of one recipe together
	AreaRepository       // repositories and their channels
	AreaIntegration      // menus, services, man pages, modules
)

// AreaOf returns the area of a code; AreaNone if it is not one.
func AreaOf(code string) Area {
	digits, ok := strings.CutPrefix(code, CodePrefix)
	if !ok || len(digits) != 3 || digits[0] < '1' || digits[0] > '0'+byte(AreaIntegration) {
		return AreaNone
	}
	return Area(digits[0] - '0')
}

// Finding is one thing that lint, the gate of a repository or an audit reports.
type Finding struct {
	Code     string   `json:"code"`
	Severity Severity `json:"severity"`
	Recipe   string   `json:"recipe,omitempty"`
	Subject  string   `json:"subject"`          // the name of a recipe, the identity of a package or the place of a repository
	Target   string   `json:"target,omitempty"` // of the channel
	File     string   `json:"file,omitempty"`   // the recipe, where the finding can be fixed
	Line     int      `json:"line,omitempty"`   // in File, from 1
	Path     string   `json:"path,omitempty"`   // in the package
	What     string   `json:"what,omitempty"`   // the dependency, path or version that a gate's finding is about
	Other    string   `json:"other,omitempty"`  // the identity of another package that it is about
	Message  string   `json:"message"`
	Remedy   string   `json:"remedy"`
	Paste    string   `json:"paste,omitempty"`  // lines to paste into the recipe
	Waived   string   `json:"waived,omitempty"` // the reason, if it was accepted

	Action Action `json:"action,omitzero"` // that helps; empty if there is none
	Fix    Fix    `json:"-"`               // nil if there is no automatic one
}

// Fix is an automatic fix. What it does is known to the package that reported
// the finding.
type Fix interface{ AutomaticFix() }

// Fixable reports whether the finding can be fixed automatically.
func (f Finding) Fixable() bool { return f.Fix != nil && f.Waived == "" }

// SubjectName is the name of the recipe or package that the finding is about.
func (f Finding) SubjectName() string {
	name, _, _ := strings.Cut(f.Subject, "@")
	return name
}

// Reaches reports whether the finding was not waived and is as bad as s, or
// worse.
func (f Finding) Reaches(s Severity) bool { return f.Waived == "" && f.Severity.Rank() <= s.Rank() }

// CompareSeverity orders findings by severity, the worst first.
func CompareSeverity(a, b Finding) int { return cmp.Compare(a.Severity.Rank(), b.Severity.Rank()) }

// SortFindings sorts by severity, the worst first, then by code and place.
func SortFindings(findings []Finding) {
	slices.SortStableFunc(findings, func(a, b Finding) int {
		return cmp.Or(CompareSeverity(a, b), cmp.Compare(a.Code, b.Code), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Path, b.Path))
	})
}

// CountFindings counts the findings of each severity, and the waived ones
// separately.
func CountFindings(findings []Finding) (bySeverity map[Severity]int, waived int) {
	bySeverity = map[Severity]int{}
	for _, f := range findings {
		if f.Waived != "" {
			waived++
		} else {
			bySeverity[f.Severity]++
		}
	}
	return bySeverity, waived
}
