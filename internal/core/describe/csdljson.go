package describe

import (
	"bytes"
	"encoding/json"
	"strconv"

	"eagerwindow/internal/core/model"
)

// object is a JSON object whose members keep their order.
type object []member

type member struct {
	name  string
	value any
}

// MarshalJSON writes the members in their order.
func (o object) MarshalJSON() ([]byte, error) {
	var out bytes.Buffer
	out.WriteByte('{')
	for i, m := range o {
		if i > 0 {
			out.WriteByte(',')
		}
		name, err := json.Marshal(m.name)
		if err != nil {
			return nil, err
		}
		out.Write(name)
		out.WriteByte(':')
		value, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		out.Write(value)
	}
	out.WriteByte('}')
	return out.Bytes(), nil
}

// JSON is the metadata as CSDL JSON 4.01.
func (m *Metadata) JSON() ([]byte, error) {
	references := object{}
	for _, v := range vocabularies {
		references = append(references,
			member{v.address + ".json", object{{"$Include", []object{{{"$Namespace", v.namespace}, {"$Alias", v.alias}}}}}})
	}
	schema := object{}
	for _, e := range m.enums {
		o := object{{"$Kind", "EnumType"}}
		for i, name := range e.members {
			o = append(o, member{name, i})
		}
		schema = append(schema, member{e.name, o})
	}
	for _, t := range m.types {
		schema = append(schema, member{t.name, t.json()})
	}
	for _, f := range m.functions {
		o := object{{"$Kind", "Function"}}
		if f.parameters != nil {
			list := []object{}
			for _, p := range f.parameters {
				list = append(list, append(object{{"$Name", p.name}}, p.json()...))
			}
			o = append(o, member{"$Parameter", list})
		}
		o = append(o, member{"$ReturnType", f.returns.json()})
		schema = append(schema, member{f.name, []object{append(o, notesJSON(f.notes)...)}})
	}
	container := object{{"$Kind", "EntityContainer"}}
	for _, s := range m.sets {
		o := object{{"$Collection", true}, {"$Type", s.of}}
		if s.bindings != nil {
			b := object{}
			for _, p := range s.bindings {
				b = append(b, member{p.Own, p.There})
			}
			o = append(o, member{"$NavigationPropertyBinding", b})
		}
		container = append(container, member{s.name, append(o, notesJSON(s.notes)...)})
	}
	for _, name := range m.imports {
		container = append(container, member{name, object{{"$Function", m.namespace + "." + name}}})
	}
	schema = append(schema, member{"Container", append(container, notesJSON(m.container)...)})
	out, err := json.MarshalIndent(object{{"$Version", m.version}, {"$EntityContainer", m.namespace + ".Container"},
		{"$Reference", references}, {m.namespace, schema}}, "", "  ")
	return append(out, '\n'), err
}

func (t structType) json() object {
	o := object{{"$Kind", "ComplexType"}}
	if t.key != nil {
		o = object{{"$Kind", "EntityType"}, {"$Key", t.key}}
	}
	if t.open {
		o = append(o, member{"$OpenType", true})
	}
	for _, p := range t.properties {
		o = append(o, member{p.name, p.json()})
	}
	for _, n := range t.navigations {
		o = append(o, member{n.name, n.json()})
	}
	return append(o, notesJSON(t.notes)...)
}

func (p property) json() object { return append(p.typeRef.json(), notesJSON(p.notes)...) }

func (t typeRef) json() object {
	o := object{}
	if t.collection {
		o = append(o, member{"$Collection", true})
	}
	if t.name != "Edm.String" {
		o = append(o, member{"$Type", t.name})
	}
	if t.nullable {
		o = append(o, member{"$Nullable", true})
	}
	if t.maxLength > 0 {
		o = append(o, member{"$MaxLength", t.maxLength})
	}
	if t.precision > 0 {
		o = append(o, member{"$Precision", t.precision})
	}
	if n, err := strconv.Atoi(t.scale); err == nil { // none is variable here; in XML it is 0
		o = append(o, member{"$Scale", n})
	}
	return o
}

func (n navigation) json() object {
	o := object{{"$Kind", "NavigationProperty"}}
	if n.many {
		o = append(o, member{"$Collection", true})
	}
	o = append(o, member{"$Type", n.to})
	if n.nullable {
		o = append(o, member{"$Nullable", true})
	}
	if n.partner != "" {
		o = append(o, member{"$Partner", n.partner})
	}
	if n.constraints != nil {
		o = append(o, member{"$ReferentialConstraint", pairsJSON(n.constraints)})
	}
	return append(o, notesJSON(n.notes)...)
}

func pairsJSON(pairs []model.Pair) object {
	o := object{}
	for _, p := range pairs {
		o = append(o, member{p.Own, p.There})
	}
	return o
}

func notesJSON(notes []annotation) object {
	o := object{}
	for _, n := range notes {
		o = append(o, member{"@" + n.term, valueJSON(n.value)})
	}
	return o
}

func valueJSON(v any) any {
	switch v := v.(type) {
	case enumMember:
		return v.name
	case record:
		o := object{}
		for _, p := range v {
			o = append(o, member{p.term, valueJSON(p.value)})
		}
		return o
	case []any:
		list := make([]any, len(v))
		for i, item := range v {
			list[i] = valueJSON(item)
		}
		return list
	}
	return v
}
