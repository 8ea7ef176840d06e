package build

import (
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/pattern"
)

// NeedsReport compares the build needs that a recipe declares with what its
// steps opened and ran. docs/build.md says what it can miss.
type NeedsReport struct {
	Unused     []string     `json:"unused"`     // declared needs of which nothing was touched
	Undeclared []Undeclared `json:"undeclared"` // what was used of the system, and no need declares
}

// Undeclared is a command or header of the system that was used.
type Undeclared struct {
	Need string `json:"need"`         // that would declare it
	By   string `json:"by,omitempty"` // the program that ran the command
	Path string `json:"path"`
	// Steps are those that used it.
	Steps []string `json:"steps"`
}

// launchers are programs that run what their input names: what they run, a
// recipe uses. What another program runs is that program's own affair.
var launchers = words(`sh dash bash env make gmake ninja samu xargs find nice time timeout exe ellwand`)

// ofSystem are the headers, and the directories of headers, of the C library, the
// kernel and the compiler, which a compiler comes with.
var ofSystem = words(`aio.h aliases.h alloca.h argp.h argz.h ar.h assert.h byteswap.h complex.h cpio.h crypt.h ctype.h dirent.h dlfcn.h elf.h endian.h
	envz.h err.h errno.h error.h execinfo.h fcntl.h features.h features-time64.h fenv.h fmtmsg.h fnmatch.h fstab.h fts.h ftw.h gconv.h
	getopt.h glob.h gnu-versions.h grp.h gshadow.h iconv.h ifaddrs.h inttypes.h langinfo.h lastlog.h libgen.h libintl.h limits.h link.h
	locale.h malloc.h math.h mcheck.h memory.h mntent.h monetary.h mqueue.h netdb.h nl_types.h nss.h obstack.h paths.h poll.h printf.h
	proc_service.h pthread.h pty.h pwd.h re_comp.h regex.h regexp.h resolv.h sched.h search.h semaphore.h setjmp.h sgtty.h shadow.h signal.h
	spawn.h stab.h stdc-predef.h stdint.h stdio.h stdio_ext.h stdlib.h string.h strings.h syscall.h sysexits.h syslog.h tar.h termio.h
	termios.h tgmath.h thread_db.h threads.h time.h ttyent.h uchar.h ucontext.h ulimit.h unistd.h utime.h utmp.h utmpx.h values.h wait.h
	wchar.h wctype.h wordexp.h sys bits gnu asm asm-generic linux arpa net netinet netipx netash netatalk netax25 neteconet netiucv netpacket
	netrom netrose nfs rpc rpcsvc protocols scsi sound video mtd misc rdma xen drm c++ finclude`)

func words(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(s) {
		out[w] = true
	}
	return out
}

var (
	commandDir = pattern.New(`^/(usr/(local/)?)?s?bin/`)
	includeDir = pattern.New(`^/usr/(local/)?include/(?:[a-z0-9_]+-linux-[a-z0-9]+/)?(.+)$`)
)

// needsReport compares what was used with what is declared.
func (j *job) needsReport() (*NeedsReport, error) {
	owned, err := j.ownedPaths()
	if err != nil {
		return nil, err
	}
	r := &NeedsReport{Unused: []string{}, Undeclared: []Undeclared{}}
	var declared []need.Alternative
	usedBy := map[string]bool{}
	for _, t := range j.touched {
		usedBy[owned[t.Path]] = true
	}
	for _, n := range slices.Concat(j.recipe.Needs.Build, j.recipe.Needs.Test) {
		text := n.String()
		declared = append(declared, n.Alternatives...)
		if by := j.met[text]; by != satisfy.BySystem && usedBy[by] {
			continue
		}
		if !slices.ContainsFunc(j.touched, func(t touch) bool {
			return slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return j.isOf(a, t.Path) })
		}) {
			r.Unused = append(r.Unused, text)
		}
	}
	seen := map[string]int{} // need → its place in the report, from 1
	for _, t := range j.touched {
		u, ok := undeclared(t.Touch)
		if at := seen[u.Need]; ok && at > 0 {
			if steps := &r.Undeclared[at-1].Steps; !slices.Contains(*steps, t.step) {
				*steps = append(*steps, t.step)
			}
			continue
		}
		if !ok || owned[t.Path] != "" || slices.ContainsFunc(declared, func(a need.Alternative) bool { return j.isOf(a, t.Path) || covers(a, u.Need) }) {
			continue
		}
		u.Steps = []string{t.step}
		r.Undeclared = append(r.Undeclared, u)
		seen[u.Need] = len(r.Undeclared)
	}
	return r, nil
}

// touch is what a step used.
type touch struct {
	sandbox.Touch
	step string
}

// ownedPaths tells which laid package has a path.
func (j *job) ownedPaths() (map[string]string, error) {
	out := map[string]string{}
	for _, l := range j.laid {
		p, err := ell.Open(l.Path)
		if err != nil {
			return nil, err
		}
		entries, err := p.Layout()
		p.Close()
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			out[e.Path] = l.Facts.Identity()
		}
	}
	return out, nil
}

// answers1 reports whether a path is what a need names.
func (j *job) isOf(a need.Alternative, file string) bool {
	name := path.Base(file)
	switch a.Kind {
	case need.Command:
		return commandDir.MatchString(file) && (name == a.Name || j.sameProgram(a.Name, name))
	case need.PkgConfig:
		return name == a.Name+".pc"
	case need.Header:
		return strings.HasSuffix(file, "/"+a.Name) && includeDir.MatchString(file)
	case need.File:
		return file == a.Name || file == "/"+a.Name
	case need.Soname:
		return name == a.Name
	case need.Python:
		return strings.Contains(file, "/python") && (strings.Contains(file, "/"+a.Name+"/") || name == a.Name+".py")
	case need.Perl:
		return strings.HasSuffix(file, "/"+strings.ReplaceAll(a.Name, "::", "/")+".pm")
	}
	return false
}

// sameProgram reports whether two commands are one program of the system, as cc
// and gcc may be.
func (j *job) sameProgram(a, b string) bool {
	root := j.Root
	x, errX := filepath.EvalSymlinks(filepath.Join(root, "/usr/bin", a))
	y, errY := filepath.EvalSymlinks(filepath.Join(root, "/usr/bin", b))
	return errX == nil && errY == nil && x == y
}

// covers reports whether a need for a library goes for a header of it, as far
// as their names tell.
func covers(a need.Alternative, header string) bool {
	if a.Kind != need.PkgConfig && a.Kind != need.Header {
		return false
	}
	rest, ok := strings.CutPrefix(header, need.Header+"/")
	if !ok {
		return false
	}
	stem := strings.TrimRight(strings.TrimPrefix(strings.TrimSuffix(path.Base(a.Name), ".h"), "lib"), "-.0123456789")
	return stem != "" && strings.Contains(strings.ToLower(rest), strings.ToLower(stem))
}

// undeclared makes the need of something that was touched; ok is false for
// what needs none.
func undeclared(t sandbox.Touch) (u Undeclared, ok bool) {
	name := path.Base(t.Path)
	if t.By != "" {
		if !commandDir.MatchString(t.Path) || probe.Everywhere(name) || !launchers[path.Base(t.By)] {
			return u, false
		}
		return Undeclared{Need: need.Command + "/" + name, By: path.Base(t.By), Path: t.Path}, true
	}
	m := includeDir.FindStringSubmatch(t.Path)
	if m == nil {
		return u, false
	}
	top, _, _ := strings.Cut(m[2], "/")
	if ofSystem[top] {
		return u, false
	}
	return Undeclared{Need: need.Header + "/" + m[2], Path: t.Path}, true
}
