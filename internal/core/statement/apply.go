package statement

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
)

// origin is what follows FROM for the rows that a query speaks of: its resource, or what apply makes of that.
func (b *builder) origin(q *query.Query) string {
	if q.Apply == nil {
		return b.source(q.Root.Resource, false)
	}
	return b.phase(q, q.Apply, len(q.Apply.Phases)-1)
}

// stage is a SELECT that grows: rows of a FROM item under an alias, and what they must meet.
type stage struct {
	f     *from
	root  *query.Row
	alias string
	table string
	where []string
}

func (b *builder) stage(root *query.Row, table, alias string) *stage {
	return &stage{f: b.from(root, alias, false), root: root, alias: alias, table: table}
}

func (s *stage) sql(list string) string {
	return "select " + list + "\nfrom " + s.table + " " + s.alias + s.f.joins.String() + whereClause(s.where)
}

// join adds the rows of a relation to many beside each row.
func (f *from) join(step query.Step) {
	source, g := f.over(query.Collection{Row: step.Join})
	alias := g.aliases[step.Join]
	f.aliases[step.Join] = alias
	where := source.where
	if step.Where != nil {
		where = append(where, g.condition(step.Where, false))
	}
	kind := "cross join lateral"
	on := ""
	if step.Outer {
		kind, on = "left join lateral", " on true"
	}
	fmt.Fprintf(&f.joins, "\n%s (select %s.* from %s%s%s) %s%s", kind, alias, source.table, g.joins.String(), whereClause(where), alias, on)
}

// nests is the list and the FROM of the one row that holds the results of chains.
func (b *builder) nests(q *query.Query, list *selectList) []Column {
	var out []Column
	for _, n := range q.Nests {
		alias := b.alias("nest")
		inner := &selectList{}
		table := b.origin(n.Query)
		f := b.from(n.Query.Root, alias, false)
		columns := f.columns(n.Query, alias, inner)
		sql := "(select array_agg(row(" + numbered("r", len(inner.items)) + ")) from (select " + named(inner) + " from " + table + " " + alias +
			f.joins.String() + orderBy(f.order(n.Query.Order)) + ") r)"
		out = append(out, Column{Name: n.Name, Kind: Many, At: list.add(sql), Columns: columns})
	}
	return out
}

// closed makes the rows of a SELECT, with that list and those ends, the ones that a new stage begins with.
func (s *stage) closed(list, ends string) *stage {
	return s.f.b.stage(s.root, "(\n"+s.sql(list)+ends+"\n)", s.alias)
}

// phase is the FROM item of a phase's rows, its steps done.
func (b *builder) phase(q *query.Query, a *query.Apply, i int) string {
	s := b.steps(q, a, i)
	if i > 0 && len(a.Phases[i].Steps) == 0 {
		return s.table
	}
	return "(\n" + s.sql(s.alias+".*") + "\n)"
}

// steps does what a phase does with its rows.
func (b *builder) steps(q *query.Query, a *query.Apply, i int) *stage {
	phase := a.Phases[i]
	alias := b.alias(phase.Root.Resource.Name)
	var s *stage
	switch {
	case phase.Branches != nil:
		s = b.stage(phase.Root, b.union(q, phase), alias)
	case phase.Prefix != nil:
		s = b.stage(phase.Root, b.prefix(q, phase.Prefix), alias)
	case i > 0:
		s = b.stage(phase.Root, b.grouped(q, a, i-1), alias)
	default:
		s = b.stage(phase.Root, b.source(phase.Root.Resource, false), alias)
		s.where = s.f.granted(q, phase.Root.Resource, alias)
	}
	for _, step := range phase.Steps {
		s = s.step(step)
	}
	return s
}

func (s *stage) step(step query.Step) *stage {
	if step.Join != nil {
		s.f.join(step)
		return s
	}
	if step.Where != nil {
		s.where = append(s.where, s.f.condition(step.Where, false))
	}
	order := orderBy(s.f.order(step.Order))
	if r := step.Running; r != nil {
		// The sum of all rows before one reports whether that one is still needed.
		by := "(" + s.f.expr(r.By) + ")::numeric"
		s.where = append(s.where, by+" is not null")
		mark := s.f.b.alias("running")
		before, all := catalog.Quote("before "+mark), catalog.Quote("all "+mark)
		s = s.closed(s.alias+".*, coalesce(sum("+by+") over ("+strings.TrimSpace(order)+
			" rows between unbounded preceding and 1 preceding), 0) as "+before+", sum("+by+") over () as "+all, "")
		amount := s.f.value(r.Amount, "numeric")
		if r.Percent {
			amount = "(" + amount + " * " + s.alias + "." + all + " / 100)"
		}
		s.where = append(s.where, s.alias+"."+before+" < "+amount)
		return s.closed(s.alias+".*", "")
	}
	if step.Top == nil && step.Skip == nil {
		return s // an order that cuts nothing is nobody's to see
	}
	ends := order
	if step.Top != nil {
		ends += "\nlimit " + s.f.expr(step.Top)
	}
	if step.Skip != nil {
		ends += " offset " + s.f.expr(step.Skip)
	}
	return s.closed(s.alias+".*", ends)
}

// grouped is the FROM item of the groups that a phase makes: the keys come first, so that the groups can name their places.
func (b *builder) grouped(q *query.Query, a *query.Apply, i int) string {
	s, g := b.steps(q, a, i), a.Phases[i].Group
	list := make([]string, len(g.Fields))
	for k, by := range g.Keys {
		list[k] = s.f.converted(s.f.unwrapped(by), g.Fields[k].Type)
	}
	for k, aggregate := range g.Aggregates {
		list[len(g.Keys)+k] = s.f.aggregate(aggregate, g.Fields[len(g.Keys)+k].Type)
	}
	for k, f := range g.Fields {
		list[k] += " as " + catalog.Quote(f.Name)
	}
	group := ""
	switch {
	case g.Sets != nil:
		sets := make([]string, len(g.Sets))
		for i, set := range g.Sets {
			sets[i] = "(" + places(set) + ")"
		}
		group = "\ngroup by grouping sets (" + strings.Join(sets, ", ") + ")"
	case len(g.Keys) > 0:
		all := make([]int, len(g.Keys))
		for k := range all {
			all[k] = k
		}
		group = "\ngroup by " + places(all)
	}
	return "(\n" + s.sql(strings.Join(list, ", ")) + group + "\n)"
}

// places counts columns from 1, as GROUP BY does.
func places(columns []int) string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = strconv.Itoa(c + 1)
	}
	return strings.Join(out, ", ")
}

func (f *from) aggregate(a query.Aggregate, t *model.Type) string {
	if a.Method == "$count" {
		return "count(*)" + f.filtered(a.Where)
	}
	by, of := f.expr(a.By), a.By.Type()
	switch {
	case of.Kind == model.Instant:
		by = instant(by, of)
	case a.Method == "sum" || a.Method == "average":
		by = "(" + by + ")::" + plainSQL(t)
	case isTextual(of):
		by = "(" + by + ")::text"
	}
	sql := map[string]string{"sum": "sum(", "min": "min(", "max": "max(", "average": "avg(", "countdistinct": "count(distinct "}[a.Method] +
		by + ")" + f.filtered(a.Where)
	return "(" + sql + ")::" + plainSQL(t)
}

func isTextual(t *model.Type) bool { return t.Kind == model.String }

// filtered limits an aggregate to the rows that meet a condition.
func (f *from) filtered(where query.Expr) string {
	if where == nil {
		return ""
	}
	return " filter (where " + f.condition(where, false) + ")"
}

// prefix names the rows that the branches of concat begin with: a part of the statement that stands before it, once.
func (b *builder) prefix(q *query.Query, a *query.Apply) string {
	if name, ok := b.prefixes[a]; ok {
		return name
	}
	rows := b.phase(q, a, len(a.Phases)-1)
	name := catalog.Quote("rows " + strconv.Itoa(len(b.prefixes)+1))
	b.prefixes[a] = name
	b.with = append(b.with, name+" as (select * from "+rows+" r)")
	return name
}

// withPrefixes is what stands before the statement.
func (b *builder) withPrefixes() string {
	if b.with == nil {
		return ""
	}
	return "with " + strings.Join(b.with, ", ") + "\n"
}

// union is the FROM item of the rows of all branches, in columns of one type.
func (b *builder) union(q *query.Query, phase *query.Phase) string {
	parts := make([]string, len(phase.Branches))
	for i, branch := range phase.Branches {
		last := branch.Phases[len(branch.Phases)-1].Root.Resource
		alias := b.alias("branch")
		list := make([]string, len(phase.Root.Resource.Fields))
		for k, f := range phase.Root.Resource.Fields {
			value := "null"
			if own := last.Field(f.Name); own != nil {
				value = column(alias, own)
			}
			list[k] = value + "::" + plainSQL(f.Type) + " as " + catalog.Quote(f.Name)
		}
		parts[i] = "select " + strings.Join(list, ", ") + "\nfrom " + b.phase(q, branch, len(branch.Phases)-1) + " " + alias
	}
	return "(\n" + strings.Join(parts, "\nunion all\n") + "\n)"
}

// nested puts columns whose names are paths into objects: vessel/kind stands in vessel as kind.
func nested(columns []Column) []Column {
	var out []Column
	for _, c := range columns {
		list, name := &out, c.Name
		for {
			first, rest, deeper := strings.Cut(name, "/")
			if !deeper {
				break
			}
			at := slices.IndexFunc(*list, func(o Column) bool { return o.Kind == Object && o.Name == first })
			if at < 0 {
				*list = append(*list, Column{Name: first, Kind: Object})
				at = len(*list) - 1
			}
			list, name = &(*list)[at].Columns, rest
		}
		c.Name = name
		*list = append(*list, c)
	}
	return out
}
