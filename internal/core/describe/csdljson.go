package describe

import (
	"strconv"

	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/model"
)

// JSON is the metadata as CSDL JSON 4.01.
func (m *Metadata) JSON() ([]byte, error) {
	references := &object{}
	for _, v := range vocabularies {
		references.Add(v.address+".json", jsontree.New("$Include", list{jsontree.New("$Namespace", v.namespace, "$Alias", v.alias)}))
	}
	schema := &object{}
	for _, e := range m.enums {
		o := jsontree.New("$Kind", "EnumType")
		for i, name := range e.members {
			o.Add(name, i)
		}
		schema.Add(e.name, o)
	}
	for _, t := range m.types {
		schema.Add(t.name, t.json())
	}
	for _, f := range m.functions {
		o := jsontree.New("$Kind", "Function")
		if f.parameters != nil {
			parameters := list{}
			for _, p := range f.parameters {
				one := jsontree.New("$Name", p.name)
				one.Members = append(one.Members, p.json().Members...)
				parameters = append(parameters, one)
			}
			o.Add("$Parameter", parameters)
		}
		o.Add("$ReturnType", f.returns.json())
		schema.Add(f.name, list{annotated(o, f.notes)})
	}
	container := jsontree.New("$Kind", "EntityContainer")
	for _, s := range m.sets {
		o := jsontree.New("$Collection", true, "$Type", s.of)
		if s.bindings != nil {
			b := &object{}
			for _, p := range s.bindings {
				b.Add(p.Own, p.There)
			}
			o.Add("$NavigationPropertyBinding", b)
		}
		container.Add(s.name, annotated(o, s.notes))
	}
	for _, name := range m.imports {
		container.Add(name, jsontree.New("$Function", m.namespace+"."+name))
	}
	schema.Add("Container", annotated(container, m.container))
	out := jsontree.New("$Version", m.version, "$EntityContainer", m.namespace+".Container", "$Reference", references, m.namespace, schema)
	return append(jsontree.Append(nil, out, true), '\n'), nil
}

func (t structType) json() *object {
	o := jsontree.New("$Kind", "ComplexType")
	if t.key != nil {
		o = jsontree.New("$Kind", "EntityType", "$Key", jsontree.Strings(t.key...))
	}
	if t.open {
		o.Add("$OpenType", true)
	}
	for _, p := range t.properties {
		o.Add(p.name, p.json())
	}
	for _, n := range t.navigations {
		o.Add(n.name, n.json())
	}
	return annotated(o, t.notes)
}

func (p property) json() *object { return annotated(p.typeRef.json(), p.notes) }

func (t typeRef) json() *object {
	o := &object{}
	if t.collection {
		o.Add("$Collection", true)
	}
	if t.name != "Edm.String" {
		o.Add("$Type", t.name)
	}
	if t.nullable {
		o.Add("$Nullable", true)
	}
	if t.maxLength > 0 {
		o.Add("$MaxLength", t.maxLength)
	}
	if t.precision > 0 {
		o.Add("$Precision", t.precision)
	}
	if n, err := strconv.Atoi(t.scale); err == nil { // none is variable here; in XML it is 0
		o.Add("$Scale", n)
	}
	return o
}

func (n navigation) json() *object {
	o := jsontree.New("$Kind", "NavigationProperty")
	if n.many {
		o.Add("$Collection", true)
	}
	o.Add("$Type", n.to)
	if n.nullable {
		o.Add("$Nullable", true)
	}
	if n.partner != "" {
		o.Add("$Partner", n.partner)
	}
	if n.constraints != nil {
		o.Add("$ReferentialConstraint", pairsJSON(n.constraints))
	}
	return annotated(o, n.notes)
}

func pairsJSON(pairs []model.Pair) *object {
	o := &object{}
	for _, p := range pairs {
		o.Add(p.Own, p.There)
	}
	return o
}

// annotated is an object with its annotations.
func annotated(o *object, notes []annotation) *object {
	for _, n := range notes {
		o.Add("@"+n.term, valueJSON(n.value))
	}
	return o
}

func valueJSON(v any) any {
	switch v := v.(type) {
	case enumMember:
		return v.name
	case propertyPath:
		return string(v)
	case record:
		o := &object{}
		for _, p := range v {
			o.Add(p.term, valueJSON(p.value))
		}
		return o
	case []any:
		items := make(list, len(v))
		for i, item := range v {
			items[i] = valueJSON(item)
		}
		return items
	}
	return v
}
