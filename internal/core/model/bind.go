package model

import (
	"fmt"
	"slices"
	"strings"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
)

// Bind makes the model of a document over a catalog. The error is a fault that tells every mistake with its place in the
// document.
func Bind(doc *window.Document, cat *catalog.Catalog) (*Model, error) {
	b := &binder{cat: cat, model: &Model{Name: doc.Window.Value, Document: doc, byName: map[string]*Resource{}}}
	for _, r := range doc.Resources {
		b.resource(r)
	}
	if doc.Follow {
		b.follow(doc)
	}
	b.relations(doc)
	for _, q := range doc.Queries {
		b.query(q)
	}
	for _, v := range doc.Views {
		b.savedView(v)
	}
	for _, r := range doc.Roles {
		b.role(r)
	}
	b.nameItems(doc)
	b.model.nameTypes()
	if err := b.mistakes.Fault(fault.Invalid, "document.invalid", "the window document does not fit the database:"); err != nil {
		return nil, err
	}
	return b.model, nil
}

type binder struct {
	cat      *catalog.Catalog
	model    *Model
	failed   []string // entries whose own mistake has been told
	mistakes fault.List
}

func (b *binder) addError(at window.Pos, code, format string, args ...any) {
	b.mistakes.Add(code, "", at.Line, at.Column, format, args...)
}

// table finds schema.name; a name alone is looked for in every schema and must are in one only.
func (b *binder) table(at window.Pos, name string) *catalog.Table {
	if schema, table, ok := strings.Cut(name, "."); ok {
		if t := b.cat.Find(schema, table); t != nil {
			return t
		}
	}
	var found []*catalog.Table
	var all []string
	for _, t := range b.cat.Tables {
		all = append(all, t.String())
		if t.Name == name {
			found = append(found, t)
		}
	}
	switch len(found) {
	case 1:
		return found[0]
	case 0:
		b.addError(at, "table.unknown", "the database %q has no table or view %q%s", b.cat.Database, name, fault.Suggest(name, all))
	default:
		b.addError(at, "table.ambiguous", "%q stands in the schemas %q and %q; write schema.name", name, found[0].Schema, found[1].Schema)
	}
	return nil
}

func (b *binder) resource(d *window.Resource) {
	from := d.From
	if from.Value == "" {
		from = d.Name
	}
	t := b.table(from.Pos, from.Value)
	if t == nil {
		b.failed = append(b.failed, d.Name.Value)
		return
	}
	r := &Resource{Model: b.model, Index: len(b.model.Resources), Name: d.Name.Value, About: d.About, Table: t, Order: d.Order, Page: d.Page,
		IfMatch: d.IfMatch, Deprecated: d.Deprecated,
		fields: map[string]*Field{}, relations: map[string]*Relation{}, Pos: d.Name.Pos}
	if r.About == "" {
		r.About = t.Comment
	}
	b.fields(r, d)
	b.key(r, d)
	b.operations(r, d)
	b.model.Resources = append(b.model.Resources, r)
	b.model.byName[r.Name] = r
	b.model.Deprecated = b.model.Deprecated || r.Deprecated != nil
}

// follow adds resources for the tables that the document does not name, in the schemas of those that it names, or in all of them where it
// names none. They have no place in the document.
func (b *binder) follow(doc *window.Document) {
	named, schemas := map[string]bool{}, map[string]bool{}
	for _, r := range b.model.Resources {
		named[r.Table.QualifiedName()], schemas[r.Table.Schema] = true, true
	}
	for _, r := range doc.Resources {
		for _, rel := range r.Relations {
			if rel.Through.Value != "" {
				if t := b.table(rel.Through.Pos, rel.Through.Value); t != nil {
					named[t.QualifiedName()] = true
				}
			}
		}
	}
	taken := map[string]bool{}
	for _, r := range doc.Resources {
		taken[r.Name.Value] = true
	}
	for _, v := range doc.Views {
		taken[v.Name.Value] = true
	}
	for _, q := range doc.Queries {
		taken[q.Name.Value] = true
	}
	for _, t := range b.cat.Tables {
		if named[t.QualifiedName()] || len(schemas) > 0 && !schemas[t.Schema] || t.Schema == "eager_window" {
			continue
		}
		b.resource(&window.Resource{Name: window.Text{Value: window.ResourceName(t, taken)}, From: window.Text{Value: t.String()},
			Page: window.DefaultPage})
	}
}

func (b *binder) fields(r *Resource, d *window.Resource) {
	said, renamed := map[string]*window.Field{}, map[string]*window.Field{}
	for _, f := range d.Fields {
		if r.Table.Column(f.Column.Value) == nil {
			b.addError(f.Column.Pos, "column.unknown", "%s has no column %q%s", d.Name.Value, f.Column.Value,
				fault.Suggest(f.Column.Value, columnNames(r.Table)))
			continue
		}
		said[f.Column.Value] = f
		if name := f.Name.Value; name != "" && !f.Hidden {
			if other := renamed[name]; other != nil {
				b.addError(f.Name.Pos, "name.taken", "%s has a field %q already, for column %q", r.Name, name, other.Column.Value)
			}
			renamed[name] = f
		}
	}
	for _, c := range r.Table.Columns {
		if isVector(c.Type) { // words to search for, which search looks into and nobody reads
			continue
		}
		f := &Field{Resource: r, Name: c.Name, Column: c, Type: TypeOf(c.Type), About: c.Comment, Checks: checksOf(r.Table, c)}
		named := false
		if s := said[c.Name]; s != nil {
			if s.Hidden {
				continue
			}
			if s.About != "" {
				f.About = s.About
			}
			f.Deprecated = s.Deprecated
			if s.Name.Value != "" {
				f.Name, named = s.Name.Value, true
			}
		}
		if !named {
			if other := renamed[c.Name]; other != nil {
				b.addError(other.Name.Pos, "name.taken", "%s has a field %q already, for the column of that name", r.Name, c.Name)
			}
			f.Name = freeName(toIdentifier(c.Name), func(n string) bool { return r.fields[n] != nil })
		}
		f.Nullable, f.ReadOnly, f.Required = c.MayBeNull(), c.Filled(), c.Required()
		f.Index = len(r.Fields)
		r.Fields = append(r.Fields, f)
		r.fields[f.Name] = f
	}
	r.Vectors = vectors(r, func(column string) bool { return said[column] != nil && said[column].Hidden })
}

func (b *binder) key(r *Resource, d *window.Resource) {
	var columns []string
	switch {
	case d.Key != nil:
		for _, k := range d.Key {
			f := r.fields[k.Value]
			if f == nil {
				b.addError(k.Pos, "field.unknown", "the key of %s names %q, which it does not have%s", r.Name, k.Value,
					fault.Suggest(k.Value, r.FieldNames()))
				continue
			}
			if !f.Type.NamesRows() {
				b.addError(k.Pos, "key.type", "the key of %s names %s, which is %s %s and can't stand in a path; "+
					"name other fields that tell its rows apart", r.Name, f.Name, f.Type.Kind.Article(), f.Type.Kind)
				continue
			}
			columns = append(columns, f.Column.Name)
		}
	default:
		columns = keyOf(r.Table)
	}
	for _, c := range columns {
		f := r.FieldOf(c)
		if f == nil { // a key that is not shown can't name rows
			r.Key = nil
			return
		}
		r.Key = append(r.Key, f)
	}
	for _, f := range r.Key {
		f.InKey = true
	}
}

// keyOf is the primary key of a table, or else one that is as good: columns of a unique constraint that are never null. What can't stand
// in a path names no rows.
func keyOf(t *catalog.Table) []string {
	keys := t.Uniques
	if t.Primary != nil {
		keys = slices.Concat([]catalog.Unique{{Columns: t.Primary}}, keys)
	}
	for _, k := range keys {
		if !slices.ContainsFunc(k.Columns, func(name string) bool {
			c := t.Column(name)
			return !c.NotNull || !TypeOf(c.Type).NamesRows()
		}) {
			return k.Columns
		}
	}
	return nil
}

func (b *binder) operations(r *Resource, d *window.Resource) {
	can := []window.Operation{window.Read}
	why := "it is a " + string(r.Table.Kind) + " that the database can't write through"
	if len(r.Key) == 0 {
		why = "it has no key, so no row can be named; give it a key to change and delete its rows"
	}
	for _, w := range []struct {
		op  window.Operation
		can bool
	}{{window.Create, r.Table.Inserts()}, {window.Update, r.Table.Updates() && len(r.Key) > 0},
		{window.Delete, r.Table.Deletes() && len(r.Key) > 0}} {
		if w.can {
			can = append(can, w.op)
		}
	}
	if d.Operations == nil {
		r.Operations = can
		return
	}
	for _, op := range d.Operations {
		if !slices.Contains(can, op) {
			b.addError(d.Name.Pos, "operation.impossible", "%s can't %s: %s", r.Name, op, why)
			continue
		}
		r.Operations = append(r.Operations, op)
	}
}

func (b *binder) role(d *window.Role) {
	if b.model.Role(d.Name.Value) != nil {
		return
	}
	role := &Role{Index: len(b.model.Roles), Name: d.Name.Value, About: d.About, Anonymous: d.Anonymous, Limits: d.Limits, Expect: d.Expect,
		Grants: map[*Resource]map[window.Operation]*Grant{}}
	for _, c := range d.Claims {
		t := ClaimType(c.Type.Value)
		if t == nil {
			b.addError(c.Type.Pos, "claim.type", "a claim is integer, number, text, boolean, uuid or date, not %q%s", c.Type.Value,
				fault.Meant(typeWord(c.Type.Value), claimTypes))
			continue
		}
		role.Claims = append(role.Claims, Claim{c.Name.Value, t})
	}
	var rest *window.Grant
	for _, g := range d.May {
		if g.Resource.Value == "*" {
			rest = g
			continue
		}
		r := b.model.byName[g.Resource.Value]
		if r == nil {
			if !slices.Contains(b.failed, g.Resource.Value) {
				b.addError(g.Resource.Pos, "resource.unknown", "role %s: there is no resource %q%s", role.Name, g.Resource.Value,
					fault.Suggest(g.Resource.Value, b.model.ResourceNames()))
			}
			continue
		}
		role.Grants[r] = b.grants(role, r, g, true)
	}
	if rest != nil {
		for _, r := range b.model.Resources {
			if _, own := role.Grants[r]; !own {
				role.Grants[r] = b.grants(role, r, rest, false)
			}
		}
	}
	b.model.Roles = append(b.model.Roles, role)
}

// grants binds one entry of may. An operation that the resource does not have is a mistake where the resource is named,
// and passed over where "*" means all.
func (b *binder) grants(role *Role, r *Resource, d *window.Grant, named bool) map[window.Operation]*Grant {
	grants := map[window.Operation]*Grant{}
	for _, a := range d.Allow {
		if !r.Can(a.Operation) {
			if named {
				b.addError(a.Pos, "operation.impossible", "role %s: %s can't %s; it can %s", role.Name, r.Name, a.Operation,
					joinOperations(r.Operations))
			}
			continue
		}
		if r.View != nil && (a.Fields != nil || a.Except != nil) {
			b.addError(a.Pos, "grant.invalid",
				"role %s: %s is a saved view, and a grant on it covers what it shows; leave out \"fields\" and \"except\"", role.Name, r.Name)
			continue
		}
		g := &Grant{Fields: make([]bool, len(r.Fields)), Rows: a.Rows, Pos: a.Pos}
		listed := make([]bool, len(r.Fields))
		for _, name := range append(slices.Clone(a.Fields), a.Except...) {
			f := r.fields[name.Value]
			if f == nil {
				b.addError(name.Pos, "field.unknown", "role %s: %s has no field %q%s", role.Name, r.Name, name.Value,
					fault.Suggest(name.Value, r.FieldNames()))
				continue
			}
			listed[f.Index] = true
		}
		for _, name := range a.Fields {
			if f := r.fields[name.Value]; f != nil && f.ReadOnly && (a.Operation == window.Create || a.Operation == window.Update) {
				b.addError(name.Pos, "field.readonly", "role %s: the database fills %s of %s, so nobody can %s it", role.Name, f.Name, r.Name,
					a.Operation)
			}
		}
		for i := range g.Fields {
			g.Fields[i] = a.Fields == nil && a.Except == nil || listed[i] == (a.Fields != nil)
		}
		for _, s := range a.Set {
			f := r.fields[s.Field.Value]
			if f == nil {
				b.addError(s.Field.Pos, "field.unknown", "role %s: %s has no field %q%s", role.Name, r.Name, s.Field.Value,
					fault.Suggest(s.Field.Value, r.FieldNames()))
				continue
			}
			if f.ReadOnly {
				b.addError(s.Field.Pos, "field.readonly", "role %s: the database fills %s of %s, so it can't be set", role.Name, f.Name, r.Name)
				continue
			}
			g.Set = append(g.Set, Preset{f, s.Value})
			g.Fields[f.Index] = false
		}
		grants[a.Operation] = g
	}
	return grants
}

func joinOperations(ops []window.Operation) string {
	s := make([]string, len(ops))
	for i, o := range ops {
		s[i] = string(o)
	}
	return strings.Join(s, ", ")
}

func columnNames(t *catalog.Table) []string {
	names := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		names[i] = c.Name
	}
	return names
}

// toIdentifier makes a name that the query language can say of any column name: what is no letter, digit or underscore
// becomes an underscore.
func toIdentifier(column string) string {
	if window.IsName(column) {
		return column
	}
	var b strings.Builder
	for i, c := range column {
		s := string(c)
		switch {
		case window.IsName("x" + s):
			if i == 0 && !window.IsName(s) {
				b.WriteByte('_')
			}
			b.WriteString(s)
		default:
			b.WriteByte('_')
		}
	}
	name := b.String()
	if len(name) > 120 {
		name = name[:120]
	}
	if !window.IsName(name) {
		return "column"
	}
	return name
}

// freeName is the name, or the name with the first number from 2 that nothing else has.
func freeName(name string, taken func(string) bool) string {
	free := name
	for n := 2; taken(free); n++ {
		free = fmt.Sprintf("%s_%d", name, n)
	}
	return free
}
