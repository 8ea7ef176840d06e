package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// Source is where the source came from.
type Source struct {
	URL    string // an address, or
	File   string // a file beside the recipe, or
	Git    string // a repository, with a tag and the commit that it has
	Tag    string
	Commit string
	SHA256 string
}

// Recipe writes the recipe. What was not found is a commented line that says
// so, or a placeholder if a package must have it; see Open.
func Recipe(f Facts, s Source, maintainer string, today time.Time) []byte {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	state := func(key, value, open string) {
		if value == "" {
			line("# %-8s = \"…\" # %s", key, open)
			return
		}
		line("%-10s = %s", key, document.Quote(value))
	}
	// What a recipe cannot do without has a placeholder until somebody fills it in.
	demand := func(key, value, placeholder, open string) {
		if value == "" || value == placeholder {
			line("%-10s = %s # to be filled in: %s", key, document.Quote(placeholder), open)
			return
		}
		line("%-10s = %s", key, document.Quote(value))
	}
	line("format     = 1")
	state("name", f.Name, "no name was found")
	demand("version", f.Version, fact.PlaceholderVersion, "the source does not state one")
	line("release    = %d", max(f.Kept.Release, 1))
	demand("summary", f.Summary, fact.PlaceholderSummary, "nothing in the source says it")
	if f.Arch != "" {
		state("arch", f.Arch, "")
	}
	demand("license", f.License, fact.PlaceholderLicense, "an SPDX expression; no license text was recognized")
	state("homepage", f.Homepage, "nothing in the source says it")
	state("maintainer", cmp.Or(f.Kept.Maintainer, maintainer), "Name <address>")
	if f.Description != "" {
		line("description = \"\"\"\n%s\n\"\"\"", folded(f.Description))
	}
	for _, n := range f.AllNotes() {
		line("# Note: %s.", comment(n))
	}
	if len(f.Discard) > 0 {
		line("discard    = [%s]", quoted(f.Discard))
	}
	configure := slices.Clone(f.Configure)
	for _, o := range f.chosen {
		table, argument := chosenOption(o)
		if slices.Contains(configure, argument) {
			continue // the recipe has it already
		}
		configure = append(configure, argument)
		line("\n%s", strings.TrimRight(table, "\n"))
	}
	line("")
	line("[[source]]")
	if s.Git != "" {
		line("git    = %s", document.Quote(braces(s.Git)))
		tag := braces(s.Tag)
		if f.Version != "" {
			tag = strings.Replace(tag, f.Upstream, "{version}", 1)
		}
		line("tag    = %s", document.Quote(tag))
		line("commit = %s", document.Quote(s.Commit))
	} else if s.URL != "" {
		url := braces(s.URL)
		if f.Version != "" && f.Version == f.Upstream {
			url = strings.ReplaceAll(url, f.Version, "{version}")
		}
		line("url    = %s", document.Quote(url))
		if strings.HasPrefix(s.URL, "file:") {
			line("# write upstream's address in its place, so that others can fetch it")
		}
	} else {
		line("file   = %s", document.Quote(braces(s.File)))
	}
	if s.SHA256 != "" {
		line("sha256 = %s", document.Quote(s.SHA256))
	}
	if f.Modules != "" {
		line("")
		line("[[source]]")
		line("modules = %s", document.Quote(f.Modules))
		if f.Pinned != "" {
			line("sha256  = %s", document.Quote(f.Pinned))
		}
	}
	line("")
	line("[needs]")
	line("build = [%s]", quoted(f.Build))
	for _, list := range []struct {
		key   string
		needs []need.Need
		more  []string
	}{{"test ", f.Kept.Test, f.Test}, {"run  ", f.Kept.Run, nil}} {
		var texts []string
		for _, n := range list.needs {
			texts = append(texts, n.String())
		}
		for _, n := range list.more {
			if !slices.Contains(texts, n) {
				texts = append(texts, n)
			}
		}
		if len(texts) > 0 {
			line("%s = [%s]", list.key, quoted(texts))
		}
	}
	if len(f.Maybe) > 0 {
		line("# asked for as well, for parts that can perhaps be left out:")
		for _, n := range f.Maybe {
			line("#   %s", document.Quote(n))
		}
	}
	line("")
	line("[steps]")
	if f.Method != "" {
		line("method    = %s", document.Quote(f.Method))
	}
	if len(configure) > 0 || len(f.Switches) > 0 {
		line("configure = [%s]", quoted(configure))
	}
	if len(f.Switches) > 0 {
		line("# its options:")
		for _, s := range f.Switches {
			line("#   %s", comment(s))
		}
	}
	for _, step := range recipe.StepNames {
		script := f.Steps[step]
		if step == recipe.Stage {
			script = stage(f)
		}
		if script != "" {
			line("%s = '''\n%s\n'''", step, strings.TrimRight(script, "\n"))
		}
	}
	line("")
	if f.Kept.Tables != "" {
		line("%s", f.Kept.Tables)
		return []byte(b.String())
	}
	if f.Layout != "" {
		line("%s", f.Layout)
	} else {
		line("# Without a [package.%s.layout], everything that is staged goes into one package.", document.Key(f.Name))
		line("")
	}
	line("[[change]]")
	line("version = %s", document.Quote(cmp.Or(f.Version, fact.PlaceholderVersion)+"-1"))
	line("date    = %s", today.Format(time.DateOnly))
	if maintainer != "" {
		line("by      = %s", document.Quote(maintainer))
	}
	line("text    = [\"First package\"]")
	return []byte(b.String())
}

// Open lists the keys of facts that a recipe of these facts has placeholders for.
func (f Facts) Open() (keys []string) {
	for _, k := range []struct{ key, value, placeholder string }{
		{"version", f.Version, fact.PlaceholderVersion}, {"summary", f.Summary, fact.PlaceholderSummary}, {"license", f.License, fact.PlaceholderLicense},
	} {
		if k.value == "" || k.value == k.placeholder {
			keys = append(keys, k.key)
		}
	}
	return keys
}

// stage is the stage step: the method's own where nothing is to be added, and
// empty then. License texts are installed with the rest.
func stage(f Facts) string {
	script := f.Steps[recipe.Stage]
	if script == "" && len(f.Texts) > 0 {
		script = recipe.MethodScript(f.Method, recipe.Stage, f.Configure)
	}
	if script == "" || len(f.Texts) == 0 || f.Method == "copy" || strings.Contains(script, "/usr/share/licenses/") {
		return script
	}
	var files []string
	for _, t := range f.Texts {
		files = append(files, "'"+strings.ReplaceAll(t, "'", `'\''`)+"'")
	}
	return fmt.Sprintf("%s\ninstall -d \"$DESTDIR/usr/share/licenses/%s\"\ninstall -m 644 %s \"$DESTDIR/usr/share/licenses/%s/\"", script, f.Name, strings.Join(files, " "), f.Name)
}

// comment makes one line of a text of the source's, so that nothing of it is outside of the
// comment.
func comment(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(r rune) bool { return unicode.IsControl(r) || r == '\u2028' || r == '\u2029' }), " ")
}

// folded breaks the lines of paragraphs, as text between triple quotes.
func folded(text string) string {
	const width = 90
	var out []string
	for paragraph := range strings.SplitSeq(strings.TrimSpace(braces(text)), "\n\n") {
		column := 0
		var b strings.Builder
		for i, word := range strings.Fields(strings.NewReplacer(`\`, `\\`, `"""`, `""\"`).Replace(paragraph)) {
			switch {
			case i > 0 && column+1+len(word) > width:
				b.WriteByte('\n')
				column = 0
			case i > 0:
				b.WriteByte(' ')
				column++
			}
			b.WriteString(word)
			column += len(word)
		}
		out = append(out, b.String())
	}
	return strings.Join(out, "\n\n")
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = document.Quote(s)
	}
	return strings.Join(out, ", ")
}

// braces writes a text in which braces stand for themselves.
func braces(s string) string { return strings.NewReplacer("{", "{{", "}", "}}").Replace(s) }
