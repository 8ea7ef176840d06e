package build

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/needs/satisfy"
)

// A build for another architecture than this machine's uses a toolchain whose programs have
// its triplet before their names, such as aarch64-linux-gnu-gcc. What it links with is laid
// into a directory of the work tree: over the system, it would be in the way of programs
// that run here.

// cross is the triplet of the target's toolchain; empty if programs of the target run here.
func (j *job) cross() string { return j.Workspace.Cross() }

// laysInto reports whether dependencies are laid into a directory of the tree, to which
// variables point, and not over the system.
func (j *job) laysInto() bool { return !j.Runner.CanOverlay() || j.cross() != "" }

// runsTests reports whether the test step can run what was built.
func (j *job) runsTests() bool { return j.cross() == "" || j.recipe.Arch == fact.Independent }

// files with settings of the toolchain, in the home directory of a build.
const (
	cmakeToolchain = "cross.cmake"
	mesonCross     = "cross.meson"
	crossBin       = "cross" // a directory of programs that come before the system's
)

// crossTools are the variables by which makefiles and configure scripts know programs of a
// toolchain, and the programs.
var crossTools = [][2]string{
	{"CC", "gcc"}, {"CXX", "g++"}, {"CPP", "cpp"}, {"FC", "gfortran"}, {"LD", "ld"}, {"AS", "as"}, {"AR", "ar"}, {"NM", "nm"},
	{"RANLIB", "ranlib"}, {"STRIP", "strip"}, {"OBJCOPY", "objcopy"}, {"OBJDUMP", "objdump"}, {"READELF", "readelf"},
}

// mesonFamilies are the names of architectures in Meson, if they differ.
var mesonFamilies = map[string]string{"i686": "x86", "armv7l": "arm", "ppc64le": "ppc64"}

// crossVariables are those of a build for another architecture.
func (j *job) crossVariables() []variable {
	triplet := j.cross()
	if triplet == "" {
		return nil
	}
	home := j.worktree.seen("home")
	out := []variable{{"ELL_HOST", triplet, false}, {"BUILD_CC", "cc", false}, {"CMAKE_TOOLCHAIN_FILE", filepath.Join(home, cmakeToolchain), true}}
	for _, tool := range crossTools {
		out = append(out, variable{tool[0], triplet + "-" + tool[1], false})
	}
	if arch := fact.GoArchitecture(j.Workspace.Target.Arch); arch != "" {
		out = append(out, variable{"GOOS", "linux", false}, variable{"GOARCH", arch, false})
	}
	rust := j.Workspace.Target.Arch + "-unknown-linux-gnu"
	out = append(out, variable{"CARGO_BUILD_TARGET", rust, false},
		variable{"CARGO_TARGET_" + strings.ToUpper(strings.ReplaceAll(rust, "-", "_")) + "_LINKER", triplet + "-gcc", false})
	needs := j.worktree.seen("needs")
	return append(out, variable{"PKG_CONFIG_LIBDIR", strings.Join([]string{
		needs + "/usr/lib/pkgconfig", needs + "/usr/share/pkgconfig",
		"/usr/" + triplet + "/lib/pkgconfig", "/usr/lib/" + triplet + "/pkgconfig", "/usr/share/pkgconfig",
	}, ":"), true})
}

// crossLink are the linker's flags that find what is laid into the tree.
func (j *job) crossLink() string {
	if j.cross() == "" || len(j.laid) == 0 {
		return ""
	}
	lib := j.worktree.seen("needs") + "/usr/lib"
	return fmt.Sprintf(" -L%s -Wl,-rpath-link=%s", lib, lib)
}

// writeCross writes the files with settings of the toolchain for CMake and Meson.
func (j *job) writeCross() error {
	triplet, arch := j.cross(), j.Workspace.Target.Arch
	if triplet == "" {
		return nil
	}
	needs := j.worktree.seen("needs") + "/usr"
	cmake := fmt.Sprintf(`set(CMAKE_SYSTEM_NAME Linux)
set(CMAKE_SYSTEM_PROCESSOR %[2]s)
set(CMAKE_C_COMPILER %[1]s-gcc)
set(CMAKE_CXX_COMPILER %[1]s-g++)
set(CMAKE_LIBRARY_ARCHITECTURE %[1]s)
set(CMAKE_FIND_ROOT_PATH %[3]s /usr/%[1]s /usr/lib/%[1]s)
set(CMAKE_FIND_ROOT_PATH_MODE_PROGRAM NEVER)
set(CMAKE_FIND_ROOT_PATH_MODE_LIBRARY ONLY)
set(CMAKE_FIND_ROOT_PATH_MODE_INCLUDE BOTH)
set(CMAKE_FIND_ROOT_PATH_MODE_PACKAGE ONLY)
`, triplet, arch, needs)
	endian := "little"
	if arch == "s390x" || arch == "ppc64" {
		endian = "big"
	}
	meson := fmt.Sprintf(`[binaries]
c = '%[1]s-gcc'
cpp = '%[1]s-g++'
ar = '%[1]s-ar'
strip = '%[1]s-strip'
pkg-config = 'pkg-config'

[host_machine]
system = 'linux'
cpu_family = '%[2]s'
cpu = '%[2]s'
endian = '%[3]s'
`, triplet, cmp.Or(mesonFamilies[arch], arch), endian)
	home := j.worktree.own("home")
	for name, text := range map[string]string{cmakeToolchain: cmake, mesonCross: meson} {
		if err := os.WriteFile(filepath.Join(home, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	// `install -s` runs strip by its plain name.
	bin := filepath.Join(home, crossBin)
	return errors.Join(os.Mkdir(bin, 0o755), os.Symlink("/usr/bin/"+triplet+"-strip", filepath.Join(bin, "strip")))
}

// runnable are the packages of which commands run here, in a build for another architecture:
// those without machine code.
func runnable(all []*satisfy.Package, cross bool) []*satisfy.Package {
	if !cross {
		return all
	}
	var out []*satisfy.Package
	for _, p := range all {
		if p.Facts.Arch == fact.Independent {
			out = append(out, p)
		}
	}
	return out
}
