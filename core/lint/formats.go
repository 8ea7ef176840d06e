package lint

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"ellwand.example/core/fact"
	"ellwand.example/core/junit"
)

// sarifLevels are SARIF's words for the severities.
var sarifLevels = map[fact.Severity]string{Error: "error", Warning: "warning", Hint: "note"}

// SARIF writes findings in the Static Analysis Results Interchange Format 2.1.0
// (OASIS). A finding in a package is placed at the line of the recipe that
// could fix it, where there is one, and at the path in the package else;
// waived findings are there, suppressed.
func SARIF(findings []fact.Finding, version string) ([]byte, error) {
	run := sarif.NewRunWithInformationURI("ellwand", "https://ellwand.example")
	run.Tool.Driver.WithVersion(version)
	used := map[string]bool{}
	for _, f := range findings {
		used[f.Code] = true
	}
	for _, r := range catalogue() {
		if used[r.Code] {
			run.AddRule(r.Code).WithName(r.Code).WithShortDescription(text(r.Title)).WithFullDescription(text(r.Why)).WithHelp(text("To fix it: " + r.Remedy + ".")).
				WithDefaultConfiguration(sarif.NewReportingConfiguration().WithLevel(sarifLevels[r.Severity]))
		}
	}
	for _, f := range findings {
		result := run.CreateResultForRule(f.Code).WithLevel(sarifLevels[f.Severity]).WithMessage(sarif.NewTextMessage(placeOf(f) + f.Message))
		at := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewSimpleArtifactLocation(artifactOf(f)))
		if f.File != "" && f.Line > 0 {
			at.WithRegion(sarif.NewRegion().WithStartLine(f.Line))
		}
		location := sarif.NewLocation().WithPhysicalLocation(at)
		location.AddLogicalLocation(sarif.NewLogicalLocation().WithName(f.Subject).WithKind("module"))
		result.AddLocation(location)
		if f.Waived != "" {
			result.AddSuppression(sarif.NewSuppression().WithKind("inSource").WithJustification(f.Waived))
		}
	}
	report := sarif.NewReport()
	report.AddRun(run)
	var b bytes.Buffer
	err := report.PrettyWrite(&b)
	return b.Bytes(), err
}

func text(s string) *sarif.MultiformatMessageString {
	return sarif.NewMultiformatMessageString().WithText(s)
}

// placeOf is a finding's path, as a message begins with it.
func placeOf(f fact.Finding) string {
	if f.Path == "" {
		return ""
	}
	return f.Path + ": "
}

// artifactOf is the file that a finding is about, for a reader of files.
func artifactOf(f fact.Finding) string {
	switch {
	case f.File != "":
		return f.File
	case f.Path != "":
		return strings.TrimPrefix(f.Path, "/")
	}
	return f.Subject
}

// JUnit writes findings as the XML report that JUnit and its followers write:
// a suite for each subject, in it a case for each rule that found something
// there, which fails for errors and warnings; waived findings are skipped, and
// hints are cases that passed, with what they say as their output. A subject
// without a finding has one case that passed.
func JUnit(subjects []string, findings []fact.Finding) ([]byte, error) {
	report := junit.Report{Name: "lint"}
	for _, subject := range subjects {
		suite := junit.Suite{Name: subject}
		for _, f := range findings {
			if f.Subject != subject {
				continue
			}
			c := junit.Case{Name: f.Code + " " + placeOf(f) + f.Message, Class: subject}
			rule, _ := Find(f.Code)
			switch {
			case f.Waived != "":
				c.Skipped = &junit.Skipped{Reason: f.Waived}
			case f.Severity == Hint:
				c.Output = f.Remedy
			default:
				where := ""
				if f.File != "" {
					where = fmt.Sprintf("%s:%d\n", f.File, f.Line)
				}
				c.Failure = &junit.Failure{Message: rule.Title, Type: string(f.Severity), Text: where + placeOf(f) + f.Message + "\n" + f.Remedy}
			}
			suite.Cases = append(suite.Cases, c)
		}
		if len(suite.Cases) == 0 {
			suite.Cases = []junit.Case{{Name: "no findings", Class: subject}}
		}
		report.Suites = append(report.Suites, suite)
	}
	return report.Encode()
}
