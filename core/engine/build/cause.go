package build

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/pattern"
)

// Cause is what a step most likely failed of, read from its log.
type Cause struct {
	Kind    string `json:"kind"`               // one of the kinds below
	What    string `json:"what"`               // the command, header, path, address …
	Need    string `json:"need,omitempty"`     // the build dependency that would provide it
	Message string `json:"message"`            // in a sentence
	Remedy  string `json:"remedy"`             // what to do
	LogLine int    `json:"log_line,omitempty"` // where the log says so, from 1
}

// Kinds of cause.
const (
	MissingCommand = "command"
	MissingHeader  = "header"
	MissingLibrary = "library"
	MissingModule  = "module" // of pkg-config, Python or Perl
	NoNetwork      = "network"
	WritesOutside  = "outside"
	ChangesOwner   = "owner"
	DiskFull       = "disk"
	MemoryFull     = "memory"
	ProcessesFull  = "processes"
	NoTarget       = "target" // a makefile has no such target
	StrictWarnings = "warnings"
	CompileError   = "compiler"
	OldProject     = "old"     // for a newer tool than it was written for
	ForeignCode    = "foreign" // a program of another architecture
)

// logPattern is how a cause shows in a log. The text is the first group that
// matched.
type logPattern struct {
	kind    string
	pattern pattern.Pattern
	cause   func(what string) Cause
}

func missing(kind, needKind, message string) func(string) Cause {
	return func(what string) Cause {
		n := needKind + "/" + what
		if _, err := need.Parse(n); err != nil {
			n = ""
		}
		return Cause{What: what, Need: n, Message: fmt.Sprintf(message, what)}
	}
}

func says(message, remedy string) func(string) Cause {
	return func(what string) Cause {
		return Cause{What: what, Message: strings.ReplaceAll(message, "%s", what), Remedy: strings.ReplaceAll(remedy, "%s", what)}
	}
}

// logPatterns, the surest first: of the causes that a log shows, the one whose logPattern
// comes first here is told.
var logPatterns = []logPattern{
	{DiskFull, pattern.New(`No space left on device|Disk quota exceeded|File size limit exceeded`), says("the disk is full", "make room, or raise `disk` in [build] of ellwand.toml")},
	{MemoryFull, pattern.New(`virtual memory exhausted|[Cc]annot allocate memory|out of memory|fatal error: Killed signal|std::bad_alloc`), says("memory ran out", "let fewer processes run at once: `jobs` in [build] of ellwand.toml")},
	{ProcessesFull, pattern.New(`[Cc]annot fork|fork: .*Resource temporarily unavailable`), says("no more processes can be started", "the step starts too many, or raise `processes` in [build] of ellwand.toml")},
	{MissingHeader, pattern.New(`fatal error: ([^\s:]+\.(?:h|hh|hpp|hxx|inc)): No such file`), missing(MissingHeader, need.Header, "the header %s is missing")},
	{MissingHeader, pattern.New(`fatal error: '([^']+)' file not found`), missing(MissingHeader, need.Header, "the header %s is missing")},
	{MissingModule, pattern.New(`No package '([\w.+-]+)' found|Package '?([\w.+-]+)'?,? (?:was not found in the pkg-config|required by)`), missing(MissingModule, need.PkgConfig, "the pkg-config module %s is missing")},
	{MissingModule, pattern.New(`Dependency "([\w.+-]+)" not found`), missing(MissingModule, need.PkgConfig, "the library %s is missing")},
	{MissingModule, pattern.New(`ModuleNotFoundError: No module named '([\w]+)|BackendUnavailable: Cannot import '([\w]+)`), missing(MissingModule, need.Python, "the Python module %s is missing")},
	{MissingModule, pattern.New(`Can't locate ([\w/]+)\.pm in @INC`), func(what string) Cause {
		return missing(MissingModule, need.Perl, "the Perl module %s is missing")(strings.ReplaceAll(what, "/", "::"))
	}},
	{MissingLibrary, pattern.New(`cannot find -l([\w.+-]+)`), func(what string) Cause {
		return Cause{What: what, Message: "the library " + what + " is missing: the linker cannot find it", Remedy: fmt.Sprintf("add the build dependency that provides lib%s.so, such as %q", what, need.PkgConfig+"/"+what)}
	}},
	{MissingCommand, pattern.New(`(?m)(?:^|[ /])(?:sh|bash|dash|env|build|prepare|test|stage)?:? ?(?:line )?\d*:? ?([\w.+-]+): (?:command )?not found$`), missing(MissingCommand, need.Command, "the command %s is missing")},
	{MissingCommand, pattern.New(`(?m)^(?:g?make(?:\[\d+\])?|(?:/usr)?(?:/bin/)?env): [‘'"]?([\w.+-]+)[’'"]?: No such file or directory$`), missing(MissingCommand, need.Command, "the command %s is missing")},
	{MissingCommand, pattern.New(`Can't exec "([\w.+-]+)": No such file`), missing(MissingCommand, need.Command, "the command %s is missing")},
	{MissingCommand, pattern.New(`Program '([\w.+-]+)' not found|Program ([\w.+-]+) found: NO`), missing(MissingCommand, need.Command, "the command %s is missing")},
	{MissingCommand, pattern.New(`Could not find [^\n]*?the following names:\s+([\w.+-]+)`), missing(MissingCommand, need.Command, "the command %s is missing")},
	{MissingModule, pattern.New(`Could NOT find ([\w.+-]+) \(missing:`), func(what string) Cause {
		return Cause{What: what, Message: "CMake does not find " + what, Remedy: "add the build dependency that provides it, or configure without it: `configure` in [steps]"}
	}},
	{MissingLibrary, pattern.New(`^configure: error: "?(?:\*+ )?(?:[Tt]he )?([A-Za-z][\w.+-]*)(?: library| headers?| development files)? (?:was |were )?(?:not found|(?:is |are )?(?:required|missing|needed))`), says("%s is missing",
		"add the build dependency that provides it, such as \"pkgconfig/%s\", and install that")},
	{WritesOutside, pattern.New(`(?:[‘'"` + "`" + `]|(?:create|open|write to|remove|touch) |: )(/[^\s‘’'":` + "`" + `]+)[’'"]?:? ?(?:.*: )?(?:Read-only file system|Directory nonexistent)`),
		says("it writes to %s, outside of $DESTDIR", "steps write to the work tree and to $DESTDIR alone: install to \"$DESTDIR%s\"")},
	{WritesOutside, pattern.New(`()Read-only file system`), says("it writes to the system", "steps write to the work tree and to $DESTDIR alone")},
	{NoNetwork, pattern.New(`failed to load external entity "(https?://[^"]+)"|I/O error : Attempt to load network entity (\S+)`), says("it loads %s, which the system's XML catalog does not have",
		"install what brings it to the system, such as the DTDs and style sheets of DocBook")},
	{NoNetwork, pattern.New(`Could not resolve host:? '?([\w.-]+)|lookup ([\w.-]+)(?: on [^:]+:\d+)?: |unable to resolve host address [‘']([\w.-]+)|Failed to connect to ([\w.-]+)|Network is unreachable|Temporary failure in name resolution|Name or service not known|module lookup disabled`),
		func(what string) Cause {
			m := "it reaches for the network"
			if what != "" {
				m += ": " + what
			}
			return Cause{What: what, Message: m, Remedy: "a build has none: name what it fetches as a [[source]], with its sha256"}
		}},
	{ChangesOwner, pattern.New(`(?:changing ownership of|cannot change ownership of|^chown:|^chgrp:) [‘'"]?([^’'":\s]+)|(?:invalid user|unknown user|invalid group|unknown group):? [‘'"]?([^’'"\s]+)`),
		says("it gives files to another user (%s)", "steps run as an ordinary user: leave owners out of the install commands, and state them in the layout: { owner = \"…\" }")},
	{ForeignCode, pattern.New(`([^\s:]+): (?:cannot execute binary file: )?Exec format error|([^\s:]+): cannot execute binary file`), says("it runs %s, which is for another architecture",
		"build what has to run here with $BUILD_CC beforehand, as upstream's way of cross builds has it, or build on a machine of the target's architecture")},
	{NoTarget, pattern.New(`No rule to make target [‘'` + "`" + `]([\w.-]+)'|unknown target '([\w.-]+)'`), says("the makefile has no target %s", "write the step's script in [steps]")},
	{OldProject, pattern.New(`Compatibility with CMake < 3.5 has been removed`), says("it is written for an older CMake", "configure = [\"-DCMAKE_POLICY_VERSION_MINIMUM=3.5\"]")},
	{OldProject, pattern.New(`'?(aclocal-[\d.]+|automake-[\d.]+)'? is missing on your system`), says("its build files need %s", "regenerate them: `autoreconf -fi` in the prepare step, with the need command/autoreconf")},
	{StrictWarnings, pattern.New(`\[-Werror(?:=([\w-]+))?\]|all warnings being treated as errors`), says("a compiler warning is treated as an error", "add -Wno-error to CFLAGS in the step, or fix what it warns about with a [[patch]]")},
	{CompileError, pattern.New(`^(\S+?:\d+(?::\d+)?: (?:fatal )?error: .+)$`), says("the compiler stops: %s", "fix the source with a [[patch]], or set what it asks for in the step")},
}

// whoHas looks for what is missing among the workspace's packages, and says
// which need brings it.
func (j *job) whoHas(c *Cause) {
	n, err := need.Parse(c.Need)
	if c.Need == "" || err != nil {
		return
	}
	all, err := j.Packages()
	if err != nil {
		return
	}
	p := satisfy.Find(all, n)
	wanted := c.Need
	if p == nil && c.Kind == MissingHeader {
		p, wanted = withHeader(all, c.What)
	}
	if p != nil && p.Facts.Recipe != j.recipe.Name {
		c.Need = wanted
		c.Remedy = fmt.Sprintf("%s, in this workspace, provides it: build = [%q] in [needs]", p.Facts.Identity(), wanted)
	}
}

// withHeader finds the newest package with a header, and what to need for it:
// its pkg-config module, if it has one, which says where the header is.
func withHeader(all []*satisfy.Package, name string) (*satisfy.Package, string) {
	newest := slices.SortedFunc(slices.Values(all), func(a, b *satisfy.Package) int { return b.Facts.Full().Compare(a.Facts.Full()) })
	for _, l := range newest {
		p, err := ell.Open(l.Path)
		if err != nil {
			continue
		}
		entries, err := p.Layout()
		p.Close()
		if err != nil || !slices.ContainsFunc(entries, func(e ell.Entry) bool {
			return strings.HasPrefix(e.Path, "/usr/include/") && strings.HasSuffix(e.Path, "/"+name)
		}) {
			continue
		}
		for _, provide := range l.Facts.AllProvides() {
			if provide.Kind == need.PkgConfig {
				return l, need.PkgConfig + "/" + provide.Name
			}
		}
		return l, l.Facts.Name
	}
	return nil, ""
}

// maxLog bounds how much of a log is searched, in bytes, from its end.
const maxLog = 4 << 20

// eachLine calls visit with the lines of a log that are searched, without escapes, and their
// numbers from 1; 0 if they are not known, since the log is too long to be read whole.
func eachLine(log io.ReadSeeker, visit func(number int, line string)) error {
	size, err := log.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if _, err := log.Seek(max(0, size-maxLog), io.SeekStart); err != nil {
		return err
	}
	in := bufio.NewReader(log)
	for number := 1; ; number++ {
		raw, err := in.ReadString('\n')
		if line := trim(raw); line != "" && size > maxLog {
			visit(0, line)
		} else if line != "" {
			visit(number, line)
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Diagnose reads a step's log for what it failed of, the most likely first.
func Diagnose(log io.ReadSeeker) ([]Cause, error) {
	found := map[int]Cause{} // logPattern → the last cause that shows it
	err := eachLine(log, func(number int, line string) {
		for i, s := range logPatterns {
			m := s.pattern.FindStringSubmatch(line)
			if m == nil || ignored.MatchString(line) {
				continue
			}
			what := ""
			for _, group := range m[1:] {
				if group != "" {
					what = group
					break
				}
			}
			c := s.cause(what)
			c.Kind, c.LogLine = s.kind, number
			if c.Need != "" && c.Remedy == "" {
				c.Remedy = fmt.Sprintf("build = [%q] in [needs], and install a package that provides it", c.Need)
			}
			if _, ok := found[i]; !ok { // the first of its kind causes the others
				found[i] = c
			}
		}
	})
	if err != nil {
		return nil, err
	}
	var out []Cause
	for i := range logPatterns {
		c, ok := found[i]
		// One line of the log reports one cause.
		if ok && !slices.ContainsFunc(out, func(o Cause) bool { return o.LogLine == c.LogLine && c.LogLine > 0 }) {
			out = append(out, c)
		}
	}
	return out, nil
}

// ignored are lines of configure scripts that report what is missing and go on.
var ignored = pattern.New(`(?i)^(checking|looking for|-- (looking for|could not?t find)|configure: warning|run-time dependency .* found: no)`)
