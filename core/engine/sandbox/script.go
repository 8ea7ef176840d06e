package sandbox

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/shellparse"
)

// instrument makes a script note which of its statements runs, and leave the
// line of the last one in a file when it fails. Lines stay where they are, so
// that the shell's own messages name the right ones. A script that does not
// parse is left to the shell to complain of.
func instrument(script, at string) string {
	prelude := fmt.Sprintf(`umask 022; ell_at=1; trap '[ "$?" -eq 0 ] || printf %%s "$ell_at" > %s' EXIT; `, quoteTwice(at))
	parsed, err := shellparse.Parse(script, syntax.LangPOSIX)
	if err != nil {
		return prelude + script
	}
	var marks []syntax.Pos
	note := func(stmts []*syntax.Stmt) {
		for _, s := range stmts {
			marks = append(marks, s.Pos())
		}
	}
	note(parsed.Stmts)
	syntax.Walk(parsed, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.Block:
			note(n.Stmts)
		case *syntax.IfClause:
			note(n.Then)
		case *syntax.ForClause:
			note(n.Do)
		case *syntax.WhileClause:
			note(n.Do)
		case *syntax.CaseItem:
			note(n.Stmts)
		case *syntax.CmdSubst, *syntax.Subshell:
			return false // a variable set in there is not seen outside
		}
		return true
	})
	var b strings.Builder
	b.WriteString(prelude)
	done := 0
	sortPositions(marks)
	for i, m := range marks {
		if i > 0 && marks[i-1].Offset() == m.Offset() {
			continue
		}
		b.WriteString(script[done:m.Offset()])
		fmt.Fprintf(&b, "ell_at=%d; ", m.Line())
		done = int(m.Offset())
	}
	b.WriteString(script[done:])
	return b.String()
}

func sortPositions(ps []syntax.Pos) {
	slices.SortFunc(ps, func(a, b syntax.Pos) int { return cmp.Compare(a.Offset(), b.Offset()) })
}

// quoteTwice quotes a path for a shell inside a single-quoted trap.
func quoteTwice(s string) string {
	quoted, err := syntax.Quote(s, syntax.LangPOSIX)
	if err != nil {
		quoted = "/dev/null"
	}
	return strings.ReplaceAll(quoted, "'", `'\''`)
}
