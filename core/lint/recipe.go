package lint

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// recipeCheck is what rules about recipes see.
type recipeCheck struct {
	collector
	*recipe.Recipe
	linter *Linter
	ctx    context.Context

	parsed []script
}

// at reports something about a place in the recipe.
func (c *recipeCheck) at(span document.Span, format string, args ...any) {
	c.fixable(span, nil, format, args...)
}

// fixable is at, with an automatic fix.
func (c *recipeCheck) fixable(span document.Span, e edits, format string, args ...any) {
	f := fact.Finding{File: c.Doc.File, Line: lineOf(c.Doc, span), Message: fmt.Sprintf(format, args...)}
	if e != nil {
		f.Fix = &fix{edits: e}
	}
	c.add(f)
}

// script is a shell script of a recipe.
type script struct {
	step     string // empty for install scripts
	name     string // as messages have it
	text     string
	node     *document.Node
	file     *syntax.File
	commands []command
}

// command is a simple command of a script.
type command struct {
	name string   // its first word; empty if that is not plain text
	args []string // the others: what they say, empty if that is not plain text
	raw  []string // the others as they are written
	call *syntax.CallExpr
}

// base is the last part of the command's path.
func (c command) base() string { return path.Base(c.name) }

// has reports whether one of the arguments is among words.
func (c command) has(words ...string) bool {
	return slices.ContainsFunc(c.args, func(a string) bool { return slices.Contains(words, a) })
}

// first is the first argument that is no option.
func (c command) first() string {
	for _, a := range c.args {
		if !strings.HasPrefix(a, "-") {
			return a
		}
	}
	return ""
}

// scripts are those of the steps that are written, parsed.
func (c *recipeCheck) scripts() []script {
	if c.parsed == nil {
		c.parsed = []script{}
		for _, step := range recipe.StepNames {
			n := c.Doc.Find("steps", step)
			if n == nil || n.Kind != document.String || n.Text == "" {
				continue
			}
			if s, ok := parseScript(n.Text); ok {
				s.step, s.name, s.node = step, "step "+step, n
				c.parsed = append(c.parsed, s)
			}
		}
	}
	return c.parsed
}

// parseScript reads a script as POSIX shell.
func parseScript(text string) (s script, ok bool) {
	file, mistake := recipe.ParseShell(text)
	if mistake != nil {
		return s, false
	}
	s = script{text: text, file: file}
	syntax.Walk(file, func(n syntax.Node) bool {
		if call, ok := n.(*syntax.CallExpr); ok && len(call.Args) > 0 {
			s.commands = append(s.commands, s.command(call))
		}
		return true
	})
	return s, true
}

func (s script) command(call *syntax.CallExpr) command {
	cmd := command{call: call, name: plain(call.Args[0])}
	for _, w := range call.Args[1:] {
		cmd.args = append(cmd.args, plain(w))
		cmd.raw = append(cmd.raw, s.source(w))
	}
	return cmd
}

// source is how a piece of the script is written.
func (s script) source(n syntax.Node) string {
	return s.text[n.Pos().Offset():min(int(n.End().Offset()), len(s.text))]
}

// plain is what a word says, or nothing where it has a variable or a command
// in it.
func plain(w *syntax.Word) string {
	var b strings.Builder
	for _, part := range w.Parts {
		switch p := part.(type) {
		case *syntax.Lit:
			b.WriteString(p.Value)
		case *syntax.SglQuoted:
			b.WriteString(p.Value)
		case *syntax.DblQuoted:
			for _, inner := range p.Parts {
				lit, ok := inner.(*syntax.Lit)
				if !ok {
					return ""
				}
				b.WriteString(lit.Value)
			}
		default:
			return ""
		}
	}
	return b.String()
}

// inScript reports something about a piece of a script.
func (c *recipeCheck) inScript(s script, n syntax.Node, format string, args ...any) {
	c.replace(s, n, "", "", format, args...)
}

// replace is inScript for a piece that becomes good by putting one text in
// another's place.
func (c *recipeCheck) replace(s script, n syntax.Node, old, now string, format string, args ...any) {
	offset := int(n.Pos().Offset())
	span := s.node.Value
	if at := c.Doc.Inside(s.node, offset, int(n.End().Offset())-offset); at != s.node.Value {
		span = at
	}
	f := fact.Finding{File: c.Doc.File, Line: lineOf(c.Doc, span), Message: s.name + ": " + fmt.Sprintf(format, args...)}
	if old != "" && s.step != "" {
		f.Fix = &fix{edits: inScript(s.step, offset, old, now), offset: offset}
	}
	c.add(f)
}

// eachCommand calls f for every command of the steps' scripts.
func (c *recipeCheck) eachCommand(f func(s script, cmd command)) {
	for _, s := range c.scripts() {
		for _, cmd := range s.commands {
			f(s, cmd)
		}
	}
}
