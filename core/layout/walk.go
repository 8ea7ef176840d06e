package layout

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"unicode/utf8"
)

// Type is what a path is.
type Type string

// The types of path that a package can hold.
const (
	File      Type = "file"
	Directory Type = "dir"
	Symlink   Type = "symlink"
)

// Path is one path that was staged.
type Path struct {
	Path string // absolute, as it will be installed
	Type Type
	Mode fs.FileMode // permission bits, with setuid, setgid and sticky
	Size int64       // of a file, in bytes
	Link string      // target of a symbolic link
	Disk string      // where it is now
	// Inode is the same for two paths that are hard links to one file; zero
	// for a file with one name.
	Inode Inode
}

// Inode names a file on the machine.
type Inode struct{ Dev, Ino uint64 }

// UnfitError lists staged paths that cannot be packed.
type UnfitError struct{ Paths []string }

func (e *UnfitError) Error() string {
	return "the staging directory holds what cannot be packed:\n  " + strings.Join(e.Paths, "\n  ")
}

// Walk lists what stands in a staging directory, in the order of paths.
func Walk(dir string) ([]Path, error) {
	var paths []Path
	var unfit []string
	err := filepath.WalkDir(dir, func(disk string, e fs.DirEntry, err error) error {
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
		if !utf8.ValidString(p.Path) || strings.ContainsAny(p.Path, "\n\x00") {
			unfit = append(unfit, fmt.Sprintf("%q: its name is not UTF-8 text on one line", p.Path))
			return nil
		}
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
			if !utf8.ValidString(p.Link) {
				unfit = append(unfit, fmt.Sprintf("%q: its target is not UTF-8 text", p.Path))
				return nil
			}
		default:
			unfit = append(unfit, fmt.Sprintf("%q: a device, pipe or socket", p.Path))
			return nil
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
