// Package need reads what packages and builds need, and what packages
// provide, and reports whether the one meets the other.
//
// A need is written
//
//	need        = alternative *( "|" alternative )
//	alternative = [ kind "/" ] name [ constraint *( "," constraint ) ]
//	constraint  = ( "=" | "!=" | "<" | "<=" | ">" | ">=" ) version [ "-" release ]
//
// as in "pkgconfig/zlib >= 1.2, < 2" or "command/awk | command/gawk". The
// kind is package where none is written. A provide is written "kind/name" or
// "kind/name = version".
package need

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
)

// Kinds of need and provide.
const (
	Package   = "package"
	Command   = "command"
	PkgConfig = "pkgconfig"
	Soname    = "soname"
	Header    = "header"
	File      = "file"
	Python    = "python"
	Perl      = "perl"
)

// Kinds lists all kinds.
var Kinds = []string{Package, Command, PkgConfig, Soname, Header, File, Python, Perl}

// Constraint is a bound on a version.
type Constraint struct {
	Op   string
	Full version.Full
}

// Allows reports whether a version is within the bound.
func (c Constraint) Allows(v version.Full) bool {
	d := v.Compare(c.Full)
	switch c.Op {
	case "=":
		return d == 0
	case "!=":
		return d != 0
	case "<":
		return d < 0
	case "<=":
		return d <= 0
	case ">":
		return d > 0
	}
	return d >= 0
}

// Alternative is one thing that would meet a need.
type Alternative struct {
	Kind, Name  string
	Constraints []Constraint
}

// Need is met when one of its alternatives is.
type Need struct{ Alternatives []Alternative }

// Of returns the need that any of the alternatives meets.
func Of(alternatives ...Alternative) Need { return Need{Alternatives: alternatives} }

// Contains reports whether a list has the same need, written the same way.
func Contains(list []Need, n Need) bool {
	return slices.ContainsFunc(list, func(other Need) bool { return other.String() == n.String() })
}

// Provide is what a package offers. Version may be empty.
type Provide struct{ Kind, Name, Version string }

func (p Provide) String() string {
	s := written(p.Kind, p.Name)
	if p.Version != "" {
		s += " = " + p.Version
	}
	return s
}

// written joins kind and name; a file's name begins with the slash itself.
func written(kind, name string) string {
	if kind == File {
		return kind + "/" + strings.TrimPrefix(name, "/")
	}
	return kind + "/" + name
}

func (a Alternative) String() string {
	s := a.Name
	if a.Kind != Package {
		s = written(a.Kind, a.Name)
	}
	for i, c := range a.Constraints {
		if i > 0 {
			s += ","
		}
		s += " " + c.Op + " " + c.Full.String()
	}
	return s
}

func (n Need) String() string {
	parts := make([]string, len(n.Alternatives))
	for i, a := range n.Alternatives {
		parts[i] = a.String()
	}
	return strings.Join(parts, " | ")
}

// MarshalText writes a need as String does.
func (n Need) MarshalText() ([]byte, error) { return []byte(n.String()), nil }

// UnmarshalText is Parse. The error wraps a *fact.SyntaxError.
func (n *Need) UnmarshalText(text []byte) (err error) {
	if *n, err = Parse(string(text)); err != nil {
		return fmt.Errorf("%q is not a dependency: %w", text, err)
	}
	return nil
}

// Must is Parse for text that is known to be valid; it panics if it is not.
func Must(s string) Need {
	n, err := Parse(s)
	if err != nil {
		panic(fmt.Sprintf("need: %q: %v", s, err))
	}
	return n
}

// MarshalText writes a provide as String does.
func (p Provide) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText is ParseProvide. The error wraps a *fact.SyntaxError.
func (p *Provide) UnmarshalText(text []byte) (err error) {
	if *p, err = ParseProvide(string(text)); err != nil {
		return fmt.Errorf("%q cannot be provided: %w", text, err)
	}
	return nil
}

// MustProvide is ParseProvide for text that is known to be valid; it panics if it
// is not.
func MustProvide(s string) Provide {
	p, err := ParseProvide(s)
	if err != nil {
		panic(fmt.Sprintf("need: %q: %v", s, err))
	}
	return p
}

// MetBy reports whether a provide meets the need. A provide without a version
// meets only needs without a constraint.
func (n Need) MetBy(p Provide) bool {
	return slices.ContainsFunc(n.Alternatives, func(a Alternative) bool { return a.MetBy(p) })
}

// MetBy reports whether a provide is this alternative.
func (a Alternative) MetBy(p Provide) bool {
	if a.Kind != p.Kind || a.Name != p.Name {
		return false
	}
	if len(a.Constraints) == 0 {
		return true
	}
	v, err := version.ParseFull(p.Version)
	if err != nil {
		return false
	}
	return !slices.ContainsFunc(a.Constraints, func(c Constraint) bool { return !c.Allows(v) })
}

// operators are those of constraints; the longer ones come first.
var operators = []string{"!=", "<=", ">=", "=", "<", ">"}

// cutOperator splits a constraint into its operator and its version.
func cutOperator(s string) (operator, full string, ok bool) {
	for _, operator := range operators {
		if rest, ok := strings.CutPrefix(s, operator); ok {
			full := strings.TrimSpace(rest)
			return operator, full, !strings.ContainsFunc(full, unicode.IsSpace)
		}
	}
	return "", "", false
}

// PackageNameShape describes a package's name in a message.
const PackageNameShape = "small letters, digits and + - . _, beginning with a letter or a digit"

// ValidPackageName reports whether s can be a package's name.
func ValidPackageName(s string) bool {
	if s == "" || len(s) > 128 {
		return false
	}
	for i := range len(s) {
		c := s[i]
		if alphanumeric := c >= '0' && c <= '9' || c >= 'a' && c <= 'z'; !alphanumeric && (i == 0 || strings.IndexByte("+._-", c) < 0) {
			return false
		}
	}
	return true
}

// Parse reads a need. The error is a *fact.SyntaxError.
func Parse(s string) (Need, error) {
	var n Need
	offset := 0
	for part := range strings.SplitSeq(s, "|") {
		a, err := parseAlternative(part, offset)
		if err != nil {
			return Need{}, err
		}
		n.Alternatives = append(n.Alternatives, a)
		offset += len(part) + 1
	}
	return n, nil
}

func parseAlternative(s string, offset int) (Alternative, error) {
	var a Alternative
	offset += len(s) - len(strings.TrimLeft(s, " \t"))
	s = strings.TrimSpace(s)
	fail := func(at, length int, message, remedy string) (Alternative, error) {
		return a, &fact.SyntaxError{Offset: offset + at, Length: max(length, 1), Message: message, Remedy: remedy}
	}
	nameEnd := strings.IndexAny(s, " \t<>=!,")
	if nameEnd < 0 {
		nameEnd = len(s)
	}
	a.Kind, a.Name = Package, s[:nameEnd]
	if kind, rest, ok := strings.Cut(a.Name, "/"); ok {
		if !slices.Contains(Kinds, kind) {
			remedy := "the kinds are " + strings.Join(Kinds, ", ")
			if strings.HasPrefix(a.Name, "/") {
				remedy = "a file is needed as file" + a.Name
			} else if near := fact.Nearest(kind, Kinds); near != "" {
				remedy = fmt.Sprintf("did you mean %s/%s?", near, rest)
			}
			return fail(0, len(kind), fmt.Sprintf("unknown kind of dependency %q", kind), remedy)
		}
		a.Kind, a.Name = kind, rest
	}
	switch {
	case a.Name == "" || strings.ContainsFunc(a.Name, unicode.IsSpace):
		return fail(0, len(s), "a dependency without a name", `for example "command/make" or "pkgconfig/zlib >= 1.2"`)
	case a.Kind == Package && !ValidPackageName(a.Name):
		return fail(0, nameEnd, fmt.Sprintf("%q is not a package's name", a.Name), PackageNameShape)
	case a.Kind == File && !strings.HasPrefix(a.Name, "/"):
		a.Name = "/" + a.Name
	}
	rest := strings.TrimSpace(s[nameEnd:])
	if rest == "" {
		return a, nil
	}
	at := nameEnd
	for part := range strings.SplitSeq(s[nameEnd:], ",") {
		text := strings.TrimSpace(part)
		operator, bound, ok := cutOperator(text)
		if !ok {
			return fail(at, len(part), fmt.Sprintf("%q is not a bound on a version", text), `write it like ">= 1.2" or "= 2.0-1", several with commas between`)
		}
		full, err := version.ParseFull(bound)
		if err != nil {
			return fail(at, len(part), err.Error(), "")
		}
		a.Constraints = append(a.Constraints, Constraint{operator, full})
		at += len(part) + 1
	}
	return a, nil
}

// ParseProvide reads a provide: a need of one alternative with at most one
// "=" bound.
func ParseProvide(s string) (Provide, error) {
	n, err := Parse(s)
	if err != nil {
		return Provide{}, err
	}
	if len(n.Alternatives) != 1 {
		return Provide{}, &fact.SyntaxError{Length: len(s), Message: "a provide is one thing, without |"}
	}
	a := n.Alternatives[0]
	p := Provide{Kind: a.Kind, Name: a.Name}
	switch {
	case len(a.Constraints) == 0:
	case len(a.Constraints) == 1 && a.Constraints[0].Op == "=":
		p.Version = a.Constraints[0].Full.String()
	default:
		return p, &fact.SyntaxError{Length: len(s), Message: `a provide has one version, written "= 1.2"`}
	}
	return p, nil
}
