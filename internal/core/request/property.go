package request

import (
	"slices"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// resolveField resolves what a path names that leads to a field of a row, to a part of its value, or to the number of its elements
// (URL Conventions, 4.6, 4.8).
func (r *Request) resolveField(q *query.Query) error {
	if len(r.below) == 0 && r.View != query.Number {
		q.Select = []*model.Field{r.Field}
		return nil
	}
	by, err := r.part(q.Root)
	if err != nil {
		return err
	}
	q.Select, q.View = []*model.Field{}, query.Bare
	if r.View == query.Rows {
		q.View = query.Rows
	}
	q.Computed = []query.Computed{{Name: r.Property().Name, By: by}}
	return nil
}

// part is the expression of what the path names in the row.
func (r *Request) part(row *query.Row) (query.Expr, error) {
	rs := &resolver{root: row, option: "path"}
	segments := []syntax.SegmentNode{{Name: r.Field.Name}}
	for _, name := range r.below {
		segments = append(segments, syntax.SegmentNode{Name: name})
	}
	field := &query.FieldOf{Row: row, Field: r.Field}
	by, err := rs.below(field, segments, 1)
	if f, is := fault.From(err); is {
		last := r.below[len(r.below)-1]
		return nil, fault.New(fault.NotFound, "path.unknown", "%s has no part %q", r.Field.Name, last).On(f.Target)
	}
	if err != nil || r.View != query.Number {
		return by, err
	}
	switch t := by.Type(); t.Kind {
	case model.Collection:
		return &query.Count{Over: query.Collection{Array: by, Element: &query.Element{T: t.Element}}}, nil
	case model.JSON:
		return &query.Count{Over: query.Collection{Array: by, Element: &query.Element{T: query.JsonType}}}, nil
	}
	return nil, fault.New(fault.Invalid, "path.unknown", "$count follows a collection; %s is %s", segments[len(segments)-1].Name,
		articled(by.Type())).On("$count")
}

// Property is the field that the path leads to, or what it names of the field's value as if it were one; nil where it leads to rows.
func (r *Request) Property() *model.Field {
	if r.Field == nil || len(r.below) == 0 && r.View != query.Number {
		return r.Field
	}
	if by, err := r.part(query.NewRow(r.Resource)); err == nil {
		name := slices.Concat([]string{r.Field.Name}, r.below)[len(r.below)]
		return &model.Field{Resource: r.Resource, Name: name, Column: &catalog.Column{Name: name}, Type: by.Type(), Nullable: true,
			ReadOnly: true}
	}
	return r.Field
}

// Below are the names that follow the field in the path.
func (r *Request) Below() []string { return r.below }
