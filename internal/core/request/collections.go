package request

import (
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// lambda resolves any and all (URL Conventions, 5.1.1.13).
func (rs *resolver) lambda(n *syntax.LambdaNode) (query.Expr, error) {
	over, err := rs.collection(n.Path)
	if err != nil {
		return nil, err
	}
	q := &query.Quantifier{All: n.All, Over: over}
	if n.Body == nil {
		return q, nil
	}
	if q.Body, err = rs.within(n.Var, over.Row, over.Element).condition(n.Body); err != nil {
		return nil, err
	}
	return q, nil
}

// count resolves $count; inside its filter, paths speak of the collection's own rows.
func (rs *resolver) count(n *syntax.CountNode) (query.Expr, error) {
	over, err := rs.collection(n.Path)
	if err != nil {
		return nil, err
	}
	c := &query.Count{Over: over}
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
func (rs *resolver) collection(n *syntax.PathNode) (query.Collection, error) {
	row, rest := rs.start(n)
	row, rest, err := rs.walk(row, rest)
	if err != nil {
		return query.Collection{}, err
	}
	s := rest[0]
	if rel := row.Resource.Relation(s.Name); rel != nil && len(rest) == 1 {
		if !rel.Many {
			return query.Collection{}, syntax.FaultAt(rs.option, s.Pos, "relation.one",
				"%q leads to one row, so any, all and $count don't apply; name a field of it, such as %s/%s", s.Name, s.Name, rel.To.Fields[0].Name)
		}
		return query.Collection{Row: &query.Row{Resource: rel.To, Parent: row, Via: rel}}, nil
	}
	if row.Resource.Field(s.Name) == nil && rs.elements[s.Name] == nil {
		return query.Collection{}, syntax.FaultAt(rs.option, s.Pos, "field.unknown", "%s has no relation or array %q%s", row.Resource.Name,
			s.Name,
			fault.Suggest(s.Name, row.Resource.RelationNames()))
	}
	e, err := rs.path(n)
	if err != nil {
		return query.Collection{}, err
	}
	switch t := e.Type(); t.Kind {
	case model.Collection:
		return query.Collection{Array: e, Element: &query.Element{T: t.Element}}, nil
	case model.JSON:
		return query.Collection{Array: e, Element: &query.Element{T: query.JsonType}}, nil
	default:
		return query.Collection{}, syntax.FaultAt(rs.option, s.Pos, "type.mismatch",
			"%s is %s; any, all and $count take a relation to many or an array", n, articled(t))
	}
}

// lists resolves hassubset and hassubsequence (URL Conventions, 5.1.1.6): each takes two collections of single values, an array
// of a row or one that the request gives.
func (rs *resolver) lists(n *syntax.CallNode) (query.Expr, error) {
	if len(n.Args) != 2 {
		return nil, rs.fault(n, "function.arguments", "%s takes two lists, as in %s(tags,[\"ice\"]), not %d", n.Name, n.Name, len(n.Args))
	}
	var element *model.Type
	args := make([]query.Expr, 2)
	for i, node := range n.Args {
		if _, given := node.(*syntax.LiteralNode); given {
			continue
		}
		e, err := rs.expr(node)
		if err != nil {
			return nil, err
		}
		t := e.Type()
		if t.Kind != model.Collection || !query.Sortable(t.Element) {
			return nil, rs.fault(node, "type.mismatch", "%s takes two lists, but %s is %s", n.Name, node, articled(t))
		}
		if element != nil && !sameElements(element, t.Element) {
			return nil, rs.fault(node, "type.mismatch", "the lists of %s must hold values of one type, but %s holds %ss", n.Name, node,
				t.Element.Kind)
		}
		element, args[i] = t.Element, e
	}
	for i, node := range n.Args {
		l, given := node.(*syntax.LiteralNode)
		if !given {
			continue
		}
		if l.Value.Class != syntax.Several {
			return nil, rs.fault(node, "type.mismatch", "%s takes two lists, but %s is %s; write [%s]", n.Name, l, l.Value.Kind(), l)
		}
		of := element
		if len(l.Value.Items) > 0 {
			item := l.Value.Items[0]
			if of == nil {
				of = query.NaturalType(item.Class)
			}
			if of = query.Fitting(item.Class, of); of == nil {
				return nil, rs.fault(node, "type.mismatch", "%s holds %ss, but the other list holds %ss", l, strings.TrimPrefix(item.Kind(), "a "),
					element.Kind)
			}
		}
		if of == nil {
			of = model.StringType
		}
		element = of
		args[i] = rs.value(l, &model.Type{Kind: model.Collection, SQL: of.SQL + "[]", Element: of})
	}
	return &query.Call{T: model.BooleanType, Op: n.Name, Args: args}, nil
}

func sameElements(a, b *model.Type) bool {
	return a.Kind.Numeric() && b.Kind.Numeric() || a.Kind == b.Kind && (a.Kind != model.Enum || a.SQL == b.SQL)
}

// rootPath resolves $root/vessels(3)/name: a field of a row that its key names, whatever row the request speaks of.
func (rs *resolver) rootPath(n *syntax.RootNode) (query.Expr, error) {
	r := rs.root.Resource.Model.Resource(n.Resource.Name)
	if r == nil {
		return nil, syntax.FaultAt(rs.option, n.Resource.Pos, "resource.unknown", "there is no resource %q%s", n.Resource.Name,
			fault.Suggest(n.Resource.Name, rs.root.Resource.Model.ResourceNames()))
	}
	if len(n.Key) != len(r.Key) {
		return nil, syntax.FaultAt(rs.option, n.Resource.Pos, "key.invalid", "the key of %s has %d parts; write $root/%s", r.Name, len(r.Key),
			keyExample(r))
	}
	e := &query.RootOf{Row: query.NewRow(r), Key: make([]query.Value, len(r.Key))}
	for i, part := range n.Key {
		at := i
		if part.Name != "" {
			at = slices.IndexFunc(r.Key, func(f *model.Field) bool { return f.Name == part.Name })
		}
		if at < 0 || e.Key[at].T != nil || part.Name == "" && len(r.Key) > 1 {
			return nil, syntax.FaultAt(rs.option, n.Resource.Pos, "key.invalid", "the key of %s is %s; write $root/%s", r.Name, keyNames(r),
				keyExample(r))
		}
		v, err := rs.fit(rs.value(part.Value, nil), part.Value, r.Key[at].Type,
			&syntax.PathNode{Segments: []syntax.SegmentNode{{Pos: n.Resource.Pos, Name: r.Key[at].Name}}})
		if err != nil {
			return nil, err
		}
		e.Key[at] = *v.(*query.Value)
	}
	inner := *rs
	inner.root, inner.computed = e.Row, nil
	var err error
	e.Of, err = inner.path(n.Path)
	return e, err
}

// jsonAs gives an untyped JSON value the type that the other side has: number, text or boolean.
func (rs *resolver) jsonAs(e query.Expr, t *model.Type, n syntax.Node) (query.Expr, error) {
	if e.Type().Kind != model.JSON {
		return e, nil
	}
	switch {
	case t.Kind.Numeric():
		return &query.JSONAs{Of: query.Share(e), T: model.DecimalType}, nil
	case t.Kind == model.String || t.Kind == model.Enum:
		return &query.JSONAs{Of: query.Share(e), T: model.StringType}, nil
	case t.Kind == model.Boolean:
		return &query.JSONAs{Of: query.Share(e), T: model.BooleanType}, nil
	case t.Kind == model.Unknown || t.Kind == model.JSON:
		return e, nil
	}
	return nil, rs.fault(n, "type.mismatch", "%s is a JSON value, which holds numbers, texts and booleans, but no %s", n, t.Kind)
}
