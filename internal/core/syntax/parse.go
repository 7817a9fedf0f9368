package syntax

import (
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
)

// Parser reads the tokens of one option into nodes (OData 4.01 URL Conventions, 5.1).
type Parser struct {
	Option   string
	Tokens   []Token
	Literals []Literal
	I        int
	depth    int
}

const maxDepth = 200

// maxLevels is how deep a relation to its own resource may be expanded.
const maxLevels = 8

// parserOf reads a text that stands alone, with literals of its own.
func parserOf(option, text string) (*Parser, error) {
	r := &Reader{}
	tokens, err := r.Scan(option, text)
	return &Parser{Option: option, Tokens: tokens, Literals: r.Literals}, err
}

func (p *Parser) Peek() Token { return p.Tokens[p.I] }

func (p *Parser) Next() Token {
	t := p.Tokens[p.I]
	if t.Kind != TokenEnd {
		p.I++
	}
	return t
}

func (p *Parser) isMark(mark byte) bool {
	t := p.Peek()
	return t.Kind == tokenMark && t.mark == mark
}

func (p *Parser) Accept(mark byte) bool {
	if p.isMark(mark) {
		p.I++
		return true
	}
	return false
}

// word reports whether the next token is that keyword, in any case.
func (p *Parser) word(keyword string) bool {
	t := p.Peek()
	return t.Kind == TokenName && strings.EqualFold(t.Text, keyword)
}

func (p *Parser) fault(pos Pos, format string, args ...any) error {
	return FaultAt(p.Option, pos, "syntax.invalid", format, args...)
}

func (p *Parser) unexpected(wanted string) error {
	t := p.Peek()
	if t.Kind == TokenEnd {
		return p.fault(t.Pos, "%s is missing", wanted)
	}
	return p.fault(t.Pos, "unexpected %s; %s is expected", p.shown(t), wanted)
}

// mostShown is how much of a value is in a message.
const mostShown = 40

// shown is a token as messages show it: of a value, how it begins.
func (p *Parser) shown(t Token) string {
	if t.Kind != TokenLiteral {
		return t.String()
	}
	text := []rune(p.Literals[t.Literal].String())
	if len(text) > mostShown {
		return string(text[:mostShown]) + "…"
	}
	return string(text)
}

func (p *Parser) Expect(mark byte) error {
	if !p.Accept(mark) {
		return p.unexpected(`"` + string(mark) + `"`)
	}
	return nil
}

func (p *Parser) End() error {
	if p.Peek().Kind != TokenEnd {
		return p.unexpected("the end")
	}
	return nil
}

// precedence of the operators between two expressions, tightest last (URL Conventions, 5.1.1.17).
var precedence = map[string]int{
	"or": 1, "and": 2, "eq": 3, "ne": 3, "gt": 4, "ge": 4, "lt": 4, "le": 4, "add": 5, "sub": 5,
	"mul": 6, "div": 6, "divby": 6, "mod": 6, "in": 8, "has": 8,
}

const unaryPrecedence = 7

// symbols are what people write who know other languages.
var symbols = map[byte]string{'=': "eq", '*': "mul", '/': "div", '-': "sub"}

// Expression reads operators of at least that precedence.
func (p *Parser) Expression(least int) (Node, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, p.fault(p.Peek().Pos, "the expression is nested more than %d deep", maxDepth)
	}
	defer func() { p.depth-- }()
	left, err := p.operand()
	if err != nil {
		return nil, err
	}
	for {
		t := p.Peek()
		if t.Kind == tokenMark && symbols[t.mark] != "" {
			return nil, p.fault(t.Pos, "unexpected %q; the operator is called %q", string(t.mark), symbols[t.mark])
		}
		if t.Kind != TokenName {
			return left, nil
		}
		operator := strings.ToLower(t.Text)
		strength := precedence[operator]
		if strength == 0 {
			return left, nil
		}
		if strength < least {
			return left, nil
		}
		p.I++
		var right Node
		if operator == "in" {
			right, err = p.list()
		} else {
			right, err = p.Expression(strength + 1)
		}
		if err != nil {
			return nil, err
		}
		left = &BinaryNode{Pos: t.Pos, Operator: operator, Left: left, Right: right}
	}
}

// operand reads what stands between operators.
func (p *Parser) operand() (Node, error) {
	t := p.Peek()
	switch {
	case t.Kind == TokenLiteral:
		p.I++
		return &LiteralNode{Pos: t.Pos, Index: t.Literal, Value: p.Literals[t.Literal]}, nil
	case t.Kind == tokenMark && t.mark == '(':
		p.I++
		inner, err := p.Expression(1)
		if err != nil {
			return nil, err
		}
		return inner, p.Expect(')')
	case t.Kind == tokenMark && t.mark == '-':
		p.I++
		inner, err := p.Expression(unaryPrecedence)
		if err != nil {
			return nil, err
		}
		return &UnaryNode{Pos: t.Pos, Operator: "-", Operand: inner}, nil
	case p.word("not") && p.operandFollows():
		p.I++
		inner, err := p.Expression(unaryPrecedence)
		if err != nil {
			return nil, err
		}
		return &UnaryNode{Pos: t.Pos, Operator: "not", Operand: inner}, nil
	case t.Kind == TokenName || t.Kind == tokenAlias:
		return p.path()
	}
	return nil, p.unexpected("a field, a function or a value")
}

// operandFollows tells the operator not from a field of that name.
func (p *Parser) operandFollows() bool {
	t := p.Tokens[p.I+1]
	if t.Kind == TokenName {
		return precedence[strings.ToLower(t.Text)] == 0
	}
	return t.Kind == TokenLiteral || t.Kind == tokenAlias || t.Kind == tokenMark && (t.mark == '(' || t.mark == '-')
}

// path reads names separated by slashes, or a call. A path may end in any(…), all(…) or $count.
func (p *Parser) path() (Node, error) {
	first := p.Next()
	if p.isMark('(') && first.Kind == TokenName {
		return p.call(first)
	}
	if first.Text == "$root" && first.Kind == TokenName {
		return p.rootPath(first)
	}
	path := &PathNode{Segments: []SegmentNode{{first.Pos, first.Text}}}
	for p.Accept('/') {
		t := p.Peek()
		if t.Kind != TokenName {
			return nil, p.unexpected("a name")
		}
		p.I++
		switch name := strings.ToLower(t.Text); {
		case (name == "any" || name == "all") && p.isMark('('):
			return p.lambda(path, name == "all")
		case name == "$count":
			return p.count(path)
		}
		path.Segments = append(path.Segments, SegmentNode{t.Pos, t.Text})
	}
	return path, nil
}

// rootPath reads what follows $root: a resource, the key of a row in brackets, and a path from there.
func (p *Parser) rootPath(root Token) (Node, error) {
	if err := p.Expect('/'); err != nil {
		return nil, err
	}
	t := p.Peek()
	if t.Kind != TokenName {
		return nil, p.unexpected("the name of a resource")
	}
	p.I++
	n := &RootNode{Pos: root.Pos, Resource: SegmentNode{t.Pos, t.Text}}
	if !p.Accept('(') {
		return nil, p.unexpected("a key in brackets, as in $root/" + t.Text + "(1)/…,")
	}
	for {
		k := KeyNode{}
		if t := p.Peek(); t.Kind == TokenName {
			p.I++
			k.Name = t.Text
			if err := p.Expect('='); err != nil {
				return nil, err
			}
		}
		t := p.Peek()
		if t.Kind != TokenLiteral {
			return nil, p.unexpected("a value of the key")
		}
		p.I++
		k.Value = &LiteralNode{Pos: t.Pos, Index: t.Literal, Value: p.Literals[t.Literal]}
		n.Key = append(n.Key, k)
		if !p.Accept(',') {
			break
		}
	}
	if err := p.Expect(')'); err != nil {
		return nil, err
	}
	if !p.Accept('/') {
		return nil, p.unexpected("a field, as in /name,")
	}
	t = p.Peek()
	if t.Kind != TokenName {
		return nil, p.unexpected("a name")
	}
	rest, err := p.path()
	if err != nil {
		return nil, err
	}
	path, ok := rest.(*PathNode)
	if !ok {
		return nil, p.fault(t.Pos, "%s is no field; $root leads to one field of one row", rest)
	}
	n.Path = path
	return n, nil
}

// lambda reads `(p: p/hazardous)`, or `()` after any.
func (p *Parser) lambda(path *PathNode, all bool) (Node, error) {
	open := p.Next()
	n := &LambdaNode{Path: path, All: all}
	if p.Accept(')') {
		if all {
			return nil, p.fault(open.Pos, "all(…) needs a condition, such as all(x: x/id gt 0)")
		}
		return n, nil
	}
	t := p.Peek()
	if t.Kind != TokenName {
		return nil, p.unexpected("a variable, as in (x: x/id gt 0),")
	}
	p.I++
	n.Var = t.Text
	if err := p.Expect(':'); err != nil {
		return nil, err
	}
	var err error
	if n.Body, err = p.Expression(1); err != nil {
		return nil, err
	}
	return n, p.Expect(')')
}

// count reads what may follow $count: a filter in brackets.
func (p *Parser) count(path *PathNode) (Node, error) {
	n := &CountNode{Path: path}
	if !p.Accept('(') {
		return n, nil
	}
	if !p.word("filter") && !p.word("$filter") {
		return nil, p.unexpected(`"filter=…"`)
	}
	p.I++
	if err := p.Expect('='); err != nil {
		return nil, err
	}
	var err error
	if n.Filter, err = p.Expression(1); err != nil {
		return nil, err
	}
	return n, p.Expect(')')
}

func (p *Parser) call(name Token) (Node, error) {
	p.I++
	call := &CallNode{Pos: name.Pos, Name: strings.ToLower(name.Text)}
	if p.Accept(')') {
		return call, nil
	}
	for {
		arg, err := p.Expression(1)
		if err != nil {
			return nil, err
		}
		call.Args = append(call.Args, arg)
		if call.Name == "case" && len(call.Args)%2 == 1 {
			if err := p.Expect(':'); err != nil {
				return nil, err
			}
			continue
		}
		if p.Accept(')') {
			return call, nil
		}
		if !p.Accept(',') {
			return nil, p.unexpected(`"," or ")"`)
		}
	}
}

// list reads what follows in: one literal of a list, or values in brackets.
func (p *Parser) list() (Node, error) {
	t := p.Peek()
	if t.Kind == TokenLiteral && p.Literals[t.Literal].Class == Several {
		p.I++
		return &LiteralNode{Pos: t.Pos, Index: t.Literal, Value: p.Literals[t.Literal]}, nil
	}
	if t.Kind == TokenName {
		return p.path() // a collection
	}
	if !p.Accept('(') {
		return nil, p.unexpected("a list in brackets, such as (1,2,3),")
	}
	list := &ListNode{Pos: t.Pos}
	for {
		item, err := p.Expression(1)
		if err != nil {
			return nil, err
		}
		list.Items = append(list.Items, item)
		if p.Accept(')') {
			return list, nil
		}
		if !p.Accept(',') {
			return nil, p.unexpected(`"," or ")"`)
		}
	}
}

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
		case p.Peek().Kind == TokenName:
			return nil, p.unexpected(`"asc", "desc" or ","`)
		}
		terms = append(terms, term)
		if !p.Accept(',') {
			return terms, nil
		}
	}
}

// selectList reads `id,eta` or `*`.
func (p *Parser) selectList() ([]*PathNode, error) {
	var paths []*PathNode
	all := false
	for {
		switch t := p.Peek(); {
		case p.Accept('*'):
			all = true
		case t.Kind == TokenName:
			path := &PathNode{}
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
			default:
				return nil, p.unexpected(`"$count" or "$ref"`)
			}
			p.I++
		}
		if p.Accept('(') {
			if p.depth++; p.depth > maxDepth {
				return nil, p.fault(t.Pos, "expand is nested more than %d deep", maxDepth)
			}
			err := p.nestedOptions(&e.Options)
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
		if !p.word("as") {
			return nil, p.unexpected(`"as" and a name`)
		}
		p.I++
		t := p.Peek()
		if t.Kind != TokenName || !window.IsName(t.Text) {
			return nil, p.unexpected("a name for the computed value")
		}
		p.I++
		list = append(list, ComputeNode{by, SegmentNode{t.Pos, t.Text}})
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
func (p *Parser) nestedOptions(o *Options) error {
	seen := map[string]bool{}
	for {
		t := p.Peek()
		if t.Kind != TokenName {
			return p.unexpected("an option such as select=…")
		}
		p.I++
		name := strings.ToLower(strings.TrimPrefix(t.Text, "$"))
		if !slices.Contains(nestedOptionNames, name) {
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
		o.Filter, err = p.Expression(1)
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

// ParseRule parses a row rule: a filter on its own, with literals of its own.
func ParseRule(text string) (Node, error) {
	p, err := parserOf("rows", text)
	if err != nil {
		return nil, err
	}
	n, err := p.Expression(1)
	if err != nil {
		return nil, err
	}
	return n, p.End()
}

// ParseOrder parses the order that a document gives a resource.
func ParseOrder(text string) ([]OrderNode, error) {
	p, err := parserOf("order", text)
	if err != nil {
		return nil, err
	}
	terms, err := p.orderBy()
	if err != nil {
		return nil, err
	}
	return terms, p.End()
}

// ParseText parses one option of a document, with literals of its own.
func ParseText(name, text string, o *Options) error {
	p, err := parserOf(name, text)
	if err != nil {
		return err
	}
	if err := p.OptionValue(name, o); err != nil {
		return err
	}
	return p.End()
}
