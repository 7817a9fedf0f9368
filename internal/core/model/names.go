package model

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/catalog"
)

// Namespace is the identifier of the model, which the names of its types begin with (CSDL, 15.2).
func (m *Model) Namespace() string { return strings.ReplaceAll(m.Name, "-", "_") }

// RowType is the name of the type of a resource's rows, without the namespace. It is the resource's own, but for one whose rows are what a
// function returns: the function has that name.
func (r *Resource) RowType() string {
	name := strings.ReplaceAll(r.Name, ".", "_")
	if len(r.Key) == 0 && (r.View == nil || r.View.Top == r) {
		return name + "_row"
	}
	return name
}

var identifier = regexp.MustCompile(`^[\pL_][\pL\p{Nd}_]*$`)

// TypeName is the name of an enumeration, a composite type or a range, without the namespace; "" for any other type, and for an
// enumeration whose values are no names. No other type of the model has it, and it does not depend on who asks.
func (m *Model) TypeName(t *Type) string {
	switch t.Kind {
	case Enum:
		for _, v := range t.Values {
			if !identifier.MatchString(v) {
				return ""
			}
		}
	case Complex:
	case Range:
		return "range_of_" + strings.TrimPrefix(edmNames[t.Element.Kind], "Edm.")
	default:
		return ""
	}
	if t.Catalog == nil {
		return ""
	}
	return m.typeNames[typeID(t.Catalog.Base())]
}

// TypeNamed is the enumeration of that name, nil where there is none.
func (m *Model) TypeNamed(name string) *Type { return m.enums[name] }

// EnumNames are the names of the enumerations with the namespace, sorted.
func (m *Model) EnumNames() []string {
	var names []string
	for _, name := range slices.Sorted(maps.Keys(m.enums)) {
		names = append(names, m.Namespace()+"."+name)
	}
	return names
}

// typeID tells types of the database apart.
func typeID(t *catalog.Type) string { return t.Schema + "." + t.Name }

// nameTypes settles the names of the types that the fields of the model have.
func (m *Model) nameTypes() {
	used := map[string]bool{"Container": true, "json": true}
	for _, r := range m.Resources {
		name := strings.ReplaceAll(r.Name, ".", "_")
		used[name], used[name+"_row"] = true, true
	}
	m.typeNames, m.enums = map[string]string{}, map[string]*Type{}
	var name func(t *Type)
	name = func(t *Type) {
		if t == nil {
			return
		}
		name(t.Element)
		for _, f := range t.Fields {
			name(f.Type)
		}
		if t.Kind != Enum && t.Kind != Complex || t.Catalog == nil {
			return
		}
		base := t.Catalog.Base()
		if m.typeNames[typeID(base)] != "" {
			return
		}
		wanted := strings.Map(func(r rune) rune {
			if identifier.MatchString("x" + string(r)) {
				return r
			}
			return '_'
		}, base.Name)
		own := wanted
		for n := 2; used[own]; n++ {
			own = wanted + "_" + strconv.Itoa(n)
		}
		used[own], m.typeNames[typeID(base)] = true, own
		if t.Kind == Enum {
			m.enums[own] = t
		}
	}
	for _, r := range m.Resources {
		for _, f := range r.Fields {
			name(f.Type)
		}
	}
}
