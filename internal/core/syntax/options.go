package syntax

import (
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/fault"
)

// orderBy reads `eta desc,id`.
func (p *Parser) orderBy() ([]OrderNode, error) {
	var terms []OrderNode
	for {
		by, err := p.Expression(1)
		if err != nil {
			return nil, err
		}
		term := OrderNode{By: by}
		switch {
		case p.word("desc"):
			p.I++
			term.Desc = true
		case p.word("asc"):
			p.I++
		case p.isMark(':') && p.I+1 < len(p.Tokens) && p.Tokens[p.I+1].Kind == TokenName:
			return nil, p.fault(p.Peek().Pos, "unexpected \":\"; write %s %s", by, strings.ToLower(p.Tokens[p.I+1].Text))
		case p.Peek().Kind == TokenName:
			return nil, p.unexpected(`"asc", "desc" or ","`)
		}
		terms = append(terms, term)
		if !p.Accept(',') {
			return terms, nil
		}
	}
}

// selectList reads `id,eta,tags(top=2)` or `*`.
func (p *Parser) selectList() ([]*SelectNode, error) {
	var paths []*SelectNode
	all := false
	for {
		switch t := p.Peek(); {
		case p.Accept('*'):
			all = true
		case t.Kind == TokenName:
			path := &SelectNode{PathNode: &PathNode{}}
			for {
				t := p.Peek()
				if t.Kind != TokenName {
					return nil, p.unexpected("a name")
				}
				p.I++
				path.Segments = append(path.Segments, SegmentNode{t.Pos, t.Text})
				if !p.Accept('/') {
					break
				}
			}
			if p.isMark('(') {
				if err := p.selectOptions(path); err != nil {
					return nil, err
				}
			}
			paths = append(paths, path)
		default:
			return nil, p.unexpected("the name of a field")
		}
		if !p.Accept(',') {
			break
		}
	}
	if all {
		return nil, nil
	}
	return paths, nil
}

// selectOptions reads the options of a selected array in brackets (URL Conventions, 5.1.4).
func (p *Parser) selectOptions(n *SelectNode) error {
	open := p.Next()
	if first := p.Peek(); first.Kind == TokenName && p.Tokens[p.I+1].mark != '=' {
		p.I++
		if names := p.namesAhead(first); names != "" {
			return p.fault(open.Pos, "select takes the fields of %s itself; write expand=%s(select=%s)", n.Segments[0].Name, n, names)
		}
		p.I--
	}
	n.Options = &Options{}
	return p.nestedOptions(n.Options, n.String())
}

// expandList reads `vessel(select=name),tugs(orderby=name;top=2),cargo_items/$count,*`.
func (p *Parser) expandList() ([]ExpandNode, error) {
	var list []ExpandNode
	for {
		t := p.Peek()
		e := ExpandNode{Path: SegmentNode{t.Pos, t.Text}}
		switch {
		case p.Accept('*'):
			e.All = true
		case t.Kind == TokenName:
			p.I++
		default:
			return nil, p.unexpected("the name of a relation")
		}
		if p.Accept('/') {
			switch {
			case p.word("$count"):
				e.Only = "count"
			case p.word("$ref"):
				e.Only = "ref"
			case p.Peek().Kind == TokenName && p.Peek().Text[0] != '$':
				return nil, p.fault(p.Peek().Pos, "%q can't follow a relation here; write %s(expand=%s)", p.Peek().Text, e.Path.Name, p.Peek().Text)
			default:
				return nil, p.unexpected(`"$count" or "$ref"`)
			}
			p.I++
		}
		if p.Accept('(') {
			if p.depth++; p.depth > maxDepth {
				return nil, p.fault(t.Pos, "expand is nested more than %d deep", maxDepth)
			}
			err := p.nestedOptions(&e.Options, e.Path.Name)
			p.depth--
			if err != nil {
				return nil, err
			}
		}
		list = append(list, e)
		if !p.Accept(',') {
			return list, nil
		}
	}
}

// computeList reads `draught_m mul 3.28 as draught_ft,tugs/$count as n`.
func (p *Parser) computeList() ([]ComputeNode, error) {
	var list []ComputeNode
	for {
		by, err := p.Expression(1)
		if err != nil {
			return nil, err
		}
		name, err := p.named("the computed value")
		if err != nil {
			return nil, err
		}
		list = append(list, ComputeNode{by, name})
		if !p.Accept(',') {
			return list, nil
		}
	}
}

// search reads words put together by OR, AND (or nothing) and NOT, the last binding tightest.
func (p *Parser) search() (*SearchNode, error) { return p.searchList("OR", p.searchAnd) }

func (p *Parser) searchAnd() (*SearchNode, error) { return p.searchList("AND", p.searchTerm) }

func (p *Parser) searchList(operator string, part func() (*SearchNode, error)) (*SearchNode, error) {
	n := &SearchNode{Operator: strings.ToLower(operator)}
	for {
		next, err := part()
		if err != nil {
			return nil, err
		}
		n.Parts = append(n.Parts, next)
		t := p.Peek()
		switch {
		case t.Kind == TokenName && t.Text == operator:
			p.I++
		case operator == "AND" && (t.Kind == TokenLiteral || t.Kind == TokenName && t.Text == "NOT" || t.Kind == tokenMark && t.mark == '('):
		case len(n.Parts) == 1:
			return n.Parts[0], nil
		default:
			return n, nil
		}
	}
}

func (p *Parser) searchTerm() (*SearchNode, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, p.fault(p.Peek().Pos, "search is nested more than %d deep", maxDepth)
	}
	defer func() { p.depth-- }()
	t := p.Peek()
	switch {
	case t.Kind == TokenName && t.Text == "NOT":
		p.I++
		inner, err := p.searchTerm()
		return &SearchNode{Operator: "not", Parts: []*SearchNode{inner}}, err
	case p.Accept('('):
		inner, err := p.search()
		if err != nil {
			return nil, err
		}
		return inner, p.Expect(')')
	case t.Kind == TokenLiteral:
		p.I++
		return &SearchNode{Term: &LiteralNode{Pos: t.Pos, Index: t.Literal, Value: p.Literals[t.Literal]}}, nil
	}
	return nil, p.unexpected("a word or a phrase in double quotes")
}

// nestedOptionNames are the options that collections take, also inside expand; their order is the order in the shape.
var nestedOptionNames = []string{"apply", "compute", "search", "filter", "orderby", "select", "expand", "top", "skip", "count", "levels"}

// nestedOptions reads `select=name;top=2)`, the closing bracket too.
func (p *Parser) nestedOptions(o *Options, relation string) error {
	seen := map[string]bool{}
	for {
		t := p.Peek()
		if t.Kind != TokenName {
			return p.unexpected("an option such as select=…")
		}
		p.I++
		name := strings.ToLower(strings.TrimPrefix(t.Text, "$"))
		if !slices.Contains(nestedOptionNames, name) {
			if fields := p.namesAhead(t); fields != "" {
				return p.fault(t.Pos, "%q is no option inside expand; write %s(select=%s)", t.Text, relation, fields)
			}
			return FaultAt(p.Option, t.Pos, "option.unknown", "unknown option %q inside expand%s", t.Text, fault.Suggest(name, nestedOptionNames))
		}
		if seen[name] {
			return FaultAt(p.Option, t.Pos, "option.twice", "option %q stands twice", name)
		}
		seen[name] = true
		if err := p.Expect('='); err != nil {
			return err
		}
		if err := p.OptionValue(name, o); err != nil {
			return err
		}
		if p.Accept(')') {
			return nil
		}
		if p.isMark(',') {
			return p.fault(p.Peek().Pos, `options inside brackets are parted by ";", not by ","`)
		}
		if !p.Accept(';') {
			return p.unexpected(`";" or ")"`)
		}
	}
}

// namesAhead are the names up to a closing bracket where nothing but names is there, as in (id,name); first has been read.
func (p *Parser) namesAhead(first Token) string {
	names := first.Text
	for i := p.I; i+1 < len(p.Tokens); i += 2 {
		t, next := p.Tokens[i], p.Tokens[i+1]
		if t.Kind == tokenMark && t.mark == ')' {
			return names
		}
		if t.Kind != tokenMark || t.mark != ',' || next.Kind != TokenName {
			return ""
		}
		names += "," + next.Text
	}
	return ""
}

// OptionValue reads the value of one option into o.
func (p *Parser) OptionValue(name string, o *Options) (err error) {
	switch name {
	case "apply":
		o.Apply, err = p.apply()
	case "compute":
		o.Compute, err = p.computeList()
	case "search":
		o.Search, err = p.search()
	case "levels":
		o.Levels, err = p.levels()
	case "filter":
		o.Filter, err = p.whole()
	case "orderby":
		o.OrderBy, err = p.orderBy()
	case "select":
		o.Select, err = p.selectList()
	case "expand":
		o.Expand, err = p.expandList()
	case "top":
		o.Top, err = p.numberNode("top")
	case "skip":
		o.Skip, err = p.numberNode("skip")
	case "count":
		switch {
		case p.word("true"):
			o.Count = true
		case !p.word("false"):
			return p.unexpected(`"true" or "false"`)
		}
		p.I++
	}
	return err
}

// levels reads a number or max. It changes the statement, so it is checked here and a part of the shape by its own text.
func (p *Parser) levels() (int, error) {
	t := p.Next()
	if t.Kind == TokenName && strings.EqualFold(t.Text, "max") {
		return maxLevels, nil
	}
	if t.Kind == TokenLiteral {
		if n, err := strconv.Atoi(p.Literals[t.Literal].Text); err == nil && n >= 1 && n <= maxLevels {
			return n, nil
		}
	}
	return 0, p.fault(t.Pos, "levels takes a number from 1 to %d, or max", maxLevels)
}

func (p *Parser) numberNode(option string) (*LiteralNode, error) {
	pos := p.Peek().Pos
	literal, err := p.Number(option)
	if err != nil {
		return nil, err
	}
	return &LiteralNode{Pos: pos, Index: literal, Value: p.Literals[literal]}, nil
}

// Number reads the whole number of top or skip and returns which literal it is.
func (p *Parser) Number(option string) (int, error) {
	t := p.Peek()
	if t.Kind == TokenLiteral && p.Literals[t.Literal].Class == Whole && p.Literals[t.Literal].Text[0] != '-' {
		p.I++
		return t.Literal, nil
	}
	if t.Kind == TokenEnd {
		return 0, p.fault(t.Pos, "a number is missing")
	}
	return 0, p.fault(t.Pos, "%s takes a whole number from 0 up, not %s", option, strings.Trim(p.shown(t), `"`))
}
