// Package catalog is the picture of a database that everything else is bound to: schemas, tables, views, columns, types,
// keys, foreign keys, checks, indexes, comments and row estimates. It is a plain value; internal/postgres fills it, a
// release keeps it as JSON.
package catalog

import (
	"slices"
	"strings"
)

// Catalog is what introspection found, tables ordered by schema and name.
type Catalog struct {
	Database string        `json:"database"`
	Version  int           `json:"version"` // the server's, as server_version_num
	Tables   []*Table      `json:"tables"`
	Queries  []*NamedQuery `json:"queries,omitempty"`
}

// NamedQuery is a statement that a document names, as the database understands it.
type NamedQuery struct {
	Name    string    `json:"name"`
	SQL     string    `json:"sql"` // its parameters as $1, $2 …, each with its type
	Columns []*Column `json:"columns"`
	Mistake *Mistake  `json:"-"` // why the database refuses it
}

// Mistake is what the database says against a statement.
type Mistake struct {
	Message  string
	Position int // in characters, from 1; 0: none is told
}

// TableKind tells the sorts of relation apart.
type TableKind string

// The kinds of table.
const (
	Base             TableKind = "table"
	View             TableKind = "view"
	MaterializedView TableKind = "materialized view"
	Foreign          TableKind = "foreign table"
	FromQuery        TableKind = "named query" // no table: a statement that is read like one
)

// Table is a table, view, materialized view or foreign table.
type Table struct {
	OID         uint32       `json:"oid"`
	Schema      string       `json:"schema"`
	Name        string       `json:"name"`
	Kind        TableKind    `json:"kind"`
	Partitioned bool         `json:"partitioned,omitempty"` // its rows lie in other tables
	Insertable  bool         `json:"insertable,omitempty"`  // of views: by themselves or by a trigger
	Updatable   bool         `json:"updatable,omitempty"`
	Deletable   bool         `json:"deletable,omitempty"`
	Comment     string       `json:"comment,omitempty"`
	RowEstimate int64        `json:"row_estimate"` // -1: never analysed
	Columns     []*Column    `json:"columns"`
	Primary     []string     `json:"primary,omitempty"`
	Uniques     []Unique     `json:"uniques,omitempty"`
	ForeignKeys []ForeignKey `json:"foreign_keys,omitempty"`
	Checks      []Check      `json:"checks,omitempty"`
	Indexes     []Index      `json:"indexes,omitempty"`
}

// Column is one column; its type is complete down to the elements of arrays and the fields of composites.
type Column struct {
	Name      string `json:"name"`
	Type      *Type  `json:"type"`
	NotNull   bool   `json:"not_null,omitempty"`
	Default   string `json:"default,omitempty"`
	Generated bool   `json:"generated,omitempty"`
	// Expression is what a generated column is generated from, as the server prints it.
	Expression string   `json:"expression,omitempty"`
	ReadOnly   bool     `json:"read_only,omitempty"` // of a view: its statement computes it
	Identity   Identity `json:"identity,omitempty"`
	Comment    string   `json:"comment,omitempty"`
}

// Identity says how an identity column is filled.
type Identity string

// The kinds of identity column.
const (
	NoIdentity Identity = ""
	ByDefault  Identity = "by default"
	Always     Identity = "always"
)

// TypeKind tells the sorts of type apart.
type TypeKind string

// The kinds of type.
const (
	Scalar     TypeKind = "base"
	Enum       TypeKind = "enum"
	Domain     TypeKind = "domain"
	Composite  TypeKind = "composite"
	Array      TypeKind = "array"
	Range      TypeKind = "range"
	Multirange TypeKind = "multirange"
)

// Type is a column's type with its modifiers. Length, Precision and Scale are 0 where they are not limited.
type Type struct {
	OID       uint32    `json:"oid"`
	Kind      TypeKind  `json:"kind"`
	Schema    string    `json:"schema,omitempty"`
	Name      string    `json:"name"`              // the type's own name in pg_type: int4, call_status
	SQL       string    `json:"sql"`               // as SQL writes it, modifiers and all: numeric(4,2)
	Element   *Type     `json:"element,omitempty"` // of arrays and ranges; what a domain is based on
	Values    []string  `json:"values,omitempty"`  // of enums, in order
	Fields    []*Column `json:"fields,omitempty"`  // of composites
	Length    int       `json:"length,omitempty"`
	Precision int       `json:"precision,omitempty"`
	Scale     int       `json:"scale,omitempty"`
	NotNull   bool      `json:"not_null,omitempty"` // of domains
	Checks    []Check   `json:"checks,omitempty"`   // of domains
	Ordered   bool      `json:"ordered,omitempty"`  // the database has an order for its values
}

// Unique is a unique constraint or index over plain columns, without a condition.
type Unique struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
}

// ForeignKey leads from columns of its table to columns of another one.
type ForeignKey struct {
	Name      string   `json:"name"`
	Columns   []string `json:"columns"`
	ToSchema  string   `json:"to_schema"`
	ToTable   string   `json:"to_table"`
	ToColumns []string `json:"to_columns"`
}

// Check is a check constraint; Expression is SQL as the server prints it.
type Check struct {
	Name       string   `json:"name"`
	Expression string   `json:"expression"`
	Columns    []string `json:"columns,omitempty"`
}

// Index is an index; a column that is an expression stands as "".
type Index struct {
	Name       string   `json:"name"`
	Method     string   `json:"method"`
	Columns    []string `json:"columns"`
	Unique     bool     `json:"unique,omitempty"`
	Partial    bool     `json:"partial,omitempty"`
	Expression string   `json:"expression,omitempty"` // of its one column, where that is an expression
	Definition string   `json:"definition"`
}

// Find is the table of that schema and name, or nil.
func (c *Catalog) Find(schema, name string) *Table {
	for _, t := range c.Tables {
		if t.Name == name && t.Schema == schema {
			return t
		}
	}
	return nil
}

// Column is the column of that name, or nil.
func (t *Table) Column(name string) *Column {
	for _, c := range t.Columns {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// Writable reports whether the relation is one whose rows can be added, changed and deleted: a table.
func (t *Table) Writable() bool { return t.Kind == Base || t.Kind == Foreign }

// Inserts reports whether rows can be added: to tables, and to views that the database can write through.
func (t *Table) Inserts() bool { return t.Writable() || t.Insertable }

// Updates reports whether rows can be changed.
func (t *Table) Updates() bool { return t.Writable() || t.Updatable }

// Deletes reports whether rows can be deleted.
func (t *Table) Deletes() bool { return t.Writable() || t.Deletable }

// String is schema.name, as people read it.
func (t *Table) String() string { return t.Schema + "." + t.Name }

// QualifiedName is schema.name, quoted where SQL asks for it.
func (t *Table) QualifiedName() string { return Quote(t.Schema) + "." + Quote(t.Name) }

// Indexed reports whether an index of the table begins with the columns, in any order.
func (t *Table) Indexed(columns ...string) bool {
	begins := func(list []string) bool {
		return len(list) >= len(columns) && !slices.ContainsFunc(list[:len(columns)], func(c string) bool { return !slices.Contains(columns, c) })
	}
	return begins(t.Primary) || slices.ContainsFunc(t.Indexes, func(ix Index) bool { return !ix.Partial && begins(ix.Columns) })
}

// String is the columns, and those that they lead to.
func (k ForeignKey) String() string {
	return strings.Join(k.Columns, ", ") + " → " + k.ToSchema + "." + k.ToTable + " (" + strings.Join(k.ToColumns, ", ") + ")"
}

// String is the method and the columns, without the names of the index and the table.
func (ix Index) String() string {
	if _, rest, found := strings.Cut(ix.Definition, " USING "); found {
		return rest
	}
	return ix.Method + " (" + strings.Join(ix.Columns, ", ") + ")"
}

// MayBeNull reports whether null is among the column's values.
func (c *Column) MayBeNull() bool { return !c.NotNull && !c.Type.NotNull }

// Filled reports whether the database alone gives the column its values.
func (c *Column) Filled() bool { return c.Generated || c.ReadOnly || c.Identity == Always }

// Required reports whether no row can be added without a value for the column. A domain may have a default of its own, which the catalog
// does not hold, so the database decides there.
func (c *Column) Required() bool {
	return !c.MayBeNull() && !c.Filled() && c.Default == "" && c.Identity == NoIdentity && c.Type.Kind != Domain
}

// Base is the type itself, or what a domain is based on, however deep.
func (t *Type) Base() *Type {
	for t.Kind == Domain {
		t = t.Element
	}
	return t
}

// Quote makes an SQL identifier of any name. Names are always quoted: no list of reserved words can then be out of date.
func Quote(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}
