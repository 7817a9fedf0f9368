package statement

import (
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// Tie plans that a junction ties a row to another one; a tie that is there already stays. The plan's Total is 1 where there are
// both rows and the role may change the first, else 0.
func Tie(rel *model.Relation, near, far *request.Query, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	columns, values := b.ends(rel, near, far)
	return b.tied("insert into "+rel.Through.Table.QualifiedName()+" ("+columns+")\n  select "+values+" from near, far\n  on conflict do nothing",
		"(select count(*) from near) * (select count(*) from far)")
}

// Untie plans that a junction ties them no more. The plan's Total is the number of ties that there were.
func Untie(rel *model.Relation, near, far *request.Query, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	b.ends(rel, near, far)
	var same []string
	for _, p := range rel.Pairs {
		same = append(same, "j."+catalog.Quote(p.There)+" = near."+catalog.Quote(p.Own))
	}
	for _, p := range rel.Through.There {
		same = append(same, "j."+catalog.Quote(p.Own)+" = far."+catalog.Quote(p.There))
	}
	return b.tied("delete from "+rel.Through.Table.QualifiedName()+" j using near, far\n  where "+strings.Join(same, " and ")+" returning true", "(select count(*) from done)")
}

// ends selects the two rows of a tie under the names near and far, and tells the columns of the junction and where their values come
// from. The near one must be one that the role may change.
func (b *builder) ends(rel *model.Relation, near, far *request.Query) (columns, values string) {
	var names, from []string
	var nearColumns, farColumns []string
	for _, p := range rel.Pairs {
		names, from = append(names, catalog.Quote(p.There)), append(from, "near."+catalog.Quote(p.Own))
		nearColumns = append(nearColumns, p.Own)
	}
	for _, p := range rel.Through.There {
		names, from = append(names, catalog.Quote(p.Own)), append(from, "far."+catalog.Quote(p.There))
		farColumns = append(farColumns, p.There)
	}
	b.with = []string{"near as (" + b.end(near, nearColumns, true) + ")", "far as (" + b.end(far, farColumns, false) + ")"}
	return strings.Join(names, ", "), strings.Join(from, ", ")
}

// end selects columns of the row of a path.
func (b *builder) end(q *request.Query, columns []string, changed bool) string {
	r := q.Root.Resource
	alias := b.alias(r.Name)
	f := b.from(q.Root, alias, false)
	where, source := f.granted(q, r, alias), b.source(r, false)
	if changed {
		source = b.readable(r, window.Read, window.Update)
		if rule, joins := b.rule(window.Update, r, alias); rule != "" && !b.hides(r) {
			f.joins.WriteString(joins)
			where = append(where, rule)
		}
	}
	list := make([]string, len(columns))
	for i, c := range columns {
		list[i] = alias + "." + catalog.Quote(c)
	}
	return "select " + strings.Join(list, ", ") + " from " + source + " " + alias + f.joins.String() + whereClause(where)
}

func (b *builder) tied(write, total string) *Plan {
	plan := newPlan()
	plan.Total = 0
	plan.SQL = "with " + strings.Join(append(b.with, "done as (\n  "+write+"\n)"), ",\n") + "\nselect " + total
	plan.Slots = b.slots
	return plan
}
