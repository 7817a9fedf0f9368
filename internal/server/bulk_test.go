package server_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"eagerwindow/internal/harbourtest"
)

// PATCH of a collection: rows by key, new ones and those that go, all or none.
func TestBulk(t *testing.T) {
	t.Parallel()
	r := start(t)
	document := "window: bulk\nsource: " + r.Harbour + `
resources:
  tugs: {from: harbour.tug}
  berths: {from: harbour.berth}
  calls: {from: harbour.port_call}
  vessels: {from: harbour.vessel}
  pilotages: {from: harbour.pilotage}
  log: {from: harbour.weather_log}
roles:
  clerk:
    limits: {rows: 3}
    may:
      vessels: {read: {rows: agent_id eq 3}}
      calls:
        read: {rows: vessel/agent_id eq 3}
        create: {fields: [vessel_id, eta, draught_m], set: {status: anchored}, rows: vessel/agent_id eq 3}
        update: {rows: vessel/agent_id eq 3 and draught_m lt 12, fields: [etd, draught_m]}
  adder: {may: {berths: [create]}}
  all: {may: {"*": [read, create, update, delete]}}
`
	if _, err := r.Operator.PushDraft(context.Background(), "bulk", document); err != nil {
		t.Fatal(err)
	}
	number := func(sql string) string { return column(t, r.Harbour, sql)[0] }
	own := column(t, r.Harbour, "select p.id::text from harbour.port_call p join harbour.vessel v on v.id = vessel_id where agent_id = 3 "+
		"and draught_m < 12 order by p.id limit 2")
	theirs := number("select min(p.id)::text from harbour.port_call p join harbour.vessel v on v.id = vessel_id where agent_id = 4")
	for _, s := range []struct {
		role, path, body string
		status           int
		want, rows       string
		check            string // SQL that must be true afterwards
	}{
		{"all", "/tugs", `[{"id":1,"bollard_pull_t":60},{"id":2,"name":"Otter"},{"name":"Puck","bollard_pull_t":33},` +
			`{"@removed":{"reason":"deleted"},"@id":"tugs/99"}]`, 404, "value/3: there is no such row of tugs", "",
			"select count(*) = 9 and max(bollard_pull_t) <> 60 from harbour.tug"},
		{"all", "/tugs", `[{"id":1,"bollard_pull_t":60},{"id":2,"name":"Otter"},{"name":"Puck","bollard_pull_t":33}]`, 204, "", "3",
			"select count(*) = 3 from harbour.tug where (id = 1 and bollard_pull_t = 60) or (id = 2 and name = 'Otter') or (id > 9 and name = " +
				"'Puck')"},
		{"all", "/tugs", `[{"@removed":{"reason":"deleted"},"id":` + "%puck%" + `}]`, 204, "", "1",
			"select count(*) = 0 from harbour.tug where name = 'Puck'"},
		{"all", "/tugs", `[{"id":77,"name":"Rook","bollard_pull_t":5}]`, 404, "value/0: there is no such row", "",
			"select count(*) = 9 from harbour.tug"},
		{"all", "/tugs", `[{"name":"Rook","bollard_pull_t":5},{"name":"Rook","bollard_pull_t":6}]`, 409, "same value where it must be unique", "",
			"select count(*) = 9 from harbour.tug"},
		{"all", "/tugs", `[{"name":"Rook"},{"id":1,"bollard_pull_t":"7"},{"id":1.5},5]`, 400, "value/0/bollard_pull_t: is required", "",
			"select count(*) = 9 from harbour.tug"},
		{"all", "/tugs", `[{"id":1,"name":"A"},{"@id":"tugs(1)","name":"B"}]`, 400, "value/1: value/0 names this row already", "",
			"select count(*) = 9 from harbour.tug"},
		{"all", "/calls", `[{"id":1,"vessel":{}}]`, 400, "relations are written by their fields", "", "select true"},
		{"all", "/tugs", `[{"@removed":{"reason":"changed"},"id":1}]`, 400, "are deleted, not unlinked", "", "select true"},
		{"all", "/tugs", `[{"@id":"berths/N05","name":"x"}]`, 400, "is no row of tugs", "", "select true"},
		{"all", "/tugs", `[]`, 204, "", "0", "select true"},
		{"all", "/tugs?filter=id eq 1", `[]`, 400, "/tugs/$filter(…)/$each", "", "select true"},
		{"all", "/berths", `[{"code":"N05","quay":"It's","shore_power":true},{"code":"W01","quay":"West","length_m":80,"max_draught_m":5},` +
			`{"code":"W02","quay":"West","length_m":80,"max_draught_m":5,"shore_power":true},{"@id":"berths/W03","quay":"West","length_m":80,` +
			`"max_draught_m":5}]`, 204, "", "4",
			"select count(*) = 3 and bool_or(shore_power) and not bool_and(shore_power) from harbour.berth where quay = 'West'"},
		{"all", "/berths", `[{"code":"N05","quay":"South"},{"code":"X01","quay":"West"}]`, 400, "value/1/length_m: is required", "",
			"select quay = 'It''s' from harbour.berth where code = 'N05'"},
		{"all", "/log", `[{"wind_kn":5}]`, 400, "value/0/taken_at: is required", "", "select true"},
		{"all", "/pilotages", `[{"port_call_id":17,"pilot_id":"00000000-0000-0000-0000-000000000000","direction":"inbound"}]`, 409,
			"refers to one that does not exist", "", "select true"},
		{"adder", "/berths", `[{"code":"Y01","quay":"Y","length_m":80,"max_draught_m":5}]`, 204, "", "1",
			"select count(*) = 1 from harbour.berth where code = 'Y01'"},
		{"adder", "/berths", `[{"code":"Y01","quay":"Y","length_m":80,"max_draught_m":5}]`, 409, "another row has the same value", "",
			"select true"},
		{"adder", "/berths", `[{"@removed":{"reason":"deleted"},"code":"Y01"}]`, 403, "may not delete berths", "",
			"select count(*) = 1 from harbour.berth where code = 'Y01'"},
		{"adder", "/tugs", `[]`, 403, "may not update tugs", "", "select true"},
		{"clerk", "/calls", `[{"id":` + own[0] + `,"etd":null},{"id":` + own[1] +
			`,"etd":null,"draught_m":4.25},{"vessel_id":3,"eta":"2027-01-01T00:00:00Z","draught_m":5}]`, 204, "", "3",
			"select count(*) = 2 from harbour.port_call where (vessel_id = 3 and status = 'anchored' and eta = '2027-01-01 00:00Z') or (id = " +
				own[1] + " and draught_m = 4.25)"},
		{"clerk", "/calls", `[{"id":` + own[0] + `,"draught_m":12.5}]`, 403, "nothing was changed", "",
			"select draught_m < 12 from harbour.port_call where id = " + own[0]},
		{"clerk", "/calls", `[{"id":` + theirs + `,"draught_m":2.5}]`, 404, "no such row", "",
			"select draught_m <> 2.5 from harbour.port_call where id = " + theirs},
		{"clerk", "/calls", `[{"vessel_id":1,"eta":"2027-01-01T00:00:00Z","draught_m":5}]`, 403, "nothing was changed", "", "select true"},
		{"clerk", "/calls", `[{"id":1},{"id":2},{"id":3},{"id":4}]`, 409, "the body has 4 rows, and role \\\"clerk\\\" may write 3 at once", "",
			"select true"},
		{"clerk", "/calls", `[{"id":` + own[0] + `,"status":"departed"}]`, 403, "may not update this field", "", "select true"},
	} {
		s.body = strings.Replace(s.body, "%puck%", number("select coalesce(max(id), 0)::text from harbour.tug where name = 'Puck'"), 1)
		a := write(t, r, r.Operator.Token, "PATCH", "/draft/bulk"+s.path, `{"@context":"#$delta","value":`+s.body+`}`, "Act-As", s.role)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) || a.Header.Get("Rows-Affected") != s.rows {
			t.Errorf("%s PATCH %s %s: %s %q rows %s\nwant %d %q, rows %q", s.role, s.path, s.body, a.Status, a.Header.Get("Rows-Affected"), a.Text,
				s.status, s.rows, s.want)
		}
		if number(s.check) != "true" {
			t.Errorf("after %s PATCH %s %s: not %s", s.role, s.path, s.body, s.check)
		}
	}
	for _, body := range []string{`{}`, `{"value":{}}`, `{"value":[],"more":1}`, `{"name":"x"}`} {
		if a := write(t, r, r.Operator.Token, "PATCH", "/draft/bulk/tugs", body); a.StatusCode != 400 ||
			!strings.Contains(a.Text, "a change of many rows is") {
			t.Errorf("%s: %s %s", body, a.Status, a.Text)
		}
	}
	// Ten thousand rows, every other one new.
	var rows []string
	for i := range 10_000 {
		if i%2 == 0 {
			rows = append(rows, fmt.Sprintf(`{"id":%d,"remarks":"bulk %d"}`, i+1, i))
		} else {
			rows = append(rows, fmt.Sprintf(`{"vessel_id":%d,"eta":"2028-01-01T00:00:00Z","draught_m":5.25,"remarks":"bulk %d"}`, 1+i%300, i))
		}
	}
	a := write(t, r, r.Operator.Token, "PATCH", "/draft/bulk/calls", `{"@context":"#$delta","value":[`+strings.Join(rows, ",")+`]}`)
	if a.StatusCode != 204 || a.Header.Get("Rows-Affected") != "10000" ||
		number("select count(distinct remarks)::text from harbour.port_call where remarks like 'bulk %'") != "10000" {
		t.Errorf("10,000 rows: %s %s %s", a.Status, a.Header.Get("Rows-Affected"), a.Text)
	}
}

// Rows of one delta that leave out different fields: each gets its defaults, numbers of the sequence too, whatever the names are.
func TestBulkDefaults(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := harbourtest.Database(t, false)
	column(t, dsn, `create table "Odd ""table\" (code text primary key, "The \'No'" int generated by default as identity (start with 40), `+
		`n int default 7, "order" text default 'a\b''c', "select" timestamptz default now())`)
	document := "window: odd\nsource: " + dsn + `
resources:
  odd:
    from: 'public.Odd "table\'
    fields: {"The \\'No'": {name: no}}
`
	if _, err := r.Operator.PushDraft(context.Background(), "odd", document); err != nil {
		t.Fatal(err)
	}
	for _, s := range []struct {
		rows, want string // what is in the table then
	}{
		{`{"code":"A","n":1},{"code":"B","order":"x"},{"code":"C","no":5,"n":null}`,
			`[["A",40,1,"a\\b'c",true],["B",41,7,"x",true],["C",5,null,"a\\b'c",true]]`},
		{`{"code":"A","no":6},{"code":"D","select":null},{"code":"E","no":7},{"@removed":{"reason":"deleted"},"code":"B"}`,
			`[["A",6,1,"a\\b'c",true],["C",5,null,"a\\b'c",true],["D",42,7,"a\\b'c",false],["E",7,7,"a\\b'c",true]]`},
	} {
		a := r.Send(t, r.Operator.Token, "PATCH", "/draft/odd/odd", strings.NewReader(`{"@context":"#$delta","value":[`+s.rows+`]}`))
		got := column(t, dsn, `select json_agg(json_build_array(code, "The \'No'", n, "order", `+
			`"select" is not null) order by code)::text from "Odd ""table\"`)[0]
		if a.StatusCode != 204 || strings.ReplaceAll(got, ", ", ",") != s.want {
			t.Errorf("%s: %s %s\ngot  %s\nwant %s", s.rows, a.Status, a.Text, got, s.want)
		}
	}
}

// Who asks for the rows of a delta gets them in its order, as they are stored, with the keys that the database gave; they are refused as
// without.
func TestBulkShown(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table crate (id int generated always as identity primary key, label text not null unique, kg numeric(6,1),
			lot text, at timestamptz default '2026-07-01T10:00:00Z');
		create table lot (code text primary key, about text default 'none');
		alter table crate add foreign key (lot) references lot;
		create function mind() returns trigger language plpgsql as $$ begin if new.label = 'skip' then return null; end if; return new; end $$;
		create trigger mind before insert on crate for each row execute function mind();
		insert into lot values ('A', 'apples'), ('B', 'beans');
		insert into crate (label, kg, lot) values ('one', 1, 'A'), ('two', 2, 'A'), ('three', 3, 'B')`)
	document := "window: crates\nsource: " + dsn + `
resources: {crates: {from: crate}, lots: {from: lot}}
roles:
  packer: {may: {crates: {read: {rows: lot eq 'A'}, update: {rows: kg lt 100}, create: {}}}}
  blind: {may: {crates: [update]}}
  clerk: {may: {crates: {read: {fields: [id, label]}, update: {fields: [label]}}}}
`
	if _, err := r.Operator.PushDraft(context.Background(), "crates", document); err != nil {
		t.Fatal(err)
	}
	const minus = "204"
	for _, s := range []struct {
		as, path, value string
		status          int
		want            string
	}{
		{"", "/crates", `{"label":"four"},{"id":2,"kg":2.5},{"@removed":{"reason":"deleted"},"id":3},{"label":"five","lot":"B"},{"id":1,` +
			`"label":"uno"}`, 200, `{"@context":"$metadata#crates/$delta","value":[` +
			`{"id":4,"label":"four","kg":null,"lot":null,"at":"2026-07-01T10:00:00Z"},` + "\n" +
			`{"id":2,"label":"two","kg":2.5,"lot":"A","at":"2026-07-01T10:00:00Z"},` + "\n" +
			`{"@id":"crates/3","@removed":{"reason":"deleted"}},` + "\n" +
			`{"id":5,"label":"five","kg":null,"lot":"B","at":"2026-07-01T10:00:00Z"},` + "\n" +
			`{"id":1,"label":"uno","kg":1.0,"lot":"A","at":"2026-07-01T10:00:00Z"}]}`},
		{"", "/crates?select=id&expand=lot_lot(select=about)", `{"id":5,"kg":5},{"label":"six","lot":"A"}`, 200,
			`"$metadata#crates(id,lot_lot(about))/$delta","value":[{"id":5,"lot_lot":{"about":"beans"}},` + "\n" +
				`{"id":6,"lot_lot":{"about":"apples"}}]}`},
		{"", "/crates?select=label&expand=lot_2", `{"id":5,"kg":5}`, 400, "lot_2"},
		{"", "/lots?select=about", `{"code":"C"},{"code":"A","about":"pears"},{"code":"D","about":"dates"}`, 200,
			`"$metadata#lots(about)/$delta","value":[{"about":"none"},` + "\n" + `{"about":"pears"},` + "\n" + `{"about":"dates"}]`},
		{"", "/lots?expand=crates(select=label;orderby=id)", `{"code":"A","about":"apples"},{"code":"E"}`, 200,
			`{"code":"A","about":"apples","crates":[{"label":"uno"},{"label":"two"},{"label":"six"}]},` + "\n" +
				`{"code":"E","about":"none","crates":[]}]`},
		{"", "/crates", `{"id":1,"kg":7},{"id":99,"kg":7}`, 404, "value/1: there is no such row"},
		{"", "/crates", `{"@removed":{"reason":"deleted"},"id":99},{"id":1,"kg":7}`, 404, "value/0: there is no such row"},
		{"", "/crates", `{"label":"seven"},{"label":"two"}`, 409, "label: another row has the same value"},
		{"", "/crates", `{"label":"nine"},{"label":"skip"}`, 204, minus}, // what is not there is not shown
		{"", "/crates?top=3", `{"label":"x"}`, 400, "top does not go with"},
		{"packer", "/crates", `{"id":1,"kg":9},{"id":2,"kg":9}`, 200, `"kg":9.0,"lot":"A"`},
		{"packer", "/crates", `{"id":1,"kg":10},{"id":5,"kg":10}`, 204, minus}, // one of them is not the role's to read
		{"packer", "/crates", `{"id":1,"kg":11},{"id":2,"kg":1000}`, 403, "some of these 2 would not be"},
		{"packer", "/crates", `{"label":"seven","lot":"A"},{"label":"eight","lot":"A"}`, 200, `"label":"seven","kg":null,"lot":"A"`},
		{"blind", "/crates", `{"id":1,"kg":12}`, 204, minus},
		{"clerk", "/crates", `{"id":1,"label":"ein"},{"id":2,"label":"zwei"}`, 200, `"value":[{"id":1,"label":"ein"},` + "\n" +
			`{"id":2,"label":"zwei"}]`},
		{"clerk, packer", "/crates", `{"id":2,"label":"deux"},{"id":5,"label":"cinq"}`, 200, `"label":"deux","kg":9.0`},
		{"clerk, packer", "/crates?select=id,kg", `{"id":2,"label":"two"},{"id":5,"label":"five"}`, 200, `{"id":2,"kg":9.0},` + "\n" +
			`{"id":5,"kg@Core.Permissions":"None"}]`},
	} {
		a := write(t, r, r.Operator.Token, "PATCH", "/draft/crates"+s.path, `{"@context":"#$delta","value":[`+s.value+`]}`, "Prefer",
			"return=representation", "Act-As", s.as)
		if applied := a.Header.Get("Preference-Applied"); a.StatusCode != s.status || s.want != minus && !strings.Contains(a.Text, s.want) ||
			(applied == "return=representation") != (s.status == 200) {
			t.Errorf("as %q %s [%s]: %s %q %s\nwant %d %s", s.as, s.path, s.value, a.Status, applied, a.Text, s.status, s.want)
		}
	}
	a := write(t, r, r.Operator.Token, "PATCH", "/draft/crates/crates", `{"value":[{"@removed":{"reason":"deleted"},"id":2}]}`, "Prefer",
		"return=representation", "OData-MaxVersion", "4.0")
	if !strings.Contains(a.Text, `[{"@odata.id":"crates/2","@odata.removed":{"reason":"deleted"}}]`) {
		t.Errorf("in 4.0: %s %s", a.Status, a.Text)
	}
	var rows []string
	for i := range 12000 {
		rows = append(rows, fmt.Sprintf(`{"label":"crate %d of the many that are here, %s"}`, i, strings.Repeat("x", 300)))
	}
	a = write(t, r, r.Operator.Token, "PATCH", "/draft/crates/crates", `{"value":[`+strings.Join(rows, ",")+`]}`, "Prefer",
		"return=representation")
	if a.StatusCode != 204 || a.Header.Get("Rows-Affected") != "12000" {
		t.Errorf("too many to be shown: %s %.200s", a.Status, a.Text)
	}
}
