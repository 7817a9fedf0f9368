package describe

import (
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/model"
)

// JSONSchema is the JSON Schema (2020-12) of the rows of a resource, with those of the bodies of its writes under $defs. id is its address;
// rows of other resources are referred to by theirs, beside it. The error is a fault if there is no such resource.
func JSONSchema(p *access.Policy, scope *access.Scope, name, id string) (*jsontree.Object, error) {
	doc, err := Describe(p, scope, Place{Server: id, Resource: name}, "")
	if err != nil {
		return nil, err
	}
	s := &schemaFile{schemas: doc.Object("components").Object("schemas"), defs: &object{}, rows: map[string]*model.Resource{}}
	if s.schemas == nil {
		return nil, unknownResource(name, nil)
	}
	for _, r := range p.Model().Resources {
		s.rows[component(r, "")] = r
	}
	s.own = component(p.Model().Resource(name), "")
	out := jsontree.New("$schema", "https://json-schema.org/draft/2020-12/schema", "$id", id, "title", s.own)
	if row := s.schemas.Object(s.own); row != nil {
		for _, m := range s.rewritten(row).(*object).Members {
			out.Set(m.Name, m.Value)
		}
	}
	for _, part := range []string{"-create", "-change", "-replace"} {
		if s.schemas.Has(s.own + part) {
			s.define(s.own + part)
		}
	}
	if len(s.defs.Members) > 0 {
		out.Set("$defs", s.defs)
	}
	return out, nil
}

// schemaFile collects what the schema of one resource refers to.
type schemaFile struct {
	own     string // the component of the resource's rows
	schemas *object
	defs    *object
	rows    map[string]*model.Resource // by component
}

func (s *schemaFile) define(name string) {
	if !s.defs.Has(name) {
		s.defs.Add(name, nil) // it may refer to itself
		s.defs.Set(name, s.rewritten(s.schemas.Get(name)))
	}
}

// rewritten is a schema whose references lead into the file, or to the files of other resources.
func (s *schemaFile) rewritten(v any) any {
	switch v := v.(type) {
	case list:
		out := make(list, len(v))
		for i := range v {
			out[i] = s.rewritten(v[i])
		}
		return out
	case *object:
		out := &object{}
		for _, m := range v.Members {
			name, is := strings.CutPrefix(v.Text("$ref"), "#/components/schemas/")
			switch r := s.rows[name]; {
			case m.Name != "$ref" || !is:
				out.Add(m.Name, s.rewritten(m.Value))
			case name == s.own:
				out.Add("$ref", "#")
			case r != nil:
				out.Add("$ref", r.Name+".json")
			default:
				s.define(name)
				out.Add("$ref", "#/$defs/"+name)
			}
		}
		return out
	}
	return v
}
