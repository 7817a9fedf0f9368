package model

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/jinzhu/inflection"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/window"
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

// nameItems settles what one row of each resource is called: as the document says, or the singular of the resource's name, where that is
// free.
func (b *binder) nameItems(doc *window.Document) {
	used := map[string]bool{}
	for _, r := range b.model.Resources {
		used[r.Name] = true
	}
	for _, d := range doc.Resources {
		r := b.model.byName[d.Name.Value]
		if r == nil || d.Item.Value == "" {
			continue
		}
		if used[d.Item.Value] && d.Item.Value != r.Name {
			b.addError(d.Item.Pos, "name.taken", "one row of %s can't be called %q: another resource, or one of its rows, has that name", r.Name,
				d.Item.Value)
			continue
		}
		r.Item, used[d.Item.Value] = d.Item.Value, true
	}
	for _, r := range b.model.Resources {
		if r.Item != "" {
			continue
		}
		r.Item = r.Name
		if one := inflection.Singular(r.Name); !used[one] {
			r.Item, used[one] = one, true
		}
	}
}
