package root

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"ellwand.example/core/fact"
	"ellwand.example/core/staging"
)

// spare is what is left free on a file system beyond what is written, in bytes.
const spare = 1 << 20

// planSpace checks that each file system has room for what is written to it, and can
// be written to. New files exist beside the old ones until the transaction is done.
func (t *Transaction) planSpace(_ context.Context, p *Plan, _ Request) error {
	type need struct {
		dir    string // one directory of the file system
		bytes  int64
		inodes int64
	}
	needs := map[uint64]*need{}
	devices := map[string]uint64{}
	nearest := map[string]string{} // directory → itself, or the one above that is there
	var device func(dir string) (uint64, string, error)
	device = func(dir string) (uint64, string, error) {
		if at, ok := nearest[dir]; ok {
			return devices[at], at, nil
		}
		info, err := t.root.tree.Stat(local(dir))
		if err == nil && info.IsDir() {
			nearest[dir], devices[dir] = dir, uint64(info.Sys().(*syscall.Stat_t).Dev)
			return devices[dir], dir, nil
		}
		if dir == "/" {
			return 0, dir, err
		}
		d, at, err := device(path.Dir(dir))
		nearest[dir] = at
		return d, at, err
	}
	for _, i := range p.items {
		if !i.write {
			continue
		}
		d, dir, err := device(path.Dir(i.real))
		if err != nil {
			return err
		}
		if needs[d] == nil {
			needs[d] = &need{dir: dir}
		}
		needs[d].inodes++
		if i.entry.Type == staging.File && i.entry.Same == "" {
			needs[d].bytes += (i.entry.Size + 4095) &^ 4095
		}
	}
	for _, n := range needs {
		var s unix.Statfs_t
		at := filepath.Join(t.root.Dir, n.dir)
		if err := unix.Statfs(at, &s); err != nil {
			return &os.PathError{Op: "statfs", Path: at, Err: err}
		}
		free := int64(s.Bavail) * s.Bsize
		switch {
		case s.Flags&unix.ST_RDONLY != 0:
			p.problem(Problem{Path: n.dir, Message: "the file system is read-only", Remedy: "mount it writable"})
		case n.bytes+spare > free:
			p.problem(Problem{Path: n.dir, Message: fmt.Sprintf("the file system has %s free, and %s are needed", fact.Bytes(free), fact.Bytes(n.bytes+spare)), Remedy: "make room"})
		case s.Files > 0 && n.inodes > int64(s.Ffree):
			p.problem(Problem{Path: n.dir, Message: fmt.Sprintf("the file system has room for %d more files, and %d are needed", s.Ffree, n.inodes), Remedy: "remove files that are not needed"})
		}
	}
	return nil
}

// ownerships reports whether files can be given to other accounts.
func (t *Transaction) ownerships() bool { return os.Geteuid() == 0 }

// copyOwner gives an open file the owner of another.
func copyOwner(f *os.File, of fs.FileInfo) error {
	if os.Geteuid() != 0 {
		return nil
	}
	s, ok := of.Sys().(*syscall.Stat_t)
	if !ok {
		return errors.New("the owner of the file is unknown")
	}
	return f.Chown(int(s.Uid), int(s.Gid))
}
