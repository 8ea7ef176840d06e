package lint

import (
	"fmt"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
)

// repositoryRules are about channels and files of repositories: what the gate
// of a publish, an audit and a verification find.
func repositoryRules() []Rule {
	return []Rule{
		ell601(),
		ell602(),
		ell603(),
		ell604(),
		ell605(),
		ell606(),
		ell607(),
		ell608(),
		ell609(),
		ell610(),
	}
}

// ell601 reports: unmet dependency.
func ell601() Rule {
	return Rule{
		Code: "ELL601", Severity: Error, Title: "unmet dependency",
		Why:    "Nobody can install the package or upgrade to it: neither the channel nor the system provides what it needs.",
		Remedy: "publish what it needs together with it; if a library has a new soname, rebuild what uses it and publish everything in one step",
		Wrong: needing("harbours >= 3") + `-- then --
ellwand publish --all
ellwand publish --all --allow ELL601:tide --reason "it comes tomorrow"
`,
		Right: needing("command/sh") + publishAll,
	}
}

// ell602 reports: file conflict.
func ell602() Rule {
	return Rule{
		Code: "ELL602", Severity: Error, Title: "file conflict",
		Why:    "If both are installed, chance decides which of the two files is on disk.",
		Remedy: "move the file into one of them, or declare that they are never installed together: `conflicts`, or `replaces` if one takes the place of the other",
		Wrong: alsoEbb(`install -Dm644 /dev/null "$DESTDIR/usr/share/tide/table"`) + `-- then --
ellwand publish packages/*/ebb@*.ell
ellwand publish packages/*/tide@*.ell --allow ELL602:tide --reason "ebb is to go"
`,
		Right: alsoEbb(`install -Dm644 /dev/null "$DESTDIR/usr/share/ebb/table"`) + publishAll,
	}
}

// ell603 reports: version downgrade.
func ell603() Rule {
	return Rule{
		Code: "ELL603", Severity: Error, Title: "version downgrade",
		Why:    "Machines with the newer version do not go back, so they never get what is published now.",
		Remedy: "increase the version or release; an `epoch` overrides versions that were a mistake; rewind restores a whole channel",
		Wrong: `version = "1.1"
` + changes("1.1-1") + `-- published --
-- then --
ellwand publish packages/*/tide@1.1-1.ell
`,
		Right: `version = "1.3"
` + changes("1.3-1") + `-- published --
-- then --
ellwand publish packages/*/tide@1.3-1.ell
`,
	}
}

// ell604 reports: package that cannot be installed.
func ell604() Rule {
	return Rule{
		Code: "ELL604", Severity: Error, Title: "package that cannot be installed",
		Why:    "No set of packages contains it, meets every dependency and has no conflict.",
		Remedy: "fix what the proof names: publish what is missing, or relax the bound or the conflict",
		Wrong:  needing("ebb", "flood") + "-- other ebb --\n[package.ebb]\nconflicts = [\"flood\"]\n-- other flood --\n" + publishAll,
		Right:  needing("ebb", "flood") + "-- other ebb --\n-- other flood --\n" + publishAll,
	}
}

// ell605 reports: dependency cycle.
func ell605() Rule {
	return Rule{
		Code: "ELL605", Severity: Hint, Title: "dependency cycle",
		Why:    "They can only be installed and removed together, and none is ever first, so their install scripts cannot rely on each other.",
		Remedy: "put what they share into a separate package, or turn one dependency into a suggestion",
		Wrong:  needing("ebb") + "-- other ebb --\n" + needing("tide") + publishAll,
		Right:  needing("ebb") + "-- other ebb --\n" + publishAll,
	}
}

// ell606 reports: unused library.
func ell606() Rule {
	return Rule{
		Code: "ELL606", Severity: Hint, Title: "unused library",
		Why:    "It may be left over from something that was removed, or used by programs that are not packaged.",
		Remedy: "retire it, unless people use it directly",
		Wrong:  cFile("/usr/lib/libtide.so.1", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so.1") + "\n" + publishAll,
		Right:  cFile("/usr/lib/libtide.so.1", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so.1") + "\n-- other ebb --\n" + needing("soname/libtide.so.1") + publishAll,
	}
}

// ell607 reports: missing package file.
func ell607() Rule {
	return Rule{
		Code: "ELL607", Severity: Error, Title: "missing package file",
		Why:    "The index names it, so an installation of it fails halfway.",
		Remedy: "restore the file from a copy, or retire the package from the channel",
		Wrong:  publishThen("find repository/packages -name 'tide@*.ell' -delete"),
		Right:  publishThen("true"),
	}
}

// ell608 reports: changed package file.
func ell608() Rule {
	return Rule{
		Code: "ELL608", Severity: Error, Title: "changed package file",
		Why:    "It was damaged or replaced. Clients that check the index refuse it; others get something that nobody published.",
		Remedy: "restore the file from a copy, and find out how it was changed",
		Wrong:  publishThen("for f in $(find repository/packages -name '*.ell'); do printf x | dd of=$f bs=1 seek=200 conv=notrunc; done"),
		Right:  publishThen("true"),
	}
}

// ell609 reports: damaged index file.
func ell609() Rule {
	return Rule{
		Code: "ELL609", Severity: Error, Title: "damaged index file",
		Why:    "Readers compare each file with its digest and stop: nobody can list or install what it contains.",
		Remedy: "restore it from a copy, or make the index again from the packages", next: fact.MakeIndex,
		Wrong: publishThen("for f in repository/files/*; do printf x | dd of=$f bs=1 seek=20 conv=notrunc; done"),
		Right: publishThen("true"),
	}
}

// ell610 reports: unused repository file.
func ell610() Rule {
	return Rule{
		Code: "ELL610", Severity: Hint, Title: "unused repository file",
		Why:    "An interrupted publish leaves such files, and so does a snapshot that was pruned elsewhere. They are harmless and take space.",
		Remedy: "prune the repository", next: fact.Prune,
		Wrong: publishThen("cp repository/files/*.zst repository/files/" + strings.Repeat("0", 64) + ".jsonl.zst"),
		Right: publishThen("true"),
	}
}

const publishAll = "-- then --\nellwand publish --all\n"

func publishThen(command string) string {
	return "summary = \"Print tables of the tides\"\n" + publishAll + command + "\n"
}

// needing is an example with needs at run time.
func needing(needs ...string) string {
	return fmt.Sprintf("[needs]\nrun = [%s]\n", `"`+strings.Join(needs, `", "`)+`"`)
}

// alsoEbb is an example with a second recipe that installs something.
func alsoEbb(script string) string {
	return "[steps]\nstage = 'install -Dm644 /dev/null \"$DESTDIR/usr/share/tide/table\"'\n-- other ebb --\n[steps]\nstage = '" + script + "'\n"
}

// Repository completes the findings of a repository's audit and verification with
// the severities and remedies of their rules, and drops those that the profile
// turns off. The place of the repository is their subject.
func (l *Linter) Repository(place string, findings []fact.Finding) []fact.Finding {
	c := collector{subject: place}
	for _, f := range findings {
		if rule, ok := Find(f.Code); ok && l.Profile.has(f.Code) {
			c.rule = rule
			c.add(f)
		}
	}
	return l.finish(c.findings, &recipe.Recipe{})
}
