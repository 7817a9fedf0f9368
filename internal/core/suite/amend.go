package suite

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/yamltext"
)

// Amendment is a criterion that does not hold of an answer, and the one that holds in its place.
type Amendment struct {
	Line int    `json:"line"` // of the criterion in the suite
	From string `json:"from"`
	To   string `json:"to"`
}

// amendments are those that make a step hold of the last answer. There are none where a criterion that fails is no comparison of a part of
// the answer with a literal: what is meant by others, nobody but their author knows.
func (r *run) amendments(s *Step) []Amendment {
	var list []Amendment
	for _, c := range s.Criteria {
		if holds, err := r.holds(c); holds && err == nil {
			continue
		}
		is, simple := c.simple.(comparison)
		if !simple || is.operator == "" || is.left.expression == nil || is.right.expression != nil {
			return nil
		}
		v, err := is.left.value(r)
		literal, scalar := literalOf(v)
		if err != nil || !scalar {
			return nil
		}
		list = append(list, Amendment{c.Line, c.Condition, is.left.expression.text + " == " + literal})
	}
	return list
}

// literalOf is a value as a condition has it; objects and lists have no literal.
func literalOf(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return "'" + strings.ReplaceAll(v, "'", "''") + "'", true
	case nil, bool, int, float64, json.Number:
		return asText(v), true
	}
	return "", false
}

// Amend writes amendments into the text of a suite; all else in it stays as it is. The error is a fault where the text has changed since
// the run that they are of.
func Amend(text []byte, list []Amendment) ([]byte, error) {
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		_, err := Parse(text)
		return nil, err
	}
	type change struct {
		at *yaml.Node
		to string
	}
	var changes []change
	for _, a := range list {
		n := conditionAt(&root, a)
		if n == nil {
			return nil, fault.New(fault.Conflict, "suite.changed", "line %d of the suite has no criterion %q any more; run the suite again",
				a.Line, a.From)
		}
		changes = append(changes, change{n, a.To})
	}
	slices.SortFunc(changes, func(a, b change) int { // from the last on, so that the places of the others hold
		return cmp.Or(cmp.Compare(b.at.Line, a.at.Line), cmp.Compare(b.at.Column, a.at.Column))
	})
	lines := strings.Split(string(text), "\n")
	for _, c := range changes {
		if !yamltext.Respell(lines, c.at, c.to) {
			return nil, fault.New(fault.Conflict, "suite.spread", "the condition at line %d of the suite has more than one line; edit it there: %s",
				c.at.Line, c.to)
		}
	}
	amended := []byte(strings.Join(lines, "\n"))
	_, err := Parse(amended)
	return amended, err
}

// conditionAt is the condition of a criterion, as the text has it.
func conditionAt(n *yaml.Node, a Amendment) *yaml.Node {
	if n.Kind == yaml.MappingNode && n.Line == a.Line {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "condition" && n.Content[i+1].Value == a.From {
				return n.Content[i+1]
			}
		}
	}
	for _, inner := range n.Content {
		if found := conditionAt(inner, a); found != nil {
			return found
		}
	}
	return nil
}
