package access

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// What may be said of a role: may not read port_calls/remarks; may not delete anything; reads nothing but arrivals_board, tugs.
var (
	mayNot     = regexp.MustCompile(`^may not (\w+) (anything|[^\s/]+)(?:/(\S+))?$`)
	nothingBut = regexp.MustCompile(`^(\w+) nothing(?: but (.+))?$`)
)

// expectations checks the sentences that must hold of a role.
func (b *binder) expectations(role *model.Role, s *Scope) {
	for _, t := range role.Expect {
		if wrong := b.expectation(role, s, strings.Join(strings.Fields(t.Value), " ")); wrong != "" {
			b.mistakes.Add("role.expect", "", t.Line, t.Column, "role %s: %s", role.Name, wrong)
		}
	}
}

// expectation is what is wrong with a sentence, or with the role if the sentence does not hold; "" if it holds.
func (b *binder) expectation(role *model.Role, s *Scope, text string) string {
	if m := mayNot.FindStringSubmatch(text); m != nil {
		return b.mayNot(role, s, m[1], m[2], m[3])
	}
	if m := nothingBut.FindStringSubmatch(text); m != nil {
		return b.nothingBut(role, s, m[1], m[2])
	}
	return fmt.Sprintf("%q can't be read; write \"may not read port_calls/remarks\", \"may not delete anything\" or \"reads nothing but "+
		"tugs\"", text)
}

func operationNamed(verb string) (window.Operation, string) {
	for _, op := range window.Operations {
		if verb == string(op) || verb == string(op)+"s" {
			return op, ""
		}
	}
	names := make([]string, len(window.Operations))
	for i, op := range window.Operations {
		names[i] = string(op)
	}
	return "", fmt.Sprintf("%q is no operation%s", verb, fault.Suggest(verb, names))
}

func (b *binder) mayNot(role *model.Role, s *Scope, verb, name, field string) string {
	op, wrong := operationNamed(verb)
	if wrong != "" {
		return wrong
	}
	if name == "anything" {
		if may := s.Granted(op); len(may) > 0 {
			return fmt.Sprintf("it is expected that it may not %s anything, and it may %s %s", op, op, strings.Join(may, ", "))
		}
		return ""
	}
	r := b.model.Resource(name)
	if r == nil {
		return fmt.Sprintf("there is no resource %q%s", name, fault.Suggest(name, b.model.ResourceNames()))
	}
	d := s.For(op, r)
	if field == "" {
		if d != nil {
			return fmt.Sprintf("it is expected that it may not %s %s, and line %d grants that", op, name, d.Pos.Line)
		}
		return ""
	}
	f := r.Field(field)
	if f == nil {
		return fmt.Sprintf("%s has no field %q%s", name, field, fault.Suggest(field, r.FieldNames()))
	}
	if d != nil && d.Fields[f.Index] && (op == window.Read || d.Takes(f)) {
		return fmt.Sprintf("it is expected that it may not %s %s/%s, and line %d grants that", op, name, field, d.Pos.Line)
	}
	return ""
}

func (b *binder) nothingBut(role *model.Role, s *Scope, verb, names string) string {
	op, wrong := operationNamed(verb)
	if wrong != "" {
		return wrong
	}
	var but []string
	for name := range strings.SplitSeq(names, ",") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		if b.model.Resource(name) == nil {
			return fmt.Sprintf("there is no resource %q%s", name, fault.Suggest(name, b.model.ResourceNames()))
		}
		but = append(but, name)
	}
	more := slices.DeleteFunc(s.Granted(op), func(name string) bool { return slices.Contains(but, name) })
	if len(more) > 0 {
		return fmt.Sprintf("it is expected to %s nothing but %s, and it may %s %s", op, strings.Join(but, ", "), op, strings.Join(more, ", "))
	}
	return ""
}
