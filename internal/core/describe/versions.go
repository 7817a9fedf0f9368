package describe

import (
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/jsontree"
)

// To30 is a description of OpenAPI 3.1 as one of 3.0.3. It changes the one that it is given.
func To30(doc *object) *object {
	doc.Set("openapi", "3.0.3")
	if info := doc.Object("info"); info != nil {
		info.Delete("summary")
		if license := info.Object("license"); license != nil {
			if id := license.Delete("identifier"); id != nil {
				license.Set("url", "https://spdx.org/licenses/"+id.(string)+".html")
			}
		}
	}
	eachSchema(doc, func(s *object) { schema30(doc, s) })
	return doc
}

// schema30 rewrites a schema of JSON Schema 2020-12 as OpenAPI 3.0 has it, where null is a value of what has a type and is nullable.
func schema30(doc, s *object) {
	if kinds := s.List("type"); kinds != nil {
		rest := slices.DeleteFunc(slices.Clone(kinds), func(k any) bool { return k == "null" })
		if len(rest) < len(kinds) {
			s.Set("nullable", true)
		}
		s.Set("type", rest[0])
	}
	if choices := s.List("anyOf"); choices != nil {
		rest := slices.DeleteFunc(slices.Clone(choices), func(o any) bool { return o.(*object).Text("type") == "null" })
		nulls := len(rest) < len(choices)
		s.Set("anyOf", rest)
		if only := rest[0].(*object); len(rest) == 1 {
			s.Delete("anyOf")
			if only.Has("$ref") {
				s.Set("allOf", rest)
				if target, is := pointed(doc, only.Text("$ref")).(*object); is && nulls {
					s.Set("type", target.Get("type"))
				}
			} else {
				for _, m := range only.Members {
					s.Set(m.Name, m.Value)
				}
			}
			if nulls && s.Has("type") {
				s.Set("nullable", true)
			}
		} else if nulls {
			one := jsontree.Clone(only).(*object)
			one.Set("nullable", true)
			rest[0] = one
		}
	}
	for _, end := range []struct{ open, closed string }{{"exclusiveMinimum", "minimum"}, {"exclusiveMaximum", "maximum"}} {
		if v := s.Get(end.open); v != nil && v != true {
			s.Set(end.closed, v)
			s.Set(end.open, true)
		}
	}
	if examples := s.List("examples"); len(examples) > 0 {
		s.Delete("examples")
		s.Set("example", examples[0])
	}
}

// eachSchema visits the schemas of a description from the inside out.
func eachSchema(v any, do func(*object)) {
	var visit func(v any)
	visit = func(v any) {
		switch v := v.(type) {
		case list:
			for _, item := range v {
				visit(item)
			}
		case *object:
			for _, m := range v.Members {
				switch m.Name {
				case "schema":
					walkSchema(m.Value, do)
				case "schemas":
					if group, is := m.Value.(*object); is {
						for _, s := range group.Members {
							walkSchema(s.Value, do)
						}
					}
				case "example", "examples", "default":
				default:
					visit(m.Value)
				}
			}
		}
	}
	visit(v)
}

func walkSchema(v any, do func(*object)) {
	s, is := v.(*object)
	if !is {
		return
	}
	for _, m := range s.Members {
		switch m.Name {
		case "properties":
			for _, p := range m.Value.(*object).Members {
				walkSchema(p.Value, do)
			}
		case "items", "additionalProperties":
			walkSchema(m.Value, do)
		case "anyOf", "allOf", "oneOf":
			for _, o := range m.Value.(list) {
				walkSchema(o, do)
			}
		}
	}
	do(s)
}

// To20 is a description of OpenAPI 3.1 as one of 2.0. It changes the one that it is given. What 2.0 has no words for is left out:
// alternatives of schemas, examples of parameters, bodies in several formats.
func To20(doc *object) *object {
	info := To30(doc).Object("info")
	out := jsontree.New("swagger", "2.0", "info", info)
	if servers := doc.List("servers"); len(servers) > 0 {
		if u, err := url.Parse(servers[0].(*object).Text("url")); err == nil && u.Host != "" {
			out.Set("host", u.Host)
			out.Set("basePath", "/"+strings.Trim(u.Path, "/"))
			out.Set("schemes", list{u.Scheme})
		}
	}
	out.Set("consumes", list{"application/json"})
	out.Set("produces", list{"application/json"})
	for _, name := range []string{"security", "tags", "externalDocs"} {
		if v := doc.Get(name); v != nil {
			out.Set(name, v)
		}
	}
	c := &converter{components: doc.Object("components")}
	eachSchema(doc, schema20)
	paths := doc.Object("paths")
	for _, path := range paths.Members {
		item := path.Value.(*object)
		for i, m := range item.Members {
			if m.Name == "parameters" {
				item.Members[i].Value = c.parameters(m.Value.(list))
			} else if op, is := m.Value.(*object); is {
				item.Members[i].Value = c.operation(op)
			}
		}
	}
	out.Set("paths", paths)
	for _, group := range []struct {
		from, to string
		convert  func(*object) *object
	}{{"schemas", "definitions", func(s *object) *object { return s }}, {"responses", "responses", c.response},
		{"parameters", "parameters", c.parameter}, {"securitySchemes", "securityDefinitions", security20}} {
		members := c.components.Object(group.from)
		if members == nil {
			continue
		}
		to := &object{}
		for _, m := range members.Members {
			to.Add(m.Name, group.convert(m.Value.(*object)))
		}
		out.Set(group.to, to)
	}
	return renamed(out).(*object)
}

// schema20 takes out of a schema of 3.0 what 2.0 does not have.
func schema20(s *object) {
	if nulls := s.Delete("nullable"); nulls != nil {
		s.Set("x-nullable", nulls)
	}
	if s.Delete("deprecated") != nil {
		s.Set("x-deprecated", true)
	}
	for _, name := range []string{"anyOf", "oneOf"} {
		s.Delete(name)
	}
}

// converter turns the parts of operations into those of 2.0.
type converter struct{ components *object }

func (c *converter) operation(op *object) *object {
	out := &object{}
	for _, m := range op.Members {
		switch m.Name {
		case "parameters":
			out.Set("parameters", c.parameters(m.Value.(list)))
		case "requestBody":
			body := c.body(m.Value.(*object))
			out.Set("parameters", append(out.List("parameters"), body))
			if kind := body.Delete("x-consumes"); kind != nil {
				out.Set("consumes", list{kind})
			}
		case "responses":
			responses := &object{}
			for _, r := range m.Value.(*object).Members {
				responses.Add(r.Name, c.response(r.Value.(*object)))
			}
			out.Set("responses", responses)
		case "callbacks", "servers":
		default:
			out.Set(m.Name, m.Value)
		}
	}
	return out
}

func (c *converter) parameters(l list) list {
	out := make(list, len(l))
	for i, p := range l {
		out[i] = c.parameter(p.(*object))
	}
	return out
}

func (c *converter) parameter(p *object) *object {
	if p.Has("$ref") {
		return p
	}
	out := &object{}
	for _, m := range p.Members {
		switch m.Name {
		case "schema":
			c.flat(out, m.Value.(*object))
		case "example", "examples", "style", "explode", "deprecated", "allowReserved":
		default:
			out.Set(m.Name, m.Value)
		}
	}
	return out
}

// flat writes a schema into a parameter or a header, where 2.0 knows simple types only.
func (c *converter) flat(out, schema *object) {
	for range 8 { // as far as one enumeration refers to another
		name, is := strings.CutPrefix(schema.Text("$ref"), "#/components/schemas/")
		if all := schema.List("allOf"); !is && len(all) == 1 {
			schema = all[0].(*object)
			continue
		}
		if !is {
			break
		}
		schema = c.components.Object("schemas").Object(name)
	}
	kind := schema.Text("type")
	if kind == "" || kind == "object" {
		kind = "string"
	}
	out.Set("type", kind)
	for _, name := range []string{"format", "enum", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "minLength",
		"maxLength", "pattern", "default"} {
		if v := schema.Get(name); v != nil {
			out.Set(name, v)
		}
	}
	if kind == "array" {
		items := &object{}
		c.flat(items, schema.Object("items"))
		out.Set("items", items)
	}
}

// body is a request body as the parameter that 2.0 has for it.
func (c *converter) body(b *object) *object {
	if name, is := strings.CutPrefix(b.Text("$ref"), "#/components/requestBodies/"); is {
		b = c.components.Object("requestBodies").Object(name)
	}
	content := b.Object("content").Members[0]
	out := jsontree.New("name", "body", "in", "body", "required", true, "schema", content.Value.(*object).Get("schema"))
	if content.Name != "application/json" {
		out.Set("x-consumes", content.Name)
	}
	return out
}

func (c *converter) response(r *object) *object {
	if r.Has("$ref") {
		return r
	}
	out := jsontree.New("description", r.Text("description"))
	if content := r.Object("content"); content != nil && len(content.Members) > 0 {
		media := content.Members[0].Value.(*object)
		out.Set("schema", media.Get("schema"))
		if example := media.Get("example"); example != nil {
			out.Set("examples", jsontree.New(content.Members[0].Name, example))
		}
	}
	if headers := r.Object("headers"); headers != nil {
		to := &object{}
		for _, h := range headers.Members {
			of := h.Value.(*object)
			if name, is := strings.CutPrefix(of.Text("$ref"), "#/components/headers/"); is {
				of = c.components.Object("headers").Object(name)
			}
			header := jsontree.New("description", of.Get("description"))
			c.flat(header, of.Object("schema"))
			to.Add(h.Name, header)
		}
		out.Set("headers", to)
	}
	return out
}

func security20(s *object) *object {
	if s.Text("type") == "oauth2" {
		flow := s.Object("flows").Object("clientCredentials")
		return jsontree.New("type", "oauth2", "description", s.Get("description"), "flow", "application", "tokenUrl", flow.Get("tokenUrl"),
			"scopes",
			flow.Get("scopes"))
	}
	return jsontree.New("type", "apiKey", "name", "Authorization", "in", "header", "description",
		s.Text("description")+" Sent as \"Bearer …\".")
}

// renamed rewrites the references of 3.0 as those of 2.0.
func renamed(v any) any {
	switch v := v.(type) {
	case list:
		for i := range v {
			v[i] = renamed(v[i])
		}
	case *object:
		for i, m := range v.Members {
			if text, is := m.Value.(string); is && m.Name == "$ref" {
				v.Members[i].Value = strings.NewReplacer("#/components/schemas/", "#/definitions/", "#/components/", "#/").Replace(text)
			} else {
				v.Members[i].Value = renamed(m.Value)
			}
		}
	}
	return v
}
