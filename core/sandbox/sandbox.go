// Package sandbox runs the scripts of build steps. How far a step is kept
// apart from the machine is a Runner's business; what a script sees of its
// surroundings is the same under each.
package sandbox

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"mvdan.cc/sh/v3/syntax"
)

// Command is a script to run under sh -eu.
type Command struct {
	Name   string    // of the step: the shell's messages begin with it
	Script string    // POSIX shell
	Dir    string    // where it starts
	Env    []string  // all of the environment
	Files  string    // a private folder for the runner's own files; exists
	Output io.Writer // standard output and error
}

// Runner runs commands.
type Runner interface {
	// Isolation names what keeps the step apart, for the package's record.
	Isolation() string
	// Run waits for the script and everything that it started. The error is
	// an *ExitError where the script itself failed.
	Run(ctx context.Context, c Command) error
}

// ExitError is a script that failed.
type ExitError struct {
	Status int    // the exit status, or 128 and the signal's number
	Signal string // the signal's name, when one ended it
	Line   int    // of the script, of the statement that failed; 0 if unknown
}

func (e *ExitError) Error() string {
	if e.Signal != "" {
		return "was ended by a signal: " + e.Signal
	}
	return fmt.Sprintf("ended with exit status %d", e.Status)
}

// None runs scripts as plain processes of the caller's, kept apart by nothing
// but their environment.
type None struct{}

// Isolation is "none".
func (None) Isolation() string { return "none" }

// grace is how long processes may take to end when they are asked to.
const grace = 3 * time.Second

// Run starts the script in a process group of its own, so that all of it ends
// with the step, also when Ellwand is interrupted.
func (None) Run(ctx context.Context, c Command) error {
	shell, err := exec.LookPath("sh")
	if err != nil {
		return err
	}
	at := filepath.Join(c.Files, c.Name+".line")
	file := filepath.Join(c.Files, c.Name)
	if err := os.WriteFile(file, []byte(instrument(c.Script, at)), 0o644); err != nil {
		return err
	}
	if err := os.RemoveAll(at); err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, shell, "-eu", file)
	cmd.Dir, cmd.Env = c.Dir, c.Env
	cmd.Stdout, cmd.Stderr = c.Output, c.Output
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }
	cmd.WaitDelay = grace

	// The kernel sends Pdeathsig when the thread that started the child ends.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := cmd.Start(); err != nil {
		return err
	}
	err = cmd.Wait()
	// What a script leaves running does not outlive its step.
	syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err == nil || errors.Is(err, exec.ErrWaitDelay) {
		return nil
	}
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	e := &ExitError{Status: exit.ExitCode()}
	if ws, ok := exit.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
		e.Status, e.Signal = 128+int(ws.Signal()), ws.Signal().String()
	}
	if text, err := os.ReadFile(at); err == nil {
		e.Line, _ = strconv.Atoi(string(text))
	}
	return e
}

// instrument makes a script note which of its statements runs, and leave the
// line of the last one in a file when it fails. Lines stay where they are, so
// that the shell's own messages name the right ones. A script that does not
// parse is left to the shell to complain of.
func instrument(script, at string) string {
	prelude := fmt.Sprintf(`umask 022; ell_at=1; trap '[ "$?" -eq 0 ] || printf %%s "$ell_at" > %s' EXIT; `, quoteTwice(at))
	parsed, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(script), "")
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
