package repo

import (
	"slices"

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

// needs are what the package needs to run; check has seen to it that all can be
// read.
func (r Record) needs() []solve.Need {
	out := make([]solve.Need, 0, len(r.Needs))
	for _, n := range r.Needs {
		if parsed, err := need.Parse(n.Need); err == nil {
			out = append(out, needOf(parsed, n.Symbols))
		}
	}
	return out
}

// offered are what the package provides, itself first.
func (r Record) offered() []solve.Provide {
	out := make([]solve.Provide, 0, 1+len(r.Provides))
	out = append(out, solve.Provide{Provide: need.Provide{Kind: need.Package, Name: r.Name, Version: r.Full().String()}})
	for _, p := range r.Provides {
		if parsed, err := need.ParseProvide(p.Provide); err == nil {
			out = append(out, solve.Provide{Provide: parsed, Symbols: p.Symbols})
		}
	}
	return out
}

// offers tells whether the package meets a need.
func (r Record) offers(n solve.Need) bool {
	return slices.ContainsFunc(r.offered(), func(p solve.Provide) bool { return p.Meets(n) })
}

// keeps tells whether a package, or none, offers what another did: at all, and
// in the same version with all of the symbol versions.
func (r *Record) keeps(p solve.Provide) (kept, same bool) {
	if r == nil {
		return false, false
	}
	for _, o := range r.offered() {
		if o.Kind == p.Kind && o.Name == p.Name {
			return true, o.Version == p.Version && o.Has(p.Symbols)
		}
	}
	return false, false
}

// apart tells whether two packages are never in one root, or one takes the
// paths of the other: that they share paths is then meant.
func (r Record) apart(other Record) bool {
	return r.excludes(other) || other.excludes(r)
}

func (r Record) excludes(other Record) bool {
	for _, text := range slices.Concat(r.Conflicts, r.Replaces) {
		if n, err := need.Parse(text); err == nil && other.offers(solve.Need{Need: n}) {
			return true
		}
	}
	return false
}

// Candidate is the package as the solver sees it.
func (r Record) Candidate() *solve.Package {
	p := &solve.Package{Name: r.Name, Full: r.Full(), Needs: r.needs(), Provides: r.offered()[1:]}
	for _, list := range []struct {
		from []string
		to   *[]need.Need
	}{{r.Conflicts, &p.Conflicts}, {r.Replaces, &p.Replaces}, {r.Suggests, &p.Suggests}} {
		for _, text := range list.from {
			if n, err := need.Parse(text); err == nil {
				*list.to = append(*list.to, n)
			}
		}
	}
	return p
}
