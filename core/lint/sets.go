package lint

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/staging"
)

// setCheck is what rules about all packages of one recipe see.
type setCheck struct {
	collector
	packages []*ell.Package
	linter   *Linter
	ctx      context.Context
	pages    map[string]bool // commands that manuals of all of them are about
	err      error
}

// of reports something about one of the packages.
func (c *setCheck) of(p *ell.Package, f fact.Finding) {
	c.subject = p.Facts.Identity()
	c.add(f)
}

// failed keeps an error, with which the whole look at the packages ends.
func (c *setCheck) failed(err error) bool {
	if c.err == nil {
		c.err = err
	}
	return err != nil
}

// published calls f for each package with what is published of its name, if
// that is an older one.
func (c *setCheck) published(f func(now, before *ell.Package)) {
	if c.linter.Published == nil {
		return
	}
	for _, p := range c.packages {
		before, err := c.linter.Published(c.ctx, p.Facts)
		if c.failed(err) {
			return
		}
		if before != nil {
			f(p, before)
			before.Close()
		}
	}
}

// offers reports whether one of the packages offers something of a kind and name.
func (c *setCheck) offers(kind, name string) bool {
	return slices.ContainsFunc(c.packages, func(p *ell.Package) bool {
		return slices.ContainsFunc(p.Facts.AllProvides(), func(o need.Provide) bool { return o.Kind == kind && o.Name == name })
	})
}

// gone lists what a package offered and no package of the recipe offers now.
func (c *setCheck) gone(before *ell.Package, kinds ...string) []string {
	var out []string
	for _, o := range before.Facts.AllProvides() {
		if slices.Contains(kinds, o.Kind) && !c.offers(o.Kind, o.Name) {
			out = append(out, o.Kind+"/"+o.Name)
		}
	}
	return out
}

// eachModule calls f for each pkg-config module of the packages.
func (c *setCheck) eachModule(f func(p *ell.Package, at string, m scan.Module)) {
	for _, p := range c.packages {
		entries, err := p.Layout()
		if c.failed(err) {
			return
		}
		var modules []ell.Entry
		for _, e := range entries {
			if path.Ext(e.Path) == ".pc" && path.Base(path.Dir(e.Path)) == "pkgconfig" && e.Type == staging.File && e.Size <= maxText && e.Same == "" && e.Copy == "" {
				modules = append(modules, e)
			}
		}
		if len(modules) == 0 {
			continue
		}
		c.failed(p.Contents(c.ctx, modules, func(e ell.Entry, r io.Reader) error {
			text, err := io.ReadAll(r)
			if err == nil {
				f(p, e.Path, scan.ReadModule(string(text)))
			}
			return err
		}))
	}
}

// linkable reports whether -lNAME finds a library in the packages or the system.
func (c *setCheck) linkable(name string) bool {
	for _, p := range c.packages {
		entries, _ := p.Layout()
		for _, e := range entries {
			base := path.Base(e.Path)
			if base == "lib"+name+".so" || base == "lib"+name+".a" {
				return true
			}
		}
	}
	system := c.linter.system(c.packages[0].Facts.Target)
	return system == nil || system.Library(name)
}

// libraries are the shared libraries of a package by soname.
func sonames(p *ell.Package) map[string]string {
	out := map[string]string{}
	for _, o := range p.Facts.Provides {
		if o.Provide.Kind == need.Soname && o.Path != "" {
			out[o.Provide.Name] = o.Path
		}
	}
	return out
}

// exports reads which symbols a library of a package offers.
func (c *setCheck) exports(p *ell.Package, at string) []string {
	entries, err := p.Layout()
	if c.failed(err) {
		return nil
	}
	e, ok := ell.Find(entries, at)
	if ok && e.Type == staging.Symlink {
		e, ok = ell.Find(entries, linkTarget(e))
	}
	if first := e.Same + e.Copy; ok && first != "" {
		e, ok = ell.Find(entries, first)
	}
	if !ok || e.Type != staging.File {
		return nil
	}
	var out []string
	c.failed(p.Contents(c.ctx, []ell.Entry{e}, func(e ell.Entry, r io.Reader) error {
		f, done, err := open(e, r)
		if err != nil {
			return err
		}
		defer done()
		out, _ = scan.Exported(f.at) // an error is a file without symbols
		return nil
	}))
	return out
}

// setRules are about the packages of one recipe together, and about what was
// published before.
func setRules() []Rule {
	return []Rule{
		ell504(),
		ell505(),
		ell506(),
		ell507(),
		ell510(),
		ell511(),
		ell512(),
		ell513(),
		ell514(),
		ell519(),
	}
}

// ell504 reports: dependency excludes a package of the same recipe.
func ell504() Rule {
	return Rule{
		Code: "ELL504", Severity: Error, Title: "dependency excludes a package of the same recipe",
		Why:    "Packages of one recipe are published together; one that wants another version of its sibling can never be installed with it.",
		Remedy: "write {full} for the sibling's version",
		Wrong:  siblings(`needs = ["tide = 1.1-1"]`),
		Right:  siblings(`needs = ["tide = {full}"]`),
		set: func(c *setCheck) {
			c.eachSiblingNeed(func(p *ell.Package, n ell.Need, a need.Alternative, sibling need.Provide) {
				if !a.MetBy(sibling) {
					c.of(p, fact.Finding{Path: n.Path, Message: fmt.Sprintf("it needs %s, and this is %s", n.Need, sibling.Version)})
				}
			})
		},
	}
}

// ell505 reports: dependency that nothing here meets.
func ell505() Rule {
	return Rule{
		Code: "ELL505", Severity: Warning, Title: "dependency that nothing here meets",
		Why:    "Neither the system nor a package that is built or published here has it: nobody can install the package until somebody publishes that.",
		Remedy: "correct its name or bound, or build and publish what meets it first; the list of dependencies shows who has what",
		Wrong:  "[needs]\nrun = [\"harbour-names >= 3\"]",
		Right:  "[needs]\nrun = [\"command/sh\"]",
		set: func(c *setCheck) {
			if c.linter.Meets == nil {
				return
			}
			for _, p := range c.packages {
				if c.linter.system(p.Facts.Target) == nil {
					continue
				}
				for _, n := range p.Facts.Needs {
					if c.linter.Meets(n.Need) || slices.ContainsFunc(c.packages, func(o *ell.Package) bool {
						return slices.ContainsFunc(o.Facts.AllProvides(), n.Need.MetBy)
					}) {
						continue
					}
					c.of(p, fact.Finding{Path: n.Path, Message: "nothing here provides " + n.Need.String()})
				}
			}
		},
	}
}

// ell506 reports: unversioned dependency on a package of the same recipe.
func ell506() Rule {
	return Rule{
		Code: "ELL506", Severity: Hint, Title: "unversioned dependency on a package of the same recipe",
		Why:    "Nobody has tried the one with an older or newer version of the other: they were built together.",
		Remedy: "write NAME = {full}",
		Wrong:  siblings(`needs = ["tide"]`),
		Right:  siblings(`needs = ["tide = {full}"]`),
		set: func(c *setCheck) {
			c.eachSiblingNeed(func(p *ell.Package, n ell.Need, a need.Alternative, sibling need.Provide) {
				exact := slices.ContainsFunc(p.Facts.Needs, func(o ell.Need) bool { return strings.HasPrefix(o.Need.String(), a.Name+" = ") })
				if len(a.Constraints) == 0 && !exact {
					c.of(p, fact.Finding{Message: fmt.Sprintf("it needs %s in any version", n.Need)})
				}
			})
		},
	}
}

// ell507 reports: same path in two packages of a recipe.
func ell507() Rule {
	return Rule{
		Code: "ELL507", Severity: Error, Title: "same path in two packages of a recipe",
		Why:    "They cannot both be installed. Most often one of them is left over from an earlier state of the recipe.",
		Remedy: "remove the package that the recipe does not make any more, or let one of the two have the path",
		Wrong:  staleSibling("sed -i '/tide-extra/,$d' recipes/tide/recipe.toml\nellwand build tide\n"),
		Right:  staleSibling("ellwand build tide\n"),
		set: func(c *setCheck) {
			type owned struct {
				entry ell.Entry
				by    string
			}
			seen := map[string]owned{}
			for _, p := range c.packages {
				entries, err := p.Layout()
				if c.failed(err) {
					return
				}
				for _, e := range entries {
					o, twice := seen[e.Path]
					if !twice {
						seen[e.Path] = owned{e, p.Facts.Name}
						continue
					}
					same := o.entry.Type == staging.Directory && e.Type == staging.Directory && o.entry.Mode == e.Mode && o.entry.Owner == e.Owner && o.entry.Group == e.Group
					if !same {
						c.of(p, fact.Finding{Path: e.Path, Message: fmt.Sprintf("%s has it too, as %s %s %s:%s; here it is %s %s %s:%s", o.by, o.entry.Type, o.entry.Mode, o.entry.Owner, o.entry.Group, e.Type, e.Mode, e.Owner, e.Group)})
					}
				}
			}
		},
	}
}

// ell510 reports: large change in size.
func ell510() Rule {
	return Rule{
		Code: "ELL510", Severity: Warning, Title: "large change in size",
		Why:    "Between two versions that is seldom meant: something was packed that should not be, or was lost.",
		Remedy: "compare the two packages: it shows which directories grew or shrank",
		Wrong:  grown("9000000"),
		Right:  grown("4100000"),
		set: func(c *setCheck) {
			c.published(func(now, before *ell.Package) {
				a, b := before.Facts.Size, now.Facts.Size
				if a-b > 1<<20 && b*2 < a || b-a > 1<<20 && b > a*3/2 {
					c.of(now, fact.Finding{Message: fmt.Sprintf("%.1f MB installed, and %.1f MB in %s", float64(b)/1e6, float64(a)/1e6, before.Facts.Full())})
				}
			})
		},
	}
}

// ell511 reports: removed library.
func ell511() Rule {
	return Rule{
		Code: "ELL511", Severity: Warning, Title: "removed library",
		Why:    "What is linked with it cannot be installed beside the new version, or does not start.",
		Remedy: "rebuild what needs it (the plan lists that), and publish everything together; or keep the old library in a package of its own", next: fact.ShowPlan,
		Wrong: twoLibraries("2", "tide"),
		Right: twoLibraries("1", "tide"),
		set: func(c *setCheck) {
			c.published(func(now, before *ell.Package) {
				if gone := c.gone(before, need.Soname); len(gone) > 0 {
					c.of(now, fact.Finding{Message: fmt.Sprintf("%s of %s: no package of the recipe has it now", several(gone), before.Facts.Full())})
				}
			})
		},
	}
}

// ell512 reports: removed symbols without a new soname.
func ell512() Rule {
	return Rule{
		Code: "ELL512", Severity: Error, Title: "removed symbols without a new soname",
		Why:    "Programs that use them are told that the library fits. They start, and fail at the first call; or not at all.",
		Remedy: "raise the number in the soname, or restore the symbols",
		Wrong:  twoLibraries("1", "ebb"),
		Right:  twoLibraries("1", "tide"),
		set: func(c *setCheck) {
			c.published(func(now, before *ell.Package) {
				after := sonames(now)
				for _, soname := range sortedKeys(sonames(before)) {
					at, stays := after[soname]
					if !stays {
						continue
					}
					is := c.exports(now, at)
					var gone []string
					for _, s := range c.exports(before, sonames(before)[soname]) {
						if _, ok := slices.BinarySearch(is, s); !ok {
							gone = append(gone, s)
						}
					}
					if len(gone) > 0 && len(is) > 0 {
						c.of(now, fact.Finding{Path: at, Message: fmt.Sprintf("%s of %s had %s", soname, before.Facts.Full(), several(gone))})
					}
				}
			})
		},
	}
}

// ell513 reports: removed command or module.
func ell513() Rule {
	return Rule{
		Code: "ELL513", Severity: Warning, Title: "removed command or module",
		Why:    "Scripts and builds that call it stop working at the upgrade.",
		Remedy: "see whether it was lost; if it is meant, say so in the change entry",
		Wrong:  renamedCommand("tides"),
		Right:  renamedCommand("tide"),
		set: func(c *setCheck) {
			c.published(func(now, before *ell.Package) {
				if gone := c.gone(before, need.Command, need.PkgConfig, need.Python, need.Perl); len(gone) > 0 {
					c.of(now, fact.Finding{Message: fmt.Sprintf("%s had %s", before.Facts.Full(), several(gone))})
				}
			})
		},
	}
}

// ell514 reports: removed configuration file.
func ell514() Rule {
	return Rule{
		Code: "ELL514", Severity: Hint, Title: "removed configuration file",
		Why:    "What administrators have set in it has no effect any more, and nobody tells them.",
		Remedy: "say in the change entry where the settings went",
		Wrong:  renamedSettings("tides.conf"),
		Right:  renamedSettings("tide.conf"),
		set: func(c *setCheck) {
			there := map[string]bool{}
			for _, p := range c.packages {
				entries, err := p.Layout()
				if c.failed(err) {
					return
				}
				for _, e := range entries {
					there[e.Path] = true
				}
			}
			c.published(func(now, before *ell.Package) {
				entries, err := before.Layout()
				if c.failed(err) {
					return
				}
				for _, e := range entries {
					if e.Kind == fact.KindConfig && !there[e.Path] {
						c.of(now, fact.Finding{Path: e.Path, Message: "it was in " + before.Facts.Full().String()})
					}
				}
			})
		},
	}
}

// ell519 reports: epoch raised for nothing.
func ell519() Rule {
	return Rule{
		Code: "ELL519", Severity: Warning, Title: "epoch raised for nothing",
		Why:    "An epoch outranks every version and can never be taken back. It is for versions that have to start over, and these go on.",
		Remedy: "leave the epoch as it was",
		Wrong:  "epoch = 1\nversion = \"1.3\"\n" + changes("1:1.3-1") + publishedBefore(""),
		Right:  "version = \"1.3\"\n" + changes("1.3-1") + publishedBefore(""),
		set: func(c *setCheck) {
			c.published(func(now, before *ell.Package) {
				if now.Facts.Epoch > before.Facts.Epoch && version.Compare(before.Facts.Version, now.Facts.Version) < 0 {
					c.of(now, fact.Finding{Message: fmt.Sprintf("%s is newer than %s without it", now.Facts.Version, before.Facts.Version)})
				}
			})
		},
	}
}

// eachSiblingNeed calls f for each need of a package for another one of the
// recipe, by its name.
func (c *setCheck) eachSiblingNeed(f func(p *ell.Package, n ell.Need, a need.Alternative, sibling need.Provide)) {
	for _, p := range c.packages {
		for _, n := range p.Facts.Needs {
			if len(n.Need.Alternatives) != 1 || n.Need.Alternatives[0].Kind != need.Package {
				continue
			}
			alternative := n.Need.Alternatives[0]
			for _, o := range c.packages {
				if o != p && o.Facts.Name == alternative.Name {
					f(p, n, alternative, need.Provide{Kind: need.Package, Name: o.Facts.Name, Version: o.Facts.Full().String()})
				}
			}
		}
	}
}

// siblings is an example with two packages, of which one has a line.
func siblings(line string) string {
	return stageFile(`echo Ely > "$DESTDIR/usr/share/tide/harbours"; install -d "$DESTDIR/usr/share/tide-extra"; echo Aln > "$DESTDIR/usr/share/tide-extra/harbours"`) + `
[package.tide.layout]
"/usr/share/licenses/tide/COPYING" = { from = "COPYING" }
"/**" = {}
[package.tide-extra]
summary = "More harbours for tide"
` + line + `
[package.tide-extra.layout]
"/usr/share/tide-extra/**" = {}`
}

// staleSibling is an example with two packages of which one is not in the
// recipe any more, after commands.
func staleSibling(then string) string {
	return stageFile(`echo Ely > "$DESTDIR/usr/share/tide/harbours"; echo 3.14 > "$DESTDIR/usr/share/tide/table"`) + `
[package.tide.layout]
"/usr/share/licenses/tide/COPYING" = { from = "COPYING" }
"/**" = {}
[package.tide-extra]
summary = "More harbours for tide"
[package.tide-extra.layout]
"/usr/share/tide/table" = {}
-- then --
` + then
}

// publishedBefore is the part of an example that is published first.
func publishedBefore(fragment string) string { return "\n-- published --\n" + fragment }

// changes is a change entry for a version.
func changes(full string) string {
	return "[[change]]\nversion = \"" + full + "\"\ndate    = 2031-04-02\nby      = \"Ines Quarrell\"\ntext    = [\"Tables for three more harbours\"]\n"
}

// next begins an example of the version after the published one.
const next = "version = \"1.3\"\n"

// grown is an example with as much data, after one with four million bytes.
func grown(bytes string) string {
	data := func(n string) string {
		return stageFile("head -c "+n+" /dev/zero > \"$DESTDIR/usr/share/tide/table\"") + "\n"
	}
	return next + data(bytes) + changes("1.3-1") + publishedBefore(data("4000000"))
}

// twoLibraries is an example with a library, after one with another.
func twoLibraries(number, function string) string {
	lib := func(number, function string) string {
		return strings.TrimPrefix(cFile("/usr/lib/libtide.so."+number, "int "+function+"(void) { return 0; }\nint moon(void) { return 0; }", "-shared -fPIC -Wl,-soname,libtide.so."+number), forMachine) + "\n"
	}
	return forMachine + next + lib(number, function) + changes("1.3-1") + publishedBefore(forMachine+lib("1", "tide"))
}

// renamedCommand is an example with a command, after one that is called tide.
func renamedCommand(name string) string {
	command := func(name string) string {
		return strings.ReplaceAll(program("#!/bin/sh\necho high water"), "/usr/bin/tide\"", "/usr/bin/"+name+"\"") + "\n"
	}
	return next + command(name) + changes("1.3-1") + publishedBefore(command("tide"))
}

// renamedSettings is an example with a configuration file, after one that is called
// tide.conf.
func renamedSettings(name string) string {
	settings := func(name string) string {
		return withLayout(`install -d "$DESTDIR/etc"; echo a > "$DESTDIR/etc/`+name+`"`, `"/etc/*.conf" = { kind = "config" }`) + "\n"
	}
	return next + settings(name) + changes("1.3-1") + publishedBefore(settings("tide.conf"))
}
