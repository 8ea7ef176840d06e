package sandbox

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// hostDirs are what is seen of the machine where it is the system itself.
var hostDirs = []string{"usr", "bin", "sbin", "lib", "lib32", "lib64", "libx32", "etc", "opt"}

// ownDirs are the directories of every system that the sandbox has its own of.
var ownDirs = []string{"proc", "sys", "dev", "tmp", "run", "home", "root", "mnt", "media", "build", "recipe", "lost+found"}

// tree is the new root while it is put together. What is in it, and in the
// systems and packages it is made of, is a stranger's: a path in it is resolved
// below its top, and a link never leads to the machine's own files.
type tree struct {
	*orders
	root *os.Root // of the new root
	// links is a directory with short names for the directories that overlays
	// are made of: an overlay shows the names it was mounted with to everyone,
	// and those of the workspace are of no concern to it. It also saves room,
	// since the kernel takes one page of options.
	links string
	n     int // links made
}

// setUp builds the file system of the sandbox and moves into it.
func (s *orders) setUp() error {
	unix.Umask(0o022)
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return failure(err, "mounts cannot be changed")
	}
	if err := unix.Mount("ellwand", s.Root, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=755,size=64m"); err != nil {
		return failure(err, "tmpfs cannot be mounted")
	}
	root, err := os.OpenRoot(s.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	t := &tree{orders: s, root: root, links: s.in(linksDir)}
	for _, dir := range []string{linksDir, emptyDir, ownEtc} {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	for _, step := range []func() error{t.mountSystem, t.mountWork, t.mountDevices, t.mountProc, t.writeScript, t.changeRoot, s.network} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// Directories in the new root that are gone, or of no use, once it is put
// together. They are in its /run, which steps cannot write to.
const (
	linksDir = "run/ellwand/mount/links"
	emptyDir = "run/ellwand/mount/empty"
	ownTop   = "run/ellwand/mount/own"
	ownEtc   = ownTop + "/etc"
)

func (s *orders) in(path string) string { return filepath.Join(s.Root, path) }

// at opens a path of the new root, without following a link out of it, and
// calls f with a name for what was opened that leads nowhere else.
func (t *tree) at(path string, f func(target string) error) error {
	dir, err := unix.Open(t.Root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return &os.PathError{Op: "open", Path: t.Root, Err: err}
	}
	defer unix.Close(dir)
	how := unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_MAGICLINKS}
	fd, err := unix.Openat2(dir, path, &how)
	if err != nil {
		return failure(err, "/%s in the sandbox", path)
	}
	defer unix.Close(fd)
	return f(fmt.Sprintf("/proc/self/fd/%d", fd))
}

// bind mounts a directory of the machine, with all that is mounted in it, at a
// path of the new root. The flags are attributes of mount_setattr(2).
func (t *tree) bind(from, to string, flags uint64) error {
	err := t.at(to, func(target string) error {
		return failure(unix.Mount(from, target, "", unix.MS_BIND|unix.MS_REC, ""), "%s cannot be mounted", from)
	})
	if err != nil {
		return err
	}
	return t.protect(to, flags, unix.AT_RECURSIVE)
}

// protect sets attributes of the mount at a path of the new root.
func (t *tree) protect(path string, flags uint64, how uint) error {
	return t.at(path, func(target string) error {
		attr := unix.MountAttr{Attr_set: flags}
		return failure(unix.MountSetattr(unix.AT_FDCWD, target, how, &attr), "/%s in the sandbox cannot be protected", path)
	})
}

const (
	readOnly = unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV
	kept     = unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV
)

// etcFiles replace those of the system: they would differ between machines.
var etcFiles = map[string]string{
	"passwd":   "root:x:0:0:root:/root:/bin/sh\nbuild:x:{user}:{user}:build:/build/home:/bin/sh\nnobody:x:65534:65534:nobody:/:/bin/false\n",
	"group":    "root:x:0:\nbuild:x:{user}:\nnogroup:x:65534:\n",
	"hosts":    "127.0.0.1 localhost\n::1 localhost\n",
	"hostname": "ellwand\n",
}

// mountSystem mounts the system, and the packages laid over it, read-only.
func (t *tree) mountSystem() error {
	if t.Writable != "" {
		return t.mountRoot()
	}
	system := t.System
	names := hostDirs
	if system != "" {
		entries, err := os.ReadDir(system)
		if err != nil {
			return err
		}
		names = nil
		for _, e := range entries {
			names = append(names, e.Name())
		}
	} else {
		system = "/"
	}
	for _, over := range t.Over {
		entries, err := os.ReadDir(over)
		if err != nil {
			return err
		}
		for _, e := range entries {
			names = append(names, e.Name())
		}
	}
	for name, text := range etcFiles {
		if err := t.root.WriteFile(ownEtc+"/"+name, []byte(strings.ReplaceAll(text, "{user}", strconv.Itoa(t.User))), 0o644); err != nil {
			return err
		}
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if slices.Contains(ownDirs, name) {
			continue
		}
		if err := t.mountTop(name, system); err != nil {
			return err
		}
	}
	return nil
}

// mountTop mounts one entry of the root directory. A link stays one, and leads
// to somewhere in the new root. Where the system has a link, it counts; a package
// can bring one only where nothing else has that name.
func (t *tree) mountTop(name, system string) error {
	if info, err := os.Lstat(filepath.Join(system, name)); err == nil && info.Mode()&os.ModeSymlink != 0 && t.seen(name) {
		target, err := os.Readlink(filepath.Join(system, name))
		if err != nil {
			return err
		}
		return t.root.Symlink(target, name)
	}
	var layers, links []string
	for _, top := range slices.Concat([]string{t.in(ownTop)}, t.Over, []string{system}) {
		if top == system && !t.seen(name) {
			continue
		}
		path := filepath.Join(top, name)
		info, err := os.Lstat(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return err
		case info.IsDir():
			layers = append(layers, path)
		case info.Mode()&os.ModeSymlink != 0:
			target, err := os.Readlink(path)
			if err != nil {
				return err
			}
			links = append(links, target)
		case top != system:
			return fmt.Errorf("/%s of a package is not a directory: the package cannot be used in a build", name)
		}
	}
	links = slices.Compact(links)
	switch {
	case len(links) > 1, len(links) > 0 && len(layers) > 0:
		return fmt.Errorf("/%s of a package is a link to %q, and something else in another package or in the system: they cannot be used in one build", name, links[0])
	case len(links) == 1:
		return t.root.Symlink(links[0], name)
	case len(layers) == 0:
		return nil
	}
	if err := t.root.Mkdir(name, 0o755); err != nil {
		return err
	}
	return t.lay(layers, name)
}

// seen reports whether a top-level directory of the system is seen inside: of the
// machine's own system, not all are.
func (s *orders) seen(name string) bool { return s.System != "" || slices.Contains(hostDirs, name) }

// lay mounts directories over each other at a name in the new root. Where
// there are no overlay mounts, only the system's is there, with the own files
// bound.
func (t *tree) lay(layers []string, name string) error {
	if len(layers) == 1 && (t.System == "" || t.Copies) {
		return t.bind(layers[0], name, readOnly)
	}
	if t.Copies {
		if err := t.bind(layers[len(layers)-1], name, readOnly); err != nil {
			return err
		}
		entries, err := os.ReadDir(layers[0])
		if err != nil || name != "etc" {
			return err
		}
		for _, e := range entries {
			// A system's link is left alone: what it leads to is not in /etc.
			if info, err := os.Lstat(filepath.Join(layers[len(layers)-1], e.Name())); err != nil || !info.Mode().IsRegular() {
				continue
			}
			if err := t.bind(filepath.Join(layers[0], e.Name()), name+"/"+e.Name(), readOnly); err != nil {
				return err
			}
		}
		return nil
	}
	if err := t.overlay(name, layers, "", ""); err != nil {
		return err
	}
	// An overlay shows nothing of what is mounted inside the system's directory.
	system := layers[len(layers)-1]
	for _, inner := range mountsBelow(system) {
		if info, err := os.Lstat(filepath.Join(system, inner)); err != nil || !info.IsDir() {
			continue
		}
		err := t.bind(filepath.Join(system, inner), name+"/"+inner, readOnly)
		if err != nil && !errors.Is(err, unix.ENOENT) && !errors.Is(err, unix.ENOTDIR) {
			return err
		}
	}
	return t.protect(name, readOnly, 0)
}

// short makes a short name for a directory of the machine.
func (t *tree) short(dir string) (string, error) {
	name := strconv.Itoa(t.n)
	t.n++
	return name, os.Symlink(dir, filepath.Join(t.links, name))
}

// overlay mounts layers, the upper ones first, at a directory of the new root;
// read-only if there is no upper one to write to.
func (t *tree) overlay(to string, lower []string, upper, work string) error {
	if len(lower) == 1 && upper == "" {
		lower = append(slices.Clone(lower), t.in(emptyDir)) // the kernel wants two
	}
	names := make([]string, len(lower))
	for i, l := range lower {
		var err error
		if names[i], err = t.short(l); err != nil {
			return err
		}
	}
	options := "userxattr,lowerdir=" + strings.Join(names, ":")
	if upper != "" {
		up, err := t.short(upper)
		if err != nil {
			return err
		}
		w, err := t.short(work)
		if err != nil {
			return err
		}
		options += ",upperdir=" + up + ",workdir=" + w
	}
	if err := os.Chdir(t.links); err != nil {
		return err
	}
	return t.at(to, func(target string) error {
		const flags = unix.MS_NOSUID | unix.MS_NODEV
		if upper != "" {
			// Unmounting would else wait until everything that any process has
			// written to that file system is on disk. What a power failure
			// takes is for package layer to see.
			if err := unix.Mount("overlay", target, "overlay", flags, options+",volatile"); !errors.Is(err, unix.EINVAL) {
				return failure(err, "overlay mounts are unavailable")
			}
		}
		return failure(unix.Mount("overlay", target, "overlay", flags, options), "overlay mounts are unavailable")
	})
}

// mountsBelow lists the mount points inside a directory, relative to it.
func mountsBelow(dir string) []string {
	data, _ := os.ReadFile("/proc/self/mountinfo")
	var out []string
	for line := range strings.Lines(string(data)) {
		if fields := strings.Fields(line); len(fields) > 4 {
			if rest, ok := strings.CutPrefix(unescapeMount(fields[4]), strings.TrimSuffix(dir, "/")+"/"); ok && rest != "" {
				out = append(out, rest)
			}
		}
	}
	return out
}

// unescapeMount undoes how proc(5) writes spaces in paths.
func unescapeMount(s string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(s)
}

// mountWork mounts what the step works on, the recipe's directory, and /tmp.
func (t *tree) mountWork() error {
	for _, dir := range []string{"build", "recipe", "tmp", "home", "root", "sys", "proc", "dev", "var"} {
		if err := t.root.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	if t.Writable != "" { // it has its own files in place of a tree
		return t.mountTemp()
	}
	if _, err := t.root.Lstat("var/tmp"); errors.Is(err, fs.ErrNotExist) {
		// A system with a /var of its own may have no /var/tmp; that is its affair.
		if err := t.root.Symlink("/tmp", "var/tmp"); err != nil && !errors.Is(err, unix.EROFS) {
			return err
		}
	}
	dir := strings.TrimPrefix(TreeDir, "/")
	if len(t.Tree.Lower) > 0 || !t.Copies {
		lower := t.Tree.Lower
		if len(lower) == 0 {
			lower = []string{t.in(emptyDir)}
		}
		if err := t.overlay(dir, lower, t.Tree.Upper, t.Tree.Work); err != nil {
			return err
		}
	} else if err := t.bind(t.Tree.Upper, dir, kept); err != nil {
		return err
	}
	if t.Recipe != "" {
		if err := t.mountRecipe(strings.TrimPrefix(RecipeDir, "/")); err != nil {
			return err
		}
	}
	return t.mountTemp()
}

// mountTemp mounts /tmp, and in tests a directory for coverage data.
func (t *tree) mountTemp() error {
	if t.Coverage != "" {
		if err := t.root.MkdirAll("run/ellwand/coverage", 0o755); err != nil {
			return err
		}
		if err := t.bind(t.Coverage, "run/ellwand/coverage", kept); err != nil {
			return err
		}
	}
	if t.Copies {
		return t.bind(t.Temp, "tmp", kept)
	}
	return t.overlay("tmp", []string{t.in(emptyDir)}, t.Temp, t.TempWork)
}

func (t *tree) mountRecipe(dir string) error {
	if t.Copies {
		return t.bind(t.Recipe, dir, readOnly)
	}
	if err := t.overlay(dir, []string{t.Recipe}, "", ""); err != nil {
		return err
	}
	return t.protect(dir, readOnly, 0)
}

// devices are those that every program may expect (hier(7)).
var devices = []string{"null", "zero", "full", "random", "urandom", "tty"}

func (t *tree) mountDevices() error {
	if err := unix.Mount("ellwand", t.in("dev"), "tmpfs", unix.MS_NOSUID, "mode=755,size=4m"); err != nil {
		return failure(err, "tmpfs cannot be mounted on /dev")
	}
	for _, name := range devices {
		node := t.in("dev/" + name)
		if err := os.WriteFile(node, nil, 0o666); err != nil {
			return err
		}
		if err := unix.Mount("/dev/"+name, node, "", unix.MS_BIND, ""); err != nil {
			return failure(err, "/dev/%s cannot be mounted", name)
		}
	}
	for name, target := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2", "ptmx": "pts/ptmx"} {
		if err := os.Symlink(target, t.in("dev/"+name)); err != nil {
			return err
		}
	}
	for _, dir := range []string{"pts", "shm"} {
		if err := os.Mkdir(t.in("dev/"+dir), 0o755); err != nil {
			return err
		}
	}
	if err := unix.Mount("devpts", t.in("dev/pts"), "devpts", unix.MS_NOSUID|unix.MS_NOEXEC, "newinstance,ptmxmode=0666,mode=620"); err != nil {
		return failure(err, "/dev/pts cannot be mounted")
	}
	options := "mode=1777"
	if t.Limits.Memory > 0 {
		options += ",size=" + strconv.FormatInt(t.Limits.Memory, 10)
	}
	if err := unix.Mount("ellwand", t.in("dev/shm"), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, options); err != nil {
		return failure(err, "/dev/shm cannot be mounted")
	}
	return nil
}

func (t *tree) mountProc() error {
	err := unix.Mount("proc", t.in("proc"), "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "")
	if errors.Is(err, unix.EPERM) {
		// In a container that hides parts of /proc the kernel allows no new
		// one. The one that is there shows other processes' names, and lets
		// nothing be done to them from another user namespace.
		return t.bind("/proc", "proc", readOnly|unix.MOUNT_ATTR_NOEXEC)
	}
	return failure(err, "/proc cannot be mounted")
}

// writeScript puts the script, or the arguments of a call, where the command
// finds them.
func (t *tree) writeScript() error {
	if t.Call != "" {
		return t.root.WriteFile(argumentsFile[1:], t.Arguments, 0o644)
	}
	if err := t.root.WriteFile("run/ellwand/"+t.Command, []byte(instrument(t.Script, lineFile)), 0o644); err != nil {
		return err
	}
	if err := t.root.WriteFile(lineFile[1:], nil, 0o666); err != nil {
		return err
	}
	if err := t.root.Chmod(lineFile[1:], 0o666); err != nil {
		return err
	}
	line := t.in(lineFile)
	return failure(unix.Mount(line, line, "", unix.MS_BIND, ""), "a file cannot be mounted")
}

// changeRoot makes the new file system all there is.
func (t *tree) changeRoot() error {
	if err := t.root.RemoveAll(linksDir); err != nil {
		return err
	}
	if err := os.Chdir(t.Root); err != nil {
		return err
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return failure(err, "the root cannot be changed")
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return failure(err, "the machine's own file system cannot be left")
	}
	attr := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}
	for _, dir := range []string{"/", "/dev"} {
		if err := unix.MountSetattr(unix.AT_FDCWD, dir, 0, &attr); err != nil {
			return failure(err, "%s cannot be protected", dir)
		}
	}
	if err := unix.Sethostname([]byte("ellwand")); err != nil {
		return failure(err, "the host name cannot be set")
	}
	return failure(os.Chdir(t.Dir), "the directory to start in")
}

// Files that the command and the inner half share.
const (
	lineFile      = "/run/ellwand/line" // a script leaves the line that failed there
	argumentsFile = "/run/ellwand/arguments"
)
