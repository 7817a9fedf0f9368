package access

import (
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/syntax"
	"eagerwindow/internal/core/window"
)

// Light is how much of an operation a role may do with a resource.
type Light string

// The lights: not possible with the resource, nothing, some fields or rows only, all.
const (
	None Light = "none"
	Dark Light = "dark"
	Half Light = "half"
	Lit  Light = "lit"
)

// Light says how much of an operation the scope may do with a resource.
func (s *Scope) Light(op window.Operation, r *model.Resource) Light {
	d := s.For(op, r)
	switch {
	case !r.Can(op):
		return None
	case d == nil:
		return Dark
	case d.Rule != nil:
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
		if d.Fields[f.Index] && Possible(f, op) && !d.Presets(f) {
			names = append(names, f.Name)
		}
	}
	return names
}

// Possible reports whether any role could read a field, or send it with a write.
func Possible(f *model.Field, op window.Operation) bool {
	return op == window.Read || !f.ReadOnly && !(op == window.Update && f.InKey)
}

// CompileRule is the row rule of a text over the rows of a resource, for callers with those claims.
func CompileRule(text string, r *model.Resource, claims []model.Claim) (*Rule, error) {
	if r.View != nil {
		r = r.View.Of // a row rule may speak of more than is shown
	}
	return compile(text, r, claims)
}

// Conditions splits the rule of a decision at its outermost "and"s, each a rule of its own.
func (s *Scope) Conditions(op window.Operation, r *model.Resource) ([]*Rule, error) {
	d := s.For(op, r)
	if d == nil || d.Rule == nil {
		return nil, nil
	}
	node, err := syntax.ParseRule(d.Rule.Text)
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

func conjuncts(n syntax.Node) []syntax.Node {
	if b, ok := n.(*syntax.BinaryNode); ok && b.Operator == "and" {
		return append(conjuncts(b.Left), conjuncts(b.Right)...)
	}
	return []syntax.Node{n}
}
