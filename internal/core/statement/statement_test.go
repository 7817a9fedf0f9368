package statement_test

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/harbour"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
)

var update = flag.Bool("update", false, "write the golden files")

// The SQL of requests, as an operator would read it. Look at testdata/read.sql after -update.
func TestRead(t *testing.T) {
	m, policy := harbour.Saltmere(t)
	agent := access.Caller{Subject: "x", Roles: []string{"agent"}, Claims: map[string]any{"agent_id": 3.0}}
	tests := []struct {
		caller      access.Caller
		path, query string
		after       []bool
	}{
		{access.Caller{}, "arrivals_board", "filter=vessel/flag eq 'NO'&count=true", nil},
		{access.Caller{}, "arrivals_board/17", "", nil},
		{agent, "berth_load(from=2026-01-01,to=2026-02-01)", "filter=hours gt 100&orderby=hours desc&count=true", nil},
		{agent, "port_calls/17", "select=id,eta", nil},
		{access.Caller{Subject: "operator", Operator: true}, "port_calls/17", "select=id,eta", nil},
		{access.Caller{Subject: "operator", Operator: true}, "port_calls/17/vessel", "select=name", nil},
		{access.Caller{Subject: "operator", Operator: true}, "port_calls/17", "select=id,twice&compute=draught_m mul 2 as twice", nil},
		{agent, "port_calls", "filter=status eq 'expected' and vessel/flag eq 'NO'&orderby=eta desc&top=5&select=id,eta&expand=vessel(select=name)&count=true", nil},
		{agent, "port_calls", "filter=not (berth_code eq 'N01') and berth_code ne 'N02'", nil},
		{agent, "dues", "expand=port_call(expand=vessel,tugs(orderby=name;top=2;count=true))", nil},
		{access.Caller{Subject: "x", Roles: []string{"agent", "pilot"}, Claims: map[string]any{"agent_id": 3.0}}, "vessels", "select=id,agent_id&filter=agent_id ne 3&orderby=agent_id&top=5", []bool{true, false}},
		{access.Caller{Subject: "operator", Operator: true}, "vessels", "filter=agent/name eq null or built_on in (2020-01-01,null) or id in (1,2)&orderby=agent/name desc,built_on", []bool{false, true, false}},
		{access.Caller{Subject: "operator", Operator: true}, "port_calls", "orderby=eta desc&select=id", []bool{false, false}},
		{access.Caller{Subject: "operator", Operator: true}, "pilotages(port_call_id=17,pilot_id=0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90,direction='inbound')", "expand=pilot(expand=mentor)", nil},
	}
	var got strings.Builder
	for _, tt := range tests {
		fmt.Fprintf(&got, "-- as %s: /%s?%s\n", map[bool]string{true: "operator", false: strings.Join(tt.caller.Roles, ", ")}[tt.caller.Operator], tt.path, tt.query)
		scope, err := policy.Scope(tt.caller)
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
		if err := scope.Check(q); err != nil {
			t.Fatal(err)
		}
		plan := statement.Read(q, scope, tt.after, statement.Bounds{Rows: 21, Offset: tt.after == nil}, false)
		in := statement.Input{Literals: r.Literals, Claims: tt.caller.Claims, Limit: 21, Offset: 0}
		for range tt.after {
			v := "last"
			in.After = append(in.After, &v)
		}
		args, err := plan.Args(in)
		if err != nil {
			t.Fatal(err)
		}
		for i, arg := range args {
			if text, ok := arg.(*string); ok {
				args[i] = *text
			}
		}
		short := ""
		if plan.Short {
			short = ", short"
		}
		fmt.Fprintf(&got, "%s\n-- %v%s\n\n", plan.SQL, args, short)
	}
	const golden = "testdata/read.sql"
	if *update {
		if err := os.WriteFile(golden, []byte(got.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	if got.String() != string(want) {
		t.Errorf("the SQL differs from %s; got\n%s", golden, got.String())
	}
}
