package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/staging"
)

// addVerdicts says what the differences mean to those who have the first package
// and are to get the second.
func (c *Comparison) addVerdicts(left, right *side) {
	c.Verdicts = []Verdict{}
	if left.p.Facts.Name != right.p.Facts.Name {
		return // two things side by side: neither comes after the other
	}
	c.checkVersions(left.p.Facts, right.p.Facts)
	c.checkLibraries()
	c.checkProvides()
	c.checkNeeds()
	c.checkFiles(left, right)
	c.checkSize()
	order := []Weight{Breaks, Look, Note}
	slices.SortStableFunc(c.Verdicts, func(a, b Verdict) int {
		return cmp.Compare(slices.Index(order, a.Weight), slices.Index(order, b.Weight))
	})
}

func (c *Comparison) say(w Weight, path, remedy, format string, args ...any) {
	c.Verdicts = append(c.Verdicts, Verdict{w, path, fmt.Sprintf(format, args...), remedy})
}

func (c *Comparison) checkVersions(a, b ell.Facts) {
	if a.Arch != b.Arch {
		c.say(Note, "", "", "they are for different architectures: %s and %s", a.Arch, b.Arch)
	}
	switch d := b.Full().Compare(a.Full()); {
	case d < 0:
		c.say(Look, "", "increase the epoch if it is the newer one", "%s sorts before %s: machines that have the other keep it", b.Full(), a.Full())
	case d == 0 && a.Arch == b.Arch && (len(c.Files) > 0 || len(c.Facts) > 0):
		c.say(Look, "", fmt.Sprintf("increase the release: release = %d", b.Release+1), "they differ but have the same version and release: machines that have the first do not get the second")
	}
	if a.License != b.License {
		c.say(Look, "", "read the license texts of both", "the license changed from %s to %s", a.License, b.License)
	}
}

// some names the first of a list, and how many more there are.
func some(names []string) string {
	const most = 3
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func (c *Comparison) checkLibraries() {
	for _, l := range c.Libraries {
		switch {
		case l.Before == l.After && len(l.Gone) > 0:
			c.say(Breaks, l.Path, "change the soname, or restore the symbols",
				"%s of %s %s gone (%s), and its soname is the same: programs that use what is gone fail on machines that get this",
				count(len(l.Gone), "symbol", "symbols"), l.After, verb(len(l.Gone)), some(l.Gone))
		case l.Before != "" && l.After != "" && l.Before != l.After:
			why := ""
			if len(l.Gone) == 0 {
				why = "; no symbol is gone, so it need not have changed its soname"
			}
			c.say(Breaks, l.Path, "rebuild what needs soname/"+l.Before, "the soname changed from %s to %s: what is linked with it must be rebuilt%s", l.Before, l.After, why)
		case l.After == "":
			c.say(Breaks, l.Path, "rebuild what needs soname/"+l.Before, "the library %s is gone", l.Before)
		}
		if l.Before == l.After && len(l.Added) > 0 {
			c.say(Note, l.Path, "", "%s has %s (%s): programs built with it may not run with the previous version", l.After, count(len(l.Added), "new symbol", "new symbols"), some(l.Added))
		}
	}
}

func verb(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// checkProvides looks at what others may count on. Sonames are told of with
// their libraries.
func (c *Comparison) checkProvides() {
	for _, p := range c.Provides {
		kind, _, _ := strings.Cut(p.What, "/")
		switch {
		case kind == need.Soname && slices.ContainsFunc(c.Libraries, func(l Library) bool { return p.What == need.Soname+"/"+l.Before || p.What == need.Soname+"/"+l.After }):
		case p.After == "":
			c.say(Breaks, "", "find out what needs it before you publish this", "it no longer provides %s", p.What)
		}
	}
}

func (c *Comparison) checkNeeds() {
	for _, n := range c.Needs {
		switch {
		case n.Before == "":
			c.say(Note, "", "", "it needs %s now", n.What)
		case n.After == "":
			c.say(Note, "", "", "it no longer needs %s", n.What)
		case strings.HasPrefix(n.What, need.Soname+"/"):
			// Fewer or older ones are no reason to look.
			if before, after := newest(n.Before), newest(n.After); newest(n.Before+", "+n.After) != before {
				c.say(Look, "", "make sure that the oldest supported system has it", "it needs %s of %s; before, it needed %s", after, n.What, before)
			}
		}
	}
}

func newest(list string) string {
	return cmp.Or(strings.Join(scan.Newest(strings.Split(list, ", ")), ", "), "none")
}

func (c *Comparison) checkFiles(left, right *side) {
	for _, f := range c.Files {
		before, after := left.byPath[cmp.Or(f.From, f.Path)], right.byPath[f.Path]
		if f.Contents && after.Kind == fact.KindConfig {
			c.say(Look, f.Path, "mention it in the change entry", "the default of this configuration file changed: an edited copy is kept, and the new default is placed beside it")
		}
		if f.Contents && after.Kind == fact.KindLicense {
			c.say(Look, f.Path, "read what changed, and check the recipe's license", "the license text changed")
		}
		switch {
		case f.State == Gone && before.Kind == fact.KindConfig:
			c.say(Look, f.Path, "say in the change entry where the configuration is now", "this configuration file is gone: edits in it no longer have any effect")
			continue
		case f.State == Gone || f.State == Added && after.Type != staging.File:
			continue
		}
		c.checkMode(f, before, after)
		c.checkProgram(f.Path, left.looked[before.SHA256].elf, right.looked[after.SHA256].elf)
	}
}

func (c *Comparison) checkMode(f FileChange, before, after ell.Entry) {
	was, is := fact.ModeBits(fact.ParseMode(before.Mode)), fact.ModeBits(fact.ParseMode(after.Mode))
	for bit, name := range map[int64]string{0o4000: "setuid", 0o2000: "setgid"} {
		switch {
		case after.Type != staging.File:
		case is&bit != 0 && was&bit == 0:
			c.say(Look, f.Path, "check that this is necessary and safe", "the program now runs with the privileges of %s:%s (%s)", after.Owner, after.Group, name)
		case was&bit != 0 && is&bit == 0:
			c.say(Breaks, f.Path, fmt.Sprintf("if it still needs them: mode = %q in its layout line", before.Mode), "the program lost its %s bit: it now runs with its caller's privileges only", name)
		}
	}
	if x, y := xattrs(before), xattrs(after); x != y && strings.Contains(x+y, "may ") {
		c.say(Look, f.Path, "", "the capabilities of the program changed: %q before, %q now", x, y)
	}
	if is&0o002 != 0 && was&0o002 == 0 && after.Type != staging.Symlink && is&0o1000 == 0 {
		c.say(Look, f.Path, "remove write permission for others", "it is now writable by everybody on the machine (mode %s)", after.Mode)
	}
	if was&0o111 != 0 && is&0o111 == 0 && after.Type == staging.File && before.Type == staging.File {
		c.say(Breaks, f.Path, "", "it is no longer executable: mode %s, was %s", after.Mode, before.Mode)
	}
}

// checkProgram compares how two builds of a program are hardened.
func (c *Comparison) checkProgram(path string, a, b *scan.ELF) {
	if a == nil || b == nil {
		return
	}
	const remedy = "compare the compiler's and the linker's flags"
	lost := func(was, is bool, what string) {
		if was && !is {
			c.say(Look, path, remedy, "%s", what)
		}
	}
	lost(a.FullRelro, b.FullRelro, "its table of functions can be written to while it runs, and could not before")
	lost(a.Type == scan.PIE, b.Type == scan.PIE, "it is loaded at a fixed address, and was not before")
	lost(!a.ExecStack, !b.ExecStack, "its stack can be executed, and could not before")
	lost(!a.TextRel, !b.TextRel, "its code is changed when it is loaded, and was not before")
	lost(len(a.Runpath) == 0, len(b.Runpath) == 0, "it looks for libraries in "+strings.Join(b.Runpath, ":")+" now")
	if a.Arch != b.Arch {
		c.say(Look, path, "", "it is for %s now; it was for %s", b.Arch, a.Arch)
	}
}

// checkSize reports growth that is more than a new version usually brings.
func (c *Comparison) checkSize() {
	const least = 1 << 20
	before, after := c.Installed[0], c.Installed[1]
	if after-before > least && after > before+before/4 {
		c.say(Look, "", "compare the sizes of its directories", "its installed size grew by %d %%", (after-before)*100/max(before, 1))
	}
}
