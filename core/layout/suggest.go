package layout

import (
	"path"
	"slices"
	"strings"

	"ellwand.example/core/document"
	"ellwand.example/core/recipe"
)

// manyPaths is from how many unclaimed paths in a folder on one pattern is
// proposed for all of them.
const manyPaths = 4

// suggest proposes layout lines for unclaimed paths: one for each, or one for
// a folder in which everything is unclaimed.
func suggest(r *recipe.Recipe, unclaimed, staged []Path) []Suggestion {
	free := map[string]bool{}
	for _, p := range unclaimed {
		free[p.Path] = true
	}
	inside := map[string]int{} // directory → paths in it, at any depth
	freeIn := map[string]int{} // of those, how many are unclaimed
	count := func(m map[string]int, p string) {
		for d := path.Dir(p); d != "/"; d = path.Dir(d) {
			m[d]++
		}
	}
	for _, p := range staged {
		if p.Type != Directory {
			count(inside, p.Path)
			if free[p.Path] {
				count(freeIn, p.Path)
			}
		}
	}
	var out []Suggestion
	byPattern := map[string]int{}
	for _, p := range unclaimed {
		pattern := p.Path
		if p.Type == Directory {
			pattern += "/"
		}
		// The outermost folder that is unclaimed as a whole.
		for d := path.Dir(p.Path); d != "/" && (!Shared(d) || strings.HasPrefix(d, "/usr/share/man")); d = path.Dir(d) {
			if freeIn[d] == inside[d] && freeIn[d] >= manyPaths {
				pattern = d + "/**"
			}
		}
		name := home(r, p.Path)
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
	development := strings.HasPrefix(p, "/usr/include/") || strings.HasSuffix(p, ".pc") || strings.HasSuffix(p, ".a") ||
		strings.HasSuffix(p, ".so") && strings.HasPrefix(p, "/usr/lib")
	for _, name := range names {
		if development && (strings.HasSuffix(name, "-dev") || strings.HasSuffix(name, "-devel")) ||
			DefaultKind(p) == recipe.Doc && strings.HasSuffix(name, "-doc") {
			return name
		}
	}
	return names[0]
}

// nearest finds a staged path that a layout line was perhaps meant for.
func nearest(pattern string, staged []Path) string {
	var same, all []string
	for _, p := range staged {
		if p.Type == Directory {
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
	return document.Nearest(pattern, all)
}
