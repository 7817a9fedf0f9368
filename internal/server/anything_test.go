package server_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"

	"eagerwindow/internal/harbourtest"
)

// columnsOfAnything are columns of every type of PostgreSQL, each with a value at the edge of what it holds.
var columnsOfAnything = [][3]string{
	{"small", "smallint", "32767"}, {"whole", "integer", "-2147483648"}, {"big", "bigint", "9223372036854775807"},
	{"exact", "numeric", "'NaN'"}, {"price", "numeric(5,2)", "999.99"}, {"single", "real", "'Infinity'"}, {"double", "double precision",
		"1e308"},
	{"yes", "boolean", "true"}, {"name", "text", "'it''s 100% \\ \"x\"'"}, {"code", "char(3)", "'a'"}, {"short", "varchar(5)", "'abcde'"},
	{"day", "date", "'infinity'"}, {"first", "date", "'0001-01-01'"}, {"clock", "time", "'24:00'"}, {"zoned_clock", "timetz", "'23:59:59+14'"},
	{"local", "timestamp", "'-infinity'"}, {"moment", "timestamptz", "'9999-12-31T23:59:59.999999Z'"}, {"took", "interval",
		"'-1 mon 3 days 04:05'"},
	{"raw", "bytea", "'\\x00ff'"}, {"id2", "uuid", "'00000000-0000-0000-0000-000000000000'"}, {"doc", "jsonb", "'{\"a\":[1,null]}'"},
	{"text_doc", "json", "'[1,{}]'"}, {"tree", "xml", "'<a/>'"}, {"span", "int4range", "'[1,5)'"}, {"days", "daterange", "'empty'"},
	{"spans", "int4multirange", "'{[1,3),[5,7)}'"}, {"numbers", "integer[]", "'{1,null,3}'"}, {"texts", "text[]", "'{\"a,b\",null}'"},
	{"moments", "timestamptz[]", "'{infinity}'"}, {"place", "point", "'(1,2)'"}, {"net", "cidr", "'10.0.0.0/8'"}, {"host", "inet", "'::1'"},
	{"bits", "bit varying(9)", "b'101'"}, {"fee", "money", "'-1.50'"}, {"words", "tsvector", "'a b'"}, {"wanted", "tsquery", "'a & b'"},
	{"at_log", "pg_lsn", "'0/16B3748'"}, {"mood", "mood", "'it''s fine'"}, {"positive", "positive", "3"}, {"parts", "parts", "row(1, 'a')"},
}

// literalsOfAnything are literals of every class of the language, with those that no column holds.
var literalsOfAnything = []string{"null", "true", "false", "0", "-1", "2147483648", "-2147483649", "9223372036854775808", "1e400",
	"1e-400", "-0.0",
	"99999999999999999999999999999999999999999.9", "INF", "-INF", "NaN", "''", "'a'", "'it''s'", "'\u00e9\u4e2d\U0001F6A2'", "'%'", `'\'`,
	"'2026-01-01'",
	"2026-01-01", "0000-01-01", "9999-12-31", "-0044-03-15", "10000-01-01", "2026-02-30", "00:00:00", "23:59:59.999999", "24:00:00",
	"2026-01-01T00:00:00Z", "9999-12-31T23:59:59.9999999+14:00", "2026-01-01T00:00:00-00:00", "duration'PT0S'",
	"duration'-P106751991DT4H54.775807S'",
	"duration'P99999999999D'", "duration'P1Y2M'", "PT5M", "00000000-0000-0000-0000-000000000000", "binary'AP8='", "binary'!'",
	"geography'POINT(1 2)'",
	"[1,2]", `["a",null]`, `{"a":1}`, "(1,2)", "@absent", "$it", "$this", "@caller/id", "Edm.String", "saltmere.vessel_kind'tanker'",
	"mood'fine'"}

var typesOfAnything = []string{"Edm.String", "Edm.Boolean", "Edm.Byte", "Edm.SByte", "Edm.Int16", "Edm.Int32", "Edm.Int64", "Edm.Decimal",
	"Edm.Single",
	"Edm.Double", "Edm.Date", "Edm.TimeOfDay", "Edm.DateTimeOffset", "Edm.Duration", "Edm.Guid", "Edm.Binary", "Edm.Stream", "Edm.Untyped",
	"Edm.GeographyPoint", "Collection(Edm.String)", "anything.mood", "anything.nothing"}

var functionsOfAnything = []string{"contains", "startswith", "endswith", "matchespattern", "tolower", "toupper", "trim", "concat",
	"substring", "length",
	"indexof", "year", "month", "day", "hour", "minute", "second", "fractionalseconds", "date", "time", "totaloffsetminutes", "totalseconds",
	"now",
	"mindatetime", "maxdatetime", "round", "floor", "ceiling", "cast", "isof", "case", "hassubset", "hassubsequence", "geo.distance", "min",
	"nothing"}

// Anything that is asked of any column, by any function with any literal, is answered or refused: no failure is the service's.
func TestAnything(t *testing.T) {
	t.Parallel()
	r := start(t)
	var columns, values, fields []string
	for _, c := range columnsOfAnything {
		columns, values, fields = append(columns, c[0]+" "+c[1]), append(values, c[2]), append(fields, c[0])
	}
	dsn := database(t, `create type mood as enum ('fine', 'it''s fine'); create domain positive as int check (value > 0);
		create type parts as (n int, s text);
		create table anything (id int primary key, `+strings.Join(columns, ", ")+`);
		insert into anything values (1, `+strings.Join(values, ", ")+`), (2`+strings.Repeat(", null", len(columns))+")")
	document := "window: anything\nsource: " + dsn +
		"\nresources: {anything: {}}\nroles: {all: {may: {\"*\": [read, create, update, delete]}}}"
	if _, err := r.Operator.PushDraft(t.Context(), "anything", document); err != nil {
		t.Fatal(err)
	}
	fields = append(fields, "parts/n", "span/lower", "doc/a", "id")
	g := &anything{rand.New(rand.NewPCG(2026, 5)), fields}
	// Every column beside every literal, in its own type's words and by each way in; then at random.
	var requests []string
	for _, f := range fields {
		for _, l := range literalsOfAnything {
			requests = append(requests, "filter="+f+" "+g.one("eq", "ne", "gt", "le", "has")+" "+l,
				"filter="+f+" in ("+l+","+g.leaf()+")", "compute="+f+g.one(" add ", " mul ", " div ", " divby ", " mod ", " sub ")+l+" as x&select=x")
		}
		for _, name := range functionsOfAnything {
			for _, more := range []string{"", "," + g.leaf(), "," + g.leaf() + "," + g.leaf(), ",'a'", ",1,2", ",null"} {
				requests = append(requests, "compute="+name+"("+f+more+") as x&select=x&orderby=x")
			}
		}
		for _, name := range typesOfAnything {
			requests = append(requests, "compute=cast("+f+","+name+") as x&filter=isof("+f+","+name+")")
		}
		requests = append(requests, "orderby="+f+"&select="+f, "apply=groupby(("+f+"),aggregate($count as n))",
			"apply=aggregate("+f+" with "+g.one("sum", "min", "max", "average", "countdistinct")+" as x)", "filter="+f+"/any(x:x eq "+g.leaf()+")",
			"filter="+f+"/$count gt 0", "search="+f, "filter="+f)
	}
	for range 1500 {
		kind := g.one("text", "int", "number", "instant", "date", "duration", "bool")
		requests = append(requests, "compute="+g.typed(kind, 3)+" as x&select=x&orderby=x")
		requests = append(requests, "filter="+g.expression(2)+" "+g.one("eq", "lt", "ge")+" "+g.expression(2)+
			g.one("", "&orderby="+g.expression(1), "&compute="+g.expression(2)+" as x"))
	}
	calls := make([]call, 0, len(requests))
	for _, query := range requests {
		escaped := strings.NewReplacer("%26", "&", "%3D", "=").Replace(url.PathEscape(query))
		calls = append(calls, call{"GET", "?" + escaped, ""})
	}
	answered := tally(t, r, calls)
	t.Logf("%d requests: %v", len(calls), answered)
	if answered[200] < 1000 {
		t.Errorf("only %d of %d requests were answered", answered[200], len(calls))
	}
	calls = nil
	for _, f := range fields {
		for _, v := range valuesOfAnything {
			name, part, within := strings.Cut(f, "/")
			if within {
				v = fmt.Sprintf("{%q:%s}", part, v)
			}
			calls = append(calls, call{"PATCH", "/2", fmt.Sprintf("{%q:%s}", name, v)}, call{"PATCH", "", fmt.Sprintf(`{"value":[{"id":2,%q:%s}]}`,
				name, v)},
				call{"PUT", "/2/" + f, `{"value":` + v + "}"})
		}
	}
	answered = tally(t, r, calls)
	t.Logf("%d writes: %v", len(calls), answered)
	if answered[200] < 400 {
		t.Errorf("only %d of %d writes were made", answered[200], len(calls))
	}
}

// valuesOfAnything are values of bodies.
var valuesOfAnything = []string{"null", "true", "0", "-1.5", "1e400", "99999999999999999999", `""`, `"a"`, `"1"`, `"INF"`, `"\u0000"`,
	`"\ud800"`, `"2026-01-01"`,
	`"2026-02-30"`, `"24:00:00"`, `"2026-01-01T00:00:00Z"`, `"PT5M"`, `"-P1Y"`, `"AP8="`, "[]", "[1,null]", `["a"]`, "[[1]]", "{}",
	`{"n":1}`, `{"lower":5,"upper":1}`,
	`{"lower":null}`, `"(1,2)"`, `"::1"`, `"fine"`, `"<a"`, `"a & "`}

// call is a request below the resource.
type call struct{ method, path, body string }

// tally sends calls, eight at once, and counts their statuses; a failure of the service is reported.
func tally(t *testing.T, r *harbourtest.Running, calls []call) map[int]int {
	var (
		lock     sync.Mutex
		group    sync.WaitGroup
		statuses = map[int]int{}
		failed   int
	)
	work := make(chan call)
	for range 8 {
		group.Go(func() {
			for c := range work {
				req, err := http.NewRequestWithContext(t.Context(), c.method, r.URL+"/draft/anything/anything"+c.path, strings.NewReader(c.body))
				if err != nil {
					t.Error(err)
					continue
				}
				req.Header.Set("Authorization", "Bearer "+r.Operator.Token)
				req.Header.Set("Act-As", "all")
				req.Header.Set("Content-Type", "application/json")
				res, err := http.DefaultClient.Do(req)
				if err != nil {
					t.Errorf("%v: %v", c, err)
					continue
				}
				a := harbourtest.Read(t, res)
				lock.Lock()
				statuses[a.StatusCode]++
				if a.StatusCode >= 500 && a.StatusCode != http.StatusNotImplemented {
					if failed++; failed <= 20 {
						t.Errorf("%v\n%s %.400s", c, a.Status, a.Text)
					}
				}
				lock.Unlock()
			}
		})
	}
	for _, c := range calls {
		work <- c
	}
	close(work)
	group.Wait()
	return statuses
}

type anything struct {
	*rand.Rand
	fields []string
}

func (g *anything) one(of ...string) string { return of[g.IntN(len(of))] }

func (g *anything) leaf() string {
	if g.IntN(2) == 0 {
		return g.one(g.fields...)
	}
	return g.one(literalsOfAnything...)
}

func (g *anything) expression(depth int) string {
	if depth == 0 || g.IntN(4) == 0 {
		return g.leaf()
	}
	switch g.IntN(4) {
	case 0:
		return fmt.Sprintf("(%s %s %s)", g.expression(depth-1), g.one("add", "sub", "mul", "div", "divby", "mod", "and", "or", "in"),
			g.expression(depth-1))
	case 1:
		return "cast(" + g.expression(depth-1) + "," + g.one(typesOfAnything...) + ")"
	case 2:
		return g.one("-", "not ") + g.expression(depth-1)
	}
	args := make([]string, 1+g.IntN(3))
	for i := range args {
		args[i] = g.expression(depth - 1)
	}
	return g.one(functionsOfAnything...) + "(" + strings.Join(args, ",") + ")"
}

// typed is an expression of a kind, made of the functions that take what is in it; its leaves are casts of any column.
func (g *anything) typed(kind string, depth int) string {
	var fitting []nullFunction
	for _, f := range nullFunctions {
		if f.kind == kind {
			fitting = append(fitting, f)
		}
	}
	if depth == 0 || len(fitting) == 0 || g.IntN(5) == 0 {
		named := map[string]string{"text": "String", "int": "Int32", "number": g.one("Decimal", "Double"), "instant": "DateTimeOffset",
			"date":     "Date",
			"duration": "Duration", "bool": "Boolean"}
		return g.one("null", nullKinds[kind].literal, "cast("+g.one(g.fields...)+",Edm."+named[kind]+")")
	}
	f := fitting[g.IntN(len(fitting))]
	var args []string
	for i, k := range f.args {
		args = append(args, fmt.Sprintf("%%%d", i+1), g.typed(k, depth-1))
	}
	return strings.NewReplacer(args...).Replace(f.query)
}
