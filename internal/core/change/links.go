package change

import (
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// Link compiles that the row of the path is tied along a relation to the one that ref names (Protocol, 11.4.6).
func (c *Compiler) Link(t Target, ref string) (*Change, error) {
	c.begin()
	path, err := c.reference(t.Via.Name, t.Via.To, ref)
	if err != nil {
		return nil, err
	}
	return c.links(t, path, Add)
}

// Unlink compiles that they are tied no more. far is the way to the row at the far end, nil where the relation leads to one.
func (c *Compiler) Unlink(t Target, far []request.Place) (*Change, error) {
	c.begin()
	return c.links(t, far, Remove)
}

// Far is the way to a row at the far end of a relation that ref names.
func (c *Compiler) Far(rel *model.Relation, ref string) ([]request.Place, error) {
	return c.reference(rel.Name, rel.To, ref)
}

func (c *Compiler) links(t Target, path []request.Place, act Act) (*Change, error) {
	rel := t.Via
	if err := c.Scope.CheckLink(rel); err != nil {
		return nil, err
	}
	near, far := c.node(rel.From, ""), c.node(rel.To, "")
	c.place(near, t.Path)
	if path != nil {
		c.place(far, path)
	}
	if rel.Through != nil {
		c.lookUp(near, near.find)
		c.lookUp(far, far.find)
		c.step(&Step{Op: Link, Resource: rel.To, Relation: rel,
			Rows: []*Row{{ID: far.id, Act: act, Key: c.keyValues(near), Far: c.keyValues(far)}}})
		return c.end(-1)
	}
	holder, other, fields, source := near, far, rel.OwnFields(), rel.ThereFields()
	if !rel.Holds() {
		holder, other, fields, source = far, near, source, fields
	}
	c.lookUp(holder, holder.find)
	update := &Step{Op: Update, Resource: holder.resource}
	switch {
	case act == Add:
		c.lookUp(other, c.seen(other))
		row := &Row{ID: holder.id, Key: holder.key}
		for i, f := range fields {
			c.give(row, "", f, Value{Field: source[i], Of: other.id})
		}
		update.Rows = []*Row{row}
	case path != nil: // it must be tied to be untied
		c.lookUp(near, c.seen(near))
		row := releasing(holder, fields)
		for _, f := range source {
			row.LinkedTo = append(row.LinkedTo, Value{Field: f, Of: near.id})
		}
		update.Rows, update.Relation = []*Row{row}, rel
	default:
		update.Rows = []*Row{releasing(holder, fields)}
	}
	if act == Remove {
		for _, f := range fields {
			if !f.Nullable {
				return nil, required(f)
			}
		}
	}
	c.step(update)
	return c.end(-1)
}

// seen looks a row up that must be there for the caller to see.
func (c *Compiler) seen(n *node) *Row {
	if n.find == nil {
		n.find = &Row{ID: n.id, At: n.at, Path: []Hop{{Resource: n.resource, Key: n.key, KeyOf: n.resource.Key}}}
	}
	return n.find
}

func (c *Compiler) lookUp(n *node, find *Row) {
	c.step(&Step{Op: Find, Resource: n.resource, Rows: rowOf(find)})
}

// Delta compiles the changes of a collection: rows that go, rows that are changed, and new ones (Protocol, 11.4.13).
func (c *Compiler) Delta(r *model.Resource, items []*payload.Item) (*Change, error) {
	c.begin()
	c.change.Delta = true
	remove, update, insert := &Step{Op: Delete, Resource: r}, &Step{Op: Update, Resource: r}, &Step{Op: Insert, Resource: r}
	named := make(map[string]string, len(items))
	for _, it := range items {
		n := c.node(r, it.At)
		key, err := c.deltaKey(r, it)
		if err == nil {
			err = twice(named, key, it.At)
		}
		if err == nil && key != nil && r.IfMatch && it.Version == "" {
			err = versionNeeded(it.At, r)
		}
		if err != nil {
			c.refuse(err, it.At)
			continue
		}
		row := &Row{ID: n.id, At: n.at}
		if it.Row != nil {
			row = c.row(n, it.Row)
		}
		if it.Version != "" {
			row.Versions = []string{it.Version}
		}
		if key == nil {
			insert.Rows = append(insert.Rows, row)
			continue
		}
		row.Key = Literals(key)
		if it.Removed != payload.NotRemoved {
			remove.Rows = append(remove.Rows, row)
			continue
		}
		fresh := c.deltaNew(n, it, key)
		granted := c.Scope.For(window.Update, r) != nil
		if granted {
			row.Optional = fresh != nil
			update.Rows = append(update.Rows, row)
		}
		switch {
		case fresh != nil:
			fresh.Else = granted
			insert.Rows = append(insert.Rows, fresh)
		case !granted:
			c.refuse(Missing(row, r), "")
		}
	}
	if len(remove.Rows) > 0 && c.Scope.For(window.Delete, r) == nil {
		c.refuse(c.Scope.Refuse(window.Delete, r), "")
	}
	c.step(remove)
	c.step(update)
	c.step(insert)
	return c.end(-1)
}

// deltaKey is the key of the row that an item names; nil of a new one.
func (c *Compiler) deltaKey(r *model.Resource, it *payload.Item) ([]string, error) {
	if it.Ref == "" {
		if it.Key == nil {
			return nil, nil
		}
		return payload.KeyTexts(r, it.Key)
	}
	at, err := c.Refer(it.Ref)
	if err != nil {
		return nil, err
	}
	defer at.Release()
	places, err := at.Places()
	if err != nil {
		return nil, err
	}
	if len(places) == 1 && places[0].Alternate() {
		return nil, fault.New(fault.Unsupported, "link.target", "in a change of many rows, @id has the key of %s: %s", r.Name,
			strings.Join(fieldNames(r.Key), ", "))
	}
	if at.Resource != r || len(places) != 1 || !at.Single || at.View != query.Rows || at.Field != nil || at.Filtered() {
		return nil, fault.New(fault.Invalid, "link.target", "%q is no row of %s; write %s/…", it.Ref, r.Name, r.Name)
	}
	return places[0].Key, nil
}

func fieldNames(fields []*model.Field) []string { return strings.Split(names(fields), ",") }

func twice(named map[string]string, key []string, at string) error {
	if key == nil {
		return nil
	}
	id := strings.Join(key, "\x00")
	if first := named[id]; first != "" {
		return fault.New(fault.Invalid, "row.twice", "%s: %s names this row already", at, first).On(at)
	}
	named[id] = at
	return nil
}

// deltaNew is the new row that an item becomes where there is none yet that it names; nil where it can't be one.
func (c *Compiler) deltaNew(n *node, it *payload.Item, key []string) *Row {
	if it.Version != "" || !c.Scope.MayName(n.resource) {
		return nil
	}
	row, err := it.New(n.resource, c.Scope, key, nil)
	if err != nil {
		return &Row{ID: n.id, At: n.at, Refused: fault.Within(err, n.at)}
	}
	return c.row(n, row)
}

// Missing is the fault of a row of a delta that is not there, or not in the version that is meant.
func Missing(row *Row, r *model.Resource) error {
	if row.Versions != nil {
		return fault.New(fault.VersionMismatch, "version.changed",
			"%s: the row of %s has changed since, or there is none any more that you may see. Read it again; nothing was changed", row.At,
			r.Name).On(row.At)
	}
	return fault.Within(NoRow(r), row.At)
}
