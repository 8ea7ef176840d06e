package layout

import (
	"errors"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/staging"
)

// manyPaths is from how many unclaimed paths in a directory on one pattern is
// proposed for all of them.
const manyPaths = 4

// headers is where those of all packages are.
const headers = "/usr/include"

// versioned is a shared library under its soname and its file's name: all up
// to the first number, and what follows it.
var versioned = pattern.New(`^(/.*/lib[^/]+\.so\.[0-9]+)((?:\.[0-9]+)*)$`)

// suggest proposes layout lines for unclaimed paths: one for each, or one for
// a directory in which everything is unclaimed.
func suggest(r *recipe.Recipe, unclaimed, staged []staging.Path) []Suggestion {
	free := map[string]bool{}
	for _, p := range unclaimed {
		free[p.Path] = true
	}
	libraries := map[string]int{} // pattern → paths that it would claim
	type key struct{ dir, home string }
	inside := map[string]int{} // directory → paths in it, at any depth
	freeIn := map[key]int{}    // of those, how many are unclaimed and for one package
	for _, p := range staged {
		if p.Type == staging.Directory {
			continue
		}
		name := home(r, p.Path)
		if m := versioned.FindStringSubmatch(p.Path); m != nil && free[p.Path] {
			libraries[m[1]+"*"]++
		}
		for d := path.Dir(p.Path); d != "/"; d = path.Dir(d) {
			inside[d]++
			if free[p.Path] {
				freeIn[key{d, name}]++
			}
		}
	}
	var out []Suggestion
	byPattern := map[string]int{}
	for _, p := range unclaimed {
		pattern := p.Path
		if p.Type == staging.Directory {
			pattern += "/"
		}
		name := home(r, p.Path)
		// The outermost directory that is unclaimed as a whole, all for one package.
		for d := path.Dir(p.Path); d != "/" && (!staging.IsShared(d) || strings.HasPrefix(d, "/usr/share/man")); d = path.Dir(d) {
			if n := freeIn[key{d, name}]; n == inside[d] && n >= manyPaths {
				pattern = d + "/**"
			}
		}
		if n := freeIn[key{headers, name}]; strings.HasPrefix(p.Path, headers+"/") && n == inside[headers] && n > 1 {
			pattern = headers + "/**"
		}
		// The next version has another number, and another soname has to be seen.
		if m := versioned.FindStringSubmatch(p.Path); m != nil && libraries[m[1]+"*"] > 1 {
			pattern = m[1] + "*"
		}
		if name == "" {
			pattern = p.Path
		}
		if i, ok := byPattern[name+pattern]; ok {
			out[i].Paths = append(out[i].Paths, p.Path)
			continue
		}
		byPattern[name+pattern] = len(out)
		out = append(out, Suggestion{Package: name, Pattern: pattern, Paths: []string{p.Path}})
	}
	slices.SortStableFunc(out, func(a, b Suggestion) int {
		return slices.Index(r.PackageNames(), a.Package) - slices.Index(r.PackageNames(), b.Package)
	})
	return out
}

// home guesses the package that a path belongs to: development files go to the
// one named so, documentation likewise, everything else to the first. What is
// of no use once installed is proposed to be discarded: "".
func home(r *recipe.Recipe, p string) string {
	names := r.PackageNames()
	if strings.HasSuffix(p, ".la") || p == "/usr/share/info/dir" || strings.HasSuffix(p, "~") {
		return ""
	}
	for _, name := range names {
		if Development(p) && (strings.HasSuffix(name, "-dev") || strings.HasSuffix(name, "-devel")) ||
			Documentation(p) && strings.HasSuffix(name, "-doc") {
			return name
		}
	}
	return names[0]
}

var (
	developmentDirs  = []string{"/usr/include/", "/usr/lib/cmake/", "/usr/share/cmake/", "/usr/share/aclocal/", "/usr/share/pkgconfig/", "/usr/share/man/man3/", "/usr/share/vala/", "/usr/share/gir-1.0/"}
	developmentFiles = pattern.New(`^/usr/(lib(/.*)?/[^/]+\.(pc|a)|lib(64)?(/[^/]+-linux-[^/]+)?/lib[^/]+\.so|bin/[^/]+-config|share/man/man1/[^/]+-config\.1(\.gz)?)$`)
)

// Development reports whether a path is of use only to those who build other
// software: headers, link names of libraries, static ones, pkg-config files.
func Development(p string) bool {
	return slices.ContainsFunc(developmentDirs, func(d string) bool { return strings.HasPrefix(p, d) }) || developmentFiles.MatchString(p)
}

var documentationDirs = []string{"/usr/share/doc/", "/usr/share/gtk-doc/", "/usr/share/info/"}

// Documentation reports whether a path is there to be read only: not the
// manuals of commands, which belong with them.
func Documentation(p string) bool {
	return slices.ContainsFunc(documentationDirs, func(d string) bool { return strings.HasPrefix(p, d) })
}

// Suggest proposes layouts for packages of the given names, the first for what
// is needed at run time, for all that is staged.
func Suggest(names []string, staged []staging.Path) []Suggestion {
	r := &recipe.Recipe{Name: names[0], Packages: map[string]recipe.Package{}, Doc: document.Parse("", nil)}
	for _, name := range names {
		r.Packages[name] = recipe.Package{Layout: map[string]recipe.Entry{}}
	}
	_, err := Resolve(r, staged)
	var mismatch *Mismatch
	if errors.As(err, &mismatch) {
		return mismatch.Unclaimed
	}
	return nil
}

// nearest finds a staged path that a layout line was perhaps meant for.
func nearest(pattern string, staged []staging.Path) string {
	var same, all []string
	for _, p := range staged {
		if p.Type == staging.Directory {
			continue
		}
		if path.Base(p.Path) == path.Base(pattern) {
			same = append(same, p.Path)
		}
		all = append(all, p.Path)
	}
	if len(same) == 1 {
		return same[0]
	}
	if strings.ContainsAny(pattern, "*?[{") || len(all) > 10_000 {
		return ""
	}
	return fact.Nearest(pattern, all)
}
