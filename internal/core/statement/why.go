package statement

import (
	"strconv"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// Conditions plans whether a row meets each of some rules: a column for each, in their order. There is no row where the key
// names none.
func Conditions(q *query.Query, rules []*access.Rule, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	r := q.Root.Resource
	alias := b.alias(r.Name)
	own := b.from(q.Root, alias, false)
	keys := make([]string, len(q.Key))
	for i := range q.Key {
		keys[i] = column(alias, q.KeyOf[i]) + " = " + own.expr(&q.Key[i])
	}
	plan := newPlan()
	list := []string{"true"}
	plan.Columns = []Column{{Name: "there", At: 0, Type: model.BooleanType}}
	joins := ""
	for i, rule := range rules {
		f := b.from(rule.Root, alias, true)
		list = append(list, "coalesce("+f.condition(rule.Where, false)+", false)")
		joins += f.joins.String()
		plan.Columns = append(plan.Columns, Column{Name: "c" + strconv.Itoa(i), At: i + 1, Type: model.BooleanType})
	}
	plan.SQL = "select " + strings.Join(list, ", ") + " from " + r.Table.QualifiedName() + " " + alias + joins + whereClause(keys)
	plan.Slots = b.slots
	return plan
}

// Covered plans how many rows of a resource a rule covers, and how many there are.
func Covered(rule *access.Rule, r *model.Resource, scope *access.Scope) *Plan {
	b := newBuilder(scope)
	alias := b.alias(r.Name)
	f := b.from(rule.Root, alias, true)
	condition := f.condition(rule.Where, false)
	plan := newPlan()
	plan.Columns = []Column{{Name: "rows", Kind: Total, At: 0}, {Name: "of", Kind: Total, At: 1}}
	plan.SQL = "select count(*) filter (where " + condition + "), count(*)\nfrom " + b.source(r, true) + " " + alias + f.joins.String()
	plan.Slots = b.slots
	return plan
}

// Shown is the statement of an operation to be looked at, of a write as it would be with all the fields that the role may give.
func Shown(q *query.Query, op window.Operation, fields []*model.Field, scope *access.Scope) string {
	q.Metadata = query.None
	switch op {
	case window.Create:
		return Create(q, fields, scope).SQL
	case window.Update:
		return Update(q, fields, nil, scope, false).SQL
	case window.Delete:
		return Delete(q, scope, false).SQL
	}
	return Read(q, scope, nil, Bounds{}).SQL
}
