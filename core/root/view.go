package root

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"golang.org/x/sys/unix"

	"ellwand.example/core/ell"
	"ellwand.example/core/staging"
)

// local is an absolute path of a root, relative to its top.
func local(p string) string {
	if p == "/" {
		return "."
	}
	return strings.TrimPrefix(p, "/")
}

func isNotDir(err error) bool { return errors.Is(err, unix.ENOTDIR) }

// maxLinks is how many symbolic links may be in a path.
const maxLinks = 40

// view resolves paths of packages: the directories above a path may be symbolic
// links, of the root itself, of the system that it is based on, or of a package that is
// about to be installed. A link never leads out of the root: an absolute target and
// ".." are taken from the root's top.
type view struct {
	tree   *os.Root
	system *os.Root          // nil if there is none
	links  map[string]string // links that come in, by their real path
	gone   map[string]bool   // links that go, by their real path
	dirs   map[string]string // what was resolved already
}

func (r *Root) newView() *view {
	return &view{tree: r.tree, system: r.system, links: map[string]string{}, gone: map[string]bool{}, dirs: map[string]string{}}
}

// real is where a path is, once the links above it are followed. What the path itself
// is does not matter.
func (v *view) real(p string) (string, error) {
	if !isClean(p) {
		return "", fmt.Errorf("%q is not a clean absolute path", p)
	}
	dir, err := v.dir(path.Dir(p), 0)
	if err != nil {
		return "", fmt.Errorf("%s: %w", p, err)
	}
	return path.Join(dir, path.Base(p)), nil
}

// Real is where a path of the root is, once the links above it are followed: those of the
// root, and of the system that it is based on.
func (r *Root) Real(p string) (string, error) { return r.newView().real(p) }

// dir resolves all links of a directory's path.
func (v *view) dir(p string, links int) (string, error) {
	if p == "/" {
		return "/", nil
	}
	if real, ok := v.dirs[p]; ok {
		return real, nil
	}
	above, err := v.dir(path.Dir(p), links)
	if err != nil {
		return "", err
	}
	real := path.Join(above, path.Base(p))
	target, err := v.target(real)
	if err != nil {
		return "", err
	}
	if target != "" {
		if links++; links > maxLinks {
			return "", errors.New("too many symbolic links")
		}
		if !strings.HasPrefix(target, "/") {
			target = path.Join(above, target)
		}
		if real, err = v.dir(path.Clean(target), links); err != nil {
			return "", err
		}
	}
	v.dirs[p] = real
	return real, nil
}

// target is what a symbolic link leads to; empty if the path is none.
func (v *view) target(real string) (string, error) {
	if target, ok := v.links[real]; ok {
		return target, nil
	}
	for _, tree := range []*os.Root{v.tree, v.system} {
		if tree == nil || tree == v.tree && v.gone[real] {
			continue
		}
		info, err := tree.Lstat(local(real))
		if errors.Is(err, fs.ErrNotExist) || isNotDir(err) {
			continue
		}
		if err != nil {
			return "", err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			return "", nil
		}
		return tree.Readlink(local(real))
	}
	return "", nil
}

// addLinks notes the symbolic links of packages that come in, so that paths of others
// are resolved through them.
func (v *view) addLinks(layouts ...[]ell.Entry) error {
	for range maxLinks {
		changed := false
		clear(v.dirs) // a link may be above another
		for _, entries := range layouts {
			for _, e := range entries {
				if e.Type != staging.Symlink {
					continue
				}
				real, err := v.real(e.Path)
				if err != nil {
					return err
				}
				if _, ok := v.links[real]; !ok {
					v.links[real], changed = e.Link, true
				}
			}
		}
		if !changed {
			return nil
		}
	}
	return errors.New("the symbolic links of the packages lead to each other")
}
