package syntax

import (
	"strings"
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
			return nil, p.symbol(left, t)
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

// symbol is the fault of an operator that other languages write as a sign.
func (p *Parser) symbol(left Node, t Token) error {
	word := symbols[t.mark]
	shown := string(t.mark)
	p.I++
	for t.mark == '=' && p.Accept('=') {
		shown += "="
	}
	right, err := p.Expression(precedence[word] + 1)
	if err != nil {
		return p.fault(t.Pos, "%q is no operator here; the operator is %s", shown, word)
	}
	return p.fault(t.Pos, "%q is no operator here; write %s", shown, (&BinaryNode{Operator: word, Left: left, Right: right}).String())
}

// whole reads an expression that no other word may follow.
func (p *Parser) whole() (Node, error) {
	n, err := p.Expression(1)
	if err == nil && p.Peek().Kind == TokenName {
		err = p.wordAfter(n)
	}
	return n, err
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
		inner, err := p.whole()
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
	var filter Node
	for p.Accept('/') {
		t := p.Peek()
		if t.Kind != TokenName {
			return nil, p.unexpected("a name")
		}
		p.I++
		switch name := strings.ToLower(t.Text); {
		case name == "$filter" && p.isMark('('):
			more, err := p.pathFilter()
			if err != nil {
				return nil, err
			}
			filter = bothNodes(filter, more)
			continue
		case (name == "any" || name == "all") && p.isMark('('):
			return p.lambda(path, filter, name == "all")
		case name == "$count":
			return p.count(path, filter)
		}
		path.Segments = append(path.Segments, SegmentNode{t.Pos, t.Text})
	}
	if filter != nil {
		return nil, p.unexpected("/any(…), /all(…) or /$count after a filter")
	}
	return path, nil
}

// pathFilter reads the condition of `$filter(…)` in a path.
func (p *Parser) pathFilter() (Node, error) {
	p.I++
	filter, err := p.whole()
	if err != nil {
		return nil, err
	}
	return filter, p.Expect(')')
}

// bothNodes is a condition and another one, either of which may be nil.
func bothNodes(x, y Node) Node {
	switch {
	case x == nil:
		return y
	case y == nil:
		return x
	}
	return &BinaryNode{Pos: y.Start(), Operator: "and", Left: x, Right: y}
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
		return n, nil
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
func (p *Parser) lambda(path *PathNode, filter Node, all bool) (Node, error) {
	open := p.Next()
	n := &LambdaNode{Path: path, Filter: filter, All: all}
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
	if n.Body, err = p.whole(); err != nil {
		return nil, err
	}
	return n, p.Expect(')')
}

// count reads what may follow $count: a filter and a search in brackets.
func (p *Parser) count(path *PathNode, filter Node) (Node, error) {
	n := &CountNode{Path: path, Filter: filter}
	if !p.Accept('(') {
		return n, nil
	}
	for {
		isFilter := p.word("filter") || p.word("$filter")
		if !isFilter && !p.word("search") && !p.word("$search") {
			return nil, p.unexpected(`"filter=…" or "search=…"`)
		}
		p.I++
		if err := p.Expect('='); err != nil {
			return nil, err
		}
		var err error
		if isFilter {
			var more Node
			more, err = p.whole()
			n.Filter = bothNodes(n.Filter, more)
		} else {
			n.Search, err = p.search()
		}
		if err != nil {
			return nil, err
		}
		if p.Accept(')') {
			return n, nil
		}
		if !p.Accept(';') {
			return nil, p.unexpected(`";" or ")"`)
		}
	}
}

func (p *Parser) call(name Token) (Node, error) {
	p.I++
	call := &CallNode{Pos: name.Pos, Name: strings.ToLower(name.Text)}
	if p.Accept(')') {
		return call, nil
	}
	for {
		arg, err := p.whole()
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
		item, err := p.whole()
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

// ParseRule parses a row rule: a filter on its own, with literals of its own.
func ParseRule(text string) (Node, error) {
	p, err := parserOf("rows", text)
	if err != nil {
		return nil, err
	}
	return p.Filter()
}

// Filter reads an expression that is all there is.
func (p *Parser) Filter() (Node, error) {
	n, err := p.whole()
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
