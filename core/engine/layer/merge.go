package layer

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"
)

// Merge puts together in a directory what an overlay of layers shows, the upper
// ones given first. Files are put there by place: Link or Copy.
func Merge(to string, layers []string, place Place) error { return merge(to, layers, place, false) }

// Export is Merge with copies, for a person to look at: what this user may not
// read is left out.
func Export(to string, layers []string) error { return merge(to, layers, Copy, true) }

// Place puts a file at another path.
type Place func(from, to string, info fs.FileInfo) error

func merge(to string, layers []string, place Place, lenient bool) error {
	var found []string
	for _, l := range layers {
		if info, err := os.Lstat(l); err == nil && info.IsDir() {
			found = append(found, l)
		} else if err == nil {
			break // removed, or replaced by something else
		}
		if len(found) > 0 && opaque(found[len(found)-1]) {
			break
		}
	}
	if len(found) == 0 {
		return nil
	}
	info, err := os.Lstat(found[0])
	if err != nil {
		return err
	}
	if err := os.Mkdir(to, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	names := map[string][]string{} // what the layers have by a name, upper first
	for _, dir := range found {
		entries, err := os.ReadDir(dir)
		if lenient && errors.Is(err, fs.ErrPermission) {
			continue
		}
		if err != nil {
			return err
		}
		for _, e := range entries {
			names[e.Name()] = append(names[e.Name()], filepath.Join(dir, e.Name()))
		}
	}
	for name, paths := range names {
		top, err := os.Lstat(paths[0])
		switch {
		case err != nil:
			return err
		case removed(top):
			continue
		case top.IsDir():
			err = merge(filepath.Join(to, name), paths, place, lenient)
		default:
			err = place(paths[0], filepath.Join(to, name), top)
		}
		if err != nil && !(lenient && errors.Is(err, fs.ErrPermission)) {
			return err
		}
	}
	return settleDir(to, info)
}

// settleDir gives a directory the mode, owner and time of the one it is made
// after.
func settleDir(to string, info fs.FileInfo) error {
	if err := own(to, info); err != nil {
		return err
	}
	if err := os.Chmod(to, info.Mode()&(fs.ModePerm|fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky)); err != nil {
		return err
	}
	return os.Chtimes(to, info.ModTime(), info.ModTime())
}

// own makes a file belong to whom another belongs to, where root asks.
func own(path string, info fs.FileInfo) error {
	if st, ok := info.Sys().(*syscall.Stat_t); ok && os.Geteuid() == 0 {
		return os.Lchown(path, int(st.Uid), int(st.Gid))
	}
	return nil
}

// removed reports whether a file marks that there is none.
func removed(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && info.Mode()&fs.ModeCharDevice != 0 && st.Rdev == 0
}

// opaque reports whether a directory hides those below it.
func opaque(dir string) bool {
	for _, name := range []string{"user.overlay.opaque", "trusted.overlay.opaque"} {
		var value [1]byte
		if n, err := unix.Lgetxattr(dir, name, value[:]); err == nil && n == 1 && value[0] == 'y' {
			return true
		}
	}
	return false
}

// Link places a file by another name for it.
func Link(from, to string, _ fs.FileInfo) error { return os.Link(from, to) }

// Copy places a copy of a file, which shares its blocks on disk until one of
// them is changed, where the file system can do that.
func Copy(from, to string, info fs.FileInfo) error {
	mode := info.Mode()
	switch {
	case mode&fs.ModeSymlink != 0:
		target, err := os.Readlink(from)
		if err != nil {
			return err
		}
		if err := os.Symlink(target, to); err != nil {
			return err
		}
		return own(to, info)
	case !mode.IsRegular():
		return nil // a pipe or socket that a step left: nothing to carry over
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	if unix.IoctlFileClone(int(out.Fd()), int(in.Fd())) != nil {
		if _, err := io.Copy(out, in); err != nil {
			return err
		}
	}
	return errors.Join(out.Close(), settleDir(to, info))
}

// Below returns the layers' directories of one name, for those that have it.
func Below(layers []string, name string) []string {
	out := slices.Clone(layers)
	for i := range out {
		out[i] = filepath.Join(out[i], name)
	}
	return out
}

// Whole returns a directory that shows what the layers have by a name, if one of
// them alone does: if those below it have nothing there.
func Whole(layers []string, name string) (string, bool) {
	for i, dir := range Below(layers, name) {
		entries, err := os.ReadDir(dir)
		if errors.Is(err, fs.ErrNotExist) || err == nil && len(entries) == 0 && i < len(layers)-1 {
			continue
		}
		if err != nil {
			return "", false
		}
		for _, lower := range Below(layers[i+1:], name) {
			if below, err := os.ReadDir(lower); err == nil && len(below) > 0 {
				return "", false
			}
		}
		return dir, true
	}
	return "", false
}
