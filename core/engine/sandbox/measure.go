package sandbox

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"ellwand.example/core/engine/layer"
)

// measured is what the processes of a sandbox have, seen from process 1.
type measured struct {
	memory int64 // bytes
	disk   int64 // bytes, without those of the tree and /tmp that have a name
}

// file identifies a file on the machine.
type file struct{ device, inode uint64 }

// mebibyte is how much shared memory a process must have before its mappings
// are looked through, which takes time.
const mebibyte = 1 << 20

// measure adds up the memory and the nameless files of all processes but this
// one. Memory is what is anonymous, and what is shared: once for each file in
// memory, whether it is mapped (mmap(2)), only open (memfd_create(2)), in
// /dev/shm, or a System V segment (shmget(2)). What is only cached from disk
// does not count. Disk is files that have been removed and are still open or
// mapped.
func measure() measured {
	var m measured
	page := int64(os.Getpagesize())
	shm := statFile("/dev/shm")
	open, mapped := nameless{}, nameless{}
	for _, p := range processes() {
		if p == 1 {
			continue
		}
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", p))
		fields := strings.Fields(string(data))
		if err != nil || len(fields) < 3 {
			continue // it has ended
		}
		resident, _ := strconv.ParseInt(fields[1], 10, 64)
		backed, _ := strconv.ParseInt(fields[2], 10, 64) // by files, in memory or on disk
		m.memory += (resident - backed) * page
		open.addOpen(p, shm.device)
		if backed*page > mebibyte {
			mapped.addMapped(p, shm.device)
		}
	}
	for at := range mapped {
		open[at] = use{inMemory: mapped[at].inMemory, bytes: max(open[at].bytes, mapped[at].bytes)}
	}
	for _, u := range open {
		if u.inMemory {
			m.memory += u.bytes
		} else {
			m.disk += u.bytes
		}
	}
	var fs unix.Statfs_t
	if unix.Statfs("/dev/shm", &fs) == nil {
		m.memory += int64(fs.Blocks-fs.Bfree) * fs.Bsize
	}
	m.memory += segments()
	return m
}

func statFile(path string) file {
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil {
		return file{}
	}
	return file{st.Dev, st.Ino}
}

// nameless are files that have no name any more, or never had one, and what
// they take.
type nameless map[file]use

type use struct {
	inMemory bool
	bytes    int64
}

// addOpen adds those that a process has open. Files in /dev/shm are counted
// with it.
func (n nameless) addOpen(pid int, shm uint64) {
	dir := fmt.Sprintf("/proc/%d/fd", pid)
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		var st unix.Stat_t
		var fs unix.Statfs_t
		path := dir + "/" + e.Name()
		if unix.Stat(path, &st) != nil || st.Mode&unix.S_IFMT != unix.S_IFREG || st.Nlink > 0 || st.Dev == shm || unix.Statfs(path, &fs) != nil {
			continue
		}
		n[file{st.Dev, st.Ino}] = use{fs.Type == unix.TMPFS_MAGIC || fs.Type == unix.HUGETLBFS_MAGIC, st.Blocks * 512}
	}
}

// addMapped adds those that a process has mapped (proc(5), smaps): of files in
// memory what of them is there, divided among those that map it, and of files
// on disk the length that is mapped.
func (n nameless) addMapped(pid int, shm uint64) {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/smaps", pid))
	if err != nil {
		return
	}
	var at file
	counts := false
	for line := range strings.Lines(string(data)) {
		fields := strings.Fields(line)
		switch {
		case len(fields) == 3 && fields[0] == "Pss:" && counts && n[at].inMemory:
			kib, _ := strconv.ParseInt(fields[1], 10, 64)
			n[at] = use{true, n[at].bytes + kib<<10}
		case len(fields) >= 5 && !strings.HasSuffix(fields[0], ":"):
			// A mapping: range, rights, offset, device, inode, name.
			counts = len(fields) >= 7 && fields[len(fields)-1] == "(deleted)" && !strings.HasPrefix(fields[5], "/SYSV")
			if !counts {
				continue
			}
			var from, to uint64
			var major, minor uint32
			fmt.Sscanf(fields[0], "%x-%x", &from, &to)
			fmt.Sscanf(fields[3], "%x:%x", &major, &minor)
			inode, _ := strconv.ParseUint(fields[4], 10, 64)
			at = file{unix.Mkdev(major, minor), inode}
			if counts = at.device != shm; !counts {
				continue
			}
			if strings.HasPrefix(fields[5], "/memfd:") || fields[5] == "/dev/zero" {
				n[at] = use{true, n[at].bytes}
			} else {
				n[at] = use{false, max(n[at].bytes, int64(to-from))}
			}
		}
	}
}

// segments is what the System V shared memory of this namespace has in memory.
func segments() int64 {
	data, err := os.ReadFile("/proc/sysvipc/shm")
	if err != nil {
		return 0
	}
	var total int64
	column := -1
	for line := range strings.Lines(string(data)) {
		fields := strings.Fields(line)
		if column < 0 {
			for i, name := range fields {
				if name == "rss" {
					column = i
				}
			}
			continue
		}
		if column < len(fields) {
			n, _ := strconv.ParseInt(fields[column], 10, 64)
			total += n
		}
	}
	return total
}

// written is how much is in the tree and in /tmp.
func written() int64 { return layer.Size(TreeDir) + layer.Size("/tmp") }
