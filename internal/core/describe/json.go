package describe

import (
	"cmp"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/sv-tools/openapi"
)

// JSON writes a description with two blanks of indentation.
//
// The objects of the library write themselves level by level, each level reading what the one below wrote, which takes seconds
// for a thousand tables. This writes the same in one pass; a test holds it against the library.
func JSON(spec *openapi.Extendable[openapi.OpenAPI]) ([]byte, error) {
	p := &printer{fields: map[reflect.Type][]fieldOf{}}
	if err := p.value(reflect.ValueOf(ordered(spec)), false); err != nil {
		return nil, fmt.Errorf("write the description: %w", err)
	}
	return append(p.out, '\n'), nil
}

type printer struct {
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
	text, err := json.Marshal(v.Interface())
	p.out = append(p.out, text...)
	return err
}

// object writes a struct: those of the library that stand for something else as that.
func (p *printer) object(v reflect.Value, sorted bool) error {
	name, _, _ := strings.Cut(v.Type().Name(), "[")
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

// line begins a line, after a comma where something stands before.
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
	text, _ := json.Marshal(name) // a string
	p.out = append(append(p.out, text...), ':', ' ')
}
