package recipe

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe/document"
)

// descriptions say what each key is for, as editors show it. Items of arrays
// and values of tables are not in the path: source.url, package.layout.kind.
var descriptions = map[string]string{
	"format":      "The number of the recipe format: 1",
	"name":        "The recipe's name, and its directory's: " + "small letters, digits and + - . _",
	"version":     "The upstream version: letters, digits and . + ~ _; ~ sorts before the end",
	"release":     "Counts builds of one version, from 1",
	"epoch":       "Outranks the version, once versions have to start over; left out, 0",
	"arch":        "\"any\" for packages that suit every machine; left out, the target's",
	"summary":     "One line that says what it does",
	"description": "Longer text, in paragraphs",
	"license":     "An SPDX expression, such as \"MIT\" or \"GPL-3.0-or-later\"",
	"homepage":    "A web address",
	"maintainer":  "Name <address>",
	"category":    "A word to group packages by",
	"discard":     "Staged paths, or patterns of them, that go into no package",
	"debug":       "false leaves debug information in the programs; otherwise it goes into NAME-symbols",

	"compression": "How much time goes into making the packages small: fast, normal, small or smallest; left out, the workspace's",

	"let":              "Your own values: {key} is replaced by them in strings",
	"option":           "Choices that whoever builds the recipe can make with --set",
	"option.summary":   "What the option does",
	"option.default":   "Its value when nobody says otherwise: true, false or a string",
	"option.choices":   "The strings that it can be",
	"source":           "Inputs: archives, and files beside the recipe",
	"source.url":       "https://, http:// or file:// address of an archive or a file",
	"source.file":      "A file beside the recipe",
	"source.sha256":    "The file's digest",
	"source.git":       "The address of a git repository",
	"source.tag":       "The tag to use; pinning adds its commit",
	"source.commit":    "The full name of the commit, in hexadecimal",
	"trial":            "How a package is tried once it is installed",
	"trial.run":        "A shell script that fails where the package does not work",
	"source.into":      "A directory in the work tree to unpack to",
	"source.skip":      "Patterns of paths in the archive that are not unpacked",
	"patch":            "Changes to the sources, applied in order once all are unpacked",
	"patch.file":       "A patch beside the recipe, in the unified format",
	"patch.into":       "The directory in the work tree that its paths start from",
	"patch.if":         "A condition, such as option.tls",
	"needs":            "What must be there, as kind/name with bounds on the version",
	"needs.build":      "To build, such as \"command/cc\" or \"pkgconfig/zlib >= 1.2\"",
	"needs.test":       "To test",
	"needs.run":        "To run; what programs link to is found without saying so",
	"needs.when":       "Needs under a condition",
	"needs.when.if":    "A condition, such as option.tls",
	"needs.when.build": "To build, where the condition holds",
	"needs.when.test":  "To test, where the condition holds",
	"needs.when.run":   "To run, where the condition holds",
	"steps":            "Shell scripts, run with sh -eu in the work tree",
	"steps.method":     "Fills in the steps that are not written",
	"steps.configure":  "Arguments that the method passes on",
	"steps.allow":      "System calls that the steps may make beyond the usual ones",
	"steps.copy":       "Of method copy: a path in the work tree, and where it goes",
	"steps.prepare":    "Gets the source ready, such as ./configure",
	"steps.build":      "Builds it",
	"steps.test":       "Tests it",
	"steps.stage":      "Installs it into $DESTDIR",
	"rewrite":          "Text that is replaced in files after a step",
	"rewrite.after":    "The step: unpack, prepare, build, test or stage",
	"rewrite.path":     "A path or pattern in the work tree; after stage, of staged files",
	"rewrite.find":     "The literal text",
	"rewrite.regexp":   "Or a regular expression (RE2)",
	"rewrite.replace":  "The replacement",
	"rewrite.times":    "How often it must be found; left out, at least once",
	"rewrite.if":       "A condition, such as option.tls",

	"package":                     "The packages that the recipe makes; without any, one of everything",
	"package.if":                  "A condition: without it, the package is not made",
	"package.layout.if":           "A condition: without it, the line is not there",
	"package.account.if":          "A condition: without it, the account is not there",
	"package.script.if":           "A condition: without it, none of the scripts is there",
	"package.summary":             "The recipe's, where it is left out",
	"package.description":         "The recipe's, where it is left out",
	"package.category":            "The recipe's, where it is left out",
	"package.arch":                "\"any\", or left out",
	"package.needs":               "What it needs to run",
	"package.provides":            "What it offers beyond what is found in its files",
	"package.conflicts":           "What cannot be in one root with it",
	"package.replaces":            "Packages whose place it takes; it may have paths of theirs",
	"package.suggests":            "What it is better with, and can do without",
	"package.layout":              "Which staged paths belong to it: a path or pattern, and what it is",
	"package.layout.kind":         "config, documentation, license, state, cache or translation",
	"package.layout.mode":         "Octal digits, such as \"0640\"",
	"package.layout.owner":        "The name of an account",
	"package.layout.group":        "The name of a group",
	"package.layout.from":         "A file beside the recipe that comes to stand there",
	"package.layout.capabilities": "What a program may do that else only root may, such as \"net_bind_service\"",
	"package.account":             "System accounts that it needs",
	"package.account.home":        "The account's home directory",
	"package.account.summary":     "What the account is for",
	"package.script":              "Shell scripts that run when it is installed or removed",
	"package.script.pre-install":  "Runs before its files are installed",
	"package.script.post-install": "Runs once its files are there",
	"package.script.pre-remove":   "Runs before its files go",
	"package.script.post-remove":  "Runs once its files are gone",

	"waive":          "Lint findings that are accepted on purpose",
	"waive.code":     "The rule's code, such as \"ELL202\"",
	"waive.path":     "The path or pattern that it is for; left out, all",
	"waive.reason":   "The reason",
	"change":         "What is new, the newest first",
	"change.version": "Version and release, such as \"2.4.1-3\"",
	"change.date":    "The day; the newest is the time of every file in the package",
	"change.by":      "Name <address>",
	"change.text":    "What is new, a point each",
}

// Schema returns a JSON Schema (draft 2020-12) of recipes, made from the types
// that they are read into, for editors.
func Schema() ([]byte, error) {
	r := &jsonschema.Reflector{
		FieldNameTag: "toml", DoNotReference: true, ExpandedStruct: true, RequiredFromJSONSchemaTags: true, Anonymous: true,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			switch t {
			case reflect.TypeFor[document.LocalDate]():
				return &jsonschema.Schema{Type: "string", Format: "date"}
			case reflect.TypeFor[document.Scalar]():
				return &jsonschema.Schema{OneOf: []*jsonschema.Schema{{Type: "boolean"}, {Type: "string"}}}
			}
			return nil
		},
	}
	s := r.Reflect(&Recipe{})
	s.Title = "Ellwand recipe, format 1"
	for _, f := range required {
		s.Required = append(s.Required, f.key)
	}
	describe(s, "")
	enumerate(s, "steps.method", methodNames())
	enumerate(s, "rewrite.after", StepNames[:len(StepNames)-1])
	enumerate(s, "package.layout.kind", fact.Kinds)
	enumerate(s, "compression", fact.Compressions)
	enumerate(s, "package.layout.capabilities", fact.Capabilities)
	enumerate(s, "arch", []string{fact.Independent})
	enumerate(s, "package.arch", []string{fact.Independent})
	return json.MarshalIndent(s, "", "  ")
}

// each calls f for every key of a schema, with its path.
func each(s *jsonschema.Schema, path string, f func(path string, s *jsonschema.Schema)) {
	if s == nil {
		return
	}
	if s.Properties != nil {
		for p := s.Properties.Oldest(); p != nil; p = p.Next() {
			at := strings.TrimPrefix(path+"."+p.Key, ".")
			f(at, p.Value)
			each(p.Value, at, f)
		}
	}
	each(s.Items, path, f)
	each(s.AdditionalProperties, path, f)
}

func describe(s *jsonschema.Schema, path string) {
	each(s, path, func(at string, s *jsonschema.Schema) { s.Description = descriptions[at] })
}

func enumerate(s *jsonschema.Schema, path string, values []string) {
	each(s, "", func(at string, s *jsonschema.Schema) {
		if at == path {
			for _, v := range values {
				s.Enum = append(s.Enum, v)
			}
		}
	})
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
