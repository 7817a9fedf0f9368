package service_test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/postgres"
	"eagerwindow/internal/seal"
)

const yard = `create schema yard;
	create type yard.kind as enum ('a', 'b', 'c');
	create table yard.owner (id int primary key, name text not null unique, note text);
	create table yard.item (id int generated always as identity primary key, owner_id int not null references yard.owner,
		code text not null unique,
		kind yard.kind not null default 'a', size numeric(6,2), made date, active boolean not null default true, label varchar(20),
			rank smallint);
	create table yard.part (id int generated always as identity primary key, item_id int not null references yard.item, name text not null,
		weight double precision, held int);
	create view yard.heavy as select id, name, weight from yard.part where weight > 1;
	insert into yard.owner select n, 'owner ' || n, 'x' from generate_series(1, 4) n;
	insert into yard.item (owner_id, code, size, made, label, rank) select 1 + n % 4, 'i' || n, n, date '2026-01-01' + n, 'l',
		n from generate_series(1, 12) n;
	insert into yard.part (item_id, name, weight, held) select 1 + n % 12, 'p' || n, n, n from generate_series(1, 24) n;
	analyze`

// alterations are changes of the database, and how each is undone.
var alterations = [][2]string{
	{"alter table yard.item add note text", "alter table yard.item drop note"},
	{"alter table yard.item add weight int not null default 1", "alter table yard.item drop weight"},
	{"alter table yard.owner add secret text", "alter table yard.owner drop secret"},
	{"alter table yard.part add n int; update yard.part set n = 1; alter table yard.part alter n set not null",
		"alter table yard.part drop n"},
	{"alter table yard.item alter made set default now()", "alter table yard.item alter made drop default"},
	{"alter table yard.item alter active drop default", "alter table yard.item alter active set default true"},
	{"alter table yard.item alter kind drop not null", "alter table yard.item alter kind set not null"},
	{"delete from yard.item where size is null; alter table yard.item alter size set not null",
		"alter table yard.item alter size drop not null"},
	{"alter table yard.item alter label type varchar(40)", "alter table yard.item alter label type varchar(20)"},
	{"alter table yard.item alter label type varchar(2)", "alter table yard.item alter label type varchar(20)"},
	{"alter table yard.item alter size type numeric(9,2)", "alter table yard.item alter size type numeric(6,2)"},
	{"alter table yard.item alter size type double precision", "alter table yard.item alter size type numeric(6,2)"},
	{"alter table yard.item alter rank type bigint", "alter table yard.item alter rank type smallint"},
	{"alter table yard.item alter rank type int", "alter table yard.item alter rank type smallint"},
	{"alter table yard.part alter held type numeric", "alter table yard.part alter held type int"},
	{"alter table yard.owner rename note to remark", "alter table yard.owner rename remark to note"},
	{"alter table yard.part add check (held < 50) not valid", "alter table yard.part drop constraint part_held_check"},
	{"create unique index held_once on yard.part (item_id, name)", "drop index yard.held_once"},
	{"alter table yard.item drop constraint item_code_key", "alter table yard.item add constraint item_code_key unique (code)"},
	{"create index ranked on yard.item (rank)", "drop index yard.ranked"},
	{"comment on table yard.item is 'x'", "comment on table yard.item is null"},
	{"alter table yard.part alter item_id drop not null", "alter table yard.part alter item_id set not null"},
	{"create table yard.other (id int primary key, item_id int references yard.item)", "drop table yard.other"},
	{"create or replace view yard.heavy as select id, name, weight, item_id from yard.part where weight > 1",
		"drop view yard.heavy; create view yard.heavy as select id, name, weight from yard.part where weight > 1"},
}

// knobs are what a document may say, each in several ways; the first is the plainest.
var knobs = map[string][]string{
	"page":  {"", "page: {default: 5, max: 10}", "page: {default: 50, max: none}", "page: {default: 2, max: 1000}"},
	"order": {"", "order: [code]", "order: [made desc, id]"},
	"ops":   {"", "operations: [read, create]", "operations: [read, update, delete]", "operations: [read, create, update, delete]"},
	"match": {"", "", "if_match: required"},
	"fields": {"", "fields: {made: {about: When.}}", "fields: {label: {expose: false}}", "fields: {label: {name: tag}}",
		"fields: {active: {expose: false}}"},
	"rels": {"", "relations: {parts: {about: Pieces.}}", "relations: {parts: {expose: false}}",
		"relations: {pieces: {to: parts, on: {id: item_id}}}"},
	"heavy":  {"key: [id]", "key: [id]", "key: [name]"},
	"select": {"", "select: [id, code, size]", "select: [id, code]", "select: [id, code, size, kind]"},
	"filter": {"", "filter: active", "filter: active and size gt 3", "filter: active or size gt 3"},
	"by":     {"", "orderby: code", "orderby: size desc"},
	"params": {"{least: integer}", "{least: integer, most: integer?}", "{least: integer?}", "{least: integer, most: integer}"},
	"items": {"[read]", "[read, create, update, delete]", "{read: {rows: owner_id eq @caller/owner}, create: {}, update: {}}",
		"{read: {except: [size, label]}}", "{read: {}, create: {set: {kind: b}}, update: {fields: [size, made]}}",
		"{read: {rows: owner_id eq @caller/owner or active}, update: {set: {active: true}}}", "[]"},
	"parts":    {"[read]", "[read, create, update]", "{read: {fields: [id, name]}}", "{read: {}, create: {fields: [item_id, name]}}", "[]"},
	"owners":   {"[read]", "[]", "[read, update]", "{read: {except: [note]}}"},
	"view":     {"read", "[]"},
	"query":    {"read", "[]"},
	"limits":   {"", "limits: {rows: 100}", "limits: {rows: 3, depth: 1}", "limits: {depth: 4}"},
	"claims":   {"{owner: integer}", "{owner: integer}", "{owner: integer, port: text}"},
	"nobody":   {"read", "[]", "read"},
	"title":    {"The yard", "The old yard"},
	"sign_in":  {"{clients: true}", "{clients: true, accounts: {sign_up: false}}", "{clients: false}"},
	"expand":   {"", "expand: owner(select=name)", "expand: owner(select=name,id)"},
	"readable": {"{\"*\": read}", "{\"*\": [read, create, update, delete]}"},
}

func yardDocument(k map[string]string) string {
	most := ""
	if strings.Contains(k["params"], "most") {
		most = " and (:most::bigint is null or rank <= :most)"
	}
	line := func(indent, text string) string {
		if text == "" {
			return ""
		}
		return indent + text + "\n"
	}
	const four, six = "    ", "      "
	return "window: yard\nsource: yard\ntitle: " + k["title"] + "\nresources:\n  owners: {from: yard.owner}\n  items:\n    from: yard.item\n" +
		line(four, k["page"]) + line(four, k["order"]) + line(four, k["ops"]) + line(four, k["match"]) + line(four, k["fields"]) + line(four,
		k["rels"]) +
		"  parts: {from: yard.part}\n  heavy: {from: yard.heavy, " + k["heavy"] + "}\nsaved_views:\n  active:\n    of: items\n" +
		line(four, k["select"]) + line(four, k["filter"]) + line(four, k["by"]) + line(four, k["expand"]) +
		"queries:\n  ranked:\n    parameters: " + k["params"] +
		"\n    sql: select id, code, rank from yard.item where (:least::bigint is null or rank >= :least)" +
		most + "\nroles:\n  agent:\n    claims: " + k["claims"] + "\n" + line(four, k["limits"]) + "    may:\n" +
		line(six, "items: "+k["items"]) + line(six, "parts: "+k["parts"]) + line(six, "owners: "+k["owners"]) + line(six, "active: "+k["view"]) +
		line(six, "ranked: "+k["query"]) + "      heavy: read\n  anyone:\n    anonymous: true\n    may: {active: " + k["nobody"] + ", owners: " +
		k["nobody"] +
		"}\n  all: {may: " + k["readable"] + "}\nsign_in: " + k["sign_in"] + "\n"
}

// plainKnobs turns each knob in one of its ways, mostly the first.
func turned(g *rand.Rand) map[string]string {
	k := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(knobs)) {
		ways := knobs[name]
		k[name] = ways[0]
		if g.IntN(3) == 0 {
			k[name] = ways[g.IntN(len(ways))]
		}
	}
	return k
}

// asked is one recorded request: a read, or a write with its body.
type asked struct{ method, path, options, body string }

// request sends it; where a body or a path has {n}, that is a number that was never used.
func (q asked) send(api *data.API, c access.Caller, n *int) error {
	*n++
	fill := func(text string) string { return strings.ReplaceAll(text, "{n}", fmt.Sprint(*n)) }
	if q.method == "GET" {
		page, err := api.Read(context.Background(), c, q.path, q.options, data.Preferences{})
		if err != nil {
			return err
		}
		for page.Next() {
			page.AppendRow(nil)
		}
		return page.Close()
	}
	in := data.Write{Path: q.path, Query: q.options, Body: func() ([]byte, error) { return []byte(fill(q.body)), nil }}
	var err error
	switch q.method {
	case "POST":
		_, err = api.Create(context.Background(), c, in)
	case "PATCH":
		_, err = api.Update(context.Background(), c, in)
	case "DELETE":
		_, err = api.Delete(context.Background(), c, in)
	}
	return err
}

// literals are a value of each kind as an option has it, and as a body.
func literals(f *model.Field) (option, body string) {
	switch f.Type.Kind {
	case model.String:
		return "'x'", `"x{n}"`
	case model.Enum:
		return "'" + f.Type.Values[0] + "'", `"` + f.Type.Values[0] + `"`
	case model.Date:
		return "2026-02-03", `"2026-02-03"`
	case model.Instant:
		return "2026-02-03T00:00:00Z", `"2026-02-03T00:00:00Z"`
	case model.Boolean:
		return "true", "true"
	}
	return "1", "1"
}

// requestsOf are requests that a role of a version may send, one for each thing that it has.
func requestsOf(p *access.Policy, role string, keys map[string]string) (list []asked) {
	scope, err := p.Scope(access.Caller{Subject: "x", Roles: []string{role}})
	if err != nil {
		return nil
	}
	get := func(path, options string) {
		list = append(list, asked{"GET", path, strings.ReplaceAll(options, " ", "%20"), ""})
	}
	for _, r := range p.Model().Resources {
		path, more := r.Name, ""
		if r.Query != nil {
			more = "least=1&most=9&"
			if len(r.Query.Parameters) == 1 {
				more = "least=1&"
			}
		}
		if scope.For(window.Read, r) != nil {
			get(path, more)
			get(path, more+"count=true&top=2")
			for _, f := range scope.Readable(r) {
				option, _ := literals(f)
				get(path, more+"select="+f.Name)
				get(path, more+"filter="+f.Name+" eq "+option+" or "+f.Name+" eq null")
				get(path, more+"orderby="+f.Name+" desc&top=1")
				get(path, more+"apply=groupby(("+f.Name+"),aggregate($count as how_many))")
			}
			for _, rel := range r.Relations {
				if r.View != nil || scope.MayFollow(rel) {
					get(path, more+"expand="+rel.Name)
				}
			}
			for _, key := range append([][]*model.Field{r.Key}, r.Alternates()...) {
				if len(key) == 1 && r.View == nil && keys[r.Name+"."+key[0].Name] != "" {
					get(path+"("+key[0].Name+"="+url.PathEscape(keys[r.Name+"."+key[0].Name])+")", "")
				}
			}
		}
		if len(r.Key) != 1 || r.View != nil || r.Query != nil {
			continue
		}
		list = append(list, writesOf(scope, r, keys)...)
	}
	return list
}

func writesOf(scope *access.Scope, r *model.Resource, keys map[string]string) (list []asked) {
	given := func(d *access.Decision, which func(*model.Field) bool) string {
		var parts []string
		for _, f := range r.Fields {
			if _, body := literals(f); d.Takes(f) && which(f) {
				parts = append(parts, fmt.Sprintf("%q:%s", f.Name, body))
			}
		}
		return "{" + strings.Join(parts, ",") + "}"
	}
	if d := scope.For(window.Create, r); d != nil {
		list = append(list, asked{"POST", r.Name, "", given(d, func(*model.Field) bool { return true })},
			asked{"POST", r.Name, "", given(d, func(f *model.Field) bool { return f.Required })},
			asked{"POST", r.Name, "", given(d, func(f *model.Field) bool { return f.Required || f.Type.Kind == model.String })})
	}
	row := r.Name + "(" + url.PathEscape(keys[r.Name+"."+r.Key[0].Name]) + ")"
	if d := scope.For(window.Update, r); d != nil {
		for _, f := range r.Fields {
			if !d.Takes(f) || f.InKey {
				continue
			}
			_, body := literals(f)
			list = append(list, asked{"PATCH", row, "", fmt.Sprintf("{%q:%s}", f.Name, body)})
			if f.Nullable {
				list = append(list, asked{"PATCH", row, "", fmt.Sprintf("{%q:null}", f.Name)}, asked{"PATCH", row, "", fmt.Sprintf("{%q:%s}", f.Name,
					body)})
			}
		}
	}
	return list
}

// A change that is called compatible, or internal, never makes a request fail that the version before answered: 500 pairs of documents and
// databases, with all kinds of requests of each role.
func TestCompatibleChangesBreakNothing(t *testing.T) {
	t.Parallel()
	ctx, dsn := t.Context(), harbourtest.Database(t, false)
	execute(t, dsn, yard)
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	source, err := postgres.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer source.Close()
	box, err := seal.New(harbourtest.Secret)
	if err != nil {
		t.Fatal(err)
	}
	bind := func(k map[string]string) (*data.API, compare.Side, error) {
		doc, err := window.Parse([]byte(yardDocument(k)), nil)
		if err != nil {
			return nil, compare.Side{}, err
		}
		cat, err := postgres.Introspect(ctx, source, model.Queries(doc)...)
		if err != nil {
			return nil, compare.Side{}, err
		}
		p, err := access.Bind(doc, cat)
		if err != nil {
			return nil, compare.Side{}, err
		}
		return data.New(data.Options{Policy: p, Source: source, Box: box}), compare.Side{Policy: p, Catalog: cat}, nil
	}
	g := rand.New(rand.NewPCG(500, 19))
	callers := map[string]access.Caller{"agent": {Subject: "c", Roles: []string{"agent"}, Claims: map[string]any{"owner": 1}}, "anyone": {},
		"all": {Subject: "d", Roles: []string{"all"}}}
	keys := map[string]string{"owners.id": "1", "owners.name": "'owner 1'", "items.id": "4", "items.code": "'i4'", "parts.id": "3",
		"heavy.id":   "3",
		"heavy.name": "'p3'"}
	pairs, harmless, replayed, broken, refused, n := 0, 0, 0, 0, 0, 0
	for pairs < 500 {
		before := turned(g)
		after := maps.Clone(before)
		for range 1 + g.IntN(2) {
			names := slices.Sorted(maps.Keys(knobs))
			name := names[g.IntN(len(names))]
			after[name] = knobs[name][g.IntN(len(knobs[name]))]
		}
		a, old, err := bind(before)
		if err != nil {
			continue // a pair of things that do not go together
		}
		type sent struct {
			role string
			asked
		}
		var answered []sent
		for _, role := range slices.Sorted(maps.Keys(callers)) {
			c := callers[role]
			for _, q := range requestsOf(old.Policy, role, keys) {
				if g.IntN(5) > 0 { // some of them, others with each pair
					continue
				}
				if err := q.send(a, c, &n); err == nil {
					answered = append(answered, sent{role, q})
				} else if _, is := fault.From(err); !is {
					t.Fatalf("%s %+v: %v", role, q, err)
				}
			}
		}
		restore(t, conn, "")
		undo := ""
		if g.IntN(2) == 0 {
			alter := alterations[g.IntN(len(alterations))]
			if _, err := conn.Exec(ctx, alter[0]); err != nil {
				t.Fatalf("%s: %v", alter[0], err)
			}
			undo = alter[1]
		}
		if b, now, err := bind(after); err == nil {
			pairs++
			changes := compare.Versions(old, now)
			breaks := compare.Count(changes).Breaking > 0
			if breaks {
				broken++
			} else {
				harmless++
			}
			for _, q := range answered {
				if breaks {
					break
				}
				replayed++
				if err := q.send(b, callers[q.role], &n); err != nil {
					refused++
					t.Errorf("%s %+v was answered, and is refused now: %v\nchanges: %v\nalteration: %s\n%s", q.role, q.asked, err, changes, undo,
						window.Diff(yardDocument(before), yardDocument(after), "before", "after"))
					if refused > 5 {
						t.FailNow()
					}
				}
			}
		}
		if undo != "" {
			restore(t, conn, undo)
		}
	}
	t.Logf("%d pairs, %d of them without breaking changes, %d requests replayed", pairs, harmless, replayed)
	if harmless < 100 || broken < 100 || replayed < 4000 {
		t.Error("too few pairs say anything")
	}
}

// restore undoes an alteration; rows that were written meanwhile and do not fit any more are removed.
func restore(t *testing.T, conn *pgx.Conn, undo string) {
	t.Helper()
	const clean = `delete from yard.part where id > 24; delete from yard.item where id > 12; delete from yard.owner where id > 4;
		update yard.item set kind = coalesce(kind, 'a'), size = 4, made = '2026-01-05', label = 'l', rank = 4, code = 'i' || id, owner_id = 1 +
			id % 4, active = true;
		update yard.part set item_id = 1 + id % 12, held = id, name = 'p' || id, weight = id;
		update yard.owner set name = 'owner ' || id`
	if _, err := conn.Exec(context.Background(), clean+"; "+undo); err != nil {
		t.Fatalf("%s: %v", undo, err)
	}
}
