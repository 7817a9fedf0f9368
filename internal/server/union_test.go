package server_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/client"
	"eagerwindow/internal/service"
)

// What a caller with two roles sees, written out as tables: their rows are those of either role, their fields null where neither role that
// reaches the row may read them.
const seenTables = `
create schema seen;
create table seen.agent as select id, name, email, case when id <= 20 then phone end as phone, since from harbour.agent where id <= 20 or id > 10;
create table seen.vessel as select id, name, imo_number, flag, kind, case when agent_id = 3 then gross_tonnage end as gross_tonnage, built_on, case when agent_id = 3 then agent_id end as agent_id, tags, particulars
  from harbour.vessel where agent_id = 3 or kind in ('tanker', 'ferry');
create table seen.berth as select * from harbour.berth where shore_power;
create table seen.port_call as select p.id, vessel_id, case when a then berth_code end as berth_code, status, eta, case when a then etd end as etd, case when a then arrived_at end as arrived_at,
  case when a then departed_at end as departed_at, case when a then draught_m end as draught_m, hazardous, case when b then remarks end as remarks, case when a then created_at end as created_at, case when a then updated_at end as updated_at
  from harbour.port_call p join lateral (select coalesce((select agent_id = 3 from harbour.vessel v where v.id = p.vessel_id), false) as a, status <> 'cancelled' and p.id % 2 = 1 as b) x on true where a or b;
create table seen.due as select port_call_id, case when port_call_id < 6000 then amount end as amount, currency, paid_at from harbour.due where port_call_id < 6000 or currency = 'EUR';
create table seen.cargo_item as select id, port_call_id, description, hs_code, case when tonnes > 100 then tonnes end as tonnes, dangerous_class from harbour.cargo_item;
create table seen.inspection as select id, port_call_id, inspector, held_at, passed, took from harbour.inspection where passed;
create table seen.tug as select * from harbour.tug where id <> 4;
alter table seen.agent add primary key (id); alter table seen.vessel add primary key (id); alter table seen.berth add primary key (code); alter table seen.port_call add primary key (id);
alter table seen.due add primary key (port_call_id); alter table seen.cargo_item add primary key (id); alter table seen.inspection add primary key (id); alter table seen.tug add primary key (id);
create table seen.port_call_tug as select * from harbour.port_call_tug where port_call_id in (select id from seen.port_call) and tug_id in (select id from seen.tug);
alter table seen.port_call_tug add primary key (port_call_id, tug_id), add foreign key (port_call_id) references seen.port_call, add foreign key (tug_id) references seen.tug;
analyze;`

const unionDocument = `window: mixed
source: %s
resources:
  agents: {from: harbour.agent}
  vessels: {from: harbour.vessel, fields: {internal_note: {expose: false}}}
  berths: {from: harbour.berth}
  port_calls: {from: harbour.port_call}
  dues: {from: harbour.due, fields: {receipt: {expose: false}}}
  cargo_items: {from: harbour.cargo_item, fields: {stowage: {expose: false}}}
  inspections: {from: harbour.inspection, fields: {findings: {expose: false}}}
  tugs: {from: harbour.tug}
roles:
  one:
    claims: {me: integer}
    may:
      agents: {read: {rows: id le 20}}
      vessels: {read: {rows: agent_id eq @caller/me}}
      port_calls: {read: {rows: vessel/agent_id eq @caller/me, except: [remarks]}}
      dues: {read: {rows: port_call_id lt 6000}}
      cargo_items: {read: {rows: tonnes gt 100}}
      tugs: {read: {rows: id lt 4}}
  two:
    may:
      agents: {read: {rows: id gt 10, except: [phone]}}
      vessels: {read: {rows: "kind in ('tanker','ferry')", except: [agent_id, gross_tonnage]}}
      berths: {read: {rows: shore_power}}
      port_calls: {read: {rows: status ne 'cancelled' and id mod 2 eq 1, fields: [id, vessel_id, status, eta, hazardous, remarks]}}
      dues: {read: {rows: currency eq 'EUR', except: [amount]}}
      cargo_items: {read: {except: [tonnes]}}
      inspections: {read: {rows: passed}}
      tugs: {read: {rows: id gt 4}}
sign_in: {clients: true}
`

const seenDocument = `window: seen
source: %s
resources:
  agents: {from: seen.agent, relations: {vessels: {to: vessels, on: {id: agent_id}}}}
  vessels: {from: seen.vessel, relations: {agent: {to: agents, on: {agent_id: id}}, port_calls: {to: port_calls, on: {id: vessel_id}}}}
  berths: {from: seen.berth, relations: {port_calls: {to: port_calls, on: {code: berth_code}}}}
  port_calls:
    from: seen.port_call
    relations:
      vessel: {to: vessels, on: {vessel_id: id}}
      berth: {to: berths, on: {berth_code: code}}
      due: {to: dues, on: {id: port_call_id}}
      cargo_items: {to: cargo_items, on: {id: port_call_id}}
      inspections: {to: inspections, on: {id: port_call_id}}
  dues: {from: seen.due, relations: {port_call: {to: port_calls, on: {port_call_id: id}}}}
  cargo_items: {from: seen.cargo_item, relations: {port_call: {to: port_calls, on: {port_call_id: id}}}}
  inspections: {from: seen.inspection, relations: {port_call: {to: port_calls, on: {port_call_id: id}}}}
  tugs: {from: seen.tug}
roles: {everyone: {anonymous: true, may: {"*": read}}}
`

var hiddenField = regexp.MustCompile(`"(\w+)@Core\.Permissions":"None"`)

// Whatever a caller with two roles asks, the answer is the one of tables that hold no more than what it may see: filters, orders, counts,
// relations of all kinds, sums.
func TestTwoRolesSeeOneTable(t *testing.T) {
	r := start(t)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, r.Harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, seenTables); err != nil {
		t.Fatal(err)
	}
	for name, document := range map[string]string{"mixed": unionDocument, "seen": seenDocument} {
		if _, err := r.Operator.PushDraft(ctx, name, fmt.Sprintf(document, r.Harbour)); err != nil {
			t.Fatal(err)
		}
		if _, err := r.Operator.Publish(ctx, name, ""); err != nil {
			t.Fatal(err)
		}
	}
	c, err := r.Operator.AddClient(ctx, "mixed", "both", service.NewClient{Roles: []string{"one", "two"}, Claims: map[string]any{"me": 3}})
	if err != nil {
		t.Fatal(err)
	}
	token, err := (&client.Client{URL: r.URL}).ClientToken(ctx, "mixed", c.ID, c.Secret)
	if err != nil {
		t.Fatal(err)
	}
	g := &generator{Rand: rand.New(rand.NewPCG(2026, 11))}
	var requests []string
	for range 240 {
		root := pick(g, []string{"port_calls", "vessels", "agents", "berths", "inspections"})
		p := harbourPlaces[root]
		order := p.key
		if v, ok := g.operand(root, "", "t", pick(g, p.fields).kind, 2); ok {
			order = v.query + pick(g, []string{"", " desc"})
		}
		requests = append(requests, fmt.Sprintf("/%s?filter=%s&orderby=%s&top=%d&count=true", root, g.condition(root, "", "t", 3).query, order, 1+g.IntN(80)))
	}
	for range 100 {
		root := pick(g, []string{"port_calls", "vessels", "agents", "berths"})
		p := harbourPlaces[root]
		m := pick(g, p.manys)
		ones := ""
		for _, one := range p.ones {
			ones += one.name + ","
		}
		requests = append(requests, fmt.Sprintf("/%s?filter=%s&orderby=%s desc&top=20&expand=%s%s(filter=%s;orderby=%s desc;top=%d;count=true)", root, g.condition(root, "", "t", 1).query, p.key, ones, m.name,
			g.condition(m.to, "", "x", 1).query, harbourPlaces[m.to].key, 1+g.IntN(4)))
	}
	for _, apply := range []string{"groupby((status),aggregate($count as n,draught_m with sum as d,remarks with countdistinct as r))", "groupby((berth_code),aggregate($count as n))", "groupby((vessel/kind,vessel/agent_id),aggregate($count as n))",
		"groupby((vessel/agent/name),aggregate(id with max as m))", "filter(remarks ne null)/aggregate($count as n)", "aggregate(due/amount with sum as s)", "aggregate(tugs/$count with sum as s)", "topcount(5,draught_m)/aggregate($count as n,id with sum as s)",
		"groupby((berth/quay),aggregate(draught_m with average as a))"} {
		requests = append(requests, "/port_calls?apply="+apply+"&top=1000")
	}
	requests = append(requests, "/port_calls?search=ice&orderby=id", "/port_calls?search=NOT ice&orderby=id&count=true&top=1", "/vessels?compute=port_calls/$count as n,gross_tonnage mul 2 as g&orderby=n desc,id&top=50", "/tugs?expand=*&orderby=id",
		"/dues?orderby=amount desc,port_call_id&top=50", "/dues?filter=amount gt 500&count=true&top=0", "/cargo_items?orderby=tonnes desc,id&top=50", "/cargo_items?filter=tonnes eq null&count=true&top=3", "/vessels?format=csv&orderby=id&top=50", "/vessels?format=ndjson&orderby=gross_tonnage,id&top=50",
		"/agents/15", "/agents/25", "/agents/25/vessels?orderby=id", "/vessels/3/port_calls?orderby=id&top=5", "/vessels/3/agent", "/port_calls/$count?filter=berth_code eq null", "/berths?expand=port_calls/$count&orderby=code")
	hidden, rows := 0, 0
	for _, q := range requests {
		got, want := r.Send(t, token, "GET", "/api/mixed"+q, nil), r.Send(t, "", "GET", "/api/seen"+q, nil)
		if strings.Contains(got.Text, "@Core.Permissions") {
			hidden++
		}
		if strings.Contains(got.Text, "\n{") {
			rows++
		}
		plain := hiddenField.ReplaceAllString(got.Text, `"$1":null`)
		plain, whole := strings.ReplaceAll(plain, "/api/mixed/", "/api/seen/"), want.Text
		if got.StatusCode != want.StatusCode || got.StatusCode >= 400 || leakToken.ReplaceAllString(plain, "") != leakToken.ReplaceAllString(whole, "") {
			t.Errorf("%s\ngot  %s %.700s\nwant %s %.700s", q, got.Status, plain, want.Status, whole)
		}
	}
	t.Logf("%d requests, %d with rows, %d with hidden fields", len(requests), rows, hidden)
	if hidden < 100 {
		t.Errorf("only %d answers hide fields", hidden)
	}
}

// With several roles a caller writes what one of them may, and each field by a role that reaches the row before and after. What a role
// sets is set where the write is that role's.
func TestTwoRolesWrite(t *testing.T) {
	r := start(t)
	ctx := context.Background()
	dsn := database(t, `create table item (id int generated by default as identity primary key, owner int not null, state text not null default 'raw', note text, price int);
		insert into item (id, owner, note, price) values (1, 1, 'mine', 5), (2, 2, 'theirs', 500), (3, 2, 'small', 5), (4, 1, 'both', 500); alter sequence item_id_seq restart with 10`)
	if _, err := r.Operator.PushDraft(ctx, "items", `window: items
source: `+dsn+`
resources: {item: {}}
roles:
  owner:
    claims: {me: integer}
    may:
      item:
        read: {rows: owner eq @caller/me}
        create: {rows: owner eq @caller/me, fields: [owner, note], set: {state: checked}}
        update: {rows: owner eq @caller/me, fields: [note, owner], set: {state: touched}}
        delete: {rows: owner eq @caller/me and price lt 100}
  trader:
    may:
      item:
        read: {rows: price gt 100, except: [note]}
        create: {rows: price gt 100, fields: [owner, price, state]}
        update: {rows: price gt 100, fields: [price, state]}
        delete: {rows: price gt 1000}
`); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		method, path, body string
		status             int
		row                string // as it is stored
	}{
		{"POST", "/item", `{"owner":1,"note":"new"}`, 201, "1 checked new -"},
		{"POST", "/item", `{"owner":2,"price":200}`, 201, "2 raw - 200"},
		{"POST", "/item", `{"owner":2,"price":200,"state":"dear"}`, 201, "2 dear - 200"},
		{"POST", "/item", `{"owner":2,"note":"x"}`, 403, "2 dear - 200"},
		{"POST", "/item", `{"owner":1,"price":5}`, 403, "2 dear - 200"},
		{"POST", "/item", `{"owner":1,"price":500,"note":"x","state":"checked"}`, 201, "1 checked x 500"},
		{"POST", "/item", `{"owner":1,"price":500,"note":"x","state":"raw"}`, 403, "1 checked x 500"},
		{"PATCH", "/item/1", `{"note":"y"}`, 200, "1 touched y 5"},
		{"PATCH", "/item/2", `{"price":300}`, 200, "2 raw theirs 300"},
		{"PATCH", "/item/2", `{"note":"y"}`, 403, "2 raw theirs 300"},
		{"PATCH", "/item/1", `{"price":300}`, 403, "1 touched y 5"},
		{"PATCH", "/item/1", `{"owner":2}`, 403, "1 touched y 5"},
		{"PATCH", "/item/3", `{"note":"y"}`, 404, "2 raw small 5"},
		{"PATCH", "/item/4", `{"note":"y","price":600}`, 403, "1 raw both 500"}, // its owner's role would set state, and can't set price
		{"PATCH", "/item/4", `{"note":"y","price":600,"state":"touched"}`, 200, "1 touched y 600"},
		{"PUT", "/item/1", `{"owner":1,"note":"z"}`, 200, "1 touched z 5"},
		{"PUT", "/item/2", `{"price":400,"state":"raw"}`, 200, "2 raw theirs 400"},
		{"PATCH", "/item/2", `{"price":300}`, 200, "2 raw theirs 300"},
		{"DELETE", "/item/2", "", 403, "2 raw theirs 300"},
		{"DELETE", "/item/1", "", 204, ""},
	} {
		a := write(t, r, r.Operator.Token, tt.method, "/draft/items"+tt.path, tt.body, "Act-As", "owner;me=1, trader")
		if a.StatusCode != tt.status {
			t.Errorf("%s %s %s: %s %s, want %d", tt.method, tt.path, tt.body, a.Status, a.Text, tt.status)
		}
		which := "order by id desc limit 1"
		if id, one := strings.CutPrefix(tt.path, "/item/"); one {
			which = "where id = " + id
		}
		got := strings.Join(column(t, dsn, "select concat_ws(' ', owner, state, coalesce(note, '-'), coalesce(price::text, '-')) from item "+which), "")
		if got != tt.row {
			t.Errorf("%s %s %s: the row is %q, want %q", tt.method, tt.path, tt.body, got, tt.row)
		}
	}
}
