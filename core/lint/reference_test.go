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
		t.Errorf("%s is not what the catalogue says (%v): `go test ./core/lint -update` writes it anew", file, err)
	}
}

const referenceHead = `# What lint looks for

<!-- Made from the catalogue in core/lint by ` + "`go test ./core/lint -update`" + `. -->

` + "`ellwand lint`" + ` looks at recipes, packages and repositories. ` + "`ellwand build`" + ` ends with it, and ` + "`ellwand publish`" + ` refuses packages
with errors. A finding has a code, a severity, a place and a remedy:

| severity | means |
|---|---|
| error | users will be hurt; the package is not published |
| warning | users may be hurt, or the next maintainer |
| hint | it could be better |

` + "`ellwand explain CODE`" + ` tells what stands here of a rule, and ` + "`ellwand explain CODE --try DIR`" + ` lays its examples out as workspaces.

## What a team wants to hear

The table ` + "`[lint]`" + ` of ` + "`ellwand.toml`" + ` is for the whole workspace:

` + "```toml" + `
[lint]
level  = "normal"          # lenient: no hints, warnings are hints; strict: warnings are errors, hints are warnings
off    = ["ELL109", "ELL710"]  # rules that are not wanted at all
refuse = "error"           # publish keeps back packages with findings this bad or worse; "never" for none

[lint.severity]            # of single rules, whatever the level
ELL207 = "error"
` + "```" + `

A team that begins takes ` + "`lenient`" + `, and ` + "`refuse = \"never\"`" + ` until the errors are fixed. ` + "`ellwand lint --level strict`" + ` tries another level.

## Intended findings

A finding is accepted in the recipe, with its reason. ` + "`path`" + ` may be a pattern; without it, the waiver is for all paths. A waiver that
accepts nothing is a finding itself (ELL111), as soon as all packages of the recipe have been looked at.

` + "```toml" + `
[[waive]]
code    = "ELL202"
path    = "/usr/libexec/tidegauge/lock"
reason = "it opens the gauge's serial port for the service account"
` + "```" + `

To let a package pass a publish once: ` + "`ellwand publish PACKAGE --allow ELL202:tidegauge --reason \"…\"`" + `; the history keeps the reason.

## What it is told from

- The recipe's scripts are parsed as shell, and never run. Commands that a method brings are not looked at.
- Needs that a build does not use, or uses and does not declare (ELL150, ELL151), are known for certain once ` + "`ellwand build RECIPE --needs-report`" + `
  has watched the steps of this very recipe. Before that, only what every script shows is told.
- Symbols, symbol versions and programs are looked up in the system of the target that the package was made for. Where that is not known, what
  depends on it is left alone.
- Rules on what has changed (ELL510 to ELL519) compare with the newest older package of the same name in the enabled repositories that are directories.
  Nothing is asked of a server.
- A package that is only linted is not compared with its digests; ` + "`publish`" + ` and ` + "`verify`" + ` do that.

## For other programs

` + "`--format json`" + ` has all fields of the findings; ` + "`sarif`" + ` is SARIF 2.1.0 (OASIS), for viewers of code and review services; ` + "`junit`" + ` is the XML of JUnit,
for build services. ` + "`--new-since PACKAGE`" + ` leaves what an older package does not have: versions in paths and messages do not make a finding new.

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
