package server_test

import (
	"fmt"
	"strings"
	"testing"
)

// nullFunction is a function or an operator, in the query language and as naive SQL; %1, %2 and %3 are its arguments.
type nullFunction struct {
	kind, query, sql string
	args             []string // the arguments' kinds
}

// Null for an argument of a function is null as its value (URL Conventions, 5.1.1.1 and 5.1.1.5 to 5.1.1.13).
var nullFunctions = []nullFunction{
	{"int", "length(%1)", "char_length(%1)", []string{"text"}},
	{"int", "indexof(%1,%2)", "(strpos(%1, %2) - 1)", []string{"text", "text"}},
	{"text", "substring(%1,1)", "substr(%1, 2)", []string{"text"}},
	{"text", "substring(%1,1,2)", "substr(%1, 2, 2)", []string{"text"}},
	{"text", "tolower(%1)", "lower(%1)", []string{"text"}},
	{"text", "toupper(%1)", "upper(%1)", []string{"text"}},
	{"text", "trim(%1)", "btrim(%1)", []string{"text"}},
	{"text", "concat(%1,%2)", "(%1 || %2)", []string{"text", "text"}},
	{"bool", "contains(%1,%2)", "(strpos(%1, %2) > 0)", []string{"text", "text"}},
	{"bool", "startswith(%1,%2)", "starts_with(%1, %2)", []string{"text", "text"}},
	{"bool", "endswith(%1,%2)", "(right(%1, char_length(%2)) = %2)", []string{"text", "text"}},
	{"bool", "matchespattern(%1,'e')", "(strpos(%1, 'e') > 0)", []string{"text"}},
	{"int", "year(%1)", "extract(year from %1 at time zone 'UTC')::int", []string{"instant"}},
	{"int", "month(%1)", "extract(month from %1 at time zone 'UTC')::int", []string{"instant"}},
	{"int", "day(%1)", "extract(day from %1 at time zone 'UTC')::int", []string{"instant"}},
	{"int", "hour(%1)", "extract(hour from %1 at time zone 'UTC')::int", []string{"instant"}},
	{"int", "minute(%1)", "extract(minute from %1 at time zone 'UTC')::int", []string{"instant"}},
	{"int", "second(%1)", "extract(second from %1 at time zone 'UTC')::int", []string{"instant"}},
	{"number", "fractionalseconds(%1)", "(extract(second from %1) - trunc(extract(second from %1)))", []string{"instant"}},
	{"int", "totaloffsetminutes(%1)", "(case when %1 is not null then 0 end)", []string{"instant"}},
	{"int", "year(%1)", "extract(year from %1)::int", []string{"date"}},
	{"date", "date(%1)", "(%1 at time zone 'UTC')::date", []string{"instant"}},
	{"number", "totalseconds(%1)", "extract(epoch from %1)", []string{"duration"}},
	{"instant", "(%1 add %2)", "(%1 + %2)", []string{"instant", "duration"}},
	{"duration", "(%1 sub %2)", "(%1 - %2)", []string{"instant", "instant"}},
	{"duration", "(-%1)", "(-%1)", []string{"duration"}},
	{"number", "round(%1)", "round(%1)", []string{"number"}},
	{"number", "floor(%1)", "floor(%1)", []string{"number"}},
	{"number", "ceiling(%1)", "ceil(%1)", []string{"number"}},
	{"number", "(%1 add %2)", "(%1 + %2)", []string{"number", "number"}},
	{"number", "(%1 mul 2)", "(%1 * 2)", []string{"number"}},
	{"number", "(%1 sub %2)", "(%1 - %2)", []string{"number", "int"}},
	{"int", "(%1 div 3)", "(%1 / 3)", []string{"int"}},
	{"int", "(%1 mod 3)", "(%1 % 3)", []string{"int"}},
	{"text", "cast(%1,Edm.String)", "%1::text", []string{"int"}},
	{"int", "cast(%1,Edm.Int32)", "%1", []string{"int"}},
	{"text", "case(%1:%2,true:%3)", "(case when %1 then %2 else %3 end)", []string{"bool", "text", "text"}},
	{"int", "case(%1:%2)", "(case when %1 then %2 end)", []string{"bool", "int"}},
	{"bool", "(%1 and %2)", "(%1 and %2)", []string{"bool", "bool"}},
	{"bool", "(%1 or %2)", "(%1 or %2)", []string{"bool", "bool"}},
	{"bool", "(not (%1))", "(not %1)", []string{"bool"}},
	{"bool", "(%1 in (%2,%3))", "(%1 is not distinct from %2 or %1 is not distinct from %3)", []string{"text", "text", "text"}},
	{"bool", "(%1 in (%2))", "(%1 is not distinct from %2)", []string{"int", "int"}},
}

var nullKinds = map[string]struct{ sql, literal string }{
	"text": {"text", "'e'"}, "int": {"int", "2"}, "number": {"numeric", "7.5"}, "instant": {"timestamptz", "2026-06-30T12:00:00Z"},
	"date": {"date", "2000-02-29"}, "duration": {"interval", "duration'PT1H30M'"}, "bool": {"boolean", "true"},
}

// nulled is an expression of a kind whose leaves are null as often as they are not: literally, by an alias that is null, or by one that
// is not given.
func (g *generator) nulled(resource, kind string, depth int) both {
	if depth > 0 {
		var fitting []nullFunction
		for _, f := range nullFunctions {
			if f.kind == kind {
				fitting = append(fitting, f)
			}
		}
		if len(fitting) > 0 && g.IntN(4) > 0 {
			f := pick(g, fitting)
			var query, sql []string
			for i, k := range f.args {
				arg := g.nulled(resource, k, depth-1)
				place := fmt.Sprintf("%%%d", i+1)
				query, sql = append(query, place, arg.query), append(sql, place, arg.sql)
			}
			return both{strings.NewReplacer(query...).Replace(f.query), strings.NewReplacer(sql...).Replace(f.sql)}
		}
	}
	k := nullKinds[kind]
	switch g.IntN(4) {
	case 0, 1:
		return both{pick(g, []string{"null", "@absent", "@nothing"}), "null::" + k.sql}
	case 2:
		return both{k.literal, literalSQL(kind, k.literal) + "::" + k.sql}
	}
	if v, ok := g.value(resource, "", "t", kind, 1); ok {
		return both{v.query, v.sql + "::" + k.sql}
	}
	return both{k.literal, literalSQL(kind, k.literal) + "::" + k.sql}
}

// nullCondition compares such expressions, or takes one as the condition.
func (g *generator) nullCondition(resource string) both {
	kind := pick(g, []string{"text", "int", "number", "instant", "date", "duration", "bool", "bool"})
	a := g.nulled(resource, kind, 2)
	if kind == "bool" && g.IntN(2) == 0 {
		return a
	}
	c := compared(g, kind, a, g.nulled(resource, kind, 1))
	if g.IntN(4) == 0 {
		return both{"not (" + c.query + ")", "(not " + c.sql + ")"}
	}
	return c
}

// Requests with nulls everywhere, each answer compared with naive SQL: no difference.
func TestDifferentialNulls(t *testing.T) {
	t.Parallel()
	full := beside(t, 18, 400, func(g *generator) drawn {
		root := pick(g, []string{"port_calls", "vessels", "inspections"})
		c := g.nullCondition(root)
		kind := pick(g, []string{"text", "int", "number", "instant", "duration"})
		order := g.nulled(root, kind, 2)
		for order.query == nullKinds[kind].literal { // which is refused
			order = g.nulled(root, kind, 2)
		}
		key := harbourPlaces[root].key
		direction := pick(g, [][2]string{{"", " nulls first"}, {" desc", " desc nulls last"}})
		return drawn{root, c, both{order.query + direction[0] + "," + key, order.sql + direction[1] + ", t." + key}, 100}
	})
	if full < 100 {
		t.Errorf("only %d requests found rows", full)
	}
}
