package request

import (
	"maps"
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
)

// function is a canonical function (URL Conventions, 5.1.1.5 ff.): what it takes and what it gives.
type function struct {
	takes []*model.Type
	gives *model.Type
}

var text = model.StringType

var functions = map[string]function{
	"contains":   {[]*model.Type{text, text}, model.BooleanType},
	"startswith": {[]*model.Type{text, text}, model.BooleanType},
	"endswith":   {[]*model.Type{text, text}, model.BooleanType},
	"tolower":    {[]*model.Type{text}, text},
	"toupper":    {[]*model.Type{text}, text},
	"trim":       {[]*model.Type{text}, text},
	"length":     {[]*model.Type{text}, model.Int32Type},
}

func (rs *resolver) call(n *CallNode) (Expr, error) {
	f, known := functions[n.Name]
	if !known {
		return nil, rs.fault(n, "function.unknown", "unknown function %q%s", n.Name, fault.Suggest(n.Name, slices.Sorted(maps.Keys(functions))))
	}
	if len(n.Args) != len(f.takes) {
		return nil, rs.fault(n, "function.arguments", "%s takes %s, not %d", n.Name, arguments(f), len(n.Args))
	}
	call := &Call{T: f.gives, Op: n.Name}
	for i, node := range n.Args {
		arg, err := rs.expr(node)
		if err != nil {
			return nil, err
		}
		want := f.takes[i]
		if v, ok := arg.(*Value); ok {
			fit := fitting(node.(*LiteralNode).Value.Class, want)
			if fit == nil {
				return nil, rs.fault(node, "type.mismatch", "%s takes a %s here, but %s is %s", n.Name, want.Kind, node, node.(*LiteralNode).Value.kind())
			}
			v.T = fit
		}
		if k := arg.Type().Kind; k != want.Kind && k != model.Unknown && !(want.Kind == model.String && k == model.Enum) {
			return nil, rs.fault(node, "type.mismatch", "%s takes a %s here, but %s is %s", n.Name, want.Kind, node, articled(arg.Type()))
		}
		call.Args = append(call.Args, arg)
	}
	return call, nil
}

func arguments(f function) string {
	kinds := make([]string, len(f.takes))
	for i, t := range f.takes {
		kinds[i] = t.Kind.String()
	}
	noun := " arguments ("
	if len(kinds) == 1 {
		noun = " argument ("
	}
	return [...]string{"no", "one", "two", "three"}[len(kinds)] + noun + strings.Join(kinds, ", ") + ")"
}
