package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/harbourtest"
)

// The differential test writes each request twice, in the query language and as naive SQL, from the same random choices: to
// one is a scalar subquery, any is an exists, and null is spelled out everywhere. Nothing here uses the project's own SQL.

// place is a resource as the generator knows it.
type place struct {
	table, key string
	fields     []placeField
	ones       []placeOne
	manys      []placeMany
}

type placeField struct {
	name, kind string
	values     []string // literals in the query language; SQL reads them too, but for the kinds that literalSQL knows
}

type placeOne struct{ name, to, on string } // on: {own} and {there} stand for the aliases

type placeMany struct{ name, to, on string }

var harbourPlaces = map[string]place{
	"port_calls": {"harbour.port_call", "id", []placeField{
		{"id", "int", []string{"17", "4000", "11900"}}, {"vessel_id", "int", []string{"3", "200", "-1"}},
		{"berth_code", "text", []string{"'N01'", "'E09'", "'it''s'"}},
		{"status", "enum:status", []string{"'expected'", "'departed'", "'cancelled'"}},
		{"eta", "instant", []string{"2026-01-01T00:00:00Z", "2026-06-30T12:00:00+02:00"}},
		{"departed_at", "instant", []string{"2025-12-24T06:30:00Z"}}, {"draught_m", "number", []string{"7.5", "3", "1e1"}},
		{"hazardous", "bool", []string{"true", "false"}},
		{"remarks", "text", []string{"'Crew change.'", "'ice'"}}},
		[]placeOne{{"vessel", "vessels", "{there}.id = {own}.vessel_id"}, {"berth", "berths", "{there}.code = {own}.berth_code"},
			{"due", "dues", "{there}.port_call_id = {own}.id"}},
		[]placeMany{{"cargo_items", "cargo_items", "{there}.port_call_id = {own}.id"},
			{"inspections", "inspections", "{there}.port_call_id = {own}.id"},
			{"tugs", "tugs", "{there}.id in (select j.tug_id from harbour.port_call_tug j where j.port_call_id = {own}.id)"}}},
	"vessels": {"harbour.vessel", "id", []placeField{
		{"id", "int", []string{"3", "150"}}, {"name", "text", []string{"'Grey Petrel'", "'M'", "''"}}, {"flag", "text", []string{"'NO'", "'PT'"}},
		{"kind", "enum:kind", []string{"'tanker'", "'ferry'"}}, {"gross_tonnage", "number", []string{"1000", "24150.00"}},
		{"built_on", "date", []string{"2000-02-29", "1990-01-01"}},
		{"agent_id", "int", []string{"3", "17"}}},
		[]placeOne{{"agent", "agents", "{there}.id = {own}.agent_id"}},
		[]placeMany{{"port_calls", "port_calls", "{there}.vessel_id = {own}.id"}}},
	"agents": {"harbour.agent", "id", []placeField{{"id", "int", []string{"3"}}, {"name", "text", []string{"'Pell Agency'"}},
		{"phone", "text", []string{"'+44 555 0101'"}}, {"since", "date", []string{"2005-05-05"}}},
		nil, []placeMany{{"vessels", "vessels", "{there}.agent_id = {own}.id"}}},
	"berths": {"harbour.berth", "code", []placeField{{"code", "text", []string{"'N01'"}}, {"length_m", "number", []string{"200"}},
		{"shore_power", "bool", []string{"true"}}},
		nil, []placeMany{{"port_calls", "port_calls", "{there}.berth_code = {own}.code"}}},
	"dues": {"harbour.due", "port_call_id", []placeField{{"amount", "number", []string{"500", "1234.56"}},
		{"paid_at", "instant", []string{"2026-03-01T00:00:00Z"}}}, []placeOne{{"port_call", "port_calls", "{there}.id = {own}.port_call_id"}},
		nil},
	"cargo_items": {"harbour.cargo_item", "id", []placeField{{"tonnes", "number", []string{"400.5"}},
		{"dangerous_class", "text", []string{"'3'"}}, {"hs_code", "text", []string{"'271019'"}}}, nil, nil},
	"inspections": {"harbour.inspection", "id", []placeField{{"passed", "bool", []string{"true"}},
		{"held_at", "instant", []string{"2026-01-01T00:00:00Z"}}, {"took", "duration", []string{"duration'PT1H30M'"}}},
		[]placeOne{{"port_call", "port_calls", "{there}.id = {own}.port_call_id"}}, nil},
	"tugs": {"harbour.tug", "id", []placeField{{"name", "text", []string{"'Bram'", "'Wren'"}}, {"bollard_pull_t", "number", []string{"50"}}},
		nil, nil},
}

// both is the same expression in the query language and in SQL.
type both struct{ query, sql string }

type generator struct {
	*rand.Rand
	aliases int
}

func (g *generator) alias() string {
	g.aliases++
	return fmt.Sprintf("x%d", g.aliases)
}

func pick[T any](g *generator, list []T) T { return list[g.IntN(len(list))] }

// value is an expression of a kind over a row: prefix is how the query language names the row, alias how SQL does.
func (g *generator) value(resource, prefix, alias, kind string, depth int) (both, bool) {
	p := harbourPlaces[resource]
	if depth > 0 && len(p.ones) > 0 && g.IntN(3) == 0 {
		one, there := pick(g, p.ones), g.alias()
		inner, ok := g.value(one.to, prefix+one.name+"/", there, kind, depth-1)
		on := strings.NewReplacer("{own}", alias, "{there}", there).Replace(one.on)
		return both{inner.query, fmt.Sprintf("(select %s from %s %s where %s)", inner.sql, harbourPlaces[one.to].table, there, on)}, ok &&
			!strings.Contains(inner.query, "(")
	}
	var fitting []placeField
	for _, f := range p.fields {
		if f.kind == kind {
			fitting = append(fitting, f)
		}
	}
	if len(fitting) == 0 {
		return both{}, false
	}
	f := pick(g, fitting)
	return both{prefix + f.name, alias + "." + f.name}, true
}

// operand is a value with something done to it.
func (g *generator) operand(resource, prefix, alias, kind string, depth int) (both, bool) {
	v := func(kind string) both {
		e, ok := g.value(resource, prefix, alias, kind, depth)
		if !ok {
			return both{"null", "null"}
		}
		return e
	}
	switch {
	case depth > 0 && kind == "int" && g.IntN(3) == 0:
		switch g.IntN(5) {
		case 0:
			a := v("text")
			return both{"length(" + a.query + ")", "char_length(" + a.sql + ")"}, a.query != "null"
		case 1:
			a := v("instant")
			return both{"year(" + a.query + ")", "extract(year from " + a.sql + " at time zone 'UTC')::int"}, a.query != "null"
		case 2:
			a, b := v("int"), v("int")
			return both{"(" + a.query + " add " + b.query + " mul 2)", "(" + a.sql + "::bigint + " + b.sql + "::bigint * 2)"}, a.query != "null" &&
				b.query != "null"
		case 3:
			a := v("int")
			return both{"(" + a.query + " mod 7 sub " + a.query + " div 4)", "(" + a.sql + " % 7 - " + a.sql + " / 4)"}, a.query != "null"
		default:
			a := v("text")
			return both{"indexof(" + a.query + ",'e')", "strpos(" + a.sql + ", 'e') - 1"}, a.query != "null"
		}
	case depth > 0 && kind == "text" && g.IntN(3) == 0:
		a := v("text")
		switch g.IntN(4) {
		case 0:
			return both{"tolower(" + a.query + ")", "lower(" + a.sql + ")"}, a.query != "null"
		case 1:
			return both{"concat(" + a.query + ",'!')", "(" + a.sql + " || '!')"}, a.query != "null"
		case 2:
			return both{"substring(" + a.query + ",1,3)", "substr(" + a.sql + ", 2, 3)"}, a.query != "null"
		default:
			c := g.condition(resource, prefix, alias, depth-1)
			return both{"case(" + c.query + ":" + a.query + ",true:'z')", "(case when " + c.sql + " then " + a.sql + " else 'z' end)"},
				a.query != "null"
		}
	case depth > 0 && kind == "number" && g.IntN(3) == 0:
		a := v("number")
		switch g.IntN(3) {
		case 0:
			return both{"round(" + a.query + ")", "round(" + a.sql + ")"}, a.query != "null"
		case 1:
			return both{"(" + a.query + " divby 3)", "(" + a.sql + " / 3::numeric)"}, a.query != "null"
		default:
			return both{"(-" + a.query + ")", "(-" + a.sql + ")"}, a.query != "null"
		}
	case depth > 0 && kind == "int" && g.IntN(3) == 0 && len(harbourPlaces[resource].manys) > 0:
		return g.counted(resource, prefix, alias, depth), true
	}
	return g.value(resource, prefix, alias, kind, depth)
}

func (g *generator) counted(resource, prefix, alias string, depth int) both {
	m, there := pick(g, harbourPlaces[resource].manys), g.alias()
	on := strings.NewReplacer("{own}", alias, "{there}", there).Replace(m.on)
	if g.IntN(2) == 0 {
		return both{prefix + m.name + "/$count", fmt.Sprintf("(select count(*) from %s %s where %s)", harbourPlaces[m.to].table, there, on)}
	}
	c := g.condition(m.to, "", there, 0)
	return both{prefix + m.name + "/$count($filter=" + c.query + ")",
		fmt.Sprintf("(select count(*) from %s %s where %s and (%s))", harbourPlaces[m.to].table, there, on, c.sql)}
}

func literalSQL(kind, l string) string {
	switch kind {
	case "instant":
		return "timestamptz '" + l + "'"
	case "date":
		return "date '" + l + "'"
	case "duration":
		return "interval " + strings.TrimPrefix(l, "duration")
	}
	return l
}

// condition is a boolean expression, never null but where the language has null.
func (g *generator) condition(resource, prefix, alias string, depth int) both {
	p := harbourPlaces[resource]
	if depth > 0 {
		switch g.IntN(6) {
		case 0:
			a, b := g.condition(resource, prefix, alias, depth-1), g.condition(resource, prefix, alias, depth-1)
			op := pick(g, []string{"and", "or"})
			return both{"(" + a.query + " " + op + " " + b.query + ")", "(" + a.sql + " " + op + " " + b.sql + ")"}
		case 1:
			a := g.condition(resource, prefix, alias, depth-1)
			return both{"not (" + a.query + ")", "(not " + a.sql + ")"}
		case 2:
			if len(p.manys) > 0 {
				m, there, name := pick(g, p.manys), g.alias(), fmt.Sprintf("v%d", g.aliases)
				on := strings.NewReplacer("{own}", alias, "{there}", there).Replace(m.on)
				table := harbourPlaces[m.to].table
				if g.IntN(5) == 0 {
					return both{prefix + m.name + "/any()", fmt.Sprintf("exists (select from %s %s where %s)", table, there, on)}
				}
				c := g.condition(m.to, name+"/", there, depth-1)
				if g.IntN(2) == 0 {
					return both{fmt.Sprintf("%s%s/any(%s:%s)", prefix, m.name, name, c.query),
						fmt.Sprintf("exists (select from %s %s where %s and %s)", table, there, on, c.sql)}
				}
				return both{fmt.Sprintf("%s%s/all(%s:%s)", prefix, m.name, name, c.query),
					fmt.Sprintf("not exists (select from %s %s where %s and (%s) is not true)", table, there, on, c.sql)}
			}
		}
	}
	f := pick(g, p.fields)
	a, ok := g.operand(resource, prefix, alias, f.kind, depth)
	if !ok {
		a = both{prefix + f.name, alias + "." + f.name}
		ok = true
	}
	literal := pick(g, f.values)
	switch g.IntN(8) {
	case 0:
		op := pick(g, []string{"eq", "ne"})
		return both{a.query + " " + op + " null", "(" + a.sql + map[string]string{"eq": " is null)", "ne": " is not null)"}[op]}
	case 1:
		if f.kind != "bool" && f.kind != "duration" {
			l2 := pick(g, f.values)
			list := "(" + literalSQL(f.kind, literal) + "," + literalSQL(f.kind, l2) + ")"
			return both{a.query + " in (" + literal + "," + l2 + ")", "coalesce(" + a.sql + " in " + list + ", false)"}
		}
	case 2:
		if f.kind == "text" {
			fn := pick(g, [][2]string{{"contains", "strpos(%s, 'e') > 0"}, {"startswith", "left(%s, 1) = 'e'"}, {"endswith", "right(%s, 1) = 'e'"}})
			return both{fn[0] + "(" + a.query + ",'e')", "(" + fmt.Sprintf(fn[1], a.sql) + ")"}
		}
	case 3:
		b, ok := g.value(resource, prefix, alias, f.kind, 1)
		if ok {
			return compared(g, f.kind, a, b)
		}
	}
	return compared(g, f.kind, a, both{literal, literalSQL(f.kind, literal)})
}

func compared(g *generator, kind string, a, b both) both {
	ops := [][2]string{{"eq", "(%s is not distinct from %s)"}, {"ne", "(%s is distinct from %s)"}, {"gt", "coalesce(%s > %s, false)"},
		{"ge", "coalesce(%s >= %s, false)"}, {"lt", "coalesce(%s < %s, false)"}, {"le", "coalesce(%s <= %s, false)"}}
	op := pick(g, ops)
	return both{a.query + " " + op[0] + " " + b.query, fmt.Sprintf(op[1], a.sql, b.sql)}
}

// Requests drawn from the model, each answer compared with naive SQL: no difference.
func TestDifferential(t *testing.T) {
	t.Parallel()
	roots := []string{"port_calls", "vessels", "agents", "berths", "inspections"}
	full := beside(t, 7, 420, func(g *generator) drawn {
		root := pick(g, roots)
		p := harbourPlaces[root]
		c := g.condition(root, "", "t", 3)
		order, by := both{p.key, "t." + p.key}, pick(g, p.fields)
		if v, ok := g.operand(root, "", "t", by.kind, 2); ok {
			direction := pick(g, [][2]string{{"", " nulls first"}, {" desc", " desc nulls last"}})
			order = both{v.query + direction[0], v.sql + direction[1] + ", t." + p.key}
		}
		return drawn{root, c, order, 1 + g.IntN(300)}
	})
	if full < 200 {
		t.Errorf("only %d requests found rows", full)
	}
}

// drawn is one request of a differential test: a condition and an order over a resource.
type drawn struct {
	root  string
	where both
	order both
	top   int
}

// beside sends requests and compares the keys and the count of each answer with naive SQL. It returns how many found rows.
func beside(t *testing.T, seed uint64, requests int, next func(*generator) drawn) (full int) {
	t.Helper()
	r := start(t)
	token := r.Token(t, "harbour_master")
	conn := connected(t, r.Harbour)
	g := &generator{Rand: rand.New(rand.NewPCG(2026, seed))}
	differ := 0
	for i := range requests {
		q := next(g)
		p := harbourPlaces[q.root]
		query := fmt.Sprintf("/api/saltmere/%s?filter=%s&orderby=%s&top=%d&select=%s&count=true&@nothing=null", q.root, q.where.query,
			q.order.query, q.top, p.key)
		sql := fmt.Sprintf("select t.%s::text, count(*) over () from %s t where %s order by %s limit %d", p.key, p.table, q.where.sql,
			q.order.sql, q.top)
		want, total, err := naive(conn, sql)
		if err != nil {
			t.Fatalf("the naive SQL fails: %v\n%s", err, sql)
		}
		if len(want) > 0 {
			full++
		}
		a := r.Send(t, token, "GET", query, nil)
		got, gotTotal := ids(t, a, p.key)
		if strings.Join(got, " ") != strings.Join(want, " ") || len(want) > 0 && gotTotal != total {
			if differ++; differ < 6 {
				t.Errorf("request %d\n%s\n%s\ngot  %.200v of %d\nwant %.200v of %d\nanswer %.300s", i, query, sql, got, gotTotal, want, total, a.Text)
			}
		}
	}
	t.Logf("%d requests, %d with rows, %d differences", requests, full, differ)
	return full
}

// connected is a connection of the test's own.
func connected(t *testing.T, dsn string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}

func naive(conn *pgx.Conn, sql string) (keys []string, total int, err error) {
	rows, err := conn.Query(context.Background(), sql)
	if err != nil {
		return nil, 0, err
	}
	var key string
	_, err = pgx.ForEachRow(rows, []any{&key, &total}, func() error { keys = append(keys, key); return nil })
	return keys, total, err
}

func ids(t *testing.T, a harbourtest.Answer, key string) ([]string, int) {
	t.Helper()
	if a.StatusCode != 200 {
		t.Errorf("%s %.400s\n%s", a.Status, a.Text, a.Request.URL)
	}
	var body struct {
		Count int                          `json:"@count"`
		Value []map[string]json.RawMessage `json:"value"`
	}
	if err := json.Unmarshal([]byte(a.Text), &body); err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, row := range body.Value {
		out = append(out, strings.Trim(string(row[key]), `"`))
	}
	return out, body.Count
}

// Expanded collections, each answer beside the same rows gathered by naive SQL for each parent.
func TestDifferentialExpand(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	conn := connected(t, r.Harbour)
	g := &generator{Rand: rand.New(rand.NewPCG(2026, 8))}
	for range 80 {
		root := pick(g, []string{"port_calls", "vessels", "agents", "berths"})
		p := harbourPlaces[root]
		m, there := pick(g, p.manys), g.alias()
		child := harbourPlaces[m.to]
		c := g.condition(root, "", "t", 1)
		inner := g.condition(m.to, "", there, 1)
		top, skip := 1+g.IntN(4), g.IntN(2)
		query := fmt.Sprintf("/api/saltmere/%s?filter=%s&orderby=%s desc&top=40&select=%s&expand=%s(select=%s;filter=%s;orderby=%s "+
			"desc;top=%d;skip=%d;count=true)",
			root, c.query, p.key, p.key, m.name, child.key, inner.query, child.key, top, skip)
		on := strings.NewReplacer("{own}", "t", "{there}", there).Replace(m.on)
		rows := fmt.Sprintf("from %s %s where %s and (%s)", child.table, there, on, inner.sql)
		sql := fmt.Sprintf("select t.%s::text || ':' || (select count(*) %s) || ':' || coalesce((select string_agg(k::text, "+
			"',') from (select %s.%s as k %s order by 1 desc limit %d offset %d) x), ''), 0 from %s t where %s order by t.%s desc limit 40",
			p.key, rows, there, child.key, rows, top, skip, p.table, c.sql, p.key)
		want, _, err := naive(conn, sql)
		if err != nil {
			t.Fatalf("the naive SQL fails: %v\n%s", err, sql)
		}
		a := r.Send(t, token, "GET", query, nil)
		var body struct{ Value []map[string]json.RawMessage }
		if err := json.Unmarshal([]byte(a.Text), &body); err != nil || a.StatusCode != 200 {
			t.Fatalf("%s\n%s %.300s", query, a.Status, a.Text)
		}
		var got []string
		for _, row := range body.Value {
			var children []map[string]json.RawMessage
			if err := json.Unmarshal(row[m.name], &children); err != nil {
				t.Fatal(err)
			}
			keys := make([]string, len(children))
			for i, c := range children {
				keys[i] = strings.Trim(string(c[child.key]), `"`)
			}
			got = append(got, strings.Trim(string(row[p.key]), `"`)+":"+string(row[m.name+"@count"])+":"+strings.Join(keys, ","))
		}
		if strings.Join(got, " ") != strings.Join(want, " ") {
			t.Errorf("%s\n%s\ngot  %.300v\nwant %.300v", query, sql, got, want)
		}
	}
}
