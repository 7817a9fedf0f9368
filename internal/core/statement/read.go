package statement

import (
	"fmt"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// Read plans a request for a collection or for one row. after says, for a page that continues another one, which values of
// the last row were null (true); it is nil for a first page.
func Read(q *request.Query, scope *access.Scope, after []bool) *Plan {
	b := newBuilder(scope)
	plan := &Plan{Total: -1, Present: -1, Guards: Guards{-1, -1}}
	alias := b.alias(q.Root.Resource.Name)
	f := b.from(q.Root, alias, false)
	where := f.where(q, alias)
	list := &selectList{}
	plan.Columns = f.columns(q, alias, list)
	var orderBy, tail string
	if q.Key == nil {
		orderBy = f.orderBy(q.Order, list, &plan.Order)
	}
	if after != nil {
		where = append(where, f.after(q.Order, after))
	}
	if q.Key == nil {
		tail = orderBy + "\nlimit " + b.arg(Slot{Role: Limit}, "bigint") + " offset " + b.arg(Slot{Role: Offset}, "bigint")
	}
	source := "\nfrom " + q.Root.Resource.Table.QualifiedName() + " " + alias
	if !q.Count {
		plan.SQL = "select " + list.String() + source + f.joins.String() + whereClause(where) + tail
		plan.Slots = b.slots
		return plan
	}
	// The total comes in the same statement, so in the same snapshot, and there even where the page is empty.
	count := b.from(q.Root, alias, false)
	total := count.where(q, alias)
	page := "select true" + comma(list.String()) + source + f.joins.String() + whereClause(where) + tail
	plan.SQL = "select n.total, page.*\nfrom (select count(*) as total" + source + count.joins.String() + whereClause(total) + ") n\nleft join (\n" + page + "\n) page on true"
	plan.Total, plan.Present = 0, 1
	shift(plan, 2)
	plan.Slots = b.slots
	return plan
}

func comma(s string) string {
	if s == "" {
		return ""
	}
	return ", " + s
}

// shift moves the places of the plan's columns to the right.
func shift(p *Plan, by int) {
	for i := range p.Columns {
		p.Columns[i].At += by
	}
	for i := range p.Order {
		p.Order[i] += by
	}
}

// where lists what rows of the query must meet: the role's rule, the key, the filter.
func (f *from) where(q *request.Query, alias string) []string {
	var list []string
	if rule, joins := f.b.rule(window.Read, q.Root.Resource, alias); rule != "" {
		f.joins.WriteString(joins)
		list = append(list, rule)
	}
	for i := range q.Key {
		k := &q.Key[i]
		list = append(list, "("+column(alias, q.Root.Resource.Key[i])+" = "+f.expr(k)+")")
	}
	if q.Filter != nil {
		list = append(list, f.condition(q.Filter, false))
	}
	return list
}

func whereClause(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return "\nwhere " + strings.Join(list, " and ")
}

// selectList is the list of columns of a SELECT, or of the values in a row(…).
type selectList struct{ items []string }

func (l *selectList) add(sql string) int {
	for i, s := range l.items {
		if s == sql {
			return i
		}
	}
	l.items = append(l.items, sql)
	return len(l.items) - 1
}

func (l *selectList) String() string { return strings.Join(l.items, ", ") }

// columns adds what the query selects and expands to the list, and tells where each part stands.
func (f *from) columns(q *request.Query, alias string, list *selectList) []Column {
	var out []Column
	fields := q.Select
	if fields == nil {
		fields = f.b.scope.Readable(q.Root.Resource)
	}
	for _, field := range fields {
		out = append(out, Column{Name: field.Name, Kind: Plain, Type: field.Type, At: list.add(shown(alias, field))})
	}
	for _, e := range q.Expand {
		if e.Relation.Many {
			out = append(out, f.many(e, alias, list)...)
		} else {
			out = append(out, f.one(e, list))
		}
	}
	return out
}

// shown is a column as the encoders read it: what has no binary form that they know comes as text.
func shown(alias string, field *model.Field) string {
	if field.Type.Kind == model.Opaque {
		return column(alias, field) + "::text"
	}
	return column(alias, field)
}

// one adds the record of a relation to one; it is null where there is no row, or none that the role may read.
func (f *from) one(e *request.Expansion, list *selectList) Column {
	alias := f.row(e.Query.Root)
	inner := &selectList{}
	columns := f.columns(e.Query, alias, inner)
	marker := alias + "." + catalog.Quote(e.Relation.Pairs[0].There)
	at := list.add("case when " + marker + " is not null then row(" + inner.String() + ") end")
	return Column{Name: e.Relation.Name, Kind: One, At: at, Columns: columns}
}

// many adds the array of a relation to many, gathered beside each row, and its total where that is asked for.
func (f *from) many(e *request.Expansion, alias string, list *selectList) []Column {
	b, q, rel := f.b, e.Query, e.Relation
	there := b.alias(rel.To.Name)
	g := b.from(q.Root, there, f.trusted)
	source, link := b.collection(rel, alias, there)
	inner := &selectList{}
	columns := g.columns(q, there, inner)
	where := append([]string{link}, g.where(q, there)...)
	order := g.orderBy(q.Order, nil, nil)
	gathered := b.alias("gathered")
	sql := "select " + named(inner) + source + g.joins.String() + whereClause(where) + order
	if q.Top != nil {
		sql += "\n  limit " + g.expr(q.Top)
	}
	if q.Skip != nil {
		sql += "\n  offset " + g.expr(q.Skip)
	}
	fmt.Fprintf(&f.joins, "\nleft join lateral (\n  select array_agg(row(%s)) as rows from (%s) r\n) %s on true", numbered("r", len(inner.items)), sql, gathered)
	out := []Column{}
	if q.Count {
		h := b.from(q.Root, there, f.trusted)
		total := append([]string{link}, h.where(q, there)...)
		counted := b.alias("gathered")
		fmt.Fprintf(&f.joins, "\nleft join lateral (\n  select count(*) as total%s%s%s\n) %s on true", source, h.joins.String(), whereClause(total), counted)
		out = append(out, Column{Name: rel.Name + "@count", Kind: Total, At: list.add(counted + ".total")})
	}
	return append(out, Column{Name: rel.Name, Kind: Many, At: list.add(gathered + ".rows"), Columns: columns})
}

// collection is the FROM of the rows at the far end of a relation to many, and the condition that ties them to the near row.
func (b *builder) collection(rel *model.Relation, near, there string) (source, link string) {
	source = "\n  from " + rel.To.Table.QualifiedName() + " " + there
	if rel.Through == nil {
		return source, pairs(rel.Pairs, near, there)
	}
	junction := b.alias("junction")
	return source + "\n  join " + rel.Through.Table.QualifiedName() + " " + junction + " on " + pairs(rel.Through.There, junction, there),
		pairs(rel.Pairs, near, junction)
}

// named gives the columns of a subquery names, as their own may clash.
func named(l *selectList) string {
	parts := make([]string, len(l.items))
	for i, s := range l.items {
		parts[i] = fmt.Sprintf("%s as c%d", s, i)
	}
	return strings.Join(parts, ", ")
}

func numbered(alias string, n int) string {
	parts := make([]string, n)
	for i := range parts {
		parts[i] = fmt.Sprintf("%s.c%d", alias, i)
	}
	return strings.Join(parts, ", ")
}

// orderBy writes the order. With a list, the values of the order are added to it where they are missing, as the next link is
// made of them. Null comes before everything (Protocol, 11.2.6.2); columns that can't be null don't say so, as only then an
// index serves the order.
func (f *from) orderBy(terms []request.Term, list *selectList, places *[]int) string {
	if len(terms) == 0 {
		return ""
	}
	parts := make([]string, len(terms))
	for i, t := range terms {
		sql := f.expr(t.By)
		parts[i] = sql
		if list != nil {
			*places = append(*places, list.add(sql))
		}
		switch null := nullable(t.By); {
		case t.Desc && null:
			parts[i] += " desc nulls last"
		case t.Desc:
			parts[i] += " desc"
		case null:
			parts[i] += " nulls first"
		}
	}
	return "\norder by " + strings.Join(parts, ", ")
}

// after is the condition for the rows that come after one whose order values are the arguments: less or greater in the first
// value, or equal there and after it in the rest.
func (f *from) after(terms []request.Term, null []bool) string {
	values := make([]string, len(terms))
	columns := make([]string, len(terms))
	plain, oneWay := true, true
	for i, t := range terms {
		columns[i] = f.expr(t.By)
		if !null[i] {
			values[i] = f.b.arg(Slot{Role: After, Index: i}, t.By.Type().SQL)
			if t.By.Type().Kind == model.Instant && t.By.Type().Local {
				values[i] = "(" + f.b.arg(Slot{Role: After, Index: i}, "timestamptz") + " at time zone 'UTC')"
			}
		}
		plain = plain && !nullable(t.By)
		oneWay = oneWay && t.Desc == terms[0].Desc
	}
	operator := map[bool]string{false: " > ", true: " < "}
	if plain && oneWay {
		return "((" + strings.Join(columns, ", ") + ")" + operator[terms[0].Desc] + "(" + strings.Join(values, ", ") + "))"
	}
	condition := "false"
	for i := len(terms) - 1; i >= 0; i-- {
		c, desc := columns[i], terms[i].Desc
		var beyond, equal string
		switch {
		case null[i] && desc:
			beyond, equal = "false", c+" is null"
		case null[i]:
			beyond, equal = c+" is not null", c+" is null"
		default:
			beyond, equal = c+operator[desc]+values[i], c+" = "+values[i]
			if desc && nullable(terms[i].By) {
				beyond = "(" + beyond + " or " + c + " is null)"
			}
		}
		condition = "(" + beyond + " or (" + equal + " and " + condition + "))"
	}
	if !null[0] && !nullable(terms[0].By) {
		// Says nothing new, but lets an index begin where the last page ended.
		bound := map[bool]string{false: " >= ", true: " <= "}[terms[0].Desc]
		condition = "(" + columns[0] + bound + values[0] + " and " + condition + ")"
	}
	return condition
}
