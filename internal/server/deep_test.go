package server_test

import (
	"context"
	"strings"
	"testing"

	"eagerwindow/internal/harbourtest"
)

// Rows in rows: created, linked, changed, replaced and removed with the row around them, all or nothing.
func TestDeep(t *testing.T) {
	t.Parallel()
	r := start(t)
	master, agent := r.Token(t, "harbour_master"), r.Token(t, "agent")
	number := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	pilots := column(t, r.Harbour, "select id::text from harbour.pilot where id not in (select mentor_id from harbour.pilot where "+
		"mentor_id is not null) order by id limit 2")
	const call = `"eta":"2026-07-09T12:00:00Z","draught_m":5.5`
	before := number("select (select count(*) from harbour.port_call) + (select count(*) from harbour.tug) + (select count(*) from " +
		"harbour.vessel)")
	for _, s := range []struct {
		token, method, path, body string
		status                    int
		want                      string
	}{
		// Nothing is kept of what fails on the way, wherever it fails.
		{master, "POST", "/port_calls", `{` + call + `,"vessel":{"name":"Ada","imo_number":"9999901","flag":"NO","kind":"cargo",` +
			`"gross_tonnage":5},"tugs":[{"name":"Bram","bollard_pull_t":9}]}`, 409,
			`"message":"tugs/0: name: another row has the same value where it must be unique","target":"tugs/0"`},
		{master, "POST", "/port_calls", `{` + call +
			`,"vessel":{"@id":"vessels/3"},"tugs":[{"name":"Zara","bollard_pull_t":9},{"@id":"tugs/9999"}]}`, 404,
			`tugs/1: there is no such row of tugs`},
		// What the answer asks for fails, after all is written.
		{master, "POST", "/port_calls?compute=1%20div%20(id%20sub%20id)%20as%20x&select=id,x", `{` + call + `,"vessel_id":3,` +
			`"tugs":[{"@id":"tugs/1"}]}`, 400, `something is divided by zero`},
		{master, "POST", "/port_calls", `{` + call + `,"vessel":{"@id":"tugs/3"}}`, 400, `leads to rows of vessels, and \"tugs/3\" is none`},
		{master, "POST", "/port_calls", `{` + call + `,"vessel":null}`, 409, "can't be without vessel_id"},
		{master, "POST", "/port_calls", `{` + call + `,"vessel_id":4,"vessel":{"@id":"vessels/3"}}`, 400,
			"vessel/vessel_id: the row around it says 3"},
		{master, "POST", "/port_calls", `{` + call + `,"vessel_id":3,"tugs@delta":[]}`, 400, "a new row has none yet"},
		{agent, "POST", "/port_calls", `{` + call + `,"vessel":{"@id":"vessels/3"},"tugs":[{"name":"Zara","bollard_pull_t":9}]}`, 403,
			`role \"agent\" may not create tugs`},
		{agent, "POST", "/port_calls", `{` + call + `,"vessel":{"@id":"vessels/1"}}`, 404, `no such row of vessels`},
	} {
		a := write(t, r, s.token, s.method, "/api/saltmere"+s.path, s.body)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
	}
	if after := number("select (select count(*) from harbour.port_call) + (select count(*) from harbour.tug) + (select count(*) from " +
		"harbour.vessel)"); after != before {
		t.Fatalf("a failed write left rows: %s, before %s", after, before)
	}
	made := write(t, r, master, "POST", "/api/saltmere/port_calls?select=berth_code", `{`+call+`,
		"vessel":{"name":"Ada","imo_number":"9999901","flag":"NO","kind":"cargo","gross_tonnage":5,"agent":{"name":"Vik & Daughter",
		"email":"vik@saltmere.example"}},
		"berth@odata.bind":"berths('N05')",
		"tugs":[{"@id":"tugs/3"},{"name":"Zara","bollard_pull_t":9}],
		"cargo_items":[{"description":"Oats","hs_code":"100400","tonnes":12.5,"stowage":{"lower":3,"upper":9}}],
		"pilotages":[{"pilot_id":"`+pilots[0]+`","direction":"inbound"}],
		"due":{"amount":120.50,"currency":"EUR"}}`)
	for _, part := range []string{`"berth_code":"N05"`, `"name":"Ada"`, `"agent":{"id":41,"name":"Vik & Daughter"`, `"berth":{"code":"N05"`,
		`"name":"Zara"`, `"description":"Oats"`, `"stowage":{"lower":3,"upper":9,"bounds":"[)"}`, `"amount":120.50`, `"direction":"inbound"`} {
		if made.StatusCode != 201 || !strings.Contains(made.Text, part) {
			t.Fatalf("a deep insert: %s %s\nwant %s", made.Status, made.Text, part)
		}
	}
	path := strings.TrimPrefix(made.Header.Get("Location"), "/api/saltmere")
	id := strings.TrimPrefix(path, "/port_calls/")
	tugs := "select string_agg(name, ',' order by name) from harbour.tug join harbour.port_call_tug on tug_id = id where port_call_id = " + id
	for _, s := range []struct {
		token, method, path, body string
		status                    int
		want, sql, is             string
	}{
		{master, "PATCH", path, `{"tugs@delta":[{"@removed":{"reason":"changed"},"@id":"tugs/3"},{"@id":"tugs/4"},{"@id":"tugs/5",` +
			`"bollard_pull_t":44}]}`, 200, `"tugs":[`, tugs + " and id in (3,4,5)",
			number("select string_agg(name, ',' order by name) from harbour.tug where id in (4,5)")},
		{master, "PATCH", path, `{"remarks":"x","tugs":[{"@id":"tugs/3"},{"@id":"tugs/4"}]}`, 200, `"remarks":"x"`, tugs,
			number("select string_agg(name, ',' order by name) from harbour.tug where id in (3,4)")},
		{master, "PATCH", path, `{"tugs":[]}`, 200, `"tugs":[]`, "select count(*) from harbour.port_call_tug where port_call_id = " + id, "0"},
		{master, "PATCH", path, `{"cargo_items":[]}`, 409, "To delete it, send", "select count(*) from harbour.cargo_item where port_call_id = " +
			id, "1"},
		{master, "PATCH", path, `{"cargo_items@delta":[{"description":"Rye","hs_code":"100200","tonnes":1},{"description":"Salt",` +
			`"hs_code":"250100","tonnes":-1}]}`, 422, "cargo_items@delta/1/tonnes: at least 0",
			"select count(*) from harbour.cargo_item where port_call_id = " + id, "1"},
		{master, "PATCH", path, `{"cargo_items@delta":[{"description":"Rye","hs_code":"100200","tonnes":1}]}`, 200, `"Rye"`,
			"select count(*) from harbour.cargo_item where port_call_id = " + id, "2"},
		{master, "PATCH", path, `{"cargo_items@delta":[{"@removed":{"reason":"deleted"},"@id":"cargo_items/1"}]}`, 404,
			"cargo_items@delta/0: there is no such row", "select count(*) from harbour.cargo_item where id = 1", "1"},
		{master, "PATCH", path, `{"cargo_items@delta":[{"@removed":{"reason":"deleted"},"id":` +
			number("select max(id) from harbour.cargo_item") + `}]}`, 200, `"Rye"`, "select count(*) from harbour.cargo_item where port_call_id = " +
			id, "1"},
		{master, "PATCH", path, `{"due":{"amount":99}}`, 200, `"amount":99.00`, "select count(*) from harbour.due where port_call_id = " + id,
			"1"},
		{master, "PATCH", path, `{"due":null}`, 409, "delete it at /dues/", "select count(*) from harbour.due where port_call_id = " + id, "1"},
		{master, "PATCH", path, `{"berth":null}`, 200, `"berth":null`, "select berth_code is null from harbour.port_call where id = " + id,
			"true"},
		{master, "PATCH", path, `{"berth":{"code":"Q77","quay":"New","length_m":90,"max_draught_m":6}}`, 200, `"berth":{"code":"Q77"`,
			"select berth_code from harbour.port_call where id = " + id, "Q77"},
		{master, "PATCH", path, `{"berth":{"shore_power":true}}`, 200, `"shore_power":true`,
			"select shore_power from harbour.berth where code = 'Q77'", "true"},
		{master, "PATCH", path, `{"vessel":{"flag":"IS","agent":null}}`, 200, `"flag":"IS"`,
			"select agent_id is null from harbour.vessel where imo_number = '9999901'", "true"},
		{master, "PATCH", path + "/vessel", `{"flag":"DK"}`, 200, `"flag":"DK"`, "select flag from harbour.vessel where imo_number = '9999901'",
			"DK"},
		{master, "PUT", path + "/vessel/agent", `{"name":"Moe","email":"moe@saltmere.example"}`, 201, `"name":"Moe"`,
			"select a.name from harbour.vessel v join harbour.agent a on a.id = agent_id where imo_number = '9999901'", "Moe"},
		{master, "PATCH", path + "/vessel/agent", `{"name":`, 400, "not JSON", "select count(*) from harbour.agent where name = 'Moe'", "1"},
		{master, "DELETE", path + "/due", ``, 204, "", "select count(*) from harbour.due where port_call_id = " + id, "0"},
		{master, "DELETE", path + "/due", ``, 404, "nothing at", "select count(*) from harbour.due where port_call_id = " + id, "0"},
		{master, "PUT", path + "/due", `{"amount":7}`, 201, `"amount":7.00`, "select count(*) from harbour.due where port_call_id = " + id, "1"},
		{master, "PUT", path, `{"tugs":[]}`, 400, "not written with a replacement", "select true", "true"},
		{master, "PATCH", "/pilots/" + pilots[0], `{"trainees":[{"@id":"pilots/` + pilots[1] + `"}]}`, 200, `"trainees":[{`,
			"select count(*) from harbour.pilot where mentor_id = '" + pilots[0] + "'", "1"},
		{master, "PATCH", "/pilots/" + pilots[0], `{"trainees":[]}`, 200, `"trainees":[]`,
			"select count(*) from harbour.pilot where mentor_id = '" + pilots[0] + "'", "0"},
	} {
		a := write(t, r, s.token, s.method, "/api/saltmere"+s.path, s.body)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
		if got := number(s.sql); got != s.is {
			t.Errorf("after %s %s %s: %q, want %q", s.method, s.path, s.body, got, s.is)
		}
	}
}

// What can't be written as rows in rows is refused where it stands, and nothing of the rest is done.
func TestDeepRefusals(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	dsn := harbourtest.Database(t, false)
	for _, sql := range strings.Split(`create table person (id int primary key, name text, boss_id int references person);
		create table boat (id int generated by default as identity (start with 10) primary key, name text, owner_id int references person);
		create table oar (boat_id int references boat, no int, wood text, primary key (boat_id, no));
		create table note (text text, owner_id int references person);
		insert into person select n, 'P' || n from generate_series(1, 5) n;
		insert into boat (id, owner_id) select n, 1 + n % 2 from generate_series(1, 4) n;
		insert into oar values (1, 1), (2, 1)`, ";") {
		column(t, dsn, sql)
	}
	document := "window: deep\nsource: " + dsn + `
resources: {people: {from: person}, boats: {from: boat}, oars: {from: oar}, notes: {from: note}}
roles:
  clerk:
    may:
      people: [read, create, update]
      boats: {read: {}, update: {fields: [name]}}
      oars: [read, create, update]
      notes: [read]
  novice: {may: {people: {create: {fields: [name]}}}}
`
	if _, err := r.Operator.PushDraft(ctx, "deep", document); err != nil {
		t.Fatal(err)
	}
	all := "select (select string_agg(concat_ws(' ', id, name, boss_id), ',' order by id) from person) || ';' ||" +
		" (select string_agg(concat_ws(' ', id, name, owner_id), ',' order by id) from boat) || ';' ||" +
		" (select string_agg(concat_ws(' ', boat_id, no), ',' order by 1) from oar)"
	before := column(t, dsn, all)[0]
	for _, s := range []struct {
		role, method, path, body string
		status                   int
		want                     string
	}{
		{"", "PATCH", "/people/1", `{"name":"A","boats":[{"@id":"boats/2"},{"id":99,"name":"x"}]}`, 404,
			"boats/1: there is no such row of boats"},
		{"", "PATCH", "/people/1", `{"name":"A","boats":[{"@id":"boats/2"},{"@id":"boats/99"}]}`, 404, "boats/1"},
		{"clerk", "PATCH", "/people/1", `{"name":"A","boats@delta":[{"name":"x"}]}`, 403, "may not create boats"},
		{"clerk", "PATCH", "/people/1", `{"name":"A","boats@delta":[{"@id":"boats/1"}]}`, 403, "owner_id"},
		{"clerk", "PATCH", "/people/1", `{"name":"A","boats@delta":[{"@removed":{"reason":"deleted"},"@id":"boats/2"}]}`, 403,
			"may not delete boats"},
		{"", "PATCH", "/boats/1", `{"name":"A","oars@delta":[{"@id":"oars/2/1"}]}`, 409, "is part of the key of oars"},
		{"", "PATCH", "/people/1", `{"boss":` + strings.Repeat(`{"name":"x","boss":`, 20) + "null" + strings.Repeat("}", 20) + `}`, 400,
			"rows stand at most"},
		{"", "PATCH", "/people/$filter(id gt 0)/$each", `{"boats":[]}`, 400, "a change of every row names fields"},
		{"clerk", "PATCH", "/notes", `{"@context":"#$delta","value":[{"text":"x"}]}`, 405, "can't be used to update"},
		{"", "PATCH", "/notes/$filter(text eq 'x')/$each", `{"text":"y"}`, 405, "notes"},
		{"", "POST", "/notes", `{"text":"x","owner":{"@id":"people/99"}}`, 404, "owner: there is no such row of people"},
		{"", "POST", "/people/boats/$ref", `{"@id":"boats/1"}`, 400, `a link is written along a relation of a row`},
		{"", "PUT", "/people/1/boss/name/$ref", `{"@id":"boats/1"}`, 404, ``},
		{"clerk", "PATCH", "/people/1", `{"nam":"A","boats@delta":[{"name":"x"}]}`, 400, "may not create boats"},
		{"novice", "POST", "/people", `{"name":"x"}`, 403,
			`"code":"access.field","message":"id: is required, and your role may not create this field; it may create name"`},
		{"novice", "POST", "/people", `{"name":"x","id":6}`, 403,
			`"code":"access.field","message":"id: your role may not create this field; it may create name"`},
		{"novice", "POST", "/people", `{"name":5,"id":6}`, 400, "the body has 2 mistakes"},
		{"", "POST", "/people", `{"id":6,"boats":{"name":"x"}}`, 400, "boats"},
		{"", "POST", "/people", `{"id":6,"boats":[5]}`, 400, "boats/0: an object with the row's fields is expected, this is a number"},
		{"", "POST", "/people", `{"id":6,"boats":[{"name":"x","name":"y"}]}`, 400, `boats/0: \"name\" stands twice`},
		{"", "POST", "/people", `{"id":6,"boats":[{"name":5},{"nam":"x"}]}`, 400, `boats/0/name: a string is expected`},
		{"", "POST", "/people", `{"id":6,"boats":[{"name":"x"},{"name":"y","owner_id":2}]}`, 400, "boats/1/owner_id"},
	} {
		var as []string
		if s.role != "" {
			as = []string{"Act-As", s.role}
		}
		a := write(t, r, r.Operator.Token, s.method, "/draft/deep"+s.path, s.body, as...)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s %s: %s %s\nwant %d %s", s.role, s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
		if after := column(t, dsn, all)[0]; after != before {
			t.Errorf("after %s %s: %s\nbefore %s", s.method, s.path, after, before)
			before = after
		}
	}
}
