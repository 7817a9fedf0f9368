package request

import (
	"errors"
	"slices"
	"strconv"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
	"eagerwindow/internal/core/window"
)

// SavedView is how a saved view, or a part of one, is read: the rows of the resource underneath that meet the filter, each with
// values that stand in columns of their own.
type SavedView struct {
	Root   *query.Row // of the resource underneath; Filter and Values speak of it
	Filter query.Expr // nil: every row
	Values []Derived
}

// Derived is a computed value and the name of its column.
type Derived struct {
	Column string
	By     query.Expr
}

// BindViews settles what the saved views of a model show. The mistakes have their places in the document.
func BindViews(m *model.Model) (map[*model.Resource]*SavedView, fault.List) {
	b := &viewBinder{model: m, views: map[*model.Resource]*SavedView{}}
	for _, r := range m.Resources {
		if r.View != nil {
			b.bind(r)
		}
	}
	return b.views, b.mistakes
}

type viewBinder struct {
	model    *model.Model
	views    map[*model.Resource]*SavedView
	mistakes fault.List
}

func (b *viewBinder) bind(r *model.Resource) {
	d, o := r.View.Document, &syntax.Options{}
	texts := []struct {
		name string
		text window.Text
	}{{"compute", d.Compute}, {"filter", d.Filter}, {"orderby", d.OrderBy}, {"select", d.Select}, {"expand", d.Expand}}
	place := func(option string) window.Pos {
		for _, t := range texts {
			if t.name == option {
				return t.text.Pos
			}
		}
		return d.Name.Pos
	}
	wrong := func(at window.Pos, err error) {
		f, _ := fault.From(err)
		b.mistakes.Add(f.Code, "", at.Line, at.Column, "saved view %s: %s", r.Name, f.Message)
	}
	for _, t := range texts {
		if t.text.Value == "" {
			continue
		}
		if err := syntax.ParseText(t.name, t.text.Value, o); err != nil {
			wrong(t.text.Pos, err)
			return
		}
	}
	if err := b.show(r, o, ""); err != nil {
		var f *fault.Fault
		errors.As(err, &f)
		wrong(place(f.Target), err)
	}
}

// show completes a saved view, or a part, from its options; within is "expand" for a part.
func (b *viewBinder) show(r *model.Resource, o *syntax.Options, within string) error {
	in := func(option string) string {
		if within != "" {
			return within
		}
		return option
	}
	v := &SavedView{Root: query.NewRow(r.View.Of)}
	b.views[r] = v
	rs := &resolver{root: v.Root, option: in("compute"), fixed: true, computed: map[string]query.Expr{}}
	q := &query.Query{Root: v.Root}
	if err := compute(q, rs, o, in("compute")); err != nil {
		return err
	}
	if o.Search != nil {
		return syntax.FaultAt(in("search"), 0, "view.option", "a saved view takes no search; its callers may")
	}
	var err error
	if o.Filter != nil {
		rs.option = in("filter")
		if v.Filter, err = rs.condition(o.Filter); err != nil {
			return err
		}
	}
	fields, err := b.fields(r, q, o, in("select"))
	if err != nil {
		return err
	}
	for _, c := range q.Computed {
		name := "= " + c.Name
		v.Values = append(v.Values, Derived{name, c.By})
		fields = append(fields, &model.Field{Name: c.Name, Column: &catalog.Column{Name: name}, Type: c.By.Type(), Nullable: true,
			ReadOnly: true})
	}
	rs.option = in("orderby")
	if err := b.order(r, v, rs, o.OrderBy); err != nil {
		return err
	}
	var relations []*model.Relation
	for i := range o.Expand {
		rel, err := b.relation(r, &o.Expand[i])
		if err != nil {
			return err
		}
		relations = append(relations, rel)
	}
	r.Show(fields, relations)
	for _, k := range r.View.Of.Key {
		f := r.Field(k.Name)
		if f == nil {
			r.Key = nil // rows that can't be told apart by what is shown
			break
		}
		f.InKey = true
		r.Key = append(r.Key, f)
	}
	return nil
}

// fields are copies of those that select names, all where there is none.
func (b *viewBinder) fields(r *model.Resource, q *query.Query, o *syntax.Options, option string) ([]*model.Field, error) {
	chosen := r.View.Of.Fields
	if o.Select != nil {
		chosen = nil
		for _, path := range o.Select {
			if slices.ContainsFunc(o.Compute, func(c syntax.ComputeNode) bool { return c.Name.Name == path.Segments[0].Name }) {
				continue
			}
			f, err := selected(r.View.Of, path.PathNode, option)
			if err != nil {
				return nil, err
			}
			if len(path.Segments) > 1 || path.Options != nil {
				return nil, syntax.FaultAt(option, path.Start(), "view.option", "a saved view shows fields whole; select %q", f.Name)
			}
			if !slices.Contains(chosen, f) {
				chosen = append(chosen, f)
			}
		}
	}
	fields := make([]*model.Field, len(chosen))
	for i, f := range chosen {
		field := *f
		field.ReadOnly, field.Required, field.InKey = true, false, false
		fields[i] = &field
	}
	return fields, nil
}

// order settles the order of a view: its own, else that of the resource underneath. A term that is no field of the row becomes
// a value in a column of its own.
func (b *viewBinder) order(r *model.Resource, v *SavedView, rs *resolver, given []syntax.OrderNode) error {
	q := &query.Query{Root: v.Root}
	if err := order(q, rs, given); err != nil {
		return err
	}
	for _, t := range q.Order {
		if given != nil && t.Implied {
			continue // the key, which each request appends
		}
		if f, ok := t.By.(*query.FieldOf); ok && f.Row == v.Root {
			r.View.Order = append(r.View.Order, model.OrderField{Field: f.Field, Desc: t.Desc})
			continue
		}
		name := "order " + strconv.Itoa(len(v.Values)+1)
		v.Values = append(v.Values, Derived{name, t.By})
		field := &model.Field{Resource: r, Name: name, Column: &catalog.Column{Name: name}, Type: t.By.Type(), Nullable: true}
		r.View.Order = append(r.View.Order, model.OrderField{Field: field, Desc: t.Desc})
	}
	return nil
}

// relation makes the part that a view shows of a relation.
func (b *viewBinder) relation(r *model.Resource, node *syntax.ExpandNode) (*model.Relation, error) {
	of := r.View.Of
	rel := of.Relation(node.Path.Name)
	switch {
	case node.All:
		return nil, syntax.FaultAt("expand", node.Path.Pos, "view.option",
			"a saved view names the relations that it shows; * would show what is added later")
	case rel == nil:
		return nil, syntax.FaultAt("expand", node.Path.Pos, "relation.unknown", "%s has no relation %q%s", of.Name, node.Path.Name,
			fault.Suggest(node.Path.Name, of.RelationNames()))
	case node.Only == "ref" || node.Options.Levels > 1 || node.Options.Skip != nil:
		return nil, syntax.FaultAt("expand", node.Path.Pos, "view.option",
			"expand in a saved view takes select, filter, compute, orderby, top, count and expand")
	case node.Only == "count" && !rel.Many:
		return nil, syntax.FaultAt("expand", node.Path.Pos, "option.misplaced", "%s leads to one row, which is not counted", rel.Name)
	}
	part := b.model.AddPart(r.View.Top, rel.To, r.Name+"."+rel.Name)
	if err := b.show(part, &node.Options, "expand"); err != nil {
		return nil, err
	}
	shown := &model.Shown{Count: node.Options.Count, Only: node.Only}
	if node.Options.Top != nil {
		shown.Top = node.Options.Top.Value.Text
	}
	seen := *rel
	seen.From, seen.To = r, part
	shown.Relation = &seen
	r.View.Shown = append(r.View.Shown, shown)
	return &seen, nil
}

// showAll expands what a saved view shows where the caller asks for nothing else.
func showAll(q *query.Query, within string, depth int, left *budget) error {
	for _, s := range q.Root.Resource.View.Shown {
		root := &query.Row{Resource: s.Relation.To, Parent: q.Root, Via: s.Relation}
		if !s.Relation.Many {
			root = q.Root.One(s.Relation)
		}
		e := &query.Expansion{Relation: s.Relation, Query: &query.Query{Root: root}, Only: s.Only}
		if err := fill(e.Query, &syntax.Options{Count: s.Count}, within+s.Relation.Name+"/", depth+1, left); err != nil {
			return err
		}
		if s.Top != "" {
			e.Query.Top = &query.Value{T: model.Int64Type, Fixed: &syntax.Literal{Class: syntax.Whole, Text: s.Top, Option: "top"}}
		}
		q.Expand = append(q.Expand, e)
	}
	return nil
}
