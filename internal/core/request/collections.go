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
	if n.Body != nil {
		if q.Body, err = rs.within(n.Var, over.Row, over.Element).condition(n.Body); err != nil {
			return nil, err
		}
	}
	if n.Filter == nil {
		return q, nil
	}
	filter, err := rs.among(over).condition(n.Filter)
	if err != nil {
		return nil, err
	}
	switch {
	case n.Body == nil:
		q.Body = filter
	case n.All: // of those that do not meet the filter, nothing is asked
		q.Body = &query.Call{T: model.BooleanType, Op: "or", Args: []query.Expr{
			&query.Call{T: model.BooleanType, Op: "not", Args: []query.Expr{filter}}, q.Body}}
	default:
		q.Body = bothExprs(filter, q.Body)
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
	inner := rs.among(over)
	if n.Filter != nil {
		if c.Body, err = inner.condition(n.Filter); err != nil {
			return nil, err
		}
	}
	if n.Search == nil {
		return c, nil
	}
	if over.Row == nil {
		return nil, rs.fault(n.Path, "type.mismatch", "search looks into rows, but %s is an array", n.Path)
	}
	search, err := inner.searched(n.Search, rs.option)
	c.Body = bothExprs(c.Body, search)
	return c, err
}

// among is the resolver for a condition of the elements of a collection, which are $this.
func (rs *resolver) among(over query.Collection) *resolver {
	inner := rs.within("$this", over.Row, over.Element)
	if over.Row != nil {
		inner.root = over.Row
		if inner.it == nil {
			inner.it = rs.root
		}
	}
	return inner
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

// listFunctions are the functions over collections of single values, each an array of a row or one that the request gives: what they give,
// and of how many (URL Conventions, 5.1.1.5, 5.1.1.6).
var listFunctions = map[string]struct {
	takes int
	gives *model.Type
}{
	"hassubset": {2, model.BooleanType}, "hassubsequence": {2, model.BooleanType}, "contains": {2, model.BooleanType},
	"startswith": {2, model.BooleanType}, "endswith": {2, model.BooleanType}, "indexof": {2, model.Int32Type}, "length": {1, model.Int32Type},
}

// overLists reports whether a function that texts have too is called with an array.
func (rs *resolver) overLists(n *syntax.CallNode) bool {
	if strings.HasPrefix(n.Name, "hassub") {
		return true
	}
	if _, known := listFunctions[n.Name]; !known {
		return false
	}
	return slices.ContainsFunc(n.Args, rs.isList)
}

// isList reports whether a node is an array: one of a row, or one that the request gives.
func (rs *resolver) isList(n syntax.Node) bool {
	switch n := n.(type) {
	case *syntax.LiteralNode:
		return n.Value.Class == syntax.Several
	case *syntax.PathNode, *syntax.RootNode:
		e, err := rs.expr(n)
		return err == nil && e.Type().Kind == model.Collection
	}
	return false
}

// lists resolves a function over collections.
func (rs *resolver) lists(n *syntax.CallNode) (query.Expr, error) {
	f := listFunctions[n.Name]
	if len(n.Args) != f.takes {
		if f.takes == 1 {
			return nil, rs.fault(n, "function.arguments", "%s takes one list or text, not %d arguments", n.Name, len(n.Args))
		}
		return nil, rs.fault(n, "function.arguments", "%s takes two lists, as in %s(tags,[\"ice\"]), not %d", n.Name, n.Name, len(n.Args))
	}
	args, err := rs.listArguments(n.Name, n.Args)
	if err != nil {
		return nil, err
	}
	op := n.Name
	if !strings.HasPrefix(op, "hassub") {
		op = "list " + op
	}
	return &query.Call{T: f.gives, Op: op, Args: args}, nil
}

// listArguments resolves lists whose elements have one type. function is "" for a comparison.
func (rs *resolver) listArguments(function string, nodes []syntax.Node) ([]query.Expr, error) {
	takes, of := function+" takes lists", "of "+function
	if function == "" {
		takes, of = "a list is compared with a list", "here"
	}
	var element *model.Type
	args := make([]query.Expr, len(nodes))
	for i, node := range nodes {
		if _, given := node.(*syntax.LiteralNode); given {
			continue
		}
		e, err := rs.expr(node)
		if err != nil {
			return nil, err
		}
		if e.Type().Kind == model.Unknown {
			continue
		}
		t := e.Type()
		if t.Kind != model.Collection || !query.Sortable(t.Element) {
			return nil, rs.fault(node, "type.mismatch", "%s, but %s is %s", takes, node, articled(t))
		}
		if element != nil && !sameElements(element, t.Element) {
			return nil, rs.fault(node, "type.mismatch", "the lists %s must hold values of one type, but %s holds %ss", of, node, t.Element.Kind)
		}
		element, args[i] = t.Element, query.Share(e)
	}
	for i, node := range nodes {
		l, given := node.(*syntax.LiteralNode)
		if !given {
			continue
		}
		if l.Value.Class != syntax.Several {
			return nil, rs.fault(node, "type.mismatch", "%s, but %s is %s; write [%s]", takes, l, l.Value.Kind(), l)
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
		if element == nil {
			element = of
		}
		args[i] = rs.value(l, &model.Type{Kind: model.Collection, SQL: of.SQL + "[]", Element: of})
	}
	if element == nil {
		element = model.StringType
	}
	for i := range args {
		if args[i] == nil {
			args[i] = &query.Constant{T: &model.Type{Kind: model.Collection, SQL: element.SQL + "[]", Element: element}, Text: "null"}
		}
	}
	return args, nil
}

// listComparison resolves eq and ne between an array and a list: they are equal where all their elements are, in their order. It is nil
// where neither side is a list that the request gives, or both are no arrays.
func (rs *resolver) listComparison(n *syntax.BinaryNode) (query.Expr, error) {
	given := func(n syntax.Node) bool {
		l, is := n.(*syntax.LiteralNode)
		return is && l.Value.Class == syntax.Several
	}
	isNull := func(n syntax.Node) bool { return strings.EqualFold(n.String(), "null") }
	if isNull(n.Left) || isNull(n.Right) || !given(n.Left) && !given(n.Right) && !(rs.isList(n.Left) && rs.isList(n.Right)) {
		return nil, nil
	}
	if n.Operator != "eq" && n.Operator != "ne" {
		return nil, syntax.FaultAt(rs.option, n.Pos, "type.mismatch", "lists are equal or not; %q can't compare them", n.Operator)
	}
	args, err := rs.listArguments("", []syntax.Node{n.Left, n.Right})
	if err != nil {
		return nil, err
	}
	return &query.Call{T: model.BooleanType, Op: n.Operator, Args: args}, nil
}

func sameElements(a, b *model.Type) bool {
	return a.Kind.Numeric() && b.Kind.Numeric() || a.Kind == b.Kind && (a.Kind != model.Enum || a.SQL == b.SQL)
}

// rootPath resolves $root/vessels(3)/name: a field of a row that its key names, whatever row the request speaks of.
func (rs *resolver) rootPath(n *syntax.RootNode) (query.Expr, error) {
	r, err := rs.rootResource(n)
	if err != nil {
		return nil, err
	}
	e, err := rs.rootRow(n, r)
	if err != nil {
		return nil, err
	}
	if n.Path == nil {
		return nil, rs.fault(n, "syntax.invalid", "%s is a row; name a field of it, such as %s/%s, or compare it with a relation", n, n,
			r.Fields[0].Name)
	}
	inner := *rs
	inner.root, inner.it, inner.computed = e.Row, nil, nil
	e.Of, err = inner.path(n.Path)
	return e, err
}

// rootRow is the row that $root and a key name.
func (rs *resolver) rootRow(n *syntax.RootNode, r *model.Resource) (*query.RootOf, error) {
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
	return e, nil
}

// rootResource is the resource that $root leads to.
func (rs *resolver) rootResource(n *syntax.RootNode) (*model.Resource, error) {
	r := rs.root.Resource.Model.Resource(n.Resource.Name)
	if r == nil {
		return nil, syntax.FaultAt(rs.option, n.Resource.Pos, "resource.unknown", "there is no resource %q%s", n.Resource.Name,
			fault.Suggest(n.Resource.Name, rs.root.Resource.Model.ResourceNames()))
	}
	if len(n.Key) != len(r.Key) || len(r.Key) == 0 {
		return nil, syntax.FaultAt(rs.option, n.Resource.Pos, "key.invalid", "the key of %s has %d parts; write $root/%s", r.Name, len(r.Key),
			keyExample(r))
	}
	return r, nil
}

// rowComparison resolves eq and ne between rows: a relation to one, $it, $this or a range variable, a row under $root, and null (URL
// Conventions, 5.1.1.1.1). It is nil where the sides are no rows.
func (rs *resolver) rowComparison(n *syntax.BinaryNode) (query.Expr, error) {
	left, of, err := rs.rowKey(n.Left)
	if err != nil {
		return nil, err
	}
	right, to, err := rs.rowKey(n.Right)
	if err != nil || left == nil && right == nil {
		return nil, err
	}
	if n.Operator != "eq" && n.Operator != "ne" {
		return nil, syntax.FaultAt(rs.option, n.Pos, "type.mismatch", "rows are the same or not; %q can't compare them", n.Operator)
	}
	if left == nil || right == nil {
		row, other, node := left, n.Right, n.Left
		if left == nil {
			row, other, node = right, n.Left, n.Right
		}
		if !strings.EqualFold(other.String(), "null") {
			return nil, rs.fault(other, "type.mismatch", "%s is a row, and %s is none; compare a field of it, such as %s/%s, or write null", node,
				other, node, keyOf(of, to).Name)
		}
		return &query.Call{T: model.BooleanType, Op: n.Operator, Args: []query.Expr{row[0], null()}},
			nil
	}
	if of != to {
		return nil, syntax.FaultAt(rs.option, n.Pos, "type.mismatch", "%s is a row of %s and %s one of %s", n.Left, of.Name, n.Right, to.Name)
	}
	var same query.Expr
	for i := range left {
		same = bothExprs(same, &query.Call{T: model.BooleanType, Op: "eq", Args: []query.Expr{left[i], right[i]}})
	}
	if n.Operator == "ne" {
		same = &query.Call{T: model.BooleanType, Op: "not", Args: []query.Expr{same}}
	}
	return same, nil
}

// keyOf is the first field of the key of a resource, of two of which one may be nil.
func keyOf(r, other *model.Resource) *model.Field {
	if r == nil {
		r = other
	}
	return r.Key[0]
}

// rowKey are the fields of the key of the row that a node leads to; nil where it leads to none.
func (rs *resolver) rowKey(n syntax.Node) ([]query.Expr, *model.Resource, error) {
	switch n := n.(type) {
	case *syntax.RootNode:
		if n.Path != nil {
			return nil, nil, nil
		}
		r, err := rs.rootResource(n)
		if err != nil {
			return nil, nil, err
		}
		key := make([]query.Expr, len(r.Key))
		for i, k := range r.Key {
			e, err := rs.rootRow(n, r)
			if err != nil {
				return nil, nil, err
			}
			e.Of = &query.FieldOf{Row: e.Row, Field: k, Pos: n.Pos}
			key[i] = e
		}
		return key, r, nil
	case *syntax.PathNode:
		row := rs.rowAt(n)
		if row == nil || len(row.Resource.Key) == 0 {
			return nil, nil, nil
		}
		key := make([]query.Expr, len(row.Resource.Key))
		for i, k := range row.Resource.Key {
			key[i] = &query.FieldOf{Row: row, Field: k, Pos: n.Start()}
		}
		return key, row.Resource, nil
	}
	return nil, nil, nil
}

// rowAt is the row that a path leads to, nil where it leads to a value.
func (rs *resolver) rowAt(n *syntax.PathNode) *query.Row {
	first := n.Segments[0].Name
	if len(n.Segments) == 1 {
		switch row := rs.rows[first]; {
		case row != nil:
			return row
		case first == "$it" && rs.it != nil:
			return rs.it
		case (first == "$it" || first == "$this") && rs.elements[first] == nil:
			return rs.root
		}
		if rs.computed[first] != nil || rs.elements[first] != nil {
			return nil
		}
	}
	row, rest := rs.start(n)
	row, rest, err := rs.walk(row, rest)
	if err != nil || len(rest) != 1 || row.Resource.Derived || row.Resource.Field(rest[0].Name) != nil {
		return nil
	}
	rel := row.Resource.Relation(rest[0].Name)
	if rel == nil || rel.Many {
		return nil
	}
	return row.One(rel)
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
