package sandbox

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Touch is a file outside of the tree that a command opened or ran.
type Touch struct {
	Path string `json:"path"`
	By   string `json:"by,omitempty"` // the program that ran it, for one that was run
}

// tracer is notified of every file that the command's processes open or run, by
// seccomp's user notification (seccomp_unotify(2)): the kernel stops the call,
// asks, and goes on with it. What is done without these calls, such as mapping
// a file that was open before, is not seen.
type tracer struct {
	listener int
	mu       sync.Mutex
	seen     map[Touch]bool
}

// maxTouches bounds what is remembered.
const maxTouches = 100_000

// watched are the calls that are asked about.
var watched = []uint32{unix.SYS_EXECVE, unix.SYS_EXECVEAT, unix.SYS_OPENAT, unix.SYS_OPENAT2}

// trace makes this thread, and so what it starts from here on, ask before the
// watched calls, and answers from another thread.
func trace() (*tracer, error) {
	var program []unix.SockFilter
	// The call's number is the first word of the data that a filter sees.
	program = append(program, unix.SockFilter{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: 0})
	for i, call := range watched {
		program = append(program, unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, K: call, Jt: uint8(len(watched) - i)})
	}
	program = append(program,
		unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_ALLOW},
		unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_USER_NOTIF})
	fd, err := installFilter(program, unix.SECCOMP_FILTER_FLAG_NEW_LISTENER)
	if err != nil {
		return nil, err
	}
	t := &tracer{listener: fd, seen: map[Touch]bool{}}
	unix.CloseOnExec(t.listener)
	go t.answer()
	return t, nil
}

// holdCollector keeps the garbage collector from running until resume is
// called. Starting a command halts this thread until the command has called
// exec, which waits for an answer of the tracer's thread; a collection would
// halt that one until this one stands still, which it never would.
func holdCollector() (resume func()) {
	runtime.GOMAXPROCS(max(2, runtime.GOMAXPROCS(0))) // one of them is held by the start
	percent := debug.SetGCPercent(-1)
	runtime.GC() // ends one that is under way
	return func() { debug.SetGCPercent(percent) }
}

// notification and response are struct seccomp_notif and seccomp_notif_resp.
type notification struct {
	ID    uint64
	PID   uint32
	Flags uint32
	Call  int32
	Arch  uint32
	_     uint64 // the instruction's address
	Args  [6]uint64
}

type response struct {
	ID    uint64
	Value int64
	Error int32
	Flags uint32
}

func (t *tracer) answer() {
	for {
		var n notification
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(t.listener), unix.SECCOMP_IOCTL_NOTIF_RECV, uintptr(unsafe.Pointer(&n))); errno != 0 {
			if errno == unix.EINTR || errno == unix.ENOENT {
				continue // the process has ended meanwhile
			}
			return
		}
		t.note(n)
		r := response{ID: n.ID, Flags: unix.SECCOMP_USER_NOTIF_FLAG_CONTINUE}
		unix.Syscall(unix.SYS_IOCTL, uintptr(t.listener), unix.SECCOMP_IOCTL_NOTIF_SEND, uintptr(unsafe.Pointer(&r)))
	}
}

// note remembers what a call is about. It may use no call that is watched
// itself on the thread that is.
func (t *tracer) note(n notification) {
	dir, at, runs := int32(unix.AT_FDCWD), n.Args[0], false
	switch uint32(n.Call) {
	case unix.SYS_EXECVE:
		runs = true
	case unix.SYS_EXECVEAT:
		dir, at, runs = int32(n.Args[0]), n.Args[1], true
	default:
		dir, at = int32(n.Args[0]), n.Args[1]
	}
	path := readString(n.PID, at)
	if path == "" {
		return
	}
	if !filepath.IsAbs(path) {
		link := fmt.Sprintf("/proc/%d/cwd", n.PID)
		if dir != unix.AT_FDCWD {
			link = fmt.Sprintf("/proc/%d/fd/%d", n.PID, dir)
		}
		from, err := os.Readlink(link)
		if err != nil {
			return
		}
		path = filepath.Join(from, path)
	}
	path = filepath.Clean(path)
	if !ofBase(path) {
		return
	}
	touch := Touch{Path: path}
	if runs {
		touch.By, _ = os.Readlink(fmt.Sprintf("/proc/%d/exe", n.PID))
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.seen[touch] || len(t.seen) >= maxTouches {
		return
	}
	if info, err := os.Stat(path); err != nil || info.IsDir() {
		return // looked for in vain
	}
	t.seen[touch] = true
}

// ofBase reports whether a path is in what steps only read.
func ofBase(path string) bool {
	for _, dir := range []string{"/usr/", "/bin/", "/sbin/", "/lib", "/opt/"} {
		if strings.HasPrefix(path, dir) {
			return true
		}
	}
	return false
}

// readString reads a string out of another process's memory.
func readString(pid uint32, at uint64) string {
	var buffer [unix.PathMax]byte
	local := []unix.Iovec{{Base: &buffer[0]}}
	local[0].SetLen(len(buffer))
	// A page that follows may not be there.
	for _, length := range []int{len(buffer), int(4096 - at%4096)} {
		remote := []unix.RemoteIovec{{Base: uintptr(at), Len: min(length, len(buffer))}}
		n, err := unix.ProcessVMReadv(int(pid), local, remote, 0)
		if err != nil {
			continue
		}
		if end := bytes.IndexByte(buffer[:n], 0); end >= 0 {
			return string(buffer[:end])
		}
	}
	return ""
}

func (t *tracer) touched() []Touch {
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []Touch
	for touch := range t.seen {
		out = append(out, touch)
	}
	slices.SortFunc(out, func(a, b Touch) int { return strings.Compare(a.Path+"\x00"+a.By, b.Path+"\x00"+b.By) })
	return out
}
