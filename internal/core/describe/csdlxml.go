package describe

import (
	"encoding/xml"
	"fmt"
	"strconv"
)

// XML is the metadata as CSDL XML 4.01.
func (m *Metadata) XML() ([]byte, error) {
	edmx := node("edmx:Edmx", "xmlns:edmx", "http://docs.oasis-open.org/odata/ns/edmx", "Version", m.version)
	for _, v := range vocabularies {
		r := node("edmx:Reference", "Uri", v.address+".xml")
		r.add(node("edmx:Include", "Namespace", v.namespace, "Alias", v.alias))
		edmx.add(r)
	}
	schema := node("Schema", "xmlns", "http://docs.oasis-open.org/odata/ns/edm", "Namespace", m.namespace)
	for _, e := range m.enums {
		n := node("EnumType", "Name", e.name)
		for i, name := range e.members {
			n.add(node("Member", "Name", name, "Value", strconv.Itoa(i)))
		}
		schema.add(n)
	}
	for _, t := range m.types {
		schema.add(t.xml())
	}
	for _, f := range m.functions {
		n := node("Function", "Name", f.name)
		for _, p := range f.parameters {
			n.add(p.xml("Parameter", "Name", p.name))
		}
		n.add(property{typeRef: f.returns}.xml("ReturnType"))
		n.note(f.notes)
		schema.add(n)
	}
	container := node("EntityContainer", "Name", "Container")
	for _, s := range m.sets {
		n := node("EntitySet", "Name", s.name, "EntityType", s.of)
		for _, b := range s.bindings {
			n.add(node("NavigationPropertyBinding", "Path", b.Own, "Target", b.There))
		}
		n.note(s.notes)
		container.add(n)
	}
	for _, name := range m.imports {
		container.add(node("FunctionImport", "Name", name, "Function", m.namespace+"."+name))
	}
	container.note(m.container)
	schema.add(container)
	services := node("edmx:DataServices")
	services.add(schema)
	edmx.add(services)
	out, err := xml.MarshalIndent(edmx, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("write the metadata: %w", err)
	}
	return append(append([]byte(xml.Header), out...), '\n'), nil
}

func (t structType) xml() *element {
	kind := "ComplexType"
	if t.key != nil {
		kind = "EntityType"
	}
	n := node(kind, "Name", t.name)
	if t.open {
		n.set("OpenType", "true")
	}
	if t.key != nil {
		key := node("Key")
		for _, name := range t.key {
			key.add(node("PropertyRef", "Name", name))
		}
		n.add(key)
	}
	for _, p := range t.properties {
		n.add(p.xml("Property", "Name", p.name))
	}
	for _, nav := range t.navigations {
		n.add(nav.xml())
	}
	n.note(t.notes)
	return n
}

func (p property) xml(kind string, attributes ...string) *element {
	name := p.typeRef.name
	if p.collection {
		name = "Collection(" + name + ")"
	}
	n := node(kind, append(attributes, "Type", name)...)
	n.set("Nullable", strconv.FormatBool(p.nullable))
	if p.maxLength > 0 {
		n.set("MaxLength", strconv.Itoa(p.maxLength))
	}
	if p.precision > 0 {
		n.set("Precision", strconv.Itoa(p.precision))
	}
	if p.scale != "" && p.scale != "0" {
		n.set("Scale", p.scale)
	}
	n.note(p.notes)
	return n
}

func (nav navigation) xml() *element {
	to := nav.to
	if nav.many {
		to = "Collection(" + to + ")"
	}
	n := node("NavigationProperty", "Name", nav.name, "Type", to)
	if !nav.many {
		n.set("Nullable", strconv.FormatBool(nav.nullable))
	}
	if nav.partner != "" {
		n.set("Partner", nav.partner)
	}
	for _, c := range nav.constraints {
		n.add(node("ReferentialConstraint", "Property", c.Own, "ReferencedProperty", c.There))
	}
	n.note(nav.notes)
	return n
}

// element is an XML element whose attributes keep their order.
type element struct {
	XMLName  xml.Name
	Attrs    []xml.Attr `xml:",any,attr"`
	Text     string     `xml:",chardata"`
	Children []*element
}

func node(name string, attributes ...string) *element {
	e := &element{XMLName: xml.Name{Local: name}}
	for i := 0; i+1 < len(attributes); i += 2 {
		e.set(attributes[i], attributes[i+1])
	}
	return e
}

func (e *element) set(name, value string) {
	e.Attrs = append(e.Attrs, xml.Attr{Name: xml.Name{Local: name}, Value: value})
}

func (e *element) add(child *element) { e.Children = append(e.Children, child) }

func (e *element) note(notes []annotation) {
	for _, n := range notes {
		a := node("Annotation", "Term", n.term)
		a.value(n.value)
		e.add(a)
	}
}

// value puts the value of an annotation, or of a part of one, into its attribute or below it.
func (e *element) value(v any) {
	switch v := v.(type) {
	case string:
		e.set("String", v)
	case bool:
		e.set("Bool", strconv.FormatBool(v))
	case propertyPath:
		e.set("PropertyPath", string(v))
	case int:
		e.set("Int", strconv.Itoa(v))
	case enumMember:
		e.set("EnumMember", v.of+"/"+v.name)
	case record:
		r := node("Record")
		for _, p := range v {
			child := node("PropertyValue", "Property", p.term)
			child.value(p.value)
			r.add(child)
		}
		e.add(r)
	case []any:
		list := node("Collection")
		for _, item := range v {
			if text, ok := item.(string); ok {
				list.add(&element{XMLName: xml.Name{Local: "String"}, Text: text})
				continue
			}
			holder := &element{}
			holder.value(item)
			list.Children = append(list.Children, holder.Children...)
		}
		e.add(list)
	}
}
