package lint

import (
	"bytes"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/pattern"
	"ellwand.example/core/staging"
)

var desktopPath = pattern.New(`^/usr/share/applications/(?:[^/]+/)*[^/]+\.desktop$`)

// entryGroup is the group that every desktop entry has.
const entryGroup = "Desktop Entry"

// mainCategories are those of the Desktop Menu Specification 1.1, of which an
// application is to have one.
var mainCategories = wordSet("AudioVideo Audio Video Development Education Game Graphics Network Office Science Settings System Utility")

// entryKeys are the keys of the Desktop Entry Specification 1.5.
var entryKeys = wordSet(`Type Version Name GenericName NoDisplay Comment Icon Hidden OnlyShowIn NotShowIn DBusActivatable TryExec Exec Path Terminal Actions MimeType Categories
	Implements Keywords StartupNotify StartupWMClass URL PrefersNonDefaultGPU SingleMainWindow Encoding InitialPreference ServiceTypes DocPath FilePattern SwallowTitle SwallowExec SortOrder MapNotify`)

// entry is an example with a desktop entry.
func entry(lines string) string {
	return stageFile("install -d \"$DESTDIR/usr/bin\" \"$DESTDIR/usr/share/applications\" \"$DESTDIR/usr/share/icons/hicolor/scalable/apps\" \"$DESTDIR/usr/share/man/man1\"\n" +
		"printf '#!/bin/sh\\n' > \"$DESTDIR/usr/bin/tide\"; chmod 755 \"$DESTDIR/usr/bin/tide\"\n" +
		"printf '.TH tide 1\\n.SH NAME\\ntide \\\\- tables\\n' > \"$DESTDIR/usr/share/man/man1/tide.1\"\n" +
		"echo '<svg xmlns=\"http://www.w3.org/2000/svg\"/>' > \"$DESTDIR/usr/share/icons/hicolor/scalable/apps/tide.svg\"\n" +
		"cat > \"$DESTDIR/usr/share/applications/tide.desktop\" <<'END'\n" + lines + "\nEND")
}

const goodEntry = "[Desktop Entry]\nType=Application\nName=Tides\nExec=tide\nIcon=tide\nCategories=Science;"

// eachEntry calls f for each desktop entry.
func (c *packageCheck) eachEntry(f func(p string, k scan.Keys)) {
	for _, p := range sortedKeys(c.desktops) {
		f(p, c.desktops[p])
	}
}

// manual is an example with a manual.
func manual(name, text string) string {
	return stageFile("install -d \"$DESTDIR/usr/share/man/man1\"\ncat > \"$DESTDIR/usr/share/man/man1/" + name + "\" <<'END'\n" + text + "\nEND")
}

// module is an example with a pkg-config module.
func module(lines string) string {
	return stageFile("install -d \"$DESTDIR/usr/share/pkgconfig\" \"$DESTDIR/usr/include\"\necho '/* tide */' > \"$DESTDIR/usr/include/tide.h\"\ncat > \"$DESTDIR/usr/share/pkgconfig/tide.pc\" <<'END'\n" + lines + "\nEND")
}

const goodModule = "prefix=/usr\nincludedir=${prefix}/include\nName: tide\nDescription: Tides\nVersion: 1.2\nCflags: -I${includedir}"

var (
	manualHead = pattern.New(`(?m)^(?:\.|')\s*(TH|Dd|Dt|so|DT)\b`)
	manualTH   = pattern.New(`(?m)^\.\s*(?:TH|Dt)\s+(?:"[^"]*"|\S+)\s+"?([0-9n][0-9a-zA-Z]*)`)
	manualSo   = pattern.New(`(?m)^\.so\s+(\S+)`)
	manualName = pattern.New(`(?im)^\.\s*S[Hh]\s+"?N(AME|OM|OME|OMBRE)|^\.\s*S[Hh]\s+"?[^A-Za-z\n]|^\.\s*Nm\b`)
	localized  = pattern.New(`^([A-Za-z0-9-]+)\[[^\]]+\]$`)
)

// namesOfManual are the commands that a manual's section NAME lists.
func namesOfManual(text string) []string {
	var out []string
	inside := false
	for line := range strings.SplitSeq(text, "\n") {
		upper := strings.ToUpper(line)
		switch {
		case strings.HasPrefix(upper, ".SH"):
			inside = strings.Contains(upper, "NAME")
		case strings.HasPrefix(line, ".Nm "):
			if words := strings.Fields(line); len(words) > 1 {
				out = append(out, strings.Trim(words[1], ",\""))
			}
		case inside:
			names, _, _ := strings.Cut(strings.ReplaceAll(line, `\-`, " - "), " - ")
			for _, w := range strings.FieldsFunc(names, func(r rune) bool { return r == ' ' || r == ',' || r == '\t' }) {
				out = append(out, strings.NewReplacer(`\fB`, "", `\fR`, "", `\fP`, "", `\fI`, "", `\-`, "-", `\&`, "", `"`, "").Replace(w))
			}
		}
	}
	return out
}

// integrationRules are about how a package fits into desktops, manuals and
// other people's builds.
func integrationRules() []Rule {
	return []Rule{
		ell701(),
		ell702(),
		ell703(),
		ell704(),
		ell705(),
		ell706(),
		ell710(),
		ell711(),
		ell712(),
		ell713(),
		ell714(),
		ell720(),
		ell730(),
		ell731(),
		ell732(),
		ell733(),
		ell740(),
		ell741(),
	}
}

// ell701 reports: invalid desktop entry.
func ell701() Rule {
	return Rule{
		Code: "ELL701", Severity: Error, Title: "invalid desktop entry",
		Why:    "Menus leave out what they cannot read (Desktop Entry Specification 1.5).",
		Remedy: "correct the line; Type, Name and, for an application, Exec are required",
		Wrong:  entry("[Desktop Entry]\nType=Application\nExec=tide\nIcon=tide\nCategories=Science;"),
		Right:  entry(goodEntry),
		pkg: func(c *packageCheck) {
			c.eachEntry(func(p string, k scan.Keys) {
				for _, n := range k.Stray {
					c.path(p, "line %d is no key with a value", n)
				}
				if !slices.Contains(k.Sections, entryGroup) {
					c.path(p, "it has no group [%s]", entryGroup)
					return
				}
				kind, ok := k.Get(entryGroup, "Type")
				_, exec := k.Get(entryGroup, "Exec")
				activated, _ := k.Get(entryGroup, "DBusActivatable")
				_, name := k.Get(entryGroup, "Name")
				_, url := k.Get(entryGroup, "URL")
				switch {
				case !ok:
					c.path(p, "Type is missing")
				case !slices.Contains([]string{"Application", "Link", "Directory"}, kind):
					c.path(p, "%q is no Type", kind)
				case kind == "Application" && !exec && activated != "true":
					c.path(p, "Exec is missing")
				case kind == "Link" && !url:
					c.path(p, "URL is missing")
				}
				if !name {
					c.path(p, "Name is missing")
				}
				seen := map[string]bool{}
				for _, l := range k.Lines {
					if full := l.Section + "\x00" + l.Key; seen[full] {
						c.path(p, "line %d: %s stands there already", l.Line, l.Key)
					} else {
						seen[full] = true
					}
					if slices.Contains([]string{"Terminal", "NoDisplay", "Hidden", "StartupNotify", "DBusActivatable"}, l.Key) && l.Value != "true" && l.Value != "false" {
						c.path(p, "line %d: %s is true or false, and not %q", l.Line, l.Key, l.Value)
					}
				}
			})
		},
	}
}

// ell702 reports: desktop entry starts nothing.
func ell702() Rule {
	return Rule{
		Code: "ELL702", Severity: Error, Title: "desktop entry starts nothing",
		Why:    "The entry is in the menu, but choosing it does nothing. With TryExec it is not even shown.",
		Remedy: "name a command that the package contains or needs",
		Wrong:  entry(strings.Replace(goodEntry, "Exec=tide", "Exec=/usr/bin/tides --window", 1)),
		Right:  entry(goodEntry),
		pkg: func(c *packageCheck) {
			c.eachEntry(func(p string, k scan.Keys) {
				for _, key := range []string{"Exec", "TryExec"} {
					value, ok := k.Get(entryGroup, key)
					if word := firstWord(value); ok && word != "" && !c.canRun(word) {
						c.path(p, "%s is %s, which neither the package nor the system has", key, word)
					}
				}
			})
		},
	}
}

// ell703 reports: desktop entry without its icon.
func ell703() Rule {
	return Rule{
		Code: "ELL703", Severity: Warning, Title: "desktop entry without its icon",
		Why:    "The menu shows an empty icon instead.",
		Remedy: "install the icon to /usr/share/icons/hicolor/SIZE/apps/, with the name in the entry and a suffix",
		Wrong:  entry(strings.Replace(goodEntry, "Icon=tide", "Icon=tides", 1)),
		Right:  entry(goodEntry),
		pkg: func(c *packageCheck) {
			c.eachEntry(func(p string, k scan.Keys) {
				icon, ok := k.Get(entryGroup, "Icon")
				if !ok || icon == "" || c.icon(icon) || standardIcon(icon) {
					return
				}
				c.path(p, "Icon is %s, and the package has none of that name", icon)
			})
		},
	}
}

// ell704 reports: desktop entry in no menu.
func ell704() Rule {
	return Rule{
		Code: "ELL704", Severity: Hint, Title: "desktop entry in no menu",
		Why:    "Menus are made from the main categories (Desktop Menu Specification 1.1). Without one, the entry ends up under Other, or nowhere.",
		Remedy: "add one of " + strings.Join(sortedKeys(mainCategories), ", "),
		Wrong:  entry(strings.Replace(goodEntry, "Categories=Science;", "Categories=Oceanography;", 1)),
		Right:  entry(goodEntry),
		pkg: func(c *packageCheck) {
			c.eachEntry(func(p string, k scan.Keys) {
				kind, _ := k.Get(entryGroup, "Type")
				hidden, _ := k.Get(entryGroup, "NoDisplay")
				all, _ := k.Get(entryGroup, "Categories")
				if kind == "Application" && hidden != "true" && !slices.ContainsFunc(strings.Split(all, ";"), func(s string) bool { return mainCategories[strings.TrimSpace(s)] }) {
					c.path(p, "none of its categories (%s) is a main one", strings.TrimSuffix(all, ";"))
				}
			})
		},
	}
}

// ell705 reports: unknown key in a desktop entry.
func ell705() Rule {
	return Rule{
		Code: "ELL705", Severity: Warning, Title: "unknown key in a desktop entry",
		Why:    "Usually it is misspelled, and has no effect. Private keys begin with X-.",
		Remedy: "correct it, or prefix it with X-",
		Wrong:  entry(goodEntry + "\nCatagories=Science;"),
		Right:  entry(goodEntry + "\nX-Tide=high"),
		pkg: func(c *packageCheck) {
			c.eachEntry(func(p string, k scan.Keys) {
				for _, l := range k.Lines {
					key := l.Key
					if m := localized.FindStringSubmatch(key); m != nil {
						key = m[1]
					}
					if l.Section == entryGroup && !strings.HasPrefix(key, "X-") && !entryKeys[key] {
						c.path(p, "line %d: there is no key %s", l.Line, l.Key)
					}
				}
			})
		},
	}
}

// ell706 reports: icon size differs from its directory.
func ell706() Rule {
	return Rule{
		Code: "ELL706", Severity: Warning, Title: "icon size differs from its directory",
		Why:    "Desktops choose an icon by its directory, and show this one blurred or cropped.",
		Remedy: "put it into the directory of its size, or scale it",
		Wrong:  icon("48x48"),
		Right:  icon("16x16"),
		file: func(c *fileCheck) {
			if !strings.HasPrefix(c.Path, "/usr/share/icons/") {
				return
			}
			m := iconFile.FindStringSubmatch(c.Path)
			if m == nil || m[4] != "png" || m[1] == "" || len(c.data) < 24 || !bytes.HasPrefix(c.data, []byte("\x89PNG\r\n\x1a\n")) {
				return
			}
			scale := "1"
			if m[3] != "" {
				scale = m[3]
			}
			w, h := binary.BigEndian.Uint32(c.data[16:]), binary.BigEndian.Uint32(c.data[20:])
			var fw, fh, fs uint32
			fmt.Sscan(m[1], &fw)
			fmt.Sscan(m[2], &fh)
			fmt.Sscan(scale, &fs)
			if w > fw*fs+2 || h > fh*fs+2 || w+2 < fw*fs && h+2 < fh*fs {
				c.say("it is %d by %d", w, h)
			}
		},
	}
}

// ell710 reports: command without a man page.
func ell710() Rule {
	return Rule{
		Code: "ELL710", Severity: Hint, Title: "command without a man page",
		Why:    "man COMMAND finds nothing, so users have to look elsewhere.",
		Remedy: "install upstream's, or write a short one; help2man makes a first version from --help",
		Wrong:  program("#!/bin/sh\necho high water"),
		Right:  program("#!/bin/sh\necho high water\nEND\ninstall -d \"$DESTDIR/usr/share/man/man1\"\ncat > \"$DESTDIR/usr/share/man/man1/tide.1\" <<'END'\n.TH tide 1\n.SH NAME\ntide \\- print tables of the tides"),
		set: func(c *setCheck) {
			described := c.pages
			for _, p := range c.packages {
				entries, err := p.Layout()
				if c.failed(err) {
					return
				}
				var without []string
				for _, e := range entries {
					if scan.CommandDir(path.Dir(e.Path)) && e.Type == staging.File && !described[path.Base(e.Path)] && !described[strings.TrimSuffix(path.Base(e.Path), path.Ext(e.Path))] && !strings.HasPrefix(e.Path, debugDir) {
						without = append(without, path.Base(e.Path))
					}
				}
				if len(without) > 0 {
					c.of(p, fact.Finding{Message: "no man page for " + several(without)})
				}
			}
		},
	}
}

// ell711 reports: man page without a title.
func ell711() Rule {
	return Rule{
		Code: "ELL711", Severity: Warning, Title: "man page without a title",
		Why:    "Without a title line (.TH or .Dd) man shows the page without a header, or nothing. Usually it is another kind of file, or was only half generated.",
		Remedy: "check how it was generated: often a tool was missing in the build",
		Wrong:  manual("tide.1", "Tide prints tables."),
		Right:  manual("tide.1", ".TH tide 1\n.SH NAME\ntide \\- print tables of the tides"),
		file: func(c *fileCheck) {
			m := c.manual()
			if m == nil {
				return
			}
			text, ok := c.text()
			if !ok {
				return
			}
			if !manualHead.MatchString(text) {
				c.say("it has no title line (.TH or .Dd)")
			}
		},
	}
}

// ell712 reports: man page in another section.
func ell712() Rule {
	return Rule{
		Code: "ELL712", Severity: Warning, Title: "man page in another section",
		Why:    "The page's header names another section than the one where man finds it.",
		Remedy: "make its .TH line and its name agree",
		Wrong:  manual("tide.1", ".TH tide 8\n.SH NAME\ntide \\- print tables of the tides"),
		Right:  manual("tide.1", ".TH tide 1\n.SH NAME\ntide \\- print tables of the tides"),
		file: func(c *fileCheck) {
			m := c.manual()
			if m == nil {
				return
			}
			text, ok := c.text()
			if !ok {
				return
			}
			if th := manualTH.FindStringSubmatch(text); th != nil && !strings.EqualFold(th[1][:1], m[4][:1]) {
				c.say("its title line says section %s", th[1])
			}
		},
	}
}

// ell713 reports: man page redirects to a missing one.
func ell713() Rule {
	return Rule{
		Code: "ELL713", Severity: Error, Title: "man page redirects to a missing one",
		Why:    "man says that the page does not exist.",
		Remedy: "install the page that it points to, or replace it by a link",
		Wrong:  manual("tide.1", ".so man1/tides.1"),
		Right:  manual("tide.1", ".TH tide 1\n.SH NAME\ntide \\- print tables of the tides"),
		file: func(c *fileCheck) {
			if c.manual() == nil || c.Size > 500 {
				return
			}
			text, _ := c.text()
			m := manualSo.FindStringSubmatch(text)
			if m == nil {
				return
			}
			root := path.Dir(path.Dir(c.Path))
			for _, ext := range []string{"", ".gz", ".xz", ".zst"} {
				for _, p := range []string{path.Join(root, m[1]), path.Join(path.Dir(c.Path), m[1]), path.Join("/usr/share/man", m[1])} {
					if c.pkg.there(p + ext) {
						return
					}
				}
			}
			c.say("it points to %s", m[1])
		},
	}
}

// ell714 reports: man page that apropos cannot find.
func ell714() Rule {
	return Rule{
		Code: "ELL714", Severity: Hint, Title: "man page that apropos cannot find",
		Why:    "apropos and whatis read the section NAME, which this page lacks.",
		Remedy: "add: .SH NAME, and below it `command \\- what it does`",
		Wrong:  manual("tide.1", ".TH tide 1\n.SH DESCRIPTION\nPrints tables."),
		Right:  manual("tide.1", ".TH tide 1\n.SH NAME\ntide \\- print tables of the tides"),
		file: func(c *fileCheck) {
			m := c.manual()
			if m == nil || m[1] != "" {
				return
			}
			if text, ok := c.text(); ok && manualTH.MatchString(text) && !manualName.MatchString(text) && !manualSo.MatchString(text) {
				c.say("it has no section NAME")
			}
		},
	}
}

// ell720 reports: completion for a missing command.
func ell720() Rule {
	return Rule{
		Code: "ELL720", Severity: Warning, Title: "completion for a missing command",
		Why:    "The shell loads completions by the name of the command, so this file is never loaded.",
		Remedy: "name the file like the command",
		Wrong:  completions("tides"),
		Right:  completions("tide"),
		pkg: func(c *packageCheck) {
			for _, e := range c.Layout {
				name := completionOf(e.Path)
				if name == "" || e.Type != staging.File || !c.provides("command") {
					continue
				}
				if !c.there("/usr/bin/"+name) && !c.there("/usr/sbin/"+name) && !c.canRun(name) {
					c.path(e.Path, "the package has no command %q", name)
				}
			}
		},
	}
}

// ell730 reports: invalid pkg-config module.
func ell730() Rule {
	return Rule{
		Code: "ELL730", Severity: Error, Title: "invalid pkg-config module",
		Why:    "Every build that asks for it fails, with an error that names this file.",
		Remedy: "correct it: Name, Description and Version are required, and each ${…} must be defined",
		Wrong:  module("prefix=/usr\nName: tide\nVersion: 1.2\nDescription: Tides\nCflags: -I${includedir}"),
		Right:  module(goodModule),
		file: func(c *fileCheck) {
			m, ok := c.module()
			if !ok {
				return
			}
			for _, field := range []string{"Name", "Description", "Version"} {
				if _, ok := m.Fields[strings.ToLower(field)]; !ok {
					c.say("%s is missing", field)
				}
			}
			for _, name := range m.Undefined {
				c.say("${%s} is not defined", name)
			}
		},
	}
}

// ell731 reports: pkg-config module with missing paths.
func ell731() Rule {
	return Rule{
		Code: "ELL731", Severity: Error, Title: "pkg-config module with missing paths",
		Why:    "Builds that use it get flags for directories that do not exist: they find no headers or libraries, or the wrong ones.",
		Remedy: "check which value the build recorded: prefix=/usr is expected, without $DESTDIR",
		Wrong:  module(strings.Replace(goodModule, "prefix=/usr", "prefix=/usr/local", 1)),
		Right:  module(goodModule),
		file: func(c *fileCheck) {
			m, ok := c.module()
			if !ok {
				return
			}
			for _, key := range []string{"prefix", "exec_prefix", "libdir", "includedir"} {
				if v := m.Variables[key]; v != "" && (strings.HasPrefix(v, "/usr/local") || buildMark.MatchString(v+"/") || v == "NONE" || strings.HasPrefix(v, "/tmp/") || strings.HasPrefix(v, "/home/")) {
					c.say("%s is %s", key, v)
				}
			}
			for _, word := range strings.Fields(m.Fields["cflags"]) {
				dir, ok := strings.CutPrefix(word, "-I")
				own := strings.HasPrefix(dir, "/usr/include/") && !c.pkg.under(dir) && !c.pkg.hasInclude()
				if ok && own {
					c.say("Cflags has %s, and no header lies there", word)
				}
			}
		},
	}
}

// ell732 reports: pkg-config module with an older version.
func ell732() Rule {
	return Rule{
		Code: "ELL732", Severity: Warning, Title: "pkg-config module with an older version",
		Why:    "Builds that ask for this version refuse it.",
		Remedy: "check where the build takes the number from",
		Wrong:  module(strings.Replace(goodModule, "Version: 1.2", "Version:", 1)),
		Right:  module(goodModule),
		file: func(c *fileCheck) {
			m, ok := c.module()
			if v, there := m.Fields["version"]; ok && there && (v == "" || strings.Contains(v, "@") || strings.EqualFold(v, "unknown") || v == "0.0.0" && c.pkg.Facts.Version != "0.0.0") {
				c.say("its version is %q", v)
			}
		},
	}
}

// ell733 reports: pkg-config module without its library.
func ell733() Rule {
	return Rule{
		Code: "ELL733", Severity: Warning, Title: "pkg-config module without its library",
		Why:    "The flag names a library that neither the packages of the recipe nor the system provide, so linking with it fails.",
		Remedy: "correct Libs, or install the library",
		Wrong:  module(goodModule + "\nLibs: -ltide"),
		Right:  module(goodModule + "\nLibs: -lm"),
		set: func(c *setCheck) {
			c.eachModule(func(p *ell.Package, at string, m scan.Module) {
				for _, word := range strings.Fields(m.Fields["libs"]) {
					name, ok := strings.CutPrefix(word, "-l")
					if ok && name != "" && !strings.ContainsAny(name, ":$") && !c.linkable(name) {
						c.of(p, fact.Finding{Path: at, Message: fmt.Sprintf("Libs has %s, and nobody here has that library", word)})
					}
				}
			})
		},
	}
}

// ell740 reports: malformed XML.
func ell740() Rule {
	return Rule{
		Code: "ELL740", Severity: Error, Title: "malformed XML",
		Why:    "The program that reads it, such as a software center, a settings service or an image viewer, rejects all of it.",
		Remedy: "correct it, or find out which step writes it",
		Wrong:  stageFile("install -d \"$DESTDIR/usr/share/metainfo\"\necho '<component><id>tide</component>' > \"$DESTDIR/usr/share/metainfo/tide.metainfo.xml\""),
		Right:  stageFile("install -d \"$DESTDIR/usr/share/metainfo\"\necho '<component><id>tide</id></component>' > \"$DESTDIR/usr/share/metainfo/tide.metainfo.xml\""),
		file: func(c *fileCheck) {
			if ext := path.Ext(c.Path); ext != ".xml" && ext != ".svg" && ext != ".policy" && ext != ".conf" || !xmlPath.MatchString(c.Path) {
				return
			}
			text, ok := c.text()
			if !ok {
				return
			}
			if err := balanced(text); err != "" {
				c.say("%s", err)
			}
		},
	}
}

// ell741 reports: metadata without its desktop entry.
func ell741() Rule {
	return Rule{
		Code: "ELL741", Severity: Warning, Title: "metadata without its desktop entry",
		Why:    "Software centers start an application through the entry that it names (AppStream 1.0, launchable).",
		Remedy: "make the two names agree",
		Wrong:  entry(goodEntry + "\nEND\ninstall -d \"$DESTDIR/usr/share/metainfo\"\ncat > \"$DESTDIR/usr/share/metainfo/tide.metainfo.xml\" <<'END'\n<component><id>tide</id><launchable type=\"desktop-id\">tides.desktop</launchable></component>"),
		Right:  entry(goodEntry + "\nEND\ninstall -d \"$DESTDIR/usr/share/metainfo\"\ncat > \"$DESTDIR/usr/share/metainfo/tide.metainfo.xml\" <<'END'\n<component><id>tide</id><launchable type=\"desktop-id\">tide.desktop</launchable></component>"),
		file: func(c *fileCheck) {
			if !strings.HasPrefix(c.Path, "/usr/share/metainfo/") && !strings.HasPrefix(c.Path, "/usr/share/appdata/") {
				return
			}
			text, _ := c.text()
			for _, m := range launchable.FindAllStringSubmatch(text, -1) {
				if !c.pkg.there("/usr/share/applications/" + m[1]) {
					c.say("it names %s", m[1])
				}
			}
		},
	}
}

var (
	launchable = pattern.New(`<launchable\s+type="desktop-id"\s*>\s*([^<\s]+)\s*</launchable>`)
	xmlPath    = pattern.New(`^/usr/share/(metainfo/.*\.xml|appdata/.*\.xml|glib-2\.0/schemas/.*\.xml|mime/packages/.*\.xml|dbus-1/interfaces/.*\.xml|icons/.*\.svg|pixmaps/.*\.svg|polkit-1/actions/.*\.policy)$|^/usr/share/dbus-1/(system|session)\.d/.*\.conf$`)
)

// balanced tells what is wrong with the nesting of XML elements.
func balanced(text string) string {
	d := xml.NewDecoder(strings.NewReader(text))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	d.Entity = xml.HTMLEntity
	d.Strict = true
	for {
		_, err := d.Token()
		if errors.Is(err, io.EOF) {
			return ""
		}
		var syntax *xml.SyntaxError
		if errors.As(err, &syntax) {
			// Entities of a document type of its own are not known here.
			if strings.Contains(syntax.Msg, "entity") || strings.Contains(text, "<!ENTITY") {
				return ""
			}
			return fmt.Sprintf("line %d: %s", syntax.Line, syntax.Msg)
		}
		if err != nil {
			return ""
		}
	}
}

// icon is an example with an icon of 16 by 16 pixels in the directory of a size.
func icon(size string) string {
	return stageFile(`install -d "$DESTDIR/usr/share/icons/hicolor/` + size + `/apps"
printf '\211PNG\r\n\032\n\0\0\0\015IHDR\0\0\0\020\0\0\0\020\010\006\0\0\0' > "$DESTDIR/usr/share/icons/hicolor/` + size + `/apps/tide.png"`)
}

// completions is an example with completions for a command.
func completions(name string) string {
	return program("#!/bin/sh\necho high water\nEND\ninstall -d \"$DESTDIR/usr/share/bash-completion/completions\"\ncat > \"$DESTDIR/usr/share/bash-completion/completions/" + name + "\" <<'END'\ncomplete -W 'high low' " + name)
}

// completionOf is the command whose completions a path holds.
func completionOf(p string) string {
	dir, base := path.Split(p)
	switch dir {
	case "/usr/share/bash-completion/completions/":
		return strings.TrimSuffix(base, ".bash")
	case "/usr/share/fish/vendor_completions.d/":
		return strings.TrimSuffix(base, ".fish")
	}
	return ""
}

// compressed reports whether a manual is compressed.
func (c *fileCheck) compressed() bool {
	return slices.Contains([]string{".gz", ".bz2", ".xz", ".zst", ".lzma"}, path.Ext(c.Path))
}

// firstWord is the command of an Exec line, without quotes.
func firstWord(line string) string {
	if quoted, ok := strings.CutPrefix(line, `"`); ok {
		word, _, _ := strings.Cut(quoted, `"`)
		return word
	}
	words := strings.Fields(line)
	for len(words) > 0 && (words[0] == "env" || strings.Contains(words[0], "=") && !strings.HasPrefix(words[0], "/")) {
		words = words[1:]
	}
	if len(words) == 0 || strings.ContainsAny(words[0], "$%") {
		return ""
	}
	return words[0]
}

// canRun reports whether a command or path is in the package, needed by it, or
// in the system.
func (c *packageCheck) canRun(word string) bool {
	if path.IsAbs(word) {
		if c.there(word) {
			return true
		}
		if !scan.CommandDir(path.Dir(word)) {
			return c.meets(need.File, word)
		}
		word = path.Base(word)
	}
	if c.there("/usr/bin/"+word) || c.there("/usr/sbin/"+word) || c.there("/bin/"+word) || c.there("/sbin/"+word) {
		return true
	}
	for _, n := range c.Facts.Needs {
		// A sibling, or a package that is needed by its name, may provide it.
		if n.Path == "" || strings.Contains(n.Need.String(), " = "+c.Facts.Full().String()) {
			return true
		}
	}
	return c.meets(need.Command, word)
}

// meets reports whether the system, or a package known here, has something.
func (c *packageCheck) meets(kind, name string) bool {
	if c.linter.Meets == nil || c.linter.system(c.Facts.Target) == nil {
		return true // not known
	}
	return c.linter.Meets(need.Of(need.Alternative{Kind: kind, Name: name}))
}

// under reports whether the package has something in a directory.
func (c *packageCheck) under(dir string) bool {
	return slices.ContainsFunc(c.Layout, func(e ell.Entry) bool { return strings.HasPrefix(e.Path, strings.TrimSuffix(dir, "/")+"/") })
}

// hasInclude reports whether headers may come from elsewhere: the package has
// none of its own.
func (c *packageCheck) hasInclude() bool { return !c.under("/usr/include") }

// icon reports whether the package has an icon of a name.
func (c *packageCheck) icon(name string) bool {
	if path.IsAbs(name) {
		return c.there(name)
	}
	return slices.ContainsFunc(c.Layout, func(e ell.Entry) bool {
		if !strings.HasPrefix(e.Path, "/usr/share/icons/") && !strings.HasPrefix(e.Path, "/usr/share/pixmaps/") {
			return false
		}
		base := path.Base(e.Path)
		return base == name || strings.TrimSuffix(base, path.Ext(base)) == name
	})
}

// standardIcon reports whether an icon has a name of the Icon Naming
// Specification, which themes have: words with dashes, from a known context.
func standardIcon(name string) bool {
	first, _, ok := strings.Cut(name, "-")
	return ok && slices.Contains([]string{"accessories", "preferences", "system", "utilities", "application", "applications", "text", "help", "internet", "multimedia", "x", "audio", "video", "image", "folder", "document", "edit", "network", "dialog", "media", "go", "view", "user", "computer", "input", "camera", "drive"}, first)
}

// module reads the file as a pkg-config module; ok is false for all else.
func (c *fileCheck) module() (m scan.Module, ok bool) {
	if path.Ext(c.Path) != ".pc" || path.Base(path.Dir(c.Path)) != "pkgconfig" {
		return m, false
	}
	text, ok := c.text()
	if !ok {
		return m, false
	}
	return scan.ReadModule(text), true
}
