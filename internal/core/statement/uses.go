package statement

import (
	"slices"

	"eagerwindow/internal/core/query"
)

// note tells of a field of a table's row how it is used.
func (f *from) note(e query.Expr, how func(u *Use, column string)) {
	field, ok := e.(*query.FieldOf)
	if !ok || field.Row.Resource.Table == nil || field.Row.Resource.Query != nil || field.Row.Resource.Derived {
		return
	}
	table := field.Row.Resource.Table
	if table.Column(field.Field.Column.Name) == nil {
		return
	}
	alias := f.row(field.Row)
	u := f.b.uses[alias]
	if u == nil {
		u = &Use{Table: table}
		f.b.uses[alias] = u
	}
	how(u, field.Field.Column.Name)
}

func appendNew(list []string, s string) []string {
	if slices.Contains(list, s) {
		return list
	}
	return append(list, s)
}

// noteComparison tells of a field that is compared with what is known before the row.
func (f *from) noteComparison(c *query.Call) {
	for i, side := range c.Args {
		switch c.Args[1-i].(type) {
		case *query.Value, *query.Claim, *query.Constant:
		default:
			continue
		}
		f.note(side, func(u *Use, column string) {
			switch c.Op {
			case "eq":
				u.Equal = appendNew(u.Equal, column)
			case "gt", "ge", "lt", "le":
				u.Ranges = appendNew(u.Ranges, column)
			}
		})
	}
}

func (f *from) noteOrder(t query.Term, o orderTerm) {
	f.note(t.By, func(u *Use, column string) { u.Order = append(u.Order, column+o.direction) })
}
