// Package report writes what has become of checks for those who were not there: JUnit XML for pipelines, JSON, and a page that needs
// nothing besides itself.
package report

import (
	_ "embed"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"eagerwindow/internal/core/suite"
)

// Report is what has become of a run of checks.
type Report struct {
	Window  string         `json:"window"`
	On      string         `json:"on"`
	At      time.Time      `json:"at"`
	Seconds float64        `json:"seconds"`
	Results []suite.Result `json:"results"`
}

// Suite are the checks of one suite, counted.
type Suite struct {
	Name                           string
	Checks, Failed, Skipped, Asked int
	Seconds                        float64
	Results                        []suite.Result
}

// Failed is how many checks do not hold or could not be run.
func (r Report) Failed() (n int) {
	for _, one := range r.Results {
		if !one.Passed {
			n++
		}
	}
	return n
}

// Asked is how many requests were sent.
func (r Report) Asked() (n int) {
	for _, one := range r.Results {
		n += one.Asked
	}
	return n
}

// Suites are the results by suite, in the order in which these come first.
func (r Report) Suites() (list []*Suite) {
	for _, one := range r.Results {
		i := slices.IndexFunc(list, func(s *Suite) bool { return s.Name == one.Suite })
		if i < 0 {
			i = len(list)
			list = append(list, &Suite{Name: one.Suite})
		}
		s := list[i]
		s.Checks++
		s.Asked += one.Asked
		s.Seconds += one.Seconds
		s.Results = append(s.Results, one)
		switch {
		case one.Skipped != "":
			s.Skipped++
		case !one.Passed:
			s.Failed++
		}
	}
	return list
}

// Writers write a report in each form.
var Writers = map[string]func(io.Writer, Report) error{"junit": JUnit, "json": JSON, "html": HTML}

// JSON writes a report as it is.
func JSON(w io.Writer, r Report) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(r)
}

type junitCase struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitMessage `xml:"failure,omitempty"`
	Skipped *junitMessage `xml:"skipped,omitempty"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Time     string      `xml:"time,attr"`
	Stamp    string      `xml:"timestamp,attr"`
	Cases    []junitCase `xml:"testcase"`
}

// JUnit writes a report as pipelines read it.
func JUnit(w io.Writer, r Report) error {
	seconds := func(s float64) string { return fmt.Sprintf("%.3f", s) }
	all := struct {
		XMLName xml.Name     `xml:"testsuites"`
		Name    string       `xml:"name,attr"`
		Time    string       `xml:"time,attr"`
		Suites  []junitSuite `xml:"testsuite"`
	}{Name: r.Window, Time: seconds(r.Seconds)}
	for _, s := range r.Suites() {
		one := junitSuite{Name: s.Name, Tests: s.Checks, Failures: s.Failed, Skipped: s.Skipped, Time: seconds(s.Seconds),
			Stamp: r.At.Format(time.RFC3339)}
		for _, c := range s.Results {
			line := junitCase{Name: c.Check, Class: r.Window + "." + s.Name, Time: seconds(c.Seconds)}
			switch {
			case c.Skipped != "":
				line.Skipped = &junitMessage{Message: c.Skipped}
			case !c.Passed:
				line.Failure = &junitMessage{c.Failure, strings.TrimSpace("sent\n" + c.Request + "\n\nanswered\n" + c.Answer)}
			}
			one.Cases = append(one.Cases, line)
		}
		all.Suites = append(all.Suites, one)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

//go:embed report.html
var page string

var pageTemplate = template.Must(template.New("report").Funcs(template.FuncMap{
	"part": func(n, of int) string { return fmt.Sprintf("%.2f%%", 100*float64(n)/float64(max(of, 1))) },
	"sub":  func(a, b, c int) int { return a - b - c },
}).Parse(page))

// HTML writes a report as a page.
func HTML(w io.Writer, r Report) error { return pageTemplate.Execute(w, r) }
