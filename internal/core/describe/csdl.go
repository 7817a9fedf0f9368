package describe

import (
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// Metadata is a window's model as the standard describes one (CSDL 4.01), written as XML or JSON from the same parts.
type Metadata struct {
	version   string
	namespace string
	enums     []enumType
	types     []structType
	functions []function
	sets      []entitySet
	imports   []string // functions that can be called at the root
	container []annotation
}

type enumType struct {
	name    string
	members []string
}

type structType struct {
	name        string
	key         []string // nil: a complex type
	open        bool     // values may have more than the properties
	properties  []property
	navigations []navigation
	notes       []annotation
}

// typeRef is a type and what limits its values.
type typeRef struct {
	name       string // Edm.String, saltmere.call_status
	collection bool
	nullable   bool
	maxLength  int
	precision  int
	scale      string // "": none is told
}

type property struct {
	name string
	typeRef
	notes []annotation
}

type navigation struct {
	name        string
	to          string // an entity type
	many        bool
	nullable    bool
	partner     string
	constraints []model.Pair // field here, field there
	notes       []annotation
}

type function struct {
	name       string
	parameters []property
	returns    typeRef
	notes      []annotation
}

type entitySet struct {
	name, of string
	bindings []model.Pair // navigation, set
	notes    []annotation
}

// annotation is a term of a vocabulary with its value: string, bool, int, enumMember, []any or record.
type annotation struct {
	term  string
	value any
}

type record []annotation // property, value

// propertyPath is the name of a property of the type that is annotated.
type propertyPath string

// enumMember is a member of a vocabulary's enumeration: type and name.
type enumMember struct{ of, name string }

// CSDL is the metadata of what the scope may read, for version 4.0 or 4.01 of the standard.
func CSDL(m *model.Model, scope *access.Scope, version string) *Metadata {
	w := &csdlWriter{model: m, scope: scope, out: &Metadata{version: version, namespace: m.Namespace()}, written: map[string]bool{}}
	resources := slices.DeleteFunc(append(slices.Clone(m.Resources), m.Parts...),
		func(r *model.Resource) bool { return scope.For(window.Read, r) == nil })
	for _, r := range resources {
		w.resource(r)
	}
	w.out.container = []annotation{
		{"Capabilities.ConformanceLevel", enumMember{"Capabilities.ConformanceLevelType", "Advanced"}},
		{"Capabilities.SupportedFormats", []any{"application/json", "application/x-ndjson", "application/xml", "text/csv"}},
		{"Capabilities.KeyAsSegmentSupported", true},
		{"Capabilities.QuerySegmentSupported", true},
		{"Capabilities.AsynchronousRequestsSupported", false},
		{"Capabilities.BatchSupport", record{{"Supported", true}, {"ContinueOnErrorSupported", true},
			{"ReferencesInRequestBodiesSupported", true}, {"EtagReferencesSupported", true}, {"RequestDependencyConditionsSupported", true},
			{"SupportedFormats", []any{"application/json", "multipart/mixed"}}}},
		{"Capabilities.CrossJoinSupported", false},
		{"Capabilities.DeepInsertSupport", record{{"Supported", true}}},
		{"Capabilities.DeepUpdateSupport", record{{"Supported", true}}},
	}
	if about := m.Document.About; about != "" {
		w.out.container = append([]annotation{{"Core.Description", about}}, w.out.container...)
	}
	return w.out
}

type csdlWriter struct {
	model   *model.Model
	scope   *access.Scope
	out     *Metadata
	written map[string]bool // the types that the namespace has so far
}

// first reports whether a type is named for the first time, so that it has to be written.
func (w *csdlWriter) first(name string) bool {
	known := w.written[name]
	w.written[name] = true
	return !known
}

func (w *csdlWriter) qualified(name string) string { return w.out.namespace + "." + name }

func (w *csdlWriter) typeName(r *model.Resource) string { return w.qualified(w.rowType(r)) }

// rowType is the name of the type of a resource's rows. One whose key the role may not read is no set, but a function of that name.
func (w *csdlWriter) rowType(r *model.Resource) string {
	if part := r.View != nil && r.View.Top != r; !part && !w.isEntity(r) {
		return strings.TrimSuffix(r.RowType(), "_row") + "_row"
	}
	return r.RowType()
}

// isEntity reports whether rows of a resource can be told apart by what the role may read, and so are in a set.
func (w *csdlWriter) isEntity(r *model.Resource) bool {
	if len(r.Key) == 0 || r.Query != nil || r.View != nil && r.View.Top != r {
		return false
	}
	d := w.scope.For(window.Read, r)
	return !slices.ContainsFunc(r.Key, func(k *model.Field) bool { return !d.Fields[k.Index] })
}

func (w *csdlWriter) resource(r *model.Resource) {
	name := w.rowType(r)
	s := structType{name: name, notes: about(r.About)}
	for _, f := range w.scope.Readable(r) {
		s.properties = append(s.properties, w.field(f))
	}
	if w.isEntity(r) {
		for _, k := range r.Key {
			s.key = append(s.key, k.Name)
		}
	}
	var bindings []model.Pair
	for _, rel := range r.Relations {
		if !w.scope.MayFollow(rel) {
			continue
		}
		if rel.To.View != nil { // what a saved view shows belongs to its rows
			s.properties = append(s.properties, property{rel.Name, typeRef{name: w.typeName(rel.To), collection: rel.Many, nullable: !rel.Many},
				about(rel.About)})
			continue
		}
		if w.isEntity(rel.To) {
			s.navigations = append(s.navigations, w.navigation(rel))
			bindings = append(bindings, model.Pair{Own: rel.Name, There: rel.To.Name})
		}
	}
	if s.key != nil {
		s.notes = append(s.notes, w.alternateKeys(r)...)
	}
	w.out.types = append(w.out.types, s)
	switch {
	case r.View != nil && r.View.Top != r:
	case s.key != nil:
		w.out.sets = append(w.out.sets, entitySet{r.Name, w.qualified(name), bindings, w.capabilities(r)})
	default:
		f := function{name: r.Name, returns: typeRef{name: w.qualified(name), collection: true}, notes: about(r.About)}
		if r.Query != nil {
			for _, p := range r.Query.Parameters {
				f.parameters = append(f.parameters, property{p.Name, w.typeOf(p.Type, p.Optional), nil})
				if p.Optional {
					f.parameters[len(f.parameters)-1].notes = []annotation{{"Core.OptionalParameter", record{}}}
				}
			}
		}
		w.out.functions = append(w.out.functions, f)
		w.out.imports = append(w.out.imports, r.Name)
	}
}

// alternateKeys names the keys besides the type's own by which rows are found.
func (w *csdlWriter) alternateKeys(r *model.Resource) []annotation {
	d := w.scope.For(window.Read, r)
	var keys []any
	for _, key := range r.Alternates() {
		if slices.ContainsFunc(key, func(f *model.Field) bool { return !d.Fields[f.Index] }) {
			continue
		}
		var refs []any
		for _, f := range key {
			refs = append(refs, record{{"Name", propertyPath(f.Name)}, {"Alias", f.Name}})
		}
		keys = append(keys, record{{"Key", refs}})
	}
	if keys == nil {
		return nil
	}
	return []annotation{{"Core.AlternateKeys", keys}}
}

func about(text string) []annotation {
	if text == "" {
		return nil
	}
	return []annotation{{"Core.Description", text}}
}

func (w *csdlWriter) field(f *model.Field) property {
	p := property{f.Name, w.typeOf(f.Type, f.Nullable && !f.InKey), about(f.About)}
	if f.ReadOnly && f.Resource.View == nil && f.Resource.Query == nil {
		p.notes = append(p.notes, annotation{"Core.Computed", true})
	}
	if f.Type.Kind == model.Enum && p.name != "" && strings.HasPrefix(p.typeRef.name, "Edm.") {
		var values []any
		for _, v := range f.Type.Values {
			values = append(values, record{{"Value", v}})
		}
		p.notes = append(p.notes, annotation{"Validation.AllowedValues", values})
	}
	return p
}

// typeOf names a type, and adds it to the namespace where it is not one of the standard's own.
func (w *csdlWriter) typeOf(t *model.Type, nullable bool) typeRef {
	ref := typeRef{name: t.Kind.EDM(), nullable: nullable}
	switch t.Kind {
	case model.String:
		ref.maxLength = t.Length
	case model.Decimal:
		ref.precision, ref.scale = t.Precision, "variable"
		if t.Precision > 0 {
			ref.scale = strconv.Itoa(t.Scale)
		}
	case model.Instant, model.TimeOfDay, model.Duration:
		ref.precision = 6
	case model.Enum:
		if name := w.model.TypeName(t); name != "" {
			ref.name = w.qualified(name)
			if w.first(name) {
				w.out.enums = append(w.out.enums, enumType{name, t.Values})
			}
		}
	case model.JSON:
		if w.out.version == "4.0" { // which has no untyped values: an object that may have any members
			ref.name = w.qualified("json")
			if w.first("json") {
				w.out.types = append(w.out.types, structType{name: "json", open: true, notes: about("Any JSON value.")})
			}
		}
	case model.Collection:
		element := w.typeOf(t.Element, true)
		element.collection = true
		return element
	case model.Range:
		ref.name, ref.collection = w.rangeType(t), t.Multi
	case model.Complex:
		ref.name = w.composite(t)
	}
	return ref
}

func (w *csdlWriter) rangeType(t *model.Type) string {
	name := w.model.TypeName(t)
	if w.first(name) {
		bound := w.typeOf(t.Element, true)
		bound.maxLength, bound.precision = 0, 0
		if t.Element.Kind == model.Decimal {
			bound.scale = "variable"
		} else if t.Element.Kind == model.Instant {
			bound.precision = 6
		}
		w.out.types = append(w.out.types,
			structType{name: name, notes: about("A range; an end that is open is left out, an empty one has empty: true."), properties: []property{
				{"lower", bound, nil}, {"upper", bound, nil}, {"bounds", typeRef{name: "Edm.String", nullable: true, maxLength: 2}, nil},
				{"empty", typeRef{name: "Edm.Boolean", nullable: true}, nil}}})
	}
	return w.qualified(name)
}

func (w *csdlWriter) composite(t *model.Type) string {
	name := w.model.TypeName(t)
	if w.first(name) {
		s := structType{name: name}
		at := len(w.out.types)
		w.out.types = append(w.out.types, s)
		for _, f := range t.Fields {
			s.properties = append(s.properties, property{f.Name, w.typeOf(f.Type, true), nil})
		}
		w.out.types[at] = s
	}
	return w.qualified(name)
}

func (w *csdlWriter) navigation(rel *model.Relation) navigation {
	n := navigation{name: rel.Name, to: w.typeName(rel.To), many: rel.Many, nullable: !rel.Many && !rel.Required, notes: about(rel.About)}
	for _, back := range rel.To.Relations {
		if back.To == rel.From && reverse(rel, back) && w.isEntity(rel.From) {
			n.partner = back.Name
			break
		}
	}
	if !rel.Holds() || rel.ForeignKey == nil { // the constraint is on the type whose rows depend on the others (CSDL, 8.5)
		return n
	}
	for _, p := range rel.Pairs {
		own, there := rel.From.FieldOf(p.Own), rel.To.FieldOf(p.There)
		if own == nil || there == nil || !w.scope.For(window.Read, rel.From).Fields[own.Index] ||
			!w.scope.For(window.Read, rel.To).Fields[there.Index] {
			return n
		}
		n.constraints = append(n.constraints, model.Pair{Own: own.Name, There: there.Name})
	}
	return n
}

// reverse reports whether b leads back along a.
func reverse(a, b *model.Relation) bool {
	if (a.Through == nil) != (b.Through == nil) {
		return false
	}
	turned := func(p []model.Pair) []model.Pair {
		out := make([]model.Pair, len(p))
		for i, x := range p {
			out[i] = model.Pair{Own: x.There, There: x.Own}
		}
		return out
	}
	if a.Through != nil {
		return a.Through.Table == b.Through.Table && slices.Equal(turned(a.Pairs), b.Through.There) &&
			slices.Equal(turned(b.Pairs), a.Through.There)
	}
	return slices.Equal(a.Pairs, turned(b.Pairs)) && (a.From != a.To || a.Name != b.Name)
}

// capabilities tell what can be done with the rows of a set, and what not.
func (w *csdlWriter) capabilities(r *model.Resource) []annotation {
	notes := about(r.About)
	if r.Table.Kind == catalog.Base && r.View == nil { // every row has a version, which depends on all of it
		notes = append(notes, annotation{"Core.OptimisticConcurrency", []any{}})
	}
	for _, c := range []struct {
		op         window.Operation
		term, able string
	}{{window.Create, "Insert", "Insertable"}, {window.Update, "Update", "Updatable"}, {window.Delete, "Delete", "Deletable"}} {
		notes = append(notes, annotation{"Capabilities." + c.term + "Restrictions", record{{c.able, w.scope.For(c.op, r) != nil}}})
	}
	searchable := slices.ContainsFunc(w.scope.Readable(r), func(f *model.Field) bool { return f.Type.Kind == model.String })
	notes = append(notes, annotation{"Capabilities.SearchRestrictions", record{{"Searchable", searchable}}},
		annotation{"Capabilities.ExpandRestrictions", record{{"Expandable", len(r.Relations) > 0}, {"MaxLevels", 8}}},
		annotation{"Capabilities.ChangeTracking", record{{"Supported", false}}})
	if r.Table.Kind == catalog.Base && r.View == nil {
		notes = append(notes, annotation{"Aggregation.ApplySupported",
			record{{"Transformations", transformations}, {"Rollup", enumMember{"Aggregation.RollupType", "MultipleHierarchies"}}}})
	}
	return notes
}

var transformations = []any{"aggregate", "bottomcount", "bottompercent", "bottomsum", "compute", "concat", "filter", "groupby", "identity",
	"join", "nest", "orderby", "outerjoin", "search", "skip", "top", "topcount", "toppercent", "topsum"}

// vocabularies are where the terms are defined, with the short names that stand before them.
var vocabularies = []struct{ address, namespace, alias string }{
	{"https://oasis-tcs.github.io/odata-vocabularies/vocabularies/Org.OData.Core.V1", "Org.OData.Core.V1", "Core"},
	{"https://oasis-tcs.github.io/odata-vocabularies/vocabularies/Org.OData.Capabilities.V1", "Org.OData.Capabilities.V1", "Capabilities"},
	{"https://oasis-tcs.github.io/odata-vocabularies/vocabularies/Org.OData.Validation.V1", "Org.OData.Validation.V1", "Validation"},
	{"https://oasis-tcs.github.io/odata-vocabularies/vocabularies/Org.OData.Aggregation.V1", "Org.OData.Aggregation.V1", "Aggregation"},
}
