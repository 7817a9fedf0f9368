package statement

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// Read plans a request for a collection or for one row. after says, for a page that continues another one, which values of
// the last row were null (true); it is nil for a first page.
func Read(q *query.Query, scope *access.Scope, after []bool, bounds Bounds) *Plan {
	b := newBuilder(scope)
	b.metadata = q.Metadata
	b.params, b.paged = q.Params, true
	plan := newPlan()
	plan.Uses = b.uses
	defer func() { plan.Rules = b.rules }()
	alias := b.alias(q.Root.Resource.Name)
	list := &selectList{}
	if q.Nests != nil {
		plan.Columns = b.nests(q, list)
		plan.SQL, plan.Slots = b.withPrefixes()+"select "+list.String()+b.bounds(bounds), b.slots
		return plan
	}
	table := "\nfrom " + b.origin(q) + " " + alias
	var body string
	switch f := b.from(q.Root, alias, false); {
	case q.View == query.Number:
		where := whereClause(f.where(q, alias))
		plan.Total = list.add("count(*)")
		body = table + f.joins.String() + where
	case q.Single:
		where := whereClause(f.where(q, alias))
		plan.Columns = f.answer(q, alias, list)
		if b.versioned(q) && len(q.Expand) == 0 && len(q.Computed) == 0 {
			plan.Version = list.add(alias + ".xmin")
		}
		plan.SingleKeyRead = plan.Version >= 0 && b.tables() == 1 && len(q.Computed) == 0
		body = table + f.joins.String() + where
	case len(q.Expand) == 0:
		where := f.where(q, alias)
		plan.Columns = f.answer(q, alias, list)
		order := f.order(q.Order)
		for i, o := range order {
			f.noteOrder(q.Order[i], o)
			plan.Order = append(plan.Order, list.add(shownAs(o.sql, q.Order[i].By.Type())))
		}
		if after != nil {
			where = append(where, f.after(q.Order, after))
		}
		body = table + f.joins.String() + whereClause(where) + orderBy(order) + b.bounds(bounds)
	default:
		body = b.expanded(q, alias, table, after, bounds, plan, list)
	}
	plan.Isolated = b.isolated
	if !q.Count || q.View == query.Number {
		plan.SQL, plan.Slots = b.withPrefixes()+"select "+list.String()+body, b.slots
		return plan
	}
	// The total comes in the same statement, so in the same snapshot, and there even where the page is empty.
	count := b.from(q.Root, alias, false)
	total := count.where(q, alias)
	plan.SQL = b.withPrefixes() + "select n.total, page.*\nfrom (select count(*) as total" + table + count.joins.String() +
		whereClause(total) +
		") n\nleft join (\nselect true" +
		comma(list.String()) + body + "\n) page on true"
	plan.Total, plan.Present, plan.Slots = 0, 1, b.slots
	shift(plan, 2)
	return plan
}

// expanded plans a page with relations in two steps: first the rows of the page, then, for these alone, what they expand.
func (b *builder) expanded(q *query.Query, alias, table string, after []bool, bounds Bounds, plan *Plan, list *selectList) string {
	inner := b.from(q.Root, alias, false)
	where := inner.where(q, alias)
	order := inner.order(q.Order)
	if after != nil {
		where = append(where, inner.after(q.Order, after))
	}
	carried := alias + ".*"
	if b.tagged(q) && !b.hides(q.Root.Resource) { // else it is one of the columns
		carried += ", " + alias + ".xmin"
	}
	outer := b.from(q.Root, alias, false)
	plan.Columns = outer.answer(q, alias, list)
	again := make([]orderTerm, len(order))
	for i, o := range order {
		inner.noteOrder(q.Order[i], o)
		again[i] = o
		if f, ok := q.Order[i].By.(*query.FieldOf); !ok || f.Row != q.Root {
			name := catalog.Quote("order " + strconv.Itoa(i+1))
			carried += ", " + o.sql + " as " + name
			again[i].sql = alias + "." + name
		}
		plan.Order = append(plan.Order, list.add(shownAs(again[i].sql, q.Order[i].By.Type())))
	}
	page := "select " + carried + table + inner.joins.String() + whereClause(where) + orderBy(order) + b.bounds(bounds)
	return "\nfrom (\n" + page + "\n) " + alias + outer.joins.String() + orderBy(again)
}

func (b *builder) bounds(bounds Bounds) string {
	sql := "\nlimit " + strconv.FormatInt(bounds.Rows, 10)
	if bounds.Rows == 0 {
		sql = "\nlimit " + b.arg(Slot{Role: Limit}, "bigint")
	}
	if bounds.Offset {
		sql += " offset " + b.arg(Slot{Role: Offset}, "bigint")
	}
	return sql
}

func comma(s string) string {
	if s == "" {
		return ""
	}
	return ", " + s
}

// shift moves the places of the plan's columns to the right.
func shift(p *Plan, by int) {
	shiftColumns(p.Columns, by)
	for i := range p.Order {
		p.Order[i] += by
	}
}

func shiftColumns(columns []Column, by int) {
	for i := range columns {
		columns[i].At += by
		for _, path := range []*Column{columns[i].Next, columns[i].It} {
			if path != nil {
				shiftColumns([]Column{*path}, by)
			}
		}
		if k := columns[i].Kind; k == Link || k == Object || k == Masked {
			shiftColumns(columns[i].Columns, by)
		}
	}
}

// where lists what rows of the query must meet: what the caller may see, the search, the filter.
func (f *from) where(q *query.Query, alias string) []string {
	var list []string
	if q.Apply == nil { // else it holds where the first of its rows come from
		list = f.granted(q, q.Root.Resource, alias)
	}
	if q.Search != nil {
		list = append(list, f.condition(q.Search, false))
	}
	if q.Filter != nil {
		list = append(list, f.condition(q.Filter, false))
	}
	return list
}

// granted lists what the role's rule, the key and the path ask of the rows of a resource.
func (f *from) granted(q *query.Query, r *model.Resource, alias string) []string {
	var list []string
	if rule, joins := f.b.rule(window.Read, r, alias); rule != "" {
		f.joins.WriteString(joins)
		list = append(list, rule)
	}
	list = append(list, f.key(q.KeyOf, q.Key, alias)...)
	if parent := f.parent(q.Path, alias); parent != "" {
		list = append(list, parent)
	}
	return list
}

// key is the condition for the row of a key.
func (f *from) key(of []*model.Field, key []query.Value, alias string) []string {
	var list []string
	for i := range key {
		list = append(list, "("+column(alias, of[i])+" = "+f.expr(&key[i])+")")
	}
	return list
}

// parent is the condition that a row hangs on the row before it on the path, which hangs on the one before that. The role's
// rules hold all the way.
func (f *from) parent(path []query.Hop, child string) string {
	if len(path) < 2 {
		return ""
	}
	rel, before := path[len(path)-1].Via, path[len(path)-2]
	alias := f.b.alias(before.Resource.Name)
	table, link := f.b.source(before.Resource, false)+" "+alias, ""
	if rel.Through == nil {
		link = pairs(rel.Pairs, alias, child)
	} else {
		junction := f.b.alias("junction")
		table += " join " + rel.Through.Table.QualifiedName() + " " + junction + " on " + pairs(rel.Pairs, alias, junction)
		link = pairs(rel.Through.There, junction, child)
	}
	where := append([]string{link}, f.key(before.KeyOf, before.Key, alias)...)
	rule, joins := f.b.rule(window.Read, before.Resource, alias)
	if rule != "" {
		where = append(where, rule)
	}
	if more := f.parent(path[:len(path)-1], alias); more != "" {
		where = append(where, more)
	}
	return "exists (select 1 from " + table + joins + " where " + strings.Join(where, " and ") + ")"
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
func (f *from) columns(q *query.Query, alias string, list *selectList) []Column {
	var out []Column
	fields := q.Select
	if fields == nil {
		fields = f.b.scope.Readable(q.Root.Resource)
	}
	full := f.b.metadata == query.Full
	linked := full && f.b.linked(q.Root.Resource)
	if linked {
		edit := link(q.Root.Resource, alias, list)[0]
		edit.Name = "@editLink"
		out = append(link(q.Root.Resource, alias, list), edit)
	}
	if f.b.tagged(q) {
		out = append(out, Column{Name: "@etag", Kind: Version, At: list.add(alias + ".xmin")})
	}
	for _, field := range fields {
		if full {
			out = f.b.typed(out, field)
		}
		t := field.Type
		if part := q.Parts[field]; part != nil {
			t = part
		}
		sql := shown(alias, field)
		if l := q.Lists[field]; l != nil {
			var count string
			if sql, count = f.elements(sql, l); l.Count {
				out = append(out, Column{Name: field.Name + "@count", Kind: Total, At: list.add(count)})
			}
		}
		c := Column{Name: field.Name, Kind: Plain, Type: t, At: list.add(sql)}
		if i := f.b.mask(field); i >= 0 {
			c = Column{Name: field.Name, Kind: Masked, At: list.add(alias + "." + maskName(i)), Columns: []Column{c}}
		}
		out = append(out, c)
	}
	if q.Root.Resource.Derived {
		out = nested(out)
	}
	for _, c := range q.Computed {
		out = append(out, Column{Name: c.Name, Kind: Plain, Type: c.By.Type(), At: list.add(shownAs(f.own(c.By), c.By.Type()))})
	}
	for _, rel := range q.Root.Resource.Relations {
		if linked && f.b.scope.For(window.Read, rel.To) != nil && q.Shows(rel) {
			along, association := link(q.Root.Resource, alias, list)[0], link(q.Root.Resource, alias, list)[0]
			along.Name, along.Text = rel.Name+"@navigationLink", "/"+rel.Name
			association.Name, association.Text = rel.Name+"@associationLink", "/"+rel.Name+"/$ref"
			out = append(out, association, along)
		}
	}
	for _, e := range q.Expand {
		if e.Relation.Many {
			out = append(out, f.many(q, e, alias, list)...)
		} else {
			out = append(out, f.one(e, list))
		}
	}
	return out
}

// elements are the elements of an array that a list shows, in its order, and their number.
func (f *from) elements(array string, l *query.List) (shown, count string) {
	element := f.b.alias("element")
	f.b.vars[l.Element] = element + ".v"
	g := &from{b: f.b, outer: f, trusted: f.trusted, aliases: map[*query.Row]string{}}
	source := " from unnest(" + array + ") with ordinality " + element + "(v, n)"
	if l.Where != nil {
		source += " where " + g.condition(l.Where, false)
	}
	order := append(g.order(l.Order), orderTerm{sql: element + ".n"})
	shown = "array(select " + element + ".v" + source + orderBy(order)
	if l.Top != nil {
		shown += " limit " + g.expr(l.Top)
	}
	if l.Skip != nil {
		shown += " offset " + g.expr(l.Skip)
	}
	return "(case when " + array + " is not null then " + shown + ") end)", "(select count(*)" + source + ")"
}

// versioned reports whether the rows of a query have versions: those of tables do, as they are.
func (b *builder) versioned(q *query.Query) bool {
	r := q.Root.Resource
	return r.Table.Kind == catalog.Base && r.View == nil && q.Apply == nil
}

// linked reports whether rows of a resource have paths of their own that the role may know.
func (b *builder) linked(r *model.Resource) bool {
	if len(r.Key) == 0 || r.Derived || r.View != nil && r.View.Top != r {
		return false
	}
	d := b.scope.For(window.Read, r)
	return d != nil && !slices.ContainsFunc(r.Key, func(k *model.Field) bool { return !d.Fields[k.Index] })
}

// tagged reports whether the rows of a query show their versions: those that can be addressed and have one do.
func (b *builder) tagged(q *query.Query) bool {
	return b.metadata != query.None && b.versioned(q) && b.linked(q.Root.Resource)
}

// typed adds the type of a field whose value does not show it in JSON (JSON Format, 4.6.3). The standard's own types are named with a
// hash sign in 4.0 alone.
func (b *builder) typed(out []Column, f *model.Field) []Column {
	t, collection := f.Type, ""
	if t.Kind == model.Collection {
		t, collection = t.Element, "Collection("
	}
	c := Column{Name: f.Name + "@type", Kind: Fixed, BuiltIn: true}
	switch t.Kind {
	case model.Enum, model.Complex, model.Range:
		if name := f.Resource.Model.TypeName(t); name != "" {
			if t.Kind != model.Enum && collection == "" {
				return out
			}
			c.BuiltIn, c.Text = false, f.Resource.Model.Namespace()+"."+name
			break
		}
		c.Text = "String"
	case model.JSON, model.Unknown:
		return out
	default:
		c.Text = strings.TrimPrefix(t.Kind.EDM(), "Edm.")
	}
	if collection == "" && (c.Text == "String" || t.Kind == model.Boolean || t.Kind == model.Double) {
		return out
	}
	if c.Text = collection + c.Text; collection != "" {
		c.Text += ")"
	}
	return append(out, c)
}

// shown is a column as the encoders read it: what has no binary form that they know comes as text.
func shown(alias string, field *model.Field) string {
	return shownAs(column(alias, field), field.Type)
}

// shownAs is an expression of a type as the encoders read it. An address comes as its own output function writes it: the cast to text adds
// the length of the network.
func shownAs(sql string, t *model.Type) string {
	switch {
	case t.Kind != model.Opaque:
		return sql
	case t.SQL == "inet":
		return "textin(inet_out(" + sql + "))"
	}
	return sql + "::text"
}

// one adds the record of a relation to one; it is null where there is no row, or none that the role may read.
func (f *from) one(e *query.Expansion, list *selectList) Column {
	alias := f.row(e.Query.Root)
	inner := &selectList{}
	columns := f.shown(e, alias, inner)
	marker := alias + "." + catalog.Quote(e.Relation.Pairs[0].There)
	at := list.add("case when " + marker + " is not null then row(" + inner.String() + ") end")
	return Column{Name: e.Relation.Name, Kind: One, At: at, Columns: columns}
}

// nestedPage is how many rows of a relation are shown for each row of a query, and the limit of SQL that finds out whether there are more.
// Where no path leads to the rest, all are shown.
func (f *from) nestedPage(of *query.Query, e *query.Expansion) (page int64, limit string) {
	if !f.b.paged || !f.b.linked(of.Root.Resource) || of.Root.Resource.View != nil || e.Only == "count" {
		return 0, ""
	}
	most := int64(e.Relation.To.Page.Max)
	if own := int64(f.b.scope.Limits.Rows); own > 0 && (most == 0 || own < most) {
		most = own
	}
	if e.Query.Top != nil && most == 0 {
		return 0, ""
	}
	if e.Query.Top == nil {
		most = min(int64(e.Relation.To.Page.Default), cmp.Or(most, math.MaxInt64))
	}
	return most, strconv.FormatInt(most+1, 10)
}

// way names the relations that lead to a row from the rows of the request.
func way(row *query.Row) string {
	if row.Via == nil {
		return ""
	}
	return strings.TrimPrefix(way(row.Parent)+"/"+row.Via.Name, "/")
}

// many adds the array of a relation to many, gathered beside each row, and its total where that is asked for.
func (f *from) many(of *query.Query, e *query.Expansion, alias string, list *selectList) []Column {
	b, q, rel := f.b, e.Query, e.Relation
	there := b.alias(rel.To.Name)
	g := b.from(q.Root, there, f.trusted)
	g.outer = f // of $it
	table, tied := b.collection(rel, alias, there, f.trusted)
	source := "\n  from " + table
	inner := &selectList{}
	columns := g.shown(e, there, inner)
	where := append([]string{tied}, g.where(q, there)...)
	order := orderBy(g.order(q.Order))
	gathered := b.alias("gathered")
	sql := "select " + named(inner) + source + g.joins.String() + whereClause(where) + order
	page, most := f.nestedPage(of, e)
	switch {
	case q.Top != nil && most != "":
		sql += "\n  limit least(" + g.expr(q.Top) + ", " + most + ")"
	case q.Top != nil:
		sql += "\n  limit " + g.expr(q.Top)
	case most != "":
		sql += "\n  limit " + most
	}
	if q.Skip != nil {
		sql += "\n  offset " + g.expr(q.Skip)
	}
	if e.Only != "count" {
		fmt.Fprintf(&f.joins, "\nleft join lateral (\n  select array_agg(row(%s)) as rows from (%s) r\n) %s on true",
			numbered("r", len(inner.items)), sql, gathered)
	}
	out := []Column{}
	if q.Count || e.Only == "count" {
		h := b.from(q.Root, there, f.trusted)
		h.outer = f
		total := append([]string{tied}, h.where(q, there)...)
		counted := b.alias("gathered")
		fmt.Fprintf(&f.joins, "\nleft join lateral (\n  select count(*) as total%s%s%s\n) %s on true", source, h.joins.String(),
			whereClause(total), counted)
		out = append(out, Column{Name: rel.Name + "@count", Kind: Total, At: list.add(counted + ".total")})
	}
	if e.Only == "count" {
		return out
	}
	c := Column{Name: rel.Name, Kind: Many, At: list.add(gathered + ".rows"), Columns: columns}
	if page > 0 {
		c.Page, c.Next, c.Way = page, &link(of.Root.Resource, alias, list)[0], way(q.Root)
		if e.Only == "ref" {
			c.Way += "/$ref"
		}
		if e.OfIt {
			it := of.Root
			for it.Parent != nil {
				it = it.Parent
			}
			c.It = &link(it.Resource, f.row(it), list)[0]
		}
	}
	return append(out, c)
}

// shown adds what the rows of an expansion show: their columns, or no more than their links.
func (f *from) shown(e *query.Expansion, alias string, list *selectList) []Column {
	if e.Only == "ref" {
		return link(e.Relation.To, alias, list)
	}
	return f.columns(e.Query, alias, list)
}

// answer adds what the rows of a request show.
func (f *from) answer(q *query.Query, alias string, list *selectList) []Column {
	if q.View == query.Refs {
		return link(q.Root.Resource, alias, list)
	}
	return f.columns(q, alias, list)
}

// link adds the key of a row, of which its path is made.
func link(r *model.Resource, alias string, list *selectList) []Column {
	c := Column{Name: "@id", Kind: Link, Resource: r}
	for _, k := range r.Key {
		c.Columns = append(c.Columns, Column{Kind: Plain, Type: k.Type, At: list.add(shown(alias, k))})
	}
	return []Column{c}
}

// collection is the rows at the far end of a relation to many, as a FROM item, and the condition that ties them to the near row.
func (b *builder) collection(rel *model.Relation, near, there string, trusted bool) (table, link string) {
	table = b.source(rel.To, trusted) + " " + there
	if rel.Through == nil {
		return table, pairs(rel.Pairs, near, there)
	}
	junction := b.alias("junction")
	return table + "\n  join " + rel.Through.Table.QualifiedName() + " " + junction + " on " + pairs(rel.Through.There, junction, there),
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

// orderTerm is one term of an ORDER BY.
type orderTerm struct{ sql, direction string }

// order writes the terms of an order. Null comes before everything (Protocol, 11.2.6.2); columns that can't be null don't say
// so, as only then an index serves the order.
func (f *from) order(terms []query.Term) []orderTerm {
	out := make([]orderTerm, len(terms))
	for i, t := range terms {
		out[i].sql = f.own(t.By)
		switch null := f.nullable(t.By); {
		case t.Desc && null:
			out[i].direction = " desc nulls last"
		case t.Desc:
			out[i].direction = " desc"
		case null:
			out[i].direction = " nulls first"
		}
	}
	return out
}

func orderBy(terms []orderTerm) string {
	if len(terms) == 0 {
		return ""
	}
	parts := make([]string, len(terms))
	for i, t := range terms {
		parts[i] = t.sql + t.direction
		if bare := strings.Trim(t.sql, "()"); bare == "true" || bare == "false" { // no constant may stand there by itself
			parts[i] = t.sql + "::boolean" + t.direction
		}
	}
	return "\norder by " + strings.Join(parts, ", ")
}

// after is the condition for the rows that come after one whose order values are the arguments: less or greater in the first
// value, or equal there and after it in the rest.
func (f *from) after(terms []query.Term, null []bool) string {
	values := make([]string, len(terms))
	columns := make([]string, len(terms))
	plain, oneWay := true, true
	for i, t := range terms {
		columns[i] = f.own(t.By)
		if !null[i] {
			values[i] = f.b.arg(Slot{Role: After, Index: i}, t.By.Type().SQL)
			if t.By.Type().Kind == model.Instant && t.By.Type().Local {
				values[i] = "(" + f.b.arg(Slot{Role: After, Index: i}, "timestamptz") + " at time zone 'UTC')"
			}
		}
		plain = plain && !f.nullable(t.By)
		oneWay = oneWay && t.Desc == terms[0].Desc
	}
	operator := map[bool]string{false: " > ", true: " < "}
	if plain && oneWay {
		return "((" + strings.Join(columns, ", ") + ")" + operator[terms[0].Desc] + "(" + strings.Join(values, ", ") + "))"
	}
	condition := ""
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
			if desc && f.nullable(terms[i].By) {
				beyond = "(" + beyond + " or " + c + " is null)"
			}
		}
		if condition == "" {
			condition = beyond
		} else {
			condition = "(" + beyond + " or (" + equal + " and " + condition + "))"
		}
	}
	if !null[0] && !f.nullable(terms[0].By) {
		// Says nothing new, but lets an index begin where the last page ended.
		bound := map[bool]string{false: " >= ", true: " <= "}[terms[0].Desc]
		condition = "(" + columns[0] + bound + values[0] + " and " + condition + ")"
	}
	return condition
}
