// Package probe tells what a system really has: the system that a build or a
// root depends on.
//
// Nothing is indexed and nothing is run, but the compiler once on the machine
// itself: each need is looked for where whatever uses it would look. Commands are on the
// PATH that steps see, libraries in the directories of the dynamic linker
// (ld.so(8)), modules where pkg-config, Python and Perl look.
package probe

import (
	"cmp"
	"debug/elf"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/pattern"
)

// SearchPath is where commands are looked for.
const SearchPath = "/usr/local/bin:/usr/bin:/bin:/usr/local/sbin:/usr/sbin:/sbin"

// System is a system to look into.
type System struct {
	root    string // "/" for the machine itself
	triplet string // of a cross toolchain; empty for the system's own

	linker  func() []string
	headers func() []string
	python  func() []string
	perl    func() []string
	modules func() []string // of pkg-config
}

// Open returns the system that is in a directory; empty for the machine itself.
func Open(root string) *System { return OpenFor(root, "") }

// OpenFor returns a system for builds with the toolchain of a triplet: libraries, headers,
// modules of pkg-config and the compiler's programs are those of the triplet's architecture.
func OpenFor(root, triplet string) *System {
	b := &System{root: cmp.Or(root, "/"), triplet: triplet}
	b.linker = sync.OnceValue(b.linkerDirs)
	b.headers = sync.OnceValue(b.headerDirs)
	b.modules = sync.OnceValue(b.pkgconfigDirs)
	b.python = sync.OnceValue(func() []string {
		return b.glob("/usr/local/lib/python3*/dist-packages", "/usr/local/lib/python3*/site-packages", "/usr/lib/python3*/dist-packages", "/usr/lib/python3*/site-packages", "/usr/lib64/python3*/site-packages", "/usr/lib/python3.*", "/usr/lib/python3.*/lib-dynload", "/usr/lib64/python3.*")
	})
	b.perl = sync.OnceValue(func() []string {
		return b.glob("/etc/perl", "/usr/local/lib/*-linux-*/perl/*", "/usr/local/share/perl/*", "/usr/lib/*-linux-*/perl5/*", "/usr/share/perl5", "/usr/lib/*-linux-*/perl/*", "/usr/lib/*-linux-*/perl-base", "/usr/share/perl/*", "/usr/share/perl5/vendor_perl", "/usr/share/perl5/core_perl", "/usr/lib/perl5/*", "/usr/lib64/perl5", "/usr/lib64/perl5/vendor_perl")
	})
	return b
}

// Answer is what of a system meets a need, or would but for its version.
type Answer struct {
	Provide need.Provide `json:"provide"`
	Path    string       `json:"path"`            // in the system
	Lacks   []string     `json:"lacks,omitempty"` // symbol versions that are needed of a soname, and are not there
	Enough  bool         `json:"enough"`          // it meets the need
}

// Look looks for what a need asks for, and the symbol versions of a soname.
// ok is false if there is nothing of that name; a system has no packages.
func (b *System) Look(n need.Need, symbols []string) (found Answer, ok bool) {
	for _, a := range n.Alternatives {
		answer, there := b.look(a)
		if !there {
			continue
		}
		if len(symbols) > 0 && a.Kind == need.Soname {
			answer.Lacks = b.lacking(answer.Path, symbols)
		}
		answer.Enough = a.MetBy(answer.Provide) && len(answer.Lacks) == 0
		if answer.Enough {
			return answer, true
		}
		if !ok {
			found, ok = answer, true
		}
	}
	return found, ok
}

func (b *System) look(a need.Alternative) (Answer, bool) {
	at := func(p, version string) (Answer, bool) {
		return Answer{Provide: need.Provide{Kind: a.Kind, Name: a.Name, Version: version}, Path: p}, true
	}
	switch a.Kind {
	case need.Command:
		for dir := range strings.SplitSeq(SearchPath, ":") {
			p := path.Join(dir, b.program(a.Name))
			if info, err := b.stat(p); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
				return at(p, "")
			}
		}
	case need.File:
		if b.triplet != "" && strings.HasPrefix(a.Name, "/lib") {
			p := path.Join("/usr", b.triplet, a.Name)
			if _, err := b.stat(p); err == nil {
				return at(p, "")
			}
			break
		}
		if _, err := b.stat(a.Name); err == nil {
			return at(a.Name, "")
		}
	case need.Header:
		for _, dir := range b.headers() {
			if info, err := b.stat(path.Join(dir, a.Name)); err == nil && !info.IsDir() {
				return at(path.Join(dir, a.Name), "")
			}
		}
	case need.Soname:
		for _, dir := range b.linker() {
			if info, err := b.stat(path.Join(dir, a.Name)); err == nil && info.Mode().IsRegular() {
				return at(path.Join(dir, a.Name), "")
			}
		}
	case need.PkgConfig:
		for _, dir := range b.modules() {
			p := path.Join(dir, a.Name+".pc")
			if f, ok := b.scan(p); ok && f.PkgConfig != nil {
				return at(p, scan.Comparable(f.PkgConfig.Version))
			}
		}
	case need.Python:
		return b.pythonModule(a, at)
	case need.Perl:
		for _, dir := range b.perl() {
			p := path.Join(dir, strings.ReplaceAll(a.Name, "::", "/")+".pm")
			if text, err := os.ReadFile(b.Real(p)); err == nil {
				return at(p, scan.PerlVersion(string(text)))
			}
		}
	}
	return Answer{}, false
}

// toolchain are the programs of a toolchain, as needs call them, and as they are called with
// a triplet before the name.
var toolchain = map[string]string{
	"cc": "gcc", "gcc": "gcc", "c++": "g++", "g++": "g++", "cpp": "cpp", "ld": "ld", "ar": "ar", "as": "as", "nm": "nm", "ranlib": "ranlib",
	"strip": "strip", "objcopy": "objcopy", "objdump": "objdump", "readelf": "readelf", "gfortran": "gfortran",
}

// program is the name of the program that a command stands for.
func (b *System) program(command string) string {
	if tool := toolchain[command]; b.triplet != "" && tool != "" {
		return b.triplet + "-" + tool
	}
	return command
}

func (b *System) pythonModule(a need.Alternative, at func(p, version string) (Answer, bool)) (Answer, bool) {
	for _, dir := range b.python() {
		for _, p := range []string{a.Name + "/__init__.py", a.Name + ".py", a.Name + ".*.so", a.Name + ".so"} {
			if found := b.glob(path.Join(dir, p)); len(found) > 0 {
				return at(found[0], b.distribution(dir, a.Name))
			}
		}
	}
	// Distributions are not always named like what they bring to import.
	for _, dir := range b.python() {
		if v := b.distribution(dir, a.Name); v != "" {
			return at(dir, v)
		}
	}
	return Answer{}, false
}

// distribution is the version of a Python distribution in a directory of modules;
// empty if there is none.
func (b *System) distribution(dir, name string) string {
	for _, info := range b.glob(path.Join(dir, "*.dist-info"), path.Join(dir, "*.egg-info")) {
		base, _, _ := strings.Cut(path.Base(info), "-")
		if scan.PythonName(base) != scan.PythonName(name) {
			continue
		}
		for _, file := range []string{"METADATA", "PKG-INFO", ""} {
			if text, err := os.ReadFile(b.Real(path.Join(info, file))); err == nil {
				return scan.PythonVersion(string(text))
			}
		}
	}
	return ""
}

// Real is where a path of the system is on this machine; links in it are
// followed inside the system.
func (b *System) Real(p string) string {
	if b.root == "/" {
		return p
	}
	return resolve(b.root, p, 0)
}

// resolve follows links of a path under root as a program with that root
// would.
func resolve(root, p string, depth int) string {
	at := "/"
	rest := strings.Split(strings.Trim(path.Clean("/"+p), "/"), "/")
	for i, name := range rest {
		at = path.Join(at, name)
		target, err := os.Readlink(filepath.Join(root, at))
		if err != nil || depth > 40 {
			continue
		}
		if !path.IsAbs(target) {
			target = path.Join(path.Dir(at), target)
		}
		return resolve(root, path.Join(append([]string{target}, rest[i+1:]...)...), depth+1)
	}
	return filepath.Join(root, at)
}

func (b *System) stat(p string) (fs.FileInfo, error) { return os.Stat(b.Real(p)) }

// glob lists the paths of the system that patterns match, in the order of the
// patterns.
func (b *System) glob(patterns ...string) []string {
	var out []string
	for _, pattern := range patterns {
		found, _ := filepath.Glob(filepath.Join(b.root, pattern))
		for _, p := range found {
			out = append(out, "/"+strings.TrimPrefix(strings.TrimPrefix(p, b.root), "/"))
		}
	}
	return out
}

func (b *System) scan(p string) (scan.File, bool) {
	f, err := os.Open(b.Real(p))
	if err != nil {
		return scan.File{}, false
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return scan.File{}, false
	}
	found, err := scan.Contents(p, f, info.Size())
	return found, err == nil
}

func (b *System) pkgconfigDirs() []string {
	if b.triplet != "" {
		return b.glob("/usr/"+b.triplet+"/lib/pkgconfig", "/usr/lib/"+b.triplet+"/pkgconfig", "/usr/share/pkgconfig")
	}
	return b.glob("/usr/local/lib/*-linux-*/pkgconfig", "/usr/local/lib/pkgconfig", "/usr/local/share/pkgconfig", "/usr/lib/*-linux-*/pkgconfig", "/usr/lib64/pkgconfig", "/usr/lib/pkgconfig", "/usr/share/pkgconfig")
}

// linkerDirs are the directories that ld.so.conf names, and those that the dynamic
// linker looks into anyway.
func (b *System) linkerDirs() []string {
	if b.triplet != "" {
		return b.glob("/usr/"+b.triplet+"/lib", "/lib/"+b.triplet, "/usr/lib/"+b.triplet)
	}
	var dirs []string
	var read func(file string, depth int)
	read = func(file string, depth int) {
		text, err := os.ReadFile(b.Real(file))
		if err != nil || depth > 8 {
			return
		}
		for line := range strings.Lines(string(text)) {
			line, _, _ = strings.Cut(line, "#")
			words := strings.Fields(line)
			switch {
			case len(words) == 2 && words[0] == "include":
				pattern := words[1]
				if !path.IsAbs(pattern) {
					pattern = path.Join(path.Dir(file), pattern)
				}
				for _, p := range b.glob(pattern) {
					read(p, depth+1)
				}
			case len(words) == 1 && path.IsAbs(words[0]):
				dirs = append(dirs, words[0])
			}
		}
	}
	read("/etc/ld.so.conf", 0)
	return append(dirs, b.glob("/lib/*-linux-*", "/usr/lib/*-linux-*", "/lib64", "/usr/lib64", "/lib", "/usr/lib")...)
}

var searchedHere = pattern.New(`(?m)^ (/\S+)$`)

// headerDirs are the compiler's own: it is asked on the machine itself, and
// elsewhere they are those that a compiler is usually built with.
func (b *System) headerDirs() []string {
	if b.triplet != "" {
		return b.glob("/usr/lib/gcc-cross/"+b.triplet+"/*/include", "/usr/lib/gcc/"+b.triplet+"/*/include", "/usr/"+b.triplet+"/include", "/usr/include/"+b.triplet, "/usr/include")
	}
	if b.root == "/" {
		cmd := exec.Command("cc", "-E", "-Wp,-v", "-xc", os.DevNull)
		cmd.Env = []string{"PATH=" + SearchPath, "LC_ALL=C"}
		if out, err := cmd.CombinedOutput(); err == nil {
			var dirs []string
			for _, m := range searchedHere.FindAllStringSubmatch(string(out), -1) {
				dirs = append(dirs, path.Clean(m[1]))
			}
			if len(dirs) > 0 {
				return dirs
			}
		}
	}
	return b.glob("/usr/lib/gcc/*/*/include", "/usr/local/include", "/usr/include/*-linux-*", "/usr/include")
}

// lacking lists the symbol versions that a library does not define.
func (b *System) lacking(library string, symbols []string) []string {
	f, err := elf.Open(b.Real(library))
	if err != nil {
		return nil // a linker script, or what is no library: nothing is known
	}
	defer f.Close()
	defined, err := f.DynamicVersions()
	if err != nil {
		return nil
	}
	var lacks []string
	for _, s := range symbols {
		if !slices.ContainsFunc(defined, func(d elf.DynamicVersion) bool { return d.Name == s }) {
			lacks = append(lacks, s)
		}
	}
	return lacks
}

// Library reports whether the linker finds -lNAME.
func (b *System) Library(name string) bool {
	dirs := append(b.linker(), b.glob("/usr/lib/gcc/*/*")...)
	return slices.ContainsFunc(dirs, func(dir string) bool {
		for _, ending := range []string{".so", ".a"} {
			if _, err := b.stat(path.Join(dir, "lib"+name+ending)); err == nil {
				return true
			}
		}
		return false
	})
}

// Near names what of the system has nearly the name that a need asks for; empty
// where there is nothing like it.
func (b *System) Near(n need.Need) string {
	for _, a := range n.Alternatives {
		var dirs []string
		suffix := ""
		switch a.Kind {
		case need.Command:
			dirs = strings.Split(SearchPath, ":")
		case need.PkgConfig:
			dirs, suffix = b.modules(), ".pc"
		case need.Soname:
			dirs = b.linker()
		case need.Header:
			for _, d := range b.headers() {
				dirs = append(dirs, path.Join(d, path.Dir(a.Name)))
			}
		default:
			continue
		}
		var names []string
		for _, dir := range dirs {
			entries, err := os.ReadDir(b.Real(dir))
			if err != nil {
				continue
			}
			for _, e := range entries {
				if name, ok := strings.CutSuffix(e.Name(), suffix); ok {
					names = append(names, name)
				}
			}
		}
		base := a.Name
		if a.Kind == need.Header {
			base = path.Base(a.Name)
		}
		if near := fact.Nearest(base, names); near != "" {
			if a.Kind == need.Header {
				near = path.Join(path.Dir(a.Name), near)
			}
			return need.Provide{Kind: a.Kind, Name: near}.String()
		}
	}
	return ""
}
