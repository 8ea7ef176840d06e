package index

import (
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
)

// RecordOf is a package's line in an index, without size and digest of its
// file.
func RecordOf(f ell.Facts) Record {
	return Record{
		Name: f.Name, Version: f.Version, Release: f.Release, Epoch: f.Epoch, Arch: f.Arch, Summary: f.Summary, License: f.License,
		Category: f.Category, Homepage: f.Homepage, Recipe: f.Recipe, Date: f.Date, Needs: f.Needs, Provides: f.Provides,
		Conflicts: f.Conflicts, Replaces: f.Replaces, Suggests: f.Suggests, Size: f.Size,
		File: "packages/" + f.Target + "/" + f.Name + "/" + f.FileName(),
	}
}

// Dependencies are what the package needs to run.
func (r Record) Dependencies() []solve.Need {
	out := make([]solve.Need, 0, len(r.Needs))
	for _, n := range r.Needs {
		out = append(out, solve.Need{Need: n.Need, Symbols: n.Symbols})
	}
	return out
}

// Offers are what the package provides, itself first.
func (r Record) Offers() []solve.Provide {
	out := make([]solve.Provide, 0, 1+len(r.Provides))
	out = append(out, solve.Provide{Provide: need.Provide{Kind: need.Package, Name: r.Name, Version: r.Full().String()}})
	for _, p := range r.Provides {
		out = append(out, solve.Provide{Provide: p.Provide, Symbols: p.Symbols})
	}
	return out
}

// Meets reports whether the package meets a dependency.
func (r Record) Meets(n solve.Need) bool {
	return slices.ContainsFunc(r.Offers(), func(p solve.Provide) bool { return p.Meets(n) })
}

// Keeps reports whether a package, or none, offers what another did: at all, and
// in the same version with all of the symbol versions.
func (r *Record) Keeps(p solve.Provide) (kept, same bool) {
	if r == nil {
		return false, false
	}
	for _, o := range r.Offers() {
		if o.Kind == p.Kind && o.Name == p.Name {
			return true, o.Version == p.Version && o.Has(p.Symbols)
		}
	}
	return false, false
}

// MayShare reports whether two packages may contain the same paths: they conflict,
// or one replaces the other.
func (r Record) MayShare(other Record) bool {
	return r.excludes(other) || other.excludes(r)
}

func (r Record) excludes(other Record) bool {
	return slices.ContainsFunc(slices.Concat(r.Conflicts, r.Replaces), func(n need.Need) bool { return other.Meets(solve.Need{Need: n}) })
}

// Candidate is the package as the solver sees it.
func (r Record) Candidate() *solve.Package {
	return &solve.Package{Name: r.Name, Full: r.Full(), Needs: r.Dependencies(), Provides: r.Offers()[1:], Conflicts: r.Conflicts, Replaces: r.Replaces, Suggests: r.Suggests}
}

// IsNamed reports whether a word means the package: its name, NAME@VERSION-RELEASE,
// or its identity.
func (r Record) IsNamed(word string) bool {
	return word == r.Name || word == r.Name+"@"+r.Full().String() || word == r.Identity()
}

// Newest is the newest package of each name.
func Newest(records []Record) map[string]Record {
	out := map[string]Record{}
	for _, r := range records {
		if have, ok := out[r.Name]; !ok || have.Full().Compare(r.Full()) < 0 {
			out[r.Name] = r
		}
	}
	return out
}

// NameOf is the name in a package's identity.
func NameOf(identity string) string {
	name, _, _ := strings.Cut(identity, "@")
	return name
}

// DecodeRecords decodes a stored listing and checks its packages.
func DecodeRecords(data []byte, count int, pick Picker) ([]Record, error) {
	records, err := decodeLines[Record](data, count, pick, false)
	if err != nil {
		return nil, err
	}
	for _, r := range records {
		if err := r.check(); err != nil {
			return nil, err
		}
	}
	return records, nil
}

// DecodePaths decodes a stored file of paths.
func DecodePaths(data []byte, count int, pick Picker) ([]PathRecord, error) {
	return decodeLines[PathRecord](data, count, pick, false)
}

// EachPath calls a function for every line of a stored file of paths. The strings
// are valid during the call only.
func EachPath(data []byte, count int, each func(PathRecord)) error {
	rest, err := DecodePaths(data, count, Where(func(line []byte) bool {
		var p PathRecord
		if !p.parse(line) {
			return true // it has escapes, and is decoded as JSON
		}
		each(p)
		return false
	}))
	for _, p := range rest {
		each(p)
	}
	return err
}
