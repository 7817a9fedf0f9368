package statement_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
)

// The SQL of requests, as an operator would read it. Look at testdata/read.sql after -update.
func TestRead(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
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
		{agent, "port_calls", "filter=status eq 'expected' and vessel/flag eq 'NO'&orderby=eta desc&top=5&select=id," +
			"eta&expand=vessel(select=name)&count=true", nil},
		{agent, "port_calls", "filter=not (berth_code eq 'N01') and berth_code ne 'N02'", nil},
		{agent, "dues", "expand=port_call(expand=vessel,tugs(orderby=name;top=2;count=true))", nil},
		{access.Caller{Subject: "x", Roles: []string{"agent", "pilot"}, Claims: map[string]any{"agent_id": 3.0}}, "vessels",
			"select=id,agent_id&filter=agent_id ne 3&orderby=agent_id&top=5", []bool{true, false}},
		{access.Caller{Subject: "operator", Operator: true}, "vessels",
			"filter=agent/name eq null or built_on in (2020-01-01,null) or id in (1,2)&orderby=agent/name desc,built_on",
			[]bool{false, true, false}},
		{access.Caller{Subject: "operator", Operator: true}, "port_calls", "orderby=eta desc&select=id", []bool{false, false}},
		{access.Caller{Subject: "operator", Operator: true},
			"pilotages(port_call_id=17,pilot_id=0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90,direction='inbound')", "expand=pilot(expand=mentor)", nil},
	}
	var got strings.Builder
	for _, tt := range tests {
		fmt.Fprintf(&got, "-- as %s: /%s?%s\n", map[bool]string{true: "operator", false: strings.Join(tt.caller.Roles, ", ")}[tt.caller.Operator],
			tt.path, tt.query)
		scope, r, q := coretest.Request(t, m, policy, tt.caller, tt.path, tt.query)
		q, err := scope.Check(q)
		if err != nil {
			t.Fatal(err)
		}
		plan := statement.Read(q, scope, tt.after, statement.Bounds{Rows: 21, Offset: tt.after == nil})
		in := statement.Input{Literals: r.Literals, Claims: tt.caller.Claims, Limit: 21, Offset: 0}
		for range tt.after {
			v := "last"
			in.After = append(in.After, &v)
		}
		everyArgument(t, tt.path, plan)
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
		if plan.SingleKeyRead {
			short = ", short"
		}
		fmt.Fprintf(&got, "%s\n-- %v%s\n\n", plan.SQL, args, short)
	}
	coretest.Golden(t, "testdata/read.sql", got.String())
}

// The SQL of writes, with what each argument stands for and where what it answers stands. Look at testdata/write.sql after -update.
func TestWrite(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
	agent := access.Caller{Subject: "x", Roles: []string{"agent"}, Claims: map[string]any{"agent_id": 3.0}}
	master := access.Caller{Subject: "x", Roles: []string{"harbour_master"}}
	office := access.Caller{Subject: "x", Roles: []string{"office"}}
	both := access.Caller{Subject: "x", Roles: []string{"agent", "pilot"}, Claims: map[string]any{"agent_id": 3.0}}
	type write struct {
		q     *query.Query
		r     *model.Resource
		scope *access.Scope
	}
	fields := func(w write, names ...string) (list []*model.Field) {
		for _, name := range names {
			list = append(list, w.r.Field(name))
		}
		return list
	}
	given := func(w write, some bool, names ...string) (list []statement.Given) {
		for _, f := range fields(w, names...) {
			list = append(list, statement.Given{Field: f, Some: some})
		}
		return list
	}
	tests := []struct {
		what        string
		caller      access.Caller
		path, query string
		plan        func(write) *statement.Plan
	}{
		{"create", master, "tugs", "", func(w write) *statement.Plan {
			return statement.Create(w.q, fields(w, "name", "bollard_pull_t"), w.scope)
		}},
		{"create, nothing given", master, "port_calls", "select=id",
			func(w write) *statement.Plan { return statement.Create(w.q, nil, w.scope) }},
		{"create under a rule, with a preset", agent, "port_calls", "select=id,status", func(w write) *statement.Plan {
			return statement.Create(w.q, fields(w, "vessel_id", "eta", "draught_m"), w.scope)
		}},
		{"create that shows relations", master, "port_calls", "select=id&expand=vessel(select=name),tugs(select=name;orderby=name;top=2)",
			func(w write) *statement.Plan { return statement.Create(w.q, fields(w, "vessel_id"), w.scope) }},
		{"change", office, "port_calls/17", "select=id,eta",
			func(w write) *statement.Plan { return statement.Update(w.q, fields(w, "eta"), nil, w.scope, false) }},
		{"change of a version", office, "pilotages/17/0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90/inbound", "select=boarded_at",
			func(w write) *statement.Plan {
				return statement.Update(w.q, fields(w, "boarded_at"), nil, w.scope, true)
			}},
		{"change under a rule that needs another table", agent, "port_calls/17", "select=id,eta",
			func(w write) *statement.Plan { return statement.Update(w.q, fields(w, "eta"), nil, w.scope, false) }},
		{"change under a rule of the row alone", access.Caller{Subject: "x", Roles: []string{"pilot"}},
			"pilotages/17/0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90/inbound", "select=boarded_at", func(w write) *statement.Plan {
				return statement.Update(w.q, fields(w, "boarded_at"), nil, w.scope, false)
			}},
		{"change of nothing in the row itself", office, "port_calls/17", "select=id",
			func(w write) *statement.Plan { return statement.Update(w.q, nil, nil, w.scope, false) }},
		{"replacement", office, "berths/N05", "select=code", func(w write) *statement.Plan {
			return statement.Update(w.q, fields(w, "quay"), fields(w, "shore_power"), w.scope, false)
		}},
		{"change as two roles", both, "port_calls/17", "select=id,remarks",
			func(w write) *statement.Plan { return statement.Update(w.q, fields(w, "etd"), nil, w.scope, false) }},
		{"deletion", master, "tugs/3", "", func(w write) *statement.Plan { return statement.Delete(w.q, w.scope, false) }},
		{"deletion of a version", master, "tugs/3", "", func(w write) *statement.Plan { return statement.Delete(w.q, w.scope, true) }},
		{"change of each", agent, "port_calls/$filter(vessel%2Fflag eq 'NO')/$each", "", func(w write) *statement.Plan {
			return statement.UpdateEach(w.q, fields(w, "etd"), w.scope, false)
		}},
		{"change of each, shown", agent, "port_calls/$filter(status eq 'expected')/$each", "select=id,etd", func(w write) *statement.Plan {
			return statement.UpdateEach(w.q, fields(w, "etd"), w.scope, true)
		}},
		{"deletion of each", master, "cargo_items/$filter(port_call%2Fstatus eq 'cancelled')/$each", "",
			func(w write) *statement.Plan { return statement.DeleteEach(w.q, w.scope) }},
		{"how many a change would touch", agent, "port_calls/$filter(draught_m gt 5)/$each", "",
			func(w write) *statement.Plan { return statement.EstimateWrite(w.q, w.scope, window.Update) }},
		{"creation of many", master, "tugs", "", func(w write) *statement.Plan {
			return statement.CreateRows(w.q, statement.Rows{Given: append(given(w, false, "name"), given(w, true, "bollard_pull_t", "id")...)},
				w.scope)
		}},
		{"creation of many, shown", agent, "port_calls", "select=id", func(w write) *statement.Plan {
			return statement.CreateRows(w.q, statement.Rows{Given: given(w, false, "vessel_id", "eta", "draught_m"), Show: true}, w.scope)
		}},
		{"creation of many that later steps refer to", master, "vessels", "", func(w write) *statement.Plan {
			return statement.CreateRows(w.q, statement.Rows{Given: given(w, false, "name"), Returned: fields(w, "id", "imo_number")}, w.scope)
		}},
		{"creation of many of which nothing is given", master, "port_calls", "", func(w write) *statement.Plan {
			return statement.CreateRows(w.q, statement.Rows{Returned: fields(w, "id")}, w.scope)
		}},
		{"change of many", agent, "port_calls", "", func(w write) *statement.Plan {
			return statement.UpdateRows(w.q, statement.Rows{Keyed: true, Given: given(w, true, "eta", "etd")}, w.scope)
		}},
		{"change of many versions, shown", master, "berths", "", func(w write) *statement.Plan {
			return statement.UpdateRows(w.q, statement.Rows{Keyed: true, Versioned: true, Given: given(w, false, "quay"), Show: true}, w.scope)
		}},
		{"change of many that must be tied", office, "cargo_items", "", func(w write) *statement.Plan {
			return statement.UpdateRows(w.q, statement.Rows{Keyed: true, LinkedBy: m.Resource("port_calls").Relation("cargo_items"),
				Given: given(w, false, "description")}, w.scope)
		}},
		{"change of many as two roles, which later steps refer to", both, "port_calls", "", func(w write) *statement.Plan {
			return statement.UpdateRows(w.q, statement.Rows{Keyed: true, Given: given(w, false, "etd"), Returned: fields(w, "id", "berth_code")},
				w.scope)
		}},
		{"deletion of many", master, "pilotages", "", func(w write) *statement.Plan {
			return statement.DeleteRows(w.r, statement.Rows{Keyed: true, Versioned: true}, w.scope)
		}},
		{"deletion of many that a junction ties", master, "tugs", "", func(w write) *statement.Plan {
			return statement.DeleteRows(w.r, statement.Rows{Keyed: true, LinkedBy: m.Resource("port_calls").Relation("tugs")}, w.scope)
		}},
		{"look-up by key", agent, "port_calls", "", func(w write) *statement.Plan {
			return statement.Find([]change.Hop{{Resource: w.r, Key: make([]change.Value, 1), KeyOf: w.r.Key}}, fields(w, "id", "vessel_id"), w.scope)
		}},
		{"look-up along relations", agent, "port_calls", "", func(w write) *statement.Plan {
			vessel := w.r.Relation("vessel")
			return statement.Find([]change.Hop{{Resource: w.r, Key: make([]change.Value, 1), KeyOf: w.r.Key}, {Resource: vessel.To, Via: vessel},
				{Resource: w.r, Via: vessel.To.Relation("port_calls"), Key: make([]change.Value, 1), KeyOf: w.r.Key}}, nil, w.scope)
		}},
		{"release of what is left out", office, "vessels", "", func(w write) *statement.Plan {
			return statement.Release(m.Resource("berths").Relation("port_calls"), true, w.scope)
		}},
		{"look-up of what is left out", agent, "vessels", "", func(w write) *statement.Plan {
			return statement.LeftOut(w.r.Relation("port_calls"), false, w.scope)
		}},
		{"set of ties", office, "port_calls/17", "", func(w write) *statement.Plan {
			return statement.LinkRows(w.r.Relation("tugs"), []change.Act{change.Keep, change.Add, change.Remove}, w.scope)
		}},
		{"ties", office, "port_calls/17", "", func(w write) *statement.Plan {
			return statement.LinkRows(w.r.Relation("tugs"), []change.Act{change.Add}, w.scope)
		}},
		{"ties where a field is hidden", both, "port_calls/17", "", func(w write) *statement.Plan {
			return statement.LinkRows(w.r.Relation("tugs"), []change.Act{change.Add}, w.scope)
		}},
		{"locks before such ties", both, "port_calls/17", "", func(w write) *statement.Plan { return statement.LockNear(w.r, w.scope) }},
		{"locks before a change of each", both, "port_calls/$filter(draught_m gt 5)/$each", "",
			func(w write) *statement.Plan { return statement.LockEach(w.q, window.Update, w.scope) }},
	}
	var got strings.Builder
	for _, tt := range tests {
		scope, r, q := coretest.Request(t, m, policy, tt.caller, tt.path, tt.query)
		plan := tt.plan(write{q, r.Resource, scope})
		fmt.Fprintf(&got, "-- %s, as %s: /%s?%s\n%s\n", tt.what, strings.Join(tt.caller.Roles, " and "), tt.path, tt.query, plan.SQL)
		for i, slot := range plan.Slots {
			fmt.Fprintf(&got, "--   $%d %s\n", i+1, slotText(slot, plan))
		}
		everyArgument(t, tt.what, plan)
		for _, place := range []struct {
			what string
			at   int
		}{{"version", plan.Version}, {"total", plan.Total}, {"number", plan.InputOrdinal}, {"missing", plan.Missing}, {"absent", plan.Absent},
			{"expected", plan.Expected}, {"kept", plan.Guards.RuleHolds}, {"readable", plan.Guards.Readable}} {
			if place.at >= 0 {
				fmt.Fprintf(&got, "--   %s at %d\n", place.what, place.at)
			}
		}
		got.WriteByte('\n')
	}
	coretest.Golden(t, "testdata/write.sql", got.String())
}

// everyArgument checks that each argument stands in the statement: the database can't tell the type of one that does not.
func everyArgument(t *testing.T, what string, plan *statement.Plan) {
	t.Helper()
	for i := range plan.Slots {
		if !regexp.MustCompile(fmt.Sprintf(`\$%d\b`, i+1)).MatchString(plan.SQL) {
			t.Errorf("%s: argument %d stands nowhere", what, i+1)
		}
	}
}

// slotText says what an argument stands for.
func slotText(s statement.Slot, plan *statement.Plan) string {
	switch {
	case s.Value != nil:
		return "a literal"
	case s.Claim != nil:
		return "claim " + s.Claim.Name
	case s.Role == statement.Body:
		return "the body's " + plan.Body[s.Index].Name
	case s.Role == statement.Listed:
		return fmt.Sprintf("list %d", s.Index)
	case s.Role == statement.Versions:
		return "versions"
	}
	return fmt.Sprintf("role %d", s.Role)
}

// A plan tells which parts of its SQL row rules add: to whom they apply, wherever the request leads, and nothing that was asked for.
func TestRules(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
	agent := access.Caller{Subject: "x", Roles: []string{"agent"}, Claims: map[string]any{"agent_id": 3.0}}
	both := access.Caller{Subject: "x", Roles: []string{"agent", "harbour_master"}, Claims: map[string]any{"agent_id": 3.0}}
	for _, tt := range []struct {
		name        string
		caller      access.Caller
		path, query string
		rules       int
	}{
		{"the operator", access.Caller{Subject: "operator", Operator: true}, "port_calls", "filter=vessel/agent_id eq 3", 0},
		{"what was asked for", agent, "berths", "filter=code eq 'N01'", 0},
		{"a list", agent, "port_calls", "filter=status eq 'expected'", 1},
		{"a list with its total", agent, "port_calls", "count=true", 2},
		{"one row", agent, "vessels/17", "", 1},
		{"a relation to one", agent, "port_calls", "expand=vessel", 2},
		{"a relation to many that all may read", agent, "port_calls", "expand=tugs", 1},
		{"a role that sees all", both, "port_calls", "select=id", 0},
	} {
		scope, _, q := coretest.Request(t, m, policy, tt.caller, tt.path, tt.query)
		q, err := scope.Check(q)
		if err != nil {
			t.Fatal(err)
		}
		plan := statement.Read(q, scope, nil, statement.Bounds{Rows: 21})
		if len(plan.Rules) != tt.rules {
			t.Errorf("%s: %q, want %d\n%s", tt.name, plan.Rules, tt.rules, plan.SQL)
		}
		for _, rule := range plan.Rules {
			if strings.Count(plan.SQL, rule) != 1 || !strings.Contains(rule, "agent_id") {
				t.Errorf("%s: %q stands in the SQL %d times\n%s", tt.name, rule, strings.Count(plan.SQL, rule), plan.SQL)
			}
		}
	}
}
