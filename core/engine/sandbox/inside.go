package sandbox

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"runtime"
	"slices"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// callName is the name by which the program knows that it is started once
// more, inside, to call a registered function.
const callName = "ellwand: call"

// Enter must be the first thing that a program does which uses Namespaces. It
// returns, except in the inner half of a sandbox.
func Enter() {
	// What the caller left open is nobody else's: neither a step's, nor that of
	// a program such as git.
	if err := closeInherited(3); err != nil {
		fmt.Fprintln(os.Stderr, "open files of the caller cannot be kept from what is started:", err)
		os.Exit(1)
	}
	switch os.Args[0] {
	case innerName:
		inside()
	case callName:
		call()
	}
}

// files that the outer half opens for the inner one.
const (
	ordersFile = 3
	reportFile = 4
)

// inside is process 1 of the new namespaces. It mounts everything, runs the
// command, and reports; whatever still runs then ends with it.
func inside() {
	// Capabilities, privileges and keyrings belong to threads.
	runtime.LockOSThread()
	input := os.NewFile(ordersFile, "orders")
	output := os.NewFile(reportFile, "report")
	var s orders
	if err := json.NewDecoder(input).Decode(&s); err != nil {
		os.Exit(1)
	}
	go func() {
		// The outer half holds the other end open for as long as it lives.
		io.Copy(io.Discard, input)
		os.Exit(1)
	}()
	var r report
	if err := errors.Join(shutOff(), s.setUp()); err != nil {
		r = failed(err)
	} else {
		r = s.run()
	}
	json.NewEncoder(output).Encode(r)
	os.Exit(0)
}

// shutOff cuts what this process has from its caller: descriptors, other than
// the standard ones and those that the two halves talk through; the session
// keyring; and what a process of the step's could look into.
func shutOff() error {
	if err := closeInherited(ordersFile); err != nil {
		return err
	}
	if err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}); err != nil {
		return failure(err, "core dumps cannot be switched off")
	}
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return failure(err, "this process cannot be hidden from the step's")
	}
	// With no name it is a new and empty one. A kernel without keyrings, or a
	// container that forbids them, keeps them from the step all the same.
	_, err := unix.KeyctlInt(unix.KEYCTL_JOIN_SESSION_KEYRING, 0, 0, 0, 0)
	if err != nil && !errors.Is(err, unix.ENOSYS) && !errors.Is(err, unix.EPERM) {
		return failure(err, "no session keyring of its own")
	}
	return nil
}

// closeInherited sees to it that no descriptor from a number on passes to a
// program that is started.
func closeInherited(first uint) error {
	err := unix.CloseRange(first, math.MaxInt32, unix.CLOSE_RANGE_CLOEXEC)
	if !errors.Is(err, unix.ENOSYS) && !errors.Is(err, unix.EINVAL) {
		return err
	}
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return err
	}
	for _, e := range entries {
		if fd, err := strconv.Atoi(e.Name()); err == nil && fd >= int(first) {
			unix.CloseOnExec(fd)
		}
	}
	return nil
}

// refusal is an error of the kernel's own: it does not let a sandbox be made.
type refusal struct{ reason string }

func (e *refusal) Error() string { return e.reason }

// failure names what could not be done. What the kernel forbids or lacks is a
// *refusal; anything else, such as a missing file, has another cause.
func failure(err error, what string, arguments ...any) error {
	if err == nil {
		return nil
	}
	err = fmt.Errorf("%s: %w", fmt.Sprintf(what, arguments...), err)
	for _, errno := range []unix.Errno{unix.EPERM, unix.EACCES, unix.ENOSYS, unix.EINVAL, unix.ENODEV, unix.EOPNOTSUPP} {
		if errors.Is(err, errno) {
			return &refusal{err.Error()}
		}
	}
	return err
}

// failed is a report that the sandbox could not be made.
func failed(err error) report {
	var r *refusal
	return report{Failed: err.Error(), Refused: errors.As(err, &r)}
}

// network sets the loopback device up, the only one there is.
func (s *orders) network() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return failure(err, "no socket")
	}
	defer unix.Close(fd)
	request, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	request.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	if err := unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, request); err != nil || !s.Proxy {
		return failure(err, "the loopback device")
	}
	return listen()
}

// fork starts a process with limits on what it and all that it starts may use.
// A process inherits limits; this one has them for as long as that takes.
func (s *orders) fork(program string, argv []string, attr *syscall.ProcAttr) (int, error) {
	limits := map[int]int64{unix.RLIMIT_FSIZE: s.Limits.Disk}
	if s.Limits.Processes > 0 {
		// Where the command runs as the same user, this program's threads count.
		limits[unix.RLIMIT_NPROC] = s.Limits.Processes + ownThreads
	}
	for resource, n := range limits {
		var own unix.Rlimit
		if err := unix.Getrlimit(resource, &own); err != nil {
			return 0, failure(err, "limits cannot be read")
		}
		if n <= 0 || own.Cur < uint64(n) {
			delete(limits, resource)
			continue
		}
		if err := unix.Setrlimit(resource, &unix.Rlimit{Cur: uint64(n), Max: own.Max}); err != nil {
			return 0, failure(err, "limits cannot be set")
		}
		defer unix.Setrlimit(resource, &own)
	}
	pid, err := syscall.ForkExec(program, argv, attr)
	switch {
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENOTDIR):
		return 0, fmt.Errorf("the system has no %s: %w", program, err)
	case err != nil:
		return 0, fmt.Errorf("%s cannot be started: %w", program, err)
	}
	for resource, n := range limits {
		// It may lower its own limits, and not raise them again.
		if err := unix.Prlimit(pid, resource, &unix.Rlimit{Cur: uint64(n), Max: uint64(n)}, nil); err != nil {
			return 0, failure(err, "limits cannot be set")
		}
	}
	return pid, nil
}

const ownThreads = 16

// run starts the command and waits for it, and for no more.
func (s *orders) run() report {
	argv := []string{"sh", "-eu", "/run/ellwand/" + s.Command}
	program := "/bin/sh"
	// A session of its own leaves it no terminal, but the one made for it.
	attr := &syscall.ProcAttr{Env: s.Env, Files: []uintptr{0, 1, 2}, Sys: &syscall.SysProcAttr{Setsid: true}}
	if s.Drop {
		attr.Sys.Credential = &syscall.Credential{Uid: uint32(s.User), Gid: uint32(s.User)}
	}
	var answer [2]int
	switch {
	case s.Terminal:
		argv = []string{"sh", "-i"}
		attr.Sys.Setctty = true
	case s.Call != "":
		if err := unix.Pipe2(answer[:], unix.O_CLOEXEC|unix.O_NONBLOCK); err != nil {
			return failed(err)
		}
		program, argv = "/proc/self/exe", []string{callName, s.Call}
		attr.Files = append(attr.Files, uintptr(answer[1]))
		for _, name := range []string{"GOCOVERDIR", "GORACE"} { // in tests
			if value := os.Getenv(name); value != "" {
				attr.Env = append(slices.Clone(attr.Env), name+"="+value)
			}
		}
	}
	calls, err := filter(s.Allow)
	if err != nil {
		return failed(err)
	}
	if s.Writable != "" {
		if err := boundCapabilities(); err != nil {
			return failed(err)
		}
	}
	if err := dropPrivileges(); err != nil {
		return failed(err)
	}
	var traced *tracer
	if s.Trace {
		if traced, err = trace(); err != nil {
			return failed(err)
		}
	}
	if _, err := installFilter(calls, 0); err != nil {
		return failed(err)
	}
	resume := func() {}
	if traced != nil {
		resume = holdCollector()
	}
	pid, err := s.fork(program, argv, attr)
	resume()
	if err != nil {
		return failed(err)
	}
	watch := s.watch(pid)
	var status syscall.WaitStatus
	var used syscall.Rusage
	for {
		got, err := syscall.Wait4(-1, &status, 0, &used)
		if err == syscall.EINTR {
			continue
		}
		if err != nil {
			return failed(fmt.Errorf("waiting for the command: %w", err))
		}
		if got == pid && !status.Stopped() {
			break
		}
	}
	r := report{Status: status.ExitStatus(), Usage: watch.stop(pid)}
	r.Limit = watch.limit
	if traced != nil {
		r.Usage.Touched = traced.touched()
	}
	r.Usage.Memory = max(r.Usage.Memory, used.Maxrss*1024)
	var children syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_CHILDREN, &children); err == nil {
		r.Usage.CPU = time.Duration(syscall.TimevalToNsec(children.Utime) + syscall.TimevalToNsec(children.Stime))
	}
	if status.Signaled() {
		r.Status, r.Signal = 128+int(status.Signal()), status.Signal().String()
	}
	if text, err := os.ReadFile(lineFile); err == nil {
		r.Line, _ = strconv.Atoi(string(text))
	}
	if s.Call != "" {
		// The other end is open here too; what was written is in the pipe.
		buffer := make([]byte, callAnswer)
		if n, _ := unix.Read(answer[0], buffer); n > 0 {
			r.Error = string(buffer[:n])
		}
	}
	return r
}

// callAnswer bounds the error of a call, to what a pipe holds.
const callAnswer = 60 << 10

// dropPrivileges takes away from this thread what a command must not have.
func dropPrivileges() error {
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return failure(err, "privileges cannot be dropped")
	}
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
		return failure(err, "capabilities cannot be dropped")
	}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if err := unix.Capget(&header, &data[0]); err != nil {
		return failure(err, "capabilities cannot be read")
	}
	for i := range data {
		data[i].Inheritable = 0
	}
	return failure(unix.Capset(&header, &data[0]), "capabilities cannot be dropped")
}

// call is a registered function's own process.
func call() {
	const answerFile = 3
	answer := os.NewFile(answerFile, "answer")
	f := functions[os.Args[1]]
	if f == nil {
		fmt.Fprintf(answer, "no function %q", os.Args[1])
		os.Exit(1)
	}
	arguments, err := os.ReadFile(argumentsFile)
	if err == nil {
		err = f(json.RawMessage(arguments))
	}
	if err != nil {
		text := err.Error()
		answer.WriteString(text[:min(len(text), callAnswer)])
		os.Exit(1)
	}
	os.Exit(0)
}
