package request

import (
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
)

// lambda resolves any and all (URL Conventions, 5.1.1.13).
func (rs *resolver) lambda(n *LambdaNode) (Expr, error) {
	over, err := rs.collection(n.Path)
	if err != nil {
		return nil, err
	}
	q := &Quantifier{All: n.All, Over: over}
	if n.Body == nil {
		return q, nil
	}
	if q.Body, err = rs.within(n.Var, over.Row, over.Element).condition(n.Body); err != nil {
		return nil, err
	}
	return q, nil
}

// count resolves $count; inside its filter, paths speak of the collection's own rows.
func (rs *resolver) count(n *CountNode) (Expr, error) {
	over, err := rs.collection(n.Path)
	if err != nil {
		return nil, err
	}
	c := &Count{Over: over}
	if n.Filter == nil {
		return c, nil
	}
	inner := rs.within("$this", over.Row, over.Element)
	if over.Row != nil {
		inner.root = over.Row
	}
	c.Body, err = inner.condition(n.Filter)
	return c, err
}

// collection finds the relation to many, or the array, that a path leads to.
func (rs *resolver) collection(n *PathNode) (Collection, error) {
	row, rest := rs.start(n)
	row, rest, err := rs.walk(row, rest)
	if err != nil {
		return Collection{}, err
	}
	s := rest[0]
	if rel := row.Resource.Relation(s.Name); rel != nil && len(rest) == 1 {
		if !rel.Many {
			return Collection{}, faultAt(rs.option, s.Pos, "relation.one", "%q leads to one row, so any, all and $count don't apply; name a field of it, such as %s/%s", s.Name, s.Name, rel.To.Fields[0].Name)
		}
		return Collection{Row: &Row{Resource: rel.To, Parent: row, Via: rel}}, nil
	}
	if row.Resource.Field(s.Name) == nil && rs.elements[s.Name] == nil {
		return Collection{}, faultAt(rs.option, s.Pos, "field.unknown", "%s has no relation or array %q%s", row.Resource.Name, s.Name,
			fault.Suggest(s.Name, row.Resource.RelationNames()))
	}
	e, err := rs.path(n)
	if err != nil {
		return Collection{}, err
	}
	switch t := e.Type(); t.Kind {
	case model.Collection:
		return Collection{Array: e, Element: &Element{T: t.Element}}, nil
	case model.JSON:
		return Collection{Array: e, Element: &Element{T: jsonType}}, nil
	default:
		return Collection{}, faultAt(rs.option, s.Pos, "type.mismatch", "%s is %s; any, all and $count take a relation to many or an array", n, articled(t))
	}
}

// jsonAs gives an untyped JSON value the type that the other side has: number, text or boolean.
func (rs *resolver) jsonAs(e Expr, t *model.Type, n Node) (Expr, error) {
	if e.Type().Kind != model.JSON {
		return e, nil
	}
	switch {
	case t.Kind.Numeric():
		return &JSONAs{Of: e, T: model.DecimalType}, nil
	case t.Kind == model.String || t.Kind == model.Enum:
		return &JSONAs{Of: e, T: model.StringType}, nil
	case t.Kind == model.Boolean:
		return &JSONAs{Of: e, T: model.BooleanType}, nil
	case t.Kind == model.Unknown || t.Kind == model.JSON:
		return e, nil
	}
	return nil, rs.fault(n, "type.mismatch", "%s is a JSON value, which holds numbers, texts and booleans, but no %s", n, t.Kind)
}
