package change

import (
	"slices"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/syntax"
)

// Target is where a write leads.
type Target struct {
	Resource *model.Resource
	Path     []request.Place // to the row that is written, or to the one whose relation gets a new one
	Via      *model.Relation // of a create along a relation
	Versions []string        // one of which the row must have; nil: any
}

// Compiler makes changes for one caller.
type Compiler struct {
	Scope *access.Scope
	Refer func(ref string) (*request.Request, error) // reads a path that a body gives as @id

	change *Change
	err    error // the first refusal
}

// Create compiles the creation of a row and of what its body holds of its relations.
func (c *Compiler) Create(t Target, row *payload.Row) (*Change, error) {
	c.begin()
	n := c.node(t.Resource, "")
	n.fresh, n.nested = true, row.Nested
	n.insert = c.row(n, row)
	if t.Via != nil {
		near := c.node(t.Via.From, "")
		c.place(near, t.Path)
		c.lookUp(near, c.seen(near))
		own, there := t.Via.OwnFields(), t.Via.ThereFields()
		for i := range own {
			c.give(n.insert, "", there[i], c.value(near, own[i]))
		}
	}
	return c.finish(n, row)
}

// Update compiles the change or replacement of a row and of what its body holds of its relations.
func (c *Compiler) Update(t Target, row *payload.Row) (*Change, error) {
	c.begin()
	n := c.node(t.Resource, "")
	c.place(n, t.Path)
	n.nested = row.Nested
	n.update = c.row(n, row)
	n.update.Key, n.update.Defaults, n.update.Versions = n.key, row.Defaults, t.Versions
	return c.finish(n, row)
}

// UpdateUnder compiles the change of a row that writes the one that its relation leads to, which is the one that the answer shows.
func (c *Compiler) UpdateUnder(t Target, row *payload.Row) (*Change, error) {
	change, err := c.Update(t, row)
	if err != nil {
		return nil, err
	}
	change.Root = 1 // the first that the body holds
	change.Written = c.written(row.Nested[0].Items[0].Row.Nested)
	c.returned()
	return change, nil
}

// Delete compiles the deletion of a row.
func (c *Compiler) Delete(t Target) (*Change, error) {
	c.begin()
	n := c.node(t.Resource, "")
	c.place(n, t.Path)
	c.lookUp(n, n.find)
	c.step(&Step{Op: Delete, Resource: n.resource, Rows: []*Row{{ID: n.id, Key: n.key, Versions: t.Versions}}})
	return c.end(n.id)
}

func (c *Compiler) begin() { c.change, c.err = &Change{Root: -1}, nil }

func (c *Compiler) finish(n *node, row *payload.Row) (*Change, error) {
	c.level(n.resource, []*node{n}, nil)
	c.change.Written = c.written(row.Nested)
	return c.end(n.id)
}

func (c *Compiler) end(root int) (*Change, error) {
	c.change.Root = root
	if len(c.change.Steps) > 1 {
		c.returned()
		c.checkFinds()
	}
	if c.err != nil {
		return nil, c.err
	}
	return c.change, nil
}

// refuse keeps the first refusal and says where in the body it belongs.
func (c *Compiler) refuse(err error, at string) {
	if c.err == nil {
		c.err = fault.Within(err, at)
	}
}

// node is one row that a body speaks of, and the rows of steps that it becomes.
type node struct {
	id       int
	resource *model.Resource
	at       string
	key      []Value // where it is known before the row is written
	fresh    bool    // it is certainly a new one
	nested   []*payload.Nested

	find, update, insert, remove *Row

	linkedBy *model.Relation // the one that the row must be tied by to be changed
}

func (c *Compiler) node(r *model.Resource, at string) *node {
	c.change.rows++
	return &node{id: c.change.rows - 1, resource: r, at: at}
}

func (c *Compiler) row(n *node, row *payload.Row) *Row {
	out := &Row{ID: n.id, At: n.at, Fields: row.Fields, Values: make([]Value, len(row.Values))}
	for i, text := range row.Values {
		out.Values[i] = Literal(text)
	}
	return out
}

// value is a field of the row, once its steps have run.
func (c *Compiler) value(n *node, f *model.Field) Value {
	if i := slices.Index(n.resource.Key, f); i >= 0 && n.key != nil {
		return n.key[i]
	}
	return Value{Field: f, Of: n.id}
}

// keyValues are the values of the key of the row.
func (c *Compiler) keyValues(n *node) []Value {
	list := make([]Value, len(n.resource.Key))
	for i, k := range n.resource.Key {
		list[i] = c.value(n, k)
	}
	return list
}

// place gives a node the key of the row that a path leads to: the one that the path ends with, or that of the row found at its end.
func (c *Compiler) place(n *node, path []request.Place) {
	last := path[len(path)-1]
	if len(path) == 1 && last.Key != nil && !last.Alternate() {
		n.key = Literals(last.Key)
		return
	}
	n.find = &Row{ID: n.id, At: n.at}
	for _, p := range path {
		h := Hop{Resource: p.Resource, Via: p.Via}
		if p.Key != nil {
			h.Key, h.KeyOf = Literals(p.Key), p.KeyOf
		}
		n.find.Path = append(n.find.Path, h)
	}
	n.key = references(n)
}

func references(n *node) []Value {
	key := make([]Value, len(n.resource.Key))
	for i, k := range n.resource.Key {
		key[i] = Value{Field: k, Of: n.id}
	}
	return key
}

// step adds a step that has rows.
func (c *Compiler) step(s *Step) {
	if len(s.Rows) > 0 {
		c.change.Steps = append(c.change.Steps, s)
	}
}

func rowOf(r *Row) []*Row {
	if r == nil {
		return nil
	}
	return []*Row{r}
}

// level adds the steps of rows that stand under one relation, and of all below them: first what they hold, which gives them their
// fields, then the rows, then what holds them. before adds the steps that come before they are written.
func (c *Compiler) level(r *model.Resource, nodes []*node, before func()) {
	c.gather(Find, r, nodes, func(n *node) *Row { return n.find })
	relations := relationsOf(nodes)
	for _, rel := range relations {
		if rel.Holds() {
			c.heldByNear(rel, nodes)
		}
	}
	if before != nil {
		before()
	}
	c.gather(Update, r, nodes, func(n *node) *Row { return n.update })
	c.gather(Insert, r, nodes, func(n *node) *Row { return n.insert })
	for _, rel := range relations {
		switch {
		case rel.Through != nil:
			c.junction(rel, nodes)
		case !rel.Holds():
			c.heldByFar(rel, nodes)
		}
	}
}

// gather adds the step of one operation on the rows of a level, where there are any.
func (c *Compiler) gather(op Operation, r *model.Resource, nodes []*node, of func(*node) *Row) {
	var s *Step
	for _, n := range nodes {
		row := of(n)
		if row == nil {
			continue
		}
		if s == nil {
			s = &Step{Op: op, Resource: r}
			c.change.Steps = append(c.change.Steps, s)
		}
		s.Rows = append(s.Rows, row)
		if op == Update && n.linkedBy != nil {
			s.Relation = n.linkedBy
		}
	}
}

// written names the relations that a body writes, as far as the caller may read them.
func (c *Compiler) written(nested []*payload.Nested) (list []syntax.ExpandNode) {
	for _, n := range nested {
		if !c.Scope.MayFollow(n.Relation) {
			continue
		}
		i := slices.IndexFunc(list, func(e syntax.ExpandNode) bool { return e.Path.Name == n.Relation.Name })
		if i < 0 {
			i = len(list)
			list = append(list, syntax.ExpandNode{Path: syntax.SegmentNode{Name: n.Relation.Name}})
		}
		var below []*payload.Nested
		for _, item := range n.Items {
			if item.Row != nil {
				below = append(below, item.Row.Nested...)
			}
		}
		list[i].Options.Expand = c.written(below)
	}
	return list
}

// returned finds for each step the fields that others refer to.
func (c *Compiler) returned() {
	needed := map[int][]*model.Field{}
	for _, s := range c.change.Steps {
		for _, r := range s.Rows {
			if r.ID == c.change.Root && r.ID >= 0 && needed[r.ID] == nil {
				needed[r.ID] = slices.Clone(s.Resource.Key) // of the row that the answer shows
			}
		}
	}
	need := func(list ...Value) {
		for _, v := range list {
			if v.IsReference() && !slices.Contains(needed[v.Of], v.Field) {
				needed[v.Of] = append(needed[v.Of], v.Field)
			}
		}
	}
	for _, s := range c.change.Steps {
		for _, r := range s.Rows {
			need(r.Key...)
			need(r.Far...)
			need(r.Values...)
			need(r.LinkedTo...)
			for _, h := range r.Path {
				need(h.Key...)
			}
			for _, m := range r.Musts {
				need(m.Value, m.Is)
			}
		}
	}
	for _, s := range c.change.Steps {
		if s.Op == Delete || s.Op == Release || s.Op == Link {
			continue
		}
		for _, r := range s.Rows {
			for _, f := range needed[r.ID] {
				if !slices.Contains(s.Returned, f) {
					s.Returned = append(s.Returned, f)
				}
			}
		}
		slices.SortFunc(s.Returned, func(a, b *model.Field) int { return a.Index - b.Index })
	}
}

// checkFinds refuses to look up what the caller may not read.
func (c *Compiler) checkFinds() {
	for _, s := range c.change.Steps {
		if s.Op != Find {
			continue
		}
		for _, r := range s.Rows {
			for _, h := range r.Path {
				if err := c.Scope.CheckHop(h.Resource, h.Via); err != nil {
					c.refuse(err, r.At)
				}
			}
			for _, f := range s.Returned {
				if err := c.Scope.CheckField(f); err != nil {
					c.refuse(err, r.At)
				}
			}
		}
	}
}
