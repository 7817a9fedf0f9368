package syntax

import "strings"

// Node is a part of an expression as it was written. Each prints itself back in the query language.
type Node interface {
	Start() Pos // byte offset in its option
	String() string
}

// LiteralNode is a value; Index counts the literals of the request.
type LiteralNode struct {
	Pos   Pos
	Index int
	Value Literal
}

// PathNode is names separated by slashes: a field, a field of a relation, @caller/agent_id.
type PathNode struct{ Segments []SegmentNode }

// SegmentNode is one name of a path.
type SegmentNode struct {
	Pos  Pos
	Name string
}

// CallNode is a function with its arguments.
type CallNode struct {
	Pos  Pos
	Name string
	Args []Node
}

// UnaryNode is not, or a minus sign.
type UnaryNode struct {
	Pos      Pos
	Operator string
	Operand  Node
}

// BinaryNode is an operator between two expressions.
type BinaryNode struct {
	Pos         Pos // of the operator
	Operator    string
	Left, Right Node
}

// LambdaNode is any or all over a collection. Body is nil in any().
type LambdaNode struct {
	Path   *PathNode
	Filter Node // of /$filter(…) before it; nil: all elements
	All    bool
	Var    string
	Body   Node
}

// CountNode is the number of a collection's elements, of those that meet the filter where there is one.
type CountNode struct {
	Path   *PathNode
	Filter Node
	Search *SearchNode
}

// ListNode is the list of an in that is not one literal: classes mixed, or null among them.
type ListNode struct {
	Pos   Pos
	Items []Node
}

// RootNode is a path from the root of the service: $root/vessels(3)/name. Path is nil where the row itself is meant.
type RootNode struct {
	Pos      Pos
	Resource SegmentNode
	Key      []KeyNode
	Path     *PathNode
}

// KeyNode is a part of a key, by name or, where it is the only one, without.
type KeyNode struct {
	Name  string
	Value *LiteralNode
}

// Start is the first byte of the node.
func (n *RootNode) Start() Pos { return n.Pos }

func (n *RootNode) String() string {
	parts := make([]string, len(n.Key))
	for i, k := range n.Key {
		parts[i] = k.Value.String()
		if k.Name != "" {
			parts[i] = k.Name + "=" + parts[i]
		}
	}
	row := "$root/" + n.Resource.Name + "(" + strings.Join(parts, ",") + ")"
	if n.Path == nil {
		return row
	}
	return row + "/" + n.Path.String()
}

// Start is the first byte of the node.
func (n *LiteralNode) Start() Pos { return n.Pos }

// Start is the first byte of the node.
func (n *PathNode) Start() Pos { return n.Segments[0].Pos }

// Start is the first byte of the node.
func (n *CallNode) Start() Pos { return n.Pos }

// Start is the first byte of the node.
func (n *UnaryNode) Start() Pos { return n.Pos }

// Start is the first byte of the node.
func (n *BinaryNode) Start() Pos { return n.Left.Start() }

// Start is the first byte of the node.
func (n *ListNode) Start() Pos { return n.Pos }

// Start is the first byte of the node.
func (n *LambdaNode) Start() Pos { return n.Path.Start() }

// Start is the first byte of the node.
func (n *CountNode) Start() Pos { return n.Path.Start() }

func (n *LambdaNode) String() string {
	name, path := map[bool]string{false: "any", true: "all"}[n.All], n.Path.String()
	if n.Filter != nil {
		path += "/$filter(" + n.Filter.String() + ")"
	}
	if n.Body == nil {
		return path + "/any()"
	}
	return path + "/" + name + "(" + n.Var + ":" + n.Body.String() + ")"
}

func (n *CountNode) String() string {
	var options []string
	if n.Filter != nil {
		options = append(options, "$filter="+n.Filter.String())
	}
	if n.Search != nil {
		options = append(options, "$search="+n.Search.String())
	}
	if options == nil {
		return n.Path.String() + "/$count"
	}
	return n.Path.String() + "/$count(" + strings.Join(options, ";") + ")"
}

func (n *LiteralNode) String() string { return n.Value.String() }

func (n *PathNode) String() string {
	names := make([]string, len(n.Segments))
	for i, s := range n.Segments {
		names[i] = s.Name
	}
	return strings.Join(names, "/")
}

func (n *CallNode) String() string {
	if n.Name != "case" {
		return n.Name + "(" + join(n.Args) + ")"
	}
	pairs := make([]string, 0, len(n.Args)/2)
	for i := 0; i+1 < len(n.Args); i += 2 {
		pairs = append(pairs, n.Args[i].String()+":"+n.Args[i+1].String())
	}
	return "case(" + strings.Join(pairs, ",") + ")"
}

func (n *UnaryNode) String() string {
	if n.Operator == "-" {
		return "-" + bracketed(n.Operand)
	}
	return n.Operator + " " + bracketed(n.Operand)
}

func (n *BinaryNode) String() string {
	return bracketed(n.Left) + " " + n.Operator + " " + bracketed(n.Right)
}

func (n *ListNode) String() string { return "(" + join(n.Items) + ")" }

// bracketed puts brackets around operators, so that what is printed reads the same whatever the precedence.
func bracketed(n Node) string {
	switch n.(type) {
	case *BinaryNode, *UnaryNode:
		return "(" + n.String() + ")"
	}
	return n.String()
}

func join(nodes []Node) string {
	parts := make([]string, len(nodes))
	for i, n := range nodes {
		parts[i] = n.String()
	}
	return strings.Join(parts, ",")
}

// SearchNode is a term of search, or terms put together.
type SearchNode struct {
	Operator string // "and", "or", "not"; "" a word or phrase
	Term     *LiteralNode
	Parts    []*SearchNode
}

// Options are the query options of a collection, or of an expanded relation, as they were written.
type Options struct {
	Apply   []StepNode
	Compute []ComputeNode
	Search  *SearchNode
	Filter  Node
	OrderBy []OrderNode
	Select  []*SelectNode // nil: all; a "*" is nil too
	Expand  []ExpandNode
	Top     *LiteralNode
	Skip    *LiteralNode
	Count   bool
	Levels  int // of a relation to the same resource; 0 is 1
}

// SelectNode is one path of select. Options are those in brackets after it; nil where there are none.
type SelectNode struct {
	*PathNode
	Options *Options
}

// ComputeNode is one value of compute with its name.
type ComputeNode struct {
	By   Node
	Name SegmentNode
}

// OrderNode is one term of orderby.
type OrderNode struct {
	By   Node
	Desc bool
}

// ExpandNode is one relation of expand with its own options. Only is "count" or "ref" where no more than that is wanted.
type ExpandNode struct {
	Path    SegmentNode
	All     bool // *
	Only    string
	Options Options
}
