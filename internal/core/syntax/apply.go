package syntax

import (
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
)

// StepNode is one transformation of apply (Data Aggregation, 3).
type StepNode struct {
	Pos        Pos
	Name       string // filter, search, compute, orderby, top, skip, groupby, aggregate, concat, identity, topcount and its kin
	Filter     Node
	Search     *SearchNode
	Compute    []ComputeNode
	OrderBy    []OrderNode
	Number     *LiteralNode // of top and skip, and the first argument of topcount and its kin
	By         Node         // the second argument of these
	Keys       []KeyPath    // of groupby
	Aggregates []AggregateNode
	Chains     [][]StepNode  // of concat and nest; of groupby, what is done with each group; of join, with the rows of the relation
	Path       *PathNode     // of join and outerjoin: the relation
	Names      []SegmentNode // of nest, one for each chain; of join and outerjoin, the name of its rows
}

// KeyPath is what groupby groups by: a path, or with rollup several that are left out one after the other from the end.
type KeyPath struct {
	Paths  []*PathNode
	Rollup bool
	All    bool // rollup($all,…): down to one group of everything
}

// AggregateNode is one value of aggregate. By is nil for $count.
type AggregateNode struct {
	By     Node
	Method SegmentNode
	Name   SegmentNode
}

// Extremes are topcount and its kin: whether the greatest are kept, and how many.
var Extremes = map[string]struct {
	Top bool
	By  string // count, sum or percent
}{
	"topcount": {true, "count"}, "topsum": {true, "sum"}, "toppercent": {true, "percent"},
	"bottomcount": {false, "count"}, "bottomsum": {false, "sum"}, "bottompercent": {false, "percent"},
}

var StepNames = []string{"filter", "search", "compute", "groupby", "aggregate", "orderby", "top", "skip", "concat", "identity",
	"join", "outerjoin", "nest",
	"topcount", "topsum", "toppercent", "bottomcount", "bottomsum", "bottompercent"}

// apply reads transformations separated by slashes.
func (p *Parser) apply() ([]StepNode, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, p.fault(p.Peek().Pos, "apply is nested more than %d deep", maxDepth)
	}
	defer func() { p.depth-- }()
	var chain []StepNode
	for {
		step, err := p.step()
		if err != nil {
			return nil, err
		}
		chain = append(chain, step)
		if !p.Accept('/') {
			return chain, nil
		}
	}
}

func (p *Parser) step() (s StepNode, err error) {
	t := p.Peek()
	if t.Kind != TokenName {
		return s, p.unexpected("a transformation such as groupby(…)")
	}
	p.I++
	s = StepNode{Pos: t.Pos, Name: strings.ToLower(t.Text)}
	if s.Name == "identity" {
		return s, nil
	}
	if !p.isMark('(') {
		return s, p.unexpected(`"(" after ` + t.Text)
	}
	p.I++
	switch s.Name {
	case "filter":
		s.Filter, err = p.whole()
	case "search":
		s.Search, err = p.search()
	case "compute":
		s.Compute, err = p.computeList()
	case "orderby":
		s.OrderBy, err = p.orderBy()
	case "top", "skip":
		s.Number, err = p.numberNode(s.Name)
	case "aggregate":
		s.Aggregates, err = p.aggregates()
	case "groupby":
		err = p.groupBy(&s)
	case "concat":
		err = p.chains(&s)
	case "join", "outerjoin":
		err = p.join(&s)
	case "nest":
		err = p.nest(&s)
	default:
		if _, known := Extremes[s.Name]; !known {
			return s, UnknownStep(p.Option, t.Pos, t.Text)
		}
		if s.Number, err = p.amount(s.Name); err != nil {
			return s, err
		}
		if err = p.Expect(','); err == nil {
			s.By, err = p.whole()
		}
	}
	if err != nil {
		return s, err
	}
	return s, p.Expect(')')
}

// amount reads the number of topcount and its kin.
func (p *Parser) amount(step string) (*LiteralNode, error) {
	if Extremes[step].By == "count" {
		return p.numberNode(step)
	}
	t := p.Peek()
	if t.Kind == TokenLiteral {
		switch p.Literals[t.Literal].Class {
		case Whole, Fraction, Floating:
			p.I++
			return &LiteralNode{Pos: t.Pos, Index: t.Literal, Value: p.Literals[t.Literal]}, nil
		}
	}
	return nil, p.unexpected("a number")
}

func (p *Parser) aggregates() ([]AggregateNode, error) {
	var list []AggregateNode
	for {
		a := AggregateNode{}
		if p.word("$count") {
			a.Method = SegmentNode{p.Peek().Pos, "$count"}
			p.I++
		} else {
			var err error
			if a.By, err = p.Expression(1); err != nil {
				return nil, err
			}
			if !p.word("with") {
				return nil, p.unexpected(`"with" and a method such as sum`)
			}
			p.I++
			t := p.Peek()
			if t.Kind != TokenName {
				return nil, p.unexpected("a method such as sum")
			}
			p.I++
			a.Method = SegmentNode{t.Pos, strings.ToLower(t.Text)}
		}
		var err error
		if a.Name, err = p.named("the aggregated value"); err != nil {
			return nil, err
		}
		list = append(list, a)
		if !p.Accept(',') {
			return list, nil
		}
	}
}

// groupBy reads `(vessel/kind,rollup($all,quay)),aggregate(…)`.
func (p *Parser) groupBy(s *StepNode) error {
	if !p.Accept('(') {
		return p.unexpected(`a list in brackets, as in groupby((status),…),`)
	}
	for {
		key := KeyPath{}
		if p.word("rollup") && p.Tokens[p.I+1].mark == '(' {
			p.I += 2
			key.Rollup = true
			for {
				if p.word("$all") && len(key.Paths) == 0 && !key.All {
					p.I++
					key.All = true
				} else {
					path, err := p.keyPath()
					if err != nil {
						return err
					}
					key.Paths = append(key.Paths, path)
				}
				if !p.Accept(',') {
					break
				}
			}
			if err := p.Expect(')'); err != nil {
				return err
			}
		} else {
			path, err := p.keyPath()
			if err != nil {
				return err
			}
			key.Paths = []*PathNode{path}
		}
		s.Keys = append(s.Keys, key)
		if !p.Accept(',') {
			break
		}
	}
	if err := p.Expect(')'); err != nil {
		return err
	}
	if !p.Accept(',') {
		return nil
	}
	chain, err := p.apply()
	s.Chains = [][]StepNode{chain}
	return err
}

func (p *Parser) keyPath() (*PathNode, error) {
	t := p.Peek()
	if t.Kind != TokenName {
		return nil, p.unexpected("a field")
	}
	node, err := p.path()
	if err != nil {
		return nil, err
	}
	path, ok := node.(*PathNode)
	if !ok {
		return nil, p.fault(t.Pos, "%s is no field; name what it computes in compute(…) first, and group by the name", node)
	}
	return path, nil
}

// named reads `as name`.
func (p *Parser) named(what string) (SegmentNode, error) {
	if !p.word("as") {
		return SegmentNode{}, p.unexpected(`"as" and a name`)
	}
	p.I++
	t := p.Peek()
	if t.Kind != TokenName || !window.IsName(t.Text) {
		return SegmentNode{}, p.unexpected("a name for " + what)
	}
	p.I++
	return SegmentNode{t.Pos, t.Text}, nil
}

// join reads `port_calls as call,filter(…)`.
func (p *Parser) join(s *StepNode) (err error) {
	if s.Path, err = p.keyPath(); err != nil {
		return err
	}
	name, err := p.named("the rows of the relation")
	if err != nil {
		return err
	}
	s.Names = []SegmentNode{name}
	if !p.Accept(',') {
		return nil
	}
	chain, err := p.apply()
	s.Chains = [][]StepNode{chain}
	return err
}

// nest reads `groupby((status)) as by_status,aggregate($count as n) as all`.
func (p *Parser) nest(s *StepNode) error {
	for {
		chain, err := p.apply()
		if err != nil {
			return err
		}
		name, err := p.named("the rows of the chain")
		if err != nil {
			return err
		}
		s.Chains, s.Names = append(s.Chains, chain), append(s.Names, name)
		if !p.Accept(',') {
			return nil
		}
	}
}

func (p *Parser) chains(s *StepNode) error {
	for {
		chain, err := p.apply()
		if err != nil {
			return err
		}
		s.Chains = append(s.Chains, chain)
		if !p.Accept(',') {
			break
		}
	}
	if len(s.Chains) < 2 {
		return p.fault(s.Pos, "concat puts the results of at least two chains together")
	}
	return nil
}

// UnknownStep is the fault of a transformation that there is none of.
func UnknownStep(option string, pos Pos, name string) error {
	return FaultAt(option, pos, "apply.unknown", "unknown transformation %q%s", name, fault.Suggest(strings.ToLower(name), StepNames))
}
