package cli_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"eagerwindow/internal/windows"
)

// gusts is a suite of two checks: one wants what is not answered, the other too, in a way that no answer tells.
const gusts = `arazzo: 1.0.1
info: {title: Gusts, version: 1.0.0}
sourceDescriptions: [{name: saltmere, url: /describe/saltmere/openapi.json, type: openapi}]
workflows:
  - workflowId: tug-three # by its key
    steps:
      - stepId: read
        operationId: get-tug
        parameters: [{name: id, in: path, value: 3}]
        successCriteria:
          - condition: $statusCode == 201
          - condition: '$response.body#/name == ''Gale''' # it had that name once
  - workflowId: many-tugs
    steps:
      - stepId: list
        operationId: list-tugs
        successCriteria: [{context: $response.body, type: jsonpath, condition: "$.value[?@.name == 'Gale']"}]
`

// Answers are accepted into files, wherever they are, and into suites that are kept; what can't be told from an answer stays a failure.
func TestAccept(t *testing.T) {
	r := service(t)
	write := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	accepted := strings.NewReplacer("== 201", "== 200", `'$response.body#/name == ''Gale'''`, `"$response.body#/name == 'Tern'"`)
	write("a/gusts.yaml", gusts)
	write("b/gusts.yaml", strings.Replace(gusts, "== 201", "== 299", 1))
	write("rows.yaml", "[{}, {}]")
	if _, err := r.Operator.SaveSuite(t.Context(), "saltmere", "gusts", gusts); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		name   string
		args   []string
		status int
		want   []string
	}{
		{"nothing is written without the flag", []string{"a/gusts.yaml"}, 1, []string{"does not hold: $statusCode == 201; $statusCode is 200"}},
		{"rows of inputs", []string{"a/gusts.yaml", "--accept", "--inputs", "rows.yaml"}, 2, []string{"one run of the suites, not with 2 rows"}},
		{"two files of one name", []string{"./a/gusts.yaml", "b/gusts.yaml", "--accept", "--only", "tug-three"}, 0, []string{
			"accepted a/gusts.yaml, line 11: $statusCode == 201 is now $statusCode == 200",
			"accepted a/gusts.yaml, line 12: $response.body#/name == 'Gale' is now $response.body#/name == 'Tern'",
			"accepted b/gusts.yaml, line 11: $statusCode == 299 is now $statusCode == 200"}},
		{"they pass then", []string{"a/gusts.yaml", "b/gusts.yaml", "--only", "tug-three"}, 0, []string{"a/gusts.yaml  1       0"}},
		{"a suite that is kept, and what can't be accepted", []string{"gusts", "--accept"}, 1, []string{
			"accepted gusts, line 11", "not accepted gusts, many-tugs: not all that fails at step list, line 17 compares a part of the answer"}},
		{"nothing is left to accept", []string{"gusts", "--accept", "--only", "tug-three"}, 0, []string{"gusts  1       0"}},
	} {
		out, status := run("", append([]string{"check", "run", "saltmere"}, tt.args...)...)
		for _, want := range tt.want {
			if status != tt.status || !strings.Contains(out, want) {
				t.Errorf("%s: status %d, want %d and %q\n%s", tt.name, status, tt.status, want, out)
			}
		}
		if text, err := os.ReadFile("a/gusts.yaml"); err != nil || tt.status == 2 && string(text) != gusts {
			t.Errorf("%s: %v\n%s", tt.name, err, text)
		}
	}
	for _, name := range []string{"a/gusts.yaml", "b/gusts.yaml"} {
		if text, err := os.ReadFile(name); err != nil || string(text) != accepted.Replace(gusts) {
			t.Errorf("%s: %v\n%s", name, err, text)
		}
	}
	kept, err := r.Operator.Suites(t.Context(), "saltmere")
	at := slices.IndexFunc(kept, func(s windows.Suite) bool { return s.Name == "gusts" })
	if err != nil || at < 0 || kept[at].Text != accepted.Replace(gusts) {
		t.Errorf("kept: %v %v", kept, err)
	}
}

// A write is rehearsed unless it is for real: each row before and after, for people; the answer alone, for programs.
func TestAskRehearses(t *testing.T) {
	r := service(t)
	const late = "/port_calls/$filter(id gt 11970)/$each"
	for _, tt := range []struct {
		name   string
		args   []string
		status int
		want   []string
		not    string
	}{
		{"a change", []string{"/tugs/3", "--method", "PATCH", "--set", "name=Olga"}, 0,
			[]string{`tugs/3  name   "Tern"  "Olga"`, "Rehearsed: it was rolled back. With --for-real it is written."}, ""},
		{"a new row", []string{"/tugs", "--body", `{"name":"Petra","bollard_pull_t":41.5}`}, 0,
			[]string{"tugs/10 (new)  id", `"Petra"`, "(the numbers that sequences give out stay used)"}, ""},
		{"what is lost", []string{"/cargo_items/1", "--method", "DELETE"}, 0, []string{"204 No Content", "cargo_items/1", "deleted"}, ""},
		{"more than are shown", []string{late, "--method", "PATCH", "--set", "remarks=Late."}, 0,
			[]string{"204 No Content, 30 rows written", "port_calls/12000  remarks", "and 10 rows more"}, ""},
		{"links", []string{"/port_calls/12000/vessel/$ref", "--method", "PUT", "--body", `{"@id":"vessels/1"}`}, 0,
			[]string{"unlinked", "vessels/1", "linked"}, ""},
		{"its headers", []string{"/tugs/3", "--method", "PATCH", "--set", "name=Olga", "-i"}, 0, []string{"HTTP/1.1 200 OK", "Etag: W/"}, ""},
		{"a header of its own", []string{"/tugs/3", "--method", "PATCH", "--set", "name=Olga", "--header", `If-Match: W/"1"`}, 3,
			[]string{"412 Precondition Failed"}, "rolled back"},
		{"for programs", []string{"/tugs/3", "--method", "PATCH", "--set", "name=Olga", "-o", "json"}, 0, []string{`"name":"Olga"`}, "BEFORE"},
		{"as a role of what is live", []string{"/tugs/3", "--method", "DELETE", "--live", "--as", "agent", "--claim", "agent_id=3"}, 3,
			[]string{`403 Forbidden: role "agent" may not delete tugs`}, "rolled back"},
		{"refused by the rows", []string{"/tugs/3", "--method", "DELETE"}, 3, []string{"409 Conflict: other rows still refer"}, "BEFORE"},
	} {
		out, status := run("", append([]string{"ask", "saltmere"}, tt.args...)...)
		for _, want := range tt.want {
			if status != tt.status || !strings.Contains(out, want) || tt.not != "" && strings.Contains(out, tt.not) {
				t.Errorf("%s: status %d, want %d and %q, and no %q\n%s", tt.name, status, tt.status, want, tt.not, out)
			}
		}
	}
	a := r.Send(t, r.Operator.Token, "GET", "/draft/saltmere/tugs?select=name&filter=name%20in%20('Olga','Petra')", nil)
	if !strings.Contains(strings.Join(strings.Fields(a.Text), ""), `"value":[]`) {
		t.Errorf("something was written: %s", a.Text)
	}
}
