package query

import (
	"slices"

	"eagerwindow/internal/core/model"
)

// Touched lists what a query uses, as "resource", "resource.field" and "resource.relation", sorted, each once. may reports whether a field
// is shown that no option names.
func (q *Query) Touched(may func(*model.Field) bool) []string {
	t := &touched{names: map[string]bool{}, may: may}
	t.query(q)
	list := make([]string, 0, len(t.names))
	for name := range t.names {
		list = append(list, name)
	}
	slices.Sort(list)
	return list
}

type touched struct {
	names map[string]bool
	may   func(*model.Field) bool
}

func (t *touched) resource(r *model.Resource) {
	if !r.Derived && r.Index < len(r.Model.Resources) { // apart from parts of saved views, which no path leads to
		t.names[r.Name] = true
	}
}

func (t *touched) relation(rel *model.Relation) {
	t.names[rel.From.Name+"."+rel.Name] = true
	t.resource(rel.To)
}

func (t *touched) field(f *model.Field) {
	if f.Resource != nil && !f.Resource.Derived {
		t.names[f.Resource.Name+"."+f.Name] = true
	}
}

// row touches the relations that lead to a row.
func (t *touched) row(r *Row) {
	for ; r != nil && r.Via != nil; r = r.Parent {
		t.relation(r.Via)
	}
}

func (t *touched) expr(e Expr) {
	if e != nil {
		Walk(e, t.visit)
	}
}

func (t *touched) visit(e Expr) {
	switch e := e.(type) {
	case *FieldOf:
		t.row(e.Row)
		t.field(e.Field)
	case *Quantifier:
		t.row(e.Over.Row)
	case *Count:
		t.row(e.Over.Row)
	}
}

func (t *touched) query(q *Query) {
	for _, h := range q.Path {
		t.resource(h.Resource)
		if h.Via != nil {
			t.relation(h.Via)
		}
	}
	t.resource(q.Root.Resource)
	switch {
	case q.View == Number || q.View == Refs:
	case q.Select != nil:
		for _, f := range q.Select {
			t.field(f)
		}
	default:
		for _, f := range q.Root.Resource.Fields {
			if t.may(f) {
				t.field(f)
			}
		}
	}
	t.expr(q.Filter)
	for _, o := range q.Order {
		if !o.Implied {
			t.expr(o.By)
		}
	}
	for _, c := range q.Computed {
		t.expr(c.By)
	}
	if q.Apply != nil {
		q.Apply.Walk(t.visit)
		q.Apply.EachJoin(func(r *Row) { t.row(r) })
	}
	for _, n := range q.Nests {
		t.query(n.Query)
	}
	for _, e := range q.Expand {
		t.relation(e.Relation)
		t.query(e.Query)
	}
}
