package access_test

import (
	"cmp"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// What roles may read, and how a refusal says why.
func TestCheck(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
	tests := []struct {
		role, path, query string
		kind              fault.Kind
		want              string // "" allowed
	}{
		{"board", "arrivals_board", "filter=status eq 'expected' and vessel/flag eq 'NO' and tug_count gt 1&orderby=eta", 0, ""},
		{"board", "vessels", "", fault.Unauthenticated,
			`without a token the role is "board", which may not read vessels; it may read arrivals_board`},
		{"board", "port_calls", "filter=vessel/name eq 'x'", fault.Unauthenticated, `may not read port_calls`},
		{"pilot", "port_calls", "select=remarks", fault.Forbidden,
			`role "pilot" may not read remarks of port_calls; it may read id, vessel_id, berth_code, status, eta`},
		{"agent", "port_calls", "expand=vessel,tugs,due", 0, ""},
		{"agent", "port_calls", "select=remarks", fault.Forbidden, `role "agent" may not read remarks of port_calls`},
		{"agent", "port_calls", "filter=contains(tolower(remarks),'ice')", fault.Forbidden, `may not read remarks`},
		{"agent", "port_calls", "filter=id in (1,2) and not (remarks in ('a',null))", fault.Forbidden, `may not read remarks`},
		{"agent", "port_calls", "orderby=remarks", fault.Forbidden, `may not read remarks`},
		{"agent", "berths", "expand=port_calls(filter=remarks eq null)", fault.Forbidden, `may not read remarks`},
		{"agent", "port_calls", "expand=inspections", fault.Forbidden,
			`role "agent" may not read inspections; it may read vessels, berths, port_calls, tugs, dues, tide_readings, weather_log`},
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
			scope, _, q := coretest.Request(t, m, policy, c, tt.path, tt.query)
			_, err := scope.Check(q)
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
	t.Parallel()
	const head = "window: w\nsource: s\nresources: {vessels: {from: harbour.vessel}, " +
		"agents: {from: harbour.agent}}\nroles:\n  r:\n    claims: {agent_id: integer}\n    may:\n      vessels:\n        read: "
	tests := []struct{ grant, want string }{
		{"{rows: agent_id eq @caller/agent}",
			`line 9, column 22: role r, read of vessels: the role has no claim "agent" in rows at 13; there is "agent_id"`},
		{"{rows: agent_id eq @caller/agentid}",
			`line 9, column 22: role r, read of vessels: the role has no claim "agentid" in rows at 13; did you mean "agent_id"?`},
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
		if _, err = access.Bind(doc, coretest.Catalog(t)); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s:\ngot  %v\nwant %s", tt.grant, err, tt.want)
		}
	}
}

func TestClaims(t *testing.T) {
	t.Parallel()
	_, policy := coretest.Saltmere(t)
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
	if _, err := policy.Scope(access.Caller{Subject: "x", Roles: []string{"agnet"}}); err == nil ||
		!strings.Contains(err.Error(), `did you mean "agent"?`) {
		t.Errorf("an unknown role: %v", err)
	}
}

// What several roles may together, in the words of their grants: rows of each, fields of those that reach the row, the wider limits.
func TestSeveralRoles(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Bind(t, `window: w
source: s
resources: {port_calls: {from: harbour.port_call}, tugs: {from: harbour.tug}}
roles:
  own:
    claims: {me: integer}
    limits: {rows: 10, requests: 60/minute, depth: 2}
    may:
      port_calls:
        read: {rows: vessel_id eq @caller/me, except: [remarks]}
        create: {rows: vessel_id eq @caller/me, fields: [vessel_id, eta], set: {status: expected, remarks: "@caller/me"}}
        update: {rows: vessel_id eq @caller/me, fields: [eta]}
  late:
    claims: {me: integer, port: text}
    limits: {rows: 500, requests: 2/second}
    may:
      port_calls:
        read: {rows: status eq 'expected'}
        create: {fields: [vessel_id, eta, etd, status]}
        update: {rows: status eq 'expected', fields: [etd]}
  all:
    may: {"*": [read]}
`)
	scope := func(roles ...string) *access.Scope {
		s, err := policy.Scope(access.Caller{Subject: "x", Roles: roles})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	calls := m.Resource("port_calls")
	both := scope("late", "own", "late", "gone")
	if both != scope("own", "late") || both.Name != "own and late" || len(both.Claims) != 2 {
		t.Errorf("%q, claims %v", both.Name, both.Claims)
	}
	if l := both.Limits; l.Rows != 500 || l.Depth != 0 || l.Requests.Count != 2 || l.Requests.Per != time.Second {
		t.Errorf("limits %+v", l)
	}
	texts := func(op window.Operation, s *access.Scope, after bool, fields ...string) string {
		var list []*model.Field
		for _, name := range fields {
			list = append(list, calls.Field(name))
		}
		var all []string
		for _, any := range s.For(op, calls).Rules(list, after) {
			var some []string
			for _, rule := range any {
				some = append(some, cmp.Or(rule.Text, "and what it sets"))
			}
			all = append(all, strings.Join(some, " | "))
		}
		return strings.Join(all, " & ")
	}
	const own, late = "vessel_id eq @caller/me", "status eq 'expected'"
	for _, tt := range []struct{ name, got, want string }{
		{"reads", texts(window.Read, both, false), own + " | " + late},
		{"changes what one may", texts(window.Update, both, false, "eta"), own + " | " + late + " & " + own},
		{"changes what each may", texts(window.Update, both, false, "eta", "etd"), own + " | " + late + " & " + own + " & " + late},
		{"creates what one may, who has no rule", texts(window.Create, both, true, "etd"), ""},
		{"creates, and one role sets more", texts(window.Create, both, true, "remarks"), "and what it sets"},
		{"with one that reads all", texts(window.Read, scope("own", "all"), false), ""},
		{"alone", texts(window.Read, scope("own"), false), own},
	} {
		if tt.got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, tt.got, tt.want)
		}
	}
	create := both.For(window.Create, calls)
	if create.Presets(calls.Field("status")) || !create.Presets(calls.Field("remarks")) || !create.Fields[calls.Field("status").Index] {
		t.Errorf("who may send status says it: %+v", create.Set)
	}
	read := both.For(window.Read, calls)
	if read.MaskOf(calls.Field("remarks")) < 0 || read.MaskOf(calls.Field("eta")) >= 0 || len(read.Masks) != 1 {
		t.Errorf("masks %+v", read.Masks)
	}
	if d := scope("own", "all").For(window.Read, calls); len(d.Masks) != 0 || !d.Fields[calls.Field("remarks").Index] {
		t.Errorf("a role that reads all hides nothing: %+v", d.Masks)
	}
	if d := scope("own", "all").For(window.Delete, calls); d != nil {
		t.Error("nobody may delete")
	}
}

func ExampleClaimValue() {
	v, err := access.ClaimValue(map[string]any{"agent_id": 3.0}, "agent_id", model.Int64Type)
	fmt.Println(v, err)
	// Output: 3 <nil>
}
