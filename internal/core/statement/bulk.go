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

// The plans here write many rows in one statement. Their input is lists, one for each key field and each field that is given, in
// the order of the rows; of a field that only some rows give, a second list says which. A plan's Total is the number of rows that were
// written, its Missing tells those that there were none for. Where the rows are to be shown, each comes back with its number instead.

// Given is a field that the rows of a bulk write give.
type Given struct {
	Field *model.Field
	Some  bool // not all rows give it
}

func (b *builder) gives(given []Given) {
	for _, g := range given {
		b.fields = append(b.fields, g.Field)
	}
}

// input is the lists of a bulk write as rows: keys k0, k1 …, versions that the rows must have, values v0 …, whether they are given g0 …,
// the number of the row n.
func (b *builder) input(keys []*model.Field, versioned bool, given []Given) string {
	var lists, names []string
	add := func(name, list string) {
		lists = append(lists, b.arg(Slot{Role: Listed, Index: len(lists)}, list))
		names = append(names, name)
	}
	for i := range keys {
		add(fmt.Sprintf("k%d", i), "text[]")
	}
	if versioned {
		add("version", "text[]")
	}
	for i, g := range given {
		add(fmt.Sprintf("v%d", i), "text[]")
		if g.Some {
			add(fmt.Sprintf("g%d", i), "boolean[]")
		}
	}
	return "input as (\n  select * from unnest(" + strings.Join(lists, ", ") + ") with ordinality i(" + strings.Join(names, ", ") + ", n)\n)"
}

// listed is a value of the input as its type.
func listed(name string, t *model.Type) string {
	if t.Kind == model.Instant && t.Local {
		return "(input." + name + "::timestamptz at time zone 'UTC')"
	}
	return "input." + name + "::" + t.SQL
}

// DeleteRows plans the deletion of rows by their keys, some of which must have a version.
func DeleteRows(r *model.Resource, versioned bool, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	input := b.input(r.Key, versioned, nil)
	alias := b.alias(r.Name)
	using, where := b.byKeys(r, alias, versioned, window.Delete)
	write := "delete from " + r.Table.QualifiedName() + " " + alias + "\n  using " + using + "\n  where " + where + " returning input.n as " + rowNumber
	return b.written(input, write, nil, "")
}

// UpdateRows plans the change of rows by their keys, some of which must have a version.
func UpdateRows(q *request.Query, versioned bool, given []Given, scope *access.Scope, show bool) *Plan {
	b := newBuilder(scope)
	r := q.Root.Resource
	input := b.input(r.Key, versioned, given)
	b.gives(given)
	alias := b.alias(r.Name)
	set := []string{}
	for i, g := range given {
		name := catalog.Quote(g.Field.Column.Name)
		value := listed(fmt.Sprintf("v%d", i), g.Field.Type)
		if g.Some {
			value = fmt.Sprintf("case when input.g%d then %s else %s.%s end", i, value, alias, name)
		}
		set = append(set, name+" = "+value)
	}
	names, values := b.assignments(nil, scope.For(window.Update, r).Set)
	for i := range names {
		set = append(set, names[i]+" = "+values[i])
	}
	using, where := b.byKeys(r, alias, versioned, window.Update)
	write := updating(r.Table, alias, set, using, where)(alias + ".*, input.n as " + rowNumber)
	if show {
		return b.numbered(input+", written as (\n  "+write+"\n)", q, window.Update)
	}
	return b.written(input, write, q.Root, window.Update)
}

// CreateRows plans the insertion of rows. A field that only some of them give goes to its default in the others.
func CreateRows(q *request.Query, given []Given, scope *access.Scope, show bool) *Plan {
	b := newBuilder(scope)
	r := q.Root.Resource
	input := b.input(nil, false, given)
	b.gives(given)
	var names, values []string
	for i, g := range given {
		value := listed(fmt.Sprintf("v%d", i), g.Field.Type)
		if g.Some {
			value = fmt.Sprintf("case when input.g%d then %s else %s end", i, value, defaultOf(g.Field))
		}
		names, values = append(names, catalog.Quote(g.Field.Column.Name)), append(values, value)
	}
	setNames, setValues := b.assignments(nil, scope.For(window.Create, r).Set)
	names, values = append(names, setNames...), append(values, setValues...)
	write := "insert into " + r.Table.QualifiedName() + " (" + strings.Join(names, ", ") + ")\n  select " + strings.Join(values, ", ") + " from input order by input.n returning *"
	if show { // they come back in the order in which they were inserted
		return b.numbered(input+", inserted as (\n  "+write+"\n), written as (\n  select *, row_number() over () as "+rowNumber+" from inserted\n)", q, window.Create)
	}
	return b.written(input, write, q.Root, window.Create)
}

// defaultOf is what a field that is not given goes to, as an expression: DEFAULT itself can't stand in a query.
func defaultOf(f *model.Field) string {
	switch c := f.Column; {
	case c.Identity != catalog.NoIdentity:
		return fmt.Sprintf("nextval(pg_get_serial_sequence(%s, %s))", literal(f.Resource.Table.QualifiedName()), literal(c.Name))
	case c.Default != "":
		return "(" + c.Default + ")"
	}
	return "null"
}

// literal is a text in SQL.
func literal(s string) string {
	if strings.Contains(s, `\`) {
		return " E'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(s) + "'"
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}

// rowNumber is the name of the column in which a written row tells which one of the input it is.
const rowNumber = `"row number"`

// byKeys joins a table to the keys of the input, as far as the role may write its rows.
func (b *builder) byKeys(r *model.Resource, alias string, versioned bool, op window.Operation) (using, where string) {
	var ties []string
	if versioned {
		ties = append(ties, "(input.version is null or "+alias+".xmin = input.version::xid)")
	}
	for i, k := range r.Key {
		ties = append(ties, column(alias, k)+" = "+listed(fmt.Sprintf("k%d", i), k.Type))
	}
	using = "input"
	more, covered := b.covered(op, r, alias)
	if more != "" {
		using += ", " + more
	}
	return using, strings.Join(append(ties, covered...), " and ")
}

// numbered answers a bulk write with its rows as the query shows them, with guards of their own.
func (b *builder) numbered(with string, q *request.Query, op window.Operation) *Plan {
	plan := newPlan()
	plan.Many = true
	r := q.Root.Resource
	alias := b.alias(r.Name)
	f := b.from(q.Root, alias, false)
	list, source := &selectList{}, "written"
	if b.scope.For(window.Read, r) != nil {
		plan.Columns = f.columns(q, alias, list)
	}
	plan.Number = list.add(alias + "." + rowNumber)
	if b.hides(r) {
		source = b.shownOf(r, op, rowNumber)
	}
	b.guards(f, list, op, r, alias, &plan.Guards)
	plan.SQL = "with " + with + "\nselect " + list.String() + "\nfrom " + source + " " + alias + f.joins.String()
	plan.Slots = b.slots
	return plan
}

// written counts what a bulk write has written and tells what it has not. root is nil where no row is left to be looked at.
func (b *builder) written(input, write string, root *request.Row, op window.Operation) *Plan {
	plan := newPlan()
	alias, joins := "w", ""
	list := &selectList{}
	plan.Total = list.add("count(*)")
	if op != window.Create {
		plan.Missing = list.add("(select string_agg(input.n::text, ',' order by input.n) from input where not exists (select from written where written." + rowNumber + " = input.n))")
	}
	if root != nil {
		alias = b.alias(root.Resource.Name)
		f := b.from(root, alias, false)
		if rule, more := b.kept(op, root.Resource, alias); rule != "" {
			f.joins.WriteString(more)
			plan.Guards.Kept = list.add("coalesce(bool_and(" + rule + "), true)")
		}
		joins = f.joins.String()
	}
	plan.SQL = "with " + input + ", written as (\n  " + write + "\n)\nselect " + list.String() + "\nfrom written " + alias + joins
	plan.Slots = b.slots
	return plan
}
