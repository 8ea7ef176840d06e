package trial

import (
	"slices"

	"ellwand.example/core/junit"
)

// JUnit writes checks as a report: a suite for each package.
func JUnit(checks []Check) ([]byte, error) {
	report := junit.Report{Name: "trial"}
	for _, check := range checks {
		i := slices.IndexFunc(report.Suites, func(s junit.Suite) bool { return s.Name == check.Package })
		if i < 0 {
			i = len(report.Suites)
			report.Suites = append(report.Suites, junit.Suite{Name: check.Package})
		}
		name := check.Name
		if check.Subject != "" {
			name += " " + check.Subject
		}
		c := junit.Case{Name: name, Class: check.Package, Took: check.Time}
		switch check.State {
		case Skipped:
			c.Skipped = &junit.Skipped{Reason: check.Message}
		case Failed:
			c.Failure = &junit.Failure{Message: check.Message, Type: check.Name, Text: check.Output + "\n" + check.Remedy}
		default:
			c.Output = check.Message
		}
		report.Suites[i].Cases = append(report.Suites[i].Cases, c)
	}
	return report.Encode()
}
