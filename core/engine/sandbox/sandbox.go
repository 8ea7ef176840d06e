// Package sandbox runs the scripts of build steps. How far a step is kept
// apart from the machine is a Runner's business; what a script sees of its
// surroundings is the same under each.
//
// Namespaces is the runner that counts. It starts the program itself again in
// new user, mount, pid, ipc, uts and network namespaces (namespaces(7)): the
// outer half is namespaces.go, the inner half inside.go, and a program that
// uses it calls Enter before anything else. Inside, a system is mounted
// read-only at /, and the tree that the step works on at TreeDir. None runs
// scripts as plain processes, for machines where namespaces are unavailable.
package sandbox

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"time"
)

// Where things stand inside a sandbox of namespaces.
const (
	TreeDir   = "/build"
	RecipeDir = "/recipe"
)

// Command is a script to run under sh -eu, or a function to call.
type Command struct {
	Name   string    // of the step: the shell's messages begin with it
	Script string    // POSIX shell
	Dir    string    // where it starts
	Env    []string  // all of the environment
	Files  string    // a private directory for the runner's own files; exists, and is empty
	Output io.Writer // standard output and error

	// The rest is for runners that keep steps apart.
	Tree   Tree
	Recipe string   // a directory to be read at RecipeDir; empty for none
	Over   []string // directories laid over the system, the upper ones first
	Limits Limits
	Trace  bool // note which files of the system are used, in Usage
	// Allow names system calls beyond the usual ones, of Allowances.
	Allow []string

	// Proxy, if set, serves the connections that the command makes to ProxyAddress, which
	// are its only way to a network. It returns once the listener is closed.
	Proxy func(net.Listener)

	// Root, if set, is a directory that the command has as its file system, over the
	// runner's system, and can write to, as root: in place of Tree and Recipe.
	Root string
	// Alone leaves the system out from below Root.
	Alone bool
	// Protected is a directory of Root, relative to it, that the command can only read.
	Protected string

	// Terminal, if set, makes this an interactive shell in place of the script.
	// The shell gets a pseudo-terminal of its own, connected with this one.
	Terminal *os.File

	call      string // the name of a registered function, in place of Script
	arguments json.RawMessage
}

// Tree is what a step works on: directories laid over each other, of which only
// the uppermost changes.
type Tree struct {
	Lower []string // the upper ones first; none where Upper holds everything
	Upper string
	Work  string // an empty directory on Upper's file system, for the kernel
}

// Limits bound what a step may use; zero is no limit.
type Limits struct {
	Memory    int64         // bytes that all of its processes have resident
	Processes int64         // at once
	Disk      int64         // bytes added to the tree and to /tmp
	Time      time.Duration // by the clock
}

// Usage is what a command took.
type Usage struct {
	Memory int64         // bytes resident in all processes, at the most that was seen
	CPU    time.Duration // user and system time of all processes
	// Left are the commands that were still running at the end, and were
	// ended with it.
	Left []string
	// Touched are the files of the system, and of what is laid over it, that
	// were opened or run, where that was asked for.
	Touched []Touch
}

// Runner runs commands.
type Runner interface {
	// Isolation names what keeps the step apart, for the package's record.
	Isolation() string
	// OwnFileSystem reports whether commands see a file system of their own, with
	// the directories of Command mounted in it.
	OwnFileSystem() bool
	// CanOverlay reports whether the tree of a command can be an overlay of
	// directories. If not, dependencies are unpacked into a directory of the tree,
	// to which environment variables point.
	CanOverlay() bool
	// Run waits for the script and everything that it started. The error is
	// an *ExitError if the script itself failed.
	Run(ctx context.Context, c Command) (Usage, error)
	// Call calls a registered function as the command, with arguments that
	// JSON can carry.
	Call(ctx context.Context, c Command, function string, arguments any) error
}

// functions are what Call can call.
var functions = map[string]func(json.RawMessage) error{}

// Register names a function for Call. It runs in a process of its own where
// the runner keeps steps apart, so that its error arrives as text.
func Register[T any](name string, f func(T) error) {
	functions[name] = func(data json.RawMessage) error {
		var arguments T
		if err := json.Unmarshal(data, &arguments); err != nil {
			return err
		}
		return f(arguments)
	}
}

// ExitError is a script that failed.
type ExitError struct {
	Status int    // the exit status, or 128 and the signal's number
	Signal string // the signal's name, when one ended it
	Line   int    // of the script, of the statement that failed; 0 if unknown
	Limit  string // the limit that it ran into, with how much that is
}

func (e *ExitError) Error() string {
	switch {
	case e.Limit != "":
		return "was ended: it went over the limit on " + e.Limit
	case e.Signal != "":
		return "was ended by a signal: " + e.Signal
	}
	return fmt.Sprintf("ended with exit status %d", e.Status)
}
