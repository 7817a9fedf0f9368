package change

import (
	"encoding/json"
	"slices"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/syntax"
	"eagerwindow/internal/core/window"
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
	if len(path) == 1 && last.Key != nil {
		n.key = Literals(last.Key)
		return
	}
	n.find = &Row{ID: n.id, At: n.at}
	for _, p := range path {
		h := Hop{Resource: p.Resource, Via: p.Via}
		if p.Key != nil {
			h.Key = Literals(p.Key)
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

// relationsOf are those that the rows write, in the order of the body.
func relationsOf(nodes []*node) (list []*model.Relation) {
	for _, n := range nodes {
		for _, ne := range n.nested {
			if !slices.Contains(list, ne.Relation) {
				list = append(list, ne.Relation)
			}
		}
	}
	return list
}

// under visits what the rows say of one relation.
func under(rel *model.Relation, nodes []*node, visit func(*node, *payload.Nested)) {
	for _, n := range nodes {
		for _, ne := range n.nested {
			if ne.Relation == rel {
				visit(n, ne)
			}
		}
	}
}

// heldByNear adds the steps of a relation that the rows hold in fields of their own.
func (c *Compiler) heldByNear(rel *model.Relation, nodes []*node) {
	own, there := rel.OwnFields(), rel.ThereFields()
	var parents, children []*node
	under(rel, nodes, func(n *node, ne *payload.Nested) {
		if len(ne.Items) > 0 {
			parents = append(parents, n)
			children = append(children, c.item(rel, ne.Items[0], n, nil, true))
			return
		}
		at := within(n.at, rel.Name)
		for _, f := range own {
			c.supply(n, at, f, Literal(nil))
		}
	})
	c.level(rel.To, children, nil)
	for i, child := range children {
		for k, f := range own {
			c.supply(parents[i], child.at, f, c.value(child, there[k]))
		}
	}
}

func within(at, name string) string {
	if at == "" {
		return name
	}
	return at + "/" + name
}

// supplied is a field that the row around an item gives it, and its value.
type supplied struct {
	field *model.Field
	value Value
}

// around is what a row gives those that hold the relation to it.
func (c *Compiler) around(n *node, rel *model.Relation) []supplied {
	own, there := rel.OwnFields(), rel.ThereFields()
	list := make([]supplied, len(own))
	for i := range own {
		list[i] = supplied{there[i], c.value(n, own[i])}
	}
	return list
}

// heldByFar adds the steps of a relation that the rows at its far end hold.
func (c *Compiler) heldByFar(rel *model.Relation, nodes []*node) {
	var children []*node
	remove := &Step{Op: Delete, Resource: rel.To, Relation: rel}
	release := &Step{Op: Release, Resource: rel.To, Relation: rel, Refused: c.releasable(rel)}
	under(rel, nodes, func(n *node, ne *payload.Nested) {
		gives := c.around(n, rel)
		set := !ne.Delta && !n.fresh
		c.follow(rel, n, ne)
		for _, item := range ne.Items {
			var child *node
			switch item.Removed {
			case payload.Unlinked:
				child = c.unlinked(rel, item, gives)
			case payload.Deleted:
				child = c.deleted(rel, item, n, valuesOf(gives), gives)
			default:
				child = c.item(rel, item, n, gives, false)
				for _, s := range gives {
					c.supply(child, child.at, s.field, s.value)
				}
				set = set && !item.Current // what a relation to one leads to is changed, not left out
			}
			children = append(children, child)
			remove.Rows = append(remove.Rows, rowOf(child.remove)...)
		}
		if set {
			release.Rows = append(release.Rows, &Row{ID: -1, At: within(n.at, rel.Name), LinkedTo: valuesOf(gives)})
		}
	})
	if len(release.Rows) > 0 {
		release.Rows = append(release.Rows, kept(children)...)
	}
	c.level(rel.To, children, func() {
		c.step(remove)
		c.step(release)
	})
}

func valuesOf(list []supplied) []Value {
	values := make([]Value, len(list))
	for i, s := range list {
		values[i] = s.value
	}
	return values
}

// kept are the rows that sets name.
func kept(children []*node) (rows []*Row) {
	for _, n := range children {
		if n.key != nil && n.remove == nil {
			rows = append(rows, &Row{ID: n.id, At: n.at, Key: n.key, Optional: true})
		}
	}
	return rows
}

// follow refuses what tells which rows belong together where the caller may not know it: a set, which leaves rows out, and what must be
// tied to be removed.
func (c *Compiler) follow(rel *model.Relation, n *node, ne *payload.Nested) {
	set := !ne.Delta && !n.fresh
	if set || slices.ContainsFunc(ne.Items, func(it *payload.Item) bool { return it.Removed != payload.NotRemoved }) {
		if err := c.Scope.CheckHop(rel.To, rel); err != nil {
			c.refuse(err, within(n.at, rel.Name))
		}
	}
}

// releasable is why rows can't be taken out of a relation that they hold; nil where they can.
func (c *Compiler) releasable(rel *model.Relation) error {
	if err := c.Scope.CheckLink(rel); err != nil {
		return err
	}
	for _, f := range rel.Holding() {
		if !f.Nullable {
			return required(f)
		}
	}
	return nil
}

func required(f *model.Field) error {
	return fault.New(fault.Conflict, "link.required",
		"a row of %s can't be without %s: link it to another one, or delete it; nothing was changed", f.Resource.Name, f.Name).On(f.Name)
}

// junction adds the steps of a relation through a junction.
func (c *Compiler) junction(rel *model.Relation, nodes []*node) {
	var children []*node
	remove := &Step{Op: Delete, Resource: rel.To, Relation: rel}
	link := &Step{Op: Link, Resource: rel.To, Relation: rel}
	release := &Step{Op: Release, Resource: rel.To, Relation: rel, Refused: c.Scope.CheckLink(rel)}
	under(rel, nodes, func(n *node, ne *payload.Nested) {
		if slices.Contains(rel.OwnFields(), nil) {
			c.refuse(fault.New(fault.Unsupported, "link.hidden", "the fields behind this relation are not shown here, so it can't be written"),
				within(n.at, rel.Name))
			return
		}
		near := c.keyValues(n)
		c.follow(rel, n, ne)
		if !ne.Delta && !n.fresh {
			only := &Row{ID: n.id, At: within(n.at, rel.Name), Act: Keep, Key: near}
			if release.Refused != nil {
				only.Act, only.Key, only.LinkedTo = "", nil, c.nearValues(n, rel)
				release.Rows = append(release.Rows, only)
			} else {
				link.Rows = append(link.Rows, only)
			}
		}
		for _, item := range ne.Items {
			if item.Removed == payload.Deleted {
				child := c.deleted(rel, item, n, c.nearValues(n, rel), nil)
				children = append(children, child)
				remove.Rows = append(remove.Rows, rowOf(child.remove)...)
				continue
			}
			if release.Refused != nil {
				c.refuse(release.Refused, item.At)
			}
			tie := &Row{At: item.At, Act: Add, Key: near}
			var child *node
			if item.Removed == payload.Unlinked {
				child, tie.Act = c.existing(rel, item, nil), Remove
			} else {
				child = c.item(rel, item, n, nil, false)
			}
			tie.ID, tie.Far = child.id, c.keyValues(child)
			children = append(children, child)
			link.Rows = append(link.Rows, tie)
		}
	})
	c.level(rel.To, children, func() {
		c.step(remove)
		c.step(release)
	})
	c.step(link)
}

// nearValues are what the columns at the near end of a relation hold of a row.
func (c *Compiler) nearValues(n *node, rel *model.Relation) []Value {
	list := make([]Value, len(rel.Pairs))
	for i, f := range rel.OwnFields() {
		list[i] = c.value(n, f)
	}
	return list
}

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
		n.find = &Row{ID: n.id, At: n.at, Path: []Hop{{Resource: rel.From, Key: c.keyValues(parent)}, {Resource: rel.To, Via: rel}},
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
		n.find = &Row{ID: n.id, At: n.at, Path: []Hop{{Resource: n.resource, Key: n.key}}, Optional: optional}
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
		path := []Hop{{Resource: rel.From, Key: c.keyValues(parent)}, {Resource: rel.To, Via: rel, Key: n.key}}
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

// Check is the fault of a condition that does not hold between the values as they have turned out; nil where it does.
func (m Must) Check(value, is *string, row func() string) error {
	same := (value == nil) == (is == nil) && (value == nil || *value == *is)
	switch {
	case m.Reason == NotNull && value == nil:
		return notNull(m.Field, m.At)
	case m.Reason == NotNull || same:
		return nil
	case m.Reason == SameKey:
		return fault.New(fault.Conflict, "link.key",
			"%s is part of the key of %s, so the row can't be taken from another one; nothing was changed", m.Field.Name, row())
	}
	said := m.said(value)
	if m.At == "" {
		return fault.New(fault.Invalid, "value.path", "%s: the path says %s, the body %s; leave it out", m.Field.Name, said,
			m.said(is)).On(m.Field.Name)
	}
	at := m.At + "/" + m.Field.Name
	return fault.New(fault.Invalid, "value.path", "%s: the row around it says %s; leave it out", at, said).On(at)
}

// said is a value as a body says it.
func (m Must) said(value *string) string {
	if value == nil {
		return "null"
	}
	if k := m.Field.Type.Kind; k.Numeric() || k == model.Boolean {
		return *value
	}
	quoted, _ := json.Marshal(*value) // a string always can be
	return string(quoted)
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
