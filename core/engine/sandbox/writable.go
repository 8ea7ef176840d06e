package sandbox

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// A command with a Root sees that directory as its file system, and can write to it, as
// root: a script of a package in the root that it is installed into. Below it may be a
// system, of which the root's directory then has only what differs.

// workDir is a directory of a Root that overlays need, and that is removed again.
const workDir = ".ellwand-overlay"

// mountRoot mounts the writable root, over the system that is below it.
func (t *tree) mountRoot() error {
	layers := []string{t.Writable}
	if !t.Alone {
		layers = append(layers, t.systemDir())
	}
	var names []string
	for _, layer := range layers {
		entries, err := os.ReadDir(layer)
		if err != nil {
			return err
		}
		for _, e := range entries {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if slices.Contains(ownDirs, name) || name == workDir {
			continue
		}
		seen := layers
		if !t.seen(name) {
			seen = layers[:1]
		}
		if err := t.mountWritable(name, seen); err != nil {
			return err
		}
	}
	if t.Protected == "" {
		return nil
	}
	return t.bind(filepath.Join(t.Writable, t.Protected), t.Protected, readOnly)
}

// systemDir is the directory of the system; "/" for the machine's own.
func (s *orders) systemDir() string {
	if s.System == "" {
		return "/"
	}
	return s.System
}

// mountWritable mounts one entry of the root directory: of the root, of the system, or of
// both, the root's over the system's.
func (t *tree) mountWritable(name string, layers []string) error {
	var dirs []string
	for _, layer := range layers {
		at := filepath.Join(layer, name)
		info, err := os.Lstat(at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return err
		case info.Mode()&os.ModeSymlink != 0 && len(dirs) == 0:
			target, err := os.Readlink(at)
			if err != nil {
				return err
			}
			return t.root.Symlink(target, name)
		case info.IsDir():
			dirs = append(dirs, at)
		case len(dirs) == 0:
			return nil // a file: scripts have no use for it
		}
	}
	if len(dirs) == 0 {
		return nil
	}
	if err := t.root.Mkdir(name, 0o755); err != nil {
		return err
	}
	own := dirs[0] == filepath.Join(t.Writable, name)
	switch {
	case !own:
		return t.lay(dirs, name)
	case len(dirs) == 1:
		return t.bind(dirs[0], name, kept)
	case t.Copies:
		return &refusal{"overlay mounts are unavailable, and the root is based on a system"}
	}
	work := filepath.Join(t.Writable, workDir, name)
	if err := os.MkdirAll(work, 0o755); err != nil {
		return err
	}
	return t.overlay(name, dirs[1:], dirs[0], work)
}

// identity maps every user and group number that this namespace has to itself.
func identity(file string) ([]syscall.SysProcIDMap, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var out []syscall.SysProcIDMap
	for line := range strings.Lines(string(data)) {
		var inside, outside, size int
		if _, err := fmt.Sscan(line, &inside, &outside, &size); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		out = append(out, syscall.SysProcIDMap{ContainerID: inside, HostID: inside, Size: size})
	}
	return out, nil
}

// asRoot makes the command's user root: with all numbers there are if root calls, and
// else with the caller's own alone.
func asRoot(attr *syscall.SysProcAttr) (err error) {
	if os.Geteuid() != 0 {
		attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Geteuid(), Size: 1}}
		attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getegid(), Size: 1}}
		return nil
	}
	if attr.UidMappings, err = identity("/proc/self/uid_map"); err != nil {
		return err
	}
	attr.GidMappings, err = identity("/proc/self/gid_map")
	attr.GidMappingsEnableSetgroups = true
	return err
}

// scriptCapabilities are what a script of a package may do in its root: give files other
// owners and modes, and become another user.
var scriptCapabilities = []uintptr{unix.CAP_CHOWN, unix.CAP_DAC_OVERRIDE, unix.CAP_FOWNER, unix.CAP_FSETID, unix.CAP_KILL, unix.CAP_SETUID, unix.CAP_SETGID, unix.CAP_SETFCAP}

// boundCapabilities keeps a command that runs as root from all other capabilities.
func boundCapabilities() error {
	const last = 63
	for c := uintptr(0); c <= last; c++ {
		if slices.Contains(scriptCapabilities, c) {
			continue
		}
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); err != nil && !errors.Is(err, unix.EINVAL) {
			return failure(err, "capabilities cannot be dropped")
		}
	}
	return nil
}
