// Package scan looks into files for what matters about them to a package: what
// programs and libraries need and offer (ELF, System V ABI; symbol versions as
// the GNU tools write them), the interpreters of scripts, the modules of
// pkg-config, Python and Perl, and what menus and services start.
package scan

import (
	"bytes"
	"cmp"
	"errors"
	"io"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/staging"
)

// File is what was found in one file; fields are nil or empty if it is not
// of that kind.
type File struct {
	Path        string
	ELF         *ELF
	Interpreter string // the command behind #!
	PkgConfig   *PkgConfig
	Python      *Python
	Desktop     *Desktop
	Service     *Service
	Version     string // of a Perl module, where it says so
}

// Need is something that a file needs at run time.
type Need struct {
	Need    need.Alternative
	Symbols []string // symbol versions used of a soname
	Path    string   // the file that needs it
}

// Provide is something that a file offers.
type Provide struct {
	need.Provide
	Path    string
	Symbols []string // symbol versions that a library defines
}

// headSize is how much of a file is looked at to tell what it is.
const headSize = 4096

// maxText bounds the texts that are read.
const maxText = 1 << 20

// Contents looks into one file.
func Contents(p string, r io.ReaderAt, size int64) (File, error) {
	f := File{Path: p}
	head := make([]byte, min(size, headSize))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return f, err
	}
	switch {
	case bytes.HasPrefix(head, []byte("\x7fELF")):
		f.ELF = readELF(r)
	case bytes.HasPrefix(head, []byte("#!")):
		f.Interpreter = interpreter(head)
	}
	read := reader(p)
	if read == nil || f.ELF != nil || size > maxText {
		return f, nil
	}
	text := make([]byte, size)
	if _, err := r.ReadAt(text, 0); err != nil && !errors.Is(err, io.EOF) {
		return f, err
	}
	read(&f, string(text))
	return f, nil
}

// reader is what reads a text that is known by its path; nil for others.
func reader(p string) func(*File, string) {
	dir, base := path.Split(p)
	switch path.Ext(base) {
	case ".pc":
		if path.Base(dir) == "pkgconfig" {
			return func(f *File, text string) { f.PkgConfig = readPkgConfig(strings.TrimSuffix(base, ".pc"), text) }
		}
	case ".desktop":
		if path.Clean(dir) == "/usr/share/applications" {
			return func(f *File, text string) { f.Desktop = readDesktop(text) }
		}
	case ".service":
		if servicePath.MatchString(p) {
			return func(f *File, text string) { f.Service = readService(text) }
		}
	case ".pm":
		if kind, _ := module(p); kind != "" {
			return func(f *File, text string) {
				f.Version = PerlVersion(text)
			}
		}
	case "":
		if base == "METADATA" && strings.HasSuffix(path.Clean(dir), ".dist-info") && sitePackages.MatchString(p) {
			return func(f *File, text string) { f.Python = readPython(text) }
		}
	}
	return nil
}

// interpreter returns the command that a #! line starts; with env(1), the one
// that env starts.
func interpreter(head []byte) string {
	line, _, _ := bytes.Cut(head[2:], []byte("\n"))
	words := strings.Fields(string(line))
	if len(words) == 0 {
		return ""
	}
	command := words[0]
	if path.Base(command) == "env" {
		for _, w := range words[1:] {
			if !strings.HasPrefix(w, "-") && !strings.Contains(w, "=") {
				return w
			}
		}
	}
	return command
}

// interesting reports whether there is anything to say of a file.
func (f File) interesting() bool {
	return f.ELF != nil || f.Interpreter != "" || f.PkgConfig != nil || f.Python != nil || f.Desktop != nil || f.Service != nil || f.Version != ""
}

// Collection gathers what is found in the files of one package while they are
// read for something else.
type Collection struct {
	claims []staging.Claim
	found  []File
}

// Collect begins a collection.
func Collect(claims []staging.Claim) *Collection {
	return &Collection{claims, make([]File, len(claims))}
}

// Look looks into the contents of one claim, by its index. It may be called by
// several goroutines at once, for different claims.
func (c *Collection) Look(i int, contents io.ReaderAt, size int64) (err error) {
	c.found[i], err = Contents(c.claims[i].Path.Path, contents, size)
	return err
}

// Files returns what was found, in the order of the claims. Hard links, of
// which only one name is read, have the same in them.
func (c *Collection) Files() []File {
	first := map[staging.Inode]int{}
	var out []File
	for i, claim := range c.claims {
		f := c.found[i]
		if claim.Inode != (staging.Inode{}) {
			if at, ok := first[claim.Inode]; ok && !f.interesting() {
				f = c.found[at]
			} else {
				first[claim.Inode] = i
			}
		}
		if f.interesting() {
			f.Path = claim.Path.Path
			out = append(out, f)
		}
	}
	return out
}

// commandDirs are where a file that may be run is a command.
var commandDirs = map[string]bool{"/usr/bin": true, "/usr/sbin": true, "/bin": true, "/sbin": true}

// CommandDir reports whether commands are found in a directory.
func CommandDir(dir string) bool { return commandDirs[dir] }

// LibraryDir reports whether the dynamic linker looks into a directory on its
// own: /usr/lib and its like, and one directory below for an architecture.
func LibraryDir(dir string) bool {
	for _, d := range []string{"/usr/lib", "/usr/lib64", "/lib", "/lib64", "/usr/lib32"} {
		rest, ok := strings.CutPrefix(dir, d)
		if ok && (rest == "" || strings.Count(rest, "/") == 1 && strings.Contains(rest, "-linux-")) {
			return true
		}
	}
	return false
}

// Provides derives what a package offers from its paths and what was found.
func Provides(claims []staging.Claim, files []File) []Provide {
	var out []Provide
	versions := map[string]string{} // of modules, by path or by the distribution's name
	for _, f := range files {
		if f.Python != nil {
			versions[f.Python.Name] = Comparable(f.Python.Version)
			out = append(out, Provide{need.Provide{Kind: need.Python, Name: f.Python.Name, Version: Comparable(f.Python.Version)}, f.Path, nil})
		}
		if f.Version != "" {
			versions[f.Path] = f.Version
		}
	}
	for _, c := range claims {
		if kind, name := module(c.Path.Path); kind != "" && c.Type == staging.File {
			v := versions[c.Path.Path]
			if kind == need.Python {
				v = versions[PythonName(name)]
			}
			out = append(out, Provide{need.Provide{Kind: kind, Name: name, Version: v}, c.Path.Path, nil})
		}
		dir, base := path.Split(c.Path.Path)
		runs := c.Type == staging.File && c.Mode&0o111 != 0 || c.Type == staging.Symlink
		if runs && commandDirs[path.Clean(dir)] {
			out = append(out, Provide{need.Provide{Kind: need.Command, Name: base}, c.Path.Path, nil})
		}
	}
	for _, f := range files {
		if f.ELF != nil && f.ELF.Type == Shared && f.ELF.Soname != "" && LibraryDir(path.Dir(f.Path)) {
			out = append(out, Provide{need.Provide{Kind: need.Soname, Name: f.ELF.Soname}, f.Path, f.ELF.Defined})
		}
		if f.PkgConfig != nil {
			out = append(out, Provide{need.Provide{Kind: need.PkgConfig, Name: f.PkgConfig.Name, Version: Comparable(f.PkgConfig.Version)}, f.Path, nil})
		}
	}
	out = slices.DeleteFunc(out, func(p Provide) bool { return !sayable(p.Name) })
	slices.SortFunc(out, func(a, b Provide) int {
		return cmp.Or(cmp.Compare(a.String(), b.String()), cmp.Compare(a.Path, b.Path))
	})
	return slices.CompactFunc(out, func(a, b Provide) bool { return a.Provide == b.Provide })
}

// sayable reports whether the language of needs can name something: not what has
// spaces or the characters of bounds in its name.
func sayable(name string) bool {
	return name != "" && !strings.ContainsAny(name, " \t\r\n|<>=!,") && utf8.ValidString(name)
}

// starts are the commands that a menu's entry or a service starts.
func (f File) starts() []string {
	switch {
	case f.Desktop != nil && f.Desktop.Exec != "":
		return []string{f.Desktop.Exec}
	case f.Service != nil:
		return f.Service.Exec
	}
	return nil
}

// private reports whether a file finds a library in its own package, in a directory
// of its RUNPATH: nobody else has to bring that.
func private(files []File, f File, soname string) bool {
	origin := strings.NewReplacer("${ORIGIN}", path.Dir(f.Path), "$ORIGIN", path.Dir(f.Path))
	return slices.ContainsFunc(files, func(o File) bool {
		if o.ELF == nil || o.ELF.Type != Shared || o.ELF.Soname != soname && path.Base(o.Path) != soname {
			return false
		}
		return slices.ContainsFunc(f.ELF.Runpath, func(dir string) bool { return path.Clean(origin.Replace(dir)) == path.Dir(o.Path) })
	})
}

// Needs derives what a package needs from what was found in its files; what
// it offers itself is left out. Each need is stored once, with the first file
// that has it and the symbol versions of all.
func Needs(files []File, own []Provide) []Need {
	byName := map[string]*Need{}
	add := func(a need.Alternative, p string, symbols []string) {
		n := need.Of(a)
		if !sayable(a.Name) {
			return
		}
		if slices.ContainsFunc(own, func(o Provide) bool { return n.MetBy(o.Provide) }) {
			return
		}
		key := a.String()
		if byName[key] == nil {
			byName[key] = &Need{Need: a, Path: p}
		}
		byName[key].Symbols = append(byName[key].Symbols, symbols...)
	}
	for _, f := range files {
		if f.ELF != nil {
			if f.ELF.Interpreter != "" && f.ELF.Type != Shared {
				add(need.Alternative{Kind: need.File, Name: f.ELF.Interpreter}, f.Path, nil)
			}
			for _, soname := range f.ELF.Needed {
				if private(files, f, soname) {
					continue
				}
				add(need.Alternative{Kind: need.Soname, Name: soname}, f.Path, f.ELF.Symbols[soname])
			}
		}
		if f.Interpreter != "" {
			add(need.Alternative{Kind: need.Command, Name: path.Base(f.Interpreter)}, f.Path, nil)
		}
		if f.PkgConfig != nil {
			for _, a := range f.PkgConfig.Requires {
				add(a, f.Path, nil)
			}
		}
		if f.Python != nil {
			for _, a := range f.Python.Requires {
				add(a, f.Path, nil)
			}
		}
		for _, word := range f.starts() {
			if name, ok := commandOf(word); ok {
				add(need.Alternative{Kind: need.Command, Name: name}, f.Path, nil)
			}
		}
	}
	var out []Need
	for _, n := range byName {
		slices.Sort(n.Symbols)
		n.Symbols = slices.Compact(n.Symbols)
		out = append(out, *n)
	}
	slices.SortFunc(out, func(a, b Need) int { return cmp.Compare(a.Need.String(), b.Need.String()) })
	return out
}
