package access

import (
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// Light is how much of an operation a role may do with a resource.
type Light string

// The lights: nothing, some fields or rows only, all.
const (
	Dark Light = "dark"
	Half Light = "half"
	Lit  Light = "lit"
)

// Light says how much of an operation the scope may do with a resource.
func (s *Scope) Light(op window.Operation, r *model.Resource) Light {
	d := s.For(op, r)
	if d == nil {
		return Dark
	}
	if d.Rule != nil {
		return Half
	}
	for _, f := range r.Fields {
		if op != window.Delete && !d.Fields[f.Index] && !(op != window.Read && f.ReadOnly) {
			return Half
		}
	}
	return Lit
}

// Names lists the fields of a decision: what the role may read, or send.
func (d *Decision) Names(r *model.Resource, op window.Operation) []string {
	var names []string
	for _, f := range r.Fields {
		if d.Fields[f.Index] && (op == window.Read || !f.ReadOnly && !d.Presets(f) && !(op == window.Update && f.InKey)) {
			names = append(names, f.Name)
		}
	}
	return names
}

// Conditions parts the rule of a decision at its outermost "and"s, each a rule of its own.
func (s *Scope) Conditions(op window.Operation, r *model.Resource) ([]*Rule, error) {
	d := s.For(op, r)
	if d == nil || d.Rule == nil {
		return nil, nil
	}
	node, err := request.ParseRule(d.Rule.Text)
	if err != nil {
		return nil, err
	}
	var rules []*Rule
	for _, n := range conjuncts(node) {
		rule, err := compile(n.String(), d.Rule.Root.Resource, s.Claims)
		if err != nil {
			return nil, err
		}
		rules = append(rules, rule)
	}
	return rules, nil
}

func conjuncts(n request.Node) []request.Node {
	if b, ok := n.(*request.BinaryNode); ok && b.Operator == "and" {
		return append(conjuncts(b.Left), conjuncts(b.Right)...)
	}
	return []request.Node{n}
}
