package junit

import (
	"encoding/xml"
	"strings"
	"testing"
	"time"
)

func TestEncode(t *testing.T) {
	data, err := Report{Name: "trial", Suites: []Suite{
		{Name: "tide", Cases: []Case{
			{Name: "install", Class: "tide", Took: 1500 * time.Millisecond, Output: "a < b"},
			{Name: "command tide", Class: "tide", Failure: &Failure{Message: `it "crashes"`, Type: "command", Text: "line 1\nline 2"}},
			{Name: "upgrade", Class: "tide", Skipped: &Skipped{Reason: "nothing is published"}},
		}},
		{Name: "ebb"},
	}}.Encode()
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(string(data), xml.Header) || !strings.HasSuffix(string(data), "</testsuites>\n") {
		t.Errorf("it is framed by %.40q and %q", data, data[len(data)-20:])
	}
	var back Report
	if err := xml.Unmarshal(data, &back); err != nil {
		t.Fatal(err)
	}
	if back.Tests != 3 || back.Failures != 1 || len(back.Suites) != 2 {
		t.Errorf("%d tests, %d failures in %d suites", back.Tests, back.Failures, len(back.Suites))
	}
	s := back.Suites[0]
	if s.Tests != 3 || s.Failures != 1 || s.Skipped != 1 || s.Time != "1.500" || s.Cases[0].Time != "1.500" || s.Cases[1].Time != "0" {
		t.Errorf("the suite is %+v", s)
	}
	if s.Cases[0].Output != "a < b" || s.Cases[1].Failure.Message != `it "crashes"` || s.Cases[1].Failure.Text != "line 1\nline 2" || s.Cases[2].Skipped.Reason != "nothing is published" {
		t.Errorf("the cases are %+v", s.Cases)
	}
}

func TestEncodeNothing(t *testing.T) {
	data, err := Report{Name: "lint"}.Encode()
	if err != nil || !strings.Contains(string(data), `<testsuites name="lint" tests="0" failures="0" errors="0"></testsuites>`) {
		t.Errorf("%s, %v", data, err)
	}
}
