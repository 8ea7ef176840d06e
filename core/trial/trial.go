// Package trial checks packages that are installed in a root: whether their programs and
// libraries load, their commands answer, and what they name is there. docs/trials.md
// describes the checks.
package trial

import (
	"context"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/files"
	"ellwand.example/core/staging"
	"golang.org/x/sys/unix"
)

// State is the result of a check.
type State string

// The states.
const (
	Passed  State = "passed"
	Failed  State = "failed"
	Skipped State = "skipped" // it could not be made here; Message says why
)

// Names of checks.
const (
	Install   = "install"
	Libraries = "libraries"
	Command   = "command"
	Script    = "trial"
	Module    = "module"
	PkgConfig = "pkgconfig"
	Unit      = "unit"
	Desktop   = "desktop"
	Account   = "account"
	Upgrade   = "upgrade"
	Remove    = "remove"
)

// Check is one check of a package.
type Check struct {
	Package string        `json:"package"`
	Name    string        `json:"check"`
	Subject string        `json:"subject,omitempty"` // a path, a command, a module
	State   State         `json:"state"`
	Message string        `json:"message,omitempty"`
	Command string        `json:"command,omitempty"` // that was run
	Output  string        `json:"output,omitempty"`  // the end of what it wrote
	Remedy  string        `json:"remedy,omitempty"`
	Time    time.Duration `json:"time"` // nanoseconds
}

// Result is how a script ended.
type Result struct {
	Status int    // exit status, or 128 and the number of a signal
	Signal string // the signal's name, if one ended it
	Limit  string // the limit that it exceeded
	Output string // the end of it
}

// Sandbox runs scripts in the root, as an ordinary account that can write only to /tmp
// and its own directory.
type Sandbox interface {
	Run(ctx context.Context, script string, limit time.Duration) (Result, error)
}

// Settings are what a recipe says about the trials of its packages.
type Settings struct {
	Run      string            // a script
	Commands map[string]string // arguments that a command is called with
	Skip     []string          // commands that are not called
}

// Subject is a package to check.
type Subject struct {
	Facts    ell.Facts
	Layout   []ell.Entry
	At       func(string) string // where a path of the package is in the root
	Settings Settings
	First    bool // of the packages of its recipe: the recipe's script is run once
}

// Checker checks packages in a root.
type Checker struct {
	Sandbox Sandbox
	Tree    *os.Root // of the root
	System  *os.Root // that it is based on; nil for none
}

// Limits of time for one command, and for the recipe's script.
const (
	commandTime = 20 * time.Second
	scriptTime  = 10 * time.Minute
)

// Check makes all checks of an installed package. The error is that of the sandbox, not
// of a check.
func (c *Checker) Check(ctx context.Context, s Subject) ([]Check, error) {
	var out []Check
	for _, check := range []func(context.Context, Subject) ([]Check, error){c.libraries, c.commands, c.script, c.modules, c.pkgConfig, c.units, c.accounts} {
		began := time.Now()
		found, err := check(ctx, s)
		if err != nil {
			return out, err
		}
		for i := range found {
			found[i].Package = s.Facts.Name
			if found[i].Time == 0 {
				found[i].Time = time.Since(began) / time.Duration(len(found))
			}
		}
		out = append(out, found...)
	}
	return out, nil
}

// run runs a script as one check: it fails if the script does.
func (c *Checker) run(ctx context.Context, check Check, script string, limit time.Duration) (Check, error) {
	began := time.Now()
	r, err := c.Sandbox.Run(ctx, script, limit)
	check.Time, check.Output, check.State = time.Since(began), end(r.Output), Passed
	if err != nil {
		return check, err
	}
	if r.failed() {
		check.State, check.Message = Failed, r.Reason()
	}
	return check, nil
}

func (r Result) failed() bool { return r.Status != 0 || r.Limit != "" }

// Reason says in words how a script failed.
func (r Result) Reason() string {
	switch {
	case r.Limit != "":
		return "it exceeded the limit on " + r.Limit
	case r.Signal != "":
		return "it was ended by a signal: " + r.Signal
	case r.Status == 126 || r.Status == 127:
		return fmt.Sprintf("it could not be started (exit status %d)", r.Status)
	}
	return fmt.Sprintf("it ended with exit status %d", r.Status)
}

// commandDirs are where commands are.
var commandDirs = []string{"/usr/bin", "/usr/sbin", "/bin", "/sbin", "/usr/local/bin", "/usr/local/sbin"}

// commands calls each command of the package.
func (c *Checker) commands(ctx context.Context, s Subject) ([]Check, error) {
	var out []Check
	for _, e := range s.Layout {
		name := path.Base(e.Path)
		if !slices.Contains(commandDirs, path.Dir(e.Path)) || e.Type == staging.Directory || e.Type == staging.File && fact.ParseMode(e.Mode)&0o111 == 0 {
			continue
		}
		check := Check{Name: Command, Subject: name}
		if slices.Contains(s.Settings.Skip, name) {
			check.State, check.Message = Skipped, "the recipe says not to call it"
			out = append(out, check)
			continue
		}
		check, err := c.command(ctx, check, e.Path, s.Settings)
		if err != nil {
			return out, err
		}
		out = append(out, check)
	}
	return out, nil
}

// command calls a command as the recipe says; otherwise with --version, and with --help
// if that fails. One that starts and does not know either has answered.
func (c *Checker) command(ctx context.Context, check Check, file string, s Settings) (Check, error) {
	quoted := quote(file)
	if arguments, ok := s.Commands[check.Subject]; ok {
		check.Command = strings.TrimSpace(check.Subject + " " + arguments)
		return c.run(ctx, check, quoted+" "+arguments+" </dev/null", commandTime)
	}
	var first Check
	for _, argument := range []string{"--version", "--help"} {
		check.Command = check.Subject + " " + argument
		tried, err := c.run(ctx, check, quoted+" "+argument+" </dev/null", commandTime)
		if err != nil || tried.State == Passed {
			return tried, err
		}
		if first.Name == "" {
			first = tried
		}
		if starts(tried) {
			first = tried
		}
	}
	if starts(first) {
		first.State, first.Message = Passed, "it starts, and knows neither --version nor --help"
		return first, nil
	}
	first.Remedy = fmt.Sprintf("if it has to be called in another way, say so in the recipe: [trial.commands] %s = \"--arguments\"; or skip = [%q] in [trial]", check.Subject, check.Subject)
	return first, nil
}

// starts reports whether a command that failed had at least begun its own work.
func starts(c Check) bool {
	return strings.HasPrefix(c.Message, "it ended with exit status") && !strings.Contains(c.Output, "error while loading shared libraries") &&
		!strings.Contains(c.Output, "symbol lookup error") && !strings.Contains(c.Output, "version `")
}

// script runs the script of the recipe.
func (c *Checker) script(ctx context.Context, s Subject) ([]Check, error) {
	if strings.TrimSpace(s.Settings.Run) == "" || !s.First {
		return nil, nil
	}
	check, err := c.run(ctx, Check{Name: Script, Subject: "the recipe's script", Command: "[trial] run"}, s.Settings.Run, scriptTime)
	return []Check{check}, err
}

// modules imports what the package provides to Python and Perl.
func (c *Checker) modules(ctx context.Context, s Subject) ([]Check, error) {
	var out []Check
	for _, p := range s.Facts.Provides {
		var interpreter, script string
		switch name := p.Provide.Name; p.Provide.Kind {
		case need.Python:
			interpreter, script = "python3", "python3 -c "+quote("import "+name)
		case need.Perl:
			interpreter, script = "perl", "perl -e "+quote("require "+name)
		default:
			continue
		}
		check := Check{Name: Module, Subject: p.Provide.Name, Command: script}
		if !c.hasCommand(interpreter) {
			check.State, check.Message = Skipped, "the root has no "+interpreter
			out = append(out, check)
			continue
		}
		check, err := c.run(ctx, check, script, commandTime)
		if err != nil {
			return out, err
		}
		out = append(out, check)
	}
	return out, nil
}

// pkgConfig compiles a program with each module that the package has.
func (c *Checker) pkgConfig(ctx context.Context, s Subject) ([]Check, error) {
	var out []Check
	for _, p := range s.Facts.Provides {
		if p.Provide.Kind != need.PkgConfig {
			continue
		}
		module := quote(p.Provide.Name)
		check := Check{Name: PkgConfig, Subject: p.Provide.Name, Command: "cc … $(pkg-config --cflags --libs " + module + ")"}
		if tool := c.missing("cc", "pkg-config"); tool != "" {
			check.State, check.Message = Skipped, "the root has no "+tool
			out = append(out, check)
			continue
		}
		check, err := c.run(ctx, check, `flags=$(pkg-config --print-errors --cflags --libs `+module+`)
echo 'int main(void) { return 0; }' >/tmp/trial.c
cc -o /tmp/trial /tmp/trial.c $flags
/tmp/trial`, commandTime)
		if err != nil {
			return out, err
		}
		if check.State == Failed {
			check.Remedy = "the package, or one that it needs, has to contain what the module names"
		}
		out = append(out, check)
	}
	return out, nil
}

func (c *Checker) missing(names ...string) string {
	for _, name := range names {
		if !c.hasCommand(name) {
			return name
		}
	}
	return ""
}

func (c *Checker) hasCommand(name string) bool {
	return slices.ContainsFunc(commandDirs, func(dir string) bool { return c.has(path.Join(dir, name)) })
}

// has reports whether the root, or the system below, has a path.
func (c *Checker) has(p string) bool {
	for _, tree := range []*os.Root{c.Tree, c.System} {
		if tree == nil {
			continue
		}
		if _, err := tree.Lstat(strings.TrimPrefix(p, "/")); err == nil {
			return true
		}
		// The directory may be a link: /bin is one to usr/bin.
		if rest, ok := strings.CutPrefix(p, "/bin/"); ok && p != "/usr/bin/"+rest {
			if _, err := tree.Lstat("usr/bin/" + rest); err == nil {
				return true
			}
		}
	}
	return false
}

// maxText is the most bytes that are read of a unit, a desktop entry or a file of
// accounts.
const maxText = 1 << 20

// read returns a file of the root; nil if there is none that can be read.
func (c *Checker) read(p string) []byte {
	f, _, err := c.open(p)
	if err != nil {
		return nil
	}
	defer f.Close()
	data, err := files.ReadRegular(f, maxText)
	if err != nil {
		return nil
	}
	return data
}

// open opens a regular file of the root. Scripts of packages have run there: it may be
// something else by now.
func (c *Checker) open(p string) (*os.File, int64, error) {
	f, err := c.Tree.OpenFile(strings.TrimPrefix(p, "/"), os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, 0, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = files.ErrNotRegular
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, info.Size(), nil
}

// maxOutput is how much of the output of a check is kept, in bytes.
const maxOutput = 16 << 10

// end returns the end of a text.
func end(text string) string { return text[max(len(text)-maxOutput, 0):] }
