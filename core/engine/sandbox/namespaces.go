package sandbox

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
)

// Namespaces runs commands in Linux namespaces of their own. Nothing of the
// machine can be written to but the tree, and no network is to be reached.
// Steps run as an unprivileged user in any case: an ordinary caller's own
// rights, or, called by root, those of the user number stepUser outside.
type Namespaces struct {
	// System is the directory of the system that is seen as /; empty for the
	// machine's own.
	System string
	// Copies says that overlay mounts are unavailable: every Tree has all
	// in Upper, and nothing can be laid over the system.
	Copies bool
	// User is the number that the steps' user has as they see it; 0 for
	// StepID.
	User int
}

// Isolation is "namespaces".
func (Namespaces) Isolation() string { return "namespaces" }

// stepUser is who runs the steps of a build that root calls, outside of the
// sandbox: a number that belongs to nobody.
const stepUser = 1_979_000_000

// StepID is who runs the steps as they see it themselves.
const StepID = 1000

// innerName is the name by which the program knows that it is started again
// as the inner half.
const innerName = "ellwand: sandbox"

// orders are what the outer half tells the inner one.
type orders struct {
	Command   string          `json:"command"` // its name
	Script    string          `json:"script,omitempty"`
	Call      string          `json:"call,omitempty"`
	Arguments json.RawMessage `json:"arguments,omitempty"`
	Dir       string          `json:"dir"`
	Env       []string        `json:"env"`
	System    string          `json:"system"`
	Root      string          `json:"root"`     // an empty directory to mount the new root on
	Temp      string          `json:"temp"`     // the directory for /tmp
	TempWork  string          `json:"tempWork"` // an empty one beside it, for the kernel
	Tree      Tree            `json:"tree"`
	Recipe    string          `json:"recipe,omitempty"`
	Over      []string        `json:"over,omitempty"`
	Limits    Limits          `json:"limits"`
	Trace     bool            `json:"trace,omitempty"`
	Terminal  bool            `json:"terminal,omitempty"`
	Copies    bool            `json:"copies,omitempty"`
	Drop      bool            `json:"drop,omitempty"` // begin as root, and run the command as User
	User      int             `json:"user"`
	Allow     []string        `json:"allow,omitempty"`
	Proxy     bool            `json:"proxy,omitempty"`
	Grouped   bool            `json:"grouped,omitempty"`  // a control group bounds memory and processes
	Writable  string          `json:"writable,omitempty"` // Command.Root
	Alone     bool            `json:"alone,omitempty"`
	Protected string          `json:"protected,omitempty"`
	Coverage  string          `json:"coverage,omitempty"` // a directory for coverage data, in tests
}

// report is what the inner half answers.
type report struct {
	Failed  string `json:"failed,omitempty"`  // why the sandbox itself could not be made
	Refused bool   `json:"refused,omitempty"` // for the kernel refused or lacks what it takes
	Status  int    `json:"status"`
	Signal  string `json:"signal,omitempty"`
	Line    int    `json:"line,omitempty"`
	Limit   string `json:"limit,omitempty"`
	Error   string `json:"error,omitempty"` // of a call
	Usage   Usage  `json:"usage"`
}

// RefusedError says that the machine does not let namespaces be made.
type RefusedError struct{ Reason string }

func (e *RefusedError) Error() string {
	return "steps cannot be kept apart from this machine: " + e.Reason
}

// Action runs steps without a sandbox.
func (e *RefusedError) Action() fact.Action { return fact.Action{Verb: fact.WithoutIsolation} }

// Status is that of something the machine lacks.
func (e *RefusedError) Status() fact.Status { return fact.StatusMachine }

// SetupError says that a sandbox could not be made, for another reason than
// that the machine refuses it.
type SetupError struct{ Reason string }

func (e *SetupError) Error() string { return "the sandbox for the step cannot be set up: " + e.Reason }

// Status is that of something the machine lacks.
func (e *SetupError) Status() fact.Status { return fact.StatusMachine }

// OwnFileSystem reports that commands see their own.
func (Namespaces) OwnFileSystem() bool { return true }

// CanOverlay reports whether overlay mounts work here.
func (n Namespaces) CanOverlay() bool { return !n.Copies }

// Run runs the script in a sandbox.
func (n Namespaces) Run(ctx context.Context, c Command) (Usage, error) {
	r, err := n.enter(ctx, c)
	if err != nil {
		return r.Usage, err
	}
	if c.Terminal == nil && (r.Status != 0 || r.Limit != "") {
		return r.Usage, &ExitError{Status: r.Status, Signal: r.Signal, Line: r.Line, Limit: r.Limit}
	}
	return r.Usage, nil
}

// Call calls the function in a sandbox.
func (n Namespaces) Call(ctx context.Context, c Command, function string, arguments any) error {
	data, err := json.Marshal(arguments)
	if err != nil {
		return err
	}
	c.call, c.arguments = function, data
	r, err := n.enter(ctx, c)
	switch {
	case err != nil:
		return err
	case r.Error != "":
		return errors.New(r.Error)
	case r.Status != 0:
		return &ExitError{Status: r.Status, Signal: r.Signal, Limit: r.Limit}
	}
	return nil
}

// Owner is the user and group, outside, that steps' files belong to; ok is
// false where they are the caller's own.
func Owner() (uid, gid int, ok bool) {
	return stepUser, stepUser, os.Geteuid() == 0 && allUsers()
}

// allUsers reports whether this user namespace has every user number, so that
// root in it can be any of them (user_namespaces(7)).
var allUsers = sync.OnceValue(func() bool {
	data, err := os.ReadFile("/proc/self/uid_map")
	fields := strings.Fields(string(data))
	return err == nil && len(fields) == 3 && fields[0] == "0" && fields[2] == "4294967295"
})

// Check finds out whether namespaces are available, and whether overlay
// mounts are. The directory is an empty one on the file system that trees will
// be on.
func Check(ctx context.Context, dir string) (Namespaces, error) {
	tree := Tree{Lower: []string{filepath.Join(dir, "lower")}, Upper: filepath.Join(dir, "upper"), Work: filepath.Join(dir, "work")}
	files := filepath.Join(dir, "files")
	for _, d := range []string{tree.Lower[0], tree.Upper, tree.Work, files} {
		if err := os.Mkdir(d, 0o755); err != nil {
			return Namespaces{}, err
		}
	}
	try := func(n Namespaces) error {
		c := Command{Name: "check", Dir: "/", Files: files, Output: io.Discard, Tree: tree}
		if n.Copies {
			c.Tree.Lower = nil
		}
		return n.Call(ctx, c, "sandbox.check", nil)
	}
	err := try(Namespaces{})
	var refused *RefusedError
	if !errors.As(err, &refused) {
		return Namespaces{}, err
	}
	if try(Namespaces{Copies: true}) == nil {
		return Namespaces{Copies: true}, nil
	}
	return Namespaces{}, err
}

func init() { Register("sandbox.check", func(any) error { return nil }) }

// enter starts the inner half, and waits for its report.
func (n Namespaces) enter(ctx context.Context, c Command) (r report, err error) {
	uid, gid, drop := Owner()
	s := orders{
		Command: c.Name, Script: c.Script, Call: c.call, Arguments: c.arguments, Dir: c.Dir, Env: c.Env,
		System: n.System, Root: filepath.Join(c.Files, "root"), Temp: filepath.Join(c.Files, "tmp"), TempWork: filepath.Join(c.Files, "tmp-work"),
		Allow: c.Allow, Coverage: os.Getenv("GOCOVERDIR"), Tree: c.Tree, Recipe: c.Recipe, Over: c.Over, Limits: c.Limits, Trace: c.Trace, Terminal: c.Terminal != nil, Copies: n.Copies, Drop: drop, User: cmp.Or(n.User, StepID),
		Proxy: c.Proxy != nil, Writable: c.Root, Alone: c.Alone, Protected: c.Protected,
	}
	if s.Writable != "" {
		s.Drop, s.User, drop = false, 0, false
		// The kernel makes directories in it that only their owner may remove.
		clear := func() error { return layer.RemoveAll(filepath.Join(c.Root, workDir)) }
		if err := clear(); err != nil {
			return r, err
		}
		defer func() { err = errors.Join(err, clear()) }()
	}
	if err := s.absolute(); err != nil {
		return r, err
	}
	// The kernel leaves a mark in its directories for volatile mounts, and does
	// not mount them again: it fears that something was lost in between.
	for _, dir := range []string{s.TempWork, s.Tree.Work} {
		if dir == "" {
			continue
		}
		if err := layer.RemoveAll(dir); err != nil {
			return r, err
		}
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return r, err
		}
	}
	for _, dir := range []string{s.Root, s.Temp} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return r, err
		}
	}
	if err := os.Chmod(s.Temp, 0o777|os.ModeSticky); err != nil {
		return r, err
	}
	if drop {
		for _, dir := range []string{s.Temp, s.Tree.Upper} {
			if err := os.Chown(dir, uid, gid); err != nil {
				return r, err
			}
		}
	}

	ordersOut, ordersIn, err := os.Pipe()
	if err != nil {
		return r, err
	}
	defer ordersIn.Close()
	reportOut, reportIn, err := os.Pipe()
	if err != nil {
		ordersOut.Close()
		return r, err
	}
	defer reportOut.Close()

	cmd := exec.Command("/proc/self/exe")
	cmd.Args = []string{innerName}
	cmd.Env = []string{"GOMAXPROCS=2"}
	if s.Coverage != "" {
		cmd.Env = append(cmd.Env, "GOCOVERDIR=/run/ellwand/coverage")
	}
	if race := os.Getenv("GORACE"); race != "" { // of a program built with the race detector
		cmd.Env = append(cmd.Env, "GORACE="+race)
	}
	cmd.ExtraFiles = []*os.File{ordersOut, reportIn}
	if c.Proxy != nil {
		proxy, err := startProxy(c.Proxy)
		if err != nil {
			return r, err
		}
		defer proxy.stop()
		cmd.ExtraFiles = append(cmd.ExtraFiles, proxy.inner)
	}
	cmd.Stdout, cmd.Stderr = c.Output, c.Output
	attr := &syscall.SysProcAttr{
		Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS | syscall.CLONE_NEWNET,
		Pdeathsig:  syscall.SIGKILL,
		// Ctrl-C is for the outer half to act on, and the caller's terminal for
		// nobody inside to use.
		Setsid: true,
	}
	if group := newCgroup(c.Limits); group != nil {
		defer group.remove()
		dir, err := os.Open(group.dir)
		if err != nil {
			return r, err
		}
		defer dir.Close()
		attr.UseCgroupFD, attr.CgroupFD, s.Grouped = true, int(dir.Fd()), true
		defer func() {
			peak, exceeded := group.used()
			r.Usage.Memory = max(r.Usage.Memory, peak)
			if exceeded && r.Limit == "" {
				r.Limit = "memory, " + bytesText(c.Limits.Memory)
			}
		}()
	}
	if s.Writable != "" {
		if err := asRoot(attr); err != nil {
			return r, err
		}
	} else if drop {
		attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: 0, Size: 1}, {ContainerID: s.User, HostID: uid, Size: 1}}
		attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: 0, Size: 1}, {ContainerID: s.User, HostID: gid, Size: 1}}
		attr.GidMappingsEnableSetgroups = true
	} else {
		attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: s.User, HostID: os.Geteuid(), Size: 1}}
		attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: s.User, HostID: os.Getegid(), Size: 1}}
		// Its user number is not 0 in there, and exec would take away what
		// the new namespace gave it.
		attr.AmbientCaps = innerCapabilities
	}
	if c.Terminal != nil {
		terminal, err := newRelay(c.Terminal)
		if err != nil {
			return r, err
		}
		defer terminal.Stop()
		defer terminal.Shell.Close()
		cmd.Stdin, cmd.Stdout, cmd.Stderr = terminal.Shell, terminal.Shell, terminal.Shell
	}
	cmd.SysProcAttr = attr

	// The kernel sends Pdeathsig when the thread that started the child ends.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	err = cmd.Start()
	ordersOut.Close()
	reportIn.Close()
	if err != nil {
		return r, explainRefusal(err)
	}
	var once sync.Once
	kill := func() { once.Do(func() { cmd.Process.Kill() }) }
	defer context.AfterFunc(ctx, kill)()
	// The pipe stays open: the inner half takes its end for the outer's.
	if err := json.NewEncoder(ordersIn).Encode(s); err != nil && !errors.Is(err, syscall.EPIPE) {
		kill()
		cmd.Wait()
		return r, err
	}
	decoded := json.NewDecoder(reportOut).Decode(&r)
	err = cmd.Wait()
	switch {
	case ctx.Err() != nil:
		return r, context.Cause(ctx)
	case r.Refused:
		return r, &RefusedError{r.Failed}
	case r.Failed != "":
		return r, &SetupError{r.Failed}
	case decoded != nil && err != nil:
		return r, fmt.Errorf("the sandbox ended without a word: %w", err)
	}
	return r, decoded
}

// absolute makes all paths absolute: the inner half has another working
// directory.
func (s *orders) absolute() error {
	s.Tree.Lower, s.Over = slices.Clone(s.Tree.Lower), slices.Clone(s.Over)
	paths := []*string{&s.System, &s.Root, &s.Temp, &s.TempWork, &s.Tree.Upper, &s.Tree.Work, &s.Recipe, &s.Writable, &s.Coverage}
	for i := range s.Tree.Lower {
		paths = append(paths, &s.Tree.Lower[i])
	}
	for i := range s.Over {
		paths = append(paths, &s.Over[i])
	}
	for _, p := range paths {
		if *p == "" {
			continue
		}
		var err error
		if *p, err = filepath.Abs(*p); err != nil {
			return err
		}
	}
	return nil
}

// explainRefusal tells why the kernel made no namespaces, where that is what
// the error means.
func explainRefusal(err error) error {
	reason := err.Error()
	read := func(name string) string {
		data, _ := os.ReadFile("/proc/sys/" + name)
		return strings.TrimSpace(string(data))
	}
	switch {
	case errors.Is(err, syscall.ENOMEM), errors.Is(err, syscall.EAGAIN), errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE), errors.Is(err, syscall.ENOENT):
		return &SetupError{reason}
	case read("user/max_user_namespaces") == "0":
		reason = "user namespaces are switched off (sysctl user.max_user_namespaces is 0)"
	case read("kernel/unprivileged_userns_clone") == "0":
		reason = "only root may make user namespaces (sysctl kernel.unprivileged_userns_clone is 0)"
	case read("kernel/apparmor_restrict_unprivileged_userns") == "1":
		reason = "only chosen programs may make user namespaces (sysctl kernel.apparmor_restrict_unprivileged_userns is 1)"
	case errors.Is(err, syscall.ENOSPC):
		reason = "there are as many user namespaces as this machine allows (sysctl user.max_user_namespaces)"
	case errors.Is(err, syscall.EPERM):
		reason = "the kernel, or the container that this runs in, does not let user namespaces be made"
	case errors.Is(err, syscall.EINVAL):
		reason = "the kernel is built without user namespaces"
	}
	return &RefusedError{reason}
}

// innerCapabilities are what the inner half needs to set the sandbox up, in
// its own namespace (capabilities(7)).
var innerCapabilities = []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN, unix.CAP_SETUID, unix.CAP_SETGID, unix.CAP_CHOWN, unix.CAP_DAC_OVERRIDE, unix.CAP_FOWNER, unix.CAP_SETPCAP, unix.CAP_KILL, unix.CAP_SYS_RESOURCE, unix.CAP_SYS_PTRACE}

// bytesText writes an amount for messages, such as "2 GiB".
func bytesText(n int64) string {
	const gib, mib = 1 << 30, 1 << 20
	switch {
	case n >= gib && n%(gib/10) == 0, n >= 10*gib:
		return fmt.Sprintf("%.4g GiB", float64(n)/gib)
	case n >= mib:
		return fmt.Sprintf("%.4g MiB", float64(n)/mib)
	}
	return fmt.Sprintf("%d bytes", n)
}
