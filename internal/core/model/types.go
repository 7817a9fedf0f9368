package model

import (
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/catalog"
)

// Kind is a type of the query language: the primitive types of OData 4.01 (CSDL, 3.3) and how PostgreSQL's others appear.
type Kind uint8

// The kinds. The numeric ones are in the order of promotion.
const (
	Unknown Kind = iota // of null
	Boolean
	Int16
	Int32
	Int64
	Decimal
	Single
	Double
	String
	Enum
	Date
	TimeOfDay
	Instant // Edm.DateTimeOffset: timestamptz, and timestamp read as UTC
	Duration
	GUID
	Binary
	JSON
	Collection
	Complex
	Range
	Opaque // any other PostgreSQL type: its text, which is compared where the database has an order for it
)

var kindNames = [...]string{"null", "boolean", "integer", "integer", "integer", "number", "number", "number", "string", "string",
	"date", "time", "timestamp", "duration", "uuid", "base64url string", "JSON value", "array", "object", "range", "text"}

// String names the kind as messages do.
func (k Kind) String() string { return kindNames[k] }

var edmNames = [...]string{"", "Edm.Boolean", "Edm.Int16", "Edm.Int32", "Edm.Int64", "Edm.Decimal", "Edm.Single", "Edm.Double",
	"Edm.String", "Edm.String",
	"Edm.Date", "Edm.TimeOfDay", "Edm.DateTimeOffset", "Edm.Duration", "Edm.Guid", "Edm.Binary", "Edm.Untyped", "Collection(Edm.Untyped)",
	"Edm.ComplexType", "Edm.ComplexType", "Edm.String"}

// EDM is the standard's name of the kind.
func (k Kind) EDM() string { return edmNames[k] }

// Article is what precedes the name of the kind: a or an.
func (k Kind) Article() string {
	switch k {
	case Int16, Int32, Int64, Collection, Complex:
		return "an"
	}
	return "a"
}

// Numeric reports whether arithmetic is possible.
func (k Kind) Numeric() bool { return k >= Int16 && k <= Double }

// Integer reports whether the kind has no fraction.
func (k Kind) Integer() bool { return k >= Int16 && k <= Int64 }

// Type is a kind with what limits its values.
type Type struct {
	Kind      Kind
	SQL       string   // the PostgreSQL type that a value is cast to, without modifiers: numeric, "harbour"."call_status"
	Values    []string // of an enum, in order
	Length    int      // characters at most, 0: no limit
	Fixed     bool     // char(n): padded with blanks
	Precision int      // of a decimal, 0: no limit
	Scale     int
	Local     bool      // a timestamp without time zone
	JSONB     bool      // jsonb, not json
	Multi     bool      // a multirange
	Ordered   bool      // of an opaque type: the database has an order for its values
	Quoted    bool      // of bodies: a whole number of 64 bits or a decimal is in quotes
	Element   *Type     // of collections and ranges
	Fields    []SubType // of complex types
	Catalog   *catalog.Type
}

// SubType is one field of a complex type, and its place in the composite value.
type SubType struct {
	Name string
	Type *Type
	At   int
}

// Parts are what a path names inside a value of the type: the fields of a composite type, the parts of a range. Others have none.
func (t *Type) Parts() []SubType {
	if t.Kind != Range || t.Multi {
		return t.Fields
	}
	return []SubType{{"lower", t.Element, 0}, {"upper", t.Element, 1}, {"bounds", StringType, 2}, {"empty", BooleanType, 3}}
}

// InStrings is the type as bodies have it whose large numbers are strings (JSON Format, 3.2).
func (t *Type) InStrings() *Type {
	out := *t
	switch t.Kind {
	case Int64, Decimal:
		out.Quoted = true
	case Collection, Range:
		out.Element = t.Element.InStrings()
	case Complex:
		out.Fields = slices.Clone(t.Fields)
		for i := range out.Fields {
			out.Fields[i].Type = out.Fields[i].Type.InStrings()
		}
	}
	return &out
}

// The types that expressions have without a column.
var (
	NullType     = &Type{Kind: Unknown, SQL: "text"}
	BooleanType  = &Type{Kind: Boolean, SQL: "boolean"}
	Int32Type    = &Type{Kind: Int32, SQL: "integer"}
	Int64Type    = &Type{Kind: Int64, SQL: "bigint"}
	DecimalType  = &Type{Kind: Decimal, SQL: "numeric"}
	DoubleType   = &Type{Kind: Double, SQL: "double precision"}
	StringType   = &Type{Kind: String, SQL: "text"}
	DateType     = &Type{Kind: Date, SQL: "date"}
	TimeType     = &Type{Kind: TimeOfDay, SQL: "time"}
	InstantType  = &Type{Kind: Instant, SQL: "timestamptz"}
	DurationType = &Type{Kind: Duration, SQL: "interval"}
	GUIDType     = &Type{Kind: GUID, SQL: "uuid"}
	BinaryType   = &Type{Kind: Binary, SQL: "bytea"}
)

var scalarKinds = map[string]Kind{
	"bool": Boolean, "int2": Int16, "int4": Int32, "int8": Int64, "oid": Int64, "numeric": Decimal, "float4": Single, "float8": Double,
	"text": String, "varchar": String, "bpchar": String, "citext": String, "name": String, "char": String,
	"date": Date, "time": TimeOfDay, "timestamp": Instant, "timestamptz": Instant, "interval": Duration,
	"uuid": GUID, "bytea": Binary, "json": JSON, "jsonb": JSON,
}

// TypeOf is how a column's type appears to callers.
func TypeOf(c *catalog.Type) *Type {
	t := &Type{SQL: castName(c.Base()), Catalog: c}
	b := c.Base()
	t.Length, t.Precision, t.Scale = b.Length, b.Precision, b.Scale
	switch b.Kind {
	case catalog.Enum:
		t.Kind, t.Values = Enum, b.Values
	case catalog.Array:
		t.Kind, t.Element = Collection, TypeOf(b.Element)
	case catalog.Composite:
		t.Kind = Complex
		for i, f := range b.Fields {
			t.Fields = append(t.Fields, SubType{f.Name, TypeOf(f.Type), i})
		}
	case catalog.Range:
		t.Kind, t.Element = Range, TypeOf(b.Element)
	case catalog.Multirange:
		t.Kind, t.Multi, t.Element = Range, true, TypeOf(b.Element.Element)
	default:
		kind, known := scalarKinds[b.Name]
		if !known {
			kind, t.Ordered = Opaque, b.Ordered
		}
		t.Kind = kind
		t.Fixed = b.Name == "bpchar"
		t.Local = b.Name == "timestamp"
		t.JSONB = b.Name == "jsonb"
		switch b.Name {
		case "char": // PostgreSQL, 8.3, of its internal types
			t.Length = 1
		case "name":
			t.Length = 63
		}
	}
	if t.Kind == Collection && t.Element.Kind == Opaque || t.Kind == Range && t.Element.Kind == Opaque {
		t.Kind = Opaque
	}
	if t.Kind == Complex {
		for _, f := range t.Fields {
			if f.Type.Kind == Opaque {
				t.Kind = Opaque
			}
		}
	}
	return t
}

// NamesRows reports whether values of the type can are in a path, as parts of keys do.
func (t *Type) NamesRows() bool {
	switch t.Kind {
	case JSON, Collection, Complex, Range:
		return false
	}
	return true
}

// castName is the type's name without modifiers, so that a cast never rounds or cuts a value in silence.
func castName(c *catalog.Type) string {
	switch {
	case c.Kind == catalog.Array && c.Element != nil:
		return castName(c.Element) + "[]"
	case c.Schema == "pg_catalog" && c.Name != "char" && c.Name != "bit": // without quotes, these have a length of one
		return c.Name
	case c.Schema == "":
		return c.SQL
	}
	return catalog.Quote(c.Schema) + "." + catalog.Quote(c.Name)
}

// claimTypes are the names of the types of claims.
var claimTypes = []string{"integer", "number", "text", "boolean", "uuid", "date"}

// typeWord is the name of a type here that another name stands for elsewhere.
func typeWord(name string) string {
	words := map[string]string{
		"int": "integer", "int4": "integer", "int8": "integer", "bigint": "integer", "string": "text", "varchar": "text",
		"bool": "boolean", "guid": "uuid", "decimal": "number", "numeric": "number", "float": "number", "double": "number", "datetime": "date",
	}
	if word := words[strings.ToLower(name)]; word != "" {
		return word
	}
	return name
}

// ClaimType is the type that a role's claims name, or nil.
func ClaimType(name string) *Type {
	switch name {
	case "integer":
		return Int64Type
	case "number":
		return DecimalType
	case "text":
		return StringType
	case "boolean":
		return BooleanType
	case "uuid":
		return GUIDType
	case "date":
		return DateType
	}
	return nil
}

// ParameterType is the type that a query's parameters name, or nil.
func ParameterType(name string) *Type {
	switch name {
	case "timestamp":
		return InstantType
	case "time":
		return TimeType
	case "duration":
		return DurationType
	}
	return ClaimType(name)
}

// String describes the type as messages do, with what limits it.
func (t *Type) String() string {
	switch {
	case t.Kind == Enum:
		return "one of " + quoteAll(t.Values)
	case t.Kind == String && t.Length > 0:
		return "string of at most " + strconv.Itoa(t.Length) + " characters"
	}
	return t.Kind.String()
}

func quoteAll(values []string) string {
	out := make([]byte, 0, 64)
	for i, v := range values {
		if i > 0 {
			out = append(out, ", "...)
		}
		out = strconv.AppendQuote(out, v)
	}
	return string(out)
}
