package lint

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"ellwand.example/core/layout"
	"ellwand.example/core/pack"
	"ellwand.example/core/recipe"
	"ellwand.example/core/scan"
	"ellwand.example/core/version"
)

// packageCheck is what rules on packages see.
type packageCheck struct {
	collector
	*pack.Package
	Layout    []pack.Entry
	siblings  map[string]recipe.Package // of the same recipe
	files     map[string]scan.File      // those with something to tell
	buildPath map[string]string         // path → the build folder's path found in it
	textual   map[string]bool           // executable files that are text without #!
}

// path reports something about a path in the package.
func (c *packageCheck) path(p, format string, args ...any) {
	c.add(Finding{Path: p, Message: fmt.Sprintf(format, args...)})
}

// inMemory is up to which size a file's contents are kept in memory to be
// looked into; larger ones go through a temporary file.
const inMemory = 32 << 20

// buildMark is what paths of a build's own folders have in them: those that
// steps see in a sandbox, and those of a build without one.
var buildMark = regexp.MustCompile(`/build/(work|stage|home)/|/\.ellwand/build/`)

const longestMark = len("/.ellwand/build/")

// look reads the payload once and gathers what the rules need.
func (c *packageCheck) look(ctx context.Context) error {
	var err error
	if c.Layout, err = c.Package.Layout(); err != nil {
		return err
	}
	c.files, c.buildPath, c.textual = map[string]scan.File{}, map[string]string{}, map[string]bool{}
	err = c.Walk(ctx, func(e pack.Entry, r io.Reader) error {
		// Split-off debug information is no program, and names build folders.
		if strings.HasPrefix(e.Path, "/usr/lib/debug/") {
			return nil
		}
		at, done, err := randomAccess(r, e.Size)
		if err != nil {
			return err
		}
		defer done()
		f, err := scan.Contents(e.Path, at, e.Size)
		if err != nil {
			return err
		}
		c.files[e.Path] = f
		mark, err := findBuildPath(at, e.Size)
		if err != nil {
			return err
		}
		if mark != "" {
			c.buildPath[e.Path] = mark
		}
		if f.ELF == nil && f.Interpreter == "" && layout.ParseMode(e.Mode)&0o111 != 0 {
			c.textual[e.Path] = true
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, e := range c.Layout {
		if e.Copy == "" {
			continue
		}
		if f, ok := c.files[e.Copy]; ok {
			f.Path = e.Path
			c.files[e.Path] = f
		}
		if mark, ok := c.buildPath[e.Copy]; ok {
			c.buildPath[e.Path] = mark
		}
		if c.textual[e.Copy] {
			c.textual[e.Path] = true
		}
	}
	return nil
}

func randomAccess(r io.Reader, size int64) (io.ReaderAt, func(), error) {
	if size <= inMemory {
		data, err := io.ReadAll(r)
		return bytes.NewReader(data), func() {}, err
	}
	f, err := os.CreateTemp("", "ellwand-lint-")
	if err != nil {
		return nil, nil, err
	}
	done := func() {
		f.Close()
		os.Remove(f.Name())
	}
	if _, err := io.Copy(f, r); err != nil {
		done()
		return nil, nil, err
	}
	return f, done, nil
}

// findBuildPath looks for the path of a build folder.
func findBuildPath(r io.ReaderAt, size int64) (string, error) {
	const block = 1 << 20
	buf := make([]byte, min(size, block)+int64(longestMark))
	for at := int64(0); at < size; at += block {
		n, err := r.ReadAt(buf, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		if found := buildMark.FindIndex(buf[:n]); found != nil {
			i, end := found[0], found[1]
			for end < n && buf[end] > ' ' && buf[end] < 0x7f && !strings.ContainsRune(`"':;`, rune(buf[end])) {
				end++
			}
			return string(buf[i:end]), nil
		}
	}
	return "", nil
}

var layoutRules = []Rule{
	{
		Code: "L201", Severity: Error, Title: "everyone may write to it",
		Why:    "Any account on the machine can replace what all others run or read.",
		Remedy: `give it a mode in the layout, such as mode = "0644"; a shared directory needs the sticky bit: "1777"`,
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				mode := layout.ParseMode(e.Mode)
				if e.Type != layout.Symlink && mode&0o002 != 0 && (e.Type == layout.File || mode&os.ModeSticky == 0) {
					c.path(e.Path, "its mode is %s: everyone may write to it", e.Mode)
				}
			}
		},
	},
	{
		Code: "L202", Severity: Warning, Title: "it runs with another account's rights",
		Why:    "A mistake in a setuid or setgid program is a way to those rights for everyone on the machine.",
		Remedy: "drop the bit if it is not needed; otherwise waive this, and say why it must be",
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if e.Type == layout.File && layout.ParseMode(e.Mode)&(os.ModeSetuid|os.ModeSetgid) != 0 {
					c.path(e.Path, "its mode is %s, so it runs as %s:%s", e.Mode, e.Owner, e.Group)
				}
			}
		},
	},
	{
		Code: "L203", Severity: Error, Title: "it lies where packages have no business",
		Why:    "The Filesystem Hierarchy Standard 3.0 leaves these places to the administrator, to users, or to the moment: what a package puts there is in their way, or gone after a restart.",
		Remedy: "install with PREFIX=/usr, settings to /etc, and declare state directories in the layout",
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				for _, dir := range []string{"/usr/local/", "/home/", "/root/", "/tmp/", "/var/tmp/", "/run/", "/var/run/", "/dev/", "/proc/", "/sys/", "/mnt/", "/media/"} {
					if strings.HasPrefix(e.Path, dir) {
						c.path(e.Path, "packages put nothing under %s", strings.TrimSuffix(dir, "/"))
					}
				}
			}
		},
	},
	{
		Code: "L204", Severity: Warning, Title: "a settings file is not kept at upgrades",
		Why:    "Files under /etc are there to be changed. One that is not of kind config is replaced at the next upgrade, with all that was set in it.",
		Remedy: `add in its layout: kind = "config"`,
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if e.Type == layout.File && strings.HasPrefix(e.Path, "/etc/") && e.Kind != recipe.Config {
					c.path(e.Path, "it lies under /etc and is not of kind config")
				}
			}
		},
	},
	{
		Code: "L205", Severity: Warning, Title: "a leftover of editing or building",
		Why:    "Backups, object files and version control folders are of no use on the machines that install the package.",
		Remedy: "keep it out of the stage step, or name it in discard = [...]",
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				base := path.Base(e.Path)
				left := slices.Contains([]string{".git", ".svn", ".hg", ".gitignore", ".DS_Store", "CVS", "config.log", "config.status"}, base)
				for _, suffix := range []string{"~", ".orig", ".rej", ".bak", ".swp", ".o", ".lo", ".la"} {
					left = left || strings.HasSuffix(base, suffix)
				}
				if left {
					c.path(e.Path, "it looks like a leftover")
				}
			}
		},
	},
	{
		Code: "L206", Severity: Error, Title: "a link leads nowhere",
		Why:    "Whoever opens it gets an error. Most often it points into the staging directory, or to a file that was renamed.",
		Remedy: "link to the path as it is when installed, relative where both are in the package",
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if e.Type != layout.Symlink {
					continue
				}
				target := e.Link
				if !path.IsAbs(target) {
					target = path.Join(path.Dir(e.Path), target)
				}
				_, there := pack.Find(c.Layout, path.Clean(target))
				switch {
				case buildMark.MatchString(e.Link):
					c.path(e.Path, "it points into the build's own folder: %s", e.Link)
				case !there && !path.IsAbs(e.Link) && !strings.Contains(e.Link, "/") && !c.mayBeElsewhere(target):
					c.path(e.Path, "it points to %q, which is not in the package", e.Link)
				}
			}
		},
	},
	{
		Code: "L207", Severity: Hint, Title: "no licence text",
		Why:    "Most licences ask for their text to go along with every copy.",
		Remedy: "install it to /usr/share/licenses/NAME/, where it is of kind license by itself",
		pkg: func(c *packageCheck) {
			if c.Facts.Name == c.Facts.Recipe && !slices.ContainsFunc(c.Layout, func(e pack.Entry) bool { return e.Kind == recipe.License }) {
				c.add(Finding{Message: "the package has no file of kind license"})
			}
		},
	},
	{
		Code: "L208", Severity: Error, Title: "an owner that nobody declares",
		Why:    "Where the account does not exist, the path cannot be given to it, and whoever next gets that name gets the files.",
		Remedy: "declare it: [package.NAME.account.OWNER]",
		pkg: func(c *packageCheck) {
			told := map[string]bool{}
			for _, e := range c.Layout {
				for _, who := range []string{e.Owner, e.Group} {
					if _, ok := c.Facts.Accounts[who]; !ok && who != layout.Root && !told[who] {
						told[who] = true
						c.path(e.Path, "it belongs to %q, an account that the package does not declare", who)
					}
				}
			}
		},
	},
	{
		Code: "L209", Severity: Warning, Title: "names that differ only in case",
		Why:    "On a file system that does not tell capitals apart, one of the two replaces the other.",
		Remedy: "rename one of them",
		pkg: func(c *packageCheck) {
			seen := map[string]string{}
			for _, e := range c.Layout {
				low := strings.ToLower(e.Path)
				if other, ok := seen[low]; ok {
					c.path(e.Path, "%s differs from it only in case", other)
				}
				seen[low] = e.Path
			}
		},
	},
	{
		Code: "L210", Severity: Warning, Title: "development files among run-time ones",
		Why:    "Headers and static libraries are a large part of many packages, and only those who compile against them need them.",
		Remedy: "make a package of their own for them, such as NAME-dev",
		pkg: func(c *packageCheck) {
			runs := slices.ContainsFunc(c.Facts.Provides, func(p pack.Provide) bool {
				return strings.HasPrefix(p.Provide, "soname/") || strings.HasPrefix(p.Provide, "command/")
			})
			var found []string
			for _, e := range c.Layout {
				if e.Type == layout.File && (strings.HasPrefix(e.Path, "/usr/include/") || strings.HasPrefix(e.Path, "/usr/lib/") && strings.HasSuffix(e.Path, ".a")) {
					found = append(found, e.Path)
				}
			}
			development := strings.HasSuffix(c.Facts.Name, "-dev") || strings.HasSuffix(c.Facts.Name, "-devel")
			if runs && !development && len(found) > 0 {
				c.path(found[0], "a package with programs or libraries holds development files: %s", several(found))
			}
		},
	},
}

// mayBeElsewhere tells whether a link's target may come with another package
// of the same recipe: a library's development link points to its run-time one.
func (c *packageCheck) mayBeElsewhere(target string) bool {
	return strings.Contains(path.Base(target), ".so.") || slices.ContainsFunc(c.Facts.Needs, func(n pack.Need) bool {
		return n.Path == "" && strings.Contains(n.Need, " = "+c.Facts.Full().String())
	})
}

var elfRules = []Rule{
	{
		Code: "E301", Severity: Error, Title: "an executable stack",
		Why:    "Data that an attacker puts on the stack can be run as code.",
		Remedy: "mark assembler files with .note.GNU-stack, or link with -Wl,-z,noexecstack",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.ExecStack && (e.Type == scan.Program || e.Type == scan.PIE || e.Type == scan.Shared) {
					c.path(p, "its stack is executable")
				}
			})
		},
	},
	{
		Code: "E302", Severity: Error, Title: "code that is changed when it is loaded",
		Why:    "With text relocations code pages are writable and cannot be shared between processes; hardened systems refuse to load it.",
		Remedy: "compile everything that goes into it with -fPIC",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.TextRel {
					c.path(p, "it has text relocations")
				}
			})
		},
	},
	{
		Code: "E303", Severity: Warning, Title: "linked without the usual hardening",
		Why:    "Without full RELRO an attacker can redirect calls by overwriting the table of their addresses; a program that is not PIE sits at addresses that are known in advance.",
		Remedy: "see that the build uses $CFLAGS and $LDFLAGS",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				switch {
				case e.Type == scan.Program && len(e.Needed) > 0:
					c.path(p, "it is not position-independent (PIE)")
				case (e.Type == scan.PIE || e.Type == scan.Shared) && len(e.Needed) > 0 && !e.FullRelro:
					c.path(p, "its relocations stay writable (no full RELRO)")
				}
			})
		},
	},
	{
		Code: "E304", Severity: Error, Title: "it looks for libraries in an odd place",
		Why:    "Whoever can write to a folder in the RUNPATH can make the program load a library of their own; a folder of the build machine is not there on others.",
		Remedy: "drop the -rpath from the link; $ORIGIN and folders below /usr/lib are fine",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				for _, dir := range e.Runpath {
					if !strings.HasPrefix(dir, "$ORIGIN") && !strings.HasPrefix(dir, "${ORIGIN}") && !strings.HasPrefix(path.Clean(dir)+"/", "/usr/lib") {
						c.path(p, "its RUNPATH has %q in it", dir)
					}
				}
			})
		},
	},
	{
		Code: "E305", Severity: Error, Title: "machine code in a package for any machine",
		Why:    "It is installed on machines that cannot run it.",
		Remedy: `remove arch = "any" from the recipe`,
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if c.Facts.Arch == recipe.AnyArch {
					c.path(p, "it is machine code for %s", orUnknown(e.Arch))
				}
			})
		},
	},
	{
		Code: "E306", Severity: Error, Title: "machine code for another machine",
		Why:    "It cannot run where the package is installed.",
		Remedy: "see which compiler the build used, or keep the file out of the package",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if c.Facts.Arch != recipe.AnyArch && e.Broken == "" && e.Arch != c.Facts.Arch {
					c.path(p, "it is machine code for %s in a package for %s", orUnknown(e.Arch), c.Facts.Arch)
				}
			})
		},
	},
	{
		Code: "E307", Severity: Warning, Title: "a library without a soname",
		Why:    "Programs linked to it record its file name instead, and break when that changes with the next version.",
		Remedy: "link it with -Wl,-soname,LIBRARY.so.N",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Type == scan.Shared && e.Soname == "" && scan.LibraryDir(path.Dir(p)) && strings.HasPrefix(path.Base(p), "lib") {
					c.path(p, "it has no soname")
				}
			})
		},
	},
	{
		Code: "E308", Severity: Error, Title: "a soname that no file is called",
		Why:    "The dynamic linker looks for a file of that name and does not find it.",
		Remedy: "install a link by the soname's name beside the library",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Type != scan.Shared || e.Soname == "" || !scan.LibraryDir(path.Dir(p)) {
					return
				}
				if _, ok := pack.Find(c.Layout, path.Join(path.Dir(p), e.Soname)); !ok {
					c.path(p, "its soname is %q, and the package has no such name beside it", e.Soname)
				}
			})
		},
	},
	{
		Code: "E309", Severity: Hint, Title: "it is not stripped",
		Why:    "Symbol tables and debug information can be most of a program's size.",
		Remedy: "strip it in the stage step, for example with `install -s`",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.SymbolTable && (e.Type == scan.Program || e.Type == scan.PIE || e.Type == scan.Shared) {
					c.path(p, "it has its symbol table")
				}
			})
		},
	},
	{
		Code: "E310", Severity: Hint, Title: "nothing in it depends on the machine",
		Why:    "A package for any machine is built once and serves all of them.",
		Remedy: `add arch = "any" to the recipe or the package`,
		pkg: func(c *packageCheck) {
			machine := slices.ContainsFunc(c.Layout, func(e pack.Entry) bool {
				return c.files[e.Path].ELF != nil || strings.HasSuffix(e.Path, ".a") || strings.HasPrefix(e.Path, "/usr/lib/") || strings.HasPrefix(e.Path, "/usr/include/")
			})
			if c.Facts.Arch != recipe.AnyArch && !machine && len(c.Layout) > 0 {
				c.add(Finding{Message: fmt.Sprintf("the package is for %s, and none of its files is", c.Facts.Arch)})
			}
		},
	},
	{
		Code: "E311", Severity: Error, Title: "a damaged program",
		Why:    "It begins like a program or library and cannot be read as one, so it cannot be run either.",
		Remedy: "look at how it got there; test data can be waived",
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Broken != "" {
					c.path(p, "it cannot be read: %s", e.Broken)
				}
			})
		},
	},
}

func orUnknown(arch string) string {
	if arch == "" {
		return "an unknown machine"
	}
	return arch
}

// eachELF calls f for every ELF file, in the order of paths.
func (c *packageCheck) eachELF(f func(string, *scan.ELF)) {
	for _, e := range c.Layout {
		if elf := c.files[e.Path].ELF; elf != nil {
			f(e.Path, elf)
		}
	}
}

var scriptRules = []Rule{
	{
		Code: "S401", Severity: Error, Title: "an install script is not valid shell",
		Why:    "It fails in the middle of an installation, on every machine.",
		Remedy: "mend it in the recipe",
		pkg: func(c *packageCheck) {
			for name, text := range c.Scripts() {
				if _, m := recipe.ParseShell(text); m != nil {
					c.add(Finding{Message: fmt.Sprintf("%s, line %d: %s", name, 1+strings.Count(text[:m.Offset], "\n"), m.Message)})
				}
			}
		},
	},
	{
		Code: "S402", Severity: Warning, Title: "an executable that is no program",
		Why:    "Without a #! line the system does not know what should run it.",
		Remedy: `add the #! line, or take the bit away: mode = "0644"`,
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if c.textual[e.Path] {
					c.path(e.Path, "it is executable, and neither a program nor a script with a #! line")
				}
			}
		},
	},
	{
		Code: "S403", Severity: Error, Title: "a script's interpreter cannot be there",
		Why:    "The script does not start: its #! line names a path under a local or a build folder.",
		Remedy: "name the interpreter as it is installed, below /usr/bin or /bin",
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if i := c.files[e.Path].Interpreter; strings.HasPrefix(i, "/usr/local/") || strings.HasPrefix(i, "/home/") || buildMark.MatchString(i) {
					c.path(e.Path, "its interpreter is %s", i)
				}
			}
		},
	},
}

var packageRules = []Rule{
	{
		Code: "M501", Severity: Warning, Title: "its steps ran without isolation",
		Why:    "They saw all of the machine, and could write wherever the one who built could: whatever lay around there may be in the package, and another machine may build another one.",
		Remedy: "build it again without --isolation none, on a machine that allows user namespaces",
		pkg: func(c *packageCheck) {
			if c.Build.Isolation == "none" {
				c.add(Finding{Message: "the steps ran as plain processes of the machine"})
			}
		},
	},
	{
		Code: "M502", Severity: Error, Title: "a path of the build machine",
		Why:    "The folder that the package was built in is not there on other machines, and makes every build's bytes different.",
		Remedy: "see which step writes it: DESTDIR where PREFIX is meant, or a value that configure records",
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if mark := c.buildPath[e.Path]; mark != "" {
					c.path(e.Path, "it has a path of the build's own folder in it: …%s", mark)
				}
			}
		},
	},
	{
		Code: "M503", Severity: Warning, Title: "an empty package",
		Why:    "It installs nothing. Most often its layout caught nothing that was meant.",
		Remedy: "remove the package from the recipe, or mend its layout",
		pkg: func(c *packageCheck) {
			if len(c.Layout) == 0 && len(c.Facts.Needs) == 0 {
				c.add(Finding{Message: "the package has no path and no need"})
			}
		},
	},
	{
		Code: "M504", Severity: Error, Title: "a need that excludes a sibling",
		Why:    "Packages of one recipe are published together; one that wants another version of its sibling can never be installed with it.",
		Remedy: "write {full} for the sibling's version",
		pkg: func(c *packageCheck) {
			for _, n := range c.Facts.Needs {
				name, bound, ok := strings.Cut(n.Need, " = ")
				if _, sibling := c.siblings[name]; !ok || !sibling {
					continue
				}
				if want, err := version.ParseFull(bound); err == nil && want.Compare(c.Facts.Full()) != 0 {
					c.add(Finding{Message: fmt.Sprintf("it needs %s, and this is %s", n.Need, c.Facts.Full())})
				}
			}
		},
	},
}
