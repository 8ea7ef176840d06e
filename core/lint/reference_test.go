package lint

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"ellwand.example/core/fact"
)

var update = flag.Bool("update", false, "write docs/lint.md anew")

// TestReference makes docs/lint.md from the catalogue, and compares it with
// what is there.
func TestReference(t *testing.T) {
	const file = "../../docs/lint.md"
	want := reference()
	if *update {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := os.ReadFile(file)
	if err != nil || string(got) != want {
		t.Errorf("%s is not what the catalogue says (%v): `go test ./core/lint -update` writes it", file, err)
	}
}

const referenceHead = `# Lint rules

<!-- Made from the catalogue in core/lint by ` + "`go test ./core/lint -update`" + `. -->

` + "`ellwand lint`" + ` checks recipes, packages and repositories. ` + "`ellwand build`" + ` lints what it built, and ` + "`ellwand publish`" + ` refuses packages
with errors. A finding has a code, a severity, a place and a remedy:

| severity | means |
|---|---|
| error | users will have problems; the package is not published |
| warning | users or the next maintainer may have problems |
| hint | it could be better |

` + "`ellwand explain CODE`" + ` prints the text below about a rule, and ` + "`ellwand explain CODE --try DIR`" + ` writes its examples as workspaces.

## Configuration

The table ` + "`[lint]`" + ` of ` + "`ellwand.toml`" + ` applies to the whole workspace:

` + "```toml" + `
[lint]
level  = "normal"          # lenient: no hints, warnings are hints; strict: warnings are errors, hints are warnings
off    = ["ELL109", "ELL710"]  # disabled rules
refuse = "error"           # publish refuses packages with findings of this severity or worse; "never": none

[lint.severity]            # of single rules, for every level
ELL207 = "error"
` + "```" + `

New teams can start with ` + "`lenient`" + ` and ` + "`refuse = \"never\"`" + ` until the errors are fixed. ` + "`ellwand lint --level strict`" + ` tries another level.

## Waivers

A recipe can accept a finding, with a reason. ` + "`path`" + ` may be a pattern; without it, the waiver applies to all paths. A waiver that
accepts nothing is a finding itself (ELL111), once all packages of the recipe have been checked.

` + "```toml" + `
[[waive]]
code    = "ELL202"
path    = "/usr/libexec/tidegauge/lock"
reason = "it opens the gauge's serial port for the service account"
` + "```" + `

To accept a finding for one publish: ` + "`ellwand publish PACKAGE --allow ELL202:tidegauge --reason \"…\"`" + `; the history records the reason.

## What lint knows

- The recipe's scripts are parsed as shell and never run. The scripts of methods are not checked.
- Dependencies that a build does not use, or uses and does not declare (ELL150, ELL151), are known for certain after ` + "`ellwand build RECIPE --needs-report`" + `
  has traced the steps of the current recipe. Before that, only what the scripts show is reported.
- Symbols, symbol versions and programs are looked up in the system of the target that the package was made for. If that system is
  unavailable, the rules that need it report nothing.
- Rules about changes (ELL510 to ELL519) compare with the newest older package of the same name in the enabled repositories that are local
  directories, and do not access servers.
- Lint does not verify a package's digests; ` + "`publish`" + ` and ` + "`verify`" + ` do that.

## For other programs

` + "`--format json`" + ` has all fields of the findings; ` + "`sarif`" + ` is SARIF 2.1.0 (OASIS), for editors and code review; ` + "`junit`" + ` is JUnit XML,
for CI services. ` + "`--new-since PACKAGE`" + ` shows only findings that an older package does not have; different versions in paths and messages do not make a finding new.

` + "`--fix`" + ` applies automatic fixes to the recipe: quotes, modes and kinds in the layout, leftovers to discard, missing needs, ` + "`{version}`" + `, waivers
that accept nothing. The difference is shown; with ` + "`--dry-run`" + ` nothing is written.

## The rules

The examples are pieces of a recipe. Each takes the place of what has the same name in this one, which lints without a finding; further parts
are headed ` + "`-- NAME --`" + `: a file beside the recipe, ` + "`-- /PATH --`" + ` one in the workspace, ` + "`-- other NAME --`" + ` a piece of another recipe,
` + "`-- published --`" + ` the recipe as it was published before, ` + "`-- then --`" + ` commands to run after the build.

`

// areas are the areas of findings in the order of the page.
var areas = []struct {
	area  fact.Area
	title string
}{
	{fact.AreaRecipe, "Recipes"},
	{fact.AreaLayout, "Layout: what lies where, and as what"},
	{fact.AreaELF, "Programs and libraries (ELF)"},
	{fact.AreaScripts, "Scripts in packages"},
	{fact.AreaIntegration, "Integration: menus, services, manuals, modules"},
	{fact.AreaPackage, "Facts of packages, and packages together"},
	{fact.AreaRepository, "Repositories"},
}

func reference() string {
	var b strings.Builder
	b.WriteString(referenceHead)
	b.WriteString("```toml\n" + strings.TrimRight(Workspace("").Files["recipes/tide/recipe.toml"], "\n") + "\n```\n")
	for _, area := range areas {
		fmt.Fprintf(&b, "\n### %s\n\n| code | severity | |\n|---|---|---|\n", area.title)
		for _, r := range catalogue() {
			if fact.AreaOf(r.Code) == area.area {
				fmt.Fprintf(&b, "| [%s](#%s) | %s | %s |\n", r.Code, strings.ToLower(r.Code), r.Severity, r.Title)
			}
		}
		for _, r := range catalogue() {
			if fact.AreaOf(r.Code) != area.area {
				continue
			}
			fmt.Fprintf(&b, "\n#### %s\n\n**%s** (%s). %s\n\nTo fix it: %s.\n\n", r.Code, upper(r.Title), r.Severity, r.Why, strings.TrimSuffix(r.Remedy, "."))
			fmt.Fprintf(&b, "Found in:\n\n```\n%s\n```\n\nNot in:\n\n```\n%s\n```\n", strings.TrimSpace(r.Wrong), strings.TrimSpace(r.Right))
		}
	}
	return b.String()
}

func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
