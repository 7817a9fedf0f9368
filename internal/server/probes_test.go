package server_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/probes"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/windows"
)

// planted is a fault: the document that is believed differs from the one that is served, or answers are changed on their way.
type planted struct {
	name, suite, only string
	document          [2]string // what is replaced in the believed document, by what
	change            func(q suite.Request, a *suite.Answer)
	want              string // of the failure; "" that nothing fails
}

func swap(path, from, to string) func(suite.Request, *suite.Answer) {
	return func(q suite.Request, a *suite.Answer) {
		if strings.HasPrefix(q.Path, path) && a.Status < 300 {
			a.Body = bytes.Replace(a.Body, []byte(from), []byte(to), 1)
		}
	}
}

func status(method, path string, from, to int) func(suite.Request, *suite.Answer) {
	return func(q suite.Request, a *suite.Answer) {
		if q.Method == method && strings.HasPrefix(q.Path, path) && (a.Status == from || from == 0) {
			a.Status = to
		}
	}
}

// Each suite finds what is planted, and says it in words that lead there; without it nothing is found.
func TestPlantedFaults(t *testing.T) {
	t.Parallel()
	r := start(t)
	api, err := r.Service.Live(t.Context(), demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []planted{
		{name: "nothing", suite: "access", only: "agent: "}, {name: "nothing", suite: "contract", only: "agent: "}, {name: "nothing",
			suite: "edges", only: "tug"},
		{"a grant too many", "access", "agent: read berths", [2]string{"      berths: read\n      berth_load: read", "      berth_load: read"},
			nil, "does not grant to read berths, and it is answered with 200"},
		{"a grant too few", "access", "agent: delete tugs", [2]string{"      tugs: read\n      dues:",
			"      tugs: [read, delete]\n      dues:"}, nil, "grants to delete tugs, and it is refused with 403"},
		{"a field too many", "access", "agent: read port_calls", [2]string{"except: [remarks]", "except: [remarks, eta]"}, nil,
			"does not grant eta of port_calls in select"},
		{"a field too few", "access", "agent: read port_calls", [2]string{", except: [remarks]", ""}, nil,
			"grants remarks of port_calls in select"},
		{"a rule of another agent", "access", "agent: read vessels", [2]string{"read: {rows: agent_id eq @caller/agent_id}",
			"read: {rows: agent_id eq 4}"}, nil, "rows of vessels, and"},
		{"a rule too wide", "access", "agent: read port_calls", [2]string{"vessel/agent_id eq @caller/agent_id, except",
			"vessel/agent_id eq @caller/agent_id and status eq 'departed', except"}, nil, "rows of port_calls, and"},
		{"a change too many", "access", "agent: update port_calls", [2]string{"fields: [eta, etd], rows", "fields: [eta], rows"}, nil,
			"does not grant to update etd of port_calls"},
		{"a change too few", "access", "agent: update port_calls", [2]string{"fields: [eta, etd], rows", "fields: [eta, etd, draught_m], rows"},
			nil, "grants to update draught_m of port_calls"},
		{"a rule of changes", "access", "agent: update port_calls", [2]string{"and status eq 'expected'}", "and status eq 'departed'}"}, nil,
			"grants to update eta of port_calls, and it is refused with 403"},
		{"a resource of everyone", "access", "board: read", [2]string{"      arrivals_board: read", "      tugs: read"}, nil,
			"does not grant to read arrivals_board"},
		{"a new row too many", "access", "office: create tugs", [2]string{`      "*": [read, create, update]`, `      "*": [read, update]`},
			nil, "does not grant to create tugs"},
		{"a deletion too many", "access", "harbour_master: delete tugs", [2]string{`may: {"*": [read, create, update, delete]}`,
			`may: {"*": [read, create, update]}`}, nil, "does not grant to delete tugs, and it is answered with 409"},
		{"a field of pilots", "access", "pilot: read pilots", [2]string{"fields: [id, name, class, on_duty]", "fields: [id, name, class]"}, nil,
			"does not grant on_duty of pilots"},
		{"a preset that is not there", "access", "agent: create port_calls",
			[2]string{"fields: [vessel_id, eta, etd, draught_m], set: {status: expected}",
				"fields: [vessel_id, eta, draught_m], set: {status: expected}"}, nil, "does not grant to give etd of a new port_call"},
		{"two roles together", "access", "agent and pilot: read", [2]string{"      berth_occupancy: read\n  office", "  office"}, nil,
			"does not grant to read berth_occupancy"},
		{"a relation", "access", "agent: read dues", [2]string{"", ""}, func(q suite.Request, a *suite.Answer) {
			if q.ActAs != "" && strings.Contains(q.Path, "expand=port_call") {
				a.Status = 403
			}
		}, "grants to follow port_call from dues"},
		{"one row more", "access", "agent: read vessels", [2]string{}, func(q suite.Request, a *suite.Answer) {
			if q.ActAs != "" && strings.HasPrefix(q.Path, "vessels/$count") {
				a.Body = append(a.Body, '0')
			}
		}, "are seen"},
		{"a field that slips in", "access", "agent: read vessels", [2]string{}, swap("vessels?", `"flag":`, `"internal_note":"x","flag":`),
			"the answer shows internal_note"},
		{"a row outside of the rule", "access", "agent: update port_calls", [2]string{}, func(q suite.Request, a *suite.Answer) {
			if strings.HasPrefix(string(q.Body), `{"eta"`) && a.Status == 404 {
				a.Status = 200
			}
		}, "that the rule does not cover is updated"},
		{"a required field is gone", "contract", "agent: list-tugs", [2]string{}, swap("tugs", `"name":`, `"nom":`), "missing property 'name'"},
		{"a text in place of a number", "contract", "agent: list-tugs", [2]string{}, swap("tugs", `"bollard_pull_t":`,
			`"bollard_pull_t":"much","x":`), "/value/0/bollard_pull_t: got string, want number"},
		{"null where none can be", "contract", "agent: get-tug", [2]string{}, swap("tugs/", `"name":`, `"name":null,"x":`),
			"/name: got null, want string"},
		{"a value of no enumeration", "contract", "agent: list-port_calls", [2]string{}, swap("port_calls", `"status":"`, `"status":"un`),
			"/value/0/status: value must be one of"},
		{"too many decimals", "contract", "agent: list-port_calls", [2]string{}, swap("port_calls", `"draught_m":`, `"draught_m":1.234,"x":`),
			"draught_m"},
		{"a page without rows", "contract", "agent: list-berths", [2]string{}, swap("berths", `"value":`, `"values":`),
			"missing property 'value'"},
		{"a status that is not described", "contract", "agent: list-berths", [2]string{}, status("GET", "berths", 200, 206),
			"the status 206 is not described; those are 200"},
		{"another type", "contract", "agent: get-berth", [2]string{}, func(q suite.Request, a *suite.Answer) {
			if q.ActAs != "" && a.Status == 200 {
				a.Header.Set("Content-Type", "text/html")
			}
		}, "the body is text/html, and application/json is described"},
		{"no JSON", "contract", "agent: get-berth", [2]string{}, swap("berths/", `{`, `<`), "the body is no JSON"},
		{"a refusal without words", "contract", "agent: create-port_call", [2]string{}, func(q suite.Request, a *suite.Answer) {
			if a.Status >= 400 {
				a.Body = []byte(`{"oops":true}`)
			}
		}, "missing property 'error'"},
		{"a failure", "contract", "agent: create-port_call", [2]string{}, status("POST", "port_calls", 0, 500), "the answer has the status 500"},
		{"500 on a long text", "edges", "create-tug", [2]string{}, func(q suite.Request, a *suite.Answer) {
			if len(q.Body) > 100_000 && len(q.Body) < 200_000 {
				a.Status = 500
			}
		}, "the answer has the status 500"},
		{"an unknown field is taken", "edges", "create-tug", [2]string{}, func(q suite.Request, a *suite.Answer) {
			if strings.Contains(string(q.Body), "no_such_field") {
				a.Status = 201
			}
		}, "an unknown field: it is taken, with 201"},
		{"an unknown option is taken", "edges", "list-tugs", [2]string{}, func(q suite.Request, a *suite.Answer) {
			if strings.Contains(q.Path, "no_such_option") {
				a.Status = 200
			}
		}, "no_such_option=1: it is taken, with 200"},
		{"a refusal without a code", "edges", "list-tugs", [2]string{}, func(q suite.Request, a *suite.Answer) {
			if a.Status == 400 {
				a.Body = []byte("no")
			}
		}, "has no code"},
		{"a write that lasts", "edges", "create-tug", [2]string{}, func() func(suite.Request, *suite.Answer) {
			made := 0
			return func(q suite.Request, a *suite.Answer) {
				if q.Method == "POST" && a.Status == 400 {
					made++
				}
				if strings.HasPrefix(q.Path, "tugs/$count") && made > 0 {
					a.Body = []byte("999")
				}
			}
		}(), "it is refused, and there are 999 rows"},
		{"the wrong status for a type", "edges", "create-tug", [2]string{}, status("POST", "tugs", 415, 404),
			"the answer has the status 404, not 415"},
		{"a version that was never", "edges", "delete-tug", [2]string{}, status("DELETE", "tugs/", 412, 400),
			"the answer has the status 400, not 412"},
	} {
		t.Run(tt.suite+" "+tt.name, func(t *testing.T) {
			t.Parallel()
			text := demo.Document
			if tt.document[0] != "" {
				if text = strings.Replace(text, tt.document[0], tt.document[1], 1); text == demo.Document {
					t.Fatalf("%q is not in the document", tt.document[0])
				}
			}
			doc, err := window.Parse([]byte(text), func(string) (string, bool) { return "", false })
			if err != nil {
				t.Fatal(err)
			}
			policy, err := access.Bind(doc, api.Catalog)
			if err != nil {
				t.Fatal(err)
			}
			results, err := probes.Run(t.Context(), tt.suite, probes.Options{Policy: policy, Only: tt.only, Begin: rehearsed(r, tt.change),
				Callers: map[string]probes.Caller{"agent": {Claims: map[string]string{"agent_id": "3"}},
					"pilot": {Claims: map[string]string{"pilot_id": demo.Pilot}}}})
			if err != nil {
				t.Fatal(err)
			}
			var failures []string
			for _, one := range results {
				if !one.Passed {
					failures = append(failures, one.Check+": "+one.Failure)
				}
			}
			switch all := strings.Join(failures, "\n"); {
			case len(results) == 0:
				t.Error("no check was run")
			case tt.want == "" && failures != nil, tt.want != "" && !strings.Contains(all, tt.want):
				t.Errorf("found %.1500q, want %q", all, tt.want)
			}
		})
	}
}

// rehearsed gives a check a rehearsal of its own over HTTP, and changes the answers to it.
func rehearsed(r *harbourtest.Running, change func(suite.Request, *suite.Answer)) func(context.Context) (suite.Send, func(), error) {
	return func(ctx context.Context) (suite.Send, func(), error) {
		var open windows.Rehearsal
		var err error
		for range 200 { // there may be some of them only at once
			if open, err = r.Operator.OpenRehearsal(ctx, demo.Window, windows.NewRehearsal{}); err == nil {
				break
			}
			if refused, is := err.(*client.Refused); !is || refused.Code != "rehearsal.many" {
				return nil, nil, err
			}
		}
		if err != nil {
			return nil, nil, err
		}
		send := func(ctx context.Context, q suite.Request) (suite.Answer, error) {
			req, err := http.NewRequestWithContext(ctx, q.Method, r.URL+"/api/saltmere/"+q.Path, bytes.NewReader(q.Body))
			if err != nil { // an address that can't be
				return suite.Answer{Status: 400, Header: map[string][]string{}, Body: []byte(`{"error":{"code":"path.invalid","message":"x"}}`)}, nil
			}
			for name, values := range q.Header {
				req.Header[name] = values
			}
			req.Header.Set("Rehearsal", open.ID)
			req.Header.Set("Authorization", "Bearer "+r.Operator.Token)
			if q.ActAs != "" {
				req.Header.Set("Act-As", q.ActAs)
			}
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				return suite.Answer{}, fmt.Errorf("%s %.60s: %w", q.Method, q.Path, err)
			}
			defer res.Body.Close()
			var body bytes.Buffer
			if _, err := body.ReadFrom(res.Body); err != nil {
				return suite.Answer{}, err
			}
			a := suite.Answer{Status: res.StatusCode, Header: map[string][]string(res.Header), Body: body.Bytes()}
			if change != nil {
				change(q, &a)
			}
			return a, nil
		}
		return send, func() { _ = r.Operator.CloseRehearsal(context.WithoutCancel(ctx), demo.Window, open.ID) }, nil
	}
}
