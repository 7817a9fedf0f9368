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
	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

// What a caller with two roles sees, written out as tables: their rows are those of either role, their fields null where neither role that
// reaches the row may read them.
const seenTables = `
create schema seen;
create table seen.agent as select id, name, email, case when id <= 20 then phone end as phone,
			since from harbour.agent where id <= 20 or id > 10;
create table seen.vessel as select id, name, imo_number, flag, kind, case when agent_id = 3 then gross_tonnage end as gross_tonnage,
			built_on, case when agent_id = 3 then agent_id end as agent_id, tags, particulars
  from harbour.vessel where agent_id = 3 or kind in ('tanker', 'ferry');
create table seen.berth as select * from harbour.berth where shore_power;
create table seen.port_call as select p.id, vessel_id, case when a then berth_code end as berth_code, status, eta,
			case when a then etd end as etd, case when a then arrived_at end as arrived_at,
  case when a then departed_at end as departed_at, case when a then draught_m end as draught_m, hazardous, case
    when b then remarks end as remarks, case when a then created_at end as created_at, case when a then updated_at end as updated_at
  from harbour.port_call p join lateral (select coalesce((select agent_id = 3 from harbour.vessel v where v.id = p.vessel_id), false) as a,
			status <> 'cancelled' and p.id % 2 = 1 as b) x on true where a or b;
create table seen.due as select port_call_id, case when port_call_id < 6000 then amount end as amount, currency,
			paid_at from harbour.due where port_call_id < 6000 or currency = 'EUR';
create table seen.cargo_item as select id, port_call_id, description, hs_code, case when tonnes > 100 then tonnes end as tonnes,
			dangerous_class from harbour.cargo_item;
create table seen.inspection as select id, port_call_id, inspector, held_at, passed, took from harbour.inspection where passed;
create table seen.tug as select * from harbour.tug where id <> 4;
alter table seen.agent add primary key (id); alter table seen.vessel add primary key (id); alter table seen.berth add primary key (code);
  alter table seen.port_call add primary key (id);
alter table seen.due add primary key (port_call_id); alter table seen.cargo_item add primary key (id);
  alter table seen.inspection add primary key (id); alter table seen.tug add primary key (id);
create table seen.port_call_tug as select * from harbour.port_call_tug where port_call_id in (select id
			from seen.port_call) and tug_id in (select id from seen.tug);
alter table seen.port_call_tug add primary key (port_call_id, tug_id), add foreign key (port_call_id) references seen.port_call,
			add foreign key (tug_id) references seen.tug;
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
	t.Parallel()
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
		if _, err := r.Operator.Publish(ctx, name, windows.NewRelease{Note: "", AllowBreaking: true}); err != nil {
			t.Fatal(err)
		}
	}
	c, err := r.Operator.AddClient(ctx, "mixed", "both", identity.NewClient{Roles: []string{"one", "two"}, Claims: map[string]any{"me": 3}})
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
		requests = append(requests, fmt.Sprintf("/%s?filter=%s&orderby=%s&top=%d&count=true", root, g.condition(root, "", "t", 3).query, order, 1+
			g.IntN(80)))
	}
	for range 100 {
		root := pick(g, []string{"port_calls", "vessels", "agents", "berths"})
		p := harbourPlaces[root]
		m := pick(g, p.manys)
		ones := ""
		for _, one := range p.ones {
			ones += one.name + ","
		}
		requests = append(requests, fmt.Sprintf("/%s?filter=%s&orderby=%s desc&top=20&expand=%s%s(filter=%s;orderby=%s desc;top=%d;count=true)",
			root, g.condition(root, "", "t", 1).query, p.key, ones, m.name,
			g.condition(m.to, "", "x", 1).query, harbourPlaces[m.to].key, 1+g.IntN(4)))
	}
	for _, apply := range []string{"groupby((status),aggregate($count as n,draught_m with sum as d,remarks with countdistinct as r))",
		"groupby((berth_code),aggregate($count as n))", "groupby((vessel/kind,vessel/agent_id),aggregate($count as n))",
		"groupby((vessel/agent/name),aggregate(id with max as m))", "filter(remarks ne null)/aggregate($count as n)",
		"aggregate(due/amount with sum as s)", "aggregate(tugs/$count with sum as s)",
		"topcount(5,draught_m)/aggregate($count as n,id with sum as s)",
		"groupby((berth/quay),aggregate(draught_m with average as a))"} {
		requests = append(requests, "/port_calls?apply="+apply+"&top=1000")
	}
	requests = append(requests, "/port_calls?search=ice&orderby=id", "/port_calls?search=NOT ice&orderby=id&count=true&top=1",
		"/vessels?compute=port_calls/$count as n,gross_tonnage mul 2 as g&orderby=n desc,id&top=50", "/tugs?expand=*&orderby=id",
		"/dues?orderby=amount desc,port_call_id&top=50", "/dues?filter=amount gt 500&count=true&top=0",
		"/cargo_items?orderby=tonnes desc,id&top=50", "/cargo_items?filter=tonnes eq null&count=true&top=3",
		"/vessels?format=csv&orderby=id&top=50", "/vessels?format=ndjson&orderby=gross_tonnage,id&top=50",
		"/agents/15", "/agents/25", "/agents/25/vessels?orderby=id", "/vessels/3/port_calls?orderby=id&top=5", "/vessels/3/agent",
		"/port_calls/$count?filter=berth_code eq null", "/berths?expand=port_calls/$count&orderby=code")
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
		if got.StatusCode != want.StatusCode || got.StatusCode >= 400 ||
			leakToken.ReplaceAllString(plain, "") != leakToken.ReplaceAllString(whole, "") {
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
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	dsn := database(t, `create table item (id int generated by default as identity primary key, owner int not null,
			state text not null default 'raw', note text, price int);
		insert into item (id, owner, note, price) values (1, 1, 'mine', 5), (2, 2, 'theirs', 500), (3, 2, 'small', 5), (4, 1, 'both', 500);
			alter sequence item_id_seq restart with 10`)
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
		got := strings.Join(column(t, dsn, "select concat_ws(' ', owner, state, coalesce(note, '-'), coalesce(price::text, '-')) from item "+
			which), "")
		if got != tt.row {
			t.Errorf("%s %s %s: the row is %q, want %q", tt.method, tt.path, tt.body, got, tt.row)
		}
	}
}

// A caller with two roles, one of which sets a field that the other may send, writes in each way that there is as one of them may: alone,
// with a key, in a group, in another row, in a delta, by a filter, by a link. What a first try has done that all rules forbid does not
// stay, and what the database refuses is reported as that.
func TestTwoRolesWriteInTransactions(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	dsn := database(t, `create table shelf (id int primary key, owner int not null, note text);
		create table item (id int generated by default as identity primary key, shelf_id int references shelf, owner int not null,
			state text not null default 'raw', code text unique, price int);
		insert into shelf values (1, 1, null), (2, 2, null);
		insert into item (id, shelf_id, owner, code, price) values (1, 1, 1, 'A', 5), (2, 2, 2, 'B', 500), (3, null, 1, 'C', 5);
			alter sequence item_id_seq restart with 10`)
	if _, err := r.Operator.PushDraft(ctx, "shelves", `window: shelves
source: `+dsn+`
resources: {shelf: {}, item: {}}
roles:
  owner:
    claims: {me: integer}
    may:
      shelf: {read: {}, create: {rows: owner eq @caller/me}, update: {rows: owner eq @caller/me}}
      item:
        read: {rows: owner eq @caller/me}
        create: {rows: owner eq @caller/me, fields: [owner, shelf_id, code], set: {state: checked}}
        update: {rows: owner eq @caller/me, fields: [code, shelf_id, owner], set: {state: touched}}
  trader:
    may:
      shelf: read
      item:
        read: {rows: price gt 100}
        create: {rows: price gt 100, fields: [owner, price, state, code]}
        update: {rows: price gt 100, fields: [price, state, code]}
`); err != nil {
		t.Fatal(err)
	}
	const all = "select coalesce(string_agg(concat_ws(' ', id, shelf_id, owner, state, code, price), ', ' order by id), '') from item"
	group := func(method, path, body string) string {
		return fmt.Sprintf(`{"requests":[{"id":"1","atomicityGroup":"g","method":"PATCH","url":"shelf/1","body":{"note":"x"}},{"id":"2",`+
			`"atomicityGroup":"g","method":%q,"url":%q,"body":%s}]}`, method, path, body)
	}
	for _, tt := range []struct {
		name, method, path, body string
		header                   []string
		status                   int    // the worst of a batch
		want                     string // the rows of item that have changed or are new, then all is as it was again
	}{
		{"alone", "POST", "/item", `{"owner":1,"code":"D"}`, nil, 201, "10 1 checked D"},
		{"alone, of the other role", "POST", "/item", `{"owner":2,"code":"D","price":200}`, nil, 201, "10 2 raw D 200"},
		{"alone, of neither", "POST", "/item", `{"owner":2,"code":"D","price":5}`, nil, 403, ""},
		{"alone, refused by the database", "POST", "/item", `{"owner":1,"code":"A"}`, nil, 409, ""},
		{"with a key", "POST", "/item", `{"owner":1,"code":"D"}`, []string{"Idempotency-Key", "k1"}, 201, "11 1 checked D"},
		{"with a key, of neither", "POST", "/item", `{"owner":2,"code":"D","price":5}`, []string{"Idempotency-Key", "k2"}, 403, ""},
		{"with a key, refused by the database", "POST", "/item", `{"owner":1,"code":"A"}`, []string{"Idempotency-Key", "k3"}, 409, ""},
		{"a change with a key", "PATCH", "/item/1", `{"code":"D"}`, []string{"Idempotency-Key", "k4"}, 200, "1 1 1 touched D 5"},
		{"a replacement with a key", "PUT", "/item/1", `{"owner":1,"code":"D","shelf_id":1}`, []string{"Idempotency-Key", "k5"}, 200,
			"1 1 1 touched D 5"},
		{"a replacement in a group", "POST", "/$batch", group("PUT", "item/1", `{"owner":1,"code":"D","shelf_id":1}`), nil, 200,
			"1 1 1 touched D 5"},
		{"in a group", "POST", "/$batch", group("POST", "item", `{"owner":1,"code":"D"}`), nil, 201, "11 1 checked D"},
		{"in a group, of neither", "POST", "/$batch", group("POST", "item", `{"owner":2,"code":"D","price":5}`), nil, 424, ""},
		{"in a group, refused by the database", "POST", "/$batch", group("POST", "item", `{"owner":1,"code":"A"}`), nil, 424, ""},
		{"in another row", "POST", "/shelf", `{"id":3,"owner":1,"item":[{"owner":1,"code":"D"}]}`, nil, 201, "11 3 1 checked D"},
		{"in another row, of neither", "PATCH", "/shelf/1", `{"note":"x","item@delta":[{"owner":2,"code":"D"}]}`, nil, 403, ""},
		{"in another row, refused by the database", "PATCH", "/shelf/1", `{"note":"x","item@delta":[{"owner":1,"code":"B"}]}`, nil, 409, ""},
		{"in a delta", "PATCH", "/item", `{"value":[{"owner":1,"code":"D"},{"id":1,"code":"E"}]}`, nil, 204, "1 1 1 touched E 5, 11 1 checked D"},
		{"in a delta, of the other role", "PATCH", "/item", `{"value":[{"owner":2,"code":"D","price":300},{"id":2,"price":300}]}`, nil, 204,
			"2 2 2 raw B 300, 11 2 raw D 300"},
		{"in a delta, of neither", "PATCH", "/item", `{"value":[{"owner":1,"code":"D"},{"id":2,"code":"E","shelf_id":1}]}`, nil, 404, ""},
		{"in a delta with a key, refused by the database", "PATCH", "/item", `{"value":[{"owner":1,"code":"B"},{"id":1,"code":"E"}]}`,
			[]string{"Idempotency-Key", "k6"}, 409, ""},
		{"by a filter", "PATCH", "/item/$filter(owner%20eq%201)/$each", `{"shelf_id":2}`, nil, 204, "1 2 1 touched A 5, 3 2 1 touched C 5"},
		{"by a filter with a key", "PATCH", "/item/$filter(id%20eq%201)/$each", `{"owner":1}`, []string{"Idempotency-Key", "k7"}, 204,
			"1 1 1 touched A 5"},
		{"by a link", "POST", "/shelf/2/item/$ref", `{"@id":"item/3"}`, nil, 204, "3 2 1 touched C 5"},
		{"by a link in a group", "POST", "/$batch", group("POST", "shelf/2/item/$ref", `{"@id":"item/3"}`), nil, 204, "3 2 1 touched C 5"},
		{"by a link that neither may make", "POST", "/shelf/1/item/$ref", `{"@id":"item/2"}`, nil, 403, ""},
		{"a link removed", "DELETE", "/item/1/shelf/$ref", "", []string{"Idempotency-Key", "k8"}, 204, "1 1 touched A 5"},
	} {
		column(t, dsn, "create table before as select * from item")
		a := write(t, r, r.Operator.Token, tt.method, "/draft/shelves"+tt.path, tt.body,
			append([]string{"Act-As", "owner;me=1, trader"}, tt.header...)...)
		if worst := outcome(t, a); worst != tt.status {
			t.Errorf("%s: %s %s, want %d", tt.name, a.Status, a.Text, tt.status)
		}
		got := strings.Join(column(t, dsn, strings.Replace(all, "from item", "from (select * from item except select * from before) i", 1)), "")
		if want := strings.ReplaceAll(tt.want, "  ", " "); withoutNumbers(got) != withoutNumbers(want) {
			t.Errorf("%s: changed are %q, want %q", tt.name, got, want)
		}
		if tt.status >= 400 && len(column(t, dsn, "select 1 from shelf where note is not null or id > 2")) > 0 {
			t.Errorf("%s: a part of what was refused stays", tt.name)
		}
		for _, undo := range []string{"delete from item", "insert into item select * from before", "drop table before",
			"update shelf set note = null", "delete from shelf where id > 2"} {
			column(t, dsn, undo)
		}
	}
}

var newRow = regexp.MustCompile(`\b[1-9]\d `)

// withoutNumbers takes the numbers off of new rows: what is refused uses some up.
func withoutNumbers(rows string) string { return newRow.ReplaceAllString(rows, "new ") }
