package statement

import (
	"fmt"
	"strings"

	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// templates are the functions that are one SQL expression of their arguments, which stand for %[1]s, %[2]s …
var templates = map[string]string{
	"contains":           "(strpos(%[1]s, %[2]s) > 0)",
	"startswith":         "starts_with(%[1]s, %[2]s)",
	"endswith":           "(right(%[1]s, length(%[2]s)) = %[2]s)",
	"matchespattern":     "(%[1]s ~ %[2]s)",
	"tolower":            "lower(%[1]s)",
	"toupper":            "upper(%[1]s)",
	"trim":               "btrim(%[1]s, E' \\t\\n\\r')",
	"concat":             "(%[1]s || %[2]s)",
	"length":             "char_length(%[1]s)",
	"indexof":            "(strpos(%[1]s, %[2]s) - 1)",
	"year":               "extract(year from %[1]s)::integer",
	"month":              "extract(month from %[1]s)::integer",
	"day":                "extract(day from %[1]s)::integer",
	"hour":               "extract(hour from %[1]s)::integer",
	"minute":             "extract(minute from %[1]s)::integer",
	"second":             "floor(extract(second from %[1]s))::integer",
	"fractionalseconds":  "(extract(second from %[1]s) %% 1)",
	"date":               "(%[1]s)::date",
	"time":               "(%[1]s)::time",
	"totaloffsetminutes": "(case when %[1]s is not null then 0 end)",
	"totalseconds":       "extract(epoch from %[1]s)",
	"now":                "now()",
	"mindatetime":        "'0001-01-01T00:00:00Z'::timestamptz",
	"maxdatetime":        "'9999-12-31T23:59:59.999999Z'::timestamptz",
	"floor":              "floor(%[1]s)",
	"ceiling":            "ceil(%[1]s)",
	"negate":             "(-%[1]s)",
	"lower":              "lower(%[1]s)",
	"upper":              "upper(%[1]s)",
	"empty":              "isempty(%[1]s)",
	"bounds": "(case when lower_inc(%[1]s) then '[' else '(' end || case when upper_inc(%[1]s) then ']' " +
		"else ')' end)",
	"add":             "(%[1]s + %[2]s)",
	"sub":             "(%[1]s - %[2]s)",
	"mul":             "(%[1]s * %[2]s)",
	"div":             "(%[1]s / %[2]s)",
	"divby":           "(%[1]s / %[2]s)",
	"mod":             "(%[1]s %% %[2]s)",
	"list length":     "cardinality(%[1]s)",
	"list startswith": "((%[1]s)[1:cardinality(%[2]s)] = %[2]s)",
	"list endswith":   "(cardinality(%[1]s) >= cardinality(%[2]s) and (%[1]s)[cardinality(%[1]s) - cardinality(%[2]s) + 1:] = %[2]s)",
	"list contains": "(case when %[1]s is not null and %[2]s is not null then exists (select from generate_series(0, cardinality(%[1]s) - " +
		"cardinality(%[2]s)) i where (%[1]s)[i + 1:i + cardinality(%[2]s)] = %[2]s) end)",
	"list indexof": "(case when %[1]s is not null and %[2]s is not null then coalesce((select min(i) from generate_series(0, " +
		"cardinality(%[1]s) - cardinality(%[2]s)) i where (%[1]s)[i + 1:i + cardinality(%[2]s)] = %[2]s), -1) end)",
	// Every value of the second list is in the first at least as often.
	"hassubset": `(case when %[1]s is not null and %[2]s is not null then not exists (select 1 from unnest(%[2]s) b(v) group by b.v
  having count(*) > (select count(*) from unnest(%[1]s) a(v) where a.v is not distinct from b.v)) end)`,
	// Takes the values of the second list in turn, each at its first place in the first list after the one before.
	"hassubsequence": `(case when %[1]s is not null and %[2]s is not null then (with recursive walk(i, at) as (select 0::bigint,
			0::bigint union all
  select i + 1, (select min(a.o) from unnest(%[1]s) with ordinality a(v, o), unnest(%[2]s) with ordinality b(v,
			o) where b.o = i + 1 and a.o > at and a.v is not distinct from b.v)
  from walk where at is not null and i < cardinality(%[2]s)) select bool_and(at is not null) from walk) end)`,
}

func (f *from) call(c *query.Call) string {
	switch c.Op {
	case "case":
		return f.caseOf(c)
	case "cast":
		return f.cast(c)
	case "round":
		// PostgreSQL rounds doubles to even; the standard rounds half away from zero, as numeric does.
		return "round((" + f.expr(c.Args[0]) + ")::numeric)::" + plainSQL(c.T)
	case "substring":
		return f.substring(c)
	}
	if strings.HasPrefix(c.Op, "list ") {
		return f.overLists(c)
	}
	template, known := templates[c.Op]
	if !known {
		return f.condition(c, true)
	}
	args := make([]any, len(c.Args))
	for i, a := range c.Args {
		args[i] = f.argument(c, a)
	}
	sql := fmt.Sprintf(template, args...)
	switch {
	case c.T.Kind == model.Double && c.Op == "mod":
		return fmt.Sprintf("(case when %[2]s = 0 or %[1]s in ('Infinity', '-Infinity', 'NaN') or %[2]s = 'NaN' then 'NaN'::double precision "+
			"when %[2]s in ('Infinity', '-Infinity') then (%[1]s)::double precision else mod((%[1]s)::numeric, (%[2]s)::numeric)::double "+
			"precision end)",
			args...)
	case c.T.Kind == model.Double && (c.Op == "div" || c.Op == "divby"): // IEEE 754, where PostgreSQL refuses
		return fmt.Sprintf("(case when %[2]s = 0 then case when %[1]s > 0 and %[1]s <> 'NaN' then 'Infinity'::double precision when %[1]s < 0 "+
			"then '-Infinity' when %[1]s is not null then 'NaN' end else %[1]s / %[2]s end)", args...)
	case c.T.Kind == model.Date && (c.Op == "add" || c.Op == "sub"):
		return sql + "::date"
	case c.T.Kind == model.Duration && c.Op == "sub" && c.Args[0].Type().Kind == model.Date:
		return "make_interval(days => " + sql + ")"
	case c.Op == "floor", c.Op == "ceiling":
		return sql + "::" + plainSQL(c.T)
	}
	return sql
}

// overLists writes a function of arrays, all of the type of the first one that is a column.
func (f *from) overLists(c *query.Call) string {
	of := c.Args[0].Type()
	if _, given := c.Args[0].(*query.Value); given && len(c.Args) > 1 {
		of = c.Args[1].Type()
	}
	args := make([]any, len(c.Args))
	for i, a := range c.Args {
		args[i] = "(" + f.expr(a) + ")::" + of.SQL
	}
	return fmt.Sprintf(templates[c.Op], args...)
}

// argument writes an argument in the type that its function reckons with.
func (f *from) argument(c *query.Call, e query.Expr) string {
	sql, t := f.expr(e), e.Type()
	switch {
	case t.Kind == model.Enum || t.Kind == model.String && t.Fixed:
		return sql + "::text"
	case t.Kind == model.Unknown:
		return sql + "::" + plainSQL(c.T)
	case t.Kind == model.Instant && isPart(c.Op):
		if t.Local {
			return sql
		}
		return "(" + sql + " at time zone 'UTC')"
	case t.Kind == model.Instant:
		return instant(sql, t)
	case isArithmetic(c.Op) && t.Kind.Numeric() && c.T.Kind.Numeric():
		return "(" + sql + ")::" + c.T.SQL
	case isArithmetic(c.Op) && t.Kind.Numeric(): // a duration times or through a number
		return "(" + sql + ")::double precision"
	}
	return sql
}

// rootOf reads a value of the row of a key; the role's rule holds for it too.
func (f *from) rootOf(e *query.RootOf) string {
	alias := f.b.alias(e.Row.Resource.Name)
	g := &from{b: f.b, outer: f, trusted: f.trusted, aliases: map[*query.Row]string{e.Row: alias}}
	where := g.key(e.Row.Resource.Key, e.Key, alias)
	if !f.trusted {
		if rule, joins := f.b.rule(window.Read, e.Row.Resource, alias); rule != "" {
			g.joins.WriteString(joins)
			where = append(where, rule)
		}
	}
	value := g.expr(e.Of)
	return "(select " + value + " from " + f.b.source(e.Row.Resource, f.trusted) + " " + alias + g.joins.String() + whereClause(where) + ")"
}

func isArithmetic(op string) bool {
	switch op {
	case "add", "sub", "mul", "div", "divby", "mod":
		return true
	}
	return false
}

// isPart reports whether a function takes a part of an instant, whose calendar is UTC's.
func isPart(op string) bool {
	switch op {
	case "year", "month", "day", "hour", "minute", "second", "fractionalseconds", "date", "time":
		return true
	}
	return false
}

func plainSQL(t *model.Type) string {
	if t.Kind == model.Unknown || t.SQL == "" {
		return "text"
	}
	return t.SQL
}

func (f *from) substring(c *query.Call) string {
	text, start := f.argument(c, c.Args[0]), "("+f.expr(c.Args[1])+")::integer"
	start = "(case when " + start + " < 0 then greatest(char_length(" + text + ") + " + start + ", 0) else " + start + " end)"
	if len(c.Args) == 2 {
		return "substr(" + text + ", " + start + " + 1)"
	}
	count := "(" + f.expr(c.Args[2]) + ")::integer" // not less than nothing, and null stays null
	return "substr(" + text + ", " + start + " + 1, (case when " + count + " < 0 then 0 else " + count + " end))"
}

func (f *from) caseOf(c *query.Call) string {
	sql := "(case"
	for i := 0; i < len(c.Args); i += 2 {
		sql += " when " + f.condition(c.Args[i], false) + " then " + f.converted(c.Args[i+1], c.T)
	}
	return sql + " end)"
}

// converted writes an expression in another type that holds its values.
func (f *from) converted(e query.Expr, t *model.Type) string {
	sql := f.expr(e)
	if e.Type().Kind == model.Instant && e.Type().Local && !t.Local {
		return instant(sql, e.Type())
	}
	return "(" + sql + ")::" + plainSQL(t)
}

// number matches texts that read as a number.
const number = `'^\s*[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d{1,3})?\s*$'`

// durationText writes an interval as answers have it: days, then hours, minutes and seconds, the sign before the whole.
const durationText = `(select case when i.d is null then null when extract(epoch from i.d) = 0 then 'PT0S' else
  case when extract(epoch from i.d) < 0 then '-' else '' end || 'P' || coalesce(nullif(abs(extract(day from i.d)), 0) || 'D', '') ||
  coalesce('T' || nullif(coalesce(nullif(abs(extract(hour from i.d)), 0) || 'H', '') ||
  coalesce(nullif(abs(extract(minute from i.d)), 0) || 'M', '') ||
  coalesce(trim_scale(nullif(abs(extract(second from i.d)), 0)) || 'S', ''), ''), '') end
  from (select case when extract(year from d) = 0 and extract(month from d) = 0 then d
    else justify_hours(make_interval(secs => extract(epoch from d)::double precision)) end as d from (select %[1]s as d) o) i)`

func (f *from) cast(c *query.Call) string {
	e, t := c.Args[0], c.T
	sql, from := f.expr(e), e.Type()
	if from.Kind == model.Instant {
		sql = instant(sql, from)
	}
	switch {
	case from.Kind == model.Duration && t.Kind == model.String:
		return fmt.Sprintf(durationText, sql)
	case t.Kind == model.Enum && from.Kind == model.String:
		return "(case when (" + sql + ")::text = any(enum_range(null::" + t.SQL + ")::text[]) then (" + sql + ")::text::" + t.SQL + " end)"
	case t.Kind == model.Enum:
		return "(" + sql + ")::text::" + t.SQL
	case from.Kind == model.Instant && t.Kind == model.String:
		return "to_char(" + sql + ` at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"')`
	case from.Kind == model.Instant && (t.Kind == model.Date || t.Kind == model.TimeOfDay):
		return "(" + sql + " at time zone 'UTC')::" + t.SQL
	case from.Kind == model.Date && t.Kind == model.Instant:
		return "(" + sql + "::timestamp at time zone 'UTC')"
	case (from.Kind == model.String || from.Kind == model.Enum) && t.Kind.Numeric():
		text := "(" + sql + ")::text"
		value := "(" + text + ")::numeric"
		if t.Kind.Integer() {
			value = "trunc(" + value + ")"
		}
		return "(case when " + text + " ~ " + number + " then " + value + "::" + t.SQL + " end)"
	case from.Kind.Numeric() && t.Kind.Integer():
		return "trunc((" + sql + ")::numeric)::" + t.SQL
	}
	return "(" + sql + ")::" + t.SQL
}

// quantifier writes any and all. all asks that there is no element for which the condition is not true.
func (f *from) quantifier(q *query.Quantifier) string {
	source, g := f.over(q.Over)
	where := append([]string(nil), source.where...)
	if q.Body != nil {
		body := g.condition(q.Body, q.All)
		if q.All {
			body = "(" + body + ") is not true"
		}
		where = append(where, body)
	}
	sql := "exists (select 1 from " + source.table + g.joins.String() + whereClause(where) + ")"
	if q.All {
		return "(not " + sql + ")"
	}
	return sql
}

func (f *from) count(c *query.Count) string {
	source, g := f.over(c.Over)
	where := append([]string(nil), source.where...)
	if c.Body != nil {
		where = append(where, g.condition(c.Body, false))
	}
	return "(select count(*) from " + source.table + g.joins.String() + whereClause(where) + ")"
}

// source is a FROM item and the conditions that tie it to the row outside.
type source struct {
	table string
	where []string
}

// over opens a subquery over a collection. For rows, the role's rule holds in it, unless it is part of a rule itself.
func (f *from) over(c query.Collection) (source, *from) {
	if c.Row == nil {
		alias := f.b.alias("element")
		f.b.vars[c.Element] = alias + ".v"
		g := &from{b: f.b, outer: f, trusted: f.trusted, aliases: map[*query.Row]string{}}
		if c.Array.Type().Kind == model.JSON {
			array := f.json(c.Array)
			return source{table: "jsonb_array_elements(case when jsonb_typeof(" + array + ") = 'array' then " + array + " end) " + alias + "(v)"}, g
		}
		return source{table: "unnest(" + f.expr(c.Array) + ") " + alias + "(v)"}, g
	}
	rel := c.Row.Via
	near := f.row(c.Row.Parent)
	there := f.b.alias(rel.To.Name)
	g := &from{b: f.b, outer: f, trusted: f.trusted, aliases: map[*query.Row]string{c.Row: there}}
	table, link := f.b.collection(rel, near, there, f.trusted)
	s := source{table: table, where: []string{link}}
	if !f.trusted {
		if rule, joins := f.b.rule(window.Read, rel.To, there); rule != "" {
			g.joins.WriteString(joins)
			s.where = append(s.where, rule)
		}
	}
	return s, g
}

// jsonPath writes the value under names inside JSON, null where there is none.
func (f *from) jsonPath(j *query.JSONPath) string {
	keys := make([]string, len(j.Keys))
	for i, k := range j.Keys {
		keys[i] = "'" + strings.ReplaceAll(k, "'", "''") + "'"
	}
	return "(" + f.json(j.Of) + " #> array[" + strings.Join(keys, ",") + "])"
}

func (f *from) json(e query.Expr) string {
	if e.Type().JSONB {
		return f.expr(e)
	}
	return "(" + f.expr(e) + ")::jsonb"
}

// jsonAs writes a JSON value as a number, text or boolean, null where it is none: no value makes the statement fail.
func (f *from) jsonAs(j *query.JSONAs) string {
	value := f.json(j.Of)
	name := map[model.Kind]string{model.Decimal: "number", model.String: "string", model.Boolean: "boolean"}[j.T.Kind]
	return "(case when jsonb_typeof(" + value + ") = '" + name + "' then (" + value + " #>> '{}')::" + j.T.SQL + " end)"
}

// searched looks for a word or phrase in the vectors of the resource, where the role may read all that is in them; else in every text
// field that it may read, in any case. The pattern is one that a trigram index on a field serves, where there is one.
func (f *from) searched(s *query.Searched, exact bool) string {
	alias := f.row(s.Row)
	pattern := func() string {
		return `('%' || regexp_replace(` + f.value(s.Term, "text") + `, '([\\%_])', '\\\1', 'g') || '%')`
	}
	var parts []string
	for _, v := range f.b.scope.Vectors(s.Row.Resource) {
		config := ""
		if v.Config != "" {
			config = v.Config + ", "
		}
		part := "(" + v.SQL(alias) + " @@ phraseto_tsquery(" + config + f.value(s.Term, "text") + "))"
		if exact {
			part = "coalesce(" + part + ", false)"
		}
		parts = append(parts, part)
	}
	if parts != nil {
		return "(" + strings.Join(parts, " or ") + ")"
	}
	for _, field := range f.b.scope.Readable(s.Row.Resource) {
		if field.Type.Kind != model.String {
			continue
		}
		part := column(alias, field) + " ilike " + pattern()
		if exact && field.Nullable {
			part = "coalesce(" + part + ", false)"
		}
		parts = append(parts, part)
	}
	if parts == nil {
		return "false"
	}
	return "(" + strings.Join(parts, " or ") + ")"
}
