package request

import (
	"strings"

	"eagerwindow/internal/core/window"
)

// StepNode is one transformation of apply (Data Aggregation, 3).
type StepNode struct {
	Pos        int
	Name       string // filter, search, compute, orderby, top, skip, groupby, aggregate, concat, identity, topcount and its kin
	Filter     Node
	Search     *SearchNode
	Compute    []ComputeNode
	OrderBy    []OrderNode
	Number     *LiteralNode // of top and skip, and the first argument of topcount and its kin
	By         Node         // the second argument of these
	Keys       []KeyPath    // of groupby
	Aggregates []AggregateNode
	Chains     [][]StepNode // of concat; of groupby, what is done with each group
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

// extremes are topcount and its kin: whether the greatest are kept, and how many.
var extremes = map[string]struct {
	top bool
	by  string // count, sum or percent
}{
	"topcount": {true, "count"}, "topsum": {true, "sum"}, "toppercent": {true, "percent"},
	"bottomcount": {false, "count"}, "bottomsum": {false, "sum"}, "bottompercent": {false, "percent"},
}

var stepNames = []string{"filter", "search", "compute", "groupby", "aggregate", "orderby", "top", "skip", "concat", "identity",
	"topcount", "topsum", "toppercent", "bottomcount", "bottomsum", "bottompercent"}

// apply reads transformations parted by slashes.
func (p *parser) apply() ([]StepNode, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, p.fault(p.peek().pos, "apply is nested more than %d deep", maxDepth)
	}
	defer func() { p.depth-- }()
	var chain []StepNode
	for {
		step, err := p.step()
		if err != nil {
			return nil, err
		}
		chain = append(chain, step)
		if !p.accept('/') {
			return chain, nil
		}
	}
}

func (p *parser) step() (s StepNode, err error) {
	t := p.peek()
	if t.kind != tokenName {
		return s, p.unexpected("a transformation such as groupby(…)")
	}
	p.i++
	s = StepNode{Pos: t.pos, Name: strings.ToLower(t.text)}
	if s.Name == "identity" {
		return s, nil
	}
	if !p.isMark('(') {
		return s, p.unexpected(`"(" after ` + t.text)
	}
	p.i++
	switch s.Name {
	case "filter":
		s.Filter, err = p.expression(1)
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
	default:
		if _, known := extremes[s.Name]; !known {
			return s, unknownStep(p.option, t.pos, t.text)
		}
		if s.Number, err = p.amount(s.Name); err != nil {
			return s, err
		}
		if err = p.expect(','); err == nil {
			s.By, err = p.expression(1)
		}
	}
	if err != nil {
		return s, err
	}
	return s, p.expect(')')
}

// amount reads the number of topcount and its kin.
func (p *parser) amount(step string) (*LiteralNode, error) {
	if extremes[step].by == "count" {
		return p.numberNode(step)
	}
	t := p.peek()
	if t.kind == tokenLiteral {
		switch p.literals[t.literal].Class {
		case Whole, Fraction, Floating:
			p.i++
			return &LiteralNode{Pos: t.pos, Index: t.literal, Value: p.literals[t.literal]}, nil
		}
	}
	return nil, p.unexpected("a number")
}

func (p *parser) aggregates() ([]AggregateNode, error) {
	var list []AggregateNode
	for {
		a := AggregateNode{}
		if p.word("$count") {
			a.Method = SegmentNode{p.peek().pos, "$count"}
			p.i++
		} else {
			var err error
			if a.By, err = p.expression(1); err != nil {
				return nil, err
			}
			if !p.word("with") {
				return nil, p.unexpected(`"with" and a method such as sum`)
			}
			p.i++
			t := p.peek()
			if t.kind != tokenName {
				return nil, p.unexpected("a method such as sum")
			}
			p.i++
			a.Method = SegmentNode{t.pos, strings.ToLower(t.text)}
		}
		if !p.word("as") {
			return nil, p.unexpected(`"as" and a name`)
		}
		p.i++
		t := p.peek()
		if t.kind != tokenName || !window.IsName(t.text) {
			return nil, p.unexpected("a name for the aggregated value")
		}
		p.i++
		a.Name = SegmentNode{t.pos, t.text}
		list = append(list, a)
		if !p.accept(',') {
			return list, nil
		}
	}
}

// groupBy reads `(vessel/kind,rollup($all,quay)),aggregate(…)`.
func (p *parser) groupBy(s *StepNode) error {
	if !p.accept('(') {
		return p.unexpected(`a list in brackets, as in groupby((status),…),`)
	}
	for {
		key := KeyPath{}
		if p.word("rollup") && p.tokens[p.i+1].mark == '(' {
			p.i += 2
			key.Rollup = true
			for {
				if p.word("$all") && len(key.Paths) == 0 && !key.All {
					p.i++
					key.All = true
				} else {
					path, err := p.keyPath()
					if err != nil {
						return err
					}
					key.Paths = append(key.Paths, path)
				}
				if !p.accept(',') {
					break
				}
			}
			if err := p.expect(')'); err != nil {
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
		if !p.accept(',') {
			break
		}
	}
	if err := p.expect(')'); err != nil {
		return err
	}
	if !p.accept(',') {
		return nil
	}
	chain, err := p.apply()
	s.Chains = [][]StepNode{chain}
	return err
}

func (p *parser) keyPath() (*PathNode, error) {
	t := p.peek()
	if t.kind != tokenName {
		return nil, p.unexpected("a field")
	}
	node, err := p.path()
	if err != nil {
		return nil, err
	}
	path, ok := node.(*PathNode)
	if !ok {
		return nil, p.fault(t.pos, "%s is no field; name what it computes in compute(…) first, and group by the name", node)
	}
	return path, nil
}

func (p *parser) chains(s *StepNode) error {
	for {
		chain, err := p.apply()
		if err != nil {
			return err
		}
		s.Chains = append(s.Chains, chain)
		if !p.accept(',') {
			break
		}
	}
	if len(s.Chains) < 2 {
		return p.fault(s.Pos, "concat puts the results of at least two chains together")
	}
	return nil
}
