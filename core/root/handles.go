package root

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"sync"
)

// handles keeps directories of a root open, so that a path in one of them is reached in
// one step instead of one for each directory above it. It is for a time in which no
// directory is moved.
type handles struct {
	tree *os.Root

	lock    sync.Mutex
	open    map[string]*os.Root
	missing map[string]bool // directories that are not there
}

// maxHandles is how many directories are open at the same time.
const maxHandles = 256

func newHandles(tree *os.Root) *handles {
	return &handles{tree: tree, open: map[string]*os.Root{}, missing: map[string]bool{}}
}

// in calls f with the directory of a path, and its name there.
func (h *handles) in(p string, f func(dir *os.Root, name string) error) error {
	for {
		dir, err := h.dir(path.Dir(p))
		if err != nil {
			return err
		}
		// Another goroutine may have closed it to make room.
		if err = f(dir, path.Base(p)); !errors.Is(err, os.ErrClosed) {
			return err
		}
	}
}

func (h *handles) dir(p string) (*os.Root, error) {
	h.lock.Lock()
	defer h.lock.Unlock()
	return h.find(p)
}

func (h *handles) find(p string) (*os.Root, error) {
	if p == "/" {
		return h.tree, nil
	}
	if dir := h.open[p]; dir != nil {
		return dir, nil
	}
	if h.missing[p] {
		return nil, &fs.PathError{Op: "open", Path: p, Err: fs.ErrNotExist}
	}
	above, err := h.find(path.Dir(p))
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			h.missing[p] = true
		}
		return nil, err
	}
	dir, err := above.OpenRoot(path.Base(p))
	if err != nil {
		if info, errStat := above.Stat(path.Base(p)); errStat != nil || !info.IsDir() {
			h.missing[p] = true // there is nothing, or no directory
			err = &fs.PathError{Op: "open", Path: p, Err: fs.ErrNotExist}
		}
		return nil, err
	}
	if len(h.open) >= maxHandles {
		h.drop()
	}
	h.open[p] = dir
	return dir, nil
}

// drop closes all directories.
func (h *handles) drop() {
	for p, dir := range h.open {
		dir.Close()
		delete(h.open, p)
	}
}

// exists is Root.exists.
func (h *handles) exists(p string) (info fs.FileInfo, there bool, err error) {
	err = h.in(p, func(dir *os.Root, name string) error {
		info, err = dir.Lstat(name)
		return err
	})
	if errors.Is(err, fs.ErrNotExist) || isNotDir(err) {
		return nil, false, nil
	}
	return info, err == nil, err
}

// Close closes all directories.
func (h *handles) Close() {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.drop()
}
