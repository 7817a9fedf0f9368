package server_test

import (
	"strings"
	"testing"

	"eagerwindow/internal/harbourtest"
)

// Types that the database alone knows, words to search for, views that are written through, tables without a key, values with parts.
func TestKindsOfColumns(t *testing.T) {
	t.Parallel()
	r := start(t)
	pushKinds(t, r)
	for _, s := range []struct {
		role, method, path, body string
		status                   int
		want                     string
	}{
		// as psql shows them, and in the database's order
		{"all", "GET", "/host?select=addr,fee,mask,mac&filter=id le 2", "", 200,
			`{"addr":"10.0.0.2","fee":"$12.50","mask":"0101","mac":"08:00:2b:01:02:03"},` + "\n" + `{"addr":"10.0.0.10","fee":"$3.00"`},
		{"all", "GET", "/host?select=id&orderby=addr desc", "", 200, `{"id":3},` + "\n" + `{"id":2},` + "\n" + `{"id":1}`},
		{"all", "GET", "/host?select=id&filter=addr gt '10.0.0.3' and addr lt '11.0.0.0'", "", 200, `[` + "\n" + `{"id":2}` + "\n]"},
		{"all", "GET", "/host?select=id&filter=addr in ('10.0.0.2','10.0.0.10') and fee ge '3'&orderby=fee", "", 200, `{"id":2},` + "\n" +
			`{"id":1}`},
		{"all", "GET", "/host?select=id&filter=mask ne null and addr ne '10.0.0.2'", "", 200, `{"id":2}`},
		{"all", "GET", "/host?select=id&filter=addr eq 'nowhere'", "", 400, "can't be understood by the database"},
		{"all", "GET", "/host?select=id&filter=addr eq fee", "", 400, "can't be compared"},
		{"all", "GET", "/host?select=id,x&compute=addr as x&orderby=x&top=1", "", 200, `"x":"10.0.0.2"`},
		{"all", "GET", "/host?apply=groupby((addr))&orderby=addr&top=1", "", 200, `{"addr":"10.0.0.2"}`},
		{"all", "GET", "/host?apply=aggregate(fee with max as m)", "", 400, "max takes"},
		{"all", "GET", "/host(addr='10.0.0.10')?select=id", "", 200, `"id":2`},

		// values with parts (Protocol, 11.4.9.3)
		{"all", "GET", "/host/1/spot", "", 200, `#host(1)/spot","at":{"quay":"North","metres":12.5},"since":"2026-01-01"}`},
		{"all", "GET", "/host/1/spot/at/quay", "", 200, `"value":"North"`},
		{"all", "GET", "/host/1/spot/at/quay/$value", "", 200, `North`},
		{"all", "GET", "/host/2/spot/at", "", 204, ""},
		{"all", "GET", "/host/1/spot/nothing", "", 404, `spot has no part \"nothing\"`},
		{"all", "GET", "/host?select=id,spot/at/metres,open/upper&filter=id eq 1", "", 200,
			`"spot":{"at":{"metres":12.5}},"open":{"upper":"2026-03-01"}`},
		{"all", "PATCH", "/host/1?select=spot", `{"spot":{"at":{"metres":7}}}`, 200,
			`"spot":{"at":{"quay":"North","metres":7.0},"since":"2026-01-01"}`},
		{"all", "PATCH", "/host/1?select=spot", `{"spot":{"since":null}}`, 200, `"spot":{"at":{"quay":"North","metres":7.0},"since":null}`},
		{"all", "PATCH", "/host/2?select=spot", `{"spot":{"since":"2026-05-05"}}`, 200, `"spot":{"at":null,"since":"2026-05-05"}`},
		{"all", "PUT", "/host/1/spot", `{"since":"2026-06-06"}`, 200, `"spot":{"at":null,"since":"2026-06-06"}`},
		{"all", "PATCH", "/host/1?select=spot", `{"spot":{"att":{}}}`, 400, `it has no part \"att\"`},
		{"all", "PATCH", "/host/1?select=open", `{"open":{"upper":"2026-04-01"}}`, 200,
			`"open":{"lower":"2026-01-01","upper":"2026-04-01","bounds":"[)"}`},
		{"all", "PATCH", "/host/1?select=open", `{"open":{"lower":"2026-05-01","upper":"2026-04-01"}}`, 400, "the lower bound comes first"},
		{"all", "PATCH", "/host/1?select=open", `{"open":{"lower":"2027-05-01"}}`, 400, "greater than its upper bound"},
		{"all", "PATCH", "/host/1?select=open", `{"open":{"empty":true}}`, 200, `"open":{"empty":true}`},
		{"all", "PATCH", "/host/1?select=open", `{"open":{"lower":"2026-01-01","upper":null,"empty":false}}`, 200,
			`"open":{"lower":"2026-01-01","bounds":"[)"}`},
		{"all", "PATCH", "/host/1?select=open", `{"open":null}`, 200, `"open":null`},
		{"all", "PATCH", "/host", `{"value":[{"id":2,"spot":{"at":{"quay":"East"}}},{"id":3,"spot":{"since":"2026-07-07"}}]}`, 204, ""},
		{"all", "GET", "/host?select=spot&filter=id gt 1&orderby=id", "", 200,
			`{"spot":{"at":{"quay":"East","metres":null},"since":"2026-05-05"}},` + "\n" + `{"spot":{"at":null,"since":"2026-07-07"}}`},
		{"all", "PATCH", "/host/$filter(id eq 3)/$each", `{"spot":{"at":{"quay":"West"}}}`, 204, ""},
		{"all", "GET", "/host/3/spot/at/quay/$value", "", 200, "West"},
		{"all", "GET", "/host/1/kinds/$count", "", 200, "2"},
		{"all", "GET", "/host/1/id/$count", "", 400, "$count follows a collection; id is an integer"},
		{"all", "GET", "/host/1?select=kinds(filter=$this ne 'a';count=true)", "", 200, `"kinds@count":1,"kinds":["b"]`},
		{"all", "GET", "/host/1?select=kinds(orderby=$this desc;top=1)", "", 200, `"kinds":["b"]`},
		{"all", "GET", "/host/2?select=kinds(skip=1;count=true)", "", 200, `"kinds@count":0,"kinds":null`},
		{"all", "GET", "/host/1?select=id(top=1)", "", 400, "takes no options in select"},
		{"all", "POST", "/host?select=id,spot", `{"id":99,"spot":{"at":{"quay":"A","metres":null}}}`, 201, `"id":4,"spot":{"at":{"quay":"A"`},

		// the words of a column and of an index, as far as the role may read what is in them
		{"all", "GET", "/note?search=moor&select=id&orderby=id", "", 200, `{"id":1},` + "\n" + `{"id":2}`},
		{"all", "GET", `/note?search="lines were"&select=id`, "", 200, `{"id":1}`},
		{"all", "GET", "/note?search=x&select=id", "", 200, "[\n]"},
		{"all", "GET", "/note?search=NOT line&select=id&orderby=id", "", 200, `{"id":2},` + "\n" + `{"id":3}`},
		{"all", "GET", "/note/1", "", 200, `"title":"Mooring lines","body":"The lines were checked twice","secret":"x"}`},
		{"part", "GET", "/note?search=vessels&select=id", "", 200, "[\n]"},
		{"part", "GET", "/note?search=erth&select=id", "", 200, `{"id":2}`},
		{"all", "GET", "/report?search=ice&select=id", "", 200, "[\n" + `{"id":1}` + "\n]"},
		{"all", "GET", "/report?search=harbo&select=id", "", 200, "[\n]"},
		{"part", "GET", "/report?search=harbour&select=id", "", 200, `{"id":1}`},
		{"part", "GET", "/openapi.json?role=part", "", 200, "`search` looks into the words of `name` (simple)"},

		// views that the database writes through, by itself or by a trigger
		{"all", "PATCH", "/open_host/1", `{"fee":"5"}`, 200, `"fee":"$5.00","mac":"08:00:2B:01:02:03"`},
		{"all", "PATCH", "/open_host/1", `{"mac":"x"}`, 200, `"mac":"08:00:2B:01:02:03"`},
		{"all", "POST", "/open_host?select=addr,fee", `{"addr":"10.1.1.1","fee":"9"}`, 201, `"addr":"10.1.1.1","fee":"$9.00"`},
		{"all", "PATCH", "/open_host/$filter(fee gt '8')/$each", `{"fee":"8"}`, 204, ""},
		{"all", "DELETE", "/open_host(addr='10.1.1.1')", "", 400, "the key of open_host"},
		{"all", "DELETE", "/open_host/$filter(fee eq '8')/$each", "", 204, ""},
		{"all", "PATCH", "/quay/1", `{"name":"South"}`, 200, `"name":"South","n":1`},
		{"all", "POST", "/quay", `{"id":7,"name":"East"}`, 201, `"id":7,"name":"East","n":1`},
		{"all", "DELETE", "/quay/1", "", 405, "quay can't be used to delete rows"},

		// a table without a key takes new rows
		{"all", "POST", "/diary", `{"entry":"Fog"}`, 201, `"at":"2026-07-01","entry":"Fog"}`},
		{"all", "GET", "/diary()?filter=entry eq 'Fog'", "", 200, `#Collection(kinds.diary_row)","value":[` + "\n" + `{"at":"2026-07-01"`},
		{"all", "DELETE", "/diary", "", 405, "can't be used to delete rows"},
		{"all", "PATCH", "/diary/$filter(entry eq 'Fog')/$each", `{"entry":"x"}`, 405, "can't be used to update rows"},
	} {
		a := write(t, r, r.Operator.Token, s.method, "/draft/kinds"+s.path, s.body, "Act-As", s.role)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) {
			t.Errorf("%s %s %s as %s: %s %s\nwant %d %s", s.method, s.path, s.body, s.role, a.Status, a.Text, s.status, s.want)
		}
	}
}

// pushKinds makes a window over columns of every kind, with the roles part and all.
func pushKinds(t *testing.T, r *harbourtest.Running) {
	t.Helper()
	dsn := database(t, `
		create type place as (quay text, metres numeric(6,1));
		create type spot as (at place, since date);
		create table host (id int generated always as identity primary key, addr inet unique, fee money, mask bit(4), mac macaddr, spot spot,
			open daterange, kinds text[]);
		insert into host (addr, fee, mask, mac, spot, open, kinds) values
			('10.0.0.2', '12.50', b'0101', '08:00:2b:01:02:03', row(row('North', 12.5), '2026-01-01'), '[2026-01-01,2026-03-01)', '{a,b}'),
			('10.0.0.10', '3.00', b'0001', '08:00:2b:01:02:04', null, null, null), ('192.168.0.0/16', null, null, null, null, null, '{}');
		create table note (id int primary key, title text not null, body text, secret text,
			words tsvector generated always as (to_tsvector('english', title || ' ' || coalesce(body, ''))) stored);
		insert into note values (1, 'Mooring lines', 'The lines were checked twice', 'x'), (2, 'Berths', 'Two vessels moored', null),
			(3, 'Dredging', null, 'line');
		create table report (id int primary key, name text not null, hidden text);
		create index on report using gin (to_tsvector('simple', name));
		insert into report values (1, 'Ice in the harbour', 'fog'), (2, 'Fog', 'ice');
		create view open_host as select id, addr, fee, upper(mac::text) as mac from host where fee is not null;
		create view quay as select 1 as id, 'North'::text as name, 0 as n;
		create function quay_write() returns trigger language plpgsql as $$ begin new.n := coalesce(new.n, 0) + 1; return new; end $$;
		create trigger w instead of insert or update on quay for each row execute function quay_write();
		create table diary (at date not null default '2026-07-01', entry text not null)`)
	document := "window: kinds\nsource: " + dsn + "\nresources: {host: {}, note: {}, report: {}, open_host: {key: [id]}, quay: {key: [id]}, " +
		"diary: {}}\nroles:\n  part:\n    may:\n      note: {read: {except: [body]}}\n      report: {read: {fields: [id, name]}}\n" +
		"  all: {may: {\"*\": [read, create, update, delete]}}"
	if _, err := r.Operator.PushDraft(t.Context(), "kinds", document); err != nil {
		t.Fatal(err)
	}
}
