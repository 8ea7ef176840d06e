package lint

import (
	"path"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/pattern"
	"ellwand.example/core/staging"
)

// The directories that the Filesystem Hierarchy Standard 3.0 knows
// (https://refspecs.linuxfoundation.org/FHS_3.0/), and those that have come
// into use beside it.
var (
	topDirectories = wordSet("bin boot etc lib lib32 lib64 opt sbin srv usr var")
	usrDirectories = wordSet("bin games include lib lib32 lib64 libexec sbin share src")
	varDirectories = wordSet("account cache crash games lib lock log mail opt run spool tmp yp")
)

// forbidden are directories that belong to the administrator, to users, or to the
// moment.
var forbidden = []string{"/usr/local", "/home", "/root", "/tmp", "/var/tmp", "/run", "/var/run", "/var/lock", "/dev", "/proc", "/sys", "/mnt", "/media", "/srv"}

// moved are directories that were elsewhere once.
var moved = map[string]string{"/usr/man": "/usr/share/man", "/usr/info": "/usr/share/info", "/usr/doc": "/usr/share/doc", "/usr/etc": "/etc", "/usr/var": "/var", "/usr/X11R6": "/usr", "/usr/locale": "/usr/share/locale", "/usr/lib/locale/LC_MESSAGES": "/usr/share/locale"}

// merged are the directories that are links into /usr on most systems.
var merged = []string{"/bin", "/sbin", "/lib", "/lib64", "/lib32"}

// administrators are directories for the administrator's own files, with the one
// for those of packages.
var administrators = []struct{ own, vendor string }{
	{"/etc/systemd/system/", "/usr/lib/systemd/system/"}, {"/etc/systemd/user/", "/usr/lib/systemd/user/"}, {"/etc/udev/rules.d/", "/usr/lib/udev/rules.d/"},
	{"/etc/udev/hwdb.d/", "/usr/lib/udev/hwdb.d/"}, {"/etc/tmpfiles.d/", "/usr/lib/tmpfiles.d/"}, {"/etc/sysusers.d/", "/usr/lib/sysusers.d/"}, {"/etc/sysctl.d/", "/usr/lib/sysctl.d/"},
	{"/etc/modules-load.d/", "/usr/lib/modules-load.d/"}, {"/etc/modprobe.d/", "/usr/lib/modprobe.d/"}, {"/etc/binfmt.d/", "/usr/lib/binfmt.d/"},
	{"/etc/dbus-1/system.d/", "/usr/share/dbus-1/system.d/"}, {"/etc/dbus-1/session.d/", "/usr/share/dbus-1/session.d/"}, {"/etc/bash_completion.d/", "/usr/share/bash-completion/completions/"},
}

var (
	localeFile = pattern.New(`^/usr/share/locale/([^/]+)/(LC_[A-Z]+)/[^/]+\.mo$`)
	localeName = pattern.New(`^[a-z]{2,3}(_[A-Z]{2,3}|_[0-9]{3})?(\.[A-Za-z0-9-]+)?(@[A-Za-z]+)?$|^(en@(bold)?quot|sr@latin|C)$`)
	manFile    = pattern.New(`^/usr/share/man/(?:([a-z]{2,3}(?:_[A-Z]{2})?(?:\.[A-Za-z0-9-]+)?(?:@[a-z]+)?)/)?man([0-9n][a-z]*)/(.+)\.([0-9n][0-9a-zA-Z_+]*)(?:\.(?:gz|xz|bz2|zst|lzma))?$`)
	iconFile   = pattern.New(`^/usr/share/icons/[^/]+/(?:([0-9]+)x([0-9]+)(?:@([0-9]))?|scalable(?:-up-to-[0-9]+)?|symbolic)/[a-z-]+/(?:[a-z-]+/)*[^/]+\.(png|svg|svgz|xpm)$`)
)

// placeRules are about what lies where.
func placeRules() []Rule {
	return []Rule{
		ell203(),
		ell210(),
		ell216(),
		ell218(),
		ell219(),
		ell233(),
		ell234(),
		ell235(),
		ell236(),
		ell237(),
		ell238(),
		ell239(),
		ell240(),
		ell241(),
	}
}

// ell203 reports: path where packages must not install.
func ell203() Rule {
	return Rule{
		Code: "ELL203", Severity: Error, Title: "path where packages must not install",
		Why:    "The Filesystem Hierarchy Standard 3.0 reserves these places for the administrator, for users or for run-time data: a package's files there are in the way, or disappear at a restart.",
		Remedy: "install with PREFIX=/usr, put configuration under /etc, and declare state directories in the layout",
		Wrong:  stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/local/share/tide/table"`),
		Right:  stageFile(`touch "$DESTDIR/usr/share/tide/table"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				for _, dir := range forbidden {
					if strings.HasPrefix(e.Path, dir+"/") && (e.Type != staging.Directory || c.holds[e.Path] == 0) {
						c.path(e.Path, "packages put nothing under %s", dir)
					}
				}
			}
		},
	}
}

// ell210 reports: development files in a run-time package.
func ell210() Rule {
	return Rule{
		Code: "ELL210", Severity: Warning, Title: "development files in a run-time package",
		Why:    "Headers and static libraries are a large part of many packages, and only needed for compiling.",
		Remedy: "put them into a separate package, such as NAME-dev",
		Wrong:  stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/include/tide.h"; install -Dm755 /dev/null "$DESTDIR/usr/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/usr/bin/tide"`),
		Right: stageFile(`install -Dm644 /dev/null "$DESTDIR/usr/include/tide.h"; install -Dm755 /dev/null "$DESTDIR/usr/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/usr/bin/tide"`) + `
[package.tide.layout]
"/usr/share/licenses/tide/COPYING" = { from = "COPYING" }
"/**" = {}
[package.tide-dev]
summary = "Headers for tide"
[package.tide-dev.layout]
"/usr/include/**" = {}`,
		pkg: func(c *packageCheck) {
			var found []string
			heavy := false
			for _, e := range c.Layout {
				static := strings.HasSuffix(e.Path, ".a") && scan.LibraryDir(path.Dir(e.Path))
				header := strings.HasPrefix(e.Path, "/usr/include/")
				if e.Type == staging.File && (header || static || strings.HasSuffix(e.Path, ".pc") && path.Base(path.Dir(e.Path)) == "pkgconfig") {
					found = append(found, e.Path)
					heavy = heavy || header || static // a module alone weighs nothing
				}
			}
			if c.provides("soname", "command") && !c.development() && heavy {
				c.path(found[0], "a package with programs or libraries holds development files: %s", several(found))
			}
		},
	}
}

// ell216 reports: subdirectory of a command directory.
func ell216() Rule {
	return Rule{
		Code: "ELL216", Severity: Error, Title: "subdirectory of a command directory",
		Why:    "The Filesystem Hierarchy Standard 3.0 has no directories in /usr/bin and /usr/sbin: nothing in them is found on the PATH.",
		Remedy: "put programs that only other programs start under /usr/libexec/NAME",
		Wrong:  stageFile(`install -Dm755 /dev/null "$DESTDIR/usr/bin/tide/table"; echo '#!/bin/sh' > "$DESTDIR/usr/bin/tide/table"`),
		Right:  stageFile(`install -Dm755 /dev/null "$DESTDIR/usr/libexec/tide/table"; echo '#!/bin/sh' > "$DESTDIR/usr/libexec/tide/table"`),
		pkg: func(c *packageCheck) {
			told := map[string]bool{}
			for _, e := range c.Layout {
				for dir := path.Dir(e.Path); dir != "/"; dir = path.Dir(dir) {
					if scan.CommandDir(path.Dir(dir)) && !told[dir] {
						told[dir] = true
						c.path(dir, "a directory lies among the commands")
					}
				}
			}
		},
	}
}

// ell218 reports: top-level directory outside the FHS.
func ell218() Rule {
	return Rule{
		Code: "ELL218", Severity: Error, Title: "top-level directory outside the FHS",
		Why:    "Backups, quotas and read-only systems follow the Filesystem Hierarchy Standard 3.0. They miss a directory outside of it.",
		Remedy: "put programs under /usr, configuration under /etc, and what is written under /var",
		Wrong:  stageFile(`install -Dm644 /dev/null "$DESTDIR/tide/table"`),
		Right:  stageFile(`touch "$DESTDIR/usr/share/tide/table"`),
		pkg: func(c *packageCheck) {
			told := map[string]bool{}
			for _, e := range c.Layout {
				parts := strings.SplitN(e.Path[1:], "/", 3)
				bad := ""
				old := ""
				for dir, now := range moved {
					if strings.HasPrefix(e.Path, dir+"/") {
						old = now
					}
				}
				within := slices.ContainsFunc(forbidden, func(dir string) bool { return e.Path == dir || strings.HasPrefix(e.Path, dir+"/") })
				switch {
				case within || old != "" || strings.HasPrefix(e.Path, debugDir):
				case !topDirectories[parts[0]] && !within && !slices.ContainsFunc(forbidden, func(dir string) bool { return dir == "/"+parts[0] }):
					bad = "/" + parts[0]
				case len(parts) > 2 && parts[0] == "usr" && !usrDirectories[parts[1]] && !strings.Contains(parts[1], "-linux-"):
					bad = "/usr/" + parts[1]
				case len(parts) > 2 && parts[0] == "var" && !varDirectories[parts[1]]:
					bad = "/var/" + parts[1]
				}
				if bad != "" && !told[bad] {
					told[bad] = true
					c.path(e.Path, "the standard has no directory %s", bad)
				}
			}
		},
	}
}

// ell219 reports: obsolete directory.
func ell219() Rule {
	return Rule{
		Code: "ELL219", Severity: Error, Title: "obsolete directory",
		Why:    "Files there are not found: the Filesystem Hierarchy Standard moved man pages, documentation and configuration elsewhere.",
		Remedy: "set the directory in the stage step, such as mandir=/usr/share/man",
		Wrong:  stageFile(`install -d "$DESTDIR/usr/man/man1"; printf '.TH tide 1\n.SH NAME\ntide \\- tables\n' > "$DESTDIR/usr/man/man1/tide.1"`),
		Right:  stageFile(`install -d "$DESTDIR/usr/share/man/man1"; printf '.TH tide 1\n.SH NAME\ntide \\- tables\n' > "$DESTDIR/usr/share/man/man1/tide.1"`),
		pkg: func(c *packageCheck) {
			told := map[string]bool{}
			for _, e := range c.Layout {
				for dir, now := range moved {
					if strings.HasPrefix(e.Path, dir+"/") && !told[dir] && e.Type != staging.Directory {
						told[dir] = true
						c.path(e.Path, "%s is %s now", dir, now)
					}
				}
			}
		},
	}
}

// ell233 reports: files outside the merged /usr.
func ell233() Rule {
	return Rule{
		Code: "ELL233", Severity: Warning, Title: "files outside the merged /usr",
		Why:    "On most systems /bin, /sbin and /lib are links into /usr. A package with a real directory there cannot be installed, or replaces the link.",
		Remedy: "install to the same directory below /usr",
		Wrong:  stageFile(`install -Dm755 /dev/null "$DESTDIR/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/bin/tide"`),
		Right:  stageFile(`install -Dm755 /dev/null "$DESTDIR/usr/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/usr/bin/tide"`),
		pkg: func(c *packageCheck) {
			for _, dir := range merged {
				i := slices.IndexFunc(c.Layout, func(e ell.Entry) bool { return strings.HasPrefix(e.Path, dir+"/") && e.Type != staging.Directory })
				if i >= 0 {
					c.path(c.Layout[i].Path, "it lies under %s, which is a link to /usr%s", dir, dir)
				}
			}
		},
	}
}

// ell234 reports: run-time data shipped as a package file.
func ell234() Rule {
	return Rule{
		Code: "ELL234", Severity: Warning, Title: "run-time data shipped as a package file",
		Why:    "Programs write under /var/lib, /var/log and /var/cache. A package's file there overwrites their data at each upgrade.",
		Remedy: `declare it: kind = "state" or "cache"; install a first version under /usr/share, to be copied`,
		Wrong:  withLayout(`install -Dm644 /dev/null "$DESTDIR/var/lib/tide/heights"; echo 1 > "$DESTDIR/var/lib/tide/heights"`, ""),
		Right:  withLayout(`install -d "$DESTDIR/var/lib/tide"`, `"/var/lib/tide/" = { kind = "state" }`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				written := strings.HasPrefix(e.Path, "/var/lib/") || strings.HasPrefix(e.Path, "/var/log/") || strings.HasPrefix(e.Path, "/var/cache/") || strings.HasPrefix(e.Path, "/var/spool/")
				if written && e.Type == staging.File && e.Kind != fact.KindState && e.Kind != fact.KindCache {
					c.path(e.Path, "it lies where programs write, and is of no kind that is kept")
				}
			}
		},
	}
}

// ell235 reports: vendor file in the administrator's directory.
func ell235() Rule {
	return Rule{
		Code: "ELL235", Severity: Warning, Title: "vendor file in the administrator's directory",
		Why:    "Files there override those of packages. Administrators put their own versions there, and cannot if a package already does.",
		Remedy: "install it to the directory for packages, which has the same effect",
		Wrong:  withLayout(`install -d "$DESTDIR/etc/tmpfiles.d"; echo 'd /run/tide' > "$DESTDIR/etc/tmpfiles.d/tide.conf"`, `"/etc/tmpfiles.d/*" = { kind = "config" }`),
		Right:  withLayout(`install -d "$DESTDIR/usr/lib/tmpfiles.d"; echo 'd /run/tide' > "$DESTDIR/usr/lib/tmpfiles.d/tide.conf"`, ""),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				for _, a := range administrators {
					if strings.HasPrefix(e.Path, a.own) && e.Type == staging.File {
						f := fact.Finding{Path: e.Path, Message: "packages have " + a.vendor + " for it", Remedy: "install it to " + a.vendor + path.Base(e.Path)}
						c.add(f)
					}
				}
			}
		},
	}
}

// ell236 reports: translations in the wrong place.
func ell236() Rule {
	return Rule{
		Code: "ELL236", Severity: Warning, Title: "translations in the wrong place",
		Why:    "gettext looks in /usr/share/locale/LANGUAGE/LC_MESSAGES, with the language code of ISO 639. It finds them nowhere else.",
		Remedy: "check what the build is given: localedir=/usr/share/locale",
		Wrong:  stageFile(`install -d "$DESTDIR/usr/share/locale/de"; echo x > "$DESTDIR/usr/share/locale/de/tide.mo"`),
		Right:  stageFile(`install -d "$DESTDIR/usr/share/locale/de/LC_MESSAGES"; echo x > "$DESTDIR/usr/share/locale/de/LC_MESSAGES/tide.mo"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				base := path.Base(e.Path)
				inside := strings.HasPrefix(e.Path, "/usr/share/locale/")
				if e.Type != staging.File || !inside {
					continue
				}
				switch m := localeFile.FindStringSubmatch(e.Path); {
				case strings.HasSuffix(base, ".po"):
					c.path(e.Path, "it is the source of a translation, which nothing reads")
				case strings.HasSuffix(base, ".mo") && m == nil:
					c.path(e.Path, "it is not in a directory LC_MESSAGES of a language")
				case m != nil && !localeName.MatchString(m[1]):
					c.path(e.Path, "%q is no name of a language", m[1])
				}
			}
		},
	}
}

// ell237 reports: man page in the wrong place.
func ell237() Rule {
	return Rule{
		Code: "ELL237", Severity: Warning, Title: "man page in the wrong place",
		Why:    "man looks for section 1 in man1, by the suffix. Pages elsewhere are not found, or only by their full path.",
		Remedy: "put NAME.SECTION into /usr/share/man/manSECTION",
		Wrong:  stageFile(`install -d "$DESTDIR/usr/share/man/man8"; printf '.TH tide 1\n.SH NAME\ntide \\- tables\n' > "$DESTDIR/usr/share/man/man8/tide.1"`),
		Right:  stageFile(`install -d "$DESTDIR/usr/share/man/man1"; printf '.TH tide 1\n.SH NAME\ntide \\- tables\n' > "$DESTDIR/usr/share/man/man1/tide.1"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				if !strings.HasPrefix(e.Path, "/usr/share/man/") || e.Type == staging.Directory {
					continue
				}
				switch m := manFile.FindStringSubmatch(e.Path); {
				case m == nil:
					if base := path.Base(e.Path); base != "whatis" && base != "index.db" {
						c.path(e.Path, "it is not NAME.SECTION in a directory of that section")
					}
				case !strings.HasPrefix(m[4], m[2]):
					c.path(e.Path, "it is of section %s, in the directory of section %s", m[4], m[2])
				}
			}
		},
	}
}

// ell238 reports: icon in the wrong place.
func ell238() Rule {
	return Rule{
		Code: "ELL238", Severity: Warning, Title: "icon in the wrong place",
		Why:    "Desktops look for icons in THEME/SIZE/CONTEXT below /usr/share/icons (Icon Theme Specification) and nowhere else.",
		Remedy: "install it to /usr/share/icons/hicolor/48x48/apps/ or scalable/apps/",
		Wrong:  stageFile(`install -d "$DESTDIR/usr/share/icons"; echo x > "$DESTDIR/usr/share/icons/tide.png"`),
		Right:  stageFile(`install -d "$DESTDIR/usr/share/icons/hicolor/scalable/apps"; echo '<svg xmlns="http://www.w3.org/2000/svg"/>' > "$DESTDIR/usr/share/icons/hicolor/scalable/apps/tide.svg"`),
		pkg: func(c *packageCheck) {
			ownTheme := map[string]bool{}
			for _, e := range c.Layout {
				if path.Base(e.Path) == "index.theme" {
					ownTheme[path.Dir(e.Path)] = true
				}
			}
			for _, e := range c.Layout {
				image := slices.Contains([]string{".png", ".svg", ".svgz", ".xpm"}, path.Ext(e.Path))
				if !image || e.Type == staging.Directory || !strings.HasPrefix(e.Path, "/usr/share/icons/") || iconFile.MatchString(e.Path) {
					continue
				}
				theme, _, _ := strings.Cut(strings.TrimPrefix(e.Path, "/usr/share/icons/"), "/")
				if !ownTheme["/usr/share/icons/"+theme] {
					c.path(e.Path, "it is not in THEME/SIZE/CONTEXT")
				}
			}
		},
	}
}

// ell239 reports: Python module with a generic name.
func ell239() Rule {
	return Rule{
		Code: "ELL239", Severity: Error, Title: "Python module with a generic name",
		Why:    "`import tests` then finds this module, on every machine and for every program. Two packages with one cannot be installed together.",
		Remedy: "leave it out: `exclude` in the project's settings, or discard = [...]",
		Wrong:  stageFile(`install -d "$DESTDIR/usr/lib/python3/dist-packages/tests"; echo a = 1 > "$DESTDIR/usr/lib/python3/dist-packages/tests/__init__.py"`),
		Right:  stageFile(`install -d "$DESTDIR/usr/lib/python3/dist-packages/tide"; echo a = 1 > "$DESTDIR/usr/lib/python3/dist-packages/tide/__init__.py"`),
		pkg: func(c *packageCheck) {
			told := map[string]bool{}
			for _, e := range c.Layout {
				if !strings.Contains(e.Path, "-packages/") {
					continue
				}
				if m := commonModule.FindStringSubmatch(e.Path); m != nil && !told[m[1]] {
					told[m[1]] = true
					c.discard(e.Path, m[1]+"/**", "it is importable as %q", path.Base(m[1]))
				}
			}
		},
	}
}

// ell240 reports: cron job that is never run.
func ell240() Rule {
	return Rule{
		Code: "ELL240", Severity: Warning, Title: "cron job that is never run",
		Why:    "cron ignores files with a dot in their names in its directories, and files that are not executable in the hourly, daily and weekly ones.",
		Remedy: "name it without a dot, and give it the mode \"0755\" where cron runs it",
		Wrong:  withLayout(`install -Dm755 /dev/null "$DESTDIR/etc/cron.daily/tide.sh"; echo '#!/bin/sh' > "$DESTDIR/etc/cron.daily/tide.sh"`, `"/etc/cron.daily/*" = { kind = "config" }`),
		Right:  withLayout(`install -Dm755 /dev/null "$DESTDIR/etc/cron.daily/tide"; echo '#!/bin/sh' > "$DESTDIR/etc/cron.daily/tide"`, `"/etc/cron.daily/*" = { kind = "config" }`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				dir := path.Dir(e.Path)
				if e.Type != staging.File || !strings.HasPrefix(dir, "/etc/cron.") {
					continue
				}
				switch {
				case strings.Contains(path.Base(e.Path), "."):
					c.path(e.Path, "there is a dot in its name")
				case dir != "/etc/cron.d" && fact.ParseMode(e.Mode)&0o111 == 0:
					c.setMode(e, 0o755, "it cannot be executed")
				}
			}
		},
	}
}

// ell241 reports: /opt without a provider directory.
func ell241() Rule {
	return Rule{
		Code: "ELL241", Severity: Error, Title: "/opt without a provider directory",
		Why:    "/opt has one directory for each package that is not part of the system; /opt/bin and the like are the administrator's.",
		Remedy: "install below /opt/NAME, or better to /usr",
		Wrong:  stageFile(`install -Dm755 /dev/null "$DESTDIR/opt/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/opt/bin/tide"`),
		Right:  stageFile(`install -Dm755 /dev/null "$DESTDIR/opt/tide/bin/tide"; echo '#!/bin/sh' > "$DESTDIR/opt/tide/bin/tide"`),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				rest, ok := strings.CutPrefix(e.Path, "/opt/")
				first, below, deep := strings.Cut(rest, "/")
				own := wordSet("bin doc include info lib man")
				if ok && e.Type != staging.Directory && (!deep || own[first] && below != "") {
					c.path(e.Path, "it lies right under /opt, or in a directory of the administrator's")
				}
			}
		},
	}
}

var commonModule = pattern.New(`^(/usr/lib/python3[.0-9]*/(?:dist|site)-packages/(?:tests?|docs?|examples?|scripts|benchmarks?|build|tools|utils))/.+\.py$`)
