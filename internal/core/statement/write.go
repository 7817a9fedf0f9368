package statement

import (
	"fmt"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// Create plans the insertion of one row. Body slots stand for the fields in their order; presets are added. The row as
// stored comes back as the query selects and expands it, with the guards that report whether it meets the role's rule and whether
// the role may read it.
func Create(q *query.Query, fields []*model.Field, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	b.metadata = q.Metadata
	b.fields = fields
	r := q.Root.Resource
	names, values := b.assignments(fields, scope.For(window.Create, r).Set, false)
	alias := b.alias(r.Name)
	insert := "insert into " + r.Table.QualifiedName() + " as " + alias
	if len(names) == 0 {
		insert += " default values"
	} else {
		insert += " (" + strings.Join(names, ", ") + ")\n  values (" + strings.Join(values, ", ") + ")"
	}
	return b.answer(returning(insert), alias, q, window.Create)
}

// writing is a statement that writes rows and answers with a list of values for each.
type writing func(list string) string

func returning(write string) writing {
	return func(list string) string { return write + " returning " + list }
}

// Update plans the change of one row; defaults are fields that go to their default. The role's rule must hold for the row before
// and after. Where it is conditional, the row must have one of the versions that the request gives.
func Update(q *query.Query, fields, defaults []*model.Field, scope *access.Scope, conditional bool) *Plan {
	b := newBuilder(scope)
	b.metadata = q.Metadata
	b.fields = fields
	r := q.Root.Resource
	alias := b.alias(r.Name)
	set := b.changes(fields, alias, scope.For(window.Update, r).Set)
	b.fields = slices.Concat(fields, defaults)
	for _, f := range defaults {
		set = append(set, catalog.Quote(f.Column.Name)+" = default")
	}
	where := b.target(q, alias, window.Update, conditional)
	return b.answer(updating(r.Table, alias, set, "", where), alias, q, window.Update)
}

// updating changes rows of a table. Where nothing is set, as where a write is of relations alone, a column is set to what it is: the
// row's rule and version count all the same. In a table where no column can be set, the rows are locked; of a view they are read.
func updating(t *catalog.Table, alias string, set []string, using, where string) writing {
	settable := func(c *catalog.Column) bool { return !c.Generated && c.Identity != catalog.Always }
	if i := slices.IndexFunc(t.Columns, settable); len(set) == 0 && i >= 0 && t.Writable() {
		name := catalog.Quote(t.Columns[i].Name)
		set = []string{name + " = " + alias + "." + name}
	}
	if len(set) > 0 {
		if using != "" {
			using = "\n  from " + using
		}
		return returning(fmt.Sprintf("update %s %s set %s%s\n  where %s", t.QualifiedName(), alias, strings.Join(set, ", "), using, where))
	}
	if using != "" {
		using = ", " + using
	}
	lock := ""
	if t.Writable() {
		lock = " for no key update of " + alias
	}
	return func(list string) string {
		return fmt.Sprintf("select %s from %s %s%s\n  where %s%s", list, t.QualifiedName(), alias, using, where, lock)
	}
}

// Delete plans the deletion of one row.
func Delete(q *query.Query, scope *access.Scope, conditional bool) *Plan {
	b := newBuilder(scope)
	r := q.Root.Resource
	alias := b.alias(r.Name)
	where := b.target(q, alias, window.Delete, conditional)
	sql := fmt.Sprintf("delete from %s %s\nwhere %s returning true", r.Table.QualifiedName(), alias, where)
	plan := newPlan()
	plan.SQL, plan.Slots = sql, b.slots
	return plan
}

// UpdateEach plans the change of every row that the filter of a path meets and the role may write; the plan's Total is their number.
// Its guard reports whether all of them still meet the rule. Where they are to be shown, each comes back as a row with guards of its own.
func UpdateEach(q *query.Query, fields []*model.Field, scope *access.Scope, show bool) *Plan {
	b := newBuilder(scope)
	b.metadata = q.Metadata
	b.fields = fields
	r := q.Root.Resource
	target, alias, same := b.matching(q, window.Update, true)
	set := b.changes(fields, alias, scope.For(window.Update, r).Set)
	write := fmt.Sprintf("update %s %s set %s\n  from target where %s returning %s.*%s", r.Table.QualifiedName(), alias,
		strings.Join(set, ", "), same, alias, returnedVersion(r.Table, alias, window.Update))
	plan := newPlan()
	written := b.alias(r.Name)
	f := b.from(q.Root, written, false)
	list, source := &selectList{}, "written"
	if show {
		plan.ReturnsRows = true
		plan.Columns = f.columns(q, written, list)
		if b.hides(r) {
			source = b.shownOf(r, window.Update)
		}
		b.guards(f, list, window.Update, r, written, &plan.Guards)
	} else {
		plan.Total = list.add("count(*)")
		if rule, joins := b.kept(window.Update, r, written); rule != "" {
			f.joins.WriteString(joins)
			plan.Guards.RuleHolds = list.add("coalesce(bool_and(" + rule + "), true)")
		}
	}
	plan.SQL = "with target as (\n  " + target + "\n), written as (\n  " + write + "\n)\nselect " + list.String() + "\nfrom " + source + " " +
		written + f.joins.String()
	plan.Slots, plan.Body = b.slots, fields
	return plan
}

// DeleteEach plans the deletion of every row that the filter of a path meets and the role may delete; the plan's Total is their
// number.
func DeleteEach(q *query.Query, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	target, alias, same := b.matching(q, window.Delete, true)
	plan := newPlan()
	plan.Total = 0
	plan.SQL = fmt.Sprintf("with target as (\n  %s\n), gone as (\n  delete from %s %s using target where %s returning true\n)\nselect "+
		"count(*) from gone", target, q.Root.Resource.Table.QualifiedName(), alias, same)
	plan.Slots = b.slots
	return plan
}

// LocksFirst reports whether rows that a caller writes by a filter, or ties, have to be locked by a statement of their own before it is
// judged which they are: where fields are hidden in some rows, they stand in a subquery with outer joins, whose rows the database does not
// lock.
func LocksFirst(r *model.Resource, scope *access.Scope) bool {
	return newBuilder(scope).hides(r) && r.Table.Writable()
}

// LockEach plans that the rows are locked which UpdateEach and DeleteEach would write as things stand; the plan's Total is their number.
func LockEach(q *query.Query, op window.Operation, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	target, alias, same := b.matching(q, op, false)
	plan := newPlan()
	plan.Total = 0
	plan.SQL = fmt.Sprintf("with target as (\n  %s\n), locked as (\n  select 1 from %s %s, target where %s for update of %s\n)\nselect "+
		"count(*) from locked", target, q.Root.Resource.Table.QualifiedName(), alias, same, alias)
	plan.Slots = b.slots
	return plan
}

// EstimateWrite plans how many rows a write of every row of a filter would write: the plan's Total.
func EstimateWrite(q *query.Query, scope *access.Scope, op window.Operation) *Plan {
	b := newBuilder(scope)
	plan := newPlan()
	plan.Uses = b.uses
	target, _, _ := b.matching(q, op, false)
	plan.Total = 0
	plan.SQL, plan.Slots = "with target as (\n  "+target+"\n)\nselect count(*) from target", b.slots
	return plan
}

// matching selects the keys of the rows that a filter meets and the role may write, and tells how a row is tied to its key. The
// filter sees the rows that the role may read, so that what it can't read can't be told from what is written. The rows are locked before
// they are judged, so that one which stops matching while its lock is waited for is left alone; that can't be done where fields are hidden
// in some rows, as the database locks no rows of a subquery with outer joins.
func (b *builder) matching(q *query.Query, op window.Operation, lock bool) (target, alias, same string) {
	r := q.Root.Resource
	inner := b.alias(r.Name)
	f := b.from(q.Root, inner, false)
	where := f.where(q, inner)
	table := b.readable(r, window.Read, op)
	if !b.hides(r) { // else the rows are those that the rule covers
		if rule, joins := b.rule(op, r, inner); rule != "" {
			f.joins.WriteString(joins)
			where = append(where, rule)
		}
	}
	alias = b.alias(r.Name)
	keys, ties := make([]string, len(r.Key)), make([]string, len(r.Key))
	for i, k := range r.Key {
		keys[i] = column(inner, k)
		ties[i] = column(alias, k) + " = " + column("target", k)
	}
	target = "select " + strings.Join(keys, ", ") + " from " + table + " " + inner + f.joins.String() + whereClause(where)
	if lock && !b.hides(r) && r.Table.Writable() {
		target += "\n  for update of " + inner
	}
	return target, alias, strings.Join(ties, " and ")
}

// writtenVersion is the version of a row that a statement writes; "" where there is none: only tables have them. A new row of a
// partitioned table does not tell the number of its transaction, which is the one that runs.
func writtenVersion(t *catalog.Table, alias string, op window.Operation) string {
	switch {
	case t.Kind != catalog.Base:
		return ""
	case t.Partitioned && op == window.Create:
		return "pg_current_xact_id()::xid"
	}
	return alias + ".xmin"
}

// returnedVersion is the end of a list in RETURNING that has a row's version too.
func returnedVersion(t *catalog.Table, alias string, op window.Operation) string {
	switch version := writtenVersion(t, alias, op); version {
	case "":
		return ""
	case alias + "." + rowVersion:
		return ", " + version
	default:
		return ", " + version + " as " + rowVersion
	}
}

// rowVersion is the name of the column in which a written row reports its version, which is that of a table.
const rowVersion = "xmin"

// assignments are the columns that fields and presets give values to. Where parts is asked for, values with parts come as those.
func (b *builder) assignments(fields []*model.Field, presets []access.Preset, parts bool) (names, values []string) {
	for i, field := range fields {
		names = append(names, catalog.Quote(field.Column.Name))
		values = append(values, b.body(i, field.Type, parts && field.Type.Parts() != nil))
	}
	none := b.from(nil, "", true)
	for _, p := range presets {
		names = append(names, catalog.Quote(p.Field.Column.Name))
		values = append(values, none.expr(p.Value))
	}
	return names, values
}

// changes are the assignments of a change of rows under an alias. Of a value with parts the body gives those that change.
func (b *builder) changes(fields []*model.Field, alias string, presets []access.Preset) []string {
	names, values := b.assignments(fields, presets, true)
	set := make([]string, len(names))
	for i := range names {
		set[i] = names[i] + " = " + values[i]
		if i < len(fields) && fields[i].Type.Parts() != nil {
			set[i] = names[i] + " = " + merged(values[i], column(alias, fields[i]), fields[i].Type)
		}
	}
	return set
}

// merged is a value with parts after a change that gives some of them as a JSON object, and null for null.
func merged(given, current string, t *model.Type) string {
	if t.Kind == model.Complex {
		return "(case when " + given + " is not null then jsonb_populate_record((" + current + ")::" + t.SQL + ", " + given + ") end)"
	}
	end := func(name string) string {
		return "case when " + given + " ? '" + name + "' then (" + given + " ->> '" + name + "')::" + t.Element.SQL + " else " + name + "(" +
			current + ") end"
	}
	bounds := "coalesce(" + given + " ->> 'bounds', case when " + current + " is null or isempty(" + current + ") then '[)' else " +
		"case when lower_inc(" + current + ") or lower_inf(" + current + ") then '[' else '(' end || " +
		"case when upper_inc(" + current + ") then ']' else ')' end end, '[)')"
	return "(case when " + given + " is null then null when (" + given + " ->> 'empty')::boolean then 'empty'::" + t.SQL + " else " + t.SQL +
		"(" + end("lower") + ", " + end("upper") + ", " + bounds + ") end)"
}

// body is the placeholder of a value of the body. A timestamp without time zone takes the instant's time in UTC.
func (b *builder) body(i int, t *model.Type, parts bool) string {
	if parts {
		return b.arg(Slot{Role: Body, Index: i}, "jsonb")
	}
	if t.Kind == model.Instant && t.Local {
		return "(" + b.arg(Slot{Role: Body, Index: i}, "timestamptz") + " at time zone 'UTC')"
	}
	return b.arg(Slot{Role: Body, Index: i}, t.SQL)
}

// target is the condition for the row of the key that the role may write.
func (b *builder) target(q *query.Query, alias string, op window.Operation, conditional bool) string {
	r := q.Root.Resource
	f := b.from(q.Root, alias, false)
	keys := make([]string, len(q.Key))
	for i := range q.Key {
		keys[i] = "(" + column(alias, q.KeyOf[i]) + " = " + f.expr(&q.Key[i]) + ")"
	}
	if len(keys) == 0 {
		keys = append(keys, "false") // a path without a key names no row; this is the second lock
	}
	if conditional {
		keys = append(keys, alias+".xmin = any("+b.arg(Slot{Role: Versions}, "text[]")+"::xid[])")
	}
	return strings.Join(append(keys, b.covered(op, r, alias)...), " and ")
}

// covered holds a write to the rows that the role's rule covers. The conditions speak of the row that is written, so that the database
// judges the row as it is when it has got its lock; what the rule needs of other tables is looked up from there.
func (b *builder) covered(op window.Operation, r *model.Resource, alias string) []string {
	rule, joins := b.rule(op, r, alias)
	switch {
	case rule == "":
		return nil
	case joins == "":
		return []string{rule}
	}
	return []string{"exists (select from (select) one" + joins + " where " + rule + ")"}
}

// guards adds to the list whether a row that was written meets the rules of the operation and of reading, and tells the places.
func (b *builder) guards(f *from, list *selectList, op window.Operation, r *model.Resource, alias string, places *Guards) {
	if b.hides(r) {
		places.RuleHolds, places.Readable = list.add(alias+"."+keptRow), list.add(alias+"."+readableRow)
		return
	}
	b.guard(f, list, op, r, alias, &places.RuleHolds)
	if b.scope.For(window.Read, r) != nil {
		b.guard(f, list, window.Read, r, alias, &places.Readable)
	}
}

// guard adds to the list whether a row that was written meets the rule of an operation, where there is one, and tells its place.
func (b *builder) guard(f *from, list *selectList, op window.Operation, r *model.Resource, alias string, place *int) {
	if rule, joins := b.kept(op, r, alias); rule != "" {
		f.joins.WriteString(joins)
		list.items = append(list.items, "coalesce("+rule+", false)")
		*place = len(list.items) - 1
	}
}

// answer reads the row back that a statement writes under an alias, as the role may see it. Where that takes no other table, the
// statement returns it itself, which is the faster way.
func (b *builder) answer(write writing, alias string, q *query.Query, op window.Operation) *Plan {
	plan := newPlan()
	root := q.Root
	r := root.Resource
	f := b.from(root, alias, false)
	list := &selectList{}
	if b.scope.For(window.Read, r) != nil {
		plan.Columns = f.columns(q, alias, list)
	}
	for _, k := range r.Key {
		plan.Order = append(plan.Order, list.add(shown(alias, k)))
	}
	source := "written"
	if b.hides(r) {
		source = b.shownOf(r, op)
	}
	b.guards(f, list, op, r, alias, &plan.Guards)
	version := writtenVersion(r.Table, alias, op)
	direct := f.joins.Len() == 0 && len(q.Expand) == 0 && source == "written" && (!b.tagged(q) || version == alias+"."+rowVersion)
	if version != "" {
		of := alias + "." + rowVersion
		if direct {
			of = version
		}
		plan.Version = list.add(of)
	}
	if len(list.items) == 0 {
		list.add("true")
	}
	if direct {
		plan.SQL = write(list.String())
	} else {
		plan.SQL = "with written as (\n  " + write(alias+".*"+returnedVersion(r.Table, alias, op)) + "\n)\nselect " + list.String() + "\nfrom " +
			source + " " + alias +
			f.joins.String()
	}
	plan.Slots, plan.Body = b.slots, b.fields
	return plan
}
