package build

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/needs/probe"
)

// Compiler flags for targets that set none: optimised, and
// hardened as far as that costs next to nothing.
const (
	compileFlags = "-O2 -fstack-protector-strong -D_FORTIFY_SOURCE=2"
	linkFlags    = "-Wl,-z,relro,-z,now -Wl,--build-id"
)

// variable is a part of a script's environment.
type variable struct {
	name, value string
	// local variables differ between machines and directories, and must not
	// change what is built.
	local bool
}

// variables is the environment that a script sees: nothing of the caller's.
func (j *job) variables(script string) []variable {
	r, work := j.recipe, j.worktree.seen("work")
	// The same name for the work tree in every build keeps its directory out of
	// messages and debug information.
	mapped := fmt.Sprintf("-ffile-prefix-map=%s=/build/%s-%s", work, r.Name, r.Version)
	flags := j.compileFlags() + " " + mapped
	if j.splitsDebug() {
		flags = debugFlags + " " + flags
	}
	fixed := func(name, value string) variable { return variable{name, value, false} }
	local := func(name, value string) variable { return variable{name, value, true} }
	vars := []variable{
		local("DESTDIR", j.worktree.seen("stage")),
		fixed("PREFIX", "/usr"),
		fixed("SOURCE_DATE_EPOCH", strconv.FormatInt(r.Date().Unix(), 10)),
		fixed("TZ", "UTC"),
		fixed("LC_ALL", "C.UTF-8"),
		local("HOME", j.worktree.seen("home")),
		local("TMPDIR", j.temporary()),
		local("MAKEFLAGS", fmt.Sprintf("-j%d", j.jobs())),
		fixed("ELL_NAME", r.Name),
		fixed("ELL_VERSION", r.Version),
		fixed("ELL_RELEASE", strconv.Itoa(r.Release)),
		fixed("ELL_FULL", r.Full()),
		fixed("ELL_ARCH", j.Workspace.Target.Arch),
		local("ELL_SOURCE", work),
		local("ELL_JOBS", strconv.Itoa(j.jobs())),
	}
	if seesRecipe(script) {
		vars = append(vars, local("ELL_RECIPE", j.recipeDirectory()))
	}
	for _, name := range slices.Sorted(maps.Keys(r.Set)) {
		vars = append(vars, fixed("ELL_OPT_"+strings.ToUpper(name), r.Set[name]))
	}
	search := probe.SearchPath
	if len(j.laid) > 0 && j.laysInto() {
		needs := j.worktree.seen("needs")
		under := func(dirs ...string) string {
			for i, d := range dirs {
				dirs[i] = filepath.Join(needs, d)
			}
			return strings.Join(dirs, ":")
		}
		search = under("usr/bin", "usr/sbin") + ":" + search
		flags += fmt.Sprintf(" -ffile-prefix-map=%s=", needs)
		vars = append(vars,
			local("CPATH", under("usr/include")),
			local("LIBRARY_PATH", under("usr/lib")),
			local("PKG_CONFIG_PATH", under("usr/lib/pkgconfig", "usr/share/pkgconfig")),
			local("CMAKE_PREFIX_PATH", under("usr")),
			local("ACLOCAL_PATH", under("usr/share/aclocal")),
			local("XDG_DATA_DIRS", under("usr/share")+":/usr/local/share:/usr/share"),
		)
	}
	if len(j.laid) > 0 && j.laysInto() && j.cross() == "" {
		vars = append(vars, local("LD_LIBRARY_PATH", filepath.Join(j.worktree.seen("needs"), "usr/lib")))
	}
	vars = append(vars, j.crossVariables()...)
	if j.cross() != "" {
		search = filepath.Join(j.worktree.seen("home"), crossBin) + ":" + search
	}
	vars = append(vars, j.offline()...)
	if v := j.varied; v != nil {
		vars = append(vars, local("TZ", v.timezone), local("LC_ALL", v.locale))
	}
	return append(vars,
		local("PATH", search),
		local("CFLAGS", flags), local("CXXFLAGS", flags), local("FFLAGS", flags),
		fixed("LDFLAGS", cmp.Or(j.Workspace.On.LDFlags, linkFlags)+j.crossLink()),
	)
}

func (j *job) environment(script string) []string {
	vars := j.variables(script)
	// The last one of a name counts.
	values := map[string]string{}
	for _, v := range vars {
		values[v.name] = v.value
	}
	var env []string
	for _, name := range slices.Sorted(maps.Keys(values)) {
		env = append(env, name+"="+values[name])
	}
	return env
}

func (j *job) temporary() string {
	if j.Runner.OwnFileSystem() {
		return "/tmp"
	}
	return j.worktree.seen("tmp")
}

func (j *job) recipeDirectory() string {
	if j.Runner.OwnFileSystem() {
		return sandbox.RecipeDir
	}
	return j.recipe.Dir
}

func (j *job) compileFlags() string { return cmp.Or(j.Workspace.On.CFlags, compileFlags) }

// jobs is how many processes a step is told to run at once. Builds that run at
// the same time share the cores; rather too many processes than idle cores.
func (j *job) jobs() int {
	if j.varied != nil {
		return j.varied.jobs
	}
	n := j.Workspace.Jobs()
	if j.share > 1 {
		return max((n+j.share-1)/j.share, n/2, 1)
	}
	return n
}
