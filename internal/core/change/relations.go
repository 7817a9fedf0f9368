package change

import (
	"slices"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
)

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
