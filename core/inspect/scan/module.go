package scan

import (
	"path"
	"regexp"
	"strings"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/pattern"
)

// Python is a Python distribution (PyPA core metadata, METADATA in a
// *.dist-info directory).
type Python struct {
	Name     string // as imports and needs have it: see PythonName
	Version  string
	Requires []need.Alternative // those that hold everywhere
}

// sitePackages is where Python looks for modules that were added to it.
var sitePackages = pattern.New(`^/usr/lib(?:64)?/python3(?:\.[0-9]+)?/(?:site|dist)-packages/(.+)$`)

// perlDirs are the directories of the Filesystem Hierarchy and of Perl in which it
// looks for modules; what stands before the module's own path.
var perlDirs = pattern.New(`^/usr/(?:share/perl5?|lib(?:/[^/]*-linux-[^/]*)?/perl5?)(?:/vendor_perl|/site_perl)?(?:/[0-9][0-9.]*)?(?:/[^/]*-linux-[^/]*)?/(.+)\.pm$`)

// module tells which module a path makes: its kind of need and its name.
func module(p string) (kind, name string) {
	if m := sitePackages.FindStringSubmatch(p); m != nil {
		first, rest, below := strings.Cut(m[1], "/")
		base, _, _ := strings.Cut(first, ".") // also of x.cpython-311-x86_64-linux-gnu.so
		switch ext := path.Ext(first); {
		case !below && (ext == ".py" || ext == ".so"), below && ext == "" && path.Ext(rest) == ".py" && !strings.Contains(rest, "/"):
			if base != "" && !strings.ContainsAny(base, "-") {
				return need.Python, base
			}
		}
		return "", ""
	}
	if m := perlDirs.FindStringSubmatch(p); m != nil {
		return need.Perl, strings.ReplaceAll(m[1], "/", "::")
	}
	return "", ""
}

// perlVersion is the usual way of stating a module's version.
var perlVersion = pattern.New(`(?m)^\s*(?:our\s+)?\$VERSION\s*=\s*['"]?v?([0-9][0-9._]*)['"]?\s*;`)

// PythonName makes a distribution's name what PEP 503 and 625 compare.
func PythonName(s string) string {
	return strings.ToLower(regexp.MustCompile(`[-_.]+`).ReplaceAllString(s, "_"))
}

// PerlVersion is the version that a Perl module says it has, where it can be
// compared with others.
func PerlVersion(text string) string {
	if m := perlVersion.FindStringSubmatch(text); m != nil {
		return Comparable(strings.ReplaceAll(m[1], "_", ""))
	}
	return ""
}

// PythonVersion is the version that a METADATA file says, where it can be
// compared with others.
func PythonVersion(text string) string {
	if p := readPython(text); p != nil {
		return Comparable(p.Version)
	}
	return ""
}

// pythonRequirement is what PEP 508 allows before a marker: a name, extras,
// and bounds.
var pythonRequirement = pattern.New(`^([A-Za-z0-9][A-Za-z0-9._-]*)\s*(?:\[[^\]]*\])?\s*\(?([^;)]*)\)?\s*(;.*)?$`)

// readPython reads the fields of a METADATA file, which end at an empty line.
func readPython(text string) *Python {
	p := &Python{}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if line == "" {
			break
		}
		field, value, _ := strings.Cut(line, ":")
		value = strings.TrimSpace(value)
		switch strings.ToLower(field) {
		case "name":
			p.Name = PythonName(value)
		case "version":
			p.Version = value
		case "requires-dist":
			// Those under a condition hold for other systems or for extras.
			if m := pythonRequirement.FindStringSubmatch(value); m != nil && m[3] == "" {
				p.require(PythonName(m[1]), m[2])
			}
		}
	}
	if p.Name == "" {
		return nil
	}
	return p
}

var pythonBound = pattern.New(`^(>=|<=|==|!=|<|>)\s*([^\s*]+)$`)

// require adds a need, with those of its bounds that can be said here.
func (p *Python) require(name, bounds string) {
	text := need.Python + "/" + name
	var said []string
	for bound := range strings.SplitSeq(bounds, ",") {
		m := pythonBound.FindStringSubmatch(strings.TrimSpace(bound))
		if m != nil && version.Valid(m[2]) {
			said = append(said, strings.Replace(m[1], "==", "=", 1)+" "+m[2])
		}
	}
	if n, err := need.Parse(strings.TrimSpace(text + " " + strings.Join(said, ", "))); err == nil {
		p.Requires = append(p.Requires, n.Alternatives[0])
	}
}

// Comparable is a version where it can be compared with others, or nothing.
func Comparable(v string) string {
	if version.Valid(v) {
		return v
	}
	return ""
}
