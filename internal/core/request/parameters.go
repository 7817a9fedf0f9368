package request

import (
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// bracketParameters reads `from=2026-01-01,to=2026-02-01)` after a named query.
func (p *pathReader) bracketParameters(r *model.Resource, text string) error {
	text, closed := strings.CutSuffix(text, ")")
	if !closed {
		return parameterFault(r, "the parameters of %s are not closed: \")\" is missing", r.Name)
	}
	s := p.s
	shape := len(s.Shape)
	words, err := s.Scan("path", text)
	if err != nil {
		return err
	}
	s.Shape = s.Shape[:shape] // each parameter has its place in the shape, however it is given
	tokens := &syntax.Parser{Option: "path", Tokens: words, Literals: s.Literals}
	for tokens.Peek().Kind != syntax.TokenEnd {
		name := tokens.Next()
		if name.Kind != syntax.TokenName || tokens.Expect('=') != nil {
			return parameterFault(r, "%s holds %s where a parameter is expected", r.Name, name)
		}
		value := tokens.Next()
		literal := value.Literal
		switch {
		case value.Kind == syntax.TokenName && (value.Text == "null" || value.Text == "true" || value.Text == "false"):
			literal = s.constant(value.Text, value.Pos)
		case value.Kind != syntax.TokenLiteral:
			return parameterFault(r, "%s of %s is %s, which is no value", name, r.Name, value)
		}
		if err := p.r.parameter(r, name.Text, literal); err != nil {
			return err
		}
		if !tokens.Accept(',') && tokens.Peek().Kind != syntax.TokenEnd {
			return parameterFault(r, "%s follows %s where \",\" is expected", tokens.Peek(), name)
		}
	}
	return nil
}

// constant adds a literal that the scanner takes for a name.
func (s *scanned) constant(text string, pos syntax.Pos) int {
	l := syntax.Literal{Class: syntax.Segment, Text: text, Option: "path", Pos: pos}
	if text == "null" {
		l.Class = syntax.Absent
	}
	return s.Value(l)
}

// parameter settles one parameter of a named query.
func (r *Request) parameter(resource *model.Resource, name string, literal int) error {
	at := slices.IndexFunc(resource.Query.Parameters, func(p model.Parameter) bool { return p.Name == name })
	if at < 0 {
		return parameterFault(resource, "%s has no parameter %q%s", resource.Name, name, fault.Suggest(name, parameterNames(resource)))
	}
	if r.params[at] >= 0 {
		return parameterFault(resource, "the parameter %q is given twice", name)
	}
	r.params[at] = literal
	return nil
}

// readParameters takes the options that the language does not know for parameters of a named query, in their plain form or as a
// literal; for any other resource they are mistakes. Parameters that are left out are null.
func (r *Request) readParameters(others []otherOption, s *scanned) error {
	resource := r.hops[0].resource
	if resource.Query == nil {
		wrong := &mistakes{}
		for _, o := range others {
			wrong.add(o.fault(resource))
		}
		return wrong.fault()
	}
	for _, o := range others {
		if !slices.Contains(parameterNames(resource), o.name) {
			return fault.New(fault.Invalid, "option.unknown", "unknown option or parameter %q%s", o.name,
				fault.Suggest(o.name, append(parameterNames(resource), optionNames[:]...))).On(o.name)
		}
		l := syntax.Literal{Class: syntax.Segment, Text: o.text, Option: o.name}
		if strings.HasPrefix(o.text, "'") && strings.HasSuffix(o.text, "'") && len(o.text) > 1 {
			l.Text = strings.ReplaceAll(o.text[1:len(o.text)-1], "''", "'")
		} else if o.text == "null" {
			l.Class = syntax.Absent
		}
		if err := r.parameter(resource, o.name, s.Value(l)); err != nil {
			return err
		}
	}
	for i, p := range resource.Query.Parameters {
		if r.params[i] >= 0 && s.Literals[r.params[i]].Class != syntax.Absent {
			continue
		}
		if r.params[i] < 0 {
			r.params[i] = s.constant("null", 0)
		}
		if !p.Optional {
			s.Shape = append(append(s.Shape, '!'), p.Name...) // no plan of a complete request may serve it
		}
	}
	return nil
}

func parameterFault(r *model.Resource, format string, args ...any) error {
	return fault.New(fault.Invalid, "parameter.invalid", format, args...).On(r.Name)
}

func parameterNames(r *model.Resource) []string {
	names := make([]string, len(r.Query.Parameters))
	for i, p := range r.Query.Parameters {
		names[i] = p.Name
	}
	return names
}

// parameterExample shows how a named query is asked.
func parameterExample(r *model.Resource) string {
	var parts []string
	for _, p := range r.Query.Parameters {
		if !p.Optional {
			parts = append(parts, p.Name+"="+strings.Trim(query.ExampleOf(p.Type), "'"))
		}
	}
	return "/" + r.Name + "?" + strings.Join(parts, "&")
}

// resolveParameters checks the parameters of a named query against their types.
func (r *Request) resolveParameters(resource *model.Resource) ([]query.Value, error) {
	if resource.Query == nil {
		return nil, nil
	}
	values := make([]query.Value, len(r.params))
	for i, p := range resource.Query.Parameters {
		l := r.Literals[r.params[i]]
		if l.Class == syntax.Absent && !p.Optional {
			return nil, parameterFault(resource, "%s needs the parameter %q: %s; write %s", resource.Name, p.Name, articled(p.Type),
				parameterExample(resource))
		}
		if l.Class != syntax.Segment && l.Class != syntax.Absent && query.Fitting(l.Class, p.Type) == nil {
			return nil, parameterFault(resource, "%s of %s is %s, but %s is %s; %s", p.Name, resource.Name, articled(p.Type), l, l.Kind(),
				advice(l, p.Type))
		}
		values[i] = query.Value{T: p.Type, Index: r.params[i]}
	}
	return values, nil
}
