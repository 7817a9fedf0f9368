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

// kinds is a set of kinds that an argument may have; the first is what a message names.
type kinds []model.Kind

var (
	texts     = kinds{model.String, model.Enum}
	wholes    = kinds{model.Int64, model.Int32, model.Int16}
	numbers   = kinds{model.Decimal, model.Int64, model.Int32, model.Int16, model.Single, model.Double}
	moments   = kinds{model.Instant}
	days      = kinds{model.Instant, model.Date}
	clocks    = kinds{model.Instant, model.TimeOfDay}
	durations = kinds{model.Duration}
)

// function is a canonical function (URL Conventions, 5.1.1.5 ff.): what it takes, how many of these may be left out at the
// end, and what it gives; nil stands for the type of its first argument.
type function struct {
	takes    []kinds
	optional int
	gives    *model.Type
}

var functions = map[string]function{
	"contains":           {takes: []kinds{texts, texts}, gives: model.BooleanType},
	"startswith":         {takes: []kinds{texts, texts}, gives: model.BooleanType},
	"endswith":           {takes: []kinds{texts, texts}, gives: model.BooleanType},
	"matchespattern":     {takes: []kinds{texts, texts}, gives: model.BooleanType},
	"tolower":            {takes: []kinds{texts}, gives: model.StringType},
	"toupper":            {takes: []kinds{texts}, gives: model.StringType},
	"trim":               {takes: []kinds{texts}, gives: model.StringType},
	"concat":             {takes: []kinds{texts, texts}, gives: model.StringType},
	"substring":          {takes: []kinds{texts, wholes, wholes}, optional: 1, gives: model.StringType},
	"length":             {takes: []kinds{texts}, gives: model.Int32Type},
	"indexof":            {takes: []kinds{texts, texts}, gives: model.Int32Type},
	"year":               {takes: []kinds{days}, gives: model.Int32Type},
	"month":              {takes: []kinds{days}, gives: model.Int32Type},
	"day":                {takes: []kinds{days}, gives: model.Int32Type},
	"hour":               {takes: []kinds{clocks}, gives: model.Int32Type},
	"minute":             {takes: []kinds{clocks}, gives: model.Int32Type},
	"second":             {takes: []kinds{clocks}, gives: model.Int32Type},
	"fractionalseconds":  {takes: []kinds{clocks}, gives: model.DecimalType},
	"date":               {takes: []kinds{moments}, gives: model.DateType},
	"time":               {takes: []kinds{moments}, gives: model.TimeType},
	"totaloffsetminutes": {takes: []kinds{moments}, gives: model.Int32Type},
	"totalseconds":       {takes: []kinds{durations}, gives: model.DecimalType},
	"now":                {gives: model.InstantType},
	"mindatetime":        {gives: model.InstantType},
	"maxdatetime":        {gives: model.InstantType},
	"round":              {takes: []kinds{numbers}},
	"floor":              {takes: []kinds{numbers}},
	"ceiling":            {takes: []kinds{numbers}},
}

func (rs *resolver) call(n *syntax.CallNode) (query.Expr, error) {
	switch n.Name {
	case "case":
		return rs.caseOf(n)
	case "cast":
		return rs.cast(n)
	case "isof":
		return rs.isOf(n)
	}
	if rs.overLists(n) {
		return rs.lists(n)
	}
	f, known := functions[n.Name]
	if !known {
		names := append(slices.Sorted(maps.Keys(functions)), "case", "cast", "isof", "hassubset", "hassubsequence")
		return nil, rs.fault(n, "function.unknown", "unknown function %q%s", n.Name, fault.Suggest(n.Name, names))
	}
	if len(n.Args) > len(f.takes) || len(n.Args) < len(f.takes)-f.optional {
		return nil, rs.fault(n, "function.arguments", "%s takes %s, not %d", n.Name, arguments(f), len(n.Args))
	}
	call := &query.Call{T: f.gives, Op: n.Name}
	for i, node := range n.Args {
		arg, err := rs.argument(n, node, f.takes[i])
		if err != nil {
			return nil, err
		}
		if i > 0 && n.Name == "endswith" || n.Name == "substring" { // its SQL has these arguments twice
			arg = query.Share(arg)
		}
		call.Args = append(call.Args, arg)
	}
	if n.Name == "concat" && query.TextParts(call) > maxTextParts {
		return nil, rs.fault(n, "limit.text", "more than %d texts would be concatenated into one", maxTextParts)
	}
	if call.T == nil {
		if call.T = call.Args[0].Type(); call.T.Kind == model.Unknown {
			call.T = model.DecimalType
		}
	}
	if n.Name == "matchespattern" && !isConstant(call.Args[1]) {
		v, ok := call.Args[1].(*query.Value)
		if !ok {
			return nil, rs.fault(n.Args[1], "function.arguments", "matchesPattern takes its pattern as text in quotes")
		}
		v.T = query.PatternType
	}
	return call, nil
}

// null is the value that has no type.
func null() query.Expr { return &query.Constant{T: model.NullType, Text: "null"} }

func isNullConstant(e query.Expr) bool {
	return isConstant(e) && e.Type().Kind == model.Unknown
}

// isConstant reports whether an expression, computed or not, is true, false or null for every row.
func isConstant(e query.Expr) bool {
	if s, shared := e.(*query.Shared); shared {
		e = s.Of
	}
	_, is := e.(*query.Constant)
	return is
}

// argument resolves one argument of a function and checks that its kind is one of those taken.
func (rs *resolver) argument(call *syntax.CallNode, node syntax.Node, takes kinds) (query.Expr, error) {
	arg, err := rs.expr(node)
	if err != nil {
		return nil, err
	}
	if arg, err = rs.jsonAs(arg, &model.Type{Kind: takes[0]}, node); err != nil {
		return nil, err
	}
	if v, ok := arg.(*query.Value); ok && !slices.Contains(takes, v.T.Kind) {
		if fit := query.Fitting(node.(*syntax.LiteralNode).Value.Class, naturalOf(takes[0])); fit != nil {
			v.T = fit
		}
	}
	if arg.Type().Kind == model.Unknown { // null of the type that is taken
		return &query.Constant{T: naturalOf(takes[0]), Text: "null"}, nil
	}
	if k := arg.Type().Kind; !slices.Contains(takes, k) {
		return nil, rs.fault(node, "type.mismatch", "%s takes %s here, but %s is %s", call.Name, articled(naturalOf(takes[0])), node,
			kindOfNode(node, arg))
	}
	return arg, nil
}

func kindOfNode(n syntax.Node, e query.Expr) string {
	if l, ok := n.(*syntax.LiteralNode); ok {
		return l.Value.Kind()
	}
	return articled(e.Type())
}

// naturalOf is the plain type of a kind.
func naturalOf(k model.Kind) *model.Type {
	for _, t := range []*model.Type{model.BooleanType, model.Int32Type, model.Int64Type, model.DecimalType, model.DoubleType, model.StringType,
		model.DateType,
		model.TimeType, model.InstantType, model.DurationType, model.GUIDType, model.BinaryType} {
		if t.Kind == k {
			return t
		}
	}
	return &model.Type{Kind: k}
}

func arguments(f function) string {
	names := make([]string, len(f.takes))
	for i, k := range f.takes {
		names[i] = naturalOf(k[0]).Kind.String()
		if i >= len(f.takes)-f.optional {
			names[i] += ", which may be left out"
		}
	}
	noun := " arguments ("
	switch len(names) {
	case 0:
		return "no arguments"
	case 1:
		noun = " argument ("
	}
	return [...]string{"no", "one", "two", "three"}[len(names)] + noun + strings.Join(names, ", ") + ")"
}

// caseOf resolves case(condition:value,…): the first condition that is true gives the value, else null.
func (rs *resolver) caseOf(n *syntax.CallNode) (query.Expr, error) {
	if len(n.Args) == 0 || len(n.Args)%2 != 0 {
		return nil, rs.fault(n, "function.arguments", "case takes pairs, as in case(draught_m gt 10:'deep',true:'shallow')")
	}
	call := &query.Call{Op: "case", T: model.NullType}
	for i, node := range n.Args {
		if i%2 == 0 {
			condition, err := rs.condition(node)
			if err != nil {
				return nil, err
			}
			call.Args = append(call.Args, condition)
			continue
		}
		value, err := rs.expr(node)
		if err != nil {
			return nil, err
		}
		together := common(call.T, value.Type())
		if together == nil {
			return nil, rs.fault(node, "type.mismatch", "the values of case must have one type, but %s is %s after %s", node,
				kindOfNode(node, value), articled(call.T))
		}
		call.T = together
		call.Args = append(call.Args, value)
	}
	if call.T.Kind == model.Unknown {
		return null(), nil
	}
	return call, nil
}

// common is the type that holds values of both, nil where there is none. Numbers are promoted: whole, decimal, double.
func common(a, b *model.Type) *model.Type {
	switch {
	case a.Kind == model.Unknown:
		return plain(b)
	case b.Kind == model.Unknown:
		return a
	case a.Kind.Numeric() && b.Kind.Numeric():
		return promoted(a, b)
	case isText(a) && isText(b):
		return model.StringType
	case a.Kind == b.Kind && query.Sortable(a) && (a.Kind != model.Opaque || a.SQL == b.SQL):
		return plain(a)
	}
	return nil
}

// plain is the type without what limits or spells it in a column.
func plain(t *model.Type) *model.Type {
	switch {
	case isText(t):
		return model.StringType
	case query.Sortable(t) && t.Kind != model.Single && t.Kind != model.Opaque:
		return naturalOf(widened(t.Kind))
	}
	return t
}

func widened(k model.Kind) model.Kind {
	if k.Integer() {
		return model.Int64
	}
	return k
}

func isText(t *model.Type) bool { return t.Kind == model.String || t.Kind == model.Enum }

// promoted is the type of arithmetic over two numbers (URL Conventions, 5.1.1.2.9).
func promoted(a, b *model.Type) *model.Type {
	switch {
	case a.Kind == model.Double || b.Kind == model.Double || a.Kind == model.Single || b.Kind == model.Single:
		return model.DoubleType
	case a.Kind == model.Decimal || b.Kind == model.Decimal:
		return model.DecimalType
	}
	return model.Int64Type
}

// castTypes are the types that cast and isof name.
var castTypes = map[string]*model.Type{"Edm.Boolean": model.BooleanType, "Edm.Int16": model.Int32Type, "Edm.Int32": model.Int32Type,
	"Edm.Int64":   model.Int64Type,
	"Edm.Decimal": model.DecimalType, "Edm.Double": model.DoubleType, "Edm.Single": model.DoubleType, "Edm.String": model.StringType,
	"Edm.Date":      model.DateType,
	"Edm.TimeOfDay": model.TimeType, "Edm.DateTimeOffset": model.InstantType, "Edm.Duration": model.DurationType, "Edm.Guid": model.GUIDType,
	"Edm.Binary": model.BinaryType}

func (rs *resolver) typeArgument(n *syntax.CallNode) (query.Expr, *model.Type, error) {
	if len(n.Args) != 2 {
		return nil, nil, rs.fault(n, "function.arguments", "%s takes a value and a type, as in %s(id,Edm.String)", n.Name, n.Name)
	}
	e, err := rs.expr(n.Args[0])
	if err != nil {
		return nil, nil, err
	}
	name := n.Args[1].String()
	if t := castTypes[name]; t != nil {
		return e, t, nil
	}
	m := rs.root.Resource.Model
	if own, is := strings.CutPrefix(name, m.Namespace()+"."); is {
		if t := m.TypeNamed(own); t != nil {
			return e, t, nil
		}
	}
	known := append(slices.Sorted(maps.Keys(castTypes)), m.EnumNames()...)
	return nil, nil, rs.fault(n.Args[1], "type.unknown", "unknown type %q%s", name, fault.Suggest(name, known))
}

// cast resolves cast(value,type). What does not read as the type becomes null (URL Conventions, 5.1.1.10.1).
func (rs *resolver) cast(n *syntax.CallNode) (query.Expr, error) {
	e, t, err := rs.typeArgument(n)
	if err != nil {
		return nil, err
	}
	if e, err = rs.jsonAs(e, t, n.Args[0]); err != nil {
		return nil, err
	}
	from := e.Type()
	possible := from.Kind == t.Kind || t.Kind == model.Enum && isText(from) || from.Kind == model.Unknown || t.Kind == model.String &&
		query.Sortable(from) || from.Kind.Numeric() &&
		t.Kind.Numeric() ||
		isText(from) && t.Kind.Numeric() || from.Kind == model.Instant && (t.Kind == model.Date || t.Kind == model.TimeOfDay) ||
		from.Kind == model.Date && t.Kind == model.Instant
	if !possible {
		return nil, rs.fault(n, "type.mismatch", "%s is %s, which can't be cast to %s", n.Args[0], articled(from), n.Args[1])
	}
	if isText(from) && (t.Kind.Numeric() || t.Kind == model.Enum) { // its SQL has the argument twice
		e = query.Share(e)
	}
	return &query.Call{T: t, Op: "cast", Args: []query.Expr{e}}, nil
}

// isOf resolves isof(value,type): whether the value has the type and is not null.
func (rs *resolver) isOf(n *syntax.CallNode) (query.Expr, error) {
	e, t, err := rs.typeArgument(n)
	if err != nil {
		return nil, err
	}
	if k := e.Type().Kind; k == t.Kind && (k != model.Enum || e.Type().SQL == t.SQL) || isText(e.Type()) && t.Kind == model.String ||
		k.Integer() && t.Kind.Integer() && k <= t.Kind {
		return &query.Call{T: model.BooleanType, Op: "ne", Args: []query.Expr{e, null()}}, nil
	}
	return &query.Constant{T: model.BooleanType, Text: "false"}, nil
}

// arithmetic resolves add, sub, mul, div, divby and mod, over numbers and over dates and durations (URL Conventions, 5.1.1.2).
func (rs *resolver) arithmetic(n *syntax.BinaryNode) (query.Expr, error) {
	sides := [2]query.Expr{}
	for i, node := range []syntax.Node{n.Left, n.Right} {
		e, err := rs.expr(node)
		if err != nil {
			return nil, err
		}
		if sides[i], err = rs.jsonAs(e, model.DecimalType, node); err != nil {
			return nil, err
		}
	}
	l, r := sides[0].Type(), sides[1].Type()
	if l.Kind == model.Unknown && reckons(r) || r.Kind == model.Unknown && reckons(l) {
		return null(), nil
	}
	if t := arithmeticType(n.Operator, l, r); t != nil {
		if t.Kind == model.Double && (n.Operator == "div" || n.Operator == "divby" || n.Operator == "mod") { // its SQL has these twice
			sides[0], sides[1] = query.Share(sides[0]), query.Share(sides[1])
		}
		return &query.Call{T: t, Op: n.Operator, Args: sides[:]}, nil
	}
	return nil, syntax.FaultAt(rs.option, n.Pos, "type.mismatch", "%s is %s and %s is %s, so %q can't reckon with them", n.Left,
		kindOfNode(n.Left, sides[0]), n.Right, kindOfNode(n.Right, sides[1]), n.Operator)
}

// reckons reports whether there is arithmetic over values of a type; null is of every type.
func reckons(t *model.Type) bool {
	switch t.Kind {
	case model.Instant, model.Date, model.Duration, model.Unknown:
		return true
	}
	return t.Kind.Numeric()
}

func arithmeticType(operator string, l, r *model.Type) *model.Type {
	additive := operator == "add" || operator == "sub"
	switch {
	case l.Kind.Numeric() && r.Kind.Numeric():
		t := promoted(l, r)
		if operator == "divby" && t.Kind.Integer() {
			return model.DecimalType
		}
		return t
	case additive && r.Kind == model.Duration && (l.Kind == model.Instant || l.Kind == model.Date || l.Kind == model.Duration):
		return naturalOf(l.Kind)
	case operator == "sub" && l.Kind == r.Kind && (l.Kind == model.Instant || l.Kind == model.Date):
		return model.DurationType
	case operator == "mul" && (l.Kind == model.Duration && r.Kind.Numeric() || l.Kind.Numeric() && r.Kind == model.Duration):
		return model.DurationType
	case (operator == "div" || operator == "divby") && l.Kind == model.Duration && r.Kind.Numeric():
		return model.DurationType
	}
	return nil
}
