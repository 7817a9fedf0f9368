package request

import (
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
)

// parser reads the tokens of one option into nodes (OData 4.01 URL Conventions, 5.1).
type parser struct {
	option   string
	tokens   []token
	literals []Literal
	i        int
	depth    int
}

const maxDepth = 200

// maxLevels is how deep a relation to its own resource may be expanded.
const maxLevels = 8

// parserOf reads a text that stands alone, with literals of its own.
func parserOf(option, text string) (*parser, error) {
	r := &Reader{}
	tokens, err := r.Scan(option, text)
	return &parser{option: option, tokens: tokens, literals: r.Literals}, err
}

func (p *parser) peek() token { return p.tokens[p.i] }

func (p *parser) next() token {
	t := p.tokens[p.i]
	if t.kind != tokenEnd {
		p.i++
	}
	return t
}

func (p *parser) isMark(mark byte) bool {
	t := p.peek()
	return t.kind == tokenMark && t.mark == mark
}

func (p *parser) accept(mark byte) bool {
	if p.isMark(mark) {
		p.i++
		return true
	}
	return false
}

// word says whether the next token is that keyword, in any case.
func (p *parser) word(keyword string) bool {
	t := p.peek()
	return t.kind == tokenName && strings.EqualFold(t.text, keyword)
}

func (p *parser) fault(pos int, format string, args ...any) error {
	return faultAt(p.option, pos, "syntax.invalid", format, args...)
}

func (p *parser) unexpected(wanted string) error {
	t := p.peek()
	if t.kind == tokenEnd {
		return p.fault(t.pos, "%s is missing", wanted)
	}
	return p.fault(t.pos, "unexpected %s; %s is expected", p.shown(t), wanted)
}

// mostShown is how much of a value stands in a message.
const mostShown = 40

// shown is a token as messages show it: of a value, how it begins.
func (p *parser) shown(t token) string {
	if t.kind != tokenLiteral {
		return t.String()
	}
	text := []rune(p.literals[t.literal].String())
	if len(text) > mostShown {
		return string(text[:mostShown]) + "…"
	}
	return string(text)
}

func (p *parser) expect(mark byte) error {
	if !p.accept(mark) {
		return p.unexpected(`"` + string(mark) + `"`)
	}
	return nil
}

func (p *parser) end() error {
	if p.peek().kind != tokenEnd {
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

// expression reads operators of at least that precedence.
func (p *parser) expression(least int) (Node, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, p.fault(p.peek().pos, "the expression is nested more than %d deep", maxDepth)
	}
	defer func() { p.depth-- }()
	left, err := p.operand()
	if err != nil {
		return nil, err
	}
	for {
		t := p.peek()
		if t.kind == tokenMark && symbols[t.mark] != "" {
			return nil, p.fault(t.pos, "unexpected %q; the operator is called %q", string(t.mark), symbols[t.mark])
		}
		if t.kind != tokenName {
			return left, nil
		}
		operator := strings.ToLower(t.text)
		strength := precedence[operator]
		if strength == 0 {
			return left, nil
		}
		if strength < least {
			return left, nil
		}
		p.i++
		var right Node
		if operator == "in" {
			right, err = p.list()
		} else {
			right, err = p.expression(strength + 1)
		}
		if err != nil {
			return nil, err
		}
		left = &BinaryNode{Pos: t.pos, Operator: operator, Left: left, Right: right}
	}
}

// operand reads what stands between operators.
func (p *parser) operand() (Node, error) {
	t := p.peek()
	switch {
	case t.kind == tokenLiteral:
		p.i++
		return &LiteralNode{Pos: t.pos, Index: t.literal, Value: p.literals[t.literal]}, nil
	case t.kind == tokenMark && t.mark == '(':
		p.i++
		inner, err := p.expression(1)
		if err != nil {
			return nil, err
		}
		return inner, p.expect(')')
	case t.kind == tokenMark && t.mark == '-':
		p.i++
		inner, err := p.expression(unaryPrecedence)
		if err != nil {
			return nil, err
		}
		return &UnaryNode{Pos: t.pos, Operator: "-", Operand: inner}, nil
	case p.word("not") && p.operandFollows():
		p.i++
		inner, err := p.expression(unaryPrecedence)
		if err != nil {
			return nil, err
		}
		return &UnaryNode{Pos: t.pos, Operator: "not", Operand: inner}, nil
	case t.kind == tokenName || t.kind == tokenAlias:
		return p.path()
	}
	return nil, p.unexpected("a field, a function or a value")
}

// operandFollows tells the operator not from a field of that name.
func (p *parser) operandFollows() bool {
	t := p.tokens[p.i+1]
	if t.kind == tokenName {
		return precedence[strings.ToLower(t.text)] == 0
	}
	return t.kind == tokenLiteral || t.kind == tokenAlias || t.kind == tokenMark && (t.mark == '(' || t.mark == '-')
}

// path reads names parted by slashes, or a call. A path may end in any(…), all(…) or $count.
func (p *parser) path() (Node, error) {
	first := p.next()
	if p.isMark('(') && first.kind == tokenName {
		return p.call(first)
	}
	if first.text == "$root" && first.kind == tokenName {
		return p.rootPath(first)
	}
	path := &PathNode{Segments: []SegmentNode{{first.pos, first.text}}}
	for p.accept('/') {
		t := p.peek()
		if t.kind != tokenName {
			return nil, p.unexpected("a name")
		}
		p.i++
		switch name := strings.ToLower(t.text); {
		case (name == "any" || name == "all") && p.isMark('('):
			return p.lambda(path, name == "all")
		case name == "$count":
			return p.count(path)
		}
		path.Segments = append(path.Segments, SegmentNode{t.pos, t.text})
	}
	return path, nil
}

// rootPath reads what follows $root: a resource, the key of a row in brackets, and a path from there.
func (p *parser) rootPath(root token) (Node, error) {
	if err := p.expect('/'); err != nil {
		return nil, err
	}
	t := p.peek()
	if t.kind != tokenName {
		return nil, p.unexpected("the name of a resource")
	}
	p.i++
	n := &RootNode{Pos: root.pos, Resource: SegmentNode{t.pos, t.text}}
	if !p.accept('(') {
		return nil, p.unexpected("a key in brackets, as in $root/" + t.text + "(1)/…,")
	}
	for {
		k := KeyNode{}
		if t := p.peek(); t.kind == tokenName {
			p.i++
			k.Name = t.text
			if err := p.expect('='); err != nil {
				return nil, err
			}
		}
		t := p.peek()
		if t.kind != tokenLiteral {
			return nil, p.unexpected("a value of the key")
		}
		p.i++
		k.Value = &LiteralNode{Pos: t.pos, Index: t.literal, Value: p.literals[t.literal]}
		n.Key = append(n.Key, k)
		if !p.accept(',') {
			break
		}
	}
	if err := p.expect(')'); err != nil {
		return nil, err
	}
	if !p.accept('/') {
		return nil, p.unexpected("a field, as in /name,")
	}
	t = p.peek()
	if t.kind != tokenName {
		return nil, p.unexpected("a name")
	}
	rest, err := p.path()
	if err != nil {
		return nil, err
	}
	path, ok := rest.(*PathNode)
	if !ok {
		return nil, p.fault(t.pos, "%s is no field; $root leads to one field of one row", rest)
	}
	n.Path = path
	return n, nil
}

// lambda reads `(p: p/hazardous)`, or `()` after any.
func (p *parser) lambda(path *PathNode, all bool) (Node, error) {
	open := p.next()
	n := &LambdaNode{Path: path, All: all}
	if p.accept(')') {
		if all {
			return nil, p.fault(open.pos, "all(…) needs a condition, such as all(x: x/id gt 0)")
		}
		return n, nil
	}
	t := p.peek()
	if t.kind != tokenName {
		return nil, p.unexpected("a variable, as in (x: x/id gt 0),")
	}
	p.i++
	n.Var = t.text
	if err := p.expect(':'); err != nil {
		return nil, err
	}
	var err error
	if n.Body, err = p.expression(1); err != nil {
		return nil, err
	}
	return n, p.expect(')')
}

// count reads what may follow $count: a filter in brackets.
func (p *parser) count(path *PathNode) (Node, error) {
	n := &CountNode{Path: path}
	if !p.accept('(') {
		return n, nil
	}
	if !p.word("filter") && !p.word("$filter") {
		return nil, p.unexpected(`"filter=…"`)
	}
	p.i++
	if err := p.expect('='); err != nil {
		return nil, err
	}
	var err error
	if n.Filter, err = p.expression(1); err != nil {
		return nil, err
	}
	return n, p.expect(')')
}

func (p *parser) call(name token) (Node, error) {
	p.i++
	call := &CallNode{Pos: name.pos, Name: strings.ToLower(name.text)}
	if p.accept(')') {
		return call, nil
	}
	for {
		arg, err := p.expression(1)
		if err != nil {
			return nil, err
		}
		call.Args = append(call.Args, arg)
		if call.Name == "case" && len(call.Args)%2 == 1 {
			if err := p.expect(':'); err != nil {
				return nil, err
			}
			continue
		}
		if p.accept(')') {
			return call, nil
		}
		if !p.accept(',') {
			return nil, p.unexpected(`"," or ")"`)
		}
	}
}

// list reads what stands after in: one literal of a list, or values in brackets.
func (p *parser) list() (Node, error) {
	t := p.peek()
	if t.kind == tokenLiteral && p.literals[t.literal].Class == Several {
		p.i++
		return &LiteralNode{Pos: t.pos, Index: t.literal, Value: p.literals[t.literal]}, nil
	}
	if t.kind == tokenName {
		return p.path() // a collection
	}
	if !p.accept('(') {
		return nil, p.unexpected("a list in brackets, such as (1,2,3),")
	}
	list := &ListNode{Pos: t.pos}
	for {
		item, err := p.expression(1)
		if err != nil {
			return nil, err
		}
		list.Items = append(list.Items, item)
		if p.accept(')') {
			return list, nil
		}
		if !p.accept(',') {
			return nil, p.unexpected(`"," or ")"`)
		}
	}
}

// orderBy reads `eta desc,id`.
func (p *parser) orderBy() ([]OrderNode, error) {
	var terms []OrderNode
	for {
		by, err := p.expression(1)
		if err != nil {
			return nil, err
		}
		term := OrderNode{By: by}
		switch {
		case p.word("desc"):
			p.i++
			term.Desc = true
		case p.word("asc"):
			p.i++
		case p.peek().kind == tokenName:
			return nil, p.unexpected(`"asc", "desc" or ","`)
		}
		terms = append(terms, term)
		if !p.accept(',') {
			return terms, nil
		}
	}
}

// selectList reads `id,eta` or `*`.
func (p *parser) selectList() ([]*PathNode, error) {
	var paths []*PathNode
	all := false
	for {
		switch t := p.peek(); {
		case p.accept('*'):
			all = true
		case t.kind == tokenName:
			path := &PathNode{}
			for {
				t := p.peek()
				if t.kind != tokenName {
					return nil, p.unexpected("a name")
				}
				p.i++
				path.Segments = append(path.Segments, SegmentNode{t.pos, t.text})
				if !p.accept('/') {
					break
				}
			}
			paths = append(paths, path)
		default:
			return nil, p.unexpected("the name of a field")
		}
		if !p.accept(',') {
			break
		}
	}
	if all {
		return nil, nil
	}
	return paths, nil
}

// expandList reads `vessel(select=name),tugs(orderby=name;top=2),cargo_items/$count,*`.
func (p *parser) expandList() ([]ExpandNode, error) {
	var list []ExpandNode
	for {
		t := p.peek()
		e := ExpandNode{Path: SegmentNode{t.pos, t.text}}
		switch {
		case p.accept('*'):
			e.All = true
		case t.kind == tokenName:
			p.i++
		default:
			return nil, p.unexpected("the name of a relation")
		}
		if p.accept('/') {
			switch {
			case p.word("$count"):
				e.Only = "count"
			case p.word("$ref"):
				e.Only = "ref"
			default:
				return nil, p.unexpected(`"$count" or "$ref"`)
			}
			p.i++
		}
		if p.accept('(') {
			if p.depth++; p.depth > maxDepth {
				return nil, p.fault(t.pos, "expand is nested more than %d deep", maxDepth)
			}
			err := p.nestedOptions(&e.Options)
			p.depth--
			if err != nil {
				return nil, err
			}
		}
		list = append(list, e)
		if !p.accept(',') {
			return list, nil
		}
	}
}

// computeList reads `draught_m mul 3.28 as draught_ft,tugs/$count as n`.
func (p *parser) computeList() ([]ComputeNode, error) {
	var list []ComputeNode
	for {
		by, err := p.expression(1)
		if err != nil {
			return nil, err
		}
		if !p.word("as") {
			return nil, p.unexpected(`"as" and a name`)
		}
		p.i++
		t := p.peek()
		if t.kind != tokenName || !window.IsName(t.text) {
			return nil, p.unexpected("a name for the computed value")
		}
		p.i++
		list = append(list, ComputeNode{by, SegmentNode{t.pos, t.text}})
		if !p.accept(',') {
			return list, nil
		}
	}
}

// search reads words put together by OR, AND (or nothing) and NOT, the last binding tightest.
func (p *parser) search() (*SearchNode, error) { return p.searchList("OR", p.searchAnd) }

func (p *parser) searchAnd() (*SearchNode, error) { return p.searchList("AND", p.searchTerm) }

func (p *parser) searchList(operator string, part func() (*SearchNode, error)) (*SearchNode, error) {
	n := &SearchNode{Operator: strings.ToLower(operator)}
	for {
		next, err := part()
		if err != nil {
			return nil, err
		}
		n.Parts = append(n.Parts, next)
		t := p.peek()
		switch {
		case t.kind == tokenName && t.text == operator:
			p.i++
		case operator == "AND" && (t.kind == tokenLiteral || t.kind == tokenName && t.text == "NOT" || t.kind == tokenMark && t.mark == '('):
		case len(n.Parts) == 1:
			return n.Parts[0], nil
		default:
			return n, nil
		}
	}
}

func (p *parser) searchTerm() (*SearchNode, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, p.fault(p.peek().pos, "search is nested more than %d deep", maxDepth)
	}
	defer func() { p.depth-- }()
	t := p.peek()
	switch {
	case t.kind == tokenName && t.text == "NOT":
		p.i++
		inner, err := p.searchTerm()
		return &SearchNode{Operator: "not", Parts: []*SearchNode{inner}}, err
	case p.accept('('):
		inner, err := p.search()
		if err != nil {
			return nil, err
		}
		return inner, p.expect(')')
	case t.kind == tokenLiteral:
		p.i++
		return &SearchNode{Term: &LiteralNode{Pos: t.pos, Index: t.literal, Value: p.literals[t.literal]}}, nil
	}
	return nil, p.unexpected("a word or a phrase in double quotes")
}

// nestedOptions reads `select=name;top=2)`, the closing bracket too.
func (p *parser) nestedOptions(o *Options) error {
	seen := map[string]bool{}
	for {
		t := p.peek()
		if t.kind != tokenName {
			return p.unexpected("an option such as select=…")
		}
		p.i++
		name := strings.ToLower(strings.TrimPrefix(t.text, "$"))
		if !slices.Contains(nestedOptionNames, name) {
			return faultAt(p.option, t.pos, "option.unknown", "unknown option %q inside expand%s", t.text, fault.Suggest(name, nestedOptionNames))
		}
		if seen[name] {
			return faultAt(p.option, t.pos, "option.twice", "option %q stands twice", name)
		}
		seen[name] = true
		if err := p.expect('='); err != nil {
			return err
		}
		if err := p.optionValue(name, o); err != nil {
			return err
		}
		if p.accept(')') {
			return nil
		}
		if p.isMark(',') {
			return p.fault(p.peek().pos, `options inside brackets are parted by ";", not by ","`)
		}
		if !p.accept(';') {
			return p.unexpected(`";" or ")"`)
		}
	}
}

// optionValue reads the value of one option into o.
func (p *parser) optionValue(name string, o *Options) (err error) {
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
		o.Filter, err = p.expression(1)
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
		p.i++
	}
	return err
}

// levels reads a number or max. It changes the statement, so it is checked here and a part of the shape by its own text.
func (p *parser) levels() (int, error) {
	t := p.next()
	if t.kind == tokenName && strings.EqualFold(t.text, "max") {
		return maxLevels, nil
	}
	if t.kind == tokenLiteral {
		if n, err := strconv.Atoi(p.literals[t.literal].Text); err == nil && n >= 1 && n <= maxLevels {
			return n, nil
		}
	}
	return 0, p.fault(t.pos, "levels takes a number from 1 to %d, or max", maxLevels)
}

func (p *parser) numberNode(option string) (*LiteralNode, error) {
	pos := p.peek().pos
	literal, err := p.number(option)
	if err != nil {
		return nil, err
	}
	return &LiteralNode{Pos: pos, Index: literal, Value: p.literals[literal]}, nil
}

// number reads the whole number of top or skip and returns which literal it is.
func (p *parser) number(option string) (int, error) {
	t := p.peek()
	if t.kind == tokenLiteral && p.literals[t.literal].Class == Whole && p.literals[t.literal].Text[0] != '-' {
		p.i++
		return t.literal, nil
	}
	if t.kind == tokenEnd {
		return 0, p.fault(t.pos, "a number is missing")
	}
	return 0, p.fault(t.pos, "%s takes a whole number from 0 up, not %s", option, strings.Trim(p.shown(t), `"`))
}

// ParseRule parses a row rule: a filter on its own, with literals of its own.
func ParseRule(text string) (Node, error) {
	p, err := parserOf("rows", text)
	if err != nil {
		return nil, err
	}
	n, err := p.expression(1)
	if err != nil {
		return nil, err
	}
	return n, p.end()
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
	return terms, p.end()
}

// parseText parses one option of a document, with literals of its own.
func parseText(name, text string, o *Options) error {
	p, err := parserOf(name, text)
	if err != nil {
		return err
	}
	if err := p.optionValue(name, o); err != nil {
		return err
	}
	return p.end()
}
