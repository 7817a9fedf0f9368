package access_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/harbour"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// What roles may read, and how a refusal says why.
func TestCheck(t *testing.T) {
	m, policy := harbour.Saltmere(t)
	tests := []struct {
		role, path, query string
		kind              fault.Kind
		want              string // "" allowed
	}{
		{"board", "arrivals_board", "filter=status eq 'expected' and vessel/flag eq 'NO' and tug_count gt 1&orderby=eta", 0, ""},
		{"board", "vessels", "", fault.Unauthenticated, `without a token the role is "board", which may not read vessels; it may read arrivals_board`},
		{"board", "port_calls", "filter=vessel/name eq 'x'", fault.Unauthenticated, `may not read port_calls`},
		{"pilot", "port_calls", "select=remarks", fault.Forbidden, `role "pilot" may not read remarks of port_calls; it may read id, vessel_id, berth_code, status, eta`},
		{"agent", "port_calls", "expand=vessel,tugs,due", 0, ""},
		{"agent", "port_calls", "select=remarks", fault.Forbidden, `role "agent" may not read remarks of port_calls`},
		{"agent", "port_calls", "filter=contains(tolower(remarks),'ice')", fault.Forbidden, `may not read remarks`},
		{"agent", "port_calls", "filter=id in (1,2) and not (remarks in ('a',null))", fault.Forbidden, `may not read remarks`},
		{"agent", "port_calls", "orderby=remarks", fault.Forbidden, `may not read remarks`},
		{"agent", "berths", "expand=port_calls(filter=remarks eq null)", fault.Forbidden, `may not read remarks`},
		{"agent", "port_calls", "expand=inspections", fault.Forbidden, `role "agent" may not read inspections; it may read vessels, berths, port_calls, tugs, dues, tide_readings, weather_log`},
		{"pilot", "vessels", "filter=agent_id eq 3", fault.Forbidden, `may not read agent_id of vessels`},
		{"office", "dues", "", fault.Forbidden, `role "office" may not read dues`},
		{"harbour_master", "dues", "expand=port_call(expand=vessel(expand=agent))", 0, ""},
	}
	for _, tt := range tests {
		t.Run(tt.role+" "+tt.path+"?"+tt.query, func(t *testing.T) {
			c := access.Caller{Subject: "x", Roles: []string{tt.role}}
			if tt.role == "board" {
				c = access.Caller{}
			}
			scope, err := policy.Scope(c)
			if err != nil {
				t.Fatal(err)
			}
			r, err := request.Read(m, tt.path, strings.ReplaceAll(tt.query, " ", "%20"))
			if err != nil {
				t.Fatal(err)
			}
			q, err := r.Resolve()
			if err != nil {
				t.Fatal(err)
			}
			err = scope.Check(q)
			if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
				t.Errorf("got %v, want %q", err, tt.want)
			}
			if f, ok := fault.From(err); ok && f.Kind != tt.kind {
				t.Errorf("the kind is %d, want %d", f.Kind, tt.kind)
			}
		})
	}
}

func TestRulesAreCompiled(t *testing.T) {
	const head = "window: w\nsource: s\nresources: {vessels: {from: harbour.vessel}, agents: {from: harbour.agent}}\nroles:\n  r:\n    claims: {agent_id: integer}\n    may:\n      vessels:\n        read: "
	tests := []struct{ grant, want string }{
		{"{rows: agent_id eq @caller/agent}", `line 9, column 22: role r, read of vessels: the role has no claim "agent" in rows at 13; there is "agent_id"`},
		{"{rows: agent_id eq @caller/agentid}", `line 9, column 22: role r, read of vessels: the role has no claim "agentid" in rows at 13; did you mean "agent_id"?`},
		{"{rows: \"kind eq 'boat'\"}", `"boat" is none of the values`},
		{"{rows: agent_idd eq 3}", `unknown field "agent_idd" in rows at 1`},
		{"{rows: name}", `a condition is expected`},
		{"{rows: flag eq @caller/agent_id}", `flag is a string and @caller/agent_id is an integer, so "eq" can't compare them in rows at 6`},
	}
	for _, tt := range tests {
		doc, err := window.Parse([]byte(head+tt.grant), os.LookupEnv)
		if err != nil {
			t.Fatal(err)
		}
		m, err := model.Bind(doc, harbour.Catalog(t))
		if err != nil {
			t.Fatal(err)
		}
		if _, err = access.Bind(m); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s:\ngot  %v\nwant %s", tt.grant, err, tt.want)
		}
	}
}

func TestClaims(t *testing.T) {
	_, policy := harbour.Saltmere(t)
	scope, err := policy.Scope(access.Caller{Subject: "x", Roles: []string{"agent"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		claims map[string]any
		want   string
	}{
		{map[string]any{"agent_id": 3.0}, ""}, {map[string]any{"agent_id": "3"}, ""},
		{nil, `no claim "agent_id"`}, {map[string]any{"agent_id": nil}, `no claim`},
		{map[string]any{"agent_id": "x"}, `"x", which is no integer`}, {map[string]any{"agent_id": 3.5}, `which is no integer`},
		{map[string]any{"agent_id": []any{3.0}}, `is not a single value`},
	} {
		err := scope.CheckClaims(tt.claims)
		if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
			t.Errorf("%v: got %v, want %q", tt.claims, err, tt.want)
		}
	}
	if _, err := policy.Scope(access.Caller{Subject: "x", Roles: []string{"agnet"}}); err == nil || !strings.Contains(err.Error(), `did you mean "agent"?`) {
		t.Errorf("an unknown role: %v", err)
	}
}

func ExampleClaimValue() {
	v, err := access.ClaimValue(map[string]any{"agent_id": 3.0}, "agent_id", model.Int64Type)
	fmt.Println(v, err)
	// Output: 3 <nil>
}
