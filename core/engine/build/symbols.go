package build

import (
	"context"
	"debug/elf"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/staging"
)

// debugDir is where debuggers look for debug information by build id
// (https://sourceware.org/gdb/current/onlinedocs/gdb.html/Separate-Debug-Files.html).
const debugDir = "/usr/lib/debug"

// symbolsSuffix ends the name of the package with the debug information.
const symbolsSuffix = "-symbols"

// debugFlags are added to the compiler's where debug information is wanted.
const debugFlags = "-g"

// splitCall asks for debug information to be split off.
type splitCall struct {
	Dir  string // the staging directory
	Path string // where the toolchain's programs are
	// Prefix is before the names of the programs.
	Prefix string
}

const splitFunction = "build.split"

func init() { sandbox.Register(splitFunction, splitDebug) }

// splitsDebug reports whether the build makes a package of debug information,
// if there is any.
func (j *job) splitsDebug() bool {
	return (j.recipe.Debug == nil || *j.recipe.Debug) && j.recipe.Arch != fact.Independent && j.recipe.Packages[j.recipe.Name+symbolsSuffix].Layout == nil
}

// split moves the debug information of everything staged into files of its
// own, with the toolchain's own programs.
func (j *job) split(ctx context.Context) error {
	if !j.splitsDebug() {
		return nil
	}
	for _, tool := range []string{"objcopy", "strip"} {
		n, err := need.Parse(need.Command + "/" + tool)
		if err != nil {
			return err
		}
		if j.SystemStamp(n) == "" {
			return nil // no toolchain, and so nothing that it made
		}
	}
	prefix := ""
	if triplet := j.cross(); triplet != "" {
		prefix = triplet + "-"
	}
	c, err := j.command("split", "")
	if err != nil {
		return err
	}
	c.Output = io.Discard
	if err := j.Runner.Call(ctx, c, splitFunction, splitCall{j.worktree.seen("stage"), probe.SearchPath, prefix}); err != nil {
		return fmt.Errorf("%s: the debug information cannot be split off: %w\nwrite `debug = false` into the recipe to leave it where it is", j.recipe.Name, err)
	}
	return nil
}

// splitDebug does it, where the steps run.
func splitDebug(c splitCall) error {
	if err := os.Setenv("PATH", c.Path); err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(runtime.NumCPU())
	done := map[staging.Inode]bool{}
	var kept sync.Map // path of debug information → *sync.Once; copies of one program share it
	err := filepath.WalkDir(c.Dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || strings.HasPrefix(path, filepath.Join(c.Dir, debugDir)+"/") {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			inode := staging.Inode{Dev: uint64(st.Dev), Ino: st.Ino}
			if done[inode] {
				return nil
			}
			done[inode] = true
		}
		group.Go(func() error { return splitFile(c, path, info, &kept) })
		return nil
	})
	return errors.Join(err, group.Wait())
}

// splitFile splits one file, if it is a program or library with something to
// split off.
func splitFile(c splitCall, path string, info fs.FileInfo, kept *sync.Map) (err error) {
	library := isStaticLibrary(path)
	id, kind, found := debugOf(path)
	if !found && !library {
		return nil
	}
	// Writing takes setuid away, and may not be allowed at all.
	if err := os.Chmod(path, info.Mode().Perm()|0o200); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.Chmod(path, info.Mode())) }()
	if library {
		return tool(c.Prefix+"strip", "--strip-debug", "--enable-deterministic-archives", path)
	}
	debug := filepath.Join(c.Dir, debugDir, strings.TrimPrefix(path, c.Dir)+".debug")
	if len(id) > 1 {
		debug = filepath.Join(c.Dir, debugDir, ".build-id", hex.EncodeToString(id[:1]), hex.EncodeToString(id[1:])+".debug")
	}
	if err := os.MkdirAll(filepath.Dir(debug), 0o755); err != nil {
		return err
	}
	strip := "--strip-all"
	if kind == elf.ET_DYN {
		strip = "--strip-unneeded" // a library's dynamic symbols are its own
	}
	// Copies of one program have the same debug information. Each of them hears
	// of an error, and not the first one alone.
	keep, _ := kept.LoadOrStore(debug, sync.OnceValue(func() error {
		return errors.Join(tool(c.Prefix+"objcopy", "--only-keep-debug", path, debug), os.Chmod(debug, 0o644))
	}))
	if err := keep.(func() error)(); err != nil {
		return err
	}
	if err := tool(c.Prefix+"strip", strip, path); err != nil {
		return err
	}
	return tool(c.Prefix+"objcopy", "--add-gnu-debuglink="+debug, path)
}

// isStaticLibrary reports whether a file is an archive that the linker reads.
func isStaticLibrary(path string) bool {
	if !strings.HasSuffix(path, ".a") {
		return false
	}
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 8)
	_, err = io.ReadFull(f, head)
	return err == nil && string(head) == "!<arch>\n"
}

func tool(name string, args ...string) error {
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return nil
}

// debugOf reads an ELF file's build id and type; found is whether it has debug
// information. Files with only a symbol table are not changed: some programs
// read their own.
func debugOf(path string) (id []byte, kind elf.Type, found bool) {
	f, err := elf.Open(path)
	if err != nil {
		return nil, 0, false
	}
	defer f.Close()
	if f.Type != elf.ET_EXEC && f.Type != elf.ET_DYN || f.Section(".debug_info") == nil && f.Section(".zdebug_info") == nil {
		return nil, 0, false
	}
	if s := f.Section(".note.gnu.build-id"); s != nil {
		// A note: the sizes of its name and contents, a type, and both, padded
		// to four bytes.
		if data, err := s.Data(); err == nil && len(data) > 16 {
			if size := f.ByteOrder.Uint32(data[4:]); int(size) <= len(data)-16 {
				id = data[16 : 16+size]
			}
		}
	}
	return id, f.Type, true
}

// separateDebug takes the split-off files out of what was staged.
func (j *job) separateDebug(staged []staging.Path) (rest, debug []staging.Path) {
	if !j.splitsDebug() {
		return staged, nil
	}
	for _, p := range staged {
		switch {
		case strings.HasPrefix(p.Path, debugDir+"/") && (strings.HasSuffix(p.Path, ".debug") || p.Type == staging.Directory):
			debug = append(debug, p)
		case p.Path == debugDir:
			// It belongs to the system, and comes with what is in it.
		default:
			rest = append(rest, p)
		}
	}
	return rest, debug
}
