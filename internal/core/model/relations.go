package model

import (
	"slices"
	"strings"

	"github.com/jinzhu/inflection"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
)

// relations infers a relation in both directions for every foreign key between exposed tables and for every plain
// junction, lets the document rename, describe, hide and add, and gives the rest names.
//
// Names: to one, the foreign key's column without _id or _code; to many, the other resource's name; to one from the far
// side of a key that is unique, the other resource's name in the singular. Where two would have one name, "_by_" and the
// to-one name are added.
func (b *binder) relations(doc *window.Document) {
	var inferred []*Relation
	for _, r := range b.model.Resources {
		for i := range r.Table.ForeignKeys {
			inferred = append(inferred, b.fromForeignKey(r, &r.Table.ForeignKeys[i])...)
		}
	}
	for _, t := range b.cat.Tables {
		inferred = append(inferred, b.fromJunction(t)...)
	}
	said := map[*Resource][]*window.Relation{}
	for _, d := range doc.Resources {
		if r := b.model.byName[d.Name.Value]; r != nil {
			said[r] = d.Relations
		}
	}
	// Names as they would be without the document come first: the document speaks of them.
	counts := map[*Resource]map[string]int{}
	for _, rel := range inferred {
		if counts[rel.From] == nil {
			counts[rel.From] = map[string]int{}
		}
		counts[rel.From][rel.Name]++
	}
	for _, rel := range inferred {
		if rel.back && counts[rel.From][rel.Name] > 1 && rel.From != rel.To {
			rel.Name = byName(rel)
		}
	}
	for _, r := range b.model.Resources {
		var own []*Relation
		for _, rel := range inferred {
			if rel.From == r {
				own = append(own, rel)
			}
		}
		b.nameRelations(r, own, said[r])
	}
}

// byName tells apart the far sides of several keys between the same tables: vessels_by_home_port.
func byName(rel *Relation) string { return rel.Name + "_by_" + toOneName(rel.ForeignKey, rel.From) }

func (b *binder) nameRelations(r *Resource, inferred []*Relation, said []*window.Relation) {
	hidden := map[*Relation]bool{}
	taken := map[string]bool{}
	for _, d := range said {
		if r.fields[d.Name.Value] != nil {
			b.addError(d.Name.Pos, "name.taken", "%s has a field %q, so a relation can't have that name", r.Name, d.Name.Value)
		}
		taken[d.Name.Value] = true
	}
	for _, d := range said {
		rel := b.declared(r, d, inferred)
		if rel == nil {
			continue
		}
		hidden[rel] = true // from the inferred ones: it is settled here
		if d.Hidden {
			continue
		}
		rel.Name = d.Name.Value
		if d.About != "" {
			rel.About = d.About
		}
		r.Relations = append(r.Relations, rel)
		r.relations[rel.Name] = rel
	}
	for _, rel := range inferred {
		if hidden[rel] {
			continue
		}
		if r.fields[rel.Name] != nil {
			rel.Name += "_" + inflection.Singular(rel.To.Name)
		}
		rel.Name = freeName(rel.Name, func(n string) bool { return taken[n] || r.fields[n] != nil || r.relations[n] != nil })
		r.Relations = append(r.Relations, rel)
		r.relations[rel.Name] = rel
	}
}

// declared finds the inferred relation that an entry speaks of, by what it leads to and how or else by name, or makes a new one.
func (b *binder) declared(r *Resource, d *window.Relation, inferred []*Relation) *Relation {
	if d.To.Value == "" {
		for _, rel := range inferred {
			if rel.Name == d.Name.Value {
				return rel
			}
		}
		names := make([]string, len(inferred))
		for i, rel := range inferred {
			names[i] = rel.Name
		}
		b.addError(d.Name.Pos, "relation.unknown", "no foreign key gives %s a relation %q%s; to add one, say \"to\" and \"on\"", r.Name,
			d.Name.Value, fault.Suggest(d.Name.Value, names))
		return nil
	}
	to := b.model.byName[d.To.Value]
	if to == nil {
		b.addError(d.To.Pos, "resource.unknown", "relation %q leads to %q, which is no resource%s", d.Name.Value, d.To.Value,
			fault.Suggest(d.To.Value, b.model.ResourceNames()))
		return nil
	}
	if d.Through.Value != "" {
		return b.throughDeclared(r, to, d, inferred)
	}
	var pairs []Pair
	for _, p := range d.On {
		own, there := r.columnNamed(p.Own.Value), to.columnNamed(p.There.Value)
		if own == nil {
			b.addError(p.Own.Pos, "column.unknown", "%s has no column %q%s", r.Name, p.Own.Value, fault.Suggest(p.Own.Value, columnNames(r.Table)))
		}
		if there == nil {
			b.addError(p.There.Pos, "column.unknown", "%s has no column %q%s", to.Name, p.There.Value,
				fault.Suggest(p.There.Value, columnNames(to.Table)))
		}
		if own == nil || there == nil {
			return nil
		}
		if !canCompare(own.Type, there.Type) {
			b.addError(p.Own.Pos, "relation.types", "relation %q compares %s of %s, which is %s, with %s of %s, which is %s; name columns of like "+
				"types", d.Name.Value, own.Name, r.Name, own.Type.SQL, there.Name, to.Name, there.Type.SQL)
			return nil
		}
		pairs = append(pairs, Pair{own.Name, there.Name})
	}
	var same []*Relation
	for _, rel := range inferred {
		if rel.To == to && rel.Through == nil && (len(pairs) == 0 || slices.Equal(rel.Pairs, pairs)) {
			same = append(same, rel)
		}
	}
	if len(same) == 1 || len(same) > 1 && len(pairs) > 0 {
		return same[0]
	}
	if len(pairs) == 0 {
		b.addError(d.Name.Pos, "relation.invalid",
			"relation %q does not say how rows of %s and %s belong together: add \"on\" with a column of each", d.Name.Value, r.Name, to.Name)
		return nil
	}
	rel := &Relation{From: r, To: to, Pairs: pairs, About: to.About, Many: !isUnique(to.Table, thereColumns(pairs))}
	return rel
}

func (b *binder) throughDeclared(r, to *Resource, d *window.Relation, inferred []*Relation) *Relation {
	junction := b.table(d.Through.Pos, d.Through.Value)
	if junction == nil {
		return nil
	}
	for _, rel := range inferred {
		if rel.To == to && rel.Through != nil && rel.Through.Table == junction {
			return rel
		}
	}
	var near, far *catalog.ForeignKey
	for i := range junction.ForeignKeys {
		k := &junction.ForeignKeys[i]
		switch {
		case near == nil && leadsTo(k, r.Table):
			near = k
		case far == nil && leadsTo(k, to.Table):
			far = k
		}
	}
	if near == nil || far == nil {
		b.addError(d.Through.Pos, "relation.invalid", "%s has no foreign keys to both %s and %s", d.Through.Value, r.Name, to.Name)
		return nil
	}
	return throughJunction(junction, r, near, to, far)
}

func (b *binder) fromForeignKey(r *Resource, k *catalog.ForeignKey) []*Relation {
	var out []*Relation
	for _, to := range b.model.Resources {
		if !leadsTo(k, to.Table) {
			continue
		}
		one := &Relation{Name: toOneName(k, to), From: r, To: to, About: to.About, Required: true, ForeignKey: k}
		back := &Relation{Name: r.Name, From: to, To: r, About: r.About, Many: true, ForeignKey: k, back: true}
		for i, c := range k.Columns {
			one.Pairs = append(one.Pairs, Pair{c, k.ToColumns[i]})
			back.Pairs = append(back.Pairs, Pair{k.ToColumns[i], c})
			one.Required = one.Required && r.Table.Column(c).NotNull
		}
		if isUnique(r.Table, k.Columns) {
			back.Many, back.Name = false, inflection.Singular(r.Name)
		}
		if r.Table == to.Table {
			back.Name = byName(back)
		}
		out = append(out, one, back)
	}
	return out
}

// fromJunction makes a pair of relations of a table that holds nothing but two foreign keys.
func (b *binder) fromJunction(t *catalog.Table) []*Relation {
	if len(t.ForeignKeys) != 2 || len(t.Primary) == 0 {
		return nil
	}
	first, second := &t.ForeignKeys[0], &t.ForeignKeys[1]
	columns := append(slices.Clone(first.Columns), second.Columns...)
	if len(columns) != len(t.Columns) || !sameSet(columns, t.Primary) {
		return nil
	}
	var out []*Relation
	for _, a := range b.model.Resources {
		for _, z := range b.model.Resources {
			if leadsTo(first, a.Table) && leadsTo(second, z.Table) {
				out = append(out, throughJunction(t, a, first, z, second), throughJunction(t, z, second, a, first))
			}
		}
	}
	return out
}

func throughJunction(t *catalog.Table, from *Resource, near *catalog.ForeignKey, to *Resource, far *catalog.ForeignKey) *Relation {
	rel := &Relation{Name: to.Name, From: from, To: to, About: to.About, Many: true, Through: &Junction{Table: t}}
	for i, c := range near.Columns {
		rel.Pairs = append(rel.Pairs, Pair{near.ToColumns[i], c})
	}
	for i, c := range far.Columns {
		rel.Through.There = append(rel.Through.There, Pair{c, far.ToColumns[i]})
	}
	return rel
}

// toOneName is the foreign key's column without _id or _code, or the other resource in the singular for a composite key.
func toOneName(k *catalog.ForeignKey, to *Resource) string {
	if len(k.Columns) > 1 {
		return inflection.Singular(to.Name)
	}
	c := k.Columns[0]
	for _, tail := range []string{"_id", "_code", "Id", "ID"} {
		if short := strings.TrimSuffix(c, tail); short != c && short != "" {
			return toIdentifier(short)
		}
	}
	return toIdentifier(c)
}

// canCompare reports whether PostgreSQL compares values of two types by itself.
func canCompare(a, b *catalog.Type) bool {
	like := func(t *catalog.Type) string {
		switch name := t.Base().Name; name {
		case "int2", "int4", "int8", "numeric", "float4", "float8", "oid":
			return "number"
		case "text", "varchar", "bpchar", "name", "citext":
			return "text"
		case "date", "timestamp", "timestamptz":
			return "time"
		}
		return ""
	}
	return a.Base().OID == b.Base().OID || like(a) != "" && like(a) == like(b)
}

// columnNamed finds a column by its own name or by its field's.
func (r *Resource) columnNamed(name string) *catalog.Column {
	if c := r.Table.Column(name); c != nil {
		return c
	}
	if f := r.fields[name]; f != nil {
		return f.Column
	}
	return nil
}

func leadsTo(k *catalog.ForeignKey, t *catalog.Table) bool {
	return k.ToSchema == t.Schema && k.ToTable == t.Name
}

// Alternates are the keys that name a row besides the resource's own (CSDL, Core.AlternateKeys): the unique constraints of its table, as
// far as their columns are shown and can be in a path.
func (r *Resource) Alternates() [][]*Field {
	if r.View != nil || r.Query != nil || r.Derived || len(r.Key) == 0 {
		return nil
	}
	var list [][]*Field
	candidates := append([]catalog.Unique{{Columns: r.Table.Primary}}, r.Table.Uniques...)
	for _, u := range candidates {
		key := make([]*Field, 0, len(u.Columns))
		for _, name := range u.Columns {
			if f := r.FieldOf(name); f != nil && f.Type.NamesRows() {
				key = append(key, f)
			}
		}
		if len(key) > 0 && len(key) == len(u.Columns) && !sameFields(key, r.Key) {
			list = append(list, key)
		}
	}
	return list
}

func sameFields(a, b []*Field) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(f *Field) bool { return !slices.Contains(b, f) })
}

// KeyIsUnique reports whether a constraint keeps two rows from having the same key.
func (r *Resource) KeyIsUnique() bool {
	columns := make([]string, len(r.Key))
	for i, k := range r.Key {
		columns[i] = k.Column.Name
	}
	return isUnique(r.Table, columns)
}

// isUnique reports whether at most one row can have the same values in the columns.
func isUnique(t *catalog.Table, columns []string) bool {
	subset := func(key []string) bool {
		return len(key) > 0 && !slices.ContainsFunc(key, func(c string) bool { return !slices.Contains(columns, c) })
	}
	return subset(t.Primary) || slices.ContainsFunc(t.Uniques, func(u catalog.Unique) bool { return subset(u.Columns) })
}

func thereColumns(pairs []Pair) []string {
	out := make([]string, len(pairs))
	for i, p := range pairs {
		out[i] = p.There
	}
	return out
}

func sameSet(a, b []string) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(s string) bool { return !slices.Contains(b, s) })
}
