package change

import (
	"slices"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// item compiles one row that stands under a relation: it is there already, or a new one. alone says that nothing else asks whether a
// row that is only named is there.
func (c *Compiler) item(rel *model.Relation, it *payload.Item, parent *node, gives []supplied, alone bool) *node {
	n := c.node(rel.To, it.At)
	if it.Row != nil {
		n.nested = it.Row.Nested
	}
	switch {
	case it.Ref != "":
		c.named(n, rel, it.Ref)
	case it.Key != nil:
		n.key = c.key(n.resource, it, gives)
	case it.Current && !parent.fresh:
		n.find = &Row{ID: n.id, At: n.at, Path: []Hop{{Resource: rel.From, Key: c.keyValues(parent), KeyOf: rel.From.Key},
			{Resource: rel.To,
				Via: rel}},
			Optional: true}
		n.key = references(n)
	default:
		n.fresh = true
		n.insert = c.row(n, it.Row)
		return n
	}
	refused := c.unchangeable(it, n.resource, gives)
	if it.Ref != "" && refused != nil {
		c.refuse(refused, n.at)
		return n
	}
	writes := it.Row != nil && (len(it.Row.Fields) > 0 || len(it.Row.Nested) > 0) || it.Version != "" ||
		slices.ContainsFunc(gives, func(s supplied) bool { return !s.field.InKey })
	optional := it.Ref == ""
	if n.find == nil && (alone || optional || gives != nil) && (refused != nil || !writes || it.Version != "") {
		n.find = &Row{ID: n.id, At: n.at, Path: []Hop{{Resource: n.resource, Key: n.key, KeyOf: n.resource.Key}}, Optional: optional}
	}
	if refused == nil && writes {
		row := it.Row
		if row == nil {
			row = &payload.Row{}
		}
		n.update = c.row(n, row)
		n.update.Key, n.update.Optional = n.key, optional && n.find == nil
		if it.Version != "" {
			n.update.Versions = []string{it.Version}
		}
	}
	if n.find != nil {
		n.find.Refused = fault.Within(refused, n.at)
	}
	if optional {
		n.insert = c.otherwise(n, it, gives)
	}
	return n
}

// unchangeable is why the caller may not give a row that is there what an item and the row around it say; nil where it may.
func (c *Compiler) unchangeable(it *payload.Item, r *model.Resource, gives []supplied) error {
	d := c.Scope.For(window.Update, r)
	switch {
	case d == nil && (it.Row != nil || len(gives) > 0):
		return c.Scope.Refuse(window.Update, r)
	case it.Row != nil && r.IfMatch && it.Version == "":
		return versionNeeded(it.At, r)
	}
	for _, s := range gives {
		if !s.field.InKey && !d.Takes(s.field) {
			return fault.New(fault.Forbidden, "access.field", "role %q may not update %s of %s, which ties the row to the one around it",
				c.Scope.Name, s.field.Name, r.Name)
		}
	}
	return nil
}

func versionNeeded(at string, r *model.Resource) error {
	return fault.New(fault.VersionNeeded, "version.needed",
		"%s: %s is changed with its version alone: read the row with metadata=full, and send its @etag back; nothing was changed", at,
		r.Name).On(at)
}

// otherwise is the new row that an item becomes where there is none yet that it names.
func (c *Compiler) otherwise(n *node, it *payload.Item, gives []supplied) *Row {
	r := n.resource
	row, err := &payload.Row{}, error(nil)
	switch {
	case c.Scope.For(window.Create, r) == nil:
		err = c.Scope.Refuse(window.Create, r)
	case it.Key != nil && !r.KeyIsChosen():
		err = NoRow(r)
	default:
		fields := make([]*model.Field, len(gives))
		for i, s := range gives {
			fields[i] = s.field
		}
		row, err = it.New(r, c.Scope, nil, fields)
	}
	if err != nil {
		return &Row{ID: n.id, At: n.at, Else: true, Refused: fault.Within(err, n.at)}
	}
	out := c.row(n, row)
	out.Else = true
	return out
}

// NoRow says that a row is not there.
func NoRow(r *model.Resource) error {
	return fault.New(fault.NotFound, "row.none", "there is no such row of %s, or none that you may see", r.Name).On(r.Name)
}

// named finds the row that an @id names.
func (c *Compiler) named(n *node, rel *model.Relation, ref string) {
	path, err := c.reference(rel.Name, rel.To, ref)
	switch {
	case err != nil:
		c.refuse(err, n.at)
	case len(rel.To.Key) == 0:
		c.refuse(fault.New(fault.Invalid, "key.none", "%s has no key, so its rows can't be written", rel.To.Name).On(rel.To.Name), n.at)
	default:
		c.place(n, path)
	}
}

// reference reads what an @id refers to: one row of a resource.
func (c *Compiler) reference(what string, to *model.Resource, ref string) ([]request.Place, error) {
	at, err := c.Refer(ref)
	if err != nil {
		return nil, err
	}
	defer at.Release()
	if at.Resource != to || !at.Single || at.View != query.Rows || at.Field != nil || at.Filtered() {
		return nil, fault.New(fault.Invalid, "link.target", "%s leads to rows of %s, and %q is none; write %s/…", what, to.Name, ref,
			to.Name).On("@id")
	}
	return at.Places()
}

// key is the key that an item names; where the row around it gives a part, that is a part of it.
func (c *Compiler) key(r *model.Resource, it *payload.Item, gives []supplied) []Value {
	key := make([]Value, len(it.Key))
	for i, k := range r.Key {
		if string(it.Key[i]) == "null" {
			for _, s := range gives {
				if s.field == k {
					key[i] = s.value
				}
			}
			continue
		}
		text, err := payload.Text(it.Key[i], k.Type)
		if err != nil {
			c.refuse(err, it.At)
		}
		key[i] = Literal(text)
	}
	return key
}

// existing is an item that names a row, which must be there.
func (c *Compiler) existing(rel *model.Relation, it *payload.Item, gives []supplied) *node {
	n := c.node(rel.To, it.At)
	if it.Ref != "" {
		c.named(n, rel, it.Ref)
	} else {
		n.key = c.key(n.resource, it, gives)
	}
	return n
}

// unlinked compiles an item that is taken out of a relation that its row holds.
func (c *Compiler) unlinked(rel *model.Relation, it *payload.Item, gives []supplied) *node {
	n := c.existing(rel, it, gives)
	if err := c.releasable(rel); err != nil {
		c.refuse(err, n.at)
	}
	n.linkedBy = rel
	n.update = releasing(n, rel.ThereFields())
	n.update.LinkedTo = valuesOf(gives)
	return n
}

// releasing gives a row null in the fields that hold a relation.
func releasing(n *node, fields []*model.Field) *Row {
	row := &Row{ID: n.id, At: n.at, Key: n.key}
	for _, f := range fields {
		row.Fields, row.Values = append(row.Fields, f), append(row.Values, Literal(nil))
	}
	return row
}

// deleted compiles an item that is to be deleted, which must be tied to the row around it.
func (c *Compiler) deleted(rel *model.Relation, it *payload.Item, parent *node, tied []Value, gives []supplied) *node {
	n := c.existing(rel, it, gives)
	var refused error
	switch {
	case c.Scope.For(window.Delete, rel.To) == nil:
		refused = c.Scope.Refuse(window.Delete, rel.To)
	case rel.To.IfMatch && it.Version == "":
		refused = versionNeeded(it.At, rel.To)
	}
	if refused != nil {
		path := []Hop{{Resource: rel.From, Key: c.keyValues(parent), KeyOf: rel.From.Key},
			{Resource: rel.To, Via: rel, Key: n.key, KeyOf: rel.To.Key}}
		n.find = &Row{ID: n.id, At: n.at, Path: path, Refused: fault.Within(refused, n.at)}
		return n
	}
	n.remove = &Row{ID: n.id, At: n.at, Key: n.key, LinkedTo: tied}
	if it.Version != "" {
		n.remove.Versions = []string{it.Version}
	}
	return n
}

// supply gives a row a field that the rows around it settle.
func (c *Compiler) supply(n *node, at string, f *model.Field, v Value) {
	if !f.Nullable && v.Text == nil && !v.IsReference() {
		c.refuse(notNull(f, at), at)
		return
	}
	if f.InKey && n.key != nil && !n.fresh {
		row := n.update
		if row == nil {
			row = n.find
		}
		if row != nil {
			row.Musts = append(row.Musts, Must{SameKey, f, v, c.value(n, f), at})
		}
	} else if n.update != nil {
		c.give(n.update, at, f, v)
	}
	if n.insert != nil && n.insert.Refused == nil && !c.Scope.For(window.Create, n.resource).Presets(f) {
		c.give(n.insert, at, f, v)
	}
}

func notNull(f *model.Field, at string) error {
	return fault.New(fault.Conflict, "link.required", "%s: a row of %s can't be without %s; link it to another row; nothing was changed", at,
		f.Resource.Name, f.Name).On(at)
}

// give adds a field to a row; one that the body gives too must be the same.
func (c *Compiler) give(row *Row, at string, f *model.Field, v Value) {
	if !f.Nullable && v.IsReference() && v.Field.Nullable {
		row.Musts = append(row.Musts, Must{Reason: NotNull, Field: f, Value: v, At: at})
	}
	i, found := slices.BinarySearchFunc(row.Fields, f, func(a, b *model.Field) int { return a.Index - b.Index })
	if !found {
		row.Fields, row.Values = slices.Insert(slices.Clone(row.Fields), i, f), slices.Insert(row.Values, i, v)
		return
	}
	row.Musts = append(row.Musts, Must{SameAsAround, f, v, row.Values[i], at})
}
