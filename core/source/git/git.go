// Package git calls the git program on repositories that may be a stranger's.
//
// A repository's own configuration can name programs for git to run, and so
// can the caller's environment. What is called here runs none of them: the
// environment has nothing of the caller's GIT_ variables, no hook, monitor,
// filter or external diff is started, and no protocol is spoken but those that
// a call is for. Files are read as the commit has them; git's own conversions
// of a checkout, which a repository's configuration can make programs of, are
// never asked for.
package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"
)

// Protocols are those that a call may speak: a list for GIT_ALLOW_PROTOCOL
// (git(1)).
type Protocols string

// Protocols of calls.
const (
	Local   Protocols = "none"               // none: nothing is fetched
	Network Protocols = "http:https:ssh:git" // from another machine
	Files   Protocols = "file"               // from a directory of this one
)

// Error is something that the git program could not do.
type Error struct{ Text string }

func (e *Error) Error() string { return "git: " + e.Text }

// ErrMissing says that there is no git program.
var ErrMissing = errors.New("the program git is not on this machine")

// kept are the variables of the caller's that a call gets: where programs and
// the user's own settings are, and how to reach the network.
var kept = []string{"PATH", "HOME", "USER", "LOGNAME", "XDG_CONFIG_HOME", "XDG_RUNTIME_DIR", "SSH_AUTH_SOCK", "TMPDIR",
	"http_proxy", "https_proxy", "no_proxy", "all_proxy", "HTTPS_PROXY", "NO_PROXY", "ALL_PROXY", "SSL_CERT_FILE", "SSL_CERT_DIR"}

// settings override those of any configuration file.
var settings = []string{
	"core.fsmonitor=false", "core.hooksPath=/dev/null", "core.pager=cat", "core.editor=false", "core.attributesFile=/dev/null",
	"diff.external=", "log.showSignature=false", "gc.auto=0", "maintenance.auto=false", "fetch.recurseSubmodules=false",
	"protocol.ext.allow=never", "submodule.recurse=false",
}

// Command prepares a call of git in a directory. It asks nothing of anyone. It
// has no terminal, and ends, with what it started, when the context does.
func Command(ctx context.Context, dir string, p Protocols, arguments ...string) *exec.Cmd {
	args := []string{"--no-optional-locks", "--no-pager"}
	for _, s := range settings {
		args = append(args, "-c", s)
	}
	cmd := exec.CommandContext(ctx, "git", append(args, arguments...)...)
	cmd.Dir = dir
	cmd.Env = []string{
		"LC_ALL=C", "GIT_TERMINAL_PROMPT=0", "GIT_ASKPASS=false", "SSH_ASKPASS=false", "GIT_SSH_COMMAND=ssh -o BatchMode=yes",
		"GIT_ALLOW_PROTOCOL=" + string(p), "GIT_NO_LAZY_FETCH=1", "GIT_NO_REPLACE_OBJECTS=1",
	}
	for _, name := range kept {
		if value, ok := os.LookupEnv(name); ok {
			cmd.Env = append(cmd.Env, name+"="+value)
		}
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second / 2
	return cmd
}

// maxOutput bounds what Output keeps, in bytes.
const maxOutput = 64 << 20

// Output runs a call and returns what it prints, of up to 64 MiB. The error is
// an *Error if git refuses, and ErrMissing if there is none.
func Output(ctx context.Context, dir string, p Protocols, arguments ...string) ([]byte, error) {
	var out, problems bounded
	out.most, problems.most = maxOutput, 1<<16
	cmd := Command(ctx, dir, p, arguments...)
	cmd.Stdout, cmd.Stderr = &out, &problems
	err := cmd.Run()
	if err == nil && out.over {
		err = &Error{fmt.Sprintf("it prints more than %d MiB", maxOutput>>20)}
	}
	return out.Bytes(), explain(ctx, err, problems.String())
}

// explain turns the end of a call into an error that tells why.
func explain(ctx context.Context, err error, problems string) error {
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case errors.Is(err, exec.ErrNotFound):
		return ErrMissing
	}
	text := strings.TrimPrefix(strings.TrimSpace(problems), "fatal: ")
	if text == "" {
		text = err.Error()
	}
	return &Error{text}
}

// bounded keeps the first bytes of what is written, and swallows the rest.
type bounded struct {
	bytes.Buffer
	most int
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	n := min(len(p), b.most-b.Len())
	b.over = b.over || n < len(p)
	b.Buffer.Write(p[:n])
	return len(p), nil
}

// HasNested reports whether a path has a part by which git knows a repository
// or its settings, in any case: what comes from elsewhere must not contain one.
func HasNested(path string) bool {
	for part := range strings.SplitSeq(path, "/") {
		// git itself takes these for the same on file systems that fold case,
		// drop dots at the end, or have short names.
		name := strings.TrimRight(strings.ToLower(part), ". ")
		if name == ".git" || name == "git~1" {
			return true
		}
	}
	return false
}
