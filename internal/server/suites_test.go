package server_test

import (
	"path/filepath"
	"testing"

	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/windows"
)

// The shapes of the standard's own examples run, and a validator of the standard accepts every suite that is written here.
func TestSuitesOfTheStandard(t *testing.T) {
	t.Parallel()
	r := start(t)
	text := readFile(t, "testdata/suites/standard.yaml")
	var passed []string
	if err := r.Operator.RunChecks(t.Context(), "saltmere", windows.NewChecks{Documents: []windows.NamedDocument{{Name: "standard",
		Text: text}}},
		func(one suite.Result) {
			if passed = append(passed, one.Check); !one.Passed {
				t.Errorf("%s: %s %s\n%s\n%s", one.Check, one.At, one.Failure, one.Request, one.Answer)
			}
		}); err != nil || len(passed) != 3 {
		t.Errorf("%v %v", passed, err)
	}
	v, err := jsontree.Parse([]byte(get(t, r, "", "/describe/saltmere/openapi.json").Raw))
	if err != nil {
		t.Fatal(err)
	}
	described, err := contract.New(v.(*jsontree.Object))
	if err != nil {
		t.Fatal(err)
	}
	begun, err := suite.Begin("saltmere", described)
	if err != nil {
		t.Fatal(err)
	}
	recorded, unknown, err := suite.Write("recorded", "saltmere", described, []suite.Recorded{
		{Method: "POST", Path: "tugs", Body: `{"name":"A","bollard_pull_t":1}`, Status: 201, Kind: "application/json",
			Answer: `{"@etag":"W/\"1\"","id":77,"name":"A","bollard_pull_t":1}`},
		{Method: "PATCH", Path: "tugs/77", Body: `{"name":"B"}`, Status: 200, Kind: "application/json", Answer: `{"id":77,"name":"B"}`,
			Headers: map[string]string{"If-Match": `W/"1"`}},
		{Method: "GET", Path: "nothing", Status: 404}}, []string{"name"})
	if err != nil || len(unknown) != 1 {
		t.Fatal(unknown, err)
	}
	args := []string{"node", "lint.mjs", "--arazzo"}
	for name, text := range map[string]string{"visit": readFile(t, "testdata/suites/visit.yaml"), "standard": text, "begun": string(begun),
		"recorded": string(recorded)} {
		file := filepath.Join(t.TempDir(), name+".yaml")
		writeFile(t, file, text)
		args = append(args, file)
	}
	if out := run(t, r, "standard", args...); out != "" {
		t.Errorf("%.2000s", out)
	}
	if err := r.Operator.RunChecks(t.Context(), "saltmere", windows.NewChecks{Documents: []windows.NamedDocument{{Name: "recorded",
		Text: string(recorded)}}},
		func(one suite.Result) {
			if !one.Passed {
				t.Errorf("%s: %s %s\n%s\n%s\n%s", one.Check, one.At, one.Failure, one.Request, one.Answer, recorded)
			}
		}); err != nil {
		t.Error(err)
	}
}
