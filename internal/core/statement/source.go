package statement

import (
	"strings"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
)

// source is what stands after FROM for a resource: its table, or what is read like one.
func (b *builder) source(r *model.Resource) string {
	switch {
	case r.Query != nil:
		return b.namedQuery(r.Query)
	case r.View != nil:
		return b.savedView(r)
	}
	return r.Table.QualifiedName()
}

// namedQuery is the document's statement with arguments in the places of its parameters.
func (b *builder) namedQuery(q *model.Query) string {
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
	table := b.source(r.View.Of)
	if v.Filter == nil && len(v.Values) == 0 {
		return table
	}
	alias := b.alias(r.View.Of.Name)
	f := b.from(v.Root, alias, true)
	list := alias + ".*"
	for _, value := range v.Values {
		list += ", " + f.expr(value.By) + " as " + catalog.Quote(value.Column)
	}
	where := ""
	if v.Filter != nil {
		where = " where " + f.condition(v.Filter, false)
	}
	return "(select " + list + " from " + table + " " + alias + f.joins.String() + where + ")"
}
