package describe

import (
	"math"
	"slices"
	"strings"

	"github.com/sv-tools/openapi"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// schemas adds what a row of a resource looks like when it is read, created and changed.
func (w *writer) schemas(r *model.Resource) {
	if w.scope.For(window.Read, r) != nil {
		b := openapi.NewSchemaBuilder().Type("object").Description(r.About)
		for _, f := range w.scope.Readable(r) {
			b.AddProperty(f.Name, w.fieldSchema(f, false))
			if !f.Nullable {
				b.AddRequired(f.Name)
			}
		}
		for _, rel := range r.Relations {
			if !w.scope.MayFollow(rel) {
				continue
			}
			there := schemaRef(component(rel.To, ""))
			if rel.Many {
				b.AddProperty(rel.Name, openapi.NewSchemaBuilder().Type("array").Description(expanded(rel)).
					Items(openapi.NewBoolOrSchema(there)).Build())
				b.AddProperty(rel.Name+"@count",
					openapi.NewSchemaBuilder().Type("integer").Description("Their number, with count=true inside expand.").Build())
				continue
			}
			b.AddProperty(rel.Name, openapi.NewSchemaBuilder().Description(expanded(rel)).AnyOf(there,
				openapi.NewSchemaBuilder().Type("null").Build()).Build())
		}
		w.components.Spec.Add(component(r, ""), b.Build())
		w.components.Spec.Add(component(r, "-list"), w.list(r))
	}
	for _, op := range []window.Operation{window.Create, window.Update} {
		if d := w.scope.For(op, r); d != nil {
			one := w.bodySchema(r, op, op == window.Create, d)
			w.related(one, r, op)
			part := "-create"
			if op == window.Update {
				part = "-change"
			}
			w.components.Spec.Add(component(r, part), one.Build())
			if op == window.Update {
				w.components.Spec.Add(component(r, "-replace"), w.bodySchema(r, op, true, d).Build())
			}
		}
	}
}

func expanded(rel *model.Relation) string {
	about := "There with expand=" + rel.Name + "."
	if rel.From.View != nil {
		about = "There unless select or expand ask for something else."
	}
	if rel.About != "" {
		about = rel.About + " " + about
	}
	return about
}

// bodySchema is what a create, an update or a replacement takes: the fields that the role may send; whole asks for all that must
// have a value.
func (w *writer) bodySchema(r *model.Resource, op window.Operation, whole bool, d *access.Decision) *openapi.SchemaBuilder {
	b := openapi.NewSchemaBuilder().Type("object").AdditionalProperties(openapi.NewBoolOrSchema(false))
	for _, f := range r.Fields {
		if !d.Fields[f.Index] || !access.Possible(f, op) {
			continue
		}
		b.AddProperty(f.Name, w.fieldSchema(f, true))
		if whole && f.Required && !d.Presets(f) && !(op == window.Create && w.givenByRelation(f)) {
			b.AddRequired(f.Name)
		}
	}
	return b
}

// givenByRelation reports whether a row in the body of a create may give the field, so that it need not stand there itself.
func (w *writer) givenByRelation(f *model.Field) bool {
	return slices.ContainsFunc(f.Resource.Relations, func(rel *model.Relation) bool {
		return rel.Holds() && w.mayNest(rel, window.Create) && slices.Contains(rel.Holding(), f)
	})
}

func (w *writer) fieldSchema(f *model.Field, body bool) *openapi.RefOrSpec[openapi.Schema] {
	if name := w.enumeration(f.Type); name != "" {
		return namedEnum(name, f)
	}
	b := schemaOf(f.Type)
	checked(b, f)
	if f.About != "" {
		b.Description(f.About)
	}
	if f.ReadOnly && !body {
		b.ReadOnly(true)
	}
	if f.Nullable && !f.InKey {
		return nullable(b, f.Type)
	}
	return b.Build()
}

// enumeration is the component of an enumeration, which is there once; "" for any other type.
func (w *writer) enumeration(t *model.Type) string {
	name := ""
	if t.Kind == model.Enum {
		name = w.model.TypeName(t)
	}
	if name == "" || strings.ContainsFunc(name, func(c rune) bool { return c >= 0x80 }) {
		return ""
	}
	for _, r := range w.model.Resources {
		if component(r, "") == name {
			name += "-value"
		}
	}
	return name
}

// enumerations adds those that the scope meets.
func (w *writer) enumerations() {
	for _, r := range append(described(w.model, w.scope), w.model.Parts...) {
		for _, f := range r.Fields {
			meets := slices.ContainsFunc([]window.Operation{window.Read, window.Create, window.Update}, func(op window.Operation) bool {
				d := w.scope.For(op, r)
				return d != nil && d.Fields[f.Index] && (op == window.Read || access.Possible(f, op))
			})
			if name := w.enumeration(f.Type); meets && name != "" {
				w.components.Spec.Add(name, schemaOf(f.Type).Build())
			}
		}
	}
}

// namedEnum refers to an enumeration, with what is to be said of the field.
func namedEnum(name string, f *model.Field) *openapi.RefOrSpec[openapi.Schema] {
	nulls := f.Nullable && !f.InKey
	if !nulls && f.About == "" {
		return schemaRef(name)
	}
	b := openapi.NewSchemaBuilder()
	if f.About != "" {
		b.Description(f.About)
	}
	if nulls {
		return b.AnyOf(schemaRef(name), openapi.NewSchemaBuilder().Type("null").Build()).Build()
	}
	return b.AllOf(schemaRef(name)).Build()
}

// checked adds what the checks of the database ask of a field's values.
func checked(b *openapi.SchemaBuilder, f *model.Field) {
	for _, c := range f.Checks {
		switch c.Operator {
		case model.Matches:
			b.Pattern(c.Text)
		case model.OneOf:
			values := make([]any, len(c.Values))
			for i, v := range c.Values {
				values[i] = v
			}
			b.Enum(values...)
		case model.Shorter:
			b.MaxLength(int(c.Bound()))
		case model.Longer:
			b.MinLength(int(c.Bound()))
		case model.AtLeast:
			b.Minimum(c.Bound())
		case model.AtMost:
			b.Maximum(c.Bound())
		case model.More:
			b.ExclusiveMinimum(c.Bound())
		case model.Less:
			b.ExclusiveMaximum(c.Bound())
		}
	}
}

// nullable adds null to the types of a schema, and to its values where these are listed.
func nullable(b *openapi.SchemaBuilder, t *model.Type) *openapi.RefOrSpec[openapi.Schema] {
	if t.Kind == model.JSON { // has no type: null is one of its values anyway
		return b.Build()
	}
	b.AddType("null")
	if t.Kind == model.Enum {
		b.AddEnum(nil)
	}
	return b.Build()
}

// schemaOf is the JSON Schema of a type's values.
func schemaOf(t *model.Type) *openapi.SchemaBuilder {
	b := openapi.NewSchemaBuilder()
	switch t.Kind {
	case model.Boolean:
		return b.Type("boolean")
	case model.Int16:
		return b.Type("integer").Minimum(math.MinInt16).Maximum(math.MaxInt16)
	case model.Int32:
		return b.Type("integer").Format("int32")
	case model.Int64:
		return b.Type("integer").Format("int64")
	case model.Decimal:
		return b.Type("number").Format("decimal")
	case model.Single:
		return b.Type("number").Format("float")
	case model.Double:
		return b.Type("number").Format("double")
	case model.Enum:
		values := make([]any, len(t.Values))
		for i, v := range t.Values {
			values[i] = v
		}
		return b.Type("string").Enum(values...)
	case model.Date:
		return b.Type("string").Format("date").Examples("2026-07-01")
	case model.TimeOfDay:
		return b.Type("string").Format("time").Examples("12:30:00")
	case model.Instant:
		return b.Type("string").Format("date-time").Examples("2026-07-01T12:30:00Z")
	case model.Duration:
		return b.Type("string").Format("duration").Examples("PT48H")
	case model.GUID:
		return b.Type("string").Format("uuid")
	case model.Binary:
		return b.Type("string").Format("base64url")
	case model.JSON:
		return b
	case model.Collection:
		element := schemaOf(t.Element)
		return b.Type("array").Items(openapi.NewBoolOrSchema(nullable(element, t.Element)))
	case model.Range:
		bound := schemaOf(t.Element).Build()
		b.Type("object").Description("A range; an end that is open is left out, an empty one has empty: true.").
			AddProperty("lower", bound).AddProperty("upper", bound).
			AddProperty("bounds", openapi.NewSchemaBuilder().Type("string").Enum("[]", "[)", "(]",
				"()").Description("Whether the ends belong to it.").Build()).
			AddProperty("empty", openapi.NewSchemaBuilder().Type("boolean").Build())
		if t.Multi {
			return openapi.NewSchemaBuilder().Type("array").Items(openapi.NewBoolOrSchema(b.Build()))
		}
		return b
	case model.Complex:
		b.Type("object")
		for _, f := range t.Fields {
			b.AddProperty(f.Name, nullable(schemaOf(f.Type), f.Type))
		}
		return b
	}
	if t.Length > 0 {
		b.MaxLength(t.Length)
	}
	return b.Type("string")
}
