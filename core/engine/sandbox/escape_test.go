package sandbox

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// attempts are what a program in a step tries. Each returns an error where it
// did not get through, and nil if it did.
var attempts = map[string]func() error{
	"a new user namespace":        func() error { return unix.Unshare(unix.CLONE_NEWUSER) },
	"a new mount namespace":       func() error { return unix.Unshare(unix.CLONE_NEWNS) },
	"a new network namespace":     func() error { return unix.Unshare(unix.CLONE_NEWNET) },
	"a user namespace by clone":   func() error { return cloneWith(unix.CLONE_NEWUSER) },
	"a pid namespace by clone":    func() error { return cloneWith(unix.CLONE_NEWUSER | unix.CLONE_NEWPID) },
	"a user namespace by clone3":  clone3,
	"another process's namespace": joinNamespace,
	"a tmpfs":                     func() error { return unix.Mount("x", "/tmp", "tmpfs", 0, "") },
	"a bind mount":                func() error { return unix.Mount("/usr", "/tmp", "", unix.MS_BIND, "") },
	"unmounting the recipe":       func() error { return unix.Unmount("/recipe", unix.MNT_DETACH) },
	"a detached mount":            func() error { _, err := unix.OpenTree(unix.AT_FDCWD, "/", unix.OPEN_TREE_CLONE); return err },
	"a new file system by fsopen": func() error { _, err := unix.Fsopen("tmpfs", 0); return err },
	"another root":                func() error { return unix.PivotRoot("/tmp", "/tmp") },
	"a changed root":              func() error { return unix.Chroot("/build") },
	"mount attributes": func() error {
		return unix.MountSetattr(unix.AT_FDCWD, "/usr", 0, &unix.MountAttr{Attr_clr: unix.MOUNT_ATTR_RDONLY})
	},
	"the session keyring":          func() error { _, err := unix.KeyctlGetKeyringID(unix.KEY_SPEC_SESSION_KEYRING, true); return err },
	"the user's keyring":           func() error { _, err := unix.KeyctlGetKeyringID(unix.KEY_SPEC_USER_KEYRING, true); return err },
	"a new key":                    func() error { _, err := unix.AddKey("user", "x", []byte("x"), unix.KEY_SPEC_USER_KEYRING); return err },
	"a key of the user's":          func() error { _, err := unix.RequestKey("user", "x", "", unix.KEY_SPEC_USER_KEYRING); return err },
	"bpf":                          func() error { return raw(unix.SYS_BPF, 0, 0, 0) },
	"perf events":                  func() error { return raw(unix.SYS_PERF_EVENT_OPEN, 0, 0, 0) },
	"userfaultfd":                  func() error { return raw(unix.SYS_USERFAULTFD, unix.O_CLOEXEC, 0, 0) },
	"io_uring":                     func() error { return raw(unix.SYS_IO_URING_SETUP, 1, 0, 0) },
	"kexec":                        func() error { return raw(unix.SYS_KEXEC_LOAD, 0, 0, 0) },
	"a kernel module":              func() error { return unix.FinitModule(0, "", 0) },
	"the kernel's log":             func() error { _, err := unix.Klogctl(3, make([]byte, 100)); return err },
	"the clock":                    func() error { return unix.Settimeofday(&unix.Timeval{Sec: 1}) },
	"restarting the machine":       func() error { return unix.Reboot(unix.LINUX_REBOOT_CMD_CAD_OFF) },
	"watching a whole file system": func() error { _, err := unix.FanotifyInit(unix.FAN_REPORT_FID, 0); return err },
	"a file by its handle": func() error {
		_, err := unix.OpenByHandleAt(unix.AT_FDCWD, unix.NewFileHandle(1, make([]byte, 8)), 0)
		return err
	},
	"a vsock socket":                 func() error { return socketOf(unix.AF_VSOCK, 0) },
	"a packet socket":                func() error { return socketOf(unix.AF_PACKET, 0) },
	"a crypto socket":                func() error { return socketOf(unix.AF_ALG, 0) },
	"a netfilter socket":             func() error { return socketOf(unix.AF_NETLINK, unix.NETLINK_NETFILTER) },
	"an audit socket":                func() error { return socketOf(unix.AF_NETLINK, unix.NETLINK_AUDIT) },
	"a vsock socket with high bits":  func() error { return raw(unix.SYS_SOCKET, 1<<32|unix.AF_VSOCK, unix.SOCK_STREAM, 0) },
	"typing into a terminal":         func() error { return typeInto(0, unix.TIOCSTI) },
	"typing, with high bits":         func() error { return typeInto(0, 1<<32|unix.TIOCSTI) },
	"pasting into a console":         func() error { return typeInto(0, tiocLinux) },
	"the terminal":                   func() error { f, err := os.OpenFile("/dev/tty", os.O_RDWR, 0); f.Close(); return err },
	"process 1's memory":             func() error { _, err := os.ReadFile("/proc/1/mem"); return err },
	"process 1's environment":        func() error { _, err := os.ReadFile("/proc/1/environ"); return err },
	"process 1's descriptors":        func() error { _, err := os.ReadDir("/proc/1/fd"); return err },
	"process 1's root":               func() error { _, err := os.ReadDir("/proc/1/root/"); return err },
	"tracing process 1":              func() error { return unix.PtraceAttach(1) },
	"reading process 1":              readProcess1,
	"raising the limit on processes": func() error { return unix.Setrlimit(unix.RLIMIT_NPROC, &unix.Rlimit{Cur: 1 << 20, Max: 1 << 20}) },
	"a real-time priority":           func() error { return unix.Setpriority(unix.PRIO_PROCESS, 0, -20) },
	"sysctl":                         func() error { return os.WriteFile("/proc/sys/kernel/hostname", []byte("x"), 0) },
	"the kernel's crash handler":     func() error { return os.WriteFile("/proc/sys/kernel/core_pattern", []byte("|/x"), 0) },
	"sysrq":                          func() error { return os.WriteFile("/proc/sysrq-trigger", []byte("h"), 0) },
	"a device of the machine":        func() error { return unix.Mknod("/build/disk", unix.S_IFBLK|0o600, int(unix.Mkdev(8, 0))) },
	"a descriptor of the caller's":   func() error { f := os.NewFile(107, "inherited"); _, err := f.Stat(); return err },
	"another descriptor":             func() error { f := os.NewFile(109, "inherited"); _, err := f.Stat(); return err },
	"gaining rights by exec":         func() error { return noNewPrivileges() },
	"becoming root":                  func() error { return unix.Setuid(0) },
	"the group of root":              func() error { return unix.Setgroups([]int{0}) },
	"a capability":                   hasCapability,
	"a unix socket outside": func() error {
		c, err := net.Dial("unix", "\x00ellwand-test-outside")
		if err == nil {
			c.Close()
		}
		return err
	},
	"paths of the workspace":          workspacePaths,
	"a time beyond the sandbox's own": func() error { return unix.ClockSettime(unix.CLOCK_REALTIME, &unix.Timespec{Sec: 1}) },
}

// usual are what programs and their tests do inside their own border: each has
// to work.
var usual = map[string]func() error{
	"threads and processes": func() error { return exec.Command("/bin/true").Run() },
	"a socket on the loopback device": func() error {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		defer l.Close()
		c, err := net.Dial("tcp", l.Addr().String())
		if err == nil {
			c.Close()
		}
		return err
	},
	"a socket of IPv6":     func() error { return opens(unix.AF_INET6, 0) },
	"a socket for routing": func() error { return opens(unix.AF_NETLINK, unix.NETLINK_ROUTE) },
	"interfaces by netlink": func() error {
		_, err := net.Interfaces()
		return err
	},
	"a pair of sockets": func() error { _, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM, 0); return err },
	"a file in memory":  func() error { _, err := unix.MemfdCreate("x", 0); return err },
	"a pseudo-terminal": func() error { f, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0); f.Close(); return err },
	"tracing a child": func() error {
		attr := &syscall.ProcAttr{Sys: &syscall.SysProcAttr{Ptrace: true}}
		pid, err := syscall.ForkExec("/bin/true", []string{"true"}, attr)
		if err != nil {
			return err
		}
		var ws syscall.WaitStatus
		if _, err := syscall.Wait4(pid, &ws, 0, nil); err != nil || !ws.Stopped() {
			return fmt.Errorf("not stopped: %v, %v", ws, err)
		}
		return syscall.Kill(pid, syscall.SIGKILL)
	},
	"no address randomization": func() error { return raw(unix.SYS_PERSONALITY, 0x0040000, 0, 0) },
	"descriptors of its own":   func() error { return unix.Unshare(unix.CLONE_FILES) },
	"its own seccomp filter": func() error {
		_, err := installFilter([]unix.SockFilter{{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_ALLOW}}, 0)
		return err
	},
	"its working directory": func() error { return os.WriteFile("/build/x", nil, 0o644) },
	"temporary files":       func() error { f, err := os.CreateTemp("", ""); f.Close(); return err },
	"shared memory":         func() error { return os.WriteFile("/dev/shm/x", []byte("x"), 0o600) },
	"priorities":            func() error { return unix.Setpriority(unix.PRIO_PROCESS, 0, 10) },
}

func init() {
	Register("test.attempt", func(name string) error {
		if f := attempts[name]; f != nil {
			return f()
		}
		return usual[name]()
	})
	Register("test.hog", func(name string) error { return hogs[name]() })
}

func raw(call, a, b, c uintptr) error {
	if _, _, errno := unix.Syscall(call, a, b, c); errno != 0 {
		return errno
	}
	return nil
}

func cloneWith(flags uintptr) error {
	attr := &syscall.ProcAttr{Sys: &syscall.SysProcAttr{Cloneflags: flags}}
	_, err := syscall.ForkExec("/bin/true", []string{"true"}, attr)
	return err
}

func clone3() error {
	// The kernel refuses these two flags together, so that no child comes of it.
	arguments := [8]uint64{unix.CLONE_NEWUSER | unix.CLONE_FS}
	err := raw(unix.SYS_CLONE3, uintptr(unsafe.Pointer(&arguments)), unsafe.Sizeof(arguments), 0)
	if err == unix.EINVAL {
		return nil // it was asked
	}
	return err
}

func joinNamespace() error {
	fd, err := unix.Open("/proc/self/ns/ipc", unix.O_RDONLY, 0)
	if err != nil {
		return err
	}
	return unix.Setns(fd, 0)
}

func socketOf(domain, protocol int) error {
	for _, kind := range []int{unix.SOCK_STREAM, unix.SOCK_DGRAM, unix.SOCK_RAW, unix.SOCK_SEQPACKET} {
		if _, err := unix.Socket(domain, kind, protocol); err == nil {
			return nil
		} else if err != unix.EAFNOSUPPORT {
			return fmt.Errorf("the kernel was asked: %w", err)
		}
	}
	return unix.EAFNOSUPPORT
}

func opens(domain, protocol int) error {
	_, err := unix.Socket(domain, unix.SOCK_DGRAM, protocol)
	return err
}

func typeInto(fd int, call uintptr) error {
	x := byte('x')
	err := raw(unix.SYS_IOCTL, uintptr(fd), call, uintptr(unsafe.Pointer(&x)))
	if err == unix.ENOTTY {
		return nil // the kernel was asked
	}
	return err
}

func readProcess1() error {
	buffer := make([]byte, 8)
	local := []unix.Iovec{{Base: &buffer[0], Len: 8}}
	_, err := unix.ProcessVMReadv(1, local, []unix.RemoteIovec{{Base: uintptr(unsafe.Pointer(&buffer[0])), Len: 8}}, 0)
	return err
}

func noNewPrivileges() error {
	if n, err := unix.PrctlRetInt(unix.PR_GET_NO_NEW_PRIVS, 0, 0, 0, 0); err != nil || n == 1 {
		return errors.Join(err, errors.New("it is forbidden"))
	}
	return nil
}

func hasCapability() error {
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return err
	}
	for _, name := range []string{"CapEff", "CapPrm", "CapInh", "CapAmb"} {
		if !bytes.Contains(status, []byte(name+":\t0000000000000000")) {
			return nil
		}
	}
	return errors.New("there is none")
}

// workspacePaths looks for the names of directories outside, all of which are
// below one called outside-….
func workspacePaths() error {
	for _, name := range []string{"/proc/self/mounts", "/proc/self/mountinfo", "/proc/self/environ", "/proc/self/cmdline", "/proc/mounts"} {
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		if i := bytes.Index(data, []byte("outside-")); i >= 0 {
			fmt.Fprintf(os.Stderr, "%s has %s\n", name, data[max(0, i-40):min(len(data), i+60)])
			return nil
		}
	}
	return errors.New("there are none")
}

// hogs use more than they may, each in its own way.
var hogs = map[string]func() error{
	"anonymous memory":          func() error { return fill(unix.MAP_PRIVATE|unix.MAP_ANON, -1) },
	"shared anonymous memory":   func() error { return fill(unix.MAP_SHARED|unix.MAP_ANON, -1) },
	"a file in memory, written": func() error { fd, err := unix.MemfdCreate("x", 0); return errors.Join(err, flood(fd)) },
	"a file in memory, mapped": func() error {
		fd, err := unix.MemfdCreate("x", 0)
		if err := errors.Join(err, unix.Ftruncate(fd, hogged)); err != nil {
			return err
		}
		return fill(unix.MAP_SHARED, fd)
	},
	"/dev/shm": func() error {
		fd, err := unix.Open("/dev/shm/x", unix.O_CREAT|unix.O_RDWR, 0o600)
		return errors.Join(err, flood(fd))
	},
	"a segment": func() error {
		id, err := unix.SysvShmGet(unix.IPC_PRIVATE, hogged, unix.IPC_CREAT|0o600)
		if err != nil {
			return err
		}
		data, err := unix.SysvShmAttach(id, 0, 0)
		if err != nil {
			return err
		}
		for i := 0; i < len(data); i += 4096 {
			data[i] = 1
		}
		unix.SysvShmDetach(data)
		time.Sleep(20 * time.Second)
		return nil
	},
	"a file that was removed": func() error {
		fd, err := unix.Open("/build/x", unix.O_CREAT|unix.O_RDWR, 0o600)
		os.Remove("/build/x")
		return errors.Join(err, flood(fd))
	},
	"a file without a name": func() error {
		fd, err := unix.Open("/tmp", unix.O_TMPFILE|unix.O_RDWR, 0o600)
		return errors.Join(err, flood(fd))
	},
	"a file that was removed, mapped": func() error {
		fd, err := unix.Open("/tmp/x", unix.O_CREAT|unix.O_RDWR, 0o600)
		os.Remove("/tmp/x")
		if err := errors.Join(err, unix.Ftruncate(fd, hogged)); err != nil {
			return err
		}
		data, err := unix.Mmap(fd, 0, hogged, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
		unix.Close(fd)
		for i := 0; i < len(data); i += 4096 {
			data[i] = 1
		}
		time.Sleep(20 * time.Second)
		return err
	},
	"/tmp": func() error {
		fd, err := unix.Open("/tmp/x", unix.O_CREAT|unix.O_RDWR, 0o600)
		return errors.Join(err, flood(fd))
	},
	"many files": func() error {
		for i := range 48 {
			os.WriteFile(fmt.Sprintf("/build/%d", i), make([]byte, 2<<20), 0o600)
			time.Sleep(20 * time.Millisecond)
		}
		time.Sleep(20 * time.Second)
		return nil
	},
}

const hogged = 96 << 20 // bytes

func fill(flags, fd int) error {
	data, err := unix.Mmap(fd, 0, hogged, unix.PROT_READ|unix.PROT_WRITE, flags)
	for i := 0; i < len(data); i += 4096 {
		data[i] = 1
	}
	time.Sleep(20 * time.Second)
	return err
}

func flood(fd int) error {
	chunk := make([]byte, 1<<20)
	for range hogged >> 20 {
		if _, err := unix.Write(fd, chunk); err != nil {
			return err
		}
	}
	time.Sleep(20 * time.Second)
	return nil
}

// asUser runs this test once more as an ordinary user, where root runs it.
func asUser(t *testing.T) {
	if os.Geteuid() != 0 {
		return
	}
	t.Run("as an ordinary user", func(t *testing.T) {
		dir := t.TempDir()
		for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
			os.Chmod(d, 0o755)
		}
		program := filepath.Join(dir, "test")
		data, err := os.ReadFile("/proc/self/exe")
		if err != nil {
			t.Fatal(err)
		}
		home := filepath.Join(dir, "home")
		if err := errors.Join(os.WriteFile(program, data, 0o755), os.Mkdir(home, 0o755), os.Chown(home, 1234, 1234)); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(program, "-test.run=^"+strings.Split(t.Name(), "/")[0]+"$", "-test.v=false")
		cmd.Env = append(os.Environ(), "TMPDIR="+home, "HOME="+home)
		if testing.CoverMode() != "" {
			cmd.Env = append(cmd.Env, "GOCOVERDIR="+home) // the other is root's
		}
		cmd.Dir = home
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 1234, Gid: 1234}}
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%v\n%s", err, out)
		}
	})
}

// inherit opens a file as a caller might who does not know of close-on-exec.
func inherit(t *testing.T, number int, name string) {
	t.Helper()
	fd, err := unix.Open(name, unix.O_RDONLY|unix.O_CREAT, 0o644)
	if err == nil {
		err = unix.Dup3(fd, number, 0)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { unix.Close(number); unix.Close(fd) })
}

// No call that a program makes in a step gets out of it; what programs and
// their tests do inside works.
func TestCalls(t *testing.T) {
	outside, err := net.Listen("unix", "\x00ellwand-test-outside")
	if err == nil {
		defer outside.Close()
	}
	t.Chdir(t.TempDir())
	inherit(t, 107, "secret")
	inherit(t, 109, "secret")
	call := func(name string) error {
		b := newBox(t)
		b.command.Recipe = filepath.Join(filepath.Dir(b.command.Files), "outside-recipe")
		os.Mkdir(b.command.Recipe, 0o755)
		err := b.Call(t.Context(), b.command, "test.attempt", name)
		if b.out.Len() > 0 {
			err = fmt.Errorf("%v: %s", err, b.out.String())
		}
		return err
	}
	for name := range attempts {
		err := call(name)
		var refused *RefusedError
		var setUp *SetupError
		if err == nil || errors.As(err, &refused) || errors.As(err, &setUp) || strings.Contains(err.Error(), "the kernel was asked") {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name := range usual {
		if err := call(name); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	asUser(t)
}

// A recipe that asks for calls gets those, and no others.
func TestAllow(t *testing.T) {
	for name, try := range map[string]string{"namespaces": "a user namespace by clone", "sockets": "a packet socket", "io_uring": "io_uring"} {
		b := newBox(t)
		b.command.Allow = []string{name}
		err := b.Call(t.Context(), b.command, "test.attempt", try)
		if err != nil && strings.Contains(err.Error(), "function not implemented") || err != nil && name != "io_uring" && !strings.Contains(err.Error(), "the kernel was asked") {
			t.Errorf("%s: %v", name, err)
		}
		if err := b.Call(t.Context(), b.command, "test.attempt", "a new key"); err == nil {
			t.Errorf("%s allows keys", name)
		}
	}
	if all := len(Allowances()); all != len(unlessAllowed) {
		t.Errorf("%d names", all)
	}
}

// Whatever a step uses counts for its limits, and each is named.
func TestLimits(t *testing.T) {
	for name := range hogs {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBox(t)
			b.command.Limits = Limits{Memory: 48 << 20, Disk: 1 << 30}
			want := "memory"
			if strings.Contains(name, "removed") || strings.Contains(name, "without a name") || name == "/tmp" || name == "many files" {
				b.command.Limits, want = Limits{Disk: 48 << 20, Memory: 1 << 30}, "disk"
			}
			err := b.Call(t.Context(), b.command, "test.hog", name)
			var exit *ExitError
			tooLarge := err != nil && (strings.Contains(err.Error(), "file too large") || strings.Contains(err.Error(), "no space left"))
			if !errors.As(err, &exit) && !tooLarge || exit != nil && !strings.HasPrefix(exit.Limit, want) {
				t.Errorf("%v\n%s", err, b.out.String())
			}
		})
	}
}

// Nothing that a script tries gets out of the sandbox; what it says tells why.
func TestEscapes(t *testing.T) {
	home, recipe := t.TempDir(), t.TempDir()
	secret := filepath.Join(home, "secret")
	os.WriteFile(secret, []byte("hidden"), 0o644)
	for _, dir := range []string{home, recipe, filepath.Dir(home), filepath.Dir(recipe)} {
		os.Chmod(dir, 0o755)
	}
	server, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	reached := make(chan struct{}, 1)
	go func() {
		if c, err := server.Accept(); err == nil {
			c.Close()
			reached <- struct{}{}
		}
	}()
	host, port, _ := net.SplitHostPort(server.Addr().String())
	const refused = "Read-only file system"
	for _, c := range []struct {
		name, script string
		limits       Limits
		says         string // in the output, or in the limit
		may          bool   // the script may end well
	}{
		{"writing to /usr", "echo x >/usr/ellwand-was-here", Limits{}, refused, false},
		{"writing to /etc", "echo x >>/etc/hosts", Limits{}, refused, false},
		{"making a directory at the root", "mkdir /ellwand-was-here", Limits{}, refused, false},
		{"removing what the system has", "rm -f /usr/bin/env", Limits{}, refused, false},
		{"the home directory", "echo x >" + home + "/x", Limits{}, "Directory nonexistent", false},
		{"a file of the caller's home", "cat " + secret, Limits{}, "No such file", false},
		{"the recipe's directory", "echo x >/recipe/x", Limits{}, refused, false},
		{"the recipe's directory by its own path", "echo x >" + recipe + "/x", Limits{}, "Directory nonexistent", false},
		{"the machine's loopback", "bash -c 'echo x >/dev/tcp/" + host + "/" + port + "'", Limits{}, "Connection refused", false},
		{"the network", "bash -c 'echo x >/dev/tcp/192.0.2.1/80'", Limits{}, "Network is unreachable", false},
		{"a process in the background", "sleep 30071 & sleep 0.2", Limits{}, "", true},
		{"a process in another session", "setsid sleep 30071 & sleep 0.2", Limits{}, "", true},
		{"the disk", "dd if=/dev/zero of=big bs=1M count=64 2>&1", Limits{Disk: 8 << 20}, "", false},
		{"the disk in small files", "i=0; while :; do i=$((i+1)); dd if=/dev/zero of=f$i bs=1M count=1 2>/dev/null; sleep 0.02; done", Limits{Disk: 8 << 20}, "disk, 8 MiB", false},
		{"memory", "head -c 400M /dev/zero | tail -c 400M | sleep 20", Limits{Memory: 64 << 20}, "memory, 64 MiB", false},
		{"time", "sleep 600", Limits{Time: 300 * time.Millisecond}, "time, 300ms", false},
		{"time, with much output", "yes", Limits{Time: 300 * time.Millisecond}, "time, 300ms", false},
		{"a fork bomb", "f() { f | f & f; }; f", Limits{Processes: 60, Time: 3 * time.Second}, "fork", false},
		{"a device node", "mknod sda b 8 0", Limits{}, "not permitted", false},
		{"mounting", "mount -t tmpfs x /tmp", Limits{}, "superuser", false},
		{"setuid", "cp /usr/bin/id . && chmod u+s id && ./id -u | grep -v 1000", Limits{}, "", false},
		{"making it writable", "mount -o remount,rw /usr", Limits{}, "superuser", false},
		{"killing the one above", "kill -9 1; kill -9 -1", Limits{}, "", false},
		{"another namespace", "unshare -Urm sh -c 'mount -o remount,bind,rw /usr && echo x >/usr/ellwand-was-here'", Limits{}, "not permitted", false},
		{"the host name", "hostname escaped", Limits{}, "must be root", false},
		{"the terminal", "echo x >/dev/tty", Limits{}, "No such device or address", false},
	} {
		b := newBox(t)
		b.command.Recipe, b.command.Limits = recipe, c.limits
		usage, err := b.run(t.Context(), c.script)
		var exit *ExitError
		out := b.out.String()
		if errors.As(err, &exit) {
			if !strings.Contains(out+exit.Limit, c.says) {
				t.Errorf("%s: it says %v, %s", c.name, err, out[:min(len(out), 2000)])
			}
		} else if !c.may || err != nil {
			t.Errorf("%s: %v\n%s", c.name, err, out[:min(len(out), 2000)])
		} else if len(usage.Left) != 1 || !strings.HasSuffix(usage.Left[0], "sleep 30071") {
			t.Errorf("%s: left %q", c.name, usage.Left)
		}
	}
	for _, path := range []string{"/usr/ellwand-was-here", "/ellwand-was-here", filepath.Join(home, "x"), filepath.Join(recipe, "x")} {
		if _, err := os.Lstat(path); err == nil {
			t.Errorf("%s was written", path)
		}
	}
	select {
	case <-reached:
		t.Error("the machine's loopback was reached")
	default:
	}
	if left, _ := exec.Command("pgrep", "-f", "sleep 30071").Output(); len(left) > 0 {
		t.Errorf("left running: %s", left)
	}
	asUser(t)
}

// Links in packages that are laid into a build, and in a system, lead to nothing
// outside.
func TestLinksOfPackages(t *testing.T) {
	secret := t.TempDir()
	os.WriteFile(filepath.Join(secret, "key"), []byte("hidden"), 0o644)
	for _, c := range []struct {
		name, link, to, script, says string
	}{
		{"to a directory of the machine", "data", secret, "cat /data/key", "No such file"},
		{"to the root", "hostroot", "/", "cat /hostroot" + secret + "/key", "No such file"},
		{"upwards", "up", "../../../../../.." + secret, "cat /up/key", "No such file"},
		{"in place of a directory", "usr", secret, "true", "cannot be used in one build"},
		{"deep", "usr/share/ellwand-test-link", secret, "cat /usr/share/ellwand-test-link/key", "No such file"},
		{"over what the sandbox has itself", "tmp", secret, "! test -e /tmp/key", ""},
	} {
		b := newBox(t)
		over := filepath.Join(t.TempDir(), "over")
		os.MkdirAll(filepath.Join(over, filepath.Dir(c.link)), 0o755)
		if err := os.Symlink(c.to, filepath.Join(over, c.link)); err != nil {
			t.Fatal(err)
		}
		b.command.Over = []string{over}
		_, err := b.run(t.Context(), c.script)
		if text := fmt.Sprint(err, b.out.String()); (c.says == "") != (err == nil) || !strings.Contains(text, c.says) || strings.Contains(text, "hidden") {
			t.Errorf("%s: %s", c.name, text)
		}
	}
	base := filepath.Join(t.TempDir(), "base")
	for _, dir := range []string{"usr", "bin", "lib", "lib64", "etc", "opt"} {
		os.MkdirAll(filepath.Join(base, dir), 0o755)
	}
	target := filepath.Join(secret, "made")
	os.Symlink(target, filepath.Join(base, "var"))
	os.Symlink(target, filepath.Join(base, "etc/passwd"))
	b := newBox(t)
	b.System = base
	b.run(t.Context(), "true")
	if _, err := os.Lstat(target); err == nil {
		t.Error("a link of a system's was followed out of it")
	}
}
