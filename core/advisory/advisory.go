// Package advisory reads advisories in the OSV format (Open Source Vulnerability format 1.6) and
// tells which packages and modules they are about.
package advisory

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/package-url/packageurl-go"
	"golang.org/x/mod/semver"
	"golang.org/x/sys/unix"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/files"
)

// Advisory holds the fields of an OSV document that are used here.
type Advisory struct {
	ID        string     `json:"id"`
	Aliases   []string   `json:"aliases,omitempty"`
	Summary   string     `json:"summary,omitempty"`
	Withdrawn string     `json:"withdrawn,omitempty"` // a time
	Affected  []Affected `json:"affected,omitempty"`
}

// Affected is a package that an advisory is about.
type Affected struct {
	Package struct {
		Ecosystem string `json:"ecosystem"`
		Name      string `json:"name"`
		PURL      string `json:"purl"`
	} `json:"package"`
	Ranges   []Range  `json:"ranges,omitempty"`
	Versions []string `json:"versions,omitempty"`
}

// Range are versions from events on.
type Range struct {
	Type   string  `json:"type"` // SEMVER, ECOSYSTEM or GIT
	Events []Event `json:"events"`
}

// Event begins or ends a range.
type Event struct {
	Introduced   string `json:"introduced,omitempty"`
	Fixed        string `json:"fixed,omitempty"`
	LastAffected string `json:"last_affected,omitempty"`
	Limit        string `json:"limit,omitempty"`
}

// Component is what an advisory may be about.
type Component struct {
	PURL    string `json:"purl"`
	Name    string `json:"name"`
	Version string `json:"version"` // upstream's
}

// Match is a component that an advisory is about.
type Match struct {
	Advisory  string    `json:"advisory"`
	Aliases   []string  `json:"aliases,omitempty"`
	Summary   string    `json:"summary,omitempty"`
	Component Component `json:"component"`
	Fixed     string    `json:"fixed,omitempty"` // the first version that is not affected; empty if there is none
}

// Bounds on what is read.
const (
	maxFile  = 16 << 20
	maxFiles = 1_000_000
	maxZip   = 4 << 30 // bytes of all files in an archive, unpacked
)

// Set are advisories by what they are about.
type Set struct {
	byPackage map[string][]about
	Count     int // advisories
}

type about struct {
	advisory *Advisory
	affected *Affected
}

// ecosystems are the names of package URL types in OSV.
var ecosystems = map[string]string{"npm": "npm", "golang": "Go", "cargo": "crates.io", "pypi": "PyPI", "maven": "Maven", "gem": "RubyGems", "cpan": "CPAN"}

// key stands for a package whose versions are compared. Go and Python's own rules make names
// of different case the same.
func key(kind, namespace, name string) string {
	full := name
	if namespace != "" {
		separator := "/"
		if kind == packageurl.TypeMaven {
			separator = ":"
		}
		full = namespace + separator + name
	}
	if kind == packageurl.TypeGolang || kind == packageurl.TypePyPi {
		full = strings.ToLower(full)
	}
	return kind + " " + full
}

func keyOf(purl string) string {
	p, err := packageurl.FromString(purl)
	if err != nil {
		return ""
	}
	return key(p.Type, p.Namespace, p.Name)
}

// key is that of the package; empty if it is of an ecosystem that nothing here is from.
func (a Affected) key() string {
	if a.Package.PURL != "" {
		return keyOf(a.Package.PURL)
	}
	name, _, _ := strings.Cut(a.Package.Ecosystem, ":")
	for kind, ecosystem := range ecosystems {
		if ecosystem == name {
			return key(kind, "", a.Package.Name)
		}
	}
	return ""
}

// Add reads an advisory, or an array of some.
func (s *Set) Add(file string, data []byte) error {
	var list []*Advisory
	if trimmed := bytes.TrimSpace(data); len(trimmed) > 0 && trimmed[0] == '[' {
		if err := json.Unmarshal(data, &list); err != nil {
			return fact.Errorf(fact.StatusInput, "%s: %w", file, err)
		}
	} else {
		one := &Advisory{}
		if err := json.Unmarshal(data, one); err != nil {
			return fact.Errorf(fact.StatusInput, "%s: %w", file, err)
		}
		list = []*Advisory{one}
	}
	for _, a := range list {
		if a == nil || a.ID == "" {
			return fact.Errorf(fact.StatusInput, "%s is no advisory in the OSV format: it has no id", file)
		}
		s.Count++
		if a.Withdrawn != "" {
			continue
		}
		for i := range a.Affected {
			if k := a.Affected[i].key(); k != "" {
				if s.byPackage == nil {
					s.byPackage = map[string][]about{}
				}
				s.byPackage[k] = append(s.byPackage[k], about{a, &a.Affected[i]})
			}
		}
	}
	return nil
}

// Load reads all advisories below a directory, in a zip archive, or in a JSON file.
func Load(ctx context.Context, place string) (*Set, error) {
	s := &Set{}
	info, err := os.Stat(place)
	if err != nil {
		return nil, fact.Errorf(fact.StatusInput, "there are no advisories: %w", err)
	}
	switch {
	case info.IsDir():
		err = s.directory(ctx, place)
	case strings.HasSuffix(place, ".zip"):
		err = s.zip(ctx, place)
	default:
		var f *os.File
		if f, err = os.OpenFile(place, os.O_RDONLY|unix.O_NONBLOCK, 0); err != nil {
			return nil, err
		}
		var data []byte
		if data, err = files.ReadRegular(f, maxFile); err == nil {
			err = s.Add(place, data)
		}
		f.Close()
	}
	if err == nil && s.Count == 0 {
		err = fact.Errorf(fact.StatusInput, "%s has no advisories: they are files in JSON, in the OSV format", place)
	}
	return s, err
}

func (s *Set) directory(ctx context.Context, dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	n := 0
	return fs.WalkDir(root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || path.Ext(name) != ".json" {
			return err
		}
		if n++; n > maxFiles {
			return fact.Errorf(fact.StatusInput, "%s has more than %d files", dir, maxFiles)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		f, err := root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		data, err := files.ReadRegular(f, maxFile)
		if err != nil {
			return fact.Errorf(fact.StatusInput, "%s/%s: %w", dir, name, err)
		}
		return s.Add(dir+"/"+name, data)
	})
}

func (s *Set) zip(ctx context.Context, file string) error {
	z, err := zip.OpenReader(file)
	if err != nil {
		return fact.Errorf(fact.StatusInput, "%s: %w", file, err)
	}
	defer z.Close()
	left := int64(maxZip)
	for i, f := range z.File {
		if i > maxFiles {
			return fact.Errorf(fact.StatusInput, "%s has more than %d files", file, maxFiles)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if path.Ext(f.Name) != ".json" {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return fact.Errorf(fact.StatusInput, "%s: %s: %w", file, f.Name, err)
		}
		data, err := io.ReadAll(io.LimitReader(r, maxFile+1))
		r.Close()
		if left -= int64(len(data)); err == nil && (len(data) > maxFile || left < 0) {
			err = &files.TooLargeError{Limit: maxFile}
		}
		if err != nil {
			return fact.Errorf(fact.StatusInput, "%s: %s: %w", file, f.Name, err)
		}
		if err := s.Add(file+": "+f.Name, data); err != nil {
			return err
		}
	}
	return nil
}

// Match finds the advisories about components.
func (s *Set) Match(components []Component) []Match {
	var out []Match
	for _, c := range components {
		k := keyOf(c.PURL)
		kind, _, _ := strings.Cut(k, " ")
		seen := map[string]bool{}
		for _, a := range s.byPackage[k] {
			hit, fixed := a.affected.covers(kind, c.Version)
			if !hit || seen[a.advisory.ID] {
				continue
			}
			seen[a.advisory.ID] = true
			out = append(out, Match{Advisory: a.advisory.ID, Aliases: a.advisory.Aliases, Summary: a.advisory.Summary, Component: c, Fixed: fixed})
		}
	}
	slices.SortFunc(out, func(a, b Match) int {
		return cmp.Or(strings.Compare(a.Component.Name, b.Component.Name), strings.Compare(a.Component.Version, b.Component.Version), strings.Compare(a.Advisory, b.Advisory))
	})
	return out
}

// covers reports whether a version is affected, and from which version on it is not.
func (a *Affected) covers(kind, v string) (hit bool, fixed string) {
	compare := comparison(kind)
	if slices.Contains(a.Versions, v) || slices.Contains(a.Versions, strings.TrimPrefix(v, "v")) {
		hit = true
	}
	for _, r := range a.Ranges {
		if r.Type == "GIT" {
			continue // commits have no order that can be told without the repository
		}
		in, first := r.covers(compare, v)
		hit = hit || in
		if in && first != "" {
			fixed = first
		}
	}
	return hit, fixed
}

// covers is the algorithm of the format's section "Evaluation".
func (r Range) covers(compare func(a, b string) int, v string) (in bool, fixed string) {
	events := slices.Clone(r.Events)
	at := func(e Event) string { return cmp.Or(e.Introduced, e.Fixed, e.LastAffected, e.Limit) }
	order := func(a, b string) int {
		switch {
		case a == b:
			return 0
		case a == "0":
			return -1
		case b == "0":
			return 1
		}
		return compare(a, b)
	}
	slices.SortStableFunc(events, func(a, b Event) int { return order(at(a), at(b)) })
	for _, e := range events {
		switch {
		case e.Introduced != "" && order(v, e.Introduced) >= 0:
			in, fixed = true, ""
		case e.Fixed != "" && order(v, e.Fixed) >= 0, e.LastAffected != "" && order(v, e.LastAffected) > 0, e.Limit != "" && e.Limit != "*" && order(v, e.Limit) >= 0:
			in, fixed = false, ""
		case e.Fixed != "" && in && fixed == "":
			fixed = e.Fixed
		}
	}
	return in, fixed
}

// comparison is how versions of a kind of package are ordered: semantic versions (2.0.0) where
// the registry has these, and otherwise the order of this program.
func comparison(kind string) func(a, b string) int {
	switch kind {
	case packageurl.TypeNPM, packageurl.TypeGolang, packageurl.TypeCargo:
		return func(a, b string) int {
			x, y := "v"+strings.TrimPrefix(a, "v"), "v"+strings.TrimPrefix(b, "v")
			if semver.IsValid(x) && semver.IsValid(y) {
				return semver.Compare(x, y)
			}
			return version.Compare(a, b)
		}
	}
	return version.Compare
}

// String is a match in one line.
func (m Match) String() string {
	return fmt.Sprintf("%s %s: %s", m.Component.Name, m.Component.Version, m.Advisory)
}
