package staging

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"ellwand.example/core/fact"
)

// UnfitError lists staged paths that cannot be packed.
type UnfitError struct{ Paths []string }

func (e *UnfitError) Error() string {
	return "the staging directory holds what cannot be packed:\n  " + strings.Join(e.Paths, "\n  ")
}

// UnreadableError is a path in a staging directory that this user may not read,
// since the stage step gave it a mode that forbids it.
type UnreadableError struct {
	Path string // in the package
	Mode fs.FileMode
	Dir  bool
}

func (e *UnreadableError) Error() string {
	return fmt.Sprintf("%s was staged with the mode %s, which does not let it be read for packing", e.Path, fact.Octal(e.Mode))
}

func unreadable(dir, disk string, err error) error {
	info, errStat := os.Lstat(disk)
	if errStat != nil {
		return err
	}
	return &UnreadableError{"/" + filepath.ToSlash(strings.TrimPrefix(disk, dir+"/")), info.Mode() & fs.ModePerm, info.IsDir()}
}

// Walk lists what is in a staging directory, in the order of paths.
func Walk(dir string) ([]Path, error) {
	var paths []Path
	var unfit []string
	err := filepath.WalkDir(dir, func(disk string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrPermission) {
			return unreadable(dir, disk, err)
		}
		if err != nil {
			return err
		}
		if disk == dir {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		p := Path{Path: "/" + filepath.ToSlash(strings.TrimPrefix(disk, dir+"/")), Disk: disk, Mode: info.Mode() & (fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky)}
		switch mode := info.Mode(); {
		case mode.IsRegular():
			p.Type, p.Size = File, info.Size()
			if st, ok := info.Sys().(*syscall.Stat_t); ok && st.Nlink > 1 {
				p.Inode = Inode{uint64(st.Dev), st.Ino}
			}
		case mode.IsDir():
			p.Type = Directory
		case mode&fs.ModeSymlink != 0:
			p.Type, p.Mode = Symlink, 0o777
			if p.Link, err = os.Readlink(disk); err != nil {
				return err
			}
		default:
			unfit = append(unfit, fmt.Sprintf("%q: a device, pipe or socket", p.Path))
			return nil
		}
		if p.Type == File && p.Mode&0o400 == 0 && unix.Access(disk, unix.R_OK) != nil {
			return unreadable(dir, disk, fs.ErrPermission)
		}
		if p.Type != Symlink {
			if p.Xattrs, err = xattrs(disk); err != nil {
				return err
			}
		}
		paths = append(paths, p)
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(unfit) > 0 {
		return nil, &UnfitError{unfit}
	}
	return paths, nil
}

// ValidXattr reports whether a package can carry an extended attribute: users'
// own, and capabilities. Others are the machine's (labels, access lists) or
// the build's.
func ValidXattr(name string) bool {
	user := strings.HasPrefix(name, "user.") && !strings.HasPrefix(name, "user.overlay.")
	return name == Capability || user && len(name) <= 255 && !strings.ContainsAny(name, "=\x00\n")
}

// xattrs reads the attributes of a path that a package can carry.
func xattrs(disk string) (map[string][]byte, error) {
	size, err := unix.Llistxattr(disk, nil)
	if err != nil || size == 0 {
		return nil, ignoreUnsupported(err)
	}
	list := make([]byte, size)
	if size, err = unix.Llistxattr(disk, list); err != nil {
		return nil, err
	}
	var out map[string][]byte
	for name := range strings.SplitSeq(strings.TrimRight(string(list[:size]), "\x00"), "\x00") {
		if !ValidXattr(name) {
			continue
		}
		value := make([]byte, 64<<10) // the most that Linux allows
		n, err := unix.Lgetxattr(disk, name, value)
		if err != nil {
			return nil, fmt.Errorf("%s: extended attribute %s: %w", disk, name, err)
		}
		if out == nil {
			out = map[string][]byte{}
		}
		out[name] = value[:n:n]
		if name == Capability {
			out[name] = plainCapability(out[name])
		}
	}
	return out, nil
}

func ignoreUnsupported(err error) error {
	if errors.Is(err, unix.ENOTSUP) {
		return nil
	}
	return err
}
