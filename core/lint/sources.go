package lint

import (
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
)

// moving are parts of addresses whose contents change without their name.
var moving = pattern.New(`(?i)(/|=|-)(latest|master|main|head|trunk|nightly|current|snapshot)(/|\.(tar|zip|tgz)|$)`)

// telling is a version that a text hardly has in it by chance.
func telling(version string) bool {
	return strings.Count(version, ".") >= 2 || len(version) >= 5 && strings.ContainsAny(version, "._~")
}

// written reports whether a text has a version in it, as a word of its own.
func written(text, version string) bool {
	for from := 0; ; {
		i := strings.Index(text[from:], version)
		if i < 0 {
			return false
		}
		i += from
		before, after := byte(' '), byte(' ')
		if i > 0 {
			before = text[i-1]
		}
		if end := i + len(version); end < len(text) {
			after = text[end]
			// A full stop may end a sentence or begin an extension.
			if after == '.' && end+1 < len(text) && text[end+1] >= '0' && text[end+1] <= '9' {
				after = '0'
			}
		}
		digit := func(b byte) bool { return b >= '0' && b <= '9' }
		if !digit(before) && before != '.' && !digit(after) {
			return true
		}
		from = i + len(version)
	}
}

// sourceRules are about what a recipe is made from, and the files beside it.
func sourceRules() []Rule {
	return []Rule{
		ell103(),
		ell104(),
		ell108(),
		ell124(),
		ell125(),
		ell126(),
		ell127(),
		ell128(),
	}
}

// ell103 reports: source without a digest.
func ell103() Rule {
	return Rule{
		Code: "ELL103", Severity: Error, Title: "source without a digest",
		Why:    "Without a digest, the owner of the server decides what gets built, today and at every rebuild.",
		Remedy: "add its sha256; pinning the sources does that", next: fact.PinSources,
		Wrong: `[[source]]
url = "https://files.example/tide-{version}.tar.gz"`,
		Right: `[[source]]
url    = "https://files.example/tide-{version}.tar.gz"
sha256 = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08"`,
		recipe: func(c *recipeCheck) {
			for i, s := range c.Sources {
				if s.URL != "" && s.SHA256 == "" {
					c.at(c.Origin(i), "%s is not pinned by a digest", s.URL)
				}
			}
		},
	}
}

// ell104 reports: URL with plain http.
func ell104() Rule {
	return Rule{
		Code: "ELL104", Severity: Warning, Title: "URL with plain http",
		Why:    "Anyone on the network can read the traffic and answer in the server's place. A digest detects a changed file, but everybody's build fails then.",
		Remedy: "use https if the server offers it",
		Wrong:  `homepage = "http://tide.example/"`,
		Right:  `homepage = "https://tide.example/"`,
		recipe: func(c *recipeCheck) {
			if strings.HasPrefix(c.Homepage, "http://") {
				c.at(c.Doc.At("homepage"), "the homepage is %s", c.Homepage)
			}
			for i, s := range c.Sources {
				if strings.HasPrefix(s.URL, "http://") || strings.HasPrefix(s.Git, "http://") || strings.HasPrefix(s.Git, "git://") {
					c.at(c.Origin(i), "the source comes from %s", s.URL+s.Git)
				}
			}
		},
	}
}

// ell108 reports: version spelled out in a source.
func ell108() Rule {
	return Rule{
		Code: "ELL108", Severity: Warning, Title: "version spelled out in a source",
		Why:    "The next version has to be changed in several places. If one is missed, the old source is fetched under the new name.",
		Remedy: "write {version} instead",
		Wrong: `[[source]]
url    = "https://files.example/tide-1.2.tar.gz"
sha256 = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08"`,
		Right: `[[source]]
url    = "https://files.example/tide-{version}.tar.gz"
sha256 = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08"`,
		recipe: func(c *recipeCheck) {
			for _, s := range c.Sources {
				for _, key := range []string{"url", "tag"} {
					n := c.Doc.Find("source", s.Place, key)
					if n == nil || !strings.ContainsAny(c.Version, "._~") {
						continue
					}
					raw := string(c.Doc.Data[n.Value.Offset : n.Value.Offset+n.Value.Length])
					if written(raw, c.Version) {
						c.fixable(n.Value, setFact(strings.ReplaceAll(strings.Trim(raw, `"'`), c.Version, "{version}"), "source", s.Place, key), "the address has %s written out", c.Version)
					}
				}
			}
		},
	}
}

// ell124 reports: URL whose contents change.
func ell124() Rule {
	return Rule{
		Code: "ELL124", Severity: Warning, Title: "URL whose contents change",
		Why:    "The URL names whatever is newest at the moment. After the next release the digest no longer matches, and the old source is unavailable.",
		Remedy: "use the URL of the release, with {version} in it",
		Wrong: `[[source]]
url    = "https://files.example/tide-latest.tar.gz"
sha256 = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08"`,
		Right: `[[source]]
url    = "https://files.example/tide-{version}.tar.gz"
sha256 = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08"`,
		recipe: func(c *recipeCheck) {
			for i, s := range c.Sources {
				if m := moving.FindStringSubmatch(s.URL); m != nil && !strings.Contains(s.URL, c.Version) {
					c.at(c.Origin(i), "%q in %s names another file from time to time", m[2], s.URL)
				}
			}
		},
	}
}

// ell125 reports: unused file beside the recipe.
func ell125() Rule {
	return Rule{
		Code: "ELL125", Severity: Warning, Title: "unused file beside the recipe",
		Why:    "Readers assume that it is part of the package. Often it is a patch that nobody listed, or one that an earlier version needed.",
		Remedy: "name it in the recipe, or remove it",
		Wrong: `-- fix-times.patch --
Times are in UTC.
--- a/table
+++ b/table
@@ -1 +1 @@
-3.14
+3.15
`,
		Right: `[steps]
stage = '''
install -Dm644 "$ELL_RECIPE/harbours" -t "$DESTDIR/usr/share/tide"
'''
-- harbours --
Ely
`,
		recipe: func(c *recipeCheck) {
			if c.Dir == "" {
				return
			}
			var told []string
			filepath.WalkDir(c.Dir, func(p string, e fs.DirEntry, err error) error {
				if err != nil {
					return nil
				}
				name, err := filepath.Rel(c.Dir, p)
				if err != nil || name == "." {
					return nil
				}
				switch {
				case strings.HasPrefix(e.Name(), "."), strings.HasPrefix(e.Name(), "README"), strings.HasSuffix(name, ".md"), name == recipe.FileName:
					if e.IsDir() {
						return fs.SkipDir
					}
				case e.IsDir():
				case !c.usesFile(filepath.ToSlash(name)):
					told = append(told, filepath.ToSlash(name))
				}
				return nil
			})
			if len(told) > 0 {
				c.at(c.Doc.At("name"), "nothing in the recipe uses %s", several(told))
			}
		},
	}
}

// ell126 reports: unused source.
func ell126() Rule {
	return Rule{
		Code: "ELL126", Severity: Warning, Title: "unused source",
		Why:    "It is fetched, unpacked and audited, but nothing uses it.",
		Remedy: "remove it, or use it in a step or a layout",
		Wrong: `[[source]]
file = "harbours"
-- harbours --
Ely
`,
		Right: `[[source]]
file = "harbours"
[steps]
stage = 'install -Dm644 harbours -t "$DESTDIR/usr/share/tide"'
-- harbours --
Ely
`,
		recipe: func(c *recipeCheck) {
			// Whatever runs in the work tree may use what lies in it: make,
			// and the like.
			if c.Steps.Method != "" || c.runsBuildFiles() {
				return
			}
			for i, s := range c.Sources {
				if s.File == "" || strings.Contains(s.File, ".tar") || strings.HasSuffix(s.File, ".zip") || strings.HasSuffix(s.File, ".tgz") {
					continue
				}
				name := path.Base(s.File)
				if !c.scriptsMention(name) && !c.globs(name) && !c.fromMentions(s.File) {
					c.at(c.Origin(i), "no step and no layout uses %s", s.File)
				}
			}
		},
	}
}

// ell127 reports: patch without a description.
func ell127() Rule {
	return Rule{
		Code: "ELL127", Severity: Hint, Title: "patch without a description",
		Why:    "At the next version somebody has to decide whether the patch is still needed: why it exists, who wrote it, whether upstream has it.",
		Remedy: "describe it in the patch file, above the first line with ---",
		Wrong: `[[patch]]
file = "times.patch"
[[source]]
file = "table"
[steps]
stage = 'install -Dm644 table -t "$DESTDIR/usr/share/tide"'
-- table --
3.14
-- times.patch --
--- a/table
+++ b/table
@@ -1 +1 @@
-3.14
+3.15
`,
		Right: `[[patch]]
file = "times.patch"
[[source]]
file = "table"
[steps]
stage = 'install -Dm644 table -t "$DESTDIR/usr/share/tide"'
-- table --
3.14
-- times.patch --
The almanac of 2031 corrects this one. Sent upstream on 2 April.
--- a/table
+++ b/table
@@ -1 +1 @@
-3.14
+3.15
`,
		recipe: func(c *recipeCheck) {
			for i, p := range c.Patches {
				data, err := c.ReadBeside(p.File)
				if err != nil || c.Dir == "" {
					continue
				}
				text := "\n" + string(data)
				end := len(text)
				for _, start := range []string{"\n--- ", "\ndiff ", "\nIndex: "} {
					if i := strings.Index(text, start); i >= 0 {
						end = min(end, i)
					}
				}
				if strings.TrimSpace(text[:end]) == "" {
					c.at(c.Doc.At("patch", i, "file"), "%s begins with the change itself", p.File)
				}
			}
		},
	}
}

// ell128 reports: version spelled out in a script or layout.
func ell128() Rule {
	return Rule{
		Code: "ELL128", Severity: Hint, Title: "version spelled out in a script or layout",
		Why:    "At the next version the line is wrong: the build fails, or it installs under the old name.",
		Remedy: "write $ELL_VERSION in scripts, and {version} everywhere else",
		Wrong: `version = "2031.1"
[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide-2031.1"
'''
[[change]]
version = "2031.1-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = ["Tables for 2031"]`,
		Right: `version = "2031.1"
[steps]
stage = '''
install -d "$DESTDIR/usr/share/tide-$ELL_VERSION"
'''
[[change]]
version = "2031.1-1"
date    = 2031-04-02
by      = "Ines Quarrell"
text    = ["Tables for 2031"]`,
		recipe: func(c *recipeCheck) {
			if !telling(c.Version) {
				return
			}
			for _, s := range c.scripts() {
				if written(s.text, c.Version) {
					line := strings.Count(s.text[:strings.Index(s.text, c.Version)], "\n")
					c.add(fact.Finding{File: c.Doc.File, Line: c.ScriptLine(s.step, line+1), Message: s.name + " has " + c.Version + " written out"})
				}
			}
			for _, name := range c.PackageNames() {
				table := c.Doc.Find("package", name, "layout")
				for _, p := range sortedKeys(c.Packages[name].Layout) {
					key := table.Get(p).Key
					raw := string(c.Doc.Data[key.Offset : key.Offset+key.Length])
					if written(raw, c.Version) {
						c.at(key, "the layout has %s written out: %s", c.Version, p)
					}
				}
			}
		},
	}
}

// usesFile reports whether anything in the recipe names a file beside it.
func (c *recipeCheck) usesFile(name string) bool {
	for _, s := range c.Sources {
		if path.Clean(s.File) == name {
			return true
		}
	}
	for _, p := range c.Patches {
		if path.Clean(p.File) == name {
			return true
		}
	}
	if c.fromMentions(name) {
		return true
	}
	// A script that sees the directory may use all of it by a pattern.
	for _, s := range c.scripts() {
		if strings.Contains(s.text, "ELL_RECIPE") && (strings.Contains(s.text, path.Base(name)) || strings.ContainsAny(s.text, "*?")) {
			return true
		}
	}
	return false
}

func (c *recipeCheck) fromMentions(name string) bool {
	for _, p := range c.Packages {
		for _, e := range p.Layout {
			if e.From != "" && path.Clean(e.From) == path.Clean(name) {
				return true
			}
		}
	}
	return false
}

func (c *recipeCheck) scriptsMention(name string) bool {
	return slices.ContainsFunc(c.scripts(), func(s script) bool { return strings.Contains(s.text, name) })
}

// globs reports whether a pattern in a script can stand for a file.
func (c *recipeCheck) globs(name string) bool {
	for _, s := range c.scripts() {
		for _, word := range strings.Fields(s.text) {
			word = path.Base(strings.Trim(word, `"';`))
			if ok, err := path.Match(word, name); strings.ContainsAny(word, "*?[") && err == nil && ok {
				return true
			}
			if word == "." || word == "./" {
				return true
			}
		}
	}
	return false
}
