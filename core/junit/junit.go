// Package junit writes test reports as the XML that JUnit and its followers write, which
// systems for continuous integration read.
package junit

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"time"
)

// Report is a report. The counts in it are filled in by Encode.
type Report struct {
	XMLName  xml.Name `xml:"testsuites"`
	Name     string   `xml:"name,attr"`
	Tests    int      `xml:"tests,attr"`
	Failures int      `xml:"failures,attr"`
	Errors   int      `xml:"errors,attr"`
	Suites   []Suite  `xml:"testsuite"`
}

// Suite is a group of cases.
type Suite struct {
	Name     string `xml:"name,attr"`
	Tests    int    `xml:"tests,attr"`
	Failures int    `xml:"failures,attr"`
	Errors   int    `xml:"errors,attr"`
	Skipped  int    `xml:"skipped,attr"`
	Time     string `xml:"time,attr"`
	Cases    []Case `xml:"testcase"`
}

// Case is one test. It passed if it neither was skipped nor failed.
type Case struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Took    time.Duration `xml:"-"`
	Time    string        `xml:"time,attr"` // seconds; filled in
	Skipped *Skipped      `xml:"skipped"`
	Failure *Failure      `xml:"failure"`
	Output  string        `xml:"system-out,omitempty"`
}

// Skipped says why a case was not run.
type Skipped struct {
	Reason string `xml:",chardata"`
}

// Failure says how a case failed.
type Failure struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr"`
	Text    string `xml:",chardata"`
}

// Encode writes the report.
func (r Report) Encode() ([]byte, error) {
	if r.Suites == nil {
		r.Suites = []Suite{}
	}
	for i := range r.Suites {
		s := &r.Suites[i]
		var took time.Duration
		for n := range s.Cases {
			c := &s.Cases[n]
			took += c.Took
			c.Time = seconds(c.Took)
			switch {
			case c.Skipped != nil:
				s.Skipped++
			case c.Failure != nil:
				s.Failures++
			}
		}
		s.Tests, s.Time = len(s.Cases), seconds(took)
		r.Tests += s.Tests
		r.Failures += s.Failures
	}
	var b bytes.Buffer
	b.WriteString(xml.Header)
	e := xml.NewEncoder(&b)
	e.Indent("", "  ")
	if err := e.Encode(r); err != nil {
		return nil, err
	}
	b.WriteString("\n")
	return b.Bytes(), nil
}

func seconds(d time.Duration) string {
	if d == 0 {
		return "0"
	}
	return fmt.Sprintf("%.3f", d.Seconds())
}
