package request

import (
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
)

// maxExpand is how deep relations may be expanded within one another.
const maxExpand = 8

// Resolve binds the request to the model it was read with.
func (r *Request) Resolve() (*Query, error) {
	options, err := r.Parse()
	if err != nil {
		return nil, err
	}
	q := &Query{Root: NewRow(r.Resource)}
	if r.HasKey {
		if q.Key, err = r.resolveKey(); err != nil {
			return nil, err
		}
	}
	if err := fill(q, options, "", 0); err != nil {
		return nil, err
	}
	return q, nil
}

// resolveKey puts the parts of the key in the order of the key's fields.
func (r *Request) resolveKey() ([]Value, error) {
	fields := r.Resource.Key
	if len(r.key) != len(fields) {
		return nil, r.keyFault("the key of %s has %d parts (%s), the path gives %d; write %s", r.Resource.Name, len(fields), keyNames(r.Resource), len(r.key), keyExample(r.Resource))
	}
	values := make([]Value, len(fields))
	given := make([]bool, len(fields))
	for i, part := range r.key {
		at := i
		if part.name != "" {
			at = slices.IndexFunc(fields, func(f *model.Field) bool { return f.Name == part.name })
			if at < 0 {
				return nil, r.keyFault("the key of %s has no part %q; it has %s", r.Resource.Name, part.name, keyNames(r.Resource))
			}
		} else if len(fields) > 1 && r.Literals[part.literal].Class != Segment {
			return nil, r.keyFault("the key of %s has %d parts, so each needs its name; write %s", r.Resource.Name, len(fields), keyExample(r.Resource))
		}
		if given[at] {
			return nil, r.keyFault("the key of %s gives %q twice", r.Resource.Name, part.name)
		}
		given[at] = true
		l := r.Literals[part.literal]
		t := fields[at].Type
		if l.Class == Segment && t.Kind.Integer() {
			t = model.Int64Type // a number that is too large for the column names no row
		} else if l.Class != Segment {
			if t = fitting(l.Class, t); t == nil {
				return nil, r.keyFault("%s of %s is %s, %s is %s; write %s", fields[at].Name, r.Resource.Name, articled(fields[at].Type), l, l.kind(), keyExample(r.Resource))
			}
		}
		values[at] = Value{T: t, Index: part.literal}
	}
	return values, nil
}

// fill resolves the options of a collection or row into the query; within is the relation's path inside expand.
func fill(q *Query, o *Options, within string, depth int) error {
	if depth > maxExpand {
		return fault.New(fault.Invalid, "expand.deep", "relations are expanded more than %d deep", maxExpand).On("expand")
	}
	in := func(option string) string {
		if within == "" {
			return option
		}
		return "expand"
	}
	var err error
	if o.Filter != nil {
		rs := &resolver{root: q.Root, option: in("filter")}
		if q.Filter, err = rs.condition(o.Filter); err != nil {
			return err
		}
	}
	if err := q.order(o.OrderBy, in("orderby")); err != nil {
		return err
	}
	for _, path := range o.Select {
		f, err := selected(q.Root.Resource, path, in("select"))
		if err != nil {
			return err
		}
		if !slices.Contains(q.Select, f) {
			q.Select = append(q.Select, f)
		}
	}
	for i := range o.Expand {
		e, err := expansion(q, &o.Expand[i], within, depth)
		if err != nil {
			return err
		}
		q.Expand = append(q.Expand, e)
	}
	q.Count = o.Count
	if o.Top != nil {
		q.Top = &Value{T: model.Int64Type, Index: o.Top.Index}
	}
	if o.Skip != nil {
		q.Skip = &Value{T: model.Int64Type, Index: o.Skip.Index}
	}
	return nil
}

func expansion(q *Query, node *ExpandNode, within string, depth int) (*Expansion, error) {
	from := q.Root.Resource
	rel := from.Relation(node.Path.Name)
	if rel == nil {
		if from.Field(node.Path.Name) != nil {
			return nil, faultAt("expand", node.Path.Pos, "relation.unknown", "%q is a field of %s, not a relation; fields go into select", node.Path.Name, from.Name)
		}
		return nil, faultAt("expand", node.Path.Pos, "relation.unknown", "%s has no relation %q%s", from.Name, node.Path.Name, fault.Suggest(node.Path.Name, from.RelationNames()))
	}
	for _, e := range q.Expand {
		if e.Relation == rel {
			return nil, faultAt("expand", node.Path.Pos, "option.twice", "relation %q is expanded twice", rel.Name)
		}
	}
	if !rel.Many {
		o := node.Options
		given := []bool{o.Filter != nil, o.OrderBy != nil, o.Top != nil, o.Skip != nil, o.Count}
		if i := slices.Index(given, true); i >= 0 {
			return nil, faultAt("expand", node.Path.Pos, "option.misplaced", "%s leads to one row, so it takes select and expand, not %s", rel.Name,
				[]string{"filter", "orderby", "top", "skip", "count"}[i])
		}
	}
	root := &Row{Resource: rel.To, Parent: q.Root, Via: rel}
	if !rel.Many {
		root = q.Root.One(rel) // one join serves filter, order and expand
	}
	e := &Expansion{Relation: rel, Pos: node.Path.Pos, Query: &Query{Root: root}}
	return e, fill(e.Query, &node.Options, within+rel.Name+"/", depth+1)
}

// order resolves the caller's order, or the document's where the caller gives none, and appends the key, so that the order
// is always one and the same.
func (q *Query) order(given []OrderNode, option string) error {
	rs := &resolver{root: q.Root, option: option}
	if given == nil {
		terms, err := DefaultOrder(q.Root)
		if err != nil {
			return err
		}
		q.Order = terms
	}
	for _, node := range given {
		by, err := rs.expr(node.By)
		if err != nil {
			return err
		}
		if _, isValue := by.(*Value); isValue || !sortable(by.Type()) {
			return faultAt(option, node.By.Start(), "order.invalid", "%s can't be sorted by; name a field that holds single values", node.By)
		}
		q.Order = append(q.Order, Term{By: by, Desc: node.Desc})
	}
	for _, f := range q.Root.Resource.Key {
		there := slices.ContainsFunc(q.Order, func(t Term) bool {
			by, ok := t.By.(*FieldOf)
			return ok && by.Field == f && by.Row == q.Root
		})
		if !there {
			q.Order = append(q.Order, Term{By: &FieldOf{Row: q.Root, Field: f}, Implied: true})
		}
	}
	return nil
}

// DefaultOrder is the order that the document gives the resource of the row.
func DefaultOrder(row *Row) ([]Term, error) {
	var terms []Term
	for _, text := range row.Resource.Order {
		nodes, err := ParseOrder(text.Value)
		if err != nil {
			return nil, err
		}
		rs := &resolver{root: row, option: "order", fixed: true}
		for _, node := range nodes {
			by, err := rs.expr(node.By)
			if err != nil {
				return nil, err
			}
			terms = append(terms, Term{by, node.Desc, true})
		}
	}
	return terms, nil
}

func sortable(t *model.Type) bool {
	switch t.Kind {
	case model.Unknown, model.JSON, model.Collection, model.Complex, model.Range, model.Opaque:
		return false
	}
	return true
}

// selected finds the field that a path of select names.
func selected(r *model.Resource, path *PathNode, option string) (*model.Field, error) {
	first := path.Segments[0]
	f := r.Field(first.Name)
	switch {
	case f == nil && r.Relation(first.Name) != nil:
		return nil, faultAt(option, first.Pos, "field.unknown", "%q is a relation; to have its rows in the answer, write expand=%s", first.Name, first.Name)
	case f == nil:
		return nil, faultAt(option, first.Pos, "field.unknown", "unknown field %q%s", first.Name, unknownField(first.Name, r))
	case len(path.Segments) > 1:
		return nil, faultAt(option, path.Segments[1].Pos, "field.unknown", "%q is a field, it has nothing below it to select", first.Name)
	}
	return f, nil
}

func unknownField(name string, r *model.Resource) string {
	if near := fault.Nearest(name, r.FieldNames()); near != "" {
		return "; resource \"" + r.Name + "\" has \"" + near + "\""
	}
	return "; resource \"" + r.Name + "\" has " + strings.Join(r.FieldNames(), ", ")
}

// Condition resolves a row rule over the row: a filter that may use @caller with the claims that are given. Its literals are
// held in the tree.
func Condition(node Node, row *Row, claims []model.Claim) (Expr, error) {
	rs := &resolver{root: row, option: "rows", fixed: true, claims: claims}
	return rs.condition(node)
}

// resolver binds the expressions of one option to the rows that they speak of.
type resolver struct {
	root   *Row
	option string
	fixed  bool // literals are held in the tree
	claims []model.Claim
}

func (rs *resolver) fault(n Node, code, format string, args ...any) error {
	return faultAt(rs.option, n.Start(), code, format, args...)
}

// condition resolves an expression that must be true or false.
func (rs *resolver) condition(n Node) (Expr, error) {
	e, err := rs.expr(n)
	if err != nil {
		return nil, err
	}
	if k := e.Type().Kind; k != model.Boolean && k != model.Unknown {
		return nil, rs.fault(n, "type.mismatch", "a condition is expected, but %s is %s; compare it with something, such as %s eq …", n, articled(e.Type()), n)
	}
	return e, nil
}

func (rs *resolver) expr(n Node) (Expr, error) {
	switch n := n.(type) {
	case *LiteralNode:
		return rs.value(n, naturalType(n.Value.Class)), nil
	case *PathNode:
		return rs.path(n)
	case *UnaryNode:
		return rs.unary(n)
	case *BinaryNode:
		return rs.binary(n)
	case *CallNode:
		return rs.call(n)
	}
	return nil, rs.fault(n, "syntax.invalid", "a list can only stand after \"in\"")
}

func (rs *resolver) value(n *LiteralNode, t *model.Type) *Value {
	v := &Value{T: t, Index: n.Index}
	if rs.fixed {
		literal := n.Value
		v.Fixed = &literal
	}
	return v
}

// path resolves a field, through relations to one, or null, true, false, @caller/name.
func (rs *resolver) path(n *PathNode) (Expr, error) {
	first := n.Segments[0].Name
	if len(n.Segments) == 1 {
		switch strings.ToLower(first) {
		case "null":
			return &Constant{T: model.NullType, Text: "null"}, nil
		case "true", "false":
			return &Constant{T: model.BooleanType, Text: strings.ToLower(first)}, nil
		}
	}
	segments, row := n.Segments, rs.root
	if strings.HasPrefix(first, "@") {
		return rs.callerValue(n)
	}
	if first == "$it" && len(segments) > 1 {
		segments = segments[1:]
	}
	for i, s := range segments {
		if f := row.Resource.Field(s.Name); f != nil {
			if i < len(segments)-1 {
				return nil, faultAt(rs.option, segments[i+1].Pos, "field.unknown", "%q is %s, it has no field %q", s.Name, articled(f.Type), segments[i+1].Name)
			}
			return &FieldOf{Row: row, Field: f, Pos: s.Pos}, nil
		}
		rel := row.Resource.Relation(s.Name)
		if rel == nil {
			return nil, faultAt(rs.option, s.Pos, "field.unknown", "unknown field %q%s", s.Name, unknownField(s.Name, row.Resource))
		}
		if rel.Many {
			return nil, faultAt(rs.option, s.Pos, "relation.many", "%q leads to many %s, so one value can't be taken from it", s.Name, rel.To.Name)
		}
		if i == len(segments)-1 {
			return nil, faultAt(rs.option, s.Pos, "field.unknown", "%q is a relation; name a field of it, such as %s/%s", s.Name, s.Name, rel.To.Fields[0].Name)
		}
		row = row.One(rel)
	}
	return nil, rs.fault(n, "field.unknown", "%q is no field", n)
}

func (rs *resolver) callerValue(n *PathNode) (Expr, error) {
	if n.Segments[0].Name != "@caller" || !rs.fixed {
		return nil, rs.fault(n, "alias.unknown", "%s has no value: only row rules know it", n.Segments[0].Name)
	}
	names := make([]string, len(rs.claims))
	for i, c := range rs.claims {
		names[i] = c.Name
		if len(n.Segments) == 2 && n.Segments[1].Name == c.Name {
			return &Claim{T: c.Type, Name: c.Name}, nil
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

func (rs *resolver) unary(n *UnaryNode) (Expr, error) {
	if n.Operator == "not" {
		inner, err := rs.condition(n.Operand)
		if err != nil {
			return nil, err
		}
		return &Call{T: model.BooleanType, Op: "not", Args: []Expr{inner}}, nil
	}
	inner, err := rs.expr(n.Operand)
	if err != nil {
		return nil, err
	}
	if k := inner.Type().Kind; !k.Numeric() && k != model.Duration {
		return nil, rs.fault(n, "type.mismatch", "a minus sign takes a number, but %s is %s", n.Operand, articled(inner.Type()))
	}
	return &Call{T: inner.Type(), Op: "negate", Args: []Expr{inner}}, nil
}

func (rs *resolver) binary(n *BinaryNode) (Expr, error) {
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
		return &Call{T: model.BooleanType, Op: n.Operator, Args: []Expr{left, right}}, nil
	case "eq", "ne", "gt", "ge", "lt", "le":
		if u, ok := n.Left.(*UnaryNode); ok && u.Operator == "not" {
			if inner, err := rs.expr(u.Operand); err == nil && inner.Type().Kind != model.Boolean {
				return nil, rs.fault(u, "type.mismatch", "\"not\" binds tighter than %q; write not (%s %s %s)", n.Operator, u.Operand, n.Operator, n.Right)
			}
		}
		return rs.comparison(n)
	case "in":
		return rs.member(n)
	}
	return nil, faultAt(rs.option, n.Pos, "operator.unsupported", "the operator %q is not done yet", n.Operator)
}

func (rs *resolver) comparison(n *BinaryNode) (Expr, error) {
	left, err := rs.expr(n.Left)
	if err != nil {
		return nil, err
	}
	right, err := rs.expr(n.Right)
	if err != nil {
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
	return &Call{T: model.BooleanType, Op: n.Operator, Args: []Expr{left, right}}, nil
}

// fit gives a literal the type that the other side expects; anything else stays as it is.
func (rs *resolver) fit(e Expr, n Node, t *model.Type, other Node) (Expr, error) {
	v, ok := e.(*Value)
	if !ok || t.Kind == model.Unknown {
		return e, nil
	}
	literal := n.(*LiteralNode)
	fit := fitting(literal.Value.Class, t)
	if fit == nil {
		return nil, rs.fault(n, "type.mismatch", "%s is %s, but %s is %s; %s", other, articled(t), literal, literal.Value.kind(), advice(literal.Value, t))
	}
	v.T = fit
	return v, nil
}

// advice says how the literal should have been written.
func advice(l Literal, t *model.Type) string {
	switch {
	case t.Kind == model.String && l.Class != Text:
		return "put it in quotes: " + quoteText(l.Text)
	case l.Class == Text && (t.Kind.Numeric() || t.Kind == model.GUID || t.Kind == model.Date || t.Kind == model.Instant || t.Kind == model.TimeOfDay) && fits(l.Text, t):
		return "leave out the quotes"
	case t.Kind == model.Instant && l.Class == Day:
		return "write " + l.Text + "T00:00:00Z"
	case t.Kind == model.Date && l.Class == Moment:
		return "write " + l.Text[:10]
	}
	return "write something like " + exampleOf(t)
}

func fits(text string, t *model.Type) bool {
	_, err := argument(Literal{Text: text}, t)
	return err == nil
}

func (rs *resolver) comparable(n *BinaryNode, left, right *model.Type) error {
	for _, side := range []struct {
		n Node
		t *model.Type
	}{{n.Left, left}, {n.Right, right}} {
		switch side.t.Kind {
		case model.JSON, model.Collection, model.Complex, model.Range, model.Opaque:
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
	return faultAt(rs.option, n.Pos, "type.mismatch", "%s is %s and %s is %s, so %q can't compare them", n.Left, articled(left), n.Right, articled(right), n.Operator)
}

func (rs *resolver) member(n *BinaryNode) (Expr, error) {
	x, err := rs.expr(n.Left)
	if err != nil {
		return nil, err
	}
	if !sortable(x.Type()) {
		return nil, rs.fault(n.Left, "type.mismatch", "%s is %s, which can't stand before \"in\"", n.Left, articled(x.Type()))
	}
	switch list := n.Right.(type) {
	case *LiteralNode:
		t := fitting(list.Value.Items[0].Class, x.Type())
		if t == nil {
			item := list.Value.Items[0]
			return nil, faultAt(rs.option, item.Pos, "type.mismatch", "%s is %s, but %s is %s; %s", n.Left, articled(x.Type()), item, item.kind(), advice(item, x.Type()))
		}
		return &Member{X: x, List: rs.value(list, t)}, nil
	case *ListNode:
		m := &Member{X: x}
		for _, item := range list.Items {
			e, err := rs.expr(item)
			if err != nil {
				return nil, err
			}
			if e, err = rs.fit(e, item, x.Type(), n.Left); err != nil {
				return nil, err
			}
			if err := rs.comparable(&BinaryNode{Pos: n.Pos, Operator: "eq", Left: n.Left, Right: item}, x.Type(), e.Type()); err != nil {
				return nil, err
			}
			m.Items = append(m.Items, e)
		}
		return m, nil
	}
	return nil, rs.fault(n.Right, "syntax.invalid", "a list in brackets is expected after \"in\"")
}

// articled is the type as it stands after "is".
func articled(t *model.Type) string {
	switch t.Kind {
	case model.Unknown:
		return "null"
	case model.Enum:
		return t.String()
	case model.Opaque:
		return "text of a type that can only be read"
	case model.Int16, model.Int32, model.Int64, model.Collection, model.Complex:
		return "an " + t.Kind.String()
	}
	return "a " + t.Kind.String()
}
