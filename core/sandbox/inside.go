package sandbox

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
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
	unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})
	// Capabilities and privileges belong to threads.
	runtime.LockOSThread()
	unix.CloseOnExec(ordersFile)
	unix.CloseOnExec(reportFile)
	input := os.NewFile(ordersFile, "orders")
	output := os.NewFile(reportFile, "report")
	// No process of the step's may look into this one.
	unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
	var s orders
	if err := json.NewDecoder(input).Decode(&s); err != nil {
		os.Exit(1)
	}
	go func() {
		// The outer half holds the other end open for as long as it lives.
		io.Copy(io.Discard, input)
		os.Exit(1)
	}()
	r := report{}
	if err := s.setUp(); err != nil {
		r.Failed = err.Error()
	} else {
		r = s.run()
	}
	json.NewEncoder(output).Encode(r)
	os.Exit(0)
}

// failure names what could not be done.
func failure(err error, what string, arguments ...any) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", fmt.Sprintf(what, arguments...), err)
}

// hostDirs are what is seen of the machine where it is the base itself.
var hostDirs = []string{"usr", "bin", "sbin", "lib", "lib32", "lib64", "libx32", "etc", "opt"}

// ownDirs are the folders of every base that the sandbox has its own of.
var ownDirs = []string{"proc", "sys", "dev", "tmp", "run", "home", "root", "mnt", "media", "build", "recipe", "lost+found"}

// setUp builds the file system of the sandbox and moves into it.
func (s *orders) setUp() error {
	unix.Umask(0o022)
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return failure(err, "mounts cannot be changed")
	}
	if err := unix.Mount("ellwand", s.Root, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=755,size=64m"); err != nil {
		return failure(err, "tmpfs cannot be mounted")
	}
	steps := []func() error{s.mountBase, s.mountTree, s.mountDevices, s.mountProc, s.changeRoot, s.network}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (s *orders) in(path string) string { return filepath.Join(s.Root, path) }

// bind mounts a folder, with all that is mounted in it, so that it can only be
// read.
func bind(from, to string, flags uint64) error {
	if err := unix.Mount(from, to, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
		return failure(err, "%s cannot be mounted", from)
	}
	attr := unix.MountAttr{Attr_set: flags}
	return failure(unix.MountSetattr(unix.AT_FDCWD, to, unix.AT_RECURSIVE, &attr), "%s cannot be protected", from)
}

const readOnly = unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV

// etcFiles replace those of the base: they would differ between machines.
var etcFiles = map[string]string{
	"passwd":   "root:x:0:0:root:/root:/bin/sh\nbuild:x:{user}:{user}:build:/build/home:/bin/sh\nnobody:x:65534:65534:nobody:/:/bin/false\n",
	"group":    "root:x:0:\nbuild:x:{user}:\nnogroup:x:65534:\n",
	"hosts":    "127.0.0.1 localhost\n::1 localhost\n",
	"hostname": "ellwand\n",
}

// mountBase mounts the base, and what is laid over it, read-only.
func (s *orders) mountBase() error {
	base := s.Base
	names := hostDirs
	if base != "" {
		entries, err := os.ReadDir(base)
		if err != nil {
			return err
		}
		names = nil
		for _, e := range entries {
			names = append(names, e.Name())
		}
	} else {
		base = "/"
	}
	for _, over := range s.Over {
		entries, err := os.ReadDir(over)
		if err != nil {
			return err
		}
		for _, e := range entries {
			names = append(names, e.Name())
		}
	}
	own := s.in("own")
	if err := os.MkdirAll(filepath.Join(own, "etc"), 0o755); err != nil {
		return err
	}
	for name, text := range etcFiles {
		if err := os.WriteFile(filepath.Join(own, "etc", name), []byte(strings.ReplaceAll(text, "{user}", strconv.Itoa(s.User))), 0o644); err != nil {
			return err
		}
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if slices.Contains(ownDirs, name) {
			continue
		}
		from := filepath.Join(base, name)
		info, err := os.Lstat(from)
		if err == nil && info.Mode()&os.ModeSymlink != 0 {
			target, err := os.Readlink(from)
			if err != nil {
				return err
			}
			if err := os.Symlink(target, s.in(name)); err != nil {
				return err
			}
			continue
		}
		var layers []string
		for _, root := range append([]string{own}, append(s.Over, base)...) {
			if info, err := os.Stat(filepath.Join(root, name)); err == nil && info.IsDir() {
				layers = append(layers, filepath.Join(root, name))
			}
		}
		if len(layers) == 0 {
			continue
		}
		if err := os.Mkdir(s.in(name), 0o755); err != nil {
			return err
		}
		if err := s.lay(layers, name); err != nil {
			return err
		}
	}
	return nil
}

// lay mounts folders over each other at a name in the new root. Where there
// are no overlay mounts, only the base's is there, with the own files bound.
func (s *orders) lay(layers []string, name string) error {
	to := s.in(name)
	if len(layers) == 1 {
		return bind(layers[0], to, readOnly)
	}
	if s.Copies {
		if err := bind(layers[len(layers)-1], to, readOnly); err != nil {
			return err
		}
		entries, err := os.ReadDir(layers[0])
		if err != nil || name != "etc" {
			return err
		}
		for _, e := range entries {
			if _, err := os.Stat(filepath.Join(to, e.Name())); err != nil {
				continue
			}
			if err := bind(filepath.Join(layers[0], e.Name()), filepath.Join(to, e.Name()), readOnly); err != nil {
				return err
			}
		}
		return nil
	}
	if err := overlay(to, layers, "", ""); err != nil {
		return err
	}
	// An overlay shows nothing of what is mounted inside the base's folder.
	base := layers[len(layers)-1]
	for _, inner := range mountsBelow(base) {
		if info, err := os.Stat(filepath.Join(to, inner)); err == nil && info.IsDir() {
			if err := bind(filepath.Join(base, inner), filepath.Join(to, inner), readOnly); err != nil {
				return err
			}
		}
	}
	attr := unix.MountAttr{Attr_set: readOnly}
	return failure(unix.MountSetattr(unix.AT_FDCWD, to, 0, &attr), "%s cannot be protected", name)
}

// overlay mounts layers, the upper ones first, at a folder; where there is no
// upper one to write to, read-only.
func overlay(to string, lower []string, upper, work string) error {
	escape := strings.NewReplacer(`\`, `\\`, ":", `\:`, ",", `\,`).Replace
	escaped := make([]string, len(lower))
	for i, l := range lower {
		escaped[i] = escape(l)
	}
	options := "userxattr,lowerdir=" + strings.Join(escaped, ":")
	if upper != "" {
		options += ",upperdir=" + escape(upper) + ",workdir=" + escape(work)
	}
	// The kernel takes a page of options; a long list is mounted in pieces.
	if len(options) >= os.Getpagesize() && upper == "" && len(lower) > 2 {
		return overlayInPieces(to, lower)
	}
	return failure(unix.Mount("overlay", to, "overlay", unix.MS_NOSUID|unix.MS_NODEV, options), "overlay mounts are not to be had")
}

// overlayInPieces mounts the lower half of a list of layers first, and the
// upper half over that.
func overlayInPieces(to string, lower []string) error {
	half := len(lower) / 2
	if err := overlay(to, lower[half:], "", ""); err != nil {
		return err
	}
	return overlay(to, append(slices.Clone(lower[:half]), to), "", "")
}

// mountsBelow lists the mount points inside a folder, relative to it.
func mountsBelow(dir string) []string {
	data, _ := os.ReadFile("/proc/self/mountinfo")
	var out []string
	for line := range strings.Lines(string(data)) {
		if fields := strings.Fields(line); len(fields) > 4 {
			if rest, ok := strings.CutPrefix(unescapeMount(fields[4]), strings.TrimSuffix(dir, "/")+"/"); ok && rest != "" {
				out = append(out, rest)
			}
		}
	}
	return out
}

// unescapeMount undoes how proc(5) writes spaces in paths.
func unescapeMount(s string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(s)
}

// mountTree mounts what the step works on, the recipe's folder, and /tmp.
func (s *orders) mountTree() error {
	for _, dir := range []string{"build", "recipe", "tmp", "run", "run/ellwand", "home", "root", "sys", "proc", "dev", "var"} {
		if err := os.Mkdir(s.in(dir), 0o755); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
	}
	if _, err := os.Stat(s.in("var/tmp")); err != nil {
		// A base with a /var of its own may have no /var/tmp; that is its affair.
		os.Symlink("/tmp", s.in("var/tmp"))
	}
	const kept = unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV
	if len(s.Tree.Lower) > 0 {
		if err := overlay(s.in(TreeDir), s.Tree.Lower, s.Tree.Upper, s.Tree.Work); err != nil {
			return err
		}
	} else if err := bind(s.Tree.Upper, s.in(TreeDir), kept); err != nil {
		return err
	}
	if s.Recipe != "" {
		if err := bind(s.Recipe, s.in(RecipeDir), readOnly); err != nil {
			return err
		}
	}
	return bind(s.Temp, s.in("tmp"), kept)
}

// devices are those that every program may expect (hier(7)).
var devices = []string{"null", "zero", "full", "random", "urandom", "tty"}

func (s *orders) mountDevices() error {
	if err := unix.Mount("ellwand", s.in("dev"), "tmpfs", unix.MS_NOSUID, "mode=755,size=4m"); err != nil {
		return failure(err, "tmpfs cannot be mounted on /dev")
	}
	for _, name := range devices {
		node := s.in("dev/" + name)
		if err := os.WriteFile(node, nil, 0o666); err != nil {
			return err
		}
		if err := unix.Mount("/dev/"+name, node, "", unix.MS_BIND, ""); err != nil {
			return failure(err, "/dev/%s cannot be mounted", name)
		}
	}
	for name, target := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2", "ptmx": "pts/ptmx"} {
		if err := os.Symlink(target, s.in("dev/"+name)); err != nil {
			return err
		}
	}
	for _, dir := range []string{"pts", "shm"} {
		if err := os.Mkdir(s.in("dev/"+dir), 0o755); err != nil {
			return err
		}
	}
	if err := unix.Mount("devpts", s.in("dev/pts"), "devpts", unix.MS_NOSUID|unix.MS_NOEXEC, "newinstance,ptmxmode=0666,mode=620"); err != nil {
		return failure(err, "/dev/pts cannot be mounted")
	}
	if err := unix.Mount("ellwand", s.in("dev/shm"), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=1777"); err != nil {
		return failure(err, "/dev/shm cannot be mounted")
	}
	return nil
}

func (s *orders) mountProc() error {
	err := unix.Mount("proc", s.in("proc"), "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "")
	if errors.Is(err, unix.EPERM) {
		// In a container that hides parts of /proc the kernel allows no new
		// one. The one that is there shows other processes' names, and lets
		// nothing be done to them from another user namespace.
		return bind("/proc", s.in("proc"), readOnly|unix.MOUNT_ATTR_NOEXEC)
	}
	return failure(err, "/proc cannot be mounted")
}

// changeRoot makes the new file system all there is.
func (s *orders) changeRoot() error {
	script := s.in("run/ellwand/" + s.Command)
	if err := os.WriteFile(script, []byte(instrument(s.Script, lineFile)), 0o644); err != nil {
		return err
	}
	line := s.in(lineFile)
	if err := os.WriteFile(line, nil, 0o666); err != nil {
		return err
	}
	if err := os.Chmod(line, 0o666); err != nil {
		return err
	}
	if err := unix.Mount(line, line, "", unix.MS_BIND, ""); err != nil {
		return failure(err, "a file cannot be mounted")
	}
	if err := os.Chdir(s.Root); err != nil {
		return err
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return failure(err, "the root cannot be changed")
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return failure(err, "the machine's own file system cannot be left")
	}
	attr := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}
	for _, dir := range []string{"/", "/dev"} {
		if err := unix.MountSetattr(unix.AT_FDCWD, dir, 0, &attr); err != nil {
			return failure(err, "%s cannot be protected", dir)
		}
	}
	if err := unix.Sethostname([]byte("ellwand")); err != nil {
		return failure(err, "the host name cannot be set")
	}
	return failure(os.Chdir(s.Dir), "the folder to start in")
}

// lineFile is where a script leaves the line that failed.
const lineFile = "/run/ellwand/line"

// network brings the loopback device up, the only one there is.
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
	return failure(unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, request), "the loopback device")
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
	if err != nil {
		return 0, fmt.Errorf("the base has no %s: %w", program, err)
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
	attr := &syscall.ProcAttr{Env: s.Env, Files: []uintptr{0, 1, 2}, Sys: &syscall.SysProcAttr{}}
	if s.Drop {
		attr.Sys.Credential = &syscall.Credential{Uid: uint32(s.User), Gid: uint32(s.User)}
	}
	var answer [2]int
	switch {
	case s.Terminal:
		argv = []string{"sh", "-i"}
		attr.Sys.Setpgid, attr.Sys.Foreground = true, true
	case s.Call != "":
		if err := unix.Pipe2(answer[:], unix.O_CLOEXEC|unix.O_NONBLOCK); err != nil {
			return report{Failed: err.Error()}
		}
		program, argv = "/proc/self/exe", []string{callName, s.Call, string(s.Arguments)}
		attr.Files = append(attr.Files, uintptr(answer[1]))
	}
	if err := dropPrivileges(); err != nil {
		return report{Failed: err.Error()}
	}
	var traced *tracer
	if s.Trace {
		var err error
		if traced, err = trace(); err != nil {
			return report{Failed: err.Error()}
		}
	}
	resume := func() {}
	if traced != nil {
		resume = holdCollector()
	}
	pid, err := s.fork(program, argv, attr)
	resume()
	if err != nil {
		return report{Failed: err.Error()}
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
			return report{Failed: "waiting: " + err.Error()}
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
	if err := f(json.RawMessage(os.Args[2])); err != nil {
		text := err.Error()
		answer.WriteString(text[:min(len(text), callAnswer)])
		os.Exit(1)
	}
	os.Exit(0)
}
