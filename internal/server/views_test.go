package server_test

import (
	"context"
	"strings"
	"testing"
)

// Saved views and named queries, each answer beside SQL by hand.
func TestSavedViewsAndQueries(t *testing.T) {
	t.Parallel()
	r := start(t)
	agent := r.Token(t, "agent")
	const board = " from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id where p.status in ('expected','anchored') "
	load := func(where string) string {
		return "select berth_code from harbour.port_call where arrived_at >= '2026-01-01' and departed_at < '2026-02-01' " + where +
			" group by berth_code "
	}
	tests := []struct{ token, path, field, sql string }{
		{"", "/arrivals_board?top=1000", "id", "select p.id" + board + "order by eta, p.id"},
		{"", "/arrivals_board?filter=vessel/flag eq 'NO' and not (tug_count eq 0)&top=1000", "id", "select p.id" + board +
			"and v.flag = 'NO' and exists (select from harbour.port_call_tug where port_call_id = p.id) order by eta, p.id"},
		{"", "/arrivals_board?orderby=tug_count desc,vessel/name,id&top=50", "tug_count",
			"select (select count(*) from harbour.port_call_tug where port_call_id = p.id) as n" + board + "order by n desc limit 50"},
		{"", "/arrivals_board?search=anchored&compute=year(eta) as y&select=y,id&orderby=id&top=3", "id", "select p.id" + board + "and false"},
		{"", "/arrivals_board/$filter(has_open_finding)?orderby=id&top=1000", "id", "select p.id" + board +
			"and exists (select from harbour.inspection where port_call_id = p.id and not passed) order by p.id"},
		{agent, "/berth_load?from=2026-01-01&to=2026-02-01&orderby=berth_code", "berth_code", load("") + "order by 1"},
		{agent, "/berth_load(from=2026-01-01,to=@to,quay='N')?@to=2026-02-01&orderby=berth_code desc&skip=1&top=3", "berth_code",
			load("and berth_code like 'N%'") + "order by 1 desc offset 1 limit 3"},
		{agent, "/berth_load?from='2026-01-01'&to=2026-02-01&quay=null&filter=hours gt 300 and startswith(berth_code,'E')&orderby=berth_code",
			"berth_code", load("and berth_code like 'E%'") + "having sum(extract(epoch from departed_at - arrived_at)) > 300 * 3600 order by 1"},
		{agent, "/berth_load?from=2026-01-01&to=2026-02-01&quay=N' or '1'='1&orderby=berth_code", "berth_code", "select '' where false"},
	}
	for _, tt := range tests {
		got := fields(readList(t, r.Send(t, tt.token, "GET", "/api/saltmere"+tt.path, nil)), tt.field)
		if want := column(t, r.Harbour, tt.sql); strings.Join(got, " ") != strings.Join(want, " ") {
			t.Errorf("%s\ngot  %d %.300v\nwant %d %.300v", tt.path, len(got), got, len(want), want)
		}
	}
	for _, tt := range []struct{ token, method, path, body, want string }{
		{"", "GET", "/arrivals_board?top=1&orderby=id", "", `"has_open_finding":false,"vessel":{"name":"`},
		{"", "GET", "/arrivals_board/$count?filter=status eq 'anchored'", "",
			column(t, r.Harbour, "select count(*) from harbour.port_call where status = 'anchored'")[0]},
		{"", "GET", "/arrivals_board?filter=vessel/agent_id eq 3", "",
			`unknown field \"agent_id\" in filter at 8; resource \"arrivals_board.vessel\" has name, flag`},
		{"", "GET", "/arrivals_board?orderby=draught_m", "", `unknown field \"draught_m\" in orderby at 1`},
		{"", "GET", "/arrivals_board?filter=tugs/any()", "", `arrivals_board has no relation or array \"tugs\"`},
		{"", "GET", "/arrivals_board?expand=tugs", "", `arrivals_board has no relation \"tugs\"`},
		{"", "GET", "/arrivals_board/1/agent", "", `arrivals_board has no relation or field \"agent\"`},
		{"", "GET", "/arrivals_board.vessel", "", `there is no resource \"arrivals_board.vessel\"`},
		{"", "GET", "/berth_load?from=2026-01-01&to=2026-02-01", "", "may not read berth_load"},
		{agent, "PATCH", "/arrivals_board/1", "{}", "can't be used to update rows: it is a saved view, and offers read"},
		{agent, "GET", "/berth_load?to=2026-02-01", "",
			`berth_load needs the parameter \"from\": a date; write /berth_load?from=2026-07-01&to=2026-07-01`},
		{agent, "GET", "/berth_load(from=2026-01-01,to=3)", "", "is a date, but 3 is a whole number"},
		{agent, "GET", "/berth_load(from=2026-01-01,to=2026-02-01,to=2026-02-01)", "", `the parameter \"to\" is given twice`},
		{agent, "GET", "/berth_load(from=2026-01-01&to=2026-02-01", "", `\")\" is missing`},
		{agent, "GET", "/berth_load?fron=1", "", `unknown option or parameter \"fron\"; did you mean \"from\"?`},
		{agent, "GET", "/berth_load?from=2026-01-01&to=2026-02-01&filter=hours eq 'x'", "", "hours is a number"},
	} {
		a := r.Send(t, tt.token, tt.method, "/api/saltmere"+tt.path, strings.NewReader(tt.body))
		if !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s %s: %s %s\nwant %s", tt.method, tt.path, a.Status, a.Text, tt.want)
		}
	}
	// The parameters of a named query may be too long for a URL.
	long := write(t, r, agent, "POST", "/api/saltmere/berth_load/$query",
		"from=2026-01-01&to=2026-02-01&filter=hours gt 300&orderby=berth_code&select=berth_code&top=1", "Content-Type", "text/plain")
	if want := column(t, r.Harbour, load("")+
		"having sum(extract(epoch from departed_at - arrived_at)) > 300 * 3600 order by 1 limit 1")[0]; long.StatusCode != 200 ||
		!strings.Contains(long.Text, `{"berth_code":"`+want+`"}`) {
		t.Errorf("$query: %s %s, want %s", long.Status, long.Text, want)
	}
	// Pages of a saved view go on by what is shown and by what is not.
	var got []string
	for next := "/api/saltmere/arrivals_board?orderby=vessel/name desc"; next != ""; {
		l, _ := nextPage(t, r, "", next, "maxpagesize=40")
		got, next = append(got, fields(l, "id")...), l.NextLink
	}
	if want := column(t, r.Harbour, "select p.id"+board+"order by v.name desc, p.id"); strings.Join(got, " ") != strings.Join(want, " ") {
		t.Errorf("pages of the board: %d rows, want %d", len(got), len(want))
	}
}

// What a document can say wrong of views and queries is reported with its place, and nothing a query says can write.
func TestViewMistakes(t *testing.T) {
	t.Parallel()
	r := start(t)
	head := "window: views\nsource: " + r.Harbour +
		"\nresources:\n  calls: {from: harbour.port_call}\n  vessels: {from: harbour.vessel}\n  tugs: {from: harbour.tug}\n"
	push := func(rest string) string {
		if _, err := r.Operator.PushDraft(context.Background(), "views", head+rest); err != nil {
			return err.Error()
		}
		return ""
	}
	for _, tt := range []struct{ document, want string }{
		{"queries:\n  q:\n    sql: |\n      select id,\n        nam\n      from harbour.tug",
			`line 11, column 9: query q: the database says: column "nam" does not exist`},
		{"queries:\n  q:\n    parameters: {n: integer}\n    sql: select id from harbour.tug where id = :n and :n::text = name and nme = 'é'",
			`line 10, column 75: query q: the database says: column "nme" does not exist`},
		{"queries:\n  q: {sql: selec 1}", `line 8, column 18: query q: the database says: syntax error at or near "1"`},
		{"queries:\n  q: {sql: select 1 as a; drop table harbour.tug}", `syntax error at or near ";"`},
		{"queries:\n  q: {sql: with x as (delete from harbour.tug returning id) select id from x}",
			"data-modifying statement must be at the top level"},
		{"queries:\n  q: {sql: select 1}", "column 1 has no name"},
		{"queries:\n  q: {sql: 'select 1 as a, 2 as a'}", `has two columns "a"`},
		{"queries:\n  q: {sql: 'select :n as a'}", "uses :n, which is not among its parameters"},
		{"queries:\n  q: {parameters: {n: integer}, sql: select 1 as a}", `has a parameter "n" that its SQL does not use`},
		{"queries:\n  q: {parameters: {n: int}, sql: 'select :n as a'}", `line 8, column 23: a parameter is integer, number`},
		{"queries:\n  q: {parameters: {top: integer}, sql: 'select :top as a'}", `"top" is an option of the query language`},
		{"queries:\n  calls: {sql: select 1 as a}", `there is "calls" already`},
		{"saved_views:\n  v: {of: call}", `there is no resource "call"; did you mean "calls"?`},
		{"saved_views:\n  v: {select: id}", `saved view "v" lacks "of"`},
		{"saved_views:\n  v: {of: calls, select: [id, et]}",
			`line 8, column 26: saved view v: unknown field "et" in select at 4; resource "calls" has "eta"`},
		{"saved_views:\n  v: {of: calls, filter: eta gt 5}", "eta is a timestamp, but 5 is a whole number in filter at 8"},
		{"saved_views:\n  v: {of: calls, expand: 'vessel(select=nme)'}", `line 8, column 26: saved view v: unknown field "nme"`},
		{"saved_views:\n  v: {of: calls, expand: '*'}", "a saved view names the relations that it shows"},
		{"saved_views:\n  v: {of: calls, compute: 1 add 1 as id}", `calls has "id" already`},
		{"saved_views:\n  v: {of: calls, orderby: tags}", `unknown field "tags" in orderby at 1`},
		{"saved_views:\n  v: {of: calls}\n  w: {of: v}", "v is a saved view; a saved view is of a resource"},
		{"saved_views:\n  v: {of: calls}\nroles:\n  a: {may: {v: {read: {fields: [id]}}}}", "a grant on it covers what it shows"},
		{"saved_views:\n  v: {of: calls}\nroles:\n  a: {may: {v: {read: {rows: idd eq 1}}}}", `unknown field "idd" in rows at 1`},
	} {
		if got := push(tt.document); !strings.Contains(got, tt.want) {
			t.Errorf("%s\ngot  %s\nwant %s", tt.document, got, tt.want)
		}
	}
	w, err := r.Operator.PushDraft(context.Background(), "views", head+"saved_views:\n  v: {of: calls, expand: "+
		"vessel(select=name)}\nroles:\n  a: {may: {v: read, calls: read, vessels: {read: {rows: id eq 1}}}}\n  b: {may: {v: {read: {rows: id "+
		"eq 1}}, vessels: {read: {rows: id eq 1}}}}")
	if err != nil || len(w.Warnings) != 1 || !strings.Contains(w.Warnings[0],
		"line 10, column 16: role a may read only some rows of vessels, but v shows it those of all") {
		t.Errorf("warnings: %q %v", w.Warnings, err)
	}
	good := `saved_views:
  seen: {of: calls, select: [status], orderby: [draught_m desc, vessel/name],
        expand: "vessel(select=name),tugs(select=name;filter=bollard_pull_t gt 50;orderby=bollard_pull_t desc;top=1;count=true),
          cargo/$count"}
queries:
  ticket: {sql: "select nextval(pg_get_serial_sequence('harbour.tug', 'id')) as n -- takes a number"}
  dollars: {parameters: {n: integer}, sql: "select $x$ :no $x$ || ':no' || E'\\':no' as \"a:no\", /* :no */ (array[1,2,3])[1: :n] as part,
			:n::text as n;"}
roles:
  reader: {anonymous: true, may: {seen: {read: {rows: "vessel/agent_id eq 3"}}, ticket: read, dollars: read}}
`
	if got := push(strings.Replace(good, ",\n          cargo/$count", "", 1)); got != "" {
		t.Fatal(got)
	}
	ask := func(path string) string {
		res := r.Send(t, r.Operator.Token, "GET", "/draft/views/"+path, nil)
		return res.Text
	}
	if got := ask("dollars?n=2"); !strings.Contains(got, `"a_no":" :no :no':no","part":[1,2],"n":"2"`) {
		t.Errorf("dollars: %s", got)
	}
	if got := ask("ticket"); !strings.Contains(got, "the database does not let this service do that") {
		t.Errorf("ticket: %s", got)
	}
	got := ask("seen?top=2")
	if !strings.Contains(got, `"tugs@count":`) || strings.Contains(got, `"draught_m"`) || strings.Contains(got, `"id"`) {
		t.Errorf("seen: %s", got)
	}
	want := column(t, r.Harbour, "select v.name from harbour.port_call p join harbour.vessel v on v.id = p.vessel_id order by draught_m "+
		"desc, v.name, p.id limit 1")[0]
	if !strings.Contains(got, `"vessel":{"name":"`+want+`"}`) {
		t.Errorf("seen begins with %.200s, want %s", got, want)
	}
}

// Several roles on a named query and on a saved view: the rows of each, and of a query in each row the fields of those that reach it.
func TestSeveralRolesOnViews(t *testing.T) {
	t.Parallel()
	r := start(t)
	document := `window: joint
source: ` + r.Harbour + `
resources:
  tugs: {from: harbour.tug}
  berths: {from: harbour.berth}
saved_views:
  strong: {of: tugs, select: "id,name,bollard_pull_t", filter: bollard_pull_t gt 0}
queries:
  quays:
    parameters: {least: integer}
    sql: select quay, count(*)::int as berths, min(code) as first from harbour.berth group by quay having count(*) >= :least
roles:
  north: {may: {quays: {read: {rows: "startswith(first,'N')", except: [berths]}}, strong: {read: {rows: id le 2}}}}
  all: {may: {quays: {read: {rows: "berths ge 0", fields: [quay]}}, strong: {read: {rows: id eq 5}}}}
`
	if _, err := r.Operator.PushDraft(context.Background(), "joint", document); err != nil {
		t.Fatal(err)
	}
	n := len(column(t, r.Harbour, "select distinct quay from harbour.berth"))
	north := len(column(t, r.Harbour, "select quay from harbour.berth group by quay having min(code) like 'N%'"))
	for _, tt := range []struct {
		path, want string
		count      int
	}{
		{"/quays?least=1", `"first":"N`, north},
		{"/quays?least=1", `"first@Core.Permissions":"None"`, n - north},
		{"/quays?least=1&filter=first%20eq%20null", `"quay":`, n - north},
		{"/quays?least=1&orderby=first%20desc&top=1", `"first":"N`, 1},
		{"/quays?least=1", `"berths`, 0},
		{"/quays?least=10000", `"quay"`, 0},
		{"/strong", `"name":`, 3},
	} {
		a := write(t, r, r.Operator.Token, "GET", "/draft/joint"+tt.path, "", "Act-As", "north, all")
		if got := strings.Count(a.Text, tt.want); a.StatusCode != 200 || got != tt.count {
			t.Errorf("%s: %s, %d times %s, want %d: %s", tt.path, a.Status, got, tt.want, tt.count, a.Text)
		}
	}
	if a := write(t, r, r.Operator.Token, "GET", "/draft/joint/quays?least=1&select=berths", "", "Act-As", "north, all"); a.StatusCode != 403 {
		t.Errorf("a field of neither role: %s %s", a.Status, a.Text)
	}
}
