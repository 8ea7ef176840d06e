package lint

import (
	"os"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/staging"
)

// withLayout is an example: a stage script, and lines of the layout.
func withLayout(script, lines string) string {
	return stageFile(script) + "\n[package.tide.layout]\n\"/usr/share/licenses/tide/COPYING\" = { from = \"COPYING\" }\n\"/**\" = {}\n" + lines
}

// forMachine begins an example that has machine code in its package.
const forMachine = "arch = \"\"\n"

// setuid is an example with a program of a mode.
func setuid(mode string) string {
	return cFile("/usr/libexec/tide/lock", cMain, "") + "\n[package.tide.layout]\n\"/usr/share/licenses/tide/COPYING\" = { from = \"COPYING\" }\n\"/**\" = {}\n\"/usr/libexec/tide/lock\" = { mode = \"" + mode + "\" }"
}

// leftover is one kind of thing that is no use where a package is installed.
type leftover struct {
	what     string
	names    map[string]bool
	suffixes []string
	prefixes []string
}

func (l leftover) is(base string) bool {
	return l.names[base] || slices.ContainsFunc(l.suffixes, func(s string) bool { return strings.HasSuffix(base, s) && base != s }) ||
		slices.ContainsFunc(l.prefixes, func(s string) bool { return strings.HasPrefix(base, s) })
}

var (
	editing = leftover{"a leftover of editing", wordSet(""), []string{"~", ".orig", ".rej", ".bak", ".swp", ".swo", ".old"}, []string{".#", "#"}}
	history = leftover{"a leftover of version control", wordSet(".git .gitignore .gitattributes .gitmodules .gitkeep .svn .hg .hgignore .hgtags .bzr .bzrignore CVS .cvsignore .mailmap .github"), nil, nil}
	compile = leftover{"a leftover of the build", wordSet("config.log config.status config.cache CMakeCache.txt CMakeFiles cmake_install.cmake .deps .libs .dirstamp autom4te.cache .ninja_log .ninja_deps build.ninja meson-private .cargo-lock .buildinfo .doctrees __pycache__.tmp"),
		[]string{".o", ".lo", ".la", ".gcda", ".gcno", ".dwo", ".obj", ".pch", ".gch", ".Plo", ".Po"}, nil}
	desktop = leftover{"a leftover of another system's desktop", wordSet(".DS_Store Thumbs.db desktop.ini .directory .Spotlight-V100 .Trashes __MACOSX"), nil, []string{"._"}}
)

// leftovers reports paths of one kind; what lies in a directory that is reported
// is not reported again.
func (c *packageCheck) leftovers(l leftover, except func(ell.Entry) bool) {
	told := ""
	for _, e := range c.Layout {
		if told != "" && strings.HasPrefix(e.Path, told+"/") || !l.is(path.Base(e.Path)) || except != nil && except(e) {
			continue
		}
		told = e.Path
		pattern := e.Path
		if e.Type == staging.Directory {
			pattern += "/**"
		}
		c.discard(e.Path, pattern, "it looks like %s", l.what)
	}
}

// fresh are files that every package would own, and that are made again on the
// machine from what all packages install.
var fresh = map[string]string{
	"/usr/share/info/dir": "the menu of all manuals", "/etc/ld.so.cache": "the cache of libraries", "/usr/share/applications/mimeinfo.cache": "the cache of desktop entries",
	"/usr/share/glib-2.0/schemas/gschemas.compiled": "the compiled settings", "/usr/share/mime/mime.cache": "the cache of file types",
	"/usr/share/mime/magic": "the cache of file types", "/usr/share/mime/globs": "the cache of file types", "/usr/share/mime/globs2": "the cache of file types",
	"/etc/passwd": "the accounts", "/etc/group": "the groups", "/etc/shadow": "the passwords", "/etc/shells": "the login shells", "/etc/fstab": "the mounts",
	"/etc/hosts": "the names of hosts", "/etc/resolv.conf": "the name servers", "/etc/services": "the services", "/etc/profile": "everyone's profile",
	"/usr/lib/locale/locale-archive": "the locales", "/var/lib/dbus/machine-id": "the machine's identity", "/etc/machine-id": "the machine's identity",
}

// isFresh tells what a path of that kind is.
func isFresh(p string) string {
	if what := fresh[p]; what != "" {
		return what
	}
	switch base := path.Base(p); {
	case base == "icon-theme.cache" && strings.HasPrefix(p, "/usr/share/icons/"):
		return "the cache of icons"
	case base == "perllocal.pod":
		return "the list of Perl modules"
	case (base == "fonts.dir" || base == "fonts.scale" || base == ".uuid") && strings.HasPrefix(p, "/usr/share/fonts/"):
		return "the list of fonts"
	case base == "easy-install.pth" && strings.Contains(p, "-packages/"):
		return "the list of Python modules"
	}
	return ""
}

// dataDirs hold data alone: nothing in them is run by its name.
var dataDirs = []string{"/usr/share/man/", "/usr/share/info/", "/usr/share/icons/", "/usr/share/pixmaps/", "/usr/share/locale/", "/usr/share/applications/", "/usr/share/metainfo/",
	"/usr/share/licenses/", "/usr/share/mime/", "/usr/share/fonts/", "/usr/share/pkgconfig/", "/usr/lib/pkgconfig/", "/usr/include/", "/usr/share/zoneinfo/", "/usr/lib/systemd/system/", "/usr/lib/systemd/user/"}

var dataNames = []string{".conf", ".ini", ".h", ".hpp", ".png", ".svg", ".jpg", ".gif", ".xml", ".json", ".toml", ".yaml", ".yml", ".html", ".css", ".txt", ".md", ".desktop", ".service", ".timer", ".socket", ".mo", ".pc", ".a", ".ttf", ".csv", ".pdf"}

// layoutRules are about modes, owners and what the files of a package are.
func layoutRules() []Rule {
	return []Rule{
		ell201(),
		ell202(),
		ell204(),
		ell205(),
		ell206(),
		ell207(),
		ell208(),
		ell209(),
		ell211(),
		ell212(),
		ell213(),
		ell214(),
		ell215(),
		ell217(),
		ell220(),
		ell221(),
		ell222(),
		ell223(),
		ell224(),
		ell225(),
		ell226(),
		ell227(),
		ell228(),
		ell229(),
		ell230(),
		ell231(),
		ell232(),
	}
}

// ell201 reports: world-writable path.
func ell201() Rule {
	return Rule{
		Code: "ELL201", Severity: Error, Title: "world-writable path",
		Why:    "Any account on the machine can replace what everybody else runs or reads.",
		Remedy: `give it a mode in the layout; a shared directory needs the sticky bit: "1777"`,
		Wrong:  withLayout(`touch "$DESTDIR/usr/share/tide/table"`, `"/usr/share/tide/table" = { mode = "0666" }`),
		Right:  withLayout(`touch "$DESTDIR/usr/share/tide/table"`, `"/usr/share/tide/table" = { mode = "0644" }`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				mode := fact.ParseMode(e.Mode)
				if e.Type != staging.Symlink && mode&0o002 != 0 && (e.Type == staging.File || mode&os.ModeSticky == 0) {
					c.setMode(e, mode&^0o022, "its mode is %s: everyone may write to it", e.Mode)
				}
			}
		},
	}
}

// ell202 reports: setuid or setgid program.
func ell202() Rule {
	return Rule{
		Code: "ELL202", Severity: Warning, Title: "setuid or setgid program",
		Why:    "A mistake in a setuid or setgid program gives its privileges to everyone on the machine.",
		Remedy: "remove the bit if it is not needed; otherwise waive this finding and say why it is needed",
		Wrong:  setuid("4755"),
		Right:  setuid("0755"),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if e.Type == staging.File && fact.ParseMode(e.Mode)&(os.ModeSetuid|os.ModeSetgid) != 0 {
					c.path(e.Path, "its mode is %s, so it runs as %s:%s", e.Mode, e.Owner, e.Group)
				}
			}
		},
	}
}

// ell204 reports: configuration file without kind config.
func ell204() Rule {
	return Rule{
		Code: "ELL204", Severity: Warning, Title: "configuration file without kind config",
		Why:    "Administrators edit files under /etc. If the kind is not config, an upgrade replaces the file and its edits are lost.",
		Remedy: "make it of kind config",
		Wrong:  withLayout(`install -Dm644 /dev/null "$DESTDIR/etc/tide/tide.conf"; echo a > "$DESTDIR/etc/tide/tide.conf"`, ""),
		Right:  withLayout(`install -Dm644 /dev/null "$DESTDIR/etc/tide/tide.conf"; echo a > "$DESTDIR/etc/tide/tide.conf"`, `"/etc/tide/*.conf" = { kind = "config" }`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				// What is left over from editing does not stay.
				if e.Type == staging.File && strings.HasPrefix(e.Path, "/etc/") && e.Kind != fact.KindConfig && !editing.is(path.Base(e.Path)) {
					c.attribute(e, "kind", fact.KindConfig, "it is under /etc, but its kind is not config")
				}
			}
		},
	}
}

// ell205 reports: editor backup or patch leftover.
func ell205() Rule {
	return Rule{
		Code: "ELL205", Severity: Warning, Title: "editor backup or patch leftover",
		Why:    "Backups and half-applied patches are useless on the machines that install the package, and may reveal what was not meant for others.",
		Remedy: "keep it out of the stage step, or name it in discard = [...]",
		Wrong:  stageFile(`echo 3.14 > "$DESTDIR/usr/share/tide/table.orig"`),
		Right:  stageFile(`echo 3.14 > "$DESTDIR/usr/share/tide/table"`),
		pkg:    func(c *packageCheck) { c.leftovers(editing, nil) },
	}
}

// ell206 reports: dangling symlink.
func ell206() Rule {
	return Rule{
		Code: "ELL206", Severity: Error, Title: "dangling symlink",
		Why:    "Opening it fails. Usually it points into the staging directory, or to a file that was renamed.",
		Remedy: "link to the installed path, relative if both are in the package",
		Wrong:  stageFile(`ln -s old-table "$DESTDIR/usr/share/tide/table"`),
		Right:  stageFile(`touch "$DESTDIR/usr/share/tide/old-table"; ln -s old-table "$DESTDIR/usr/share/tide/table"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if e.Type != staging.Symlink {
					continue
				}
				target := linkTarget(e)
				switch {
				case buildMark.MatchString(e.Link + "/"):
					c.path(e.Path, "it points into the build's own directory: %s", e.Link)
				case !c.there(target) && !path.IsAbs(e.Link) && !c.under(target) && !c.through(target) && !c.mayBeElsewhere(target) && (!strings.Contains(e.Link, "/") || c.ownDirectory(path.Dir(target))):
					c.path(e.Path, "it points to %q, which is not in the package", e.Link)
				}
			}
		},
	}
}

// ell207 reports: no license text.
func ell207() Rule {
	return Rule{
		Code: "ELL207", Severity: Hint, Title: "no license text",
		Why:    "Most licenses require that their text accompanies every copy.",
		Remedy: "install it to /usr/share/licenses/NAME/, where it gets the kind license automatically",
		Wrong:  stageFile(`touch "$DESTDIR/usr/share/tide/table"`) + "\n[package.tide.layout]\n\"/**\" = {}",
		Right:  withLayout(`touch "$DESTDIR/usr/share/tide/table"`, ""),
		pkg: func(c *packageCheck) {
			if c.main() && len(c.Layout) > 0 && !slices.ContainsFunc(c.Layout, func(e ell.Entry) bool { return e.Kind == fact.KindLicense }) {
				c.say("the package has no file of kind license")
			}
		},
	}
}

// ell208 reports: undeclared owner.
func ell208() Rule {
	return Rule{
		Code: "ELL208", Severity: Error, Title: "undeclared owner",
		Why:    "If the account does not exist, the path cannot be given to it, and the account that later gets that name owns the files.",
		Remedy: "declare it: [package.NAME.account.OWNER]",
		Wrong:  withLayout(`install -d "$DESTDIR/var/lib/tide"`, `"/var/lib/tide/" = { kind = "state", owner = "tide" }`),
		Right: withLayout(`install -d "$DESTDIR/var/lib/tide"`, `"/var/lib/tide/" = { kind = "state", owner = "tide" }
[package.tide.account.tide]
home = "/var/lib/tide"`),
		pkg: func(c *packageCheck) {
			told := map[string]bool{}
			for _, e := range c.Layout {
				for _, who := range []string{e.Owner, e.Group} {
					if _, ok := c.Facts.Accounts[who]; !ok && who != staging.Root && !told[who] {
						told[who] = true
						c.path(e.Path, "it belongs to %q, an account that the package does not declare", who)
					}
				}
			}
		},
	}
}

// ell209 reports: names that differ only in case.
func ell209() Rule {
	return Rule{
		Code: "ELL209", Severity: Warning, Title: "names that differ only in case",
		Why:    "On a case-insensitive file system one of the two replaces the other.",
		Remedy: "rename one of them",
		Wrong:  stageFile(`echo a > "$DESTDIR/usr/share/tide/table"; echo b > "$DESTDIR/usr/share/tide/Table"`),
		Right:  stageFile(`echo a > "$DESTDIR/usr/share/tide/table"; echo b > "$DESTDIR/usr/share/tide/tables"`),
		pkg: func(c *packageCheck) {
			seen := map[string]string{}
			for _, e := range c.Layout {
				low := strings.ToLower(e.Path)
				if other, ok := seen[low]; ok && path.Dir(other) == path.Dir(e.Path) {
					c.path(e.Path, "%s differs from it only in case", other)
				}
				seen[low] = e.Path
			}
		},
	}
}

// ell211 reports: file that not everyone may read.
func ell211() Rule {
	return Rule{
		Code: "ELL211", Severity: Warning, Title: "file that not everyone may read",
		Why:    "Files under /usr are for all accounts. A program that cannot read its own files works for root only.",
		Remedy: "give it a mode in the layout that lets others read it; secrets do not belong under /usr",
		Wrong:  withLayout(`touch "$DESTDIR/usr/share/tide/table"`, `"/usr/share/tide/table" = { mode = "0600" }`),
		Right:  withLayout(`touch "$DESTDIR/usr/share/tide/table"`, `"/usr/share/tide/table" = { mode = "0644" }`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				mode := fact.ParseMode(e.Mode)
				need := os.FileMode(0o444)
				if e.Type == staging.Directory {
					need = 0o555
				}
				shared := strings.HasPrefix(e.Path, "/usr/") && mode&(os.ModeSetuid|os.ModeSetgid) == 0
				if e.Type != staging.Symlink && shared && mode&need != need && e.Owner == staging.Root && e.Group == staging.Root && len(e.Xattrs) == 0 {
					c.setMode(e, mode|need, "its mode is %s, so that only some may read it", e.Mode)
				}
			}
		},
	}
}

// ell212 reports: program or configuration writable by its own account.
func ell212() Rule {
	return Rule{
		Code: "ELL212", Severity: Warning, Title: "program or configuration writable by its own account",
		Why:    "A program gets an account of its own so that it can do little harm if it is compromised. If it can change its own program or data under /usr, the damage is permanent.",
		Remedy: "leave files under /usr to root; what the program writes belongs under /var/lib, with kind state",
		Wrong: withLayout(`touch "$DESTDIR/usr/share/tide/table"`, `"/usr/share/tide/table" = { owner = "tide" }
[package.tide.account.tide]
home = "/var/lib/tide"`),
		Right: withLayout(`touch "$DESTDIR/usr/share/tide/table"; install -d "$DESTDIR/var/lib/tide"`, `"/var/lib/tide/" = { owner = "tide", kind = "state" }
[package.tide.account.tide]
home = "/var/lib/tide"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				mode := fact.ParseMode(e.Mode)
				byGroup := e.Group != staging.Root && mode&0o020 != 0
				if strings.HasPrefix(e.Path, "/usr/") && e.Type != staging.Symlink && (e.Owner != staging.Root || byGroup) && mode&(os.ModeSetuid|os.ModeSetgid) == 0 {
					who := e.Owner
					if byGroup && who == staging.Root {
						who = e.Group
					}
					c.path(e.Path, "%q may change it", who)
				}
			}
		},
	}
}

// ell213 reports: executable data file.
func ell213() Rule {
	return Rule{
		Code: "ELL213", Severity: Warning, Title: "executable data file",
		Why:    "Nobody runs it on purpose. If somebody runs it by mistake, the shell executes its text as commands.",
		Remedy: "give it a mode without x in the layout",
		Wrong:  stageFile(`install -Dm755 /dev/null "$DESTDIR/usr/share/tide/harbours.csv"; echo Ely > "$DESTDIR/usr/share/tide/harbours.csv"`),
		Right:  stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/share/tide/harbours.csv"; echo Ely > "$DESTDIR/usr/share/tide/harbours.csv"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				mode := fact.ParseMode(e.Mode)
				if e.Type != staging.File || mode&0o111 == 0 || !isData(e.Path) || c.files[e.Path].ELF != nil && !strings.HasSuffix(e.Path, ".a") {
					continue
				}
				c.setMode(e, mode&^0o111, "it is executable, and nothing that is run")
			}
		},
	}
}

// ell214 reports: configuration outside /etc.
func ell214() Rule {
	return Rule{
		Code: "ELL214", Severity: Warning, Title: "configuration outside /etc",
		Why:    "Administrators look for configuration under /etc, and include only that in backups and version control.",
		Remedy: "install it under /etc; or, if it is the built-in default, leave out kind = \"config\"",
		Wrong:  withLayout(`echo a > "$DESTDIR/usr/share/tide/tide.conf"`, `"/usr/share/tide/tide.conf" = { kind = "config" }`),
		Right:  withLayout(`echo a > "$DESTDIR/usr/share/tide/tide.conf"`, ""),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if e.Kind == fact.KindConfig && !strings.HasPrefix(e.Path, "/etc/") && !strings.HasPrefix(e.Path, "/boot/") {
					c.path(e.Path, "it is of kind config, and not under /etc")
				}
			}
		},
	}
}

// ell215 reports: command that is not executable.
func ell215() Rule {
	return Rule{
		Code: "ELL215", Severity: Error, Title: "command that is not executable",
		Why:    "The shell finds it on the PATH and refuses to run it.",
		Remedy: `give it the mode "0755" in the layout`,
		Wrong:  stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/usr/bin/tide"`),
		Right:  stageFile(`install -Dm755 /dev/null "$DESTDIR/usr/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/usr/bin/tide"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if e.Type == staging.File && scan.CommandDir(path.Dir(e.Path)) && fact.ParseMode(e.Mode)&0o111 == 0 {
					c.setMode(e, 0o755, "its mode is %s, and it lies among the commands", e.Mode)
				}
			}
		},
	}
}

// ell217 reports: empty directory.
func ell217() Rule {
	return Rule{
		Code: "ELL217", Severity: Hint, Title: "empty directory",
		Why:    "Usually something should have been installed there, or the program creates it itself.",
		Remedy: `leave it out (name it in discard = [...]), or declare what it is for: kind = "state" or "cache"`,
		Wrong:  stageFile(`install -d "$DESTDIR/usr/share/tide/harbours"`),
		Right:  stageFile(`install -d "$DESTDIR/usr/share/tide/harbours"; echo Ely > "$DESTDIR/usr/share/tide/harbours/ely"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				meant := e.Kind != "" || strings.HasPrefix(e.Path, "/var/") || strings.HasPrefix(e.Path, "/srv/") || strings.HasPrefix(e.Path, "/etc/") || strings.HasSuffix(e.Path, ".d") || e.Owner != staging.Root
				if e.Type == staging.Directory && c.holds[e.Path] == 0 && !meant {
					c.discard(e.Path, e.Path, "there is nothing in it")
				}
			}
		},
	}
}

// ell220 reports: version control leftover.
func ell220() Rule {
	return Rule{
		Code: "ELL220", Severity: Warning, Title: "version control leftover",
		Why:    "It is useful to people who change the sources, and to nobody who installs the package.",
		Remedy: "keep it out of the stage step, or name it in discard = [...]",
		Wrong:  stageFile(`echo '*.o' > "$DESTDIR/usr/share/tide/.gitignore"`),
		Right:  stageFile(`echo 3.14 > "$DESTDIR/usr/share/tide/table"`),
		pkg:    func(c *packageCheck) { c.leftovers(history, nil) },
	}
}

// ell221 reports: build leftover.
func ell221() Rule {
	return Rule{
		Code: "ELL221", Severity: Warning, Title: "build leftover",
		Why:    "Object files, the linker's helpers and the build system's notes belong in the build directory, and often contain its path.",
		Remedy: "keep it out of the stage step, or name it in discard = [...]",
		Wrong:  stageFile(`echo 3.14 > "$DESTDIR/usr/share/tide/config.log"`),
		Right:  stageFile(`echo 3.14 > "$DESTDIR/usr/share/tide/table"`),
		pkg: func(c *packageCheck) {
			c.leftovers(compile, func(e ell.Entry) bool {
				// Start files of compilers, and modules for later linking.
				base := path.Base(e.Path)
				return strings.HasSuffix(base, ".o") && (strings.HasPrefix(base, "crt") || strings.HasSuffix(base, "crt1.o") || strings.HasPrefix(e.Path, "/usr/lib/gcc/") || strings.HasPrefix(e.Path, "/usr/lib/go/") || strings.HasPrefix(e.Path, "/usr/lib/bpf/"))
			})
		},
	}
}

// ell222 reports: desktop leftover of another system.
func ell222() Rule {
	return Rule{
		Code: "ELL222", Severity: Warning, Title: "desktop leftover of another system",
		Why:    "The system on which the archive was made left it there. Nothing here reads it.",
		Remedy: "keep it out of the stage step, or name it in discard = [...]",
		Wrong:  stageFile(`echo 3.14 > "$DESTDIR/usr/share/tide/.DS_Store"`),
		Right:  stageFile(`echo 3.14 > "$DESTDIR/usr/share/tide/table"`),
		pkg:    func(c *packageCheck) { c.leftovers(desktop, nil) },
	}
}

// ell223 reports: generated file that all packages share.
func ell223() Rule {
	return Rule{
		Code: "ELL223", Severity: Error, Title: "generated file that all packages share",
		Why:    "It is generated on each machine from what all packages install. A second package with the same file cannot be installed, or overwrites it.",
		Remedy: "name it in discard = [...]",
		Wrong:  stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/share/info/dir"`),
		Right:  stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/share/info/tide.info"; echo Tide > "$DESTDIR/usr/share/info/tide.info"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if what := isFresh(e.Path); what != "" && e.Type == staging.File {
					c.discard(e.Path, e.Path, "it is %s, which every package adds to", what)
				}
			}
		},
	}
}

// ell224 reports: awkward file name.
func ell224() Rule {
	return Rule{
		Code: "ELL224", Severity: Warning, Title: "awkward file name",
		Why:    "Scripts fail on names with control characters, with a space at either end or a leading dash. Names that are not UTF-8 look different on every terminal.",
		Remedy: "rename it in the stage step",
		Wrong:  stageFile(`echo a > "$DESTDIR/usr/share/tide/-table "`),
		Right:  stageFile(`echo a > "$DESTDIR/usr/share/tide/high water"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if what := awkward(path.Base(e.Path)); what != "" {
					c.path(e.Path, "its name %s", what)
				}
			}
		},
	}
}

// ell225 reports: large duplicate files.
func ell225() Rule {
	return Rule{
		Code: "ELL225", Severity: Hint, Title: "large duplicate files",
		Why:    "Each copy takes its full size on every machine.",
		Remedy: "replace all but one by links in the stage step",
		Wrong:  stageFile(`head -c 600000 /dev/zero > "$DESTDIR/usr/share/tide/a"; cp "$DESTDIR/usr/share/tide/a" "$DESTDIR/usr/share/tide/b"`),
		Right:  stageFile(`head -c 600000 /dev/zero > "$DESTDIR/usr/share/tide/a"; ln -s a "$DESTDIR/usr/share/tide/b"`),
		pkg: func(c *packageCheck) {
			byDigest := map[string][]string{}
			var order []string
			size := map[string]int64{}
			for _, e := range c.Layout {
				if e.Type == staging.File && e.Same == "" && e.Size > 0 {
					if byDigest[e.SHA256] == nil {
						order = append(order, e.SHA256)
					}
					byDigest[e.SHA256] = append(byDigest[e.SHA256], e.Path)
					size[e.SHA256] = e.Size
				}
			}
			for _, digest := range order {
				paths := byDigest[digest]
				if n := int64(len(paths)-1) * size[digest]; n >= 512<<10 {
					c.path(paths[0], "%s: the same, %.1f MB too much", several(paths), float64(n)/1e6)
				}
			}
		},
	}
}

// ell226 reports: empty file.
func ell226() Rule {
	return Rule{
		Code: "ELL226", Severity: Hint, Title: "empty file",
		Why:    "Usually it should contain something: a document that upstream never wrote, or the output of a command that failed.",
		Remedy: "leave it out, or find out why it is empty",
		Wrong:  stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/share/doc/tide/NEWS"`),
		Right:  stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/share/doc/tide/NEWS"; echo "1.2: three harbours" > "$DESTDIR/usr/share/doc/tide/NEWS"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				doc := strings.HasPrefix(e.Path, "/usr/share/doc/") || strings.HasPrefix(e.Path, "/usr/share/man/") || strings.HasPrefix(e.Path, "/usr/share/licenses/") || e.Kind == fact.KindLicense || scan.CommandDir(path.Dir(e.Path))
				if e.Type == staging.File && e.Size == 0 && doc {
					c.path(e.Path, "there is nothing in it")
				}
			}
		},
	}
}

// ell227 reports: file already compressed.
func ell227() Rule {
	return Rule{
		Code: "ELL227", Severity: Hint, Title: "file already compressed",
		Why:    "The package is compressed already. Compressing a file twice makes the package larger, the file cannot be searched, and it usually contains a timestamp.",
		Remedy: "install it uncompressed",
		Wrong:  stageFile(`echo '.TH tide 1' > tide.1; gzip -n tide.1; install -Dm644 tide.1.gz -t "$DESTDIR/usr/share/man/man1"`),
		Right:  stageFile(`printf '.TH tide 1\n.SH NAME\ntide \\- tables\n' > tide.1; install -Dm644 tide.1 -t "$DESTDIR/usr/share/man/man1"`),
		pkg: func(c *packageCheck) {
			var found []string
			for _, e := range c.Layout {
				doc := strings.HasPrefix(e.Path, "/usr/share/man/") || strings.HasPrefix(e.Path, "/usr/share/doc/") || strings.HasPrefix(e.Path, "/usr/share/info/")
				archive := strings.Contains(path.Base(e.Path), ".tar.")
				if e.Type == staging.File && doc && !archive && slices.Contains([]string{".gz", ".bz2", ".xz", ".zst", ".lzma", ".Z"}, path.Ext(e.Path)) {
					found = append(found, e.Path)
				}
			}
			if len(found) > 0 {
				c.path(found[0], "%d of the documents: %s", len(found), several(found))
			}
		},
	}
}

// ell228 reports: setuid script.
func ell228() Rule {
	return Rule{
		Code: "ELL228", Severity: Error, Title: "setuid script",
		Why:    "Linux ignores the bit on scripts, so it has no effect. A system that honors it would give its privileges away.",
		Remedy: `remove the bit: mode = "0755"`,
		Wrong:  withLayout(`install -Dm755 /dev/null "$DESTDIR/usr/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/usr/bin/tide"`, `"/usr/bin/tide" = { mode = "4755" }`),
		Right:  withLayout(`install -Dm755 /dev/null "$DESTDIR/usr/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/usr/bin/tide"`, ""),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if mode := fact.ParseMode(e.Mode); e.Type == staging.File && mode&os.ModeSetuid != 0 && c.files[e.Path].Interpreter != "" {
					c.setMode(e, mode&^os.ModeSetuid, "it is a script, and its mode is %s", e.Mode)
				}
			}
		},
	}
}

// ell229 reports: absolute symlink.
func ell229() Rule {
	return Rule{
		Code: "ELL229", Severity: Hint, Title: "absolute symlink",
		Why:    "Seen from outside of the root, it leads to files of the host. It also breaks if the package is unpacked elsewhere.",
		Remedy: "make it relative: ln -sr",
		Wrong:  stageFile(`echo a > "$DESTDIR/usr/share/tide/table"; ln -s /usr/share/tide/table "$DESTDIR/usr/share/tide/tables"`),
		Right:  stageFile(`echo a > "$DESTDIR/usr/share/tide/table"; ln -s table "$DESTDIR/usr/share/tide/tables"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				// From one top-level directory into another is where it is usual.
				if e.Type == staging.Symlink && path.IsAbs(e.Link) && c.there(path.Clean(e.Link)) && top(e.Path) == top(e.Link) {
					c.path(e.Path, "it points to %s, which is in this package too", e.Link)
				}
			}
		},
	}
}

// ell230 reports: symlink out of the root.
func ell230() Rule {
	return Rule{
		Code: "ELL230", Severity: Error, Title: "symlink out of the root",
		Why:    "It contains more .. than there are directories above it. Where it leads depends on where the root is.",
		Remedy: "count the directories again, or use ln -sr",
		Wrong:  stageFile(`ln -s ../../../../../usr/share/harbours "$DESTDIR/usr/share/tide/table"`),
		Right:  stageFile(`touch "$DESTDIR/usr/share/table"; ln -s ../table "$DESTDIR/usr/share/tide/table"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if e.Type != staging.Symlink || path.IsAbs(e.Link) {
					continue
				}
				depth := strings.Count(e.Path, "/") - 1
				for part := range strings.SplitSeq(e.Link, "/") {
					if part == ".." {
						depth--
					} else if part != "." && part != "" {
						depth++
					}
					if depth < 0 {
						c.path(e.Path, "it points to %s, above the root", e.Link)
						break
					}
				}
			}
		},
	}
}

// ell231 reports: symlink loop.
func ell231() Rule {
	return Rule{
		Code: "ELL231", Severity: Error, Title: "symlink loop",
		Why:    "Opening any of them fails, because they never lead to a file.",
		Remedy: "replace one of them by the file",
		Wrong:  stageFile(`ln -s b "$DESTDIR/usr/share/tide/a"; ln -s a "$DESTDIR/usr/share/tide/b"`),
		Right:  stageFile(`touch "$DESTDIR/usr/share/tide/a"; ln -s a "$DESTDIR/usr/share/tide/b"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				at, steps := e, 0
				for at.Type == staging.Symlink && steps < 40 {
					next, ok := ell.Find(c.Layout, linkTarget(at))
					if !ok {
						break
					}
					at = next
					steps++
				}
				if at.Type == staging.Symlink && steps == 40 {
					c.path(e.Path, "it points to %s, and that back to it", e.Link)
				}
			}
		},
	}
}

// ell232 reports: installed tests.
func ell232() Rule {
	return Rule{
		Code: "ELL232", Severity: Hint, Title: "installed tests",
		Why:    "They test the build, users do not need them, and they are often half of the size.",
		Remedy: "leave them out, or put them into a package of their own",
		Wrong:  stageFile(`install -d "$DESTDIR/usr/share/tide/tests"; head -c 1200000 /dev/zero > "$DESTDIR/usr/share/tide/tests/a"`),
		Right:  stageFile(`install -d "$DESTDIR/usr/share/tide/harbours"; head -c 1200000 /dev/zero > "$DESTDIR/usr/share/tide/harbours/a"`),
		pkg: func(c *packageCheck) {
			size, found := int64(0), ""
			for _, e := range c.Layout {
				if e.Type == staging.File && testDirectory(e.Path) {
					size += e.Size
					if found == "" {
						found = e.Path
					}
				}
			}
			if size > 1<<20 && !strings.Contains(c.Facts.Name, "test") {
				c.path(found, "%.1f MB of tests", float64(size)/1e6)
			}
		},
	}
}

// linkTarget is the path that a link leads to, as written.
func linkTarget(e ell.Entry) string {
	if path.IsAbs(e.Link) {
		return path.Clean(e.Link)
	}
	return path.Join(path.Dir(e.Path), e.Link)
}

// through reports whether a path may lie behind another link of the package.
func (c *packageCheck) through(p string) bool {
	for dir := path.Dir(p); dir != "/" && dir != "."; dir = path.Dir(dir) {
		if e, ok := ell.Find(c.Layout, dir); ok && e.Type == staging.Symlink {
			return true
		}
	}
	return false
}

// ownDirectory reports whether a directory is the package's own, so that what lies in
// it comes with the package.
func (c *packageCheck) ownDirectory(dir string) bool {
	if staging.IsShared(dir) {
		return false
	}
	return c.holds[dir] > 0
}

// top is the first directory of a path.
func top(p string) string {
	first, _, _ := strings.Cut(strings.TrimPrefix(p, "/"), "/")
	return first
}

// testDirectory reports whether a path lies in a directory of tests.
func testDirectory(p string) bool {
	parts := strings.Split(p, "/")
	for _, part := range parts[:len(parts)-1] {
		if part == "tests" || part == "test" || part == "testsuite" || part == "testdata" {
			return true
		}
	}
	return false
}

// isData reports whether a file is never run, by where it lies or its name.
func isData(p string) bool {
	return slices.ContainsFunc(dataDirs, func(dir string) bool { return strings.HasPrefix(p, dir) }) ||
		slices.Contains(dataNames, path.Ext(p)) && !scan.CommandDir(path.Dir(p))
}

// awkward says what is wrong with a name, if anything is.
func awkward(name string) string {
	switch {
	case !utf8.ValidString(name):
		return "is not UTF-8"
	case strings.HasPrefix(name, "-"):
		return "begins with a dash, so commands take it for an option"
	case strings.TrimSpace(name) != name:
		return "begins or ends with a space"
	}
	for _, r := range name {
		if unicode.IsControl(r) {
			return "has a control character in it"
		}
	}
	return ""
}
