package server

import (
	"bytes"
	"encoding/json"
	"math/big"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/syntax"
)

// maxLooked is how many bytes of answers the conditions of one batch may read: each looks anew.
const maxLooked = 32 << 20

// holds reports whether the condition of a request of a batch is true (JSON Format, 19.1): an expression over the answers to requests
// before it. $1/$succeeded says whether request 1 was done, $1/name is a value in its answer.
func (b *batch) holds(text string) (bool, error) {
	n, err := syntax.ParseRule(text)
	if err != nil {
		return false, err
	}
	v, err := b.evaluate(n)
	if err != nil {
		return false, err
	}
	is, ok := v.(bool)
	if v != nil && !ok {
		return false, fault.New(fault.Invalid, "batch.if", "%s is neither true nor false; compare it with something", n).On("if")
	}
	return is, nil
}

func (b *batch) evaluate(n syntax.Node) (any, error) {
	switch n := n.(type) {
	case *syntax.LiteralNode:
		switch n.Value.Class {
		case syntax.Whole, syntax.Fraction, syntax.Floating:
			return json.Number(n.Value.Text), nil
		}
		return n.Value.Text, nil
	case *syntax.PathNode:
		return b.valueAt(n)
	case *syntax.UnaryNode:
		v, err := b.evaluate(n.Operand)
		is, ok := v.(bool)
		if n.Operator != "not" || !ok {
			return nil, orUnknown(n, err)
		}
		return !is, nil
	case *syntax.BinaryNode:
		left, err := b.evaluate(n.Left)
		if err != nil {
			return nil, err
		}
		right, err := b.evaluate(n.Right)
		if err != nil {
			return nil, err
		}
		return compared(n, left, right)
	}
	return nil, orUnknown(n, nil)
}

func orUnknown(n syntax.Node, err error) error {
	if err != nil {
		return err
	}
	return fault.New(fault.Unsupported, "batch.if",
		"%s is not done in the condition of a request; $id/$succeeded, values of answers, comparisons, and, or and not are", n).On("if")
}

// valueAt is a value in the answer to a request, or whether that was done.
func (b *batch) valueAt(n *syntax.PathNode) (any, error) {
	first := n.Segments[0].Name
	if len(n.Segments) == 1 {
		switch strings.ToLower(first) {
		case "null":
			return nil, nil
		case "true", "false":
			return strings.ToLower(first) == "true", nil
		}
	}
	id, isReference := strings.CutPrefix(first, "$")
	body, answered := b.bodies[id]
	if !isReference || !answered {
		return nil, fault.New(fault.Invalid, "batch.if", "%s is no answer to a request before this one", n).On("if")
	}
	if len(n.Segments) == 2 && n.Segments[1].Name == "$succeeded" {
		return !b.failed[id], nil
	}
	if b.looked += len(body); b.looked > maxLooked {
		return nil, fault.New(fault.TooLarge, "batch.large", "the conditions of the batch look into more than %d bytes of answers; ask for "+
			"fewer fields, or send the requests by themselves", maxLooked)
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	var v any
	if len(body) > 0 && decoder.Decode(&v) != nil {
		return nil, nil
	}
	for _, s := range n.Segments[1:] {
		object, _ := v.(map[string]any)
		v = object[s.Name]
	}
	return v, nil
}

// compared applies an operator to two values; what has no order is less than nothing.
func compared(n *syntax.BinaryNode, left, right any) (any, error) {
	l, isBool := left.(bool)
	r, bothBool := right.(bool)
	order := 2 // neither less, equal nor greater
	switch x := left.(type) {
	case json.Number:
		a, ok := new(big.Float).SetPrec(512).SetString(x.String())
		y, isNumber := right.(json.Number)
		c, also := new(big.Float).SetPrec(512).SetString(y.String())
		if ok && also && isNumber {
			order = a.Cmp(c)
		}
	case string:
		if y, is := right.(string); is {
			order = strings.Compare(x, y)
		}
	default:
		if left == right {
			order = 0
		}
	}
	switch n.Operator {
	case "and", "or":
		if !isBool || !bothBool {
			return nil, orUnknown(n, nil)
		}
		return n.Operator == "and" && l && r || n.Operator == "or" && (l || r), nil
	case "eq":
		return order == 0, nil
	case "ne":
		return order != 0, nil
	case "gt":
		return order == 1, nil
	case "ge":
		return order == 0 || order == 1, nil
	case "lt":
		return order == -1, nil
	case "le":
		return order == 0 || order == -1, nil
	}
	return nil, orUnknown(n, nil)
}
