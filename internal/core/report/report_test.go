package report_test

import (
	"encoding/json"
	"encoding/xml"
	"io"
	"reflect"
	"strings"
	"testing"
	"time"

	"eagerwindow/internal/core/report"
	"eagerwindow/internal/core/suite"
)

// A report says the same in each form, whatever stands in the answers.
func TestForms(t *testing.T) {
	t.Parallel()
	all := report.Report{Window: "saltmere", On: "draft", At: time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC), Seconds: 1.5,
		Results: []suite.Result{
			{Suite: "access", Check: "agent: read tugs", Passed: true, Asked: 3, Seconds: 0.25},
			{Suite: "access", Check: "agent: read <dues>", Failure: `shows "x" & <b>`, Request: "GET dues",
				Answer: "200\n\x01<script>alert(1)</script>", Asked: 1},
			{Suite: "visit", Check: "a-visit", Skipped: "it depends on another"},
		}}
	if all.Failed() != 2 || all.Asked() != 4 {
		t.Errorf("%d failed, %d requests", all.Failed(), all.Asked())
	}
	written := map[string]string{}
	for name, write := range report.Writers {
		var out strings.Builder
		if err := write(&out, all); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		written[name] = out.String()
	}
	for _, want := range []string{`<testsuite name="access" tests="2" failures="1" skipped="0" time="0.250" timestamp="2026-11-28T09:00:00Z">`,
		`<failure message="shows &#34;x&#34; &amp; &lt;b&gt;">`, `<skipped message="it depends on another">`} {
		if !strings.Contains(written["junit"], want) {
			t.Errorf("JUnit lacks %s:\n%s", want, written["junit"])
		}
	}
	for d := xml.NewDecoder(strings.NewReader(written["junit"])); ; {
		if _, err := d.Token(); err == io.EOF {
			break
		} else if err != nil {
			t.Fatalf("JUnit: %v", err)
		}
	}
	var back report.Report
	if err := json.Unmarshal([]byte(written["json"]), &back); err != nil || len(back.Results) != 3 ||
		!reflect.DeepEqual(back.Results[1], all.Results[1]) {
		t.Errorf("JSON: %v %+v", err, back)
	}
	for want, is := range map[string]bool{"2 of them not passed": true, "<script>alert": false, "agent: read &lt;dues&gt;": true,
		"it depends on another": true,
		"http":                  false} {
		if strings.Contains(written["html"], want) != is {
			t.Errorf("the page has %q: %v", want, !is)
		}
	}
}
