package access

import (
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// Check refuses a query that names what the role may not read: the resource, those it expands, and every field that stands in select,
// filter or order, also those of relations. It returns the query without what it means only as far as it may be read.
func (s *Scope) Check(q *query.Query) (*query.Query, error) {
	if deep := q.Depth(); s.Limits.Depth > 0 && deep > s.Limits.Depth {
		return nil, fault.New(fault.Forbidden, "limit.depth", "the request goes %d relations deep; role %q may go %d deep", deep, s.Name,
			s.Limits.Depth)
	}
	return s.restricted(q)
}

func (s *Scope) restricted(q *query.Query) (*query.Query, error) {
	if err := s.checkNames(q); err != nil {
		return nil, err
	}
	out := *q
	// An order that the document gives a resource tells nothing of a field that the role may not read. The key tells rows apart that are
	// alike. The order of a saved view is a part of what it shows.
	if q.Root.Resource.View == nil {
		out.Order = nil
		for _, t := range q.Order {
			if !t.Implied || inKey(t.By) || s.checkExpr(t.By) == nil {
				out.Order = append(out.Order, t)
			}
		}
	}
	out.Expand = nil
	for _, e := range q.Expand {
		if e.Optional && !s.MayFollow(e.Relation) { // expand=* means what may be read: the rest is left out, not refused
			continue
		}
		inner, err := s.restricted(e.Query)
		if err != nil {
			return nil, err
		}
		expansion := *e
		expansion.Query = inner
		out.Expand = append(out.Expand, &expansion)
	}
	return &out, nil
}

// checkNames checks what a query names, but for what it expands.
func (s *Scope) checkNames(q *query.Query) error {
	if err := s.checkRow(q.Root); err != nil {
		return err
	}
	for _, f := range q.Select {
		if err := s.checkField(f); err != nil {
			return err
		}
	}
	for _, h := range q.Path {
		if err := s.CheckHop(h.Resource, h.Via); err != nil {
			return err
		}
		of := h.KeyOf
		if h.Key == nil && q.View == query.Refs {
			of = h.Resource.Key
		}
		for _, f := range of {
			if err := s.checkField(f); err != nil {
				return err
			}
		}
	}
	if err := s.checkExpr(q.Filter); err != nil {
		return err
	}
	if q.Apply != nil {
		if err := s.checkApply(q.Apply); err != nil {
			return err
		}
	}
	for _, n := range q.Nests {
		if err := s.checkNames(n.Query); err != nil {
			return err
		}
	}
	for _, l := range q.Lists {
		if err := s.checkExpr(l.Where); err != nil {
			return err
		}
		for _, t := range l.Order {
			if err := s.checkExpr(t.By); err != nil {
				return err
			}
		}
	}
	for _, c := range q.Computed {
		if err := s.checkExpr(c.By); err != nil {
			return err
		}
	}
	for _, t := range q.Order {
		if !t.Implied {
			if err := s.checkExpr(t.By); err != nil {
				return err
			}
		}
	}
	return nil
}

func inKey(e query.Expr) bool {
	f, ok := e.(*query.FieldOf)
	return ok && f.Field.InKey && f.Row.Parent == nil
}

func (s *Scope) checkApply(a *query.Apply) error {
	err := s.checkRow(a.Phases[0].Root)
	a.EachJoin(func(row *query.Row) {
		if err == nil {
			err = s.checkRow(row)
		}
	})
	a.Walk(func(e query.Expr) {
		if err == nil {
			err = s.checkOne(e)
		}
	})
	return err
}

func (s *Scope) checkRow(row *query.Row) error {
	for ; row != nil; row = row.Parent {
		if err := s.CheckHop(row.Resource, row.Via); err != nil {
			return err
		}
	}
	return nil
}

// CheckHop is the refusal where the role may not read rows of a resource, or not along the relation that leads to it; via is nil where
// none does.
func (s *Scope) CheckHop(r *model.Resource, via *model.Relation) error {
	if s.For(window.Read, r) == nil {
		return s.Refuse(window.Read, r)
	}
	if via != nil {
		return s.checkFollow(via)
	}
	return nil
}

// CheckField is the refusal where the role may not read a field.
func (s *Scope) CheckField(f *model.Field) error { return s.checkField(f) }

// checkFollow reports whether the role may go along a relation: who may see which rows belong together knows the fields that say so.
func (s *Scope) checkFollow(rel *model.Relation) error {
	if rel.Through != nil {
		return nil
	}
	for _, f := range rel.Holding() {
		if f == nil { // the document shows the relation in place of the field
			continue
		}
		if err := s.checkField(f); err != nil {
			return err
		}
	}
	return nil
}

// MayFollow reports whether the role may read rows along a relation.
func (s *Scope) MayFollow(rel *model.Relation) bool {
	return s.For(window.Read, rel.To) != nil && s.checkFollow(rel) == nil
}

func (s *Scope) checkField(f *model.Field) error {
	d := s.For(window.Read, f.Resource)
	if d == nil {
		return s.Refuse(window.Read, f.Resource)
	}
	if !d.Fields[f.Index] {
		return s.refuseField(f)
	}
	return nil
}

func (s *Scope) checkExpr(e query.Expr) (err error) {
	query.Walk(e, func(e query.Expr) {
		if err == nil {
			err = s.checkOne(e)
		}
	})
	return err
}

// checkOne checks what an expression names itself, not what stands below it.
func (s *Scope) checkOne(e query.Expr) (err error) {
	switch e := e.(type) {
	case *query.FieldOf:
		if err = s.checkRow(e.Row); err == nil {
			err = s.checkField(e.Field)
		}
	case *query.RootOf:
		for _, f := range e.Row.Resource.Key {
			if err == nil {
				err = s.checkField(f)
			}
		}
	case *query.Quantifier:
		err = s.checkRow(e.Over.Row)
	case *query.Count:
		err = s.checkRow(e.Over.Row)
	}
	return err
}
