package describe

import (
	"encoding/json"
	"math"
	"regexp"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// row refers to the schema of a resource's rows as they are read.
func (w *writer) row(r *model.Resource) *object {
	return w.schemaRef(component(r, ""), func() any { return w.rowSchema(r) })
}

func (w *writer) rowSchema(r *model.Resource) *object {
	properties, required := &object{}, list{}
	d := w.scope.For(window.Read, r)
	for _, f := range w.scope.Readable(r) {
		properties.Add(f.Name, w.fieldSchema(f, reading))
		masked := slices.ContainsFunc(d.Masks, func(m access.Mask) bool { return m.Field == f })
		if !f.Nullable && !masked {
			required = append(required, f.Name)
		}
	}
	for _, rel := range r.Relations {
		if !w.scope.MayFollow(rel) {
			continue
		}
		var about any
		if rel.About != rel.To.About {
			about = optional(rel.About)
		}
		if !rel.Many {
			there := w.scope.For(window.Read, rel.To)
			if rel.Required && there.Rules(nil, false) == nil && about == nil {
				properties.Add(rel.Name, w.row(rel.To))
			} else {
				properties.Add(rel.Name, orNull(w.row(rel.To), about))
			}
			continue
		}
		properties.Add(rel.Name, jsontree.New("type", "array", "items", w.row(rel.To), "description", about))
		properties.Add(rel.Name+"@count", jsontree.New("type", "integer"))
		properties.Add(rel.Name+"@nextLink", jsontree.New("type", "string"))
	}
	o := objectOf(r.About, properties, required)
	o.Add("examples", list{w.rowExample(r)})
	return o
}

// objectOf is the schema of an object.
func objectOf(about string, properties *object, required list) *object {
	o := jsontree.New("type", "object", "description", optional(about))
	if len(required) > 0 {
		o.Add("required", required)
	}
	o.Add("properties", properties)
	return o
}

// orNull is a schema that null meets too.
func orNull(schema *object, about any) *object {
	shapes := list{schema}
	if len(schema.Members) == 1 && schema.Has("anyOf") {
		shapes = slices.Clone(schema.List("anyOf"))
	}
	return jsontree.New("description", about, "anyOf", append(shapes, jsontree.New("type", "null")))
}

// page refers to the schema of a list of rows.
func (w *writer) page(r *model.Resource) *object {
	return w.schemaRef(component(r, "-list"), func() any {
		value := jsontree.New("type", "array", "items", w.row(r))
		return objectOf("", jsontree.New("@count", jsontree.New("type", "integer"), "value", value, "@nextLink", jsontree.New("type", "string")),
			list{"value"})
	})
}

// direction is what a schema of a field is for.
type direction int

const (
	reading  direction = iota
	creating           // with defaults; the row itself says what the fields are
	changing
)

// body refers to the schema of what a write of one row takes.
func (w *writer) body(r *model.Resource, op window.Operation) *object {
	part := "-create"
	if op == window.Update {
		part = "-change"
	}
	return w.schemaRef(component(r, part), func() any {
		schema := w.bodySchema(r, op, op == window.Create)
		w.related(schema, r, op)
		return schema
	})
}

// replacement refers to the schema of what takes the place of a row.
func (w *writer) replacement(r *model.Resource) *object {
	return w.schemaRef(component(r, "-replace"), func() any { return w.bodySchema(r, window.Update, true) })
}

// nested refers to the schema of a row in the body of another one, or of a delta: a new row, one that is there by its @id or its key and
// is changed, or one that is taken out. The foreign key may be left out: the row around it gives it.
func (w *writer) nested(r *model.Resource) *object {
	if w.scope.For(window.Create, r) == nil && w.scope.For(window.Update, r) == nil {
		return w.use("schemas", "link-or-removal")
	}
	return w.schemaRef(component(r, "-nested"), func() any {
		own := &object{}
		// Generators make one name of "@id" and "id"; where there is a field of that name, the key says which row it is.
		for _, note := range []struct {
			name   string
			schema func() *object
		}{{"id", func() *object { return w.use("schemas", "row-id") }}, {"etag", func() *object { return jsontree.New("type", "string") }},
			{"removed", func() *object { return w.use("schemas", "removed") }}} {
			if !slices.ContainsFunc(r.Fields, func(f *model.Field) bool { return strings.EqualFold(f.Name, note.name) }) {
				own.Add("@"+note.name, note.schema())
			}
		}
		create, update := w.scope.For(window.Create, r), w.scope.For(window.Update, r)
		for _, f := range r.Fields {
			if update != nil && update.Takes(f) && access.Possible(f, window.Update) {
				continue
			}
			if f.InKey || create != nil && create.Takes(f) {
				own.Add(f.Name, w.fieldSchema(f, changing))
			}
		}
		if update == nil {
			schema := objectOf("", own, nil)
			w.related(schema, r, window.Create)
			return schema
		}
		return jsontree.New("type", "object", "allOf", list{w.body(r, window.Update), objectOf("", own, nil)})
	})
}

// bodySchema is what a create, an update or a replacement takes: the fields that the role may send; whole asks for all that must
// have a value.
func (w *writer) bodySchema(r *model.Resource, op window.Operation, whole bool) *object {
	d := w.scope.For(op, r)
	properties, required := &object{}, list{}
	way := changing
	if whole {
		way = creating
	}
	for _, f := range r.Fields {
		if !d.Takes(f) || !access.Possible(f, op) {
			continue
		}
		properties.Add(f.Name, w.fieldSchema(f, way))
		if whole && f.Required && !(op == window.Create && w.givenByRelation(f)) {
			required = append(required, f.Name)
		}
	}
	o := objectOf("", properties, required)
	if whole { // a change is part of what is nested, which has more
		o.Add("additionalProperties", false)
	}
	return o
}

// givenByRelation reports whether a row in the body of a create may give the field, so that it need not stand there itself.
func (w *writer) givenByRelation(f *model.Field) bool {
	return slices.ContainsFunc(f.Resource.Relations, func(rel *model.Relation) bool {
		return rel.Holds() && w.mayNest(rel, window.Create) && slices.Contains(rel.Holding(), f)
	})
}

// related adds to a body what may become of the row's relations.
func (w *writer) related(body *object, r *model.Resource, op window.Operation) {
	properties := body.Object("properties")
	for _, rel := range r.Relations {
		if rel.To.View != nil || r.View != nil || !w.mayNest(rel, op) {
			continue
		}
		if !rel.Many {
			properties.Set(rel.Name, orNull(w.nested(rel.To), optional(instead(rel))))
			continue
		}
		rows := jsontree.New("type", "array", "items", w.nested(rel.To))
		properties.Set(rel.Name, rows)
		if op == window.Update {
			properties.Set(rel.Name+"@delta", rows)
		}
	}
}

// instead names the fields that a relation stands for.
func instead(rel *model.Relation) string {
	if !rel.Holds() {
		return ""
	}
	var names []string
	for _, f := range rel.Holding() {
		names = append(names, f.Name)
	}
	return "In place of " + code(names) + "."
}

// mayNest reports whether rows of a relation may stand in the body of an operation.
func (w *writer) mayNest(rel *model.Relation, op window.Operation) bool {
	if !rel.Holds() {
		return w.scope.For(window.Create, rel.To) != nil || w.scope.MayLink(rel)
	}
	d := w.scope.For(op, rel.From)
	for _, f := range rel.Holding() {
		if d == nil || f == nil || !d.Takes(f) {
			return false
		}
	}
	return true
}

// fieldSchema is the schema of a field's values.
func (w *writer) fieldSchema(f *model.Field, way direction) *object {
	nulls := f.Nullable && !f.InKey
	var about any
	if way == reading {
		about = optional(f.About)
	}
	o := schemaOf(f.Type)
	named := w.enumeration(f.Type) != ""
	if named {
		o = w.enumRef(f.Type)
	}
	checked(o, f)
	if nulls {
		o = nullable(o, f.Type)
	}
	notes := jsontree.New("description", about)
	if f.ReadOnly && way == reading {
		notes.Add("readOnly", true)
	}
	if f.Deprecated {
		notes.Add("deprecated", true)
	}
	if value, simple := defaultOf(f); simple && way == creating {
		notes.Add("default", value)
	}
	if len(notes.Members) > 0 && o.Has("$ref") { // 3.0 reads nothing beside a reference
		o = jsontree.New("allOf", list{o})
	}
	for _, m := range notes.Members {
		o.Set(m.Name, m.Value)
	}
	return o
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

func (w *writer) enumRef(t *model.Type) *object {
	return w.schemaRef(w.enumeration(t), func() any { return schemaOf(t) })
}

// nullable is a schema that null meets as well.
func nullable(o *object, t *model.Type) *object {
	switch kind := o.Get("type").(type) {
	case string:
		o.Set("type", list{kind, "null"})
		if values := o.List("enum"); values != nil {
			o.Set("enum", append(slices.Clone(values), nil))
		}
		return o
	case nil:
		if t.Kind == model.JSON { // null is one of its values anyway
			return o
		}
	}
	return orNull(o, nil)
}

// checked adds what the database checks of a field.
func checked(o *object, f *model.Field) {
	if o.Has("$ref") || o.Has("anyOf") {
		return
	}
	for _, c := range f.Checks {
		switch c.Operator {
		case model.Matches:
			o.Set("pattern", c.Text)
		case model.OneOf:
			o.Set("enum", enumOf(f.Type, c.Values))
		case model.Shorter:
			o.Set("maxLength", json.Number(c.Text))
		case model.Longer:
			o.Set("minLength", json.Number(c.Text))
		case model.AtLeast:
			o.Set("minimum", json.Number(c.Text))
			o.Delete("exclusiveMinimum")
		case model.AtMost:
			o.Set("maximum", json.Number(c.Text))
		case model.More:
			o.Delete("minimum")
			o.Set("exclusiveMinimum", json.Number(c.Text))
		case model.Less:
			o.Delete("maximum")
			o.Set("exclusiveMaximum", json.Number(c.Text))
		}
	}
}

func enumOf(t *model.Type, values []string) list {
	out := make(list, len(values))
	for i, v := range values {
		out[i] = v
		if t.Kind.Numeric() {
			out[i] = json.Number(v)
		}
	}
	return out
}

// literalDefault is a default of PostgreSQL that is one literal.
var literalDefault = regexp.MustCompile(`^(?:'((?:[^']|'')*)'::[a-z_." ]+(?:\[\])?|\(?(-?[0-9]+(?:\.[0-9]+)?)\)?(?:::[a-z ]+)?|(true|` +
	`false))$`)

// defaultOf is the value that the database gives a field that is left out, where it is a literal.
func defaultOf(f *model.Field) (any, bool) {
	m := literalDefault.FindStringSubmatch(f.Column.Default)
	if m == nil {
		return nil, false
	}
	switch {
	case f.Type.Kind == model.Boolean && m[3] != "":
		return m[3] == "true", true
	case f.Type.Kind.Numeric() && m[2] != "":
		return json.Number(m[2]), true
	case f.Type.Kind.Numeric() && json.Valid([]byte(m[1])) && m[1] != "":
		return json.Number(m[1]), true
	case (f.Type.Kind == model.String || f.Type.Kind == model.Enum) && m[2] == "" && m[3] == "":
		return strings.ReplaceAll(m[1], "''", "'"), true
	}
	return nil, false
}

// special are the values of floating point that are not numbers (JSON Format, 7.1).
var special = jsontree.New("type", "string", "enum", list{"INF", "-INF", "NaN"})

// schemaOf is the JSON Schema of a type's values.
func schemaOf(t *model.Type) *object {
	kind := func(name, format string) *object { return jsontree.New("type", name, "format", optional(format)) }
	switch t.Kind {
	case model.Boolean:
		return kind("boolean", "")
	case model.Int16:
		return jsontree.New("type", "integer", "format", "int32", "minimum", math.MinInt16, "maximum", math.MaxInt16)
	case model.Int32:
		return kind("integer", "int32")
	case model.Int64:
		return kind("integer", "int64")
	case model.Decimal:
		return decimal(t)
	case model.Single, model.Double:
		format := map[model.Kind]string{model.Single: "float", model.Double: "double"}[t.Kind]
		return jsontree.New("anyOf", list{kind("number", format), special})
	case model.Enum:
		return jsontree.New("type", "string", "enum", jsontree.Strings(t.Values...))
	case model.Date:
		return kind("string", "date")
	case model.TimeOfDay:
		return kind("string", "time-local") // "time" has an offset from UTC (RFC 3339)
	case model.Instant:
		return kind("string", "date-time")
	case model.Duration:
		return kind("string", "duration")
	case model.GUID:
		return kind("string", "uuid")
	case model.Binary:
		return kind("string", "base64url")
	case model.JSON:
		return &object{}
	case model.Collection:
		return jsontree.New("type", "array", "items", nullable(schemaOf(t.Element), t.Element))
	case model.Range:
		bound := schemaOf(t.Element)
		one := objectOf("A range; an end that is open is left out, an empty one has empty: true.", jsontree.New("lower", bound, "upper", bound,
			"bounds", jsontree.New("type", "string", "enum", list{"[]", "[)", "(]", "()"}), "empty", kind("boolean", "")), nil)
		if t.Multi {
			return jsontree.New("type", "array", "items", one)
		}
		return one
	case model.Complex:
		parts := &object{}
		for _, f := range t.Fields {
			parts.Add(f.Name, nullable(schemaOf(f.Type), f.Type))
		}
		return objectOf("", parts, nil)
	}
	o := kind("string", "")
	if t.Length > 0 {
		o.Add("maxLength", t.Length)
	}
	return o
}

// decimal is the schema of exact numbers: their step, and how far they go.
func decimal(t *model.Type) *object {
	o := jsontree.New("type", "number", "format", "decimal")
	if t.Precision == 0 {
		return o
	}
	if t.Scale >= 0 && t.Scale < t.Precision {
		o.Add("multipleOf", json.Number(power(-t.Scale)))
		most := strings.Repeat("9", t.Precision-t.Scale)
		if t.Scale > 0 {
			most += "." + strings.Repeat("9", t.Scale)
		}
		o.Add("minimum", json.Number("-"+most))
		o.Add("maximum", json.Number(most))
	}
	return o
}

// power is ten to the power of n, written out.
func power(n int) string {
	if n < 0 {
		return "0." + strings.Repeat("0", -n-1) + "1"
	}
	return "1" + strings.Repeat("0", n)
}

// sharedSchemas are those that stand in more than one place.
func (w *writer) sharedSchemas() {
	text := func(about string) *object { return jsontree.New("type", "string", "description", optional(about)) }
	add := func(name string, make func() any) { w.lazy["schemas/"+name] = make }
	add("error", func() any {
		return objectOf("The code is stable, the message for people; details are several mistakes.", jsontree.New("error", w.use("schemas",
			"mistake")), list{"error"})
	})
	add("mistake", func() any {
		return objectOf("", jsontree.New("code", text(""), "message", text(""), "target", text(""),
			"details", jsontree.New("type", "array", "items", reference("schemas", "mistake"))),
			list{"code", "message"})
	})
	add("row-id", func() any {
		return text("The path of a row that is there already, such as tugs/3; without it and its key, the row is new.")
	})
	add("removed", func() any {
		return objectOf("Takes the row out: `changed` out of the relation only, `deleted` altogether.", jsontree.New("reason",
			jsontree.New("type",
				"string", "enum", list{"changed", "deleted"})), list{"reason"})
	})
	add("link-to-row", func() any {
		return objectOf("A row that is there already.", jsontree.New("@id", w.use("schemas", "row-id")), list{"@id"})
	})
	add("link-or-removal", func() any {
		return objectOf("", jsontree.New("@id", w.use("schemas", "row-id"), "@removed", w.use("schemas", "removed")), list{"@id"})
	})
	add("links-to-rows", func() any {
		return objectOf("", jsontree.New("value", jsontree.New("type", "array", "items", w.use("schemas", "link-to-row"))), list{"value"})
	})
	add("link-or-links", func() any {
		return objectOf("`@id` for one row, `value` for all that are to stay.", jsontree.New("@id", w.use("schemas", "row-id"), "value",
			jsontree.New("type", "array", "items", w.use("schemas", "link-to-row"))), nil)
	})
	add("batch-of-requests", func() any {
		request := objectOf("", jsontree.New("id", text(""), "method", jsontree.New("type", "string", "enum",
			list{"GET", "POST", "PUT", "PATCH", "DELETE"}), "url", text("A path below the window; `$1` at its beginning is the row of request 1."),
			"atomicityGroup", text(""), "dependsOn", jsontree.New("type", "array", "items", text("")),
			"if", text("Run it only where this holds for the answers before."), "headers", anyObject(), "body", &object{}),
			list{"id", "method", "url"})
		return objectOf("", jsontree.New("requests", jsontree.New("type", "array", "minItems", 1, "items", request)), list{"requests"})
	})
	add("answers-of-batch", func() any {
		answer := objectOf("", jsontree.New("id", text(""), "status", jsontree.New("type", "integer"), "headers", anyObject(), "body", &object{}),
			list{"id", "status"})
		return objectOf("", jsontree.New("responses", jsontree.New("type", "array", "items", answer)), list{"responses"})
	})
}

func anyObject() *object {
	return jsontree.New("type", "object", "additionalProperties", jsontree.New("type", "string"))
}
