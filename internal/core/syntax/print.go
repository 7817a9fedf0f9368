package syntax

import (
	"net/url"
	"strconv"
	"strings"
)

// entry is an option with its text.
type entry struct{ name, text string }

// entries are the options that say which rows there are and what is shown of them, but for how many.
func (o *Options) entries() []entry {
	var list []entry
	add := func(name string, parts []string, between string) {
		if parts != nil {
			list = append(list, entry{name, strings.Join(parts, between)})
		}
	}
	add("compute", texts(o.Compute, func(c ComputeNode) string { return c.By.String() + " as " + c.Name.Name }), ",")
	if o.Search != nil {
		list = append(list, entry{"search", o.Search.String()})
	}
	if o.Filter != nil {
		list = append(list, entry{"filter", o.Filter.String()})
	}
	add("orderby", texts(o.OrderBy, func(t OrderNode) string {
		if t.Desc {
			return t.By.String() + " desc"
		}
		return t.By.String()
	}), ",")
	add("select", texts(o.Select, (*PathNode).String), ",")
	add("expand", texts(o.Expand, func(n ExpandNode) string { return n.String() }), ",")
	return list
}

func texts[T any](list []T, text func(T) string) []string {
	if list == nil {
		return nil
	}
	out := make([]string, len(list))
	for i, item := range list {
		out[i] = text(item)
	}
	return out
}

// Query is the options as a URL has them, but for top, skip and count.
func (o *Options) Query() string {
	parts := texts(o.entries(), func(e entry) string { return e.name + "=" + strings.ReplaceAll(url.QueryEscape(e.text), "+", "%20") })
	return strings.Join(parts, "&")
}

// String prints the relation with its options as expand has it.
func (n *ExpandNode) String() string {
	name := n.Path.Name
	if n.All {
		name = "*"
	}
	if n.Only != "" {
		name += "/$" + n.Only
	}
	list := n.Options.entries()
	number := func(name string, l *LiteralNode) {
		if l != nil {
			list = append(list, entry{name, l.String()})
		}
	}
	number("top", n.Options.Top)
	number("skip", n.Options.Skip)
	if n.Options.Count {
		list = append(list, entry{"count", "true"})
	}
	if n.Options.Levels > 1 {
		list = append(list, entry{"levels", strconv.Itoa(n.Options.Levels)})
	}
	if list == nil {
		return name
	}
	return name + "(" + strings.Join(texts(list, func(e entry) string { return e.name + "=" + e.text }), ";") + ")"
}

// String prints the words of a search.
func (n *SearchNode) String() string {
	switch n.Operator {
	case "":
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(n.Term.Value.Text) + `"`
	case "not":
		return "NOT " + n.Parts[0].inBrackets()
	}
	return strings.Join(texts(n.Parts, (*SearchNode).inBrackets), " "+strings.ToUpper(n.Operator)+" ")
}

func (n *SearchNode) inBrackets() string {
	if n.Operator == "" {
		return n.String()
	}
	return "(" + n.String() + ")"
}

// Expanded finds the options of an expanded relation: of the last one on a way of relations, each within the one before. They are nil where
// expand does not name it.
func Expanded(list []ExpandNode, way []string) *Options {
	var found *ExpandNode
	for i := range list {
		if n := &list[i]; n.Path.Name == way[0] && !n.All || n.All && found == nil {
			found = n
		}
	}
	if found == nil {
		return nil
	}
	options := found.Options
	if options.Levels > 1 {
		deeper := *found
		deeper.Options.Levels--
		deeper.Path.Name, deeper.All = way[0], false
		options.Expand = append(append([]ExpandNode(nil), options.Expand...), deeper)
	}
	if len(way) == 1 {
		return &options
	}
	return Expanded(options.Expand, way[1:])
}
