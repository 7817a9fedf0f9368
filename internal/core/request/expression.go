package request

import (
	"maps"
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// Condition resolves a row rule over the row: a filter that may use @caller with the claims that are given. Its literals are
// held in the tree.
func Condition(node syntax.Node, row *query.Row, claims []model.Claim) (query.Expr, error) {
	rs := &resolver{root: row, option: "rows", fixed: true, claims: claims}
	return rs.condition(node)
}

// resolver binds the expressions of one option to the rows that they speak of.
type resolver struct {
	root     *query.Row
	it       *query.Row // of $it: the row of the request, whatever relation is expanded; nil: root
	option   string
	fixed    bool // literals are held in the tree
	claims   []model.Claim
	computed map[string]query.Expr // what compute has named
	left     *budget               // nil: no limit, of what documents say
	names    []string              // of what apply has computed since it last grouped, in order
	rows     map[string]*query.Row // range variables over rows
	elements map[string]*query.Element
}

// within is the resolver for the body of a lambda, where a range variable is known besides.
func (rs *resolver) within(name string, row *query.Row, element *query.Element) *resolver {
	inner := *rs
	inner.rows, inner.elements = maps.Clone(rs.rows), maps.Clone(rs.elements)
	if inner.rows == nil {
		inner.rows = map[string]*query.Row{}
	}
	if inner.elements == nil {
		inner.elements = map[string]*query.Element{}
	}
	if row != nil {
		inner.rows[name] = row
	} else {
		inner.elements[name] = element
	}
	return &inner
}

func (rs *resolver) fault(n syntax.Node, code, format string, args ...any) error {
	return syntax.FaultAt(rs.option, n.Start(), code, format, args...)
}

// condition resolves an expression that must be true or false.
func (rs *resolver) condition(n syntax.Node) (query.Expr, error) {
	e, err := rs.expr(n)
	if err != nil {
		return nil, err
	}
	if e.Type().Kind == model.JSON {
		if e, err = rs.jsonAs(e, model.BooleanType, n); err != nil {
			return nil, err
		}
	}
	if k := e.Type().Kind; k != model.Boolean && k != model.Unknown {
		return nil, rs.fault(n, "type.mismatch", "a condition is expected, but %s is %s; compare it with something, such as %s eq …", n,
			articled(e.Type()), n)
	}
	return e, nil
}

func (rs *resolver) expr(n syntax.Node) (query.Expr, error) {
	if err := rs.left.spend(rs.option, n.Start()); err != nil {
		return nil, err
	}
	switch n := n.(type) {
	case *syntax.LiteralNode:
		if n.Value.Class == syntax.Several {
			return nil, rs.fault(n, "syntax.invalid", "a list can only stand after \"in\", beside an array, and in functions of arrays")
		}
		return rs.value(n, query.NaturalType(n.Value.Class)), nil
	case *syntax.PathNode:
		return rs.path(n)
	case *syntax.RootNode:
		return rs.rootPath(n)
	case *syntax.UnaryNode:
		return rs.unary(n)
	case *syntax.BinaryNode:
		return rs.binary(n)
	case *syntax.CallNode:
		return rs.call(n)
	case *syntax.LambdaNode:
		return rs.lambda(n)
	case *syntax.CountNode:
		return rs.count(n)
	}
	return nil, rs.fault(n, "syntax.invalid", "a list can only stand after \"in\", beside an array, and in functions of arrays")
}

func (rs *resolver) value(n *syntax.LiteralNode, t *model.Type) *query.Value {
	v := &query.Value{T: t, Index: n.Index}
	if rs.fixed {
		literal := n.Value
		v.Fixed = &literal
	}
	return v
}

// path resolves a field, through relations to one, or null, true, false, @caller/name.
func (rs *resolver) path(n *syntax.PathNode) (query.Expr, error) {
	first := n.Segments[0].Name
	if len(n.Segments) == 1 {
		switch strings.ToLower(first) {
		case "null":
			return null(), nil
		case "true", "false":
			return &query.Constant{T: model.BooleanType, Text: strings.ToLower(first)}, nil
		}
	}
	if strings.HasPrefix(first, "@") {
		return rs.callerValue(n)
	}
	if len(n.Segments) == 1 {
		if e, ok := rs.computed[first]; ok {
			return query.Use(e), nil
		}
	}
	if element, ok := rs.elements[first]; ok {
		return rs.below(&query.ElementOf{Var: element}, n.Segments, 1)
	}
	row, rest := rs.start(n)
	row, rest, err := rs.walk(row, rest)
	if err != nil {
		return nil, err
	}
	s := rest[0]
	if row.Resource.Derived {
		if f := row.Resource.Field((&syntax.PathNode{Segments: rest}).String()); f != nil {
			return &query.FieldOf{Row: row, Field: f, Pos: s.Pos}, nil
		}
		return nil, syntax.FaultAt(rs.option, s.Pos, "field.unknown", "unknown field %q; the result of apply has %s",
			&syntax.PathNode{Segments: rest}, strings.Join(row.Resource.FieldNames(), ", "))
	}
	if f := row.Resource.Field(s.Name); f != nil {
		return rs.below(&query.FieldOf{Row: row, Field: f, Pos: s.Pos}, rest, 1)
	}
	rel := row.Resource.Relation(s.Name)
	if rel == nil {
		if err := rs.dotted(n); err != nil {
			return nil, err
		}
		return nil, syntax.FaultAt(rs.option, s.Pos, "field.unknown", "unknown field %q%s", s.Name, unknownField(s.Name, row.Resource))
	}
	if rel.Many {
		return nil, syntax.FaultAt(rs.option, s.Pos, "relation.many",
			"%q leads to many %s, so one value can't be taken from it; ask for %s/any(x: …) or %s/$count", s.Name, rel.To.Name, s.Name, s.Name)
	}
	return nil, syntax.FaultAt(rs.option, s.Pos, "field.unknown", "%q is a relation; name a field of it, such as %s/%s", s.Name, s.Name,
		rel.To.Fields[0].Name)
}

// start is the row that a path begins at, a range variable's or the query's own, and the segments that follow.
func (rs *resolver) start(n *syntax.PathNode) (*query.Row, []syntax.SegmentNode) {
	first := n.Segments[0].Name
	if row, ok := rs.rows[first]; ok && len(n.Segments) > 1 {
		return row, n.Segments[1:]
	}
	switch {
	case first == "$it" && len(n.Segments) > 1 && rs.it != nil:
		return rs.it, n.Segments[1:]
	case (first == "$it" || first == "$this") && len(n.Segments) > 1:
		return rs.root, n.Segments[1:]
	}
	return rs.root, n.Segments
}

// walk follows relations to one, as far as more segments come after them.
func (rs *resolver) walk(row *query.Row, segments []syntax.SegmentNode) (*query.Row, []syntax.SegmentNode, error) {
	for len(segments) > 1 {
		s := segments[0]
		rel := row.Resource.Relation(s.Name)
		if rel == nil || rel.Many || row.Resource.Field(s.Name) != nil {
			break
		}
		row, segments = row.One(rel), segments[1:]
	}
	return row, segments, nil
}

// below resolves what a path names inside a value: members of JSON, fields of a composite type, bounds of a range.
func (rs *resolver) below(e query.Expr, segments []syntax.SegmentNode, i int) (query.Expr, error) {
	for ; i < len(segments); i++ {
		s := segments[i]
		t := e.Type()
		switch {
		case t.Kind == model.JSON:
			path := &query.JSONPath{Of: e}
			for ; i < len(segments); i++ {
				path.Keys = append(path.Keys, segments[i].Name)
			}
			return path, nil
		case t.Kind == model.Complex:
			at := slices.IndexFunc(t.Fields, func(f model.SubType) bool { return f.Name == s.Name })
			if at < 0 {
				return nil, syntax.FaultAt(rs.option, s.Pos, "field.unknown", "%q has no field %q", segments[i-1].Name, s.Name)
			}
			e = &query.SubField{Of: e, Name: s.Name, T: t.Fields[at].Type}
		case t.Kind == model.Range && !t.Multi:
			parts := t.Parts()
			at := slices.IndexFunc(parts, func(p model.SubType) bool { return p.Name == s.Name })
			if at < 0 {
				return nil, syntax.FaultAt(rs.option, s.Pos, "field.unknown", "%q is a range, it has lower, upper, bounds and empty",
					segments[i-1].Name)
			}
			e = &query.Call{T: parts[at].Type, Op: s.Name, Args: []query.Expr{e}}
		default:
			return nil, syntax.FaultAt(rs.option, s.Pos, "field.unknown", "%q is %s, it has no field %q", segments[i-1].Name, articled(t), s.Name)
		}
	}
	return e, nil
}

func (rs *resolver) callerValue(n *syntax.PathNode) (query.Expr, error) {
	if n.Segments[0].Name != "@caller" || !rs.fixed {
		return nil, rs.fault(n, "alias.unknown", "%s has no value: only row rules know it", n.Segments[0].Name)
	}
	names := make([]string, len(rs.claims))
	for i, c := range rs.claims {
		names[i] = c.Name
		if len(n.Segments) == 2 && n.Segments[1].Name == c.Name {
			return &query.Claim{T: c.Type, Name: c.Name}, nil
		}
	}
	if len(n.Segments) != 2 {
		return nil, rs.fault(n, "claim.unknown", "write @caller/ and the name of a claim")
	}
	if len(names) == 0 {
		return nil, rs.fault(n, "claim.unknown", "the role has no claims; add \"claims\" with %q and its type", n.Segments[1].Name)
	}
	return nil, rs.fault(n, "claim.unknown", "the role has no claim %q%s", n.Segments[1].Name, fault.Suggest(n.Segments[1].Name, names))
}

func (rs *resolver) unary(n *syntax.UnaryNode) (query.Expr, error) {
	if n.Operator == "not" {
		inner, err := rs.condition(n.Operand)
		if err != nil {
			return nil, err
		}
		return &query.Call{T: model.BooleanType, Op: "not", Args: []query.Expr{inner}}, nil
	}
	inner, err := rs.expr(n.Operand)
	if err != nil {
		return nil, err
	}
	if isNullConstant(inner) {
		return inner, nil
	}
	if k := inner.Type().Kind; !k.Numeric() && k != model.Duration {
		if rs.option == "orderby" {
			return nil, rs.fault(n, "type.mismatch", "a minus sign takes a number, but %s is %s; write %s desc", n.Operand, articled(inner.Type()),
				n.Operand)
		}
		return nil, rs.fault(n, "type.mismatch", "a minus sign takes a number, but %s is %s", n.Operand, articled(inner.Type()))
	}
	return &query.Call{T: inner.Type(), Op: "negate", Args: []query.Expr{inner}}, nil
}

func (rs *resolver) binary(n *syntax.BinaryNode) (query.Expr, error) {
	switch n.Operator {
	case "and", "or":
		left, err := rs.condition(n.Left)
		if err != nil {
			return nil, err
		}
		right, err := rs.condition(n.Right)
		if err != nil {
			return nil, err
		}
		return &query.Call{T: model.BooleanType, Op: n.Operator, Args: []query.Expr{left, right}}, nil
	case "eq", "ne", "gt", "ge", "lt", "le":
		if u, ok := n.Left.(*syntax.UnaryNode); ok && u.Operator == "not" {
			if inner, err := rs.expr(u.Operand); err == nil && inner.Type().Kind != model.Boolean && !isNullConstant(inner) {
				return nil, rs.fault(u, "type.mismatch", "\"not\" binds tighter than %q; write not (%s %s %s)", n.Operator, u.Operand, n.Operator,
					n.Right)
			}
		}
		return rs.comparison(n)
	case "in":
		return rs.member(n)
	case "has":
		// no enum of PostgreSQL holds several values
		return rs.comparison(&syntax.BinaryNode{Pos: n.Pos, Operator: "eq", Left: n.Left, Right: n.Right})
	}
	return rs.arithmetic(n)
}

func (rs *resolver) comparison(n *syntax.BinaryNode) (query.Expr, error) {
	if e, err := rs.rowComparison(n); e != nil || err != nil {
		return e, err
	}
	if e, err := rs.listComparison(n); e != nil || err != nil {
		return e, err
	}
	left, err := rs.expr(n.Left)
	if err != nil {
		return nil, err
	}
	right, err := rs.expr(n.Right)
	if err != nil {
		return nil, rs.unquoted(n.Right, left.Type(), err)
	}
	if left, err = rs.jsonAs(left, right.Type(), n.Left); err != nil {
		return nil, err
	}
	if right, err = rs.jsonAs(right, left.Type(), n.Right); err != nil {
		return nil, err
	}
	if left, err = rs.fit(left, n.Left, right.Type(), n.Right); err != nil {
		return nil, err
	}
	if right, err = rs.fit(right, n.Right, left.Type(), n.Left); err != nil {
		return nil, err
	}
	if err := rs.comparable(n, left.Type(), right.Type()); err != nil {
		return nil, err
	}
	return &query.Call{T: model.BooleanType, Op: n.Operator, Args: []query.Expr{left, right}}, nil
}

// fit gives a literal the type that the other side expects; anything else stays as it is.
func (rs *resolver) fit(e query.Expr, n syntax.Node, t *model.Type, other syntax.Node) (query.Expr, error) {
	v, ok := e.(*query.Value)
	if !ok || t.Kind == model.Unknown {
		return e, nil
	}
	literal := n.(*syntax.LiteralNode)
	fit := query.Fitting(literal.Value.Class, t)
	if fit == nil {
		return nil, rs.fault(n, "type.mismatch", "%s is %s, but %s is %s; %s", other, articled(t), literal, literal.Value.Kind(),
			advice(literal.Value, t))
	}
	v.T = fit
	return v, nil
}

// advice says how the literal should have been written.
func advice(l syntax.Literal, t *model.Type) string {
	switch {
	case t.Kind == model.String && l.Class != syntax.Text:
		return "put it in quotes: " + syntax.QuoteText(l.Text)
	case l.Class == syntax.Text && (t.Kind.Numeric() || t.Kind == model.GUID || t.Kind == model.Date || t.Kind == model.Instant ||
		t.Kind == model.TimeOfDay) && fits(l.Text, t):
		return "leave out the quotes"
	case t.Kind == model.Instant && l.Class == syntax.Day:
		return "write " + l.Text + "T00:00:00Z"
	case t.Kind == model.Date && l.Class == syntax.Moment:
		return "write " + l.Text[:10]
	}
	return "write something like " + query.ExampleOf(t)
}

func fits(text string, t *model.Type) bool {
	_, err := query.Argument(syntax.Literal{Text: text}, t)
	return err == nil
}

func (rs *resolver) comparable(n *syntax.BinaryNode, left, right *model.Type) error {
	for _, side := range []struct {
		n syntax.Node
		t *model.Type
	}{{n.Left, left}, {n.Right, right}} {
		switch side.t.Kind {
		case model.Opaque:
			if side.t.Ordered && (left.SQL == right.SQL || left.Kind == model.Unknown || right.Kind == model.Unknown) {
				continue
			}
			fallthrough
		case model.JSON, model.Collection, model.Complex, model.Range:
			other := left
			if side.t == left {
				other = right
			}
			if other.Kind == model.Unknown && (n.Operator == "eq" || n.Operator == "ne") {
				continue
			}
			return rs.fault(side.n, "type.mismatch", "%s is %s, which can't be compared as a whole; only with null", side.n, articled(side.t))
		}
	}
	l, r := left.Kind, right.Kind
	text := func(k model.Kind) bool { return k == model.String || k == model.Enum }
	if l == r || l.Numeric() && r.Numeric() || text(l) && text(r) || l == model.Unknown || r == model.Unknown {
		return nil
	}
	return syntax.FaultAt(rs.option, n.Pos, "type.mismatch", "%s is %s and %s is %s, so %q can't compare them", n.Left, articled(left),
		n.Right, articled(right), n.Operator)
}

func (rs *resolver) member(n *syntax.BinaryNode) (query.Expr, error) {
	x, err := rs.expr(n.Left)
	if err != nil {
		return nil, err
	}
	if list, ok := n.Right.(*syntax.LiteralNode); ok && len(list.Value.Items) > 0 {
		if x, err = rs.jsonAs(x, query.NaturalType(list.Value.Items[0].Class), n.Left); err != nil {
			return nil, err
		}
	}
	if x.Type().Kind != model.Unknown && !query.Sortable(x.Type()) {
		return nil, rs.fault(n.Left, "type.mismatch", "%s is %s, which can't stand before \"in\"", n.Left, articled(x.Type()))
	}
	switch list := n.Right.(type) {
	case *syntax.LiteralNode:
		if isNullConstant(x) {
			return &query.Constant{T: model.BooleanType, Text: "false"}, nil
		}
		return rs.memberOfLiteral(n, list, x)
	case *syntax.ListNode:
		return rs.memberOfItems(n, list, x)
	case *syntax.PathNode:
		if strings.EqualFold(list.String(), "null") { // an alias that is not given
			return &query.Constant{T: model.BooleanType, Text: "null"}, nil
		}
		return rs.memberOfCollection(n, list, x)
	}
	return nil, rs.fault(n.Right, "syntax.invalid", "a list in brackets is expected after \"in\"")
}

// memberOfLiteral resolves x in a list that is one literal.
func (rs *resolver) memberOfLiteral(n *syntax.BinaryNode, list *syntax.LiteralNode, x query.Expr) (query.Expr, error) {
	if len(list.Value.Items) == 0 {
		return &query.Member{X: x, List: rs.value(list, x.Type())}, nil
	}
	item := list.Value.Items[0]
	t := query.Fitting(item.Class, x.Type())
	if t == nil {
		return nil, syntax.FaultAt(rs.option, item.Pos, "type.mismatch", "%s is %s, but %s is %s; %s", n.Left, articled(x.Type()), item,
			item.Kind(), advice(item, x.Type()))
	}
	return &query.Member{X: x, List: rs.value(list, t)}, nil
}

// memberOfItems resolves x in a list of expressions.
func (rs *resolver) memberOfItems(n *syntax.BinaryNode, list *syntax.ListNode, x query.Expr) (query.Expr, error) {
	m := &query.Member{X: query.Share(x)}
	for _, item := range list.Items {
		e, err := rs.expr(item)
		if err != nil {
			return nil, err
		}
		if e, err = rs.fit(e, item, x.Type(), n.Left); err != nil {
			return nil, err
		}
		if err := rs.comparable(&syntax.BinaryNode{Pos: n.Pos, Operator: "eq", Left: n.Left, Right: item}, x.Type(), e.Type()); err != nil {
			return nil, err
		}
		m.Items = append(m.Items, e)
	}
	return m, nil
}

// memberOfCollection resolves x in an array of the row.
func (rs *resolver) memberOfCollection(n *syntax.BinaryNode, list *syntax.PathNode, x query.Expr) (query.Expr, error) {
	over, err := rs.collection(list)
	if err != nil {
		return nil, err
	}
	if over.Element == nil {
		return nil, rs.fault(list, "type.mismatch", "%s leads to rows, and %s is %s; ask for %s/any(x: …)", list, n.Left, articled(x.Type()),
			list)
	}
	if x, err = rs.fit(x, n.Left, over.Element.T, list); err != nil {
		return nil, err
	}
	if err := rs.comparable(&syntax.BinaryNode{Pos: n.Pos, Operator: "eq", Left: n.Left, Right: list}, x.Type(), over.Element.T); err != nil {
		return nil, err
	}
	return &query.Quantifier{Over: over, Body: &query.Call{T: model.BooleanType, Op: "eq",
		Args: []query.Expr{&query.ElementOf{Var: over.Element}, x}}}, nil
}

// articled is the type as it follows "is".
func articled(t *model.Type) string {
	switch t.Kind {
	case model.Unknown:
		return "null"
	case model.Enum:
		return t.String()
	case model.Opaque:
		return "text of a type that has no order here"
	}
	return t.Kind.Article() + " " + t.Kind.String()
}
