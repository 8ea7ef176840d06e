package recipe

import (
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/shellparse"
)

// Script returns the script of a step that runs: the one that is written, or
// the method's. Built-in steps have none.
func (r *Recipe) Script(step string) string {
	if own := r.Steps.Script(step); own != "" {
		return own
	}
	if r.Steps.Method == "copy" && step == Stage && len(r.Steps.Copy) > 0 {
		return r.copyScript()
	}
	return MethodScript(r.Steps.Method, step, r.Steps.Configure)
}

// StepVariables are the variables of a step's environment that arguments of
// `configure` may refer to.
var StepVariables = []string{"CFLAGS", "CXXFLAGS", "DESTDIR", "FFLAGS", "HOME", "LDFLAGS", "PREFIX", "SOURCE_DATE_EPOCH", "TMPDIR", "ELL_ARCH", "ELL_FULL", "ELL_JOBS", "ELL_NAME", "ELL_RELEASE", "ELL_SOURCE", "ELL_VERSION"}

// reference is a variable in an argument of `configure`, as the shell writes it.
var reference = pattern.New(`\$(?:\w+|\{\w+\})`)

// argument quotes an argument for the shell, except for variables that steps
// have. Any other dollar sign is one, as in the linker's $ORIGIN.
func argument(s string) string {
	var b strings.Builder
	done := 0
	for _, m := range reference.FindAllStringIndex(s, -1) {
		name := strings.Trim(s[m[0]+1:m[1]], "{}")
		if !slices.Contains(StepVariables, name) {
			continue
		}
		if m[0] > done {
			b.WriteString(shellQuote(s[done:m[0]]))
		}
		b.WriteString(`"$` + name + `"`)
		done = m[1]
	}
	if done < len(s) || done == 0 {
		b.WriteString(shellQuote(s[done:]))
	}
	return b.String()
}

// copyScript copies what [steps.copy] names: a path in the work tree, and
// where it goes; a directory where that ends in a slash.
func (r *Recipe) copyScript() string {
	var lines []string
	for _, from := range slices.Sorted(maps.Keys(r.Steps.Copy)) {
		to := r.Steps.Copy[from]
		dir := strings.TrimSuffix(to, "/")
		if !strings.HasSuffix(to, "/") {
			dir = filepath.Dir(to)
		}
		lines = append(lines, fmt.Sprintf(`mkdir -p "$DESTDIR"%s`, shellQuote(dir)), fmt.Sprintf(`cp -a ./%s "$DESTDIR"%s`, shellGlob(from), shellQuote(to)))
	}
	return strings.Join(lines, "\n")
}

func shellQuote(s string) string {
	quoted, err := syntax.Quote(s, syntax.LangPOSIX)
	if err != nil {
		return "''"
	}
	return quoted
}

// shellGlob quotes a path but for the signs of its pattern.
func shellGlob(s string) string {
	parts := regexp.MustCompile(`[*?]+|[^*?]+`).FindAllString(s, -1)
	for i, p := range parts {
		if !strings.ContainsAny(p, "*?") {
			parts[i] = shellQuote(p)
		}
	}
	return strings.Join(parts, "")
}

// Allowances are the names of what steps can be allowed beyond the usual system
// calls; package sandbox says what each means.
var Allowances = []string{"32-bit", "bpf", "io_uring", "keyring", "namespaces", "perf_event", "sockets", "userfaultfd"}

// checkSteps looks at the method and at every script that is written.
func (r *Recipe) checkSteps() {
	d := r.Doc
	if m := r.Steps.Method; m != "" && methods[m] == nil {
		names := methodNames()
		remedy := "the methods are " + strings.Join(names, ", ")
		if near := fact.Nearest(m, names); near != "" {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		d.Add(d.At("steps", "method"), fmt.Sprintf("unknown method %q", m), remedy)
	}
	if len(r.Steps.Configure) > 0 && r.Steps.Method == "" {
		d.Add(d.Find("steps", "configure").Key, "`configure` is passed on by a method, and the recipe names none", `add: method = "autotools", or another`)
	}
	for i, a := range r.Steps.Configure {
		for _, variable := range reference.FindAllString(a, -1) {
			name := strings.Trim(variable, "${}")
			if slices.Contains(StepVariables, name) {
				continue
			}
			if near := fact.Nearest(name, StepVariables); near != "" {
				d.Add(d.At("steps", "configure", i), fmt.Sprintf("%s is not a variable that steps have", variable), fmt.Sprintf("did you mean $%s?", near))
			}
		}
	}
	if len(r.Steps.Copy) > 0 && r.Steps.Method != "copy" {
		d.Add(d.Find("steps", "copy").Key, "`copy` belongs to the method copy", `add: method = "copy"`)
	}
	for i, name := range r.Steps.Allow {
		if slices.Contains(Allowances, name) {
			continue
		}
		remedy := "it is one of " + strings.Join(Allowances, ", ")
		if near := fact.Nearest(name, Allowances); near != "" {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		d.Add(d.At("steps", "allow", i), fmt.Sprintf("steps cannot be allowed %q", name), remedy)
	}
	for from, to := range r.Steps.Copy {
		if !strings.HasPrefix(to, "/") || !filepath.IsLocal(from) {
			d.Add(d.At("steps", "copy", from), fmt.Sprintf("%q = %q does not say what goes where", from, to), `a path in the work tree, and an absolute one: "bin/tide" = "/usr/bin/"`)
		}
	}
	for _, step := range StepNames {
		if n := d.Find("steps", step); n != nil && n.Kind == document.String && r.Steps.Script(step) != "" {
			r.checkScript(step, n)
		}
	}
	if n := d.Find("trial", "run"); n != nil && n.Kind == document.String {
		r.parseScript(r.Trial.Run, n)
	}
	for name := range r.Packages {
		for script, text := range r.Packages[name].Scripts.All() {
			if n := d.Find("package", name, "script", script); n != nil && n.Kind == document.String {
				r.parseScript(text, n)
			}
		}
	}
}

// ParseShell parses a script as POSIX shell. A script that is none comes back
// as a mistake with its place.
func ParseShell(text string) (*syntax.File, *fact.SyntaxError) {
	parsed, err := shellparse.Parse(text, syntax.LangPOSIX)
	if err == nil {
		return parsed, nil
	}
	m := &fact.SyntaxError{Length: 1, Message: err.Error()}
	switch e := err.(type) {
	case syntax.ParseError:
		m.Offset, m.Message = int(e.Pos.Offset()), e.Text
	case syntax.LangError:
		m.Offset, m.Message = int(e.Pos.Offset()), e.Feature+" is no POSIX shell"
	}
	m.Offset = min(m.Offset, len(text))
	return nil, m
}

// parseScript parses a script; a mistake is recorded with its place in the
// recipe.
func (r *Recipe) parseScript(text string, n *document.Node) *syntax.File {
	parsed, m := ParseShell(text)
	if m != nil {
		r.Doc.Add(r.Doc.Inside(n, m.Offset, m.Length), "this is not valid shell: "+m.Message, "")
	}
	return parsed
}

// writers are commands whose last argument is written to.
var writers = map[string]bool{"install": true, "cp": true, "mv": true, "ln": true, "mkdir": true, "touch": true, "tee": true, "rsync": true}

// systemPath is a path that belongs to the running system.
var systemPath = pattern.New(`^/(usr|etc|var|opt|bin|sbin|lib|lib64|boot|srv|root|home)(/|$)`)

// checkScript looks for what would go wrong, or wrongly right, when a step
// runs: scripts that are no shell, and writing into the running system.
func (r *Recipe) checkScript(step string, n *document.Node) {
	parsed := r.parseScript(r.Steps.Script(step), n)
	if parsed == nil {
		return
	}
	outside := func(w *syntax.Word) {
		path := literal(w)
		if systemPath.MatchString(path) {
			r.Doc.Add(r.Doc.Inside(n, int(w.Pos().Offset()), int(w.End().Offset()-w.Pos().Offset())), fmt.Sprintf("step %s writes to %s, outside $DESTDIR", step, path), fmt.Sprintf(`write "$DESTDIR%s"`, path))
		}
	}
	syntax.Walk(parsed, func(node syntax.Node) bool {
		switch node := node.(type) {
		case *syntax.Redirect:
			if node.Op == syntax.RdrOut || node.Op == syntax.AppOut || node.Op == syntax.RdrClob {
				outside(node.Word)
			}
		case *syntax.CallExpr:
			if len(node.Args) > 1 && writers[literal(node.Args[0])] {
				outside(node.Args[len(node.Args)-1])
			}
		}
		return true
	})
}

// literal is what a word says without variables; empty if it has any at its
// start.
func literal(w *syntax.Word) string {
	if w == nil {
		return ""
	}
	var b strings.Builder
	for _, part := range w.Parts {
		switch p := part.(type) {
		case *syntax.Lit:
			b.WriteString(p.Value)
		case *syntax.SglQuoted:
			b.WriteString(p.Value)
		case *syntax.DblQuoted:
			inner := literal(&syntax.Word{Parts: p.Parts})
			b.WriteString(inner)
			if inner == "" && len(p.Parts) > 0 {
				return b.String()
			}
		default:
			return b.String()
		}
	}
	return b.String()
}

// checkChangesToSources looks at patches and rewrites.
func (r *Recipe) checkChangesToSources() {
	d := r.Doc
	for i, p := range r.Patches {
		if r.demand("patch", i, "file", p.File, `file = "….patch"`) {
			r.checkLocal(p.File, "a file beside the recipe", "patch", i, "file")
		}
		if p.Into != "" {
			r.checkLocal(p.Into, "a path in the work tree", "patch", i, "into")
		}
	}
	for i, w := range r.Rewrites {
		if d.Find("rewrite", i).Kind != document.Table {
			continue
		}
		steps := StepNames[:len(StepNames)-1]
		if r.demand("rewrite", i, "after", w.After, `after = "unpack"`) && !slices.Contains(steps, w.After) {
			d.Add(d.At("rewrite", i, "after"), fmt.Sprintf("%q is not a step that a rewrite can follow", w.After), "they are "+strings.Join(steps, ", "))
		}
		if r.demand("rewrite", i, "path", w.Path, `path = "…"`) {
			switch {
			case !fact.IsPathPattern(w.Path):
				d.Add(d.At("rewrite", i, "path"), fmt.Sprintf("%q is not a pattern", w.Path), "")
			case w.After == Stage && !strings.HasPrefix(w.Path, "/"):
				d.Add(d.At("rewrite", i, "path"), fmt.Sprintf("%q is not a staged path", w.Path), "after stage, paths are as they will be installed, from / on")
			case w.After != Stage:
				r.checkLocal(w.Path, "a path in the work tree", "rewrite", i, "path")
			}
		}
		switch {
		case w.Find == "" && w.Regexp == "":
			d.Add(d.At("rewrite", i), "a rewrite says what to `find`, or a `regexp`", `add: find = "…"`)
		case w.Find != "" && w.Regexp != "":
			d.Add(d.Find("rewrite", i, "regexp").Key, "a rewrite has `find` or `regexp`, not both", "")
		case w.Regexp != "":
			if _, err := regexp.Compile(w.Regexp); err != nil {
				d.Add(d.At("rewrite", i, "regexp"), "this is not a regular expression: "+strings.TrimPrefix(err.Error(), "error parsing regexp: "), "the syntax is RE2's; find takes literal text")
			}
		}
		if w.Times < 0 {
			d.Add(d.At("rewrite", i, "times"), "`times` is negative", "leave it out for once or more")
		}
	}
}
