package query

// Depth is how many relations deep a query goes: along its path, what it expands, and the paths of its expressions.
func (q *Query) Depth() int {
	deepest := max(len(q.Path)-1, 0)
	see := func(e Expr) {
		switch e := e.(type) {
		case *FieldOf:
			deepest = max(deepest, e.Row.depth())
		case *Quantifier:
			deepest = max(deepest, e.Over.Row.depth())
		case *Count:
			deepest = max(deepest, e.Over.Row.depth())
		}
	}
	own := q.Root.depth()
	Walk(q.Filter, see)
	for _, c := range q.Computed {
		Walk(c.By, see)
	}
	for _, t := range q.Order {
		if !t.Implied {
			Walk(t.By, see)
		}
	}
	if q.Apply != nil {
		q.Apply.Walk(see)
		q.Apply.EachJoin(func(r *Row) { deepest = max(deepest, r.depth()) })
	}
	for _, n := range q.Nests {
		deepest = max(deepest, n.Query.Depth())
	}
	for _, l := range q.Lists {
		Walk(l.Where, see)
	}
	for _, e := range q.Expand {
		deepest = max(deepest, own+1, e.Query.Depth())
	}
	return deepest
}

// depth is how many relations lead to the row; nil is the row of an array's element, which none does.
func (r *Row) depth() int {
	n := 0
	for ; r != nil && r.Via != nil; r = r.Parent {
		n++
	}
	return n
}
