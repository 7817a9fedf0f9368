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

// The plans here write many rows in one statement. Their input is lists of one value for each row, which the statement unnests: see
// Input. A plan's Total is the number of rows that were written, its Missing tells those that there were none for. Where something is
// to come back of each row, it comes with its number instead.

// InputRow is one row of the input.
type InputRow struct {
	Key      []string
	Versions []string  // one of which the row must have; nil: any
	LinkedTo []*string // what the near columns of the relation hold that the row must be tied by; nil: it need not be
	Fields   []*model.Field
	Values   []*string
}

// Rows is what the rows of an input have in common, and what is to come back of each.
type Rows struct {
	Keyed     bool
	Versioned bool            // some must have a version
	LinkedBy  *model.Relation // some must be tied by it
	Given     []Given
	Returned  []*model.Field // whose values come back
	Show      bool           // each row comes back as the query shows it
}

// Given is a field that the rows of an input give.
type Given struct {
	Field *model.Field
	Some  bool // not all rows give it
}

// Signature tells the statements apart that are planned for rows of one resource and role.
func (w Rows) Signature() string {
	b := fmt.Append(nil, w.Keyed, w.Versioned, w.Show)
	if w.LinkedBy != nil {
		b = append(b, w.LinkedBy.From.Name+"/"+w.LinkedBy.Name...)
	}
	for _, g := range w.Given {
		b = fmt.Append(b, " ", g.Field.Index, g.Some)
	}
	b = append(b, " returned"...)
	for _, f := range w.Returned {
		b = fmt.Append(b, " ", f.Index)
	}
	return string(b)
}

// numbered reports whether each row that was written comes back.
func (w Rows) numbered() bool { return w.Show || len(w.Returned) > 0 }

// Gather finds what rows have in common, and the lists that they are as the input of a statement.
func Gather(r *model.Resource, tied *model.Relation, rows []InputRow) (Rows, []any) {
	w := Rows{}
	var lists []any
	column := func(value func(InputRow) *string) {
		list := make([]*string, len(rows))
		for i := range rows {
			list[i] = value(rows[i])
		}
		lists = append(lists, list)
	}
	if len(rows) > 0 && rows[0].Key != nil {
		w.Keyed = true
		for k := range rows[0].Key {
			column(func(row InputRow) *string { return &row.Key[k] })
		}
	}
	for _, row := range rows {
		w.Versioned = w.Versioned || row.Versions != nil
		if row.LinkedTo != nil {
			w.LinkedBy = tied
		}
	}
	if w.Versioned {
		column(func(row InputRow) *string {
			if row.Versions == nil {
				return nil
			}
			list := strings.Join(row.Versions, ",")
			return &list
		})
	}
	if w.LinkedBy != nil {
		for i := range tied.Pairs {
			column(func(row InputRow) *string {
				if row.LinkedTo == nil {
					return nil
				}
				return row.LinkedTo[i]
			})
		}
	}
	given, valueLists := gatherFields(r, rows)
	w.Given = given
	if lists = append(lists, valueLists...); len(lists) == 0 { // nothing but their number is known of the rows
		column(func(InputRow) *string { return nil })
	}
	return w, lists
}

// gatherFields are the fields that any of the rows gives, and the lists of what each gives; of a field that only some give, a second
// list says which.
func gatherFields(r *model.Resource, rows []InputRow) (given []Given, lists []any) {
	values := make([][]*string, len(r.Fields))
	has := make([][]bool, len(r.Fields))
	count := make([]int, len(r.Fields))
	for i, row := range rows {
		for n, f := range row.Fields {
			if values[f.Index] == nil {
				values[f.Index], has[f.Index] = make([]*string, len(rows)), make([]bool, len(rows))
			}
			values[f.Index][i], has[f.Index][i] = row.Values[n], true
			count[f.Index]++
		}
	}
	for _, f := range r.Fields {
		if values[f.Index] == nil {
			continue
		}
		g := Given{Field: f, Some: count[f.Index] < len(rows)}
		given, lists = append(given, g), append(lists, values[f.Index])
		if g.Some {
			lists = append(lists, has[f.Index])
		}
	}
	return given, lists
}

// list adds a list to the arguments and tells what the column is that it becomes.
func (b *builder) list(sqlType string) string {
	b.lists++
	return b.arg(Slot{Role: Listed, Index: b.lists - 1}, sqlType)
}

// unnested names lists that are one input, whose columns have those names; n numbers its rows. Each list is the value of a subquery, so
// that the plan does not depend on how long it is: else the database would find that short lists are better off with a plan of their own,
// and make it anew for each statement, which takes longer than running it.
func unnested(name string, lists, names []string) string {
	return name + " as (\n  select * from unnest((select " + strings.Join(lists, "), (select ") + ")) with ordinality i(" +
		strings.Join(names, ", ") + ", n)\n)"
}

// input is the lists of a write as rows: keys k0, k1 …, versions that the rows must have, what they must be tied by t0 …,
// values v0 …, whether they are given g0 …, the number of the row n.
func (b *builder) input(r *model.Resource, w Rows) string {
	var lists, names []string
	add := func(name, list string) {
		lists, names = append(lists, b.list(list)), append(names, name)
	}
	if w.Keyed {
		for i := range r.Key {
			add(fmt.Sprintf("k%d", i), "text[]")
		}
	}
	if w.Versioned {
		add("version", "text[]")
	}
	if w.LinkedBy != nil {
		for i := range w.LinkedBy.Pairs {
			add(fmt.Sprintf("t%d", i), "text[]")
		}
	}
	for i, g := range w.Given {
		add(fmt.Sprintf("v%d", i), "text[]")
		if g.Some {
			add(fmt.Sprintf("g%d", i), "boolean[]")
		}
		b.fields = append(b.fields, g.Field)
	}
	if len(lists) == 0 {
		add("nothing", "text[]")
	}
	return unnested("input", lists, names)
}

// listed is a value of the input as its type.
func listed(name string, t *model.Type) string {
	if t.Kind == model.Instant && t.Local {
		return "(input." + name + "::timestamptz at time zone 'UTC')"
	}
	return "input." + name + "::" + t.SQL
}

// DeleteRows plans the deletion of rows by their keys.
func DeleteRows(r *model.Resource, w Rows, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	input := b.input(r, w)
	alias := b.alias(r.Name)
	where := b.byKeys(r, w, alias, window.Delete)
	write := "delete from " + r.Table.QualifiedName() + " " + alias + "\n  using input\n  where " + where + " returning input.n as " +
		rowNumber
	return b.counted(input, write, nil, "")
}

// UpdateRows plans the change of rows by their keys.
func UpdateRows(q *query.Query, w Rows, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	b.metadata = q.Metadata
	r := q.Root.Resource
	input := b.input(r, w)
	alias := b.alias(r.Name)
	set := []string{}
	for i, g := range w.Given {
		name := catalog.Quote(g.Field.Column.Name)
		value := listed(fmt.Sprintf("v%d", i), g.Field.Type)
		if g.Field.Type.Parts() != nil {
			value = merged(fmt.Sprintf("input.v%d::jsonb", i), alias+"."+name, g.Field.Type)
		}
		if g.Some {
			value = fmt.Sprintf("case when input.g%d then %s else %s.%s end", i, value, alias, name)
		}
		set = append(set, name+" = "+value)
	}
	names, values := b.assignments(nil, scope.For(window.Update, r).Set, false)
	for i := range names {
		set = append(set, names[i]+" = "+values[i])
	}
	where := b.byKeys(r, w, alias, window.Update)
	write := updating(r.Table, alias, set, "input", where)(alias + ".*" + returnedVersion(r.Table, alias, window.Update) +
		", input.n as " + rowNumber)
	if w.numbered() {
		return b.numbered(input+", written as (\n  "+write+"\n)", q, w, window.Update)
	}
	return b.counted(input, write, q.Root, window.Update)
}

// CreateRows plans the insertion of rows. A field that only some of them give goes to its default in the others.
func CreateRows(q *query.Query, w Rows, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	b.metadata = q.Metadata
	r := q.Root.Resource
	input := b.input(r, w)
	var names, values []string
	for i, g := range w.Given {
		value := listed(fmt.Sprintf("v%d", i), g.Field.Type)
		if g.Some {
			value = fmt.Sprintf("case when input.g%d then %s else %s end", i, value, defaultOf(r, g.Field.Column))
		}
		names, values = append(names, catalog.Quote(g.Field.Column.Name)), append(values, value)
	}
	setNames, setValues := b.assignments(nil, scope.For(window.Create, r).Set, false)
	names, values = append(names, setNames...), append(values, setValues...)
	overriding := ""
	if len(names) == 0 { // a query must give something: a default does
		c := anyColumn(r.Table)
		names, values = []string{catalog.Quote(c.Name)}, []string{defaultOf(r, c)}
		if c.Identity == catalog.Always {
			overriding = " overriding system value"
		}
	}
	write := "insert into " + r.Table.QualifiedName() + " (" + strings.Join(names, ", ") + ")" + overriding +
		"\n  select " + strings.Join(values, ", ") + " from input order by input.n"
	if !w.numbered() && len(scope.For(window.Create, r).Rules(b.given(window.Create), true)) == 0 { // there is nothing to ask of the rows
		plan := newPlan()
		plan.Affected, plan.SQL, plan.Slots = true, "with "+input+"\n"+write, b.slots
		return plan
	}
	write += " returning *" + returnedVersion(r.Table, r.Table.QualifiedName(), window.Create)
	if w.numbered() { // they come back in the order in which they were inserted
		return b.numbered(input+", inserted as (\n  "+write+"\n), written as (\n  select *, row_number() over () as "+rowNumber+
			" from inserted\n)", q, w, window.Create)
	}
	return b.counted(input, write, q.Root, window.Create)
}

// anyColumn is one that an insertion can give its default.
func anyColumn(t *catalog.Table) *catalog.Column {
	settable := func(always bool) func(*catalog.Column) bool {
		return func(c *catalog.Column) bool { return !c.Generated && (c.Identity == catalog.Always) == always }
	}
	i := slices.IndexFunc(t.Columns, settable(false))
	if i < 0 {
		i = slices.IndexFunc(t.Columns, settable(true))
	}
	return t.Columns[max(i, 0)]
}

// DefaultIsKnown reports whether rows that give a field and rows that do not can be inserted by one statement: what the field goes to
// where it is not given must be known, and that of a domain is not.
func DefaultIsKnown(f *model.Field) bool { return !f.Column.Type.NotNull || f.Column.Default != "" }

// defaultOf is what a column that is not given goes to, as an expression: DEFAULT itself can't are in a query.
func defaultOf(r *model.Resource, c *catalog.Column) string {
	switch {
	case c.Identity != catalog.NoIdentity:
		return fmt.Sprintf("nextval(pg_get_serial_sequence(%s, %s))", literal(r.Table.QualifiedName()), literal(c.Name))
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
func (b *builder) byKeys(r *model.Resource, w Rows, alias string, op window.Operation) string {
	var conditions []string
	if w.Versioned {
		conditions = append(conditions, "(input.version is null or "+alias+".xmin = any(string_to_array(input.version, ',')::xid[]))")
	}
	for i, k := range r.Key {
		conditions = append(conditions, column(alias, k)+" = "+listed(fmt.Sprintf("k%d", i), k.Type))
	}
	if w.LinkedBy != nil {
		conditions = append(conditions, "(input.t0 is null or "+b.linkedTo(w.LinkedBy, alias)+")")
	}
	return strings.Join(append(conditions, b.covered(op, r, alias)...), " and ")
}

// linkedTo is the condition that a row of the far end is tied by a relation to the row of the input.
func (b *builder) linkedTo(rel *model.Relation, far string) string {
	near := func(i int) string { return listed(fmt.Sprintf("t%d", i), rel.OwnFields()[i].Type) }
	conditions := make([]string, len(rel.Pairs))
	if rel.Through == nil {
		for i, p := range rel.Pairs {
			conditions[i] = far + "." + catalog.Quote(p.There) + " = " + near(i)
		}
		return strings.Join(conditions, " and ")
	}
	junction := b.alias("junction")
	for i, p := range rel.Pairs {
		conditions[i] = junction + "." + catalog.Quote(p.There) + " = " + near(i)
	}
	return "exists (select from " + rel.Through.Table.QualifiedName() + " " + junction + " where " +
		strings.Join(append(conditions, pairs(rel.Through.There, junction, far)), " and ") + ")"
}

// numbered answers a write of many with its rows, as the query shows them or as far as later steps need them, with guards of their own.
func (b *builder) numbered(with string, q *query.Query, w Rows, op window.Operation) *Plan {
	plan := newPlan()
	r := q.Root.Resource
	alias := b.alias(r.Name)
	f := b.from(q.Root, alias, false)
	list, source := &selectList{}, "written"
	if w.Show && b.scope.For(window.Read, r) != nil {
		plan.Columns = f.columns(q, alias, list)
	}
	plan.ReturnsRows = true
	plan.InputOrdinal = list.add(alias + "." + rowNumber)
	raw := alias
	if b.hides(r) {
		source = b.shownOf(r, op, rowNumber)
		if len(w.Returned) > 0 { // what later steps refer to is not for the caller to see, so nothing of it is hidden
			raw = b.alias("raw")
			fmt.Fprintf(&f.joins, "\njoin written %s on %s.%s = %s.%s", raw, raw, rowNumber, alias, rowNumber)
		}
	}
	plan.returns(list, raw, w.Returned)
	b.guards(f, list, op, r, alias, &plan.Guards)
	plan.SQL = "with " + with + "\nselect " + list.String() + "\nfrom " + source + " " + alias + f.joins.String()
	plan.Slots = b.slots
	return plan
}

// returns adds fields whose values come back with each row.
func (p *Plan) returns(list *selectList, alias string, fields []*model.Field) {
	p.Returned = fields
	for _, f := range fields {
		p.Values = append(p.Values, list.add(shown(alias, f)))
	}
}

// counted counts what a write of many has written and tells what it has not. root is nil where no row is left to be looked at.
func (b *builder) counted(input, write string, root *query.Row, op window.Operation) *Plan {
	plan := newPlan()
	alias, joins := "w", ""
	list := &selectList{}
	plan.Total = list.add("count(*)")
	if op != window.Create {
		plan.Missing = list.add("(select string_agg(input.n::text, ',' order by input.n) from input where not exists (select from written " +
			"where written." + rowNumber + " = input.n))")
	}
	if root != nil {
		alias = b.alias(root.Resource.Name)
		f := b.from(root, alias, false)
		if rule, more := b.kept(op, root.Resource, alias); rule != "" {
			f.joins.WriteString(more)
			plan.Guards.RuleHolds = list.add("coalesce(bool_and(" + rule + "), true)")
		}
		joins = f.joins.String()
	}
	plan.SQL = "with " + input + ", written as (\n  " + write + "\n)\nselect " + list.String() + "\nfrom written " + alias + joins
	plan.Slots = b.slots
	return plan
}
