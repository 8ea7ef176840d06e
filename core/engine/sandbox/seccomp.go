package sandbox

import (
	"fmt"
	"maps"
	"slices"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// rule refuses one system call of steps with an error number.
type rule struct {
	call  uint32
	errno unix.Errno
	// test, if not nil, limits the rule to some arguments: it returns
	// instructions that fall through where the rule applies, and skip the
	// given number of instructions where it does not.
	test func(skip uint8) []bpf.Instruction
}

// Offsets in struct seccomp_data (seccomp(2)). Both architectures are
// little-endian, so an argument's low word comes first.
const (
	dataCall = 0
	dataArch = 4
	dataArgs = 16
)

func lowWord(argument int) bpf.Instruction {
	return bpf.LoadAbsolute{Off: uint32(dataArgs + 8*argument), Size: 4}
}

// anyBit tests whether an argument has any of the bits of a mask. The kernel
// reads the arguments in question as 32 bits, so the high word is ignored.
func anyBit(argument int, mask uint32) func(uint8) []bpf.Instruction {
	return func(skip uint8) []bpf.Instruction {
		return []bpf.Instruction{lowWord(argument), bpf.JumpIf{Cond: bpf.JumpBitsNotSet, Val: mask, SkipTrue: skip}}
	}
}

func oneOf(argument int, values ...uint32) func(uint8) []bpf.Instruction {
	return func(skip uint8) []bpf.Instruction {
		out := []bpf.Instruction{lowWord(argument)}
		for i, v := range values[:len(values)-1] {
			out = append(out, bpf.JumpIf{Cond: bpf.JumpEqual, Val: v, SkipTrue: uint8(len(values) - 1 - i)})
		}
		return append(out, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: values[len(values)-1], SkipTrue: skip})
	}
}

// foreignSocket applies to sockets that reach further than the step's own
// network namespace, such as vsock, and to kernel interfaces that builds do
// not need. UNIX, IPv4, IPv6 and routing netlink sockets are what programs and
// tests on the loopback device use.
func foreignSocket(skip uint8) []bpf.Instruction {
	return []bpf.Instruction{
		lowWord(0),
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.AF_UNIX, SkipTrue: skip + 5},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.AF_INET, SkipTrue: skip + 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.AF_INET6, SkipTrue: skip + 3},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.AF_NETLINK, SkipTrue: 2},
		lowWord(2),
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.NETLINK_ROUTE, SkipTrue: skip},
	}
}

const newNamespace = unix.CLONE_NEWUSER | unix.CLONE_NEWNS | unix.CLONE_NEWPID | unix.CLONE_NEWNET | unix.CLONE_NEWIPC | unix.CLONE_NEWUTS | unix.CLONE_NEWCGROUP

// never are the calls that no step may make.
var never = []rule{
	{unix.SYS_KEXEC_LOAD, unix.EPERM, nil}, {unix.SYS_KEXEC_FILE_LOAD, unix.EPERM, nil}, {unix.SYS_REBOOT, unix.EPERM, nil},
	{unix.SYS_INIT_MODULE, unix.EPERM, nil}, {unix.SYS_FINIT_MODULE, unix.EPERM, nil}, {unix.SYS_DELETE_MODULE, unix.EPERM, nil},
	{unix.SYS_SWAPON, unix.EPERM, nil}, {unix.SYS_SWAPOFF, unix.EPERM, nil}, {unix.SYS_ACCT, unix.EPERM, nil}, {unix.SYS_SYSLOG, unix.EPERM, nil},
	{unix.SYS_QUOTACTL, unix.EPERM, nil}, {unix.SYS_FANOTIFY_INIT, unix.EPERM, nil}, {unix.SYS_OPEN_BY_HANDLE_AT, unix.EPERM, nil},
	{unix.SYS_SETTIMEOFDAY, unix.EPERM, nil}, {unix.SYS_CLOCK_SETTIME, unix.EPERM, nil},
	// Both put characters into a terminal's input (ioctl_tty(2)).
	{unix.SYS_IOCTL, unix.EPERM, oneOf(1, unix.TIOCSTI, tiocLinux)},
}

const tiocLinux = 0x541c

// unlessAllowed are the calls that a step may make only if its recipe asks for
// them, by the name that it uses in [steps] allow.
var unlessAllowed = map[string][]rule{
	"namespaces": {
		{unix.SYS_UNSHARE, unix.EPERM, anyBit(0, newNamespace)}, {unix.SYS_CLONE, unix.EPERM, anyBit(0, newNamespace)},
		// Its flags are in memory, where no filter can look. The C library
		// goes on with clone.
		{unix.SYS_CLONE3, unix.ENOSYS, nil},
		{unix.SYS_SETNS, unix.EPERM, nil}, {unix.SYS_MOUNT, unix.EPERM, nil}, {unix.SYS_UMOUNT2, unix.EPERM, nil}, {unix.SYS_PIVOT_ROOT, unix.EPERM, nil},
		{unix.SYS_OPEN_TREE, unix.EPERM, nil}, {unix.SYS_MOVE_MOUNT, unix.EPERM, nil}, {unix.SYS_FSOPEN, unix.EPERM, nil}, {unix.SYS_FSCONFIG, unix.EPERM, nil},
		{unix.SYS_FSMOUNT, unix.EPERM, nil}, {unix.SYS_FSPICK, unix.EPERM, nil}, {unix.SYS_MOUNT_SETATTR, unix.EPERM, nil},
	},
	"keyring":     {{unix.SYS_KEYCTL, unix.EPERM, nil}, {unix.SYS_ADD_KEY, unix.EPERM, nil}, {unix.SYS_REQUEST_KEY, unix.EPERM, nil}},
	"bpf":         {{unix.SYS_BPF, unix.EPERM, nil}},
	"perf_event":  {{unix.SYS_PERF_EVENT_OPEN, unix.EPERM, nil}},
	"userfaultfd": {{unix.SYS_USERFAULTFD, unix.EPERM, nil}},
	"io_uring":    {{unix.SYS_IO_URING_SETUP, unix.ENOSYS, nil}, {unix.SYS_IO_URING_ENTER, unix.ENOSYS, nil}, {unix.SYS_IO_URING_REGISTER, unix.ENOSYS, nil}},
	"sockets":     {{unix.SYS_SOCKET, unix.EAFNOSUPPORT, foreignSocket}, {unix.SYS_SOCKETPAIR, unix.EAFNOSUPPORT, foreignSocket}},
	"32-bit":      nil, // calls in the other ABI, which the filter cannot tell apart: see filter
}

// Allowances lists, sorted, what a step can be allowed beyond the usual system
// calls.
func Allowances() []string { return slices.Sorted(maps.Keys(unlessAllowed)) }

// filter makes the seccomp filter for steps that are allowed some more.
func filter(allow []string) ([]unix.SockFilter, error) {
	if nativeArch == 0 {
		return nil, &refusal{"Ellwand has no system call filter for this architecture"}
	}
	refuse := func(errno unix.Errno) bpf.Instruction {
		return bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | uint32(errno)}
	}
	foreign := refuse(unix.ENOSYS)
	if slices.Contains(allow, "32-bit") {
		foreign = bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW}
	}
	program := []bpf.Instruction{
		bpf.LoadAbsolute{Off: dataArch, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: nativeArch, SkipTrue: 1},
		foreign,
		bpf.LoadAbsolute{Off: dataCall, Size: 4},
		// Numbers from here on are those of x32 on amd64; no other has them.
		bpf.JumpIf{Cond: bpf.JumpLessThan, Val: 0x4000_0000, SkipTrue: 1},
		refuse(unix.ENOSYS),
	}
	rules := slices.Concat(never, nativeRules)
	for _, name := range Allowances() {
		if !slices.Contains(allow, name) {
			rules = append(rules, unlessAllowed[name]...)
		}
	}
	for _, r := range rules {
		var body []bpf.Instruction
		if r.test != nil {
			// Where the test fails, the call's number has to be loaded again.
			body = r.test(1)
		}
		body = append(body, refuse(r.errno))
		if r.test != nil {
			body = append(body, bpf.LoadAbsolute{Off: dataCall, Size: 4})
		}
		program = append(program, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: r.call, SkipTrue: uint8(len(body))})
		program = append(program, body...)
	}
	program = append(program, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
	raw, err := bpf.Assemble(program)
	if err != nil {
		return nil, fmt.Errorf("the system call filter: %w", err)
	}
	out := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		out[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	return out, nil
}

// installFilter puts a filter on this thread, and so on what it starts from
// here on. It returns the descriptor of a listener, if the flags ask for one.
func installFilter(program []unix.SockFilter, flags uintptr) (int, error) {
	filter := unix.SockFprog{Len: uint16(len(program)), Filter: &program[0]}
	fd, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, flags, uintptr(unsafe.Pointer(&filter)))
	if errno != 0 {
		return -1, failure(errno, "the kernel does not install a system call filter (seccomp)")
	}
	return int(fd), nil
}
