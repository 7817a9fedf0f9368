package request_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/syntax"
)

// encode makes a raw query of one that is written as people read it.
func encode(query string) string {
	return strings.NewReplacer("%25", "%25", " ", "%20", "+", "%2B", "#", "%23").Replace(query)
}

func resolve(m *model.Model, path, options string) (*request.Request, *query.Query, error) {
	r, err := request.Read(m, path, encode(options))
	if err != nil {
		return nil, nil, err
	}
	q, err := r.Resolve()
	return r, q, err
}

func TestFaults(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	tests := []struct{ path, query, want string }{
		{"port_calls", "filter=statuss eq 1", `unknown field "statuss" in filter at 1; resource "port_calls" has "status"`},
		{"port_calls", "filter=eta gt 5",
			`eta is a timestamp, but 5 is a whole number in filter at 8; write something like 2026-07-01T12:30:00Z`},
		{"port_calls", "filter=eta gt 2026-07-01", `eta is a timestamp, but 2026-07-01 is a date in filter at 8; write 2026-07-01T00:00:00Z`},
		{"port_calls", "filter=eta gt 2026-07-01T00:00:00",
			`"2026-07-01T00:00:00" is no timestamp with its zone in filter at 8; write 2026-07-01T12:30:00Z or 2026-07-01T12:30:00+02:00`},
		{"port_calls", "filter=status eq 'expectd'", `"expectd" is none of the values, which are "expected", "anchored", "alongside", ` +
			`"departed", "cancelled" in filter at 11; did you mean "expected"?`},
		{"port_calls", "filter=not status eq 'expected'", `"not" binds tighter than "eq" in filter at 1; write not (status eq 'expected')`},
		{"port_calls", "filter=id eq 'x'", `id is an integer, but 'x' is a string in filter at 7; write something like 17`},
		{"port_calls", "filter=id eq '17'", `id is an integer, but '17' is a string in filter at 7; leave out the quotes`},
		{"vessels", "filter=imo_number eq 9000097",
			`imo_number is a string, but 9000097 is a whole number in filter at 15; put it in quotes: '9000097'`},
		{"vessels", "filter=name = 'x'", `"=" is no operator here in filter at 6; write name eq 'x'`},
		{"vessels", "filter=name eq 'x",
			`the string is not closed: a quote is missing (inside a string a quote is written twice) in filter at 9`},
		{"vessels", "filter=(name eq 'x'", `")" is missing in filter at 13`},
		{"vessels", "filter=name",
			`a condition is expected, but name is a string in filter at 1; compare it with something, such as name eq …`},
		{"vessels", "filter=name eq", `a field, a function or a value is missing in filter at 8`},
		{"vessels", "filter=", `a field, a function or a value is missing in filter at 1`},
		{"vessels", "filter=name eq 'a' 'b'", `unexpected 'b' in filter at 13; the end is expected`},
		{"vessels", "filter=port_calls/eta gt null", `"port_calls" leads to many port_calls, so one value can't be taken from it in filter at 1`},
		{"vessels", "filter=agent gt null", `rows are the same or not in filter at 7; "gt" can't compare them`},
		{"vessels", "filter=agent eq 3", `agent is a row, and 3 is none in filter at 10; compare a field of it, such as agent/id, or write null`},
		{"vessels", "filter=agent eq $root/vessels(3)", `agent is a row of agents and $root/vessels(3) one of vessels in filter at 7`},
		{"vessels", "filter=$root/vessels(3)", `$root/vessels(3) is a row in filter at 1; name a field of it, such as $root/vessels(3)/id`},
		{"vessels", "filter=tags gt [\"a\"]", `lists are equal or not in filter at 6; "gt" can't compare them`},
		{"vessels", "filter=tags eq [1]", `[1] holds whole numbers, but the other list holds strings in filter at 9`},
		{"vessels", "filter=name/x eq 1", `"name" is a string, it has no field "x" in filter at 6`},
		{"vessels", "filter=tags eq 'ice'", `tags is an array`},
		{"vessels", "filter=containz(name,'x')", `unknown function "containz" in filter at 1; did you mean "contains"?`},
		{"vessels", "filter=contains(name)", `contains takes two arguments (string, string), not 1 in filter at 1`},
		{"vessels", "filter=contains(id,'x')", `contains takes a string here, but id is an integer in filter at 10`},
		{"vessels", "filter=id in (1,'x')", `id is an integer, but 'x' is a string`},
		{"vessels", "filter=id in ('x','y')", `id is an integer, but 'x' is a string in filter at 8`},
		{"vessels", "filter=id eq 12x", `"12x" is neither a number nor a name in filter at 7; text stands in single quotes: '12x'`},
		{"vessels", "filter=built_on eq 2026-02-30", `"2026-02-30" is no date in filter at 13; write year-month-day such as 2026-07-01`},
		{"vessels", "filtre=id eq 1", `unknown option "filtre"; did you mean "filter"?`},
		{"vessels", "top=5&$top=6", `option "top" stands twice`},
		{"vessels", "top=-1", `top takes a whole number from 0 up, not -1 in top at 1`},
		{"vessels", "top=x", `top takes a whole number from 0 up, not x in top at 1`},
		{"vessels", "count=yes", `unexpected "yes" in count at 1; "true" or "false" is expected`},
		{"vessels", "orderby=tags", `tags is an array, which can't be sorted by in orderby at 1; name a field that holds single values`},
		{"vessels", "orderby=name down", `unexpected "down" in orderby at 6; "asc", "desc" or "," is expected`},
		{"vessels", "select=nam", `unknown field "nam" in select at 1; resource "vessels" has "name"`},
		{"cargo_items", "orderby=stowage", `stowage is a range, which can't be sorted by in orderby at 1; write stowage/lower`},
		{"vessels", "select=name(top=1)", `name is a string, which takes no options in select in select at 1; arrays do`},
		{"vessels", "expand=agents", `vessels has no relation "agents" in expand at 1; did you mean "agent"?`},
		{"vessels", "expand=name", `"name" is a field of vessels, not a relation in expand at 1; fields go into select`},
		{"vessels", "expand=agent,agent", `relation "agent" is expanded twice in expand at 7`},
		{"vessels", "expand=agent(top=1)", `agent leads to one row, so it takes select and expand, not top in expand at 1`},
		{"vessels", "expand=port_calls(top=1,skip=2)", `options inside brackets are parted by ";", not by "," in expand at 17`},
		{"vessels", "expand=port_calls(filtr=id eq 1)", `unknown option "filtr" inside expand in expand at 12; did you mean "filter"?`},
		{"vessels", "expand=port_calls(filter=etaa gt null)", `unknown field "etaa" in expand at 19; resource "port_calls" has "eta"`},
		{"vesels", "", `there is no resource "vesels"; did you mean "vessels"?`},
		{"vessels/3/x", "", `vessels has no relation or field "x"; there is "agent"`},
		{"vessels(x=3)", "", `the key of vessels has no part "x"; it has id`},
		{"vessels('3')", "", `id of vessels is an integer, '3' is a string; write vessels(17)`},
		{"vessels(3", "", `the key of vessels is not closed`},
		{"vessels()", "", `the key of vessels is empty; write vessels(17)`},
		{"pilotages/17", "", `pilotages has a key of 3 parts (port_call_id, pilot_id, direction); the path gives 1`},
		{"pilotages(17)", "", `the key of pilotages has 3 parts (port_call_id, pilot_id, direction), the path gives 1; ` +
			`write pilotages(port_call_id=17,pilot_id=0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90,direction='inbound')`},
		{"weather_log/1", "", `weather_log has no key, so it has no single rows; filter the collection instead`},
		{"vessels/3", "filter=id eq 3", `filter goes with a collection; this is one row, which takes select, expand and compute`},
		{"vessels", "filter=%zz", `the query has a percent sign that is no encoding`},
	}
	for _, tt := range tests {
		t.Run(tt.path+"?"+tt.query, func(t *testing.T) {
			r, q, err := resolve(m, tt.path, tt.query)
			if err == nil { // some mistakes are in a value, which is read when it becomes an argument
				query.Walk(q.Filter, func(e query.Expr) {
					if v, ok := e.(*query.Value); ok && err == nil {
						_, err = v.Arg(r.Literals)
					}
				})
			}
			if err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("got  %v\nwant %s", err, tt.want)
			}
			if _, ok := fault.From(err); err != nil && !ok {
				t.Errorf("%v is no fault", err)
			}
		})
	}
}

// What people write who know other languages is answered with what to write here.
func TestTeaching(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	tests := []struct{ query, want string }{
		{"filter=particulars eq {\"a\":1}", `unexpected character '{' in filter at 16`},
		{"filter=gross_tonnage > 5", `">" is no operator here in filter at 15; write gross_tonnage gt 5`},
		{"filter=gross_tonnage>5", `write gross_tonnage gt 5`},
		{"filter=id >= 3", `write id ge 3`},
		{"filter=id < 3", `write id lt 3`},
		{"filter=id <> 3", `write id ne 3`},
		{"filter=kind != 'tanker'", `"!=" is no operator here in filter at 6; write kind ne 'tanker'`},
		{"filter=kind == 'tanker'", `"==" is no operator here in filter at 6; write kind eq 'tanker'`},
		{"filter=kind = 'tanker' and id gt 3", `"=" is no operator here in filter at 6; write kind eq 'tanker'`},
		{"filter=id gt 3 || id lt 2", `"||" is no operator here in filter at 9; write id gt 3 or id lt 2`},
		{"filter=id gt 3 %26%26 id lt 5", `write id gt 3 and id lt 5`},
		{"filter=id gt 3 && id lt 5", `" id lt 5" is no option: a bare & ends the option before it; write "and" between conditions`},
		{"filter=!contains(name,'x')", `"!" is no operator here in filter at 1; write not contains(name,'x')`},
		{"filter=gross_tonnage + 5 gt 3", `write gross_tonnage add 5 gt 3`},
		{`filter=name eq "Rex"`, `unexpected "\"" in filter at 9; write name eq 'Rex'`},
		{`filter=name = "It's"`, `write name eq 'It''s'`},
		{"filter=name eq ‘Rex’", `write name eq 'Rex'`},
		{"filter=name eq Rex", `unknown field "Rex" in filter at 9; if the text is meant, write 'Rex'`},
		{"filter=kind eq tanker", `if the text is meant, write 'tanker'`},
		{"filter=name eq Rex Two", `unexpected "Two" in filter at 13; text is written in single quotes: 'Rex Two'`},
		{"filter=name is null", `"is" is no operator here in filter at 6; write name eq null`},
		{"filter=name is not null", `write name ne null`},
		{"filter=name like '%25x%25'", `"like" is no operator here in filter at 6; write contains(name,'x')`},
		{"filter=name like 'x%25'", `write startswith(name,'x')`},
		{"filter=name contains 'x'", `write contains(name,'x')`},
		{"filter=id between 1 and 2", `write id ge … and id le …`},
		{"filter=agent.name eq 'x'", `unknown field "agent.name" in filter at 1; write agent/name`},
		{"orderby=-name", `write name desc`},
		{"orderby=name:desc", `write name desc`},
		{"orderby=name.desc", `write name desc`},
		{"select=name,agent(name)", `select takes the fields of agent itself in select at 11; write expand=agent(select=name)`},
		{"select=agent/name", `write expand=agent(select=name)`},
		{"select=agent.name", `write expand=agent(select=name)`},
		{"expand=agent(name,email)", `"name" is no option inside expand in expand at 7; write agent(select=name,email)`},
		{"expand=agent.name", `write expand=agent(select=name)`},
		{"expand=port_calls/vessel", `write port_calls(expand=vessel)`},
		{"expand=port_calls.vessel", `write expand=port_calls(expand=vessel)`},
		{"limit=3", `unknown option "limit"; write top=3`},
		{"per_page=30", `write top=30`},
		{"offset=40", `write skip=40`},
		{"page=2", `write top=50&skip=50 for the second page of 50, or follow @nextLink`},
		{"sort=-name,id", `write orderby=name desc,id`},
		{"sort=name:asc", `write orderby=name asc`},
		{"fields=id,name", `write select=id,name`},
		{"include=agent", `write expand=agent`},
		{"q=ice", `write search=ice`},
		{"name=Rex", `unknown option "name"; write filter=name eq 'Rex'`},
		{"filter[agent_id]=3", `write filter=agent_id eq 3`},
	}
	for _, tt := range tests {
		_, _, err := resolve(m, "vessels", tt.query)
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s\ngot  %v\nwant %s", tt.query, err, tt.want)
		}
	}
}

// Requests of one shape differ in nothing but their literals.
func TestShape(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	shape := func(path, query string) string {
		t.Helper()
		r, err := request.Read(m, path, encode(query))
		if err != nil {
			t.Fatalf("%s?%s: %v", path, query, err)
		}
		return r.Shape
	}
	same := [][4]string{
		{"vessels", "filter=id eq 1", "vessels", "filter=id  eq 4711"},
		{"vessels", "filter=id in (1,2)", "vessels", "$filter=id in (3,4,5,6)"},
		{"vessels", "top=5&filter=name eq 'a'", "vessels", "filter=name eq 'it''s (b)'&$Top=7"},
		{"vessels/3", "", "vessels/4", ""},
		{"vessels(3)", "", "vessels(4)", ""},
		{"berths/N01", "", "berths/select", ""},
		{"vessels", "expand=port_calls(top=1;filter=id gt 1)", "vessels", "expand=port_calls(top=2;filter=id gt 2)"},
	}
	for _, s := range same {
		if a, b := shape(s[0], s[1]), shape(s[2], s[3]); a != b {
			t.Errorf("%s?%s has shape %q, %s?%s %q", s[0], s[1], a, s[2], s[3], b)
		}
	}
	other := [][2]string{
		{"filter=id eq 1", "filter=id eq 1.5"}, {"filter=id eq 1", "filter=id eq null"}, {"filter=id in (1,2)", "filter=id in (1,null)"},
		{"filter=id eq 1", "filter=agent_id eq 1"}, {"count=true", "count=false"}, {"filter=id eq 1", "filter=id ne 1"},
		{"filter=id in (1)", "filter=id in ('a')"},
	}
	for _, s := range other {
		if a, b := shape("vessels", s[0]), shape("vessels", s[1]); a == b {
			t.Errorf("%s and %s have one shape: %q", s[0], s[1], a)
		}
	}
}

// What is parsed prints itself back, with brackets that show the precedence.
func TestPrint(t *testing.T) {
	t.Parallel()
	tests := []struct{ text, want string }{
		{"a eq 1 or b eq 2 and c eq 3", "(a eq 1) or ((b eq 2) and (c eq 3))"},
		{"not (a eq 1) AND b", "(not (a eq 1)) and b"},
		{"not a eq b", "(not a) eq b"},
		{"a add b mul c sub d eq -e", "((a add (b mul c)) sub d) eq (-e)"},
		{"a in (1,2) and b in (1,null)", "(a in (1,2)) and (b in (1,null))"},
		{"Contains(ToLower(name),'it''s')", "contains(tolower(name),'it''s')"},
		{"x/y/z gt 2026-07-01T00:00:00+02:00", "x/y/z gt 2026-07-01T00:00:00+02:00"},
		{"t eq duration'PT1H' or g eq 0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90",
			"(t eq duration'PT1H') or (g eq 0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90)"},
		{"not eq 1 and and eq 2", "(not eq 1) and (and eq 2)"},
	}
	for _, tt := range tests {
		n, err := syntax.ParseRule(tt.text)
		if err != nil {
			t.Errorf("%s: %v", tt.text, err)
			continue
		}
		if got := n.String(); got != tt.want {
			t.Errorf("%s prints %s, want %s", tt.text, got, tt.want)
			continue
		}
		again, err := syntax.ParseRule(n.String())
		if err != nil || again.String() != n.String() {
			t.Errorf("%s does not read back: %v, %v", n, again, err)
		}
	}
}

// Nothing that can be sent makes the reader panic, and every refusal is a fault.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{"filter=a eq 1", "filter=id in (1,2)&orderby=eta desc",
		"expand=vessel(select=name;expand=agent),tugs(top=2;filter=name eq 'x')",
		"filter=not (contains(tolower(vessel/name),'a') or eta lt 2026-07-01T00:00:00Z)", "filter=((((", "select=*,id&top=3&skip=4&count=true",
		"filter=draught_m gt -1.5e3",
		"apply=filter(status eq 'x')/groupby((rollup($all,vessel/kind),status),filter(hazardous)/aggregate($count as n," +
			"draught_m with sum as s))/topcount(2,n)", "apply=concat(aggregate(id with max as m),groupby((status)))/search(ice OR \"x y\")",
		"filter=hassubset(tags,[\"a\",1,null]) and id in @l&@l=[1,2]", "filter=id eq $root/vessels(3)/agent/id",
		"compute=case(id eq 1:'a',true:'b') as c&select=c"} {
		f.Add("port_calls", seed)
	}
	f.Add("pilotages(port_call_id=1,direction='inbound')", "")
	f.Add("port_calls/1", "select=id")
	f.Add("berth_load(from=2026-01-01,to=@t)/$count", "@t=null&quay='x'")
	f.Add("arrivals_board/$filter(vessel/flag eq 'NO')/$each", "")
	f.Add("port_calls/1/tugs/3/$ref", "")
	m, policy := coretest.Saltmere(f)
	scope, err := policy.Scope(access.Caller{Subject: "fuzz", Operator: true})
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, path, options string) {
		r, err := request.Read(m, path, options)
		if err == nil {
			var q *query.Query
			if q, err = r.Resolve(); err == nil && r.Resource != nil {
				_, err = statement.Read(q, scope, nil, statement.Bounds{}).Args(statement.Input{Literals: r.Literals})
			}
		}
		if _, ok := fault.From(err); err != nil && !ok {
			t.Errorf("%v is no fault", err)
		}
	})
}

func BenchmarkRead(b *testing.B) {
	m, _ := coretest.Saltmere(b)
	for _, r := range []struct{ name, path, query string }{
		{"list", "port_calls", "filter=" + url.QueryEscape("status eq 'expected' and vessel/flag eq 'NO'") +
			"&orderby=eta%20desc&top=5&select=id,eta&expand=vessel(select=name)&count=true"},
		{"row", "port_calls/4711", "select=id,vessel_id,berth_code,status,eta,etd,arrived_at,draught_m,hazardous"},
	} {
		b.Run(r.name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				read, err := request.Read(m, r.path, r.query)
				if err != nil {
					b.Fatal(err)
				}
				read.Release()
			}
		})
	}
}

func ExampleParseRule() {
	n, err := syntax.ParseRule("status eq 'expected' and vessel/agent_id eq @caller/agent_id")
	fmt.Println(n, err)
	// Output: (status eq 'expected') and (vessel/agent_id eq @caller/agent_id) <nil>
}

// More of what is refused: collections, functions, arithmetic, paths, computed values, search.
func TestMoreFaults(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	tests := []struct{ path, query, want string }{
		{"vessels", "filter=" + strings.Repeat("not ", 300) + "id eq 1", `the expression is nested more than 200 deep in filter at 801`},
		{"vessels", "filter=$root vessels", `unexpected "vessels" in filter at 7; "/" is expected`},
		{"vessels", "filter=$root/3", `unexpected 3 in filter at 7; the name of a resource is expected`},
		{"vessels", "filter=$root/vessels(id 3)/name eq 'x'", `unexpected 3 in filter at 18; "=" is expected`},
		{"vessels", "filter=$root/vessels(id=name)/name eq 'x'", `unexpected "name" in filter at 18; a value of the key is expected`},
		{"vessels", "filter=$root/vessels(3", `")" is missing in filter at 16`},
		{"vessels", "filter=$root/vessels(3)/5 eq 1", `unexpected 5 in filter at 18; a name is expected`},
		{"vessels", "filter=$root/vessels(3)/agent eq 1", `"agent" is a relation in filter at 18; name a field of it, such as agent/id`},
		{"vessels", "filter=port_calls/any(5: 1)", `unexpected 5 in filter at 16; a variable, as in (x: x/id gt 0), is expected`},
		{"vessels", "filter=port_calls/any(x: x/id gt )", `unexpected ")" in filter at 27; a field, a function or a value is expected`},
		{"vessels", "filter=port_calls/$count(filter id gt 1) gt 0", `unexpected "id" in filter at 26; "=" is expected`},
		{"vessels", "filter=port_calls/$count(filter=id gt ) gt 0", `unexpected ")" in filter at 32`},
		{"vessels", "filter=concat(name 'a long text that goes on and on, longer than anybody would read it') eq 'y'",
			`unexpected 'a long text that goes on and on, longer… in filter at 13; "," or ")" is expected`},
		{"vessels", "filter=id in 5", `unexpected 5 in filter at 7; a list in brackets, such as (1,2,3), is expected`},
		{"vessels", "filter=id in (1 name)", `unexpected "name" in filter at 10; "," or ")" is expected`},
		{"vessels", "orderby=name asc,", `a field, a function or a value is missing in orderby at 10`},
		{"vessels", "select=5", `unexpected 5 in select at 1; the name of a field is expected`},
		{"vessels", "select=name/", `a name is missing in select at 6`},
		{"vessels", "select=agent/5", `unexpected 5 in select at 7; a name is expected`},
		{"vessels", "expand=5", `unexpected 5 in expand at 1; the name of a relation is expected`},
		{"vessels", "expand=agent/5", `unexpected 5 in expand at 7; "$count" or "$ref" is expected`},
		{"vessels", "expand=" + strings.Repeat("agent(expand=vessels(expand=", 40), `brackets are nested more than 64 deep in expand at 902`},
		{"vessels", "search=" + strings.Repeat("NOT ", 300) + "a", `search is nested more than 200 deep in search at 801`},
		{"vessels", "expand=port_calls(5)", `unexpected 5 in expand at 12; an option such as select=… is expected`},
		{"vessels", "expand=port_calls(top=1;top=2)", `option "top" stands twice in expand at 18`},
		{"vessels", "expand=port_calls(top 1)", `unexpected 1 in expand at 16; "=" is expected`},
		{"vessels", "expand=port_calls(top=1 skip=2)", `unexpected "skip" in expand at 18; ";" or ")" is expected`},
		{"vessels", "expand=port_calls(top=)", `top takes a whole number from 0 up, not ) in expand at 16`},
		{"vessels", "expand=port_calls(levels=x)", `levels takes a number from 1 to 8, or max in expand at 19`},
		{"vessels", "top=", `a number is missing in top at 1`}, {"vessels", "compute=id add 1", `"as" and a name is missing in compute at 9`},
		{"vessels", "compute=id as 5", `unexpected 5 in compute at 7; a name for the computed value is expected`},
		{"vessels", "apply=aggregate(id with 5 as x)", `unexpected 5 in apply at 19; a method such as sum is expected`},
		{"vessels", "apply=aggregate(id with sum as", `a name for the aggregated value is missing in apply at 25`},
		{"vessels", "filter=port_calls/any(p p/id eq 1)", `unexpected "p" in filter at 18; ":" is expected`},
		{"vessels", "filter=port_calls/any(p: q/id eq 1)", `unknown field "q" in filter at 19; resource "vessels" has`},
		{"vessels", "filter=port_calls/any(p: p/idd eq 1)", `unknown field "idd" in filter at 21; resource "port_calls" has "id"`},
		{"vessels", "filter=port_calls/any(p: p/berth_code)", `a condition is expected, but p/berth_code is a string in filter at 19`},
		{"vessels", "filter=port_call/any()", `vessels has no relation or array "port_call" in filter at 1; did you mean "port_calls"?`},
		{"vessels", "filter=port_calls/$count gt 'x'", `port_calls/$count is an integer, but 'x' is a string in filter at 22`},
		{"vessels", "filter=port_calls/$count(top=1) gt 1", `unexpected "top" in filter at 19; "filter=…" or "search=…" is expected`},
		{"vessels", "filter=tags/any(t: t gt 5)", `t is a string, but 5 is a whole number in filter at 18; put it in quotes: '5'`},
		{"vessels", "filter=name in tags and 3 in tags", `tags is a string, but 3 is a whole number`},
		{"vessels", "filter=id in port_calls", `port_calls leads to rows, and id is an integer in filter at 7; ask for port_calls/any(x: …)`},
		{"vessels", "filter=substring(name) eq 'x'", `substring takes three arguments (string, integer, integer, which may be left out), not 1`},
		{"vessels", "filter=year(name) eq 1", `year takes a timestamp here, but name is a string in filter at 6`},
		{"vessels", "filter=round('x') eq 1", `round takes a number here, but 'x' is a string`},
		{"vessels", "filter=now(1) gt built_on", `now takes no arguments, not 1`},
		{"vessels", "filter=case() eq 1", `case takes pairs, as in case(`},
		{"vessels", "filter=case(id eq 1) eq 1", `":" is expected`},
		{"vessels", "filter=cast(id) eq 1", `cast takes a value and a type, as in cast(id,Edm.String)`},
		{"vessels", "filter=particulars/kw gt 2026-01-01",
			`particulars/kw is a JSON value, which holds numbers, texts and booleans, but no date`},
		{"vessels", "filter=particulars eq 'x'", ``},
		{"vessels", "filter=-name eq 'x'", `a minus sign takes a number, but name is a string`},
		{"vessels", "filter=matchesPattern(name,flag)", `matchesPattern takes its pattern as text in quotes`},
		{"port_calls", "filter=eta add 5 gt eta", `eta is a timestamp and 5 is a whole number, so "add" can't reckon with them in filter at 5`},
		{"port_calls", "filter=eta sub eta gt 5",
			`eta sub eta is a duration, but 5 is a whole number in filter at 16; write something like duration'PT48H'`},
		{"port_calls", "filter=eta sub eta gt 'x'", `"x" is no duration in filter at 16; write PT48H or P2DT30M`},
		{"cargo_items", "filter=stowage/middle gt 1", `"stowage" is a range, it has lower, upper, bounds and empty`},
		{"vessels", "compute=id add 1 as", `a name for the computed value is missing in compute at 12`},
		{"vessels", "compute=id as x,x as x", `vessels has "x" already in compute at 14; choose another name`},
		{"vessels", "search=(a", `")" is missing in search at 3`},
		{"vessels", "search=a)", `unexpected ')' in search at 2`},
		{"vessels", "expand=port_calls/$value", `unexpected "$value" in expand at 12; "$count" or "$ref" is expected`},
		{"vessels", "expand=port_calls(levels=2)", `levels goes with a relation to the same resource`},
		{"pilots", "expand=mentor(levels=99)", `levels takes a number from 1 to 8, or max in expand at 15`},
		{"vessels/3/agent/vessels/3/agent/vessels/3/agent/vessels/3/agent/vessels/3/agent", "", `the path follows more than 7 relations`},
		{"vessels/$filter(id eq 1", "", `$filter(…) in the path is not closed`},
		{"vessels/$filter(id eq 'x')", "", `id is an integer, but 'x' is a string in filter at 7`},
		{"vessels/3/name/$count", "", `$count follows a collection; name is a string`},
		{"vessels/$all", "", `there is no path segment "$all"`},
		{"weather_log(1)", "", `weather_log has no key`},
		{"$all", "", `$all of the standard is not done here`},
	}
	for _, tt := range tests {
		t.Run(tt.path+"?"+tt.query, func(t *testing.T) {
			r, q, err := resolve(m, tt.path, tt.query)
			if err == nil {
				query.Walk(q.Filter, func(e query.Expr) {
					if v, ok := e.(*query.Value); ok && err == nil {
						_, err = v.Arg(r.Literals)
					}
				})
			}
			if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
				t.Errorf("got  %v\nwant %s", err, tt.want)
			}
		})
	}
}

// Collections, cases and searches print and read back too.
func TestPrintCollections(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ text, want string }{
		{"a/b/any(x: x/c eq 1 and $it/d)", "a/b/any(x:(x/c eq 1) and $it/d)"}, {"a/ANY()", "a/any()"}, {"a/all(x:x)", "a/all(x:x)"},
		{"a/$count gt 1", "a/$count gt 1"}, {"a/$count(filter=b eq 1) gt 1", "a/$count($filter=b eq 1) gt 1"},
		{"case(a:1,b:2) eq 1", "case(a:1,b:2) eq 1"},
		{"1 in a", "1 in a"}, {"a has 'x'", "a has 'x'"}, {"-(a)", "-a"}, {"cast(a,Edm.String) eq 'x'", "cast(a,Edm.String) eq 'x'"},
	} {
		n, err := syntax.ParseRule(tt.text)
		if err != nil || strings.Trim(n.String(), "()") != strings.Trim(tt.want, "()") {
			t.Errorf("%s prints %v, %v, want %s", tt.text, n, err, tt.want)
			continue
		}
		if again, err := syntax.ParseRule(n.String()); err != nil || again.String() != n.String() {
			t.Errorf("%s does not read back: %v, %v", n, again, err)
		}
	}
}

// What is wrong with parts of a request that do not depend on each other is reported at once.
func TestSeveralMistakes(t *testing.T) {
	t.Parallel()
	m, _ := coretest.Saltmere(t)
	for _, tt := range []struct{ name, path, query, want string }{
		{"fields", "vessels", "select=nam,flagg,name,kin", `request.invalid the request has 3 mistakes|field.unknown unknown field "nam" in ` +
			`select at 1; resource "vessels" has "name"|field.unknown unknown field "flagg" in select at 5; resource "vessels" has "flag"|` +
			`field.unknown unknown field "kin" in select at 16; resource "vessels" has "kind"`},
		{"options", "vessels", "filter=id eq 'x'&orderby=nam,flagg desc&expand=agnt", `request.invalid the request has 4 mistakes|` +
			`type.mismatch id is an integer, but 'x' is a string in filter at 7; write something like 17|` +
			`field.unknown unknown field "nam" in orderby at 1; resource "vessels" has "name"|` +
			`field.unknown unknown field "flagg" in orderby at 5; resource "vessels" has "flag"|` +
			`relation.unknown vessels has no relation "agnt" in expand at 1; did you mean "agent"?`},
		{"inside expand", "vessels", "expand=port_calls(select=ide,eta;orderby=et)", `request.invalid the request has 2 mistakes|` +
			`field.unknown unknown field "et" in expand at 35; resource "port_calls" has "eta"|` +
			`field.unknown unknown field "ide" in expand at 19; resource "port_calls" has "id"`},
		{"what can't be read", "vessels", "filter=name eq 'x&orderby=name asc asc",
			`syntax.invalid the string is not closed: a quote is missing (inside a string a quote is written twice) in filter at 9`},
		{"words", "vessels", "filter=name eq&orderby=name asc asc", `request.invalid the request has 2 mistakes|` +
			`syntax.invalid a field, a function or a value is missing in filter at 8|` +
			`syntax.invalid unexpected "asc" in orderby at 10; the end is expected`},
		{"names of options", "vessels", "filtr=1&ordrby=2", `request.invalid the request has 2 mistakes|option.unknown unknown option ` +
			`"filtr"; did you mean "filter"?|option.unknown unknown option "ordrby"; did you mean "orderby"?`},
		{"on a row", "vessels/3", "filter=id eq 1&top=2", `request.invalid the request has 2 mistakes|option.misplaced filter goes with a ` +
			`collection; this is one row, which takes select, expand and compute|option.misplaced top goes with a collection; ` +
			`this is one row, which takes select, expand and compute`},
		{"what depends on it is not told", "vessels", "compute=nam as n&select=n&orderby=n",
			`field.unknown unknown field "nam" in compute at 1; resource "vessels" has "name"`},
	} {
		_, _, err := resolve(m, tt.path, tt.query)
		f, ok := fault.From(err)
		if !ok {
			t.Errorf("%s: %v is no fault", tt.name, err)
			continue
		}
		got := f.Code + " " + f.Message
		for _, d := range f.Details {
			got += "|" + d.Code + " " + d.Message
		}
		if got != tt.want {
			t.Errorf("%s\ngot  %s\nwant %s", tt.name, got, tt.want)
		}
	}
}
