package suite

import (
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strings"
)

// condition is a simple criterion (Arazzo 1.0.1, 5.8.11): comparisons of runtime expressions and literals, joined by &&, || and !.
type condition interface {
	holds(r *run) (bool, error)
}

type (
	junction struct {
		and         bool
		left, right condition
	}
	negation   struct{ of condition }
	comparison struct {
		operator    string // "" for a value by itself, which must be true
		left, right operand
		text        string
	}
	operand struct {
		expression *expression
		literal    any
	}
)

func (j junction) holds(r *run) (bool, error) {
	left, err := j.left.holds(r)
	if err != nil || left != j.and {
		return left, err
	}
	return j.right.holds(r)
}

func (n negation) holds(r *run) (bool, error) {
	is, err := n.of.holds(r)
	return !is, err
}

func (o operand) value(r *run) (any, error) {
	if o.expression == nil {
		return o.literal, nil
	}
	return r.value(*o.expression)
}

func (c comparison) holds(r *run) (bool, error) {
	left, err := c.left.value(r)
	if err != nil {
		return false, err
	}
	if c.operator == "" {
		return left == true, nil
	}
	right, err := c.right.value(r)
	if err != nil {
		return false, err
	}
	switch c.operator {
	case "==":
		return equal(left, right), nil
	case "!=":
		return !equal(left, right), nil
	}
	n, err := order(left, right)
	if err != nil {
		return false, fmt.Errorf("%s: %w", c.text, err)
	}
	return c.operator == "<" && n < 0 || c.operator == "<=" && n <= 0 || c.operator == ">" && n > 0 || c.operator == ">=" && n >= 0, nil
}

// number is a value as a number, where it is one.
func number(v any) *big.Rat {
	switch v := v.(type) {
	case json.Number:
		n, _ := new(big.Rat).SetString(v.String())
		return n
	case float64:
		return new(big.Rat).SetFloat64(v)
	case int:
		return big.NewRat(int64(v), 1)
	}
	return nil
}

// equal compares as the standard says: texts without regard to case.
func equal(a, b any) bool {
	if x, y := number(a), number(b); x != nil && y != nil {
		return x.Cmp(y) == 0
	}
	x, isText := a.(string)
	y, too := b.(string)
	if isText && too {
		return strings.EqualFold(x, y)
	}
	return asText(a) == asText(b) && isText == too
}

func order(a, b any) (int, error) {
	if x, y := number(a), number(b); x != nil && y != nil {
		return x.Cmp(y), nil
	}
	x, isText := a.(string)
	y, too := b.(string)
	if isText && too {
		return strings.Compare(x, y), nil
	}
	return 0, fmt.Errorf("%s and %s have no order", asText(a), asText(b))
}

// parseCondition reads a simple criterion.
func parseCondition(text string) (condition, error) {
	p := &conditionParser{text: text}
	if err := p.scan(); err != nil {
		return nil, err
	}
	c, err := p.or()
	if err == nil && p.at < len(p.tokens) {
		err = fmt.Errorf("%q is not expected here", p.tokens[p.at])
	}
	return c, err
}

type conditionParser struct {
	text   string
	tokens []string
	at     int
}

var operators = []string{"==", "!=", "<=", ">=", "&&", "||", "<", ">", "!", "(", ")"}

func (p *conditionParser) scan() error {
	rest := p.text
next:
	for rest = strings.TrimLeft(rest, " \t\n"); rest != ""; rest = strings.TrimLeft(rest, " \t\n") {
		for _, o := range operators {
			if strings.HasPrefix(rest, o) {
				p.tokens, rest = append(p.tokens, o), rest[len(o):]
				continue next
			}
		}
		end := 0
		if rest[0] == '\'' {
			for end = 1; end < len(rest) && (rest[end] != '\'' || end+1 < len(rest) && rest[end+1] == '\''); end++ {
				if rest[end] == '\'' {
					end++
				}
			}
			if end++; end > len(rest) {
				return fmt.Errorf("a quote is not closed")
			}
		} else if end = strings.IndexAny(rest, " \t\n=!<>&|()"); end < 0 {
			end = len(rest)
		}
		if end == 0 {
			return fmt.Errorf("%q is not expected", rest[:1])
		}
		p.tokens, rest = append(p.tokens, rest[:end]), rest[end:]
	}
	if len(p.tokens) == 0 {
		return fmt.Errorf("the condition is empty")
	}
	return nil
}

func (p *conditionParser) take(token string) bool {
	if p.at < len(p.tokens) && p.tokens[p.at] == token {
		p.at++
		return true
	}
	return false
}

func (p *conditionParser) or() (condition, error) {
	left, err := p.and()
	for err == nil && p.take("||") {
		var right condition
		right, err = p.and()
		left = junction{false, left, right}
	}
	return left, err
}

func (p *conditionParser) and() (condition, error) {
	left, err := p.term()
	for err == nil && p.take("&&") {
		var right condition
		right, err = p.term()
		left = junction{true, left, right}
	}
	return left, err
}

func (p *conditionParser) term() (condition, error) {
	switch {
	case p.take("!"):
		of, err := p.term()
		return negation{of}, err
	case p.take("("):
		inner, err := p.or()
		if err == nil && !p.take(")") {
			err = fmt.Errorf("a bracket is not closed")
		}
		return inner, err
	}
	left, err := p.operand()
	if err != nil {
		return nil, err
	}
	c := comparison{left: left, text: p.text}
	if p.at < len(p.tokens) && slices.Contains([]string{"==", "!=", "<=", ">=", "<", ">"}, p.tokens[p.at]) {
		c.operator = p.tokens[p.at]
		p.at++
		c.right, err = p.operand()
	}
	return c, err
}

func (p *conditionParser) operand() (operand, error) {
	if p.at >= len(p.tokens) {
		return operand{}, fmt.Errorf("a value is missing at the end")
	}
	token := p.tokens[p.at]
	p.at++
	switch {
	case strings.HasPrefix(token, "$"):
		e, err := parseExpression(token)
		return operand{expression: &e}, err
	case token[0] == '\'':
		return operand{literal: strings.ReplaceAll(token[1:len(token)-1], "''", "'")}, nil
	case token == "true" || token == "false":
		return operand{literal: token == "true"}, nil
	case token == "null":
		return operand{}, nil
	}
	if _, is := new(big.Rat).SetString(token); is && json.Valid([]byte(token)) {
		return operand{literal: json.Number(token)}, nil
	}
	return operand{}, fmt.Errorf("%q is no value; texts are in single quotes", token)
}
