package lint

import (
	"encoding/json"
	"encoding/xml"
	"strings"
	"testing"

	"ellwand.example/core/fact"
	"ellwand.example/core/junit"
	"ellwand.example/core/recipe/document"
)

var reported = []fact.Finding{
	{Code: "ELL201", Severity: Error, Subject: "tide@1-1", Recipe: "tide", Path: "/usr/share/a & b", Message: "mode 0666 <all>", Remedy: "mode = \"0644\""},
	{Code: "ELL101", Severity: Warning, Subject: "tide", Recipe: "tide", File: "recipes/tide/recipe.toml", Line: 7, Message: "no summary", Remedy: "add one"},
	{Code: "ELL506", Severity: Hint, Subject: "tide-dev@1-1", Recipe: "tide", Message: "needs tide", Remedy: "needs = [\"tide = {full}\"]"},
	{Code: "ELL203", Severity: Error, Subject: "tide@1-1", Recipe: "tide", Path: "/srv/a", Message: "x", Waived: "the harbour's own place"},
}

func TestSARIF(t *testing.T) {
	data, err := SARIF(reported, "1.2")
	if err != nil {
		t.Fatal(err)
	}
	var report struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Name, Version string
					Rules         []struct {
						ID                   string
						DefaultConfiguration struct{ Level string }
						Help                 struct{ Text string }
					}
				}
			}
			Results []struct {
				RuleID, Level string
				Message       struct{ Text string }
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine int }
					}
				}
				Suppressions []struct{ Kind, Justification string }
			}
		}
	}
	if err := json.Unmarshal(data, &report); err != nil {
		t.Fatal(err)
	}
	run := report.Runs[0]
	if report.Version != "2.1.0" || run.Tool.Driver.Name != "ellwand" || run.Tool.Driver.Version != "1.2" || len(run.Tool.Driver.Rules) != 4 {
		t.Errorf("%s, %+v", report.Version, run.Tool.Driver)
	}
	for _, r := range run.Tool.Driver.Rules {
		if r.DefaultConfiguration.Level == "" || !strings.HasPrefix(r.Help.Text, "To fix it: ") {
			t.Errorf("rule %+v", r)
		}
	}
	for i, want := range []struct {
		level, text, uri string
		line             int
		suppressed       bool
	}{
		{"error", "/usr/share/a & b: mode 0666 <all>", "usr/share/a & b", 0, false},
		{"warning", "no summary", "recipes/tide/recipe.toml", 7, false},
		{"note", "needs tide", "tide-dev@1-1", 0, false},
		{"error", "/srv/a: x", "srv/a", 0, true},
	} {
		r := run.Results[i]
		at := r.Locations[0].PhysicalLocation
		if r.RuleID != reported[i].Code || r.Level != want.level || r.Message.Text != want.text || at.ArtifactLocation.URI != want.uri || at.Region.StartLine != want.line {
			t.Errorf("result %d is %+v, want %+v", i, r, want)
		}
		if suppressed := len(r.Suppressions) == 1 && r.Suppressions[0].Justification == reported[i].Waived; suppressed != want.suppressed {
			t.Errorf("result %d is suppressed: %v", i, r.Suppressions)
		}
	}
}

func TestJUnit(t *testing.T) {
	data, err := JUnit([]string{"tide", "tide@1-1", "tide-dev@1-1", "moon"}, reported)
	if err != nil {
		t.Fatal(err)
	}
	var all junit.Report
	if err := xml.Unmarshal(data, &all); err != nil {
		t.Fatal(err)
	}
	if all.Tests != 5 || all.Failures != 2 || len(all.Suites) != 4 {
		t.Errorf("%d tests, %d failures, %d suites", all.Tests, all.Failures, len(all.Suites))
	}
	for i, want := range []struct {
		name                     string
		tests, failures, skipped int
	}{{"tide", 1, 1, 0}, {"tide@1-1", 2, 1, 1}, {"tide-dev@1-1", 1, 0, 0}, {"moon", 1, 0, 0}} {
		s := all.Suites[i]
		if s.Name != want.name || s.Tests != want.tests || s.Failures != want.failures || s.Skipped != want.skipped {
			t.Errorf("suite %d is %+v, want %+v", i, s, want)
		}
	}
	failure := all.Suites[0].Cases[0].Failure
	if failure == nil || !strings.Contains(failure.Text, "recipes/tide/recipe.toml:7") || !strings.Contains(failure.Text, "add one") {
		t.Errorf("the failure says %+v", failure)
	}
	if hint := all.Suites[2].Cases[0]; hint.Failure != nil || hint.Output != reported[2].Remedy {
		t.Errorf("the hint is %+v", hint)
	}
}

func TestProfileSeverity(t *testing.T) {
	own := map[string]fact.Severity{"ell201": Hint}
	for _, c := range []struct {
		p    Profile
		code string
		is   fact.Severity
		want fact.Severity
	}{
		{Profile{}, "ELL201", Error, Error},
		{Profile{Level: Normal}, "ELL201", Hint, Hint},
		{Profile{Level: Lenient}, "ELL201", Error, Error},
		{Profile{Level: Lenient}, "ELL201", Warning, Hint},
		{Profile{Level: Lenient}, "ELL201", Hint, ""},
		{Profile{Level: Strict}, "ELL201", Hint, Warning},
		{Profile{Level: Strict}, "ELL201", Warning, Error},
		{Profile{Level: Strict}, "ELL201", Error, Error},
		{Profile{Level: Strict, Severities: own}, "ELL201", Error, Hint},
		{Profile{Off: []string{"ell201"}}, "ELL201", Error, ""},
		{Profile{Off: []string{"ell201"}, Severities: own}, "ELL201", Error, ""},
		{Profile{Off: []string{"ell202"}}, "ELL201", Error, Error},
	} {
		if got := c.p.severity(c.code, c.is); got != c.want {
			t.Errorf("%+v: %s of %s is %q, want %q", c.p, c.is, c.code, got, c.want)
		}
	}
}

func TestRefuses(t *testing.T) {
	for refuse, want := range map[string]fact.Severity{"": Error, "warning": Warning, "hint": Hint, Never: ""} {
		if got, ok := (Profile{Refuse: refuse}).Refuses(); got != want || ok != (want != "") {
			t.Errorf("%q: %q, %v", refuse, got, ok)
		}
	}
}

func TestProfileCheck(t *testing.T) {
	for text, want := range map[string]string{
		"level = \"strict\"\noff = [\"ELL201\", \"ell203\"]\nrefuse = \"never\"\n[lint.severity]\nELL201 = \"hint\"\n": "",
		"level = \"loud\"\n":                       `"loud" is not a level`,
		"off = [\"ELL999\"]\n":                     `there is no rule "ELL999"`,
		"off = [\"LE201\"]\n":                      "did you mean \"ELL201\"?",
		"refuse = \"sometimes\"\n":                 `"sometimes" is not a severity`,
		"[lint.severity]\nELL201 = \"fatal\"\n":    `"fatal" is not a severity`,
		"[lint.severity]\nNOTHING = \"warning\"\n": `there is no rule "NOTHING"`,
	} {
		doc := document.Parse("ellwand.toml", []byte("[lint]\n"+text))
		var settings struct {
			Lint Profile `toml:"lint"`
		}
		doc.Decode(&settings)
		settings.Lint.Check(doc, "lint")
		err := doc.Err()
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}
