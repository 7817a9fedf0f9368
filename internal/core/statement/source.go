package statement

import (
	"strconv"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// source is what follows FROM for a resource. A trusted reader sees all of it.
func (b *builder) source(r *model.Resource, trusted bool) string {
	if trusted {
		return b.whole(r)
	}
	return b.readable(r, window.Read)
}

// whole is the table of a resource, or what is read like one.
func (b *builder) whole(r *model.Resource) string {
	switch {
	case r.Query != nil:
		return b.namedQuery(r.Query)
	case r.View != nil:
		return b.savedView(r)
	}
	return r.Table.QualifiedName()
}

// hides reports whether the caller, who has several roles, may not read some fields in some rows of the resource.
func (b *builder) hides(r *model.Resource) bool {
	d := b.scope.For(window.Read, r)
	return d != nil && d.Masks != nil
}

// readable is a resource whole, or where fields are hidden in some rows, those of its rows that the caller may do the operations with,
// each with the fields that are its to read there.
func (b *builder) readable(r *model.Resource, operations ...window.Operation) string {
	if !b.hides(r) {
		return b.whole(r)
	}
	return b.masked(r, b.whole(r), nil, func(alias string) (list, where []string, joins string) {
		for _, op := range operations {
			var all []access.AnyOf
			if d := b.scope.For(op, r); d != nil {
				all = d.Rules(b.given(op), false)
			}
			if rule, more := b.meets(all, alias); rule != "" {
				where, joins = append(where, rule), joins+more
			}
		}
		return nil, where, joins
	})
}

// shownOf is what a statement has written, under the name of written, with the fields that the caller may read in each row, and whether
// it meets the rules of the operation and of reading; more are columns besides.
func (b *builder) shownOf(r *model.Resource, op window.Operation, more ...string) string {
	return b.masked(r, "written", more, func(alias string) (list, where []string, joins string) {
		for _, guard := range []struct {
			op   window.Operation
			name string
		}{{op, keptRow}, {window.Read, readableRow}} {
			rule, more := b.meets(b.scope.For(guard.op, r).Rules(b.given(guard.op), true), alias)
			if rule == "" {
				rule = "true"
			}
			list, joins = append(list, "coalesce("+rule+", false) as "+guard.name), joins+more
		}
		return list, nil, joins
	})
}

// The names of the columns in which a row that was written reports whether it meets the rules.
const (
	keptRow     = `"kept row"`
	readableRow = `"readable row"`
)

// masked hides fields in the rows of a table in which a caller with several roles may not read them: they are null there, and a column
// says so. Whatever the rest of the statement does with them, it never sees more. more are columns besides those of the table; with asks
// more of the rows, as the table has them.
func (b *builder) masked(r *model.Resource, table string, more []string, with func(alias string) (list, where []string,
	joins string)) string {
	alias := b.alias(r.Name)
	list, where, joins := with(alias)
	conditions := map[string]string{}
	for i, m := range b.scope.For(window.Read, r).Masks {
		condition, more := b.anyOf(m.Rules, alias)
		conditions[m.Field.Column.Name] = condition
		list, joins = append(list, "coalesce("+condition+", false) as "+maskName(i)), joins+more
	}
	for _, c := range r.Table.Columns {
		value := alias + "." + catalog.Quote(c.Name)
		if condition, ok := conditions[c.Name]; ok {
			value = "case when " + condition + " then " + value + " end as " + catalog.Quote(c.Name)
		}
		list = append(list, value)
	}
	if r.Table.Kind == catalog.Base {
		more = append([]string{rowVersion}, more...)
	}
	for _, name := range more {
		list = append(list, alias+"."+name)
	}
	return "(select " + strings.Join(list, ", ") + "\n  from " + table + " " + alias + joins + whereClause(where) + ")"
}

// mask is the place of a field among those that are hidden in some rows, -1 where it is not.
func (b *builder) mask(f *model.Field) int {
	if !b.hides(f.Resource) {
		return -1
	}
	return b.scope.For(window.Read, f.Resource).MaskOf(f)
}

// maskName is the name of the column that says in which rows a field is shown.
func maskName(i int) string { return catalog.Quote("shown " + strconv.Itoa(i)) }

// namedQuery is the document's statement with arguments in the places of its parameters.
func (b *builder) namedQuery(q *model.NamedQuery) string {
	b.isolated = true
	f := &from{b: b}
	var sql strings.Builder
	for _, piece := range q.Pieces {
		if piece.Parameter < 0 {
			sql.WriteString(piece.Text)
		} else {
			sql.WriteString("(" + f.value(&b.params[piece.Parameter], b.params[piece.Parameter].T.SQL) + ")")
		}
	}
	return "(\n" + strings.TrimRight(sql.String(), " \t\n;") + "\n)"
}

// savedView is the table underneath, with the view's values beside its columns and no more than the view's rows. What lies
// underneath is the view's to show: no rule of the role holds there.
func (b *builder) savedView(r *model.Resource) string {
	v := b.scope.View(r)
	table := b.source(r.View.Of, true)
	if v.Filter == nil && len(v.Values) == 0 {
		return table
	}
	alias := b.alias(r.View.Of.Name)
	f := b.from(v.Root, alias, true)
	list := alias + ".*"
	for _, value := range v.Values {
		list += ", " + f.own(value.By) + " as " + catalog.Quote(value.Column)
	}
	where := ""
	if v.Filter != nil {
		where = " where " + f.condition(v.Filter, false)
	}
	return "(select " + list + " from " + table + " " + alias + f.joins.String() + where + ")"
}
