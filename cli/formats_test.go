package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/xeipuuv/gojsonschema"

	"ellwand.example/app"
	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
	"ellwand.example/core/testtool"
)

// findingsToWrite have in them what is awkward to write: every severity, a
// waiver, a subject without a finding, and signs that XML and JSON escape.
var findingsToWrite = &app.Linted{
	Subjects: []string{"tide", "tide@1.2-1", "ebb"},
	Findings: []fact.Finding{
		{Code: "ELL105", Severity: lint.Warning, Subject: "tide", File: "recipes/tide/recipe.toml", Line: 4, Message: "no [[change]] says \"what\" & <why>", Remedy: "add one"},
		{Code: "ELL201", Severity: lint.Error, Subject: "tide@1.2-1", Path: "/usr/share/a b\tc", File: "recipes/tide/recipe.toml", Line: 9, Message: "its mode is 0666", Remedy: "x", Paste: "y"},
		{Code: "ELL202", Severity: lint.Warning, Subject: "tide@1.2-1", Path: "/usr/bin/ÿ", Message: "x", Remedy: "y", Waived: "it has to"},
		{Code: "ELL207", Severity: lint.Hint, Subject: "tide@1.2-1", Message: "no text", Remedy: "y"},
	},
}

// written is what the program writes of findings in a format.
func written(t *testing.T, l *app.Linted, format string) string {
	t.Helper()
	var data []byte
	var err error
	if format == "sarif" {
		data, err = lint.SARIF(l.Findings, "0.1")
	} else {
		data, err = lint.JUnit(l.Subjects, l.Findings)
	}
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// TestSARIF validates what is written against the schema of SARIF 2.1.0.
func TestSARIF(t *testing.T) {
	path, err := filepath.Abs("testdata/schema/sarif-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	schema, err := gojsonschema.NewSchema(gojsonschema.NewReferenceLoader("file://" + path))
	if err != nil {
		t.Fatal(err)
	}
	for name, l := range map[string]*app.Linted{"all": findingsToWrite, "none": {Subjects: []string{"tide"}}} {
		text := written(t, l, "sarif")
		result, err := schema.Validate(gojsonschema.NewStringLoader(text))
		if err != nil || !result.Valid() {
			t.Errorf("%s: %v %v\n%s", name, err, result.Errors(), text)
		}
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Suppressions  []struct{ Justification string }
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(written(t, findingsToWrite, "sarif")), &log); err != nil {
		t.Fatal(err)
	}
	run := log.Runs[0]
	if log.Version != "2.1.0" || len(run.Results) != 4 || len(run.Tool.Driver.Rules) != 4 {
		t.Fatalf("%+v", log)
	}
	first := run.Results[0]
	if first.Level != "warning" || first.Locations[0].PhysicalLocation.ArtifactLocation.URI != "recipes/tide/recipe.toml" || first.Locations[0].PhysicalLocation.Region.StartLine != 4 {
		t.Errorf("%+v", first)
	}
	if s := run.Results[2].Suppressions; len(s) != 1 || s[0].Justification != "it has to" || run.Results[3].Level != "note" {
		t.Errorf("%+v", run.Results[2:])
	}
}

// TestJUnit validates what is written against the schema of JUnit's reports.
func TestJUnit(t *testing.T) {
	text := written(t, findingsToWrite, "junit")
	for _, want := range []string{
		`<testsuites name="lint" tests="5" failures="2" errors="0">`, `<testsuite name="ebb" tests="1" failures="0"`, `<failure message="world-writable path" type="error">`,
		`<skipped>it has to</skipped>`, `&lt;why&gt;`,
	} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
	xmllint := testtool.Find(t, "xmllint")
	for name, l := range map[string]*app.Linted{"all": findingsToWrite, "none": {Subjects: []string{"tide"}}, "nothing": {}} {
		file := filepath.Join(t.TempDir(), "report.xml")
		if err := os.WriteFile(file, []byte(written(t, l, "junit")), 0o644); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command(xmllint, "--noout", "--nonet", "--schema", "testdata/schema/junit.xsd", file).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
	}
}
