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
	add("select", texts(o.Select, (*SelectNode).String), ",")
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
	return name + n.Options.inBrackets()
}

// String prints the path with its options as select has it.
func (n *SelectNode) String() string {
	if n.Options == nil {
		return n.PathNode.String()
	}
	return n.PathNode.String() + n.Options.inBrackets()
}

// inBrackets prints options as they follow a relation or a field; "" where there are none.
func (o *Options) inBrackets() string {
	list := o.entries()
	number := func(name string, l *LiteralNode) {
		if l != nil {
			list = append(list, entry{name, l.String()})
		}
	}
	number("top", o.Top)
	number("skip", o.Skip)
	if o.Count {
		list = append(list, entry{"count", "true"})
	}
	if o.Levels > 1 {
		list = append(list, entry{"levels", strconv.Itoa(o.Levels)})
	}
	if list == nil {
		return ""
	}
	return "(" + strings.Join(texts(list, func(e entry) string { return e.name + "=" + e.text }), ";") + ")"
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

// eachPath hands out the paths of an expression.
func eachPath(n Node, do func(*PathNode)) {
	switch n := n.(type) {
	case *PathNode:
		do(n)
	case *CallNode:
		for _, a := range n.Args {
			eachPath(a, do)
		}
	case *UnaryNode:
		eachPath(n.Operand, do)
	case *BinaryNode:
		eachPath(n.Left, do)
		eachPath(n.Right, do)
	case *ListNode:
		for _, item := range n.Items {
			eachPath(item, do)
		}
	case *LambdaNode:
		do(n.Path)
		eachPath(n.Filter, do)
		eachPath(n.Body, do)
	case *CountNode:
		do(n.Path)
		eachPath(n.Filter, do)
	}
}

// eachPath hands out the paths of the expressions of options, but for those of relations that they expand.
func (o *Options) eachPath(do func(*PathNode)) {
	eachPath(o.Filter, do)
	for _, t := range o.OrderBy {
		eachPath(t.By, do)
	}
	for _, c := range o.Compute {
		eachPath(c.By, do)
	}
}

// UsesIt reports whether an expression of the options speaks of $it, the row of the request.
func (o *Options) UsesIt() bool {
	uses := false
	o.eachPath(func(p *PathNode) { uses = uses || p.Segments[0].Name == "$it" })
	return uses
}

// SetIt writes another path in the place of $it, where the options come to speak of rows of their own request.
func (o *Options) SetIt(path string) {
	o.eachPath(func(p *PathNode) {
		if p.Segments[0].Name == "$it" {
			p.Segments[0].Name = path
		}
	})
}
