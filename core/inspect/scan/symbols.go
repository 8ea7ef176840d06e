package scan

import (
	"debug/elf"
	"io"
	"slices"
	"strings"

	"ellwand.example/core/fact/version"
	"ellwand.example/core/pattern"
)

// Exported lists the symbols that a library offers to what links with it, as
// NAME or NAME@VERSION, sorted. It is what `nm -D --defined-only` lists, without
// the names of the versions themselves.
func Exported(r io.ReaderAt) ([]string, error) {
	f, err := elf.NewFile(r)
	if err != nil {
		return nil, err
	}
	all, err := f.DynamicSymbols()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, s := range all {
		bind, visible := elf.ST_BIND(s.Info), elf.ST_VISIBILITY(s.Other)
		switch {
		case s.Section == elf.SHN_UNDEF || s.Name == "":
		case bind != elf.STB_GLOBAL && bind != elf.STB_WEAK && bind != gnuUnique:
		case visible == elf.STV_HIDDEN || visible == elf.STV_INTERNAL:
		case s.Section == elf.SHN_ABS && s.Version == s.Name:
		default:
			name := s.Name
			if s.HasVersion && s.Version != "" {
				name += "@" + s.Version
			}
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// gnuUnique is STB_GNU_UNIQUE: one definition in the whole process.
const gnuUnique = elf.SymBind(10)

// numbered is a symbol version that ends in a version, as in GLIBC_2.34.
var numbered = pattern.New(`^(.*_)([0-9][0-9.]*)$`)

// Newest picks the highest of each series of symbol versions: a system that has that
// has the others. Versions that are in no series are left out.
func Newest(symbols []string) []string {
	highest := map[string]string{}
	var series []string
	for _, name := range symbols {
		m := numbered.FindStringSubmatch(name)
		if m == nil {
			continue
		}
		if highest[m[1]] == "" {
			series = append(series, m[1])
		}
		if highest[m[1]] == "" || version.Compare(highest[m[1]], m[2]) < 0 {
			highest[m[1]] = m[2]
		}
	}
	slices.Sort(series)
	for i, s := range series {
		series[i] = s + highest[s]
	}
	return series
}

// Stem is a library's name, or its soname, without its version.
func Stem(name string) string {
	name, _, _ = strings.Cut(name, ".so")
	return strings.TrimRight(name, "0123456789.-")
}
