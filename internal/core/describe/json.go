package describe

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/model"
)

// JSON writes a description with two blanks of indentation, the same that OpenAPI makes. It is made and written resource by
// resource, so that a thousand tables take no more memory than ten.
//
// The objects of the library write themselves level by level, each level reading what the one below wrote. This writes them in
// one pass; a test holds it against the library.
func JSON(out io.Writer, m *model.Model, scope *access.Scope, at Place) error {
	p := &printer{to: out, fields: map[reflect.Type][]fieldOf{}, names: map[reflect.Type]string{}}
	if err := p.description(m, scope, at); err != nil {
		return fmt.Errorf("write the description: %w", err)
	}
	p.out = append(p.out, '\n')
	return p.flush(0)
}

func (p *printer) description(m *model.Model, scope *access.Scope, at Place) error {
	w := newWriter(m, scope, at)
	o := ordered(w.head(at))
	p.open('{')
	for i, part := range []member{{"openapi", o.OpenAPI}, {"info", o.Info}, {"servers", o.Servers}, {"security", o.Security},
		{"tags", o.Tags}} {
		if part.value == nil {
			continue
		}
		p.name(part.name, i == 0)
		if err := p.value(reflect.ValueOf(part.value), true); err != nil {
			return err
		}
	}
	resources := append(described(m, scope), m.Parts...)
	// The paths of a resource stand together in the order of all paths: a slash comes before whatever a name can go on with.
	slices.SortFunc(resources, func(a, b *model.Resource) int { return cmp.Compare(a.Name, b.Name) })
	p.name("paths", false)
	p.open('{')
	written := 0
	many := newWriter(m, scope, at)
	many.batch()
	if err := p.each(reflect.ValueOf(many.paths.Spec.Paths), &written); err != nil {
		return err
	}
	for _, r := range resources {
		if r.View != nil && r.View.Top != r {
			continue
		}
		one := newWriter(m, scope, at)
		one.resource(r)
		if err := p.each(reflect.ValueOf(one.paths.Spec.Paths), &written); err != nil {
			return err
		}
	}
	p.close('}', written == 0)
	p.name("components", false)
	p.open('{')
	c := w.components.Spec
	for i, group := range []member{{"headers", c.Headers}, {"parameters", c.Parameters}, {"responses", c.Responses}} {
		p.name(group.name, i == 0)
		if err := p.value(reflect.ValueOf(group.value), true); err != nil {
			return err
		}
	}
	if err := p.schemas(w, at, resources); err != nil {
		return err
	}
	if len(c.SecuritySchemes) > 0 {
		p.name("securitySchemes", false)
		if err := p.value(reflect.ValueOf(c.SecuritySchemes), true); err != nil {
			return err
		}
	}
	p.close('}', false)
	p.close('}', false)
	return nil
}

// schemas writes those that everything shares among those of the rows, in the order of their names.
func (p *printer) schemas(w *writer, at Place, resources []*model.Resource) error {
	p.name("schemas", false)
	p.open('{')
	written := 0
	shared := slices.Sorted(maps.Keys(w.components.Spec.Schemas))
	before := func(name string) error {
		for len(shared) > 0 && (name == "" || shared[0] < name) {
			one := map[string]any{shared[0]: w.components.Spec.Schemas[shared[0]]}
			if err := p.each(reflect.ValueOf(one), &written); err != nil {
				return err
			}
			shared = shared[1:]
		}
		return nil
	}
	slices.SortFunc(resources, func(a, b *model.Resource) int { return cmp.Compare(component(a, ""), component(b, "")) })
	for _, r := range resources {
		if err := before(component(r, "")); err != nil {
			return err
		}
		one := newWriter(w.model, w.scope, at)
		one.schemas(r)
		if err := p.each(reflect.ValueOf(one.components.Spec.Schemas), &written); err != nil {
			return err
		}
	}
	err := before("")
	p.close('}', written == 0)
	return err
}

// each writes the members of a map after those that are written.
func (p *printer) each(m reflect.Value, written *int) error {
	keys := make([]string, 0, m.Len())
	for _, k := range m.MapKeys() {
		keys = append(keys, k.String())
	}
	slices.Sort(keys)
	for _, k := range keys {
		p.name(k, *written == 0)
		*written++
		if err := p.value(m.MapIndex(reflect.ValueOf(k)), true); err != nil {
			return err
		}
	}
	return p.flush(64 << 10)
}

// flush hands on what is written, once it is so much.
func (p *printer) flush(most int) error {
	if len(p.out) < most {
		return nil
	}
	_, err := p.to.Write(p.out)
	p.out = p.out[:0]
	return err
}

type printer struct {
	names  map[reflect.Type]string // of types, without their parameters
	to     io.Writer
	out    []byte
	depth  int
	fields map[reflect.Type][]fieldOf
}

// fieldOf is a field of a struct as JSON has it.
type fieldOf struct {
	name      string
	index     int
	omitEmpty bool
}

// value writes a value as JSON; sorted puts the members of structs in the order of their names, as the library does.
func (p *printer) value(v reflect.Value, sorted bool) error {
	for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		if v.IsNil() {
			p.out = append(p.out, "null"...)
			return nil
		}
		v = v.Elem()
	}
	switch v.Kind() {
	case reflect.Struct:
		return p.object(v, sorted)
	case reflect.Map:
		return p.members(v, reflect.Value{})
	case reflect.Slice:
		if strings.HasPrefix(v.Type().Name(), "SingleOrArray[") && v.Len() == 1 {
			return p.value(v.Index(0), true)
		}
		return p.list(v)
	}
	if v.Kind() == reflect.String && p.plain(v.String()) {
		return nil
	}
	text, err := json.Marshal(v.Interface())
	p.out = append(p.out, text...)
	return err
}

// plain writes a text in quotes if nothing in it needs to be escaped, which holds for nearly all.
func (p *printer) plain(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			return false
		}
	}
	p.out = append(append(append(p.out, '"'), s...), '"')
	return true
}

// object writes a struct: those of the library that stand for something else as that.
func (p *printer) object(v reflect.Value, sorted bool) error {
	t := v.Type()
	name, known := p.names[t]
	if !known {
		name, _, _ = strings.Cut(t.Name(), "[")
		p.names[t] = name
	}
	switch name {
	case "Extendable":
		return p.value(v.FieldByName("Spec"), true)
	case "RefOrSpec":
		if ref := v.FieldByName("Ref"); !ref.IsNil() {
			return p.value(ref, true)
		}
		return p.value(v.FieldByName("Spec"), true)
	case "BoolOrSchema":
		if schema := v.FieldByName("Schema"); !schema.IsNil() {
			return p.value(schema, true)
		}
		return p.value(v.FieldByName("Allowed"), true)
	case "Paths":
		return p.members(v.FieldByName("Paths"), reflect.Value{})
	case "Responses":
		return p.members(v.FieldByName("Response"), v.FieldByName("Default"))
	}
	p.open('{')
	first := true
	for _, f := range p.fieldsOf(v.Type(), sorted) {
		field := v.Field(f.index)
		if f.omitEmpty && empty(field) {
			continue
		}
		p.name(f.name, first)
		first = false
		if err := p.value(field, true); err != nil {
			return err
		}
	}
	p.close('}', first)
	return nil
}

// empty says what omitempty leaves out.
func empty(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Map, reflect.Slice, reflect.String:
		return v.Len() == 0
	case reflect.Struct:
		return false
	}
	return v.IsZero()
}

func (p *printer) fieldsOf(t reflect.Type, sorted bool) []fieldOf {
	if known, ok := p.fields[t]; ok {
		return known
	}
	var list []fieldOf
	for i := range t.NumField() {
		name, options, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		if name != "-" && t.Field(i).IsExported() {
			list = append(list, fieldOf{cmp.Or(name, t.Field(i).Name), i, options == "omitempty"})
		}
	}
	if sorted {
		slices.SortFunc(list, func(a, b fieldOf) int { return cmp.Compare(a.name, b.name) })
	}
	p.fields[t] = list
	return list
}

// members writes a map, by the order of its keys, and one member more where there is a default.
func (p *printer) members(m, otherwise reflect.Value) error {
	keys := make([]string, 0, m.Len())
	for _, k := range m.MapKeys() {
		keys = append(keys, k.String())
	}
	if otherwise.IsValid() && !otherwise.IsNil() {
		keys = append(keys, "default")
	}
	slices.Sort(keys)
	p.open('{')
	for i, k := range keys {
		p.name(k, i == 0)
		value := m.MapIndex(reflect.ValueOf(k).Convert(m.Type().Key()))
		if !value.IsValid() {
			value = otherwise
		}
		if err := p.value(value, true); err != nil {
			return err
		}
	}
	p.close('}', len(keys) == 0)
	return nil
}

func (p *printer) list(v reflect.Value) error {
	p.open('[')
	for i := range v.Len() {
		p.line(i == 0)
		if err := p.value(v.Index(i), true); err != nil {
			return err
		}
	}
	p.close(']', v.Len() == 0)
	return nil
}

func (p *printer) open(bracket byte) {
	p.out = append(p.out, bracket)
	p.depth++
}

func (p *printer) close(bracket byte, empty bool) {
	p.depth--
	if !empty {
		p.line(true)
	}
	p.out = append(p.out, bracket)
}

// line begins a line, after a comma where something precedes.
func (p *printer) line(first bool) {
	if !first {
		p.out = append(p.out, ',')
	}
	p.out = append(p.out, '\n')
	for range p.depth {
		p.out = append(p.out, ' ', ' ')
	}
}

func (p *printer) name(name string, first bool) {
	p.line(first)
	if !p.plain(name) {
		text, _ := json.Marshal(name) // a string
		p.out = append(p.out, text...)
	}
	p.out = append(p.out, ':', ' ')
}
