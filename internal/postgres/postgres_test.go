package postgres_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/postgres"
)

var update = flag.Bool("update", false, "write the golden files")

func TestMain(m *testing.M) { os.Exit(harbourtest.Main(m)) }

func connect(t testing.TB, dsn string) *postgres.Source {
	t.Helper()
	pool, err := postgres.Connect(context.Background(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pool.Close)
	return pool
}

func introspect(t testing.TB, pool *postgres.Source) *catalog.Catalog {
	t.Helper()
	c, err := postgres.Introspect(context.Background(), pool)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// The harbour's catalog is what the core's tests work with.
func TestHarbourCatalog(t *testing.T) {
	t.Parallel()
	const golden = "../core/coretest/catalog.json"
	document, err := os.ReadFile("../../demo/saltmere.window.yaml")
	if err != nil {
		t.Fatal(err)
	}
	doc, err := window.Parse(document, os.LookupEnv)
	if err != nil {
		t.Fatal(err)
	}
	c, err := postgres.Introspect(context.Background(), connect(t, harbourtest.Database(t, true)), model.Queries(doc)...)
	if err != nil {
		t.Fatal(err)
	}
	c.Database, c.Version = "saltmere", 150000
	ids := map[uint32]uint32{} // numbers differ from one database to the next
	for i, table := range c.Tables {
		table.OID = uint32(i + 1)
		for _, col := range table.Columns {
			settle(col.Type, ids)
		}
	}
	for _, q := range c.Queries {
		for _, col := range q.Columns {
			settle(col.Type, ids)
		}
	}
	got, err := json.MarshalIndent(c, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	if *update {
		if err := os.WriteFile(golden, append(got, '\n'), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(bytes.TrimSpace(want), got) {
		t.Errorf("the harbour's catalog differs from %s; run with -update and look at the difference", golden)
	}
}

func settle(t *catalog.Type, ids map[uint32]uint32) {
	if t.OID >= 16384 {
		if ids[t.OID] == 0 {
			ids[t.OID] = uint32(100_000 + len(ids))
		}
		t.OID = ids[t.OID]
	}
	if t.Element != nil {
		settle(t.Element, ids)
	}
	for _, f := range t.Fields {
		settle(f.Type, ids)
	}
}

// execute runs SQL statements of a test's own database.
func execute(t testing.TB, pool *postgres.Source, sql string) {
	t.Helper()
	if _, err := pool.Pool().Exec(context.Background(), sql); err != nil {
		t.Fatalf("%s\n%v", sql, err)
	}
}

// planned is the statement of an operator's request, with its arguments.
func planned(t testing.TB, pool *postgres.Source, document, path, options string) (*statement.Plan, []any) {
	t.Helper()
	doc, err := window.Parse([]byte(document), os.LookupEnv)
	if err != nil {
		t.Fatal(err)
	}
	policy, err := access.Bind(doc, introspect(t, pool))
	if err != nil {
		t.Fatal(err)
	}
	scope, err := policy.Scope(access.Caller{Subject: "operator", Operator: true})
	if err != nil {
		t.Fatal(err)
	}
	r, err := request.Read(policy.Model(), path, options)
	if err != nil {
		t.Fatal(err)
	}
	q, err := r.Resolve()
	if err != nil {
		t.Fatal(err)
	}
	q.Metadata = query.None
	plan := statement.Read(q, scope, nil, statement.Bounds{})
	args, err := plan.Args(statement.Input{Literals: r.Literals, Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	return plan, args
}

// pendingRead answers a request as an operator gets it, through every step but HTTP.
func pendingRead(t testing.TB, pool *postgres.Source, document, path, query string) string {
	t.Helper()
	plan, args := planned(t, pool, document, path, query)
	c, err := postgres.Compile(plan, nil, encode.Format{}).Open(context.Background(), pool.For(postgres.Share{}), args, time.Minute)
	if err != nil {
		t.Fatalf("%v\n%s", err, plan.SQL)
	}
	var rows []string
	for c.Next() {
		rows = append(rows, string(c.AppendRow(nil, nil)))
	}
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	return strings.Join(rows, "\n")
}

// Every type of the table in the design, at its edges: what PostgreSQL holds and what JSON says.
func TestValues(t *testing.T) {
	t.Parallel()
	pool := connect(t, harbourtest.Database(t, false))
	execute(t, pool, `create type mood as enum ('calm', 'rough "sea"');
		create type point3 as (x int, "why not" text, z numeric);
		create domain metres as numeric(6,2) check (value >= 0);
		create domain deep as metres`)
	tests := []struct{ typ, value, want string }{
		{"smallint", "-32768", "-32768"}, {"integer", "2147483647", "2147483647"}, {"bigint", "-9223372036854775808", "-9223372036854775808"},
		{"oid", "4294967295", "4294967295"},
		{"real", "0.1", "0.1"}, {"real", "'NaN'", `"NaN"`}, {"double precision", "1e300", "1e+300"},
		{"double precision", "'-Infinity'", `"-INF"`},
		{"double precision", "123456789.125", "123456789.125"}, {"double precision", "1e-7", "1e-07"},
		{"numeric", "0", "0"}, {"numeric(10,2)", "12.30", "12.30"}, {"numeric", "-0.00012300", "-0.00012300"},
		{"numeric", "100000000000000000000.5", "100000000000000000000.5"},
		{"numeric", "12345678901234567890123456789", "12345678901234567890123456789"}, {"numeric", "10000", "10000"},
		{"numeric(4,3)", "0.001", "0.001"},
		{"numeric", "'NaN'", `"NaN"`}, {"numeric", "'Infinity'", `"INF"`},
		{"boolean", "true", "true"}, {"text", `E'a"b\\c\n\t\x01é🌊'`, `"a\"b\\c\n\t\u0001é🌊"`}, {"varchar(5)", "'abc'", `"abc"`},
		{"char(4)", "'ab'", `"ab  "`},
		{`"char"`, "'x'", `"x"`}, {"name", "'n'", `"n"`}, {"mood", `'rough "sea"'`, `"rough \"sea\""`},
		{"date", "'2026-07-01'", `"2026-07-01"`}, {"date", "'0001-01-01'", `"0001-01-01"`}, {"date", "'2000-02-29'", `"2000-02-29"`},
		{"date", "'1899-12-31'", `"1899-12-31"`},
		{"date", "'infinity'", `"infinity"`}, {"date", "'10000-01-01'", `"10000-01-01"`},
		{"time", "'12:30:00.5'", `"12:30:00.5"`}, {"timestamp", "'2026-07-01 10:00:00.000001'", `"2026-07-01T10:00:00.000001Z"`},
		{"timestamptz", "'2026-07-01 10:00:00+02'", `"2026-07-01T08:00:00Z"`},
		{"timestamptz", "'1969-12-31 23:59:59.9+00'", `"1969-12-31T23:59:59.9Z"`},
		{"interval", "'1 day 02:03:04.5'", `"P1DT2H3M4.5S"`}, {"interval", "'0'", `"PT0S"`}, {"interval", "'14 months -3 days'", `"P422DT6H"`},
		{"interval", "'-90 minutes'", `"-PT1H30M"`},
		{"uuid", "'0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90'", `"0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90"`}, {"bytea", `'\xfbff00'`, `"-_8A"`},
		{"jsonb", `'{"a": [1, null]}'`, `{"a": [1, null]}`}, {"json", `'{"a":1}'`, `{"a":1}`},
		{"text[]", `array['a',null,'b,"']`, `["a",null,"b,\""]`}, {"int[]", "'{}'", "[]"}, {"int[]", "'{{1,2},{3,4}}'", "[[1,2],[3,4]]"},
		{"mood[]", "'{calm}'", `["calm"]`},
		{"point3", `(1,'q',null)::point3`, `{"x":1,"why not":"q","z":null}`}, {"int4range", "'[1,5)'", `{"lower":1,"upper":5,"bounds":"[)"}`},
		{"int4range", "'empty'", `{"empty":true}`}, {"tstzrange", "'(,2026-07-01 00:00Z]'", `{"upper":"2026-07-01T00:00:00Z","bounds":"(]"}`},
		{"int4multirange", "'{[1,2),[5,6)}'", `[{"lower":1,"upper":2,"bounds":"[)"},{"lower":5,"upper":6,"bounds":"[)"}]`},
		{"deep", "3.5", "3.50"}, {"inet", "'10.0.0.1/8'", `"10.0.0.1/8"`}, {"point", "'(1,2)'", `"(1,2)"`}, {"money", "'12.5'", `"$12.50"`},
		{"text", "null", "null"}, {"xml", "'<a/>'", `"<a/>"`},
	}
	columns, values := make([]string, len(tests)), make([]string, len(tests))
	for i, tt := range tests {
		columns[i], values[i] = fmt.Sprintf("c%d %s", i, tt.typ), tt.value
	}
	execute(t, pool, "create table t ("+strings.Join(columns, ", ")+"); insert into t values ("+strings.Join(values, ", ")+")")
	row := pendingRead(t, pool, "window: w\nsource: w\nresources: {t: {from: public.t}}", "t", "")
	if !json.Valid([]byte(row)) {
		t.Fatalf("the row is not JSON: %s", row)
	}
	for i, tt := range tests {
		at := strings.Index(row, fmt.Sprintf(`"c%d":`, i))
		rest := row[at+len(fmt.Sprintf(`"c%d":`, i)):]
		if !strings.HasPrefix(rest, tt.want) || !strings.ContainsAny(rest[len(tt.want):len(tt.want)+1], ",}") {
			t.Errorf("%s %s: got %.60s, want %s", tt.typ, tt.value, rest, tt.want)
		}
	}
}

// Names that SQL or the query language would trip over, keys that are missing, foreign keys in a ring and two to one table.
func TestOddSchema(t *testing.T) {
	t.Parallel()
	pool := connect(t, harbourtest.Database(t, false))
	execute(t, pool, `
		create schema "Odd ""Schema";
		create table "Odd ""Schema"."Select" ("ID" int primary key, "a ""b c" text, "order" int, "and" bool, "Ünï" text, "1st" int);
		insert into "Odd ""Schema"."Select" values (1, 'x', 2, true, 'ü', 3);
		create table port (id int primary key, name text);
		create table trip (id int primary key, from_port_id int references port, to_port_id int not null references port,
			port int references port);
		create table a (id int primary key, b_id int);
		create table b (id int primary key, a_id int references a);
		alter table a add foreign key (b_id) references b;
		create table keyless (n int);
		create table empty (id int primary key, at timestamp);
		insert into port values (1, 'Here'), (2, 'There');
		insert into trip values (7, null, 2, 1);
		insert into a values (1, null); insert into b values (1, 1); update a set b_id = 1;
		insert into keyless values (5), (5)`)
	const document = `
window: odd
source: odd
resources:
  selects: {from: "Odd \"Schema.Select"}
  ports: {from: port}
  trips: {from: trip}
  a: {from: public.a}
  b: {from: public.b}
  keyless: {}
  empty: {}
`
	tests := []struct{ path, query, want string }{
		{"selects", "", `{"ID":1,"a__b_c":"x","order":2,"and":true,"Ünï":"ü","_1st":3}`},
		{"selects/1", "select=order", `{"order":2}`},
		{"selects", "filter=order%20eq%202%20and%20and%20eq%20true&select=ID", `{"ID":1}`},
		{"selects", "filter=a__b_c eq 'x' and Ünï eq 'ü' and _1st gt 2&select=ID", `{"ID":1}`},
		{"trips", "expand=from_port,to_port(select=name),port_port(select=name)",
			`{"id":7,"from_port_id":null,"to_port_id":2,"port":1,"from_port":null,"to_port":{"name":"There"},"port_port":{"name":"Here"}}`},
		{"ports", "expand=trips_by_to_port(select=id),trips_by_from_port(select=id)&orderby=id&select=id",
			`{"id":1,"trips_by_to_port":[],"trips_by_from_port":[]}` + "\n" + `{"id":2,"trips_by_to_port":[{"id":7}],"trips_by_from_port":[]}`},
		{"a", "expand=b_by_a(expand=a(expand=b))", `{"id":1,"b_id":1,"b_by_a":[{"id":1,"a_id":1,"a":{"id":1,"b_id":1,"b":{"id":1,"a_id":1}}}]}`},
		{"keyless", "orderby=n", `{"n":5}` + "\n" + `{"n":5}`},
		{"empty", "filter=at lt 2026-07-01T00:00:00Z", ""},
	}
	for _, tt := range tests {
		t.Run(tt.path+"?"+tt.query, func(t *testing.T) {
			if got := pendingRead(t, pool, document, tt.path, tt.query); got != tt.want {
				t.Errorf("got\n%s\nwant\n%s", got, tt.want)
			}
		})
	}
}

// search uses a trigram index where there is one.
func TestSearchIndex(t *testing.T) {
	t.Parallel()
	pool := connect(t, harbourtest.Database(t, false))
	execute(t, pool, `create extension pg_trgm; create table note (id int primary key, body text);
		insert into note select n, md5(n::text) || case when n = 77 then ' 50% of_it\' else '' end from generate_series(1, 20000) n;
		create index on note using gin (body gin_trgm_ops); analyze note`)
	const document = "window: w\nsource: w\nresources: {notes: {from: note}}"
	if got := pendingRead(t, pool, document, "notes", "search="+url.QueryEscape(`"50% OF_it\"`)+"&select=id"); got != `{"id":77}` {
		t.Errorf("found %s", got)
	}
	plan, args := planned(t, pool, document, "notes", "search=50%25&select=id")
	rows, err := pool.Pool().Query(context.Background(), "explain "+plan.SQL, args...)
	if err != nil {
		t.Fatal(err)
	}
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil || !strings.Contains(strings.Join(lines, "\n"), "Bitmap Index Scan on note_body_idx") {
		t.Errorf("the plan is\n%s\n%v", strings.Join(lines, "\n"), err)
	}
}

func BenchmarkAppendRow(b *testing.B) {
	pool := connect(b, harbourtest.Database(b, true))
	cat := introspect(b, pool)
	table := cat.Find("harbour", "port_call")
	plan := &statement.Plan{SQL: "select id, vessel_id, berth_code, status, eta, draught_m, hazardous from harbour.port_call where id = 1",
		Total: -1, Present: -1, Version: -1}
	for i, name := range []string{"id", "vessel_id", "berth_code", "status", "eta", "draught_m", "hazardous"} {
		plan.Columns = append(plan.Columns, statement.Column{Name: name, At: i, Type: model.TypeOf(table.Column(name).Type)})
	}
	c, err := postgres.Compile(plan, nil, encode.Format{}).Open(context.Background(), pool.For(postgres.Share{}), nil, time.Minute)
	if err != nil || !c.Next() {
		b.Fatal(err)
	}
	defer c.Close()
	var buf []byte
	b.ReportAllocs()
	for b.Loop() {
		buf = c.AppendRow(buf[:0], nil)
	}
}

// A statement ends with its time limit or with its caller, and the next one finds a connection that works.
func TestPatience(t *testing.T) {
	t.Parallel()
	source := connect(t, harbourtest.Database(t, true))
	query := func(sql string) *postgres.Statement {
		return postgres.Compile(&statement.Plan{SQL: sql, Total: -1, Present: -1, Version: -1}, nil, encode.Format{})
	}
	ctx := context.Background()
	start := time.Now()
	_, err := query("select pg_sleep(20)").Open(ctx, source.For(postgres.Share{}), nil, 100*time.Millisecond)
	if f, ok := fault.From(err); !ok || f.Kind != fault.TimedOut || !strings.Contains(f.Message, "100ms") ||
		time.Since(start) > 10*time.Second {
		t.Errorf("over its limit: %v after %s", err, time.Since(start))
	}
	for i := range 40 {
		leaving, leave := context.WithCancel(ctx)
		go func() { time.Sleep(time.Duration(i) * time.Millisecond); leave() }()
		if c, err := query("select * from harbour.tide_reading, pg_sleep(0.01)").Open(leaving, source.For(postgres.Share{}), nil,
			time.Minute); err == nil {
			for range i * 1000 {
				c.Next()
			}
			if err := c.Close(); err != nil && !errors.Is(err, context.Canceled) {
				t.Errorf("left: %v", err)
			}
		} else if !errors.Is(err, context.Canceled) {
			t.Errorf("left before the first row: %v", err)
		}
		leave()
		c, err := query("select 1").Open(ctx, source.For(postgres.Share{}), nil, time.Minute)
		if err != nil || !c.Next() || c.Close() != nil {
			t.Fatalf("after one that was left: %v", err)
		}
	}
	var running int
	if err := source.Pool().QueryRow(ctx, "select count(*) from pg_stat_activity where state = 'active' and query like '%pg_sleep%' and "+
		"pid <> "+
		"pg_backend_pid() and datname = current_database()").Scan(&running); err != nil || running > 1 {
		t.Errorf("%d statements still run, %v", running, err)
	}
}

// Short reads that run at the same time answer each caller with its own row, or its own refusal.
func TestShortReads(t *testing.T) {
	t.Parallel()
	source := connect(t, harbourtest.Database(t, false))
	ctx := context.Background()
	execute(t, source, "create table buoy (id int primary key, name text); insert into buoy select n, 'B ' ||"+
		" n * n from generate_series(1, 300) n")
	plan, _ := planned(t, source, "window: w\nsource: w\nresources: {buoys: {from: buoy}}", "buoys/1", "select=id,name")
	if !plan.SingleKeyRead {
		t.Fatal("a row by its key is no short read")
	}
	query := postgres.Compile(plan, nil, encode.Format{})
	var names []string
	if err := source.Pool().QueryRow(ctx, "select array_agg(name order by id) from buoy").Scan(&names); err != nil {
		t.Fatal(err)
	}
	read := func(ctx context.Context, key any, limit time.Duration) (string, error) {
		c, err := query.Open(ctx, source.For(postgres.Share{}), []any{key}, limit)
		if err != nil {
			return "", err
		}
		defer c.Close()
		if !c.Next() {
			return "none", nil
		}
		row := string(c.AppendRow(nil, nil))
		if c.Next() {
			t.Error("there is a second row")
		}
		return row, nil
	}
	together := func(n int, do func(i int)) {
		var all sync.WaitGroup
		for i := range n {
			all.Go(func() { do(i) })
		}
		all.Wait()
	}
	together(100, func(i int) {
		for id := i + 1; id <= len(names)+2; id += 7 {
			want := "none"
			if id <= len(names) {
				name, _ := json.Marshal(names[id-1])
				want = fmt.Sprintf(`{"id":%d,"name":%s}`, id, name)
			}
			if got, err := read(ctx, int64(id), time.Minute); got != want || err != nil {
				t.Errorf("buoy %d is %s, %v; want %s", id, got, err, want)
			}
			if id%5 == i%5 { // those that go with it are not refused for it
				if _, err := read(ctx, "the red one", time.Minute); err == nil || !strings.Contains(err.Error(), "can't be understood") {
					t.Errorf("a key that is none: %v", err)
				}
			}
		}
	})

	tx, err := source.Pool().Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = tx.Rollback(ctx) }()
	if _, err := tx.Exec(ctx, "lock table buoy"); err != nil {
		t.Fatal(err)
	}
	start := time.Now()
	together(40, func(i int) {
		ctx, leave := context.WithTimeout(ctx, time.Duration(i%4+1)*50*time.Millisecond)
		defer leave()
		if i%2 == 0 { // half of them wait, the others go away
			ctx = context.Background()
		}
		_, err := read(ctx, int64(1), 200*time.Millisecond)
		if f, ok := fault.From(err); (!ok || f.Kind != fault.TimedOut) && !errors.Is(err, context.Canceled) &&
			!errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("of a locked table: %v", err)
		}
	})
	if took := time.Since(start); took > 5*time.Second {
		t.Errorf("the reads of a locked table took %s", took)
	}
	if err := tx.Rollback(ctx); err != nil {
		t.Fatal(err)
	}
	together(40, func(i int) {
		if got, err := read(ctx, int64(1), time.Minute); err != nil || got == "none" {
			t.Errorf("after the lock: %s, %v", got, err)
		}
	})
	// What was prepared for a table that has changed since is prepared anew, and no caller notices: of short reads and of long ones.
	long := postgres.Compile(&statement.Plan{SQL: "select name from buoy", Total: -1, Present: -1, Version: -1}, nil, encode.Format{})
	for _, change := range []string{"", "alter table buoy alter column name type varchar(300)"} {
		if change != "" {
			execute(t, source, change)
		}
		together(40, func(i int) {
			if got, err := read(ctx, int64(1), time.Minute); err != nil || got == "none" {
				t.Errorf("%s: %s, %v", change, got, err)
			}
			c, err := long.Open(ctx, source.For(postgres.Share{}), nil, time.Minute)
			if err != nil {
				t.Errorf("%s: the names: %v", change, err)
				return
			}
			for c.Next() {
			}
			if err := c.Close(); err != nil {
				t.Error(err)
			}
		})
	}
	execute(t, source, "alter table buoy rename column name to called")
	if _, err := read(ctx, int64(1), time.Minute); err == nil {
		t.Error("a column that is gone was read")
	}
	execute(t, source, "alter table buoy rename column called to name")
	together(40, func(i int) {
		if got, err := read(ctx, int64(1), time.Minute); err != nil || got == "none" {
			t.Errorf("after the column is back: %s, %v", got, err)
		}
	})
}

// A source that refuses says what of its DSN is wrong.
func TestRefusedSource(t *testing.T) {
	t.Parallel()
	dsn := harbourtest.Database(t, false)
	for _, tt := range []struct {
		change func(*url.URL)
		want   string
	}{
		{func(u *url.URL) { u.User = url.UserPassword(u.User.Username(), "wrong") }, "the user or the password of the DSN is wrong"},
		{func(u *url.URL) { u.Path = "/no_such_port" }, "it has no database of the name in the DSN"},
		{func(u *url.URL) { u.Host = "127.0.0.1:1" }, "the database does not answer"},
	} {
		u, err := url.Parse(dsn)
		if err != nil {
			t.Fatal(err)
		}
		tt.change(u)
		s, err := postgres.Connect(t.Context(), u.String())
		if err == nil {
			s.Close()
		}
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%v, want %s", err, tt.want)
		}
	}
}
