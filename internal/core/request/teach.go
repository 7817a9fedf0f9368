package request

import (
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// optionWords are names that other services give to options, and the option that does it here.
var optionWords = map[string]string{
	"limit": "top", "size": "top", "per_page": "top", "perpage": "top", "page_size": "top", "pagesize": "top", "max": "top", "first": "top",
	"offset": "skip", "start": "skip", "from": "skip", "page": "page", "page_number": "page",
	"sort": "orderby", "order": "orderby", "order_by": "orderby", "sort_by": "orderby", "sortby": "orderby",
	"fields": "select", "columns": "select", "only": "select", "attributes": "select",
	"include": "expand", "includes": "expand", "embed": "expand", "with": "expand", "populate": "expand",
	"q": "search", "query": "search", "s": "search", "term": "search", "text": "search", "where": "filter", "filters": "filter",
	"group_by": "apply", "groupby": "apply", "aggregate": "apply", "total": "count", "include_count": "count",
}

// fault is what is wrong with an option that the language does not have, and what does the same.
func (o otherOption) fault(r *model.Resource) error {
	unknown := func(instead string) error {
		return fault.New(fault.Invalid, "option.unknown", "unknown option %q; write %s", o.name, instead).On(o.name)
	}
	name := strings.ToLower(strings.TrimPrefix(o.name, "$"))
	if strings.ContainsAny(strings.TrimSpace(name), " ()'") || name != strings.TrimLeft(name, " ") {
		return fault.New(fault.Invalid, "option.unknown", "%q is no option: a bare & ends the option before it; write \"and\" between "+
			"conditions, and an & inside a text as %%26", o.name).On(o.name)
	}
	switch option := optionWords[name]; option {
	case "":
	case "page":
		return unknown("top=50&skip=50 for the second page of 50, or follow @nextLink")
	case "top", "skip":
		return unknown(option + "=" + number(o.text))
	case "orderby":
		return unknown("orderby=" + orderText(o.text))
	case "apply":
		return unknown("apply=groupby((" + o.text + "),aggregate($count as n))")
	case "count":
		return unknown("count=true")
	default:
		return unknown(option + "=" + o.text)
	}
	field, bracketed := strings.CutPrefix(name, "filter[")
	if field = strings.TrimSuffix(field, "]"); r.Field(field) != nil && (bracketed || field == o.name) {
		return unknown("filter=" + field + " eq " + literalText(o.text, r.Field(field).Type))
	}
	return fault.New(fault.Invalid, "option.unknown", "unknown option %q%s", o.name, fault.Suggest(name, optionNames[:])).On(o.name)
}

// number is a text where it is a number, else an example of one.
func number(text string) string {
	if text != "" && strings.Trim(text, "0123456789") == "" {
		return text
	}
	return "20"
}

// orderText makes an order of one as it is written elsewhere: -name, name:desc, name.desc.
func orderText(text string) string {
	terms := strings.Split(text, ",")
	for i, t := range terms {
		t = strings.TrimSpace(t)
		for _, way := range []string{"desc", "asc"} {
			if name, is := strings.CutSuffix(strings.ToLower(t), ":"+way); is {
				t = t[:len(name)] + " " + way
			} else if name, is := strings.CutSuffix(strings.ToLower(t), "."+way); is {
				t = t[:len(name)] + " " + way
			}
		}
		if name, is := strings.CutPrefix(t, "-"); is {
			t = name + " desc"
		}
		terms[i] = strings.TrimPrefix(t, "+")
	}
	return strings.Join(terms, ",")
}

// literalText is how a bare value is written where that type is expected.
func literalText(text string, t *model.Type) string {
	for _, class := range []syntax.Class{syntax.Text, syntax.Whole, syntax.Fraction, syntax.Day, syntax.Clock, syntax.Moment, syntax.UUID} {
		if l := (syntax.Literal{Class: class, Text: strings.Trim(text, `'"`)}); query.Fitting(class, t) != nil && fits(l.Text, t) {
			return l.String()
		}
	}
	if t.Kind == model.Boolean && (text == "true" || text == "false") {
		return text
	}
	return query.ExampleOf(t)
}

// dotted is the fault of a name with points in it, as other languages write paths; nil where what the slashes make is no path either.
func (rs *resolver) dotted(n *syntax.PathNode) error {
	s := n.Segments[len(n.Segments)-1]
	if !strings.Contains(s.Name, ".") {
		return nil
	}
	text := n.String()
	if field, way, is := lastWord(text); is && rs.option == "orderby" {
		return rs.fault(n, "field.unknown", "unknown field %q; write %s %s", text, field, way)
	}
	path := strings.ReplaceAll(text, ".", "/")
	names := strings.Split(path, "/")
	segments := make([]syntax.SegmentNode, len(names))
	for i, name := range names {
		segments[i] = syntax.SegmentNode{Pos: s.Pos, Name: name}
	}
	if _, err := rs.path(&syntax.PathNode{Segments: segments}); err != nil {
		return nil
	}
	return rs.fault(n, "field.unknown", "unknown field %q; write %s", text, path)
}

// lastWord takes the direction off a term such as name.desc.
func lastWord(text string) (field, way string, is bool) {
	i := strings.LastIndexByte(text, '.')
	if i < 0 {
		return "", "", false
	}
	way = strings.ToLower(text[i+1:])
	return text[:i], way, way == "desc" || way == "asc"
}

// unquoted is the fault of a bare word where a text is compared: it is taken for a field, but there is none of that name.
func (rs *resolver) unquoted(n syntax.Node, t *model.Type, err error) error {
	path, is := n.(*syntax.PathNode)
	if !is || len(path.Segments) != 1 || !isText(t) {
		return err
	}
	f, is := fault.From(err)
	if !is || f.Code != "field.unknown" {
		return err
	}
	if rs.root.Resource.Relation(path.String()) != nil {
		return err
	}
	return rs.fault(n, "field.unknown", "unknown field %q; if the text is meant, write %s", path.String(), syntax.QuoteText(path.String()))
}

// selectMistake is the fault of a path of select that leads into a relation: select=agent/name and select=agent.name.
func selectMistake(r *model.Resource, path *syntax.PathNode, option string) error {
	names := strings.FieldsFunc(path.String(), func(c rune) bool { return c == '/' || c == '.' })
	if len(names) < 2 || r.Relation(names[0]) == nil {
		return nil
	}
	return syntax.FaultAt(option, path.Segments[0].Pos, "field.unknown", "%q is in a relation; write expand=%s(select=%s)", path.String(),
		names[0],
		strings.Join(names[1:], "/"))
}

// expandMistake is the fault of a relation that expand names with points: expand=vessel.agent.
func expandMistake(r *model.Resource, node *syntax.ExpandNode) error {
	names := strings.Split(node.Path.Name, ".")
	rel := r.Relation(names[0])
	if rel == nil || len(names) < 2 {
		return nil
	}
	inner := "expand=" + strings.Join(names[1:], "/")
	if slices.Contains(rel.To.FieldNames(), names[1]) {
		inner = "select=" + strings.Join(names[1:], "/")
	}
	return syntax.FaultAt("expand", node.Path.Pos, "relation.unknown", "%s has no relation %q; write expand=%s(%s)", r.Name, node.Path.Name,
		names[0],
		inner)
}
