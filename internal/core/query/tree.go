// Package query is a request as it is understood: a tree whose names and types are settled, which access checks and statement turns into
// SQL. Package request makes it.
package query

import (
	"slices"

	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/syntax"
)

// Query is a request bound to a model: what is read of one resource, and of the relations it expands.
type Query struct {
	Root     *Row
	Path     []Hop // how the path leads to the rows; empty inside expand
	Single   bool  // one row is read
	View     View
	Params   []Value                      // of a named query, in the order of its parameters
	Key      []Value                      // of the last hop; nil where it has none
	KeyOf    []*model.Field               // what the values of the key are of: the resource's key, or another one that names a row
	Apply    *Apply                       // how the rows come about; nil: they are the resource's own. Root is what comes out
	Filter   Expr                         // nil: every row
	Order    []Term                       // as the caller or the document gave it, the key appended; empty where there is neither
	Select   []*model.Field               // nil: all that may be read
	Parts    map[*model.Field]*model.Type // of a selected composite field, the part that is selected
	Lists    map[*model.Field]*List       // of a selected array, which of its elements are shown
	Links    []*model.Relation            // that are selected without being expanded: with metadata=full their links are shown
	Computed []Computed                   // the computed values that stand in the answer
	Search   Expr
	Expand   []*Expansion
	Top      *Value // nil: the page decides
	Skip     *Value
	Count    bool
	Metadata Metadata // how much control information the rows of the answer have
	Nests    []Nest   // the answer is one row that holds these
}

// Metadata is how much control information an answer has (JSON Format, 3.1).
type Metadata uint8

// The amounts of control information.
const (
	Minimal Metadata = iota // what can't be computed: versions of rows, next links
	None                    // next links and counts alone
	Full                    // links and types too
)

// String is the value of the format parameter "metadata".
func (m Metadata) String() string { return [...]string{"minimal", "none", "full"}[m] }

// Shows reports whether the rows of the answer show a link along a relation: where nothing is selected, or the relation is.
func (q *Query) Shows(rel *model.Relation) bool {
	return q.Select == nil || slices.Contains(q.Links, rel) ||
		slices.ContainsFunc(q.Expand, func(e *Expansion) bool { return e.Relation == rel })
}

// Hop is one resource of a path: the first, or one that a relation leads to from the hop before.
type Hop struct {
	Resource *model.Resource
	Via      *model.Relation
	Key      []Value
	KeyOf    []*model.Field
}

// List is which elements of an array are shown, in which order: the array's own where none is given.
type List struct {
	Element   *Element
	Where     Expr // nil: all
	Order     []Term
	Top, Skip *Value
	Count     bool // their number, before top and skip, is shown too
}

// Computed is a value of compute with its name.
type Computed struct {
	Name string
	By   Expr
}

// Searched reports whether a text field of the row holds a word or phrase, in any case. Which fields there are is for access to say.
type Searched struct {
	Row  *Row
	Term *Value
}

// Type is the type of the expression.
func (s *Searched) Type() *model.Type { return model.BooleanType }

// Expansion is a relation that is in each row of the answer, with a query of its own.
type Expansion struct {
	Relation *model.Relation
	Query    *Query
	Pos      syntax.Pos
	Only     string // "count", "ref"; "" the rows
	Optional bool   // of expand=*: left out where the role may not read it
	OfIt     bool   // an expand of an expand whose options speak of $it, the row of the request
}

// Term is one term of an order. An implied one is not the caller's: it comes from the document, or is part of the key.
type Term struct {
	By      Expr
	Desc    bool
	Implied bool
}

// Row is a row that expressions speak of: the one a query reads (Via nil, or an expanded relation), or one that is reached
// from it along relations to one. Two paths with the same beginning share their rows.
type Row struct {
	Resource *model.Resource
	Parent   *Row
	Via      *model.Relation
	ones     map[*model.Relation]*Row
}

// NewRow is the row that a query over the resource reads.
func NewRow(r *model.Resource) *Row { return &Row{Resource: r} }

// One is the row at the other end of a relation to one.
func (r *Row) One(rel *model.Relation) *Row {
	if next, ok := r.ones[rel]; ok {
		return next
	}
	next := &Row{Resource: rel.To, Parent: r, Via: rel}
	if r.ones == nil {
		r.ones = map[*model.Relation]*Row{}
	}
	r.ones[rel] = next
	return next
}

// Expr is an expression whose names and types are settled.
type Expr interface{ Type() *model.Type }

// Value is a literal and the type that is expected of it. A literal of a request is known by its number, so that the tree
// serves every request of the shape; a literal of a document is held itself.
type Value struct {
	T      *model.Type
	Index  int
	Fixed  *syntax.Literal
	Narrow bool // a whole number of 32 bits, and null where it has more: no field of that size holds it
}

// FieldOf is a field of a row.
type FieldOf struct {
	Row   *Row
	Field *model.Field
	Pos   syntax.Pos
}

// Constant is null, true or false.
type Constant struct {
	T    *model.Type
	Text string
}

// Claim is @caller/name.
type Claim struct {
	T    *model.Type
	Name string
}

// Call is an operator or a function with its arguments; their types fit.
type Call struct {
	T    *model.Type
	Op   string
	Args []Expr
}

// Member is X in a list. List is a Value whose literal is a list, Items are the rest.
type Member struct {
	X     Expr
	List  *Value
	Items []Expr
}

// Element is a range variable over the elements of an array.
type Element struct{ T *model.Type }

// ElementOf is the value of such a variable.
type ElementOf struct{ Var *Element }

// JSONPath is what stands under names inside a JSON value. Its type is that of JSON until a JSONAs says more.
type JSONPath struct {
	Of   Expr
	Keys []string
}

// JSONAs is a JSON value as a number, text or boolean; null where it is none.
type JSONAs struct {
	Of Expr
	T  *model.Type
}

// SubField is a field of a composite value.
type SubField struct {
	Of   Expr
	Name string
	T    *model.Type
}

// Collection is what any, all and $count go over: the rows of a relation to many, or the elements of an array.
type Collection struct {
	Row     *Row // its Via is the relation, its Parent the row that the relation starts from
	Array   Expr
	Element *Element
}

// Quantifier is any or all; without a condition, any asks whether there is an element at all.
type Quantifier struct {
	All  bool
	Over Collection
	Body Expr
}

// Count is the number of elements that meet a condition, or of all.
type Count struct {
	Over Collection
	Body Expr
}

// RootOf is a value of a row that its key names ($root/…); Of speaks of Row.
type RootOf struct {
	Row *Row
	Key []Value
	Of  Expr
}

// Type is the type of the expression.
func (r *RootOf) Type() *model.Type { return r.Of.Type() }

// Type is the type of the expression.
func (e *ElementOf) Type() *model.Type { return e.Var.T }

// Type is the type of the expression.
func (j *JSONPath) Type() *model.Type { return JsonType }

// Type is the type of the expression.
func (j *JSONAs) Type() *model.Type { return j.T }

// Type is the type of the expression.
func (s *SubField) Type() *model.Type { return s.T }

// Type is the type of the expression.
func (q *Quantifier) Type() *model.Type { return model.BooleanType }

// Type is the type of the expression.
func (c *Count) Type() *model.Type { return model.Int64Type }

var JsonType = &model.Type{Kind: model.JSON, SQL: "jsonb", JSONB: true}

// Type is the type of the expression.
func (v *Value) Type() *model.Type { return v.T }

// Type is the type of the expression.
func (f *FieldOf) Type() *model.Type { return f.Field.Type }

// Type is the type of the expression.
func (c *Constant) Type() *model.Type { return c.T }

// Type is the type of the expression.
func (c *Claim) Type() *model.Type { return c.T }

// Type is the type of the expression.
func (c *Call) Type() *model.Type { return c.T }

// Type is the type of the expression.
func (m *Member) Type() *model.Type { return model.BooleanType }

// Walk visits an expression and all below it, a shared one once.
func Walk(e Expr, visit func(Expr)) {
	w := walker{visit: visit}
	w.walk(e)
}

type walker struct {
	visit func(Expr)
	seen  map[*Shared]bool
}

func (w *walker) walk(e Expr) {
	if e == nil {
		return
	}
	if s, ok := e.(*Shared); ok {
		if w.seen[s] {
			return
		}
		if w.seen == nil {
			w.seen = map[*Shared]bool{}
		}
		w.seen[s] = true
	}
	w.visit(e)
	switch e := e.(type) {
	case *Shared:
		w.walk(e.Of)
	case *Call:
		for _, a := range e.Args {
			w.walk(a)
		}
	case *Member:
		w.walk(e.X)
		for _, a := range e.Items {
			w.walk(a)
		}
	case *JSONPath:
		w.walk(e.Of)
	case *JSONAs:
		w.walk(e.Of)
	case *SubField:
		w.walk(e.Of)
	case *RootOf:
		for i := range e.Key {
			w.walk(&e.Key[i])
		}
		w.walk(e.Of)
	case *Quantifier:
		w.walk(e.Over.Array)
		w.walk(e.Body)
	case *Count:
		w.walk(e.Over.Array)
		w.walk(e.Body)
	}
}

// View is what is wanted of the place that a path leads to.
type View uint8

// The views.
const (
	Rows   View = iota // its rows, or its row
	Number             // $count: how many rows there are
	Refs               // $ref: their links
	Bare               // $value: the field's bare value
	Each               // $each: every row of a filter, for a write
)

// Apply is how rows are transformed before filter, orderby and the rest of a request see them. Each phase takes the rows of the
// one before, the first those of the resource, and passes them on grouped; the last passes them on as they are.
type Apply struct{ Phases []*Phase }

// Phase is what is done with rows of one shape.
type Phase struct {
	Root     *Row
	Prefix   *Apply   // in a branch of concat: what was done before, whose rows the phase takes; its last phase has the same Root
	Branches []*Apply // concat: the phase takes the rows of all of these
	Steps    []Step
	Group    *Group // nil in the last phase
}

// Step keeps some of the rows. Where it orders or cuts, what comes after sees no more than what is left.
type Step struct {
	Where     Expr // filter, search
	Order     []Term
	Top, Skip *Value
	Running   *Running
	Join      *Row // each row once for each of these, the rows of a relation to many
	Outer     bool // of Join: and once where there is none
}

// Nest is rows that stand in the one row of an answer, under a name.
type Nest struct {
	Name  string
	Query *Query
}

// Running keeps the first rows of an order until the sum of By reaches an amount, or a share of the sum of all.
type Running struct {
	By      Expr
	Amount  *Value
	Percent bool
}

// Group makes one row of many. Fields are those of the rows that come out: first the keys, then the aggregates.
type Group struct {
	Keys       []Expr
	Sets       [][]int // which keys tell groups apart, where rollup asks for several answers; nil: all of them
	Aggregates []Aggregate
	Fields     []*model.Field
}

// Aggregate is a value over a group.
type Aggregate struct {
	Method string // $count, sum, min, max, average, countdistinct
	By     Expr   // nil for $count
	Where  Expr   // only rows that meet this; nil: all
}

// Walk visits the expressions of all steps.
func (a *Apply) Walk(visit func(Expr)) {
	a.walk(&walker{visit: visit}, map[*Apply]bool{})
}

// EachJoin hands out the rows that steps join.
func (a *Apply) EachJoin(do func(*Row)) {
	for _, p := range a.Phases {
		if p.Prefix != nil {
			p.Prefix.EachJoin(do)
		}
		for _, b := range p.Branches {
			b.EachJoin(do)
		}
		for _, s := range p.Steps {
			if s.Join != nil {
				do(s.Join)
			}
		}
	}
}

func (a *Apply) walk(w *walker, done map[*Apply]bool) {
	if done[a] {
		return
	}
	done[a] = true
	for _, p := range a.Phases {
		if p.Prefix != nil {
			p.Prefix.walk(w, done)
		}
		for _, b := range p.Branches {
			b.walk(w, done)
		}
		for _, s := range p.Steps {
			w.walk(s.Where)
			for _, t := range s.Order {
				if !t.Implied {
					w.walk(t.By)
				}
			}
		}
		if p.Group != nil {
			for _, k := range p.Group.Keys {
				w.walk(k)
			}
			for _, g := range p.Group.Aggregates {
				w.walk(g.By)
				w.walk(g.Where)
			}
		}
	}
}
