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
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// Namespaces runs commands in Linux namespaces of their own. Nothing of the
// machine can be written to but the tree, and no network is to be reached.
// Steps run as an unprivileged user, whoever calls: an ordinary caller's own
// rights, or, called by root, those of the user number stepUser outside.
type Namespaces struct {
	// Base is the folder of the system that is seen as /; empty for the
	// machine's own.
	Base string
	// Copies says that overlay mounts are not to be had: every Tree has all
	// in Upper, and nothing can be laid over the base.
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
	Base      string          `json:"base"`
	Root      string          `json:"root"` // an empty folder to mount the new root on
	Temp      string          `json:"temp"` // the folder for /tmp
	Tree      Tree            `json:"tree"`
	Recipe    string          `json:"recipe,omitempty"`
	Over      []string        `json:"over,omitempty"`
	Limits    Limits          `json:"limits"`
	Trace     bool            `json:"trace,omitempty"`
	Terminal  bool            `json:"terminal,omitempty"`
	Copies    bool            `json:"copies,omitempty"`
	Drop      bool            `json:"drop,omitempty"` // begin as root, and run the command as User
	User      int             `json:"user"`
}

// report is what the inner half answers.
type report struct {
	Failed string `json:"failed,omitempty"` // the sandbox itself could not be made
	Status int    `json:"status"`
	Signal string `json:"signal,omitempty"`
	Line   int    `json:"line,omitempty"`
	Limit  string `json:"limit,omitempty"`
	Error  string `json:"error,omitempty"` // of a call
	Usage  Usage  `json:"usage"`
}

// RefusedError says that the machine does not let namespaces be made.
type RefusedError struct{ Reason string }

func (e *RefusedError) Error() string {
	return "steps cannot be kept apart from this machine: " + e.Reason
}

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

// Check finds out whether namespaces are to be had, and whether overlay
// mounts are. The folder is an empty one on the file system that trees will
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
func (n Namespaces) enter(ctx context.Context, c Command) (report, error) {
	var r report
	uid, gid, drop := Owner()
	s := orders{
		Command: c.Name, Script: c.Script, Call: c.call, Arguments: c.arguments, Dir: c.Dir, Env: c.Env,
		Base: n.Base, Root: filepath.Join(c.Files, "root"), Temp: filepath.Join(c.Files, "tmp"),
		Tree: c.Tree, Recipe: c.Recipe, Over: c.Over, Limits: c.Limits, Trace: c.Trace, Terminal: c.Terminal != nil, Copies: n.Copies, Drop: drop, User: cmp.Or(n.User, StepID),
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
	cmd.ExtraFiles = []*os.File{ordersOut, reportIn}
	cmd.Stdout, cmd.Stderr = c.Output, c.Output
	attr := &syscall.SysProcAttr{
		Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS | syscall.CLONE_NEWNET,
		Pdeathsig:  syscall.SIGKILL,
		Setpgid:    true, // Ctrl-C is for the outer half to act on
	}
	if drop {
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
		cmd.Stdin, cmd.Stdout, cmd.Stderr = c.Terminal, c.Terminal, c.Terminal
		attr.Foreground, attr.Ctty = true, int(c.Terminal.Fd())
		defer takeTerminal(c.Terminal)
	}
	cmd.SysProcAttr = attr

	// The kernel sends Pdeathsig when the thread that started the child ends.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	err = cmd.Start()
	ordersOut.Close()
	reportIn.Close()
	if err != nil {
		return r, refusal(err)
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
	case r.Failed != "":
		return r, &RefusedError{r.Failed}
	case decoded != nil && err != nil:
		return r, fmt.Errorf("the sandbox ended without a word: %w", err)
	}
	return r, decoded
}

// refusal explains why the kernel made no namespaces.
func refusal(err error) error {
	reason := err.Error()
	read := func(name string) string {
		data, _ := os.ReadFile("/proc/sys/" + name)
		return strings.TrimSpace(string(data))
	}
	switch {
	case read("user/max_user_namespaces") == "0":
		reason = "user namespaces are switched off (sysctl user.max_user_namespaces is 0)"
	case read("kernel/unprivileged_userns_clone") == "0":
		reason = "user namespaces are for root alone here (sysctl kernel.unprivileged_userns_clone is 0)"
	case read("kernel/apparmor_restrict_unprivileged_userns") == "1":
		reason = "user namespaces are for chosen programs alone here (sysctl kernel.apparmor_restrict_unprivileged_userns is 1)"
	case errors.Is(err, syscall.ENOSPC):
		reason = "there are as many user namespaces as this machine allows (sysctl user.max_user_namespaces)"
	case errors.Is(err, syscall.EPERM):
		reason = "the kernel, or the container that this runs in, does not let user namespaces be made"
	case errors.Is(err, syscall.EINVAL):
		reason = "the kernel is built without user namespaces"
	}
	return &RefusedError{reason}
}

// takeTerminal makes this process the one that the terminal listens to again,
// after a shell had it.
func takeTerminal(t *os.File) {
	// The kernel stops whoever asks from the background, unless this signal
	// is blocked.
	var set, old unix.Sigset_t
	set.Val[0] = 1 << (uint(syscall.SIGTTOU) - 1)
	unix.PthreadSigmask(unix.SIG_BLOCK, &set, &old)
	unix.IoctlSetPointerInt(int(t.Fd()), unix.TIOCSPGRP, syscall.Getpgrp())
	unix.PthreadSigmask(unix.SIG_SETMASK, &old, nil)
}

// innerCapabilities are what the inner half needs to set the sandbox up, in
// its own namespace (capabilities(7)).
var innerCapabilities = []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN, unix.CAP_SETUID, unix.CAP_SETGID, unix.CAP_CHOWN, unix.CAP_DAC_OVERRIDE, unix.CAP_FOWNER, unix.CAP_SETPCAP, unix.CAP_KILL, unix.CAP_SYS_RESOURCE}

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
