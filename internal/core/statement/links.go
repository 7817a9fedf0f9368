package statement

import (
	"fmt"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// The columns of an input that are not values of its rows: their number, and of ties what is to be done.
const ordinal, action = "n", "act"

// Find plans the look-up of rows at the ends of paths that differ in their keys alone, as far as the role may read them. Its input is
// a list for each part of a key on the way.
func Find(path []change.Hop, returned []*model.Field, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	var lists, names []string
	source := "input"
	alias := ""
	for _, h := range path {
		near := alias
		alias = b.alias(h.Resource.Name)
		conditions := []string{}
		if h.Via != nil {
			if t := h.Via.Through; t != nil {
				junction := b.alias("junction")
				source += "\njoin " + t.Table.QualifiedName() + " " + junction + " on " + pairs(h.Via.Pairs, near, junction)
				conditions = append(conditions, pairs(t.There, junction, alias))
			} else {
				conditions = append(conditions, pairs(h.Via.Pairs, near, alias))
			}
		}
		for i := range h.Key {
			name := fmt.Sprintf("k%d", len(names))
			names, lists = append(names, name), append(lists, b.list("text[]"))
			conditions = append(conditions, column(alias, h.KeyOf[i])+" = "+listed(name, h.KeyOf[i].Type))
		}
		rule, joins := b.rule(window.Read, h.Resource, alias)
		table := b.source(h.Resource, false)
		if joins != "" {
			table = fmt.Sprintf("(select %s.* from %s %s%s where %s)", alias, table, alias, joins, rule)
		} else if rule != "" {
			conditions = append(conditions, rule)
		}
		source += "\njoin " + table + " " + alias + " on " + strings.Join(conditions, " and ")
	}
	list := &selectList{}
	plan := newPlan()
	plan.ReturnsRows = true
	plan.InputOrdinal = list.add("input." + ordinal)
	plan.returns(list, alias, returned)
	plan.SQL = "with " + unnested("input", lists, names) + "\nselect " + list.String() + "\nfrom " + source
	plan.Slots = b.slots
	return plan
}

// near names the rows that sets of a body belong to, by the columns of the relation at its near end.
func (b *builder) near(rel *model.Relation) string {
	var lists, names, columns []string
	for i, f := range rel.OwnFields() {
		name := fmt.Sprintf("t%d", i)
		lists, names = append(lists, b.list("text[]")), append(names, name)
		columns = append(columns, listed(name, f.Type)+" as "+catalog.Quote(rel.Pairs[i].Own))
	}
	return unnested("input", lists, names) + ", near as (\n  select " + strings.Join(columns, ", ") + ", n from input\n)"
}

// leftOut names the keys of the rows that a relation leads to, as far as the role may read them, and that are none of those that stay,
// which are a list for each part of the key.
func (b *builder) leftOut(rel *model.Relation, stay bool) string {
	with := b.near(rel)
	r := rel.To
	root := query.NewRow(r)
	far := b.alias(r.Name)
	f := b.from(root, far, false)
	table, link := b.collection(rel, "near", far, false)
	where := []string{link}
	if rule, joins := b.rule(window.Read, r, far); rule != "" {
		f.joins.WriteString(joins)
		where = append(where, rule)
	}
	keys := make([]string, len(r.Key))
	for i, k := range r.Key {
		keys[i] = column(far, k)
	}
	if stay {
		var lists, names, same []string
		for i, k := range r.Key {
			name := fmt.Sprintf("k%d", i)
			lists, names = append(lists, b.list("text[]")), append(names, name)
			same = append(same, column(far, k)+" = "+strings.Replace(listed(name, k.Type), "input.", "stays.", 1))
		}
		with += ", " + unnested("stays", lists, names)
		where = append(where, "not exists (select from stays where "+strings.Join(same, " and ")+")")
	}
	return with + ", left_out as (\n  select " + strings.Join(keys, ", ") + ", near.n from near, " + table + f.joins.String() +
		whereClause(where) + "\n)"
}

// LeftOut plans the look-up of one row that a set leaves out: its key comes back, and the number of the set. stay says that the input
// names rows that stay.
func LeftOut(rel *model.Relation, stay bool, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	with := b.leftOut(rel, stay)
	plan := newPlan()
	plan.ReturnsRows = true
	list := &selectList{}
	plan.InputOrdinal = list.add("l." + ordinal)
	plan.returns(list, "l", rel.To.Key)
	plan.SQL = "with " + with + "\nselect " + list.String() + "\nfrom left_out l order by l.n, " + strings.Join(list.items[1:], ", ") +
		" limit 1"
	plan.Slots = b.slots
	return plan
}

// Release plans that the rows which sets leave out are taken out of a relation that they hold. The plan's Total is the number of those
// that were, its Expected of those that should have been.
func Release(rel *model.Relation, stay bool, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	with := b.leftOut(rel, stay)
	r := rel.To
	alias := b.alias(r.Name)
	var set []string
	for _, f := range rel.ThereFields() {
		b.fields = append(b.fields, f)
		set = append(set, catalog.Quote(f.Column.Name)+" = null")
	}
	names, values := b.assignments(nil, scope.For(window.Update, r).Set, false)
	for i := range names {
		set = append(set, names[i]+" = "+values[i])
	}
	var conditions []string
	for _, k := range r.Key {
		conditions = append(conditions, column(alias, k)+" = "+column("left_out", k))
	}
	conditions = append(conditions, pairs(rel.Pairs, "near", alias)) // still
	write := updating(r.Table, alias, set, "left_out join near using (n)", strings.Join(append(conditions, b.covered(window.Update, r,
		alias)...), " and "))(alias + ".*")
	plan := newPlan()
	list := &selectList{}
	plan.Total = list.add("count(*)")
	plan.Expected = list.add("(select count(*) from left_out)")
	written := b.alias(r.Name)
	f := b.from(query.NewRow(r), written, false)
	if rule, joins := b.kept(window.Update, r, written); rule != "" {
		f.joins.WriteString(joins)
		plan.Guards.RuleHolds = list.add("coalesce(bool_and(" + rule + "), true)")
	}
	plan.SQL = "with " + with + ", written as (\n  " + write + "\n)\nselect " + list.String() + "\nfrom written " + written + f.joins.String()
	plan.Slots = b.slots
	return plan
}

// LinkRows plans that a junction ties rows and unties others, by acts, which are those that any of the pairs has. Its input is a list of
// what is to be done with each pair, and one for each part of the keys of the near and of the far row. A near row must be one that the
// role may change, a far row one that it may read. The plan's Missing tells the pairs of which the near row is not there, its Absent those
// that lack the far one, or a tie to remove. A tie that is there already stays.
func LinkRows(rel *model.Relation, acts []change.Act, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	lists, names := []string{b.list("text[]")}, []string{action}
	add := func(prefix string, r *model.Resource) {
		for i := range r.Key {
			lists, names = append(lists, b.list("text[]")), append(names, fmt.Sprintf("%s%d", prefix, i))
		}
	}
	add("k", rel.From)
	add("f", rel.To)
	var nearColumns, farColumns, columns, values, sameNear, sameFar []string
	for _, p := range rel.Pairs {
		nearColumns = append(nearColumns, p.Own)
		columns, values = append(columns, catalog.Quote(p.There)), append(values, "near."+catalog.Quote(p.Own))
		sameNear = append(sameNear, "j."+catalog.Quote(p.There)+" = near."+catalog.Quote(p.Own))
	}
	for _, p := range rel.Through.There {
		farColumns = append(farColumns, p.There)
		columns, values = append(columns, catalog.Quote(p.Own)), append(values, "far."+catalog.Quote(p.There))
		sameFar = append(sameFar, "j."+catalog.Quote(p.Own)+" = far."+catalog.Quote(p.There))
	}
	table := rel.Through.Table.QualifiedName()
	near, far := strings.Join(sameNear, " and "), strings.Join(sameFar, " and ")
	with := []string{
		unnested("input", lists, names),
		"near as (" + b.end(rel.From, "k", nearColumns, true) + ")",
		"far as (" + b.end(rel.To, "f", farColumns, false) + ")",
	}
	absent := "i.act = 'tie' and far.n is null"
	found := "input i left join near using (n) left join far using (n)"
	if slices.Contains(acts, change.Remove) {
		with = append(with, "untied as (\n  delete from "+table+" j using near join far using (n)\n  where near.act = 'untie' and "+near+
			" and "+far+" returning near.n\n)")
		absent += " or i.act = 'untie' and untied.n is null"
		found += " left join untied using (n)"
	}
	if slices.Contains(acts, change.Keep) {
		with = append(with, "left_out as (\n  delete from "+table+" j using near\n  where near.act = 'only' and "+near+" and exists ("+
			b.visible(rel, "j")+")\n    and not exists (select from input i join far using (n) where i.act = 'tie' and "+
			b.sameInput(rel.From, "i", "near")+" and "+far+")\n)")
	}
	if slices.Contains(acts, change.Add) {
		with = append(with, "tied as (\n  insert into "+table+" ("+strings.Join(columns, ", ")+")\n  select "+strings.Join(values, ", ")+
			" from near join far using (n) where near.act = 'tie' order by n\n  on conflict do nothing\n)")
	}
	plan := newPlan()
	list := &selectList{}
	numbers := func(condition string) string {
		return "string_agg(i.n::text, ',' order by i.n) filter (where " + condition + ")"
	}
	plan.Total = list.add("count(*)")
	plan.Missing = list.add(numbers("near.n is null"))
	plan.Absent = list.add(numbers(absent))
	plan.SQL = "with " + strings.Join(with, ",\n") + "\nselect " + list.String() + "\nfrom " + found
	plan.Slots = b.slots
	return plan
}

// LockNear plans that the near rows of ties are locked, whatever the role may do with them. Its input is a list for each part of their key.
func LockNear(r *model.Resource, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	alias := b.alias(r.Name)
	var lists, names, conditions []string
	for i, k := range r.Key {
		name := fmt.Sprintf("k%d", i)
		lists, names = append(lists, b.list("text[]")), append(names, name)
		conditions = append(conditions, column(alias, k)+" = "+listed(name, k.Type))
	}
	plan := newPlan()
	plan.Total = 0
	plan.SQL = "with " + unnested("input", lists, names) + ", locked as (\n  select 1 from " + r.Table.QualifiedName() + " " + alias +
		", input where " + strings.Join(conditions, " and ") + " for share of " + alias + "\n)\nselect count(*) from locked"
	plan.Slots = b.slots
	return plan
}

// end selects columns of the rows at one end of ties. changed says that the role must be allowed to change them.
func (b *builder) end(r *model.Resource, prefix string, columns []string, changed bool) string {
	alias := b.alias(r.Name)
	f := b.from(query.NewRow(r), alias, false)
	var conditions []string
	for i, k := range r.Key {
		conditions = append(conditions, column(alias, k)+" = "+listed(fmt.Sprintf("%s%d", prefix, i), k.Type))
	}
	require := func(op window.Operation) {
		if rule, joins := b.rule(op, r, alias); rule != "" {
			f.joins.WriteString(joins)
			conditions = append(conditions, rule)
		}
	}
	require(window.Read)
	source := ""
	if changed {
		source = b.readable(r, window.Read, window.Update)
		if !b.hides(r) {
			require(window.Update)
		}
	} else {
		source = b.source(r, false)
	}
	list := []string{"input." + ordinal, "input." + action}
	if !changed {
		list = list[:1]
	}
	for _, c := range columns {
		list = append(list, alias+"."+catalog.Quote(c))
	}
	if changed {
		for i := range r.Key {
			list = append(list, fmt.Sprintf("input.k%d", i))
		}
	}
	sql := "select " + strings.Join(list, ", ") + " from input, " + source + " " + alias + f.joins.String() + whereClause(conditions)
	if changed && !b.hides(r) && r.Table.Kind == catalog.Base {
		sql += " for share of " + alias // so that it is judged as it is
	}
	return sql
}

// visible selects the row at the far end of a tie, where the role may read it.
func (b *builder) visible(rel *model.Relation, junction string) string {
	alias := b.alias(rel.To.Name)
	f := b.from(query.NewRow(rel.To), alias, false)
	conditions := []string{pairs(rel.Through.There, junction, alias)}
	if rule, joins := b.rule(window.Read, rel.To, alias); rule != "" {
		f.joins.WriteString(joins)
		conditions = append(conditions, rule)
	}
	return "select from " + b.source(rel.To, false) + " " + alias + f.joins.String() + whereClause(conditions)
}

// sameInput is the condition that two rows of the input have the same near row.
func (b *builder) sameInput(r *model.Resource, one, other string) string {
	var parts []string
	for i := range r.Key {
		parts = append(parts, fmt.Sprintf("%s.k%d = %s.k%d", one, i, other, i))
	}
	return strings.Join(parts, " and ")
}
