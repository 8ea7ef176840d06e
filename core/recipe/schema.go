package recipe

import (
	"maps"
	"slices"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe/document"
)

// descriptions say what each key is for, as editors show it. Items of arrays
// and values of tables are not in the path: source.url, package.layout.kind.
var descriptions = map[string]string{
	"format":      "The number of the recipe format: 1",
	"name":        "The name of the recipe and its directory: lower-case letters, digits and + - . _",
	"version":     "The upstream version: letters, digits and . + ~ _; ~ sorts before the end",
	"release":     "Counts builds of one version, from 1",
	"epoch":       "Compared before the version, for when upstream starts its versions anew; 0 if omitted",
	"arch":        "\"independent\" for packages without machine code; the target's if omitted",
	"summary":     "What it does, in one line",
	"description": "Longer text, in paragraphs",
	"license":     "An SPDX expression, such as \"MIT\" or \"GPL-3.0-or-later\"",
	"homepage":    "A web address",
	"maintainer":  "Name <address>",
	"category":    "A word that groups packages",
	"discard":     "Staged paths, or patterns, that no package contains",
	"debug":       "false leaves debug information in the programs instead of moving it into NAME-symbols",

	"compression": "How hard to compress packages: fast, normal, small or smallest; the workspace's if omitted",

	"let":              "Values of your own: {key} in a string is replaced with the value",
	"option":           "Options of the build, which --set changes",
	"option.summary":   "What the option does",
	"option.default":   "Its default value: true, false or a string",
	"option.choices":   "The strings it accepts",
	"upstream":         "Where new versions are announced, if not where the sources are from",
	"upstream.page":    "A page with links to the versions",
	"upstream.git":     "A git repository with a tag for each version",
	"upstream.package": "A package URL: pkg:golang/… or pkg:npm/…",
	"upstream.match":   "The tag or the file name of a version, such as \"release-{version}\"",
	"source":           "Sources: archives, git repositories and files beside the recipe",
	"source.url":       "The https://, http:// or file:// URL of an archive or a file",
	"source.file":      "A file beside the recipe",
	"source.sha256":    "The SHA-256 digest of the file",
	"source.git":       "The address of a git repository",
	"source.tag":       "The tag to use; pinning adds the commit",
	"source.modules":   "Modules of a language: go, npm, cargo, python, maven, ruby, perl, or script",
	"source.run":       "For script: a shell script that downloads them",
	"source.keep":      "For script: the paths in the work tree that hold what was downloaded",
	"source.commit":    "The full name of the commit, in hexadecimal",
	"trial":            "How an installed package is tried",
	"trial.run":        "A shell script that fails if the package does not work",
	"trial.commands":   "The arguments that a command is called with, in place of --version",
	"trial.skip":       "Commands that are not called, such as daemons",
	"source.into":      "The directory in the work tree to unpack into",
	"source.if":        "A condition; if it is false, the source is not used",
	"source.skip":      "Patterns of paths in the archive that are not unpacked",
	"patch":            "Patches, applied in order after all sources are unpacked",
	"patch.file":       "A patch beside the recipe, a unified diff",
	"patch.into":       "The directory in the work tree to apply it in",
	"patch.if":         "A condition, such as option.tls",
	"needs":            "Dependencies: kind/name, with bounds on the version",
	"needs.build":      "Dependencies of the build, such as \"command/cc\" or \"pkgconfig/zlib >= 1.2\"",
	"needs.test":       "Dependencies of the tests",
	"needs.run":        "Run-time dependencies; the libraries that programs link to are found on their own",
	"needs.when":       "Dependencies under a condition",
	"needs.when.if":    "A condition, such as option.tls",
	"needs.when.build": "Dependencies of the build if the condition is true",
	"needs.when.test":  "Dependencies of the tests if the condition is true",
	"needs.when.run":   "Run-time dependencies if the condition is true",
	"steps":            "Shell scripts, run with sh -eu in the work tree",
	"steps.method":     "The method that provides the steps not written here",
	"steps.configure":  "Arguments for the method's configure command",
	"steps.allow":      "Further system calls that the steps may make",
	"steps.copy":       "For method copy: a path in the work tree, and its destination",
	"steps.prepare":    "Prepares the source, such as ./configure",
	"steps.build":      "Builds it",
	"steps.test":       "Tests it",
	"steps.stage":      "Installs it into $DESTDIR",
	"rewrite":          "Replaces text in files after a step",
	"rewrite.after":    "The step: unpack, prepare, build, test or stage",
	"rewrite.path":     "A path or pattern in the work tree; after stage, among the staged files",
	"rewrite.find":     "The literal text",
	"rewrite.regexp":   "Or a regular expression (RE2)",
	"rewrite.replace":  "The replacement",
	"rewrite.times":    "How often it must be found; at least once if omitted",
	"rewrite.if":       "A condition, such as option.tls",

	"package":                     "The packages of the recipe; if omitted, one package with everything",
	"package.if":                  "A condition; if it is false, the package is not built",
	"package.layout.if":           "A condition; if it is false, the line is ignored",
	"package.account.if":          "A condition; if it is false, the account is not created",
	"package.script.if":           "A condition; if it is false, the package has none of the scripts",
	"package.summary":             "The recipe's if omitted",
	"package.description":         "The recipe's if omitted",
	"package.category":            "The recipe's if omitted",
	"package.arch":                "\"independent\", or omitted",
	"package.needs":               "Run-time dependencies",
	"package.provides":            "What it provides besides what is found in its files",
	"package.conflicts":           "What cannot be installed together with it",
	"package.replaces":            "Packages that it replaces; it may contain their paths",
	"package.suggests":            "Optional dependencies",
	"package.layout":              "The staged paths it contains: a path or pattern, and its properties",
	"package.layout.kind":         "config, documentation, license, state, cache or translation",
	"package.layout.mode":         "Octal digits, such as \"0640\"",
	"package.layout.owner":        "The name of an account",
	"package.layout.group":        "The name of a group",
	"package.layout.replace":      "true if the file beside the recipe takes the place of a staged one",
	"package.layout.from":         "A file beside the recipe to install at the path",
	"package.layout.capabilities": "File capabilities of a program, such as \"net_bind_service\"",
	"package.layout.choice":       "A link that several packages offer a path for; the root leads it to one of them",
	"package.layout.priority":     "With choice: the package with the highest is chosen",
	"package.refresh":             "Scripts that run once after a change of paths that they read",
	"package.refresh.if":          "A condition; if it is false, the package has no such script",
	"package.refresh.paths":       "Patterns of installed paths, of this package or others",
	"package.refresh.run":         "A shell script",
	"package.account":             "System accounts to create",
	"package.account.home":        "The account's home directory",
	"package.account.summary":     "What the account is for",
	"package.script":              "Shell scripts that run when it is installed or removed",
	"package.script.pre-install":  "Runs before its files are installed",
	"package.script.post-install": "Runs after its files are installed",
	"package.script.pre-remove":   "Runs before its files are removed",
	"package.script.post-remove":  "Runs after its files are removed",

	"waive":          "Lint findings that are accepted",
	"waive.code":     "The rule's code, such as \"ELL202\"",
	"waive.path":     "The path or pattern it applies to; everything if omitted",
	"waive.reason":   "Why it is accepted",
	"change":         "The history of the package, newest first",
	"change.version": "Version and release, such as \"2.4.1-3\"",
	"change.date":    "The date; the newest one is the time of every file in the package",
	"change.by":      "Name <address>",
	"change.text":    "What changed, one string for each point",
}

// Schema returns a JSON Schema (draft 2020-12) of recipes, for editors.
func Schema() ([]byte, error) {
	text := document.SchemaText{
		Title: "Ellwand recipe, format 1", Descriptions: descriptions,
		Words: map[string][]string{
			"steps.method": methodNames(), "rewrite.after": StepNames[:len(StepNames)-1], "package.layout.kind": fact.Kinds, "compression": fact.Compressions,
			"package.layout.capabilities": fact.Capabilities, "arch": {fact.Independent}, "package.arch": {fact.Independent},
		},
	}
	for _, f := range required {
		text.Required = append(text.Required, f.key)
	}
	return document.Schema(&Recipe{}, text)
}

func methodNames() []string {
	var names []string
	for name := range methods {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Keys lists every key of a recipe, with dots between those of tables. Numbers
// in arrays and the names that a recipe gives are not in them.
func Keys() []string { return slices.Sorted(maps.Keys(descriptions)) }
