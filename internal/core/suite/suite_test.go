package suite

import (
	"context"
	"encoding/json"
	"fmt"
	"net/textproto"
	"strings"
	"testing"

	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
)

const head = "arazzo: 1.0.1\ninfo: {title: T, version: 1.0.0}\nsourceDescriptions: [{name: s, url: x, type: openapi}]\nworkflows:\n"

// Every mistake is told with its place, and what would be right.
func TestParse(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ name, text, want string }{
		{"fine", head + "  - {workflowId: w, steps: [{stepId: a, operationId: x}]}", ""},
		{"empty", "", "begins with \"arazzo: 1.0.1\""}, {"no YAML", "a: [", "can't be read"},
		{"another version", strings.Replace(head, "1.0.1", "2.0.0", 1) + "  - {workflowId: w, steps: [{stepId: a, operationId: x}]}",
			"line 1, column 9: the suite has version \"2.0.0\""},
		{"an unknown key", head + "  - {workflowId: w, stepps: []}", `unknown key "stepps" in a workflow; did you mean "steps"?`},
		{"no steps", head + "  - {workflowId: w}", `"steps" is missing in a workflow`},
		{"no operation", head + "  - {workflowId: w, steps: [{stepId: a}]}", "needs one of operationId, operationPath and workflowId"},
		{"two steps of one name", head + "  - {workflowId: w, steps: [{stepId: a, operationId: x}, {stepId: a, operationId: x}]}",
			`has two steps "a"`},
		{"a circle", head + "  - {workflowId: w, dependsOn: [v], steps: []}\n  - {workflowId: v, dependsOn: [w], steps: []}",
			`"w" depends on itself`},
		{"an unknown workflow", head + "  - {workflowId: visit, dependsOn: [vist], steps: []}",
			`there is no workflow "vist"; did you mean "visit"?`},
		{"a bad condition", head +
			"  - {workflowId: w, steps: [{stepId: a, operationId: x, successCriteria: [{condition: $statusCode = 200}]}]}", `"=" is not expected`},
		{"a bad expression", head + "  - {workflowId: w, steps: [{stepId: a, operationId: x, outputs: {id: $respons.body}}]}",
			"begins with none of $url"},
		{"a bad path", head +
			"  - {workflowId: w, steps: [{stepId: a, operationId: x, successCriteria: [{context: $response.body, type: jsonpath, condition: " +
			"'$['}]}]}", "$["},
		{"a bad pattern", head +
			"  - {workflowId: w, steps: [{stepId: a, operationId: x, successCriteria: [{context: $response.body, type: regex, condition: '('}]}]}",
			"missing closing"},
		{"xpath", head + "  - {workflowId: w, steps: [{stepId: a, operationId: x, successCriteria: [{context: $response.body, type: xpath, " +
			"condition: //a}]}]}", "xpath is not done here"},
		{"no context", head + "  - {workflowId: w, steps: [{stepId: a, operationId: x, successCriteria: [{type: regex, condition: a}]}]}",
			"needs a context"},
		{"goto nowhere", head + "  - {workflowId: w, steps: [{stepId: a, operationId: x, onSuccess: [{name: g, type: goto, stepId: b}]}]}",
			`has no step "b"`},
		{"retry after success", head + "  - {workflowId: w, steps: [{stepId: a, operationId: x, onSuccess: [{name: g, type: retry}]}]}",
			"is end, goto, not \"retry\""},
		{"an unknown component", head +
			"  - {workflowId: w, steps: [{stepId: a, operationId: x, parameters: [{reference: $components.parameters.p}]}]}", `no parameter "p"`},
		{"other suites", strings.Replace(head, "type: openapi", "type: arazzo", 1) +
			"  - {workflowId: w, steps: [{stepId: a, operationId: x}]}", "of other suites can't be called"},
		{"in", head + "  - {workflowId: w, steps: [{stepId: a, operationId: x, parameters: [{name: p, in: cookie, value: 1}]}]}",
			"in is path, query or header"},
	} {
		_, err := Parse([]byte(tt.text))
		if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.want)
		}
		if f, is := fault.From(err); err != nil && (!is || f.Code == "") {
			t.Errorf("%s: %T", tt.name, err)
		}
	}
	_, err := Parse([]byte(head + "  - {workflowId: w, x: 1, steps: [{stepId: a, y: 2, operationId: x}]}"))
	if f, is := fault.From(err); !is || len(f.Details) != 2 {
		t.Errorf("two mistakes at once: %v", err)
	}
}

// Conditions as the standard has them (Arazzo 1.0.1, 5.8.11).
func TestConditions(t *testing.T) {
	t.Parallel()
	r := &run{inputs: map[string]any{"n": json.Number("3"), "name": "Bram"}, steps: map[string]map[string]any{"a": {"id": json.Number("7")}}}
	r.last.answer = Answer{Status: 200, Header: textproto.MIMEHeader{"Etag": {"x"}},
		Body: []byte(`{"id": 7, "tags": ["a", "b"], "deep": {"a/b": true}, "none": null}`)}
	for text, want := range map[string]string{
		"$statusCode == 200": "true", "$statusCode != 200": "false", "$statusCode < 300 && $statusCode >= 200": "true",
		"!($statusCode == 200)":                "false",
		"$statusCode == 404 || $inputs.n == 3": "true", "$response.body#/id == $steps.a.outputs.id": "true",
		"$response.body#/tags/1 == 'b'": "true",
		"$response.body#/deep/a~1b":     "true", "$response.body#/none == null": "true", "$inputs.name == 'bram'": "true",
		"$inputs.name > 'A'":           "true",
		"$response.header.ETag == 'x'": "true", "$response.body#/nothing == 1": "there is no \"nothing\"", "$inputs.name > 3": "have no order",
		"$inputs.other == 1": "there is no input other", "$response.body#/id == '7'": "false",
		"$response.body#/tags/9 == 1": "there is no item 9",
	} {
		c, err := parseCondition(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		is, err := c.holds(r)
		if got := fmt.Sprint(is); err == nil && got != want || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v %v, want %s", text, is, err, want)
		}
	}
}

const description = `
openapi: 3.1.0
paths:
  /pets:
    get: {operationId: list, parameters: [{name: n, in: query}], responses: {"200": {description: x}, default: {description: x}}}
    post: {operationId: create, requestBody: {}, responses: {"201": {description: x}}}
  /pets/{id}:
    get: {operationId: read, responses: {"200": {description: x}, default: {description: x}}}
`

func contractOf(t *testing.T) *contract.Contract {
	t.Helper()
	v, err := jsontree.Parse([]byte(description))
	if err != nil {
		t.Fatal(err)
	}
	described, err := contract.New(v.(*jsontree.Object))
	if err != nil {
		t.Fatal(err)
	}
	return described
}

// Workflows call, depend, go to, try again and give outputs on.
func TestRun(t *testing.T) {
	t.Parallel()
	described := contractOf(t)
	for _, tt := range []struct{ name, text, want string }{
		{"outputs, bodies and replacements", `
  - workflowId: w
    inputs: {type: object, properties: {name: {type: string, default: Rex}}}
    steps:
      - {stepId: make, operationId: create, requestBody: {payload: {name: "{$inputs.name} the dog", deep: [1, 2]},
	replacements: [{target: /deep/1, value: $inputs.name}]}, outputs: {id: $response.body#/id}}
      - {stepId: read, operationId: read, parameters: [{name: id, in: path, value: $steps.make.outputs.id}],
	successCriteria: [{condition: $response.body#/id == 7}]}`,
			`w passed POST pets {"deep":[1,"Rex"],"name":"Rex the dog"}|GET pets/7`},
		{"dependencies", `
  - {workflowId: second, dependsOn: [first], steps: [{stepId: a, operationId: list, parameters: [{name: n, in: query,
	value: $workflows.first.outputs.id}]}]}
  - {workflowId: first, steps: [{stepId: a, operationId: create, requestBody: {payload: {}}, outputs: {id: $response.body#/id}}],
	outputs: {id: $steps.a.outputs.id}}`,
			"first passed, second passed POST pets {}|GET pets?n=7"},
		{"a dependency that fails", `
  - {workflowId: second, dependsOn: [first], steps: [{stepId: a, operationId: list}]}
  - {workflowId: first, steps: [{stepId: a, operationId: list, successCriteria: [{condition: $statusCode == 500}]}]}`,
			"first failed: does not hold: $statusCode == 500; $statusCode is 200, second skipped GET pets"},
		{"another workflow", `
  - {workflowId: outer, steps: [{stepId: a, workflowId: inner, parameters: [{name: n, value: 5}], outputs: {got: $outputs.id}},
	{stepId: b, operationId: list, parameters: [{name: n, in: query, value: $steps.a.outputs.got}]}]}
  - {workflowId: inner, steps: [{stepId: a, operationId: list, parameters: [{name: n, in: query, value: $inputs.n}],
	outputs: {id: $inputs.n}}], outputs: {id: $steps.a.outputs.id}}`,
			"outer passed, inner failed: $inputs.n: there is no input n GET pets?n=5|GET pets?n=5"},
		{"try again", `
  - {workflowId: w, steps: [{stepId: a, operationId: list, successCriteria: [{condition: $statusCode == 500}], onFailure: [{name: r,
	type: retry, retryLimit: 2, retryAfter: 0.001}]}]}`,
			"w failed: does not hold: $statusCode == 500; $statusCode is 200 GET pets|GET pets|GET pets"},
		{"go to", `
  - {workflowId: w, steps: [{stepId: a, operationId: list, onSuccess: [{name: g, type: goto, stepId: c}]}, {stepId: b, operationId: list},
	{stepId: c, operationId: read, parameters: [{name: id, in: path, value: a b}]}]}`,
			"w passed GET pets|GET pets/a%20b"},
		{"end", `
  - {workflowId: w, steps: [{stepId: a, operationId: list, onSuccess: [{name: e, type: end,
	criteria: [{condition: $statusCode == 200}]}]}, {stepId: b, operationId: list}]}`,
			"w passed GET pets"},
		{"other criteria", `
  - {workflowId: w, steps: [{stepId: a, operationId: create, requestBody: {payload: {}}, successCriteria: [{context: $response.body,
	type: jsonpath, condition: "$.tags[?@ == 'a']"}, {context: $response.body#/name, type: regex, condition: "^R"}, {context: $response.body,
		type: jsonpath, condition: $.nothing}]}]}`,
			"w failed: does not hold: $.nothing POST pets {}"},
		{"inputs of another type", "\n  - {workflowId: w, inputs: {type: object, required: [n]}, steps: [{stepId: a, operationId: list}]}",
			"w failed: the inputs are not as the check needs them: /: missing property 'n' "},
		{"an operation that is not there", "\n  - {workflowId: w, steps: [{stepId: a, operationId: nothing}]}",
			"w failed: the description has no operation nothing "},
		{"by its path", "\n  - {workflowId: w, steps: [{stepId: a, operationPath: \"{$sourceDescriptions.s.url}#/paths/~1pets/get\"}]}",
			"w passed GET pets"},
		{"a parameter that is missing", "\n  - {workflowId: w, steps: [{stepId: a, operationId: read}]}",
			"w failed: the path /pets/{id} of read needs a parameter {id} "},
		{"components", "\n  - {workflowId: w, steps: [{stepId: a, operationId: list, parameters: [{reference: " +
			"$components.parameters.p}]}]}\ncomponents: {parameters: {p: {name: n, in: query, value: 1}}}", "w passed GET pets?n=1"},
		{"as whom", "\n  - {workflowId: w, x-eager-act-as: agent, steps: [{stepId: a, operationId: list}, {stepId: b, operationId: list, " +
			"x-eager-act-as: pilot}]}", "w passed agent GET pets|pilot GET pets"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			s, err := Parse([]byte(strings.TrimSuffix(head, "\n") + tt.text))
			if err != nil {
				t.Fatal(err)
			}
			var sent []string
			results, err := s.Run(context.Background(), Options{Contract: described, Send: func(_ context.Context, q Request) (Answer, error) {
				sent = append(sent, strings.TrimSpace(q.ActAs+" "+q.Method+" "+q.Path+" "+string(q.Body)))
				status := map[string]int{"POST": 201}[q.Method]
				return Answer{max(status, 200), nil, []byte(`{"id": 7, "name": "Rex", "tags": ["a"]}`)}, nil
			}})
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, r := range results {
				switch {
				case r.Passed:
					got = append(got, r.Check+" passed")
				case r.Skipped != "":
					got = append(got, r.Check+" skipped")
				default:
					got = append(got, r.Check+" failed: "+r.Failure)
				}
			}
			if text := strings.Join(got, ", ") + " " + strings.Join(sent, "|"); text != tt.want {
				t.Errorf("got  %s\nwant %s", text, tt.want)
			}
		})
	}
}

// What a check got in place of what it wants can be accepted: its criteria are rewritten where they stand, and nothing else is.
func TestAmendments(t *testing.T) {
	t.Parallel()
	described := contractOf(t)
	for _, tt := range []struct{ name, criteria, want string }{
		{"a status", "[{condition: $statusCode == 201}]", "[{condition: $statusCode == 200}]"},
		{"in quotes, with a comment beside it", `
        - condition: '$response.body#/name == ''Max''' # the dog
        - {condition: "$response.body#/id == 7"}
        - condition: "$response.body#/name == '\"'"`, `
        - condition: "$response.body#/name == 'Rex'" # the dog
        - {condition: "$response.body#/id == 7"}
        - condition: "$response.body#/name == 'Rex'"`},
		{"two on one line", "[{condition: $statusCode == 201}, {condition: $statusCode < 100}]",
			"[{condition: $statusCode == 200}, {condition: $statusCode == 200}]"},
		{"another value than null", "[{condition: $response.body#/none != null}]", `[{condition: "$response.body#/none == null"}]`},
		{"a quote in a value", "[{condition: $response.body#/quay == 'x'}]", `[{condition: "$response.body#/quay == 'Gull''s Quay'"}]`},
		{"a list", "[{condition: $response.body#/tags == 'x'}]", ""},
		{"what is not there", "[{condition: $response.body#/nothing == 1}]", ""},
		{"one of two that can't be", "[{condition: $statusCode == 201}, {condition: $statusCode == 201 || $statusCode == 202}]", ""},
		{"an expression at the right", "[{condition: $response.body#/id == $inputs.n}]", ""},
		{"what a path finds", "[{context: $response.body, type: jsonpath, condition: $.nothing}]", ""},
		{"on two lines", `
        - condition: >
            $statusCode == 201`, "can't"},
	} {
		text := func(criteria string) string {
			return head + "  - workflowId: w # a check\n    inputs: {type: object, properties: {n: {default: 1}}}\n" +
				"    steps:\n      - {stepId: before, operationId: list}\n      - stepId: a\n        operationId: list\n" +
				"        successCriteria: " + criteria + "\n"
		}
		read, err := Parse([]byte(text(tt.criteria)))
		if err != nil {
			t.Fatalf("%s: %v", tt.name, err)
		}
		results, err := read.Run(t.Context(), Options{Contract: described, Send: func(context.Context, Request) (Answer, error) {
			return Answer{200, nil, []byte(`{"id": 7, "name": "Rex", "tags": ["a"], "none": null, "quay": "Gull's Quay"}`)}, nil
		}})
		if err != nil || len(results) != 1 || results[0].Passed {
			t.Fatalf("%s: %v %v", tt.name, results, err)
		}
		list := results[0].Amendments
		if tt.want == "" {
			if len(list) > 0 {
				t.Errorf("%s: amended to %v, which nobody said", tt.name, list)
			}
			continue
		}
		amended, err := Amend([]byte(text(tt.criteria)), list)
		if f, is := fault.From(err); tt.want == "can't" {
			if !is || f.Code != "suite.spread" {
				t.Errorf("%s: %s %v", tt.name, amended, err)
			}
			continue
		}
		if err != nil || string(amended) != text(tt.want) {
			t.Errorf("%s: %v\ngot  %s\nwant %s", tt.name, err, amended, text(tt.want))
			continue
		}
		if _, err := Amend(amended, list); err == nil || !strings.Contains(err.Error(), "run the suite again") {
			t.Errorf("%s: amended twice: %v", tt.name, err)
		}
	}
}
