package request

import (
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// What one request may ask for: how deep relations may be expanded within one another and how many in all, the operators, functions and
// values in its expressions, the grouping sets of its rollups, and the texts that are concatenated into one.
const (
	maxExpand       = 8
	maxExpansions   = 100
	maxNodes        = 2000
	maxGroupingSets = 64
	maxTextParts    = 100
)

// budget is what is left of that for the rest of a request.
type budget struct{ expansions, nodes int }

// spend takes one node; nil has no limit.
func (b *budget) spend(option string, pos syntax.Pos) error {
	if b == nil {
		return nil
	}
	if b.nodes--; b.nodes < 0 {
		return syntax.FaultAt(option, pos, "limit.expression", "the request has more than %d operators, functions, values and words; "+
			"ask for less at once, or write lists as x in (1,2,3)", maxNodes)
	}
	return nil
}

// Resolve binds the request to the model it was read with.
func (r *Request) Resolve() (*query.Query, error) {
	options, err := r.Parse()
	if err != nil {
		return nil, err
	}
	q := &query.Query{Root: query.NewRow(r.Resource), Single: r.Single, View: r.View}
	for i := range r.hops {
		key, of, err := r.resolveKey(i)
		if err != nil {
			return nil, err
		}
		if i == len(r.hops)-1 {
			q.Key, q.KeyOf = key, of
		}
		q.Path = append(q.Path, query.Hop{Resource: r.hops[i].resource, Via: r.hops[i].via, Key: key, KeyOf: of})
	}
	if q.Params, err = r.resolveParameters(r.hops[0].resource); err != nil {
		return nil, err
	}
	if r.Field != nil {
		return q, r.resolveField(q)
	}
	return q, fill(q, options, "", 0, &budget{maxExpansions, maxNodes})
}

// resolveKey puts the parts of a key of the path in the order of the fields that they are of: the key of the resource, or another one that
// names a row; nil where there is none. A part that the row before gives may be left out (URL Conventions, 4.3.3, 4.3.4).
func (r *Request) resolveKey(i int) ([]query.Value, []*model.Field, error) {
	h := &r.hops[i]
	if h.key == nil {
		return nil, nil, nil
	}
	resource, fields := h.resource, r.keyFields(i)
	parts := h.key
	if i > 0 && len(parts) < len(fields) && parts[0].name != "" {
		parts = r.withGiven(i, parts, fields)
	}
	if len(parts) != len(fields) {
		return nil, nil, keyFault("the key of %s has %d parts (%s), the path gives %d; write %s", resource.Name, len(fields), keyNames(resource),
			len(h.key), keyExample(resource))
	}
	values := make([]query.Value, len(fields))
	given := make([]bool, len(fields))
	for i, part := range parts {
		at := i
		if part.name != "" {
			at = slices.IndexFunc(fields, func(f *model.Field) bool { return f.Name == part.name })
			if at < 0 {
				return nil, nil, keyFault("the key of %s has no part %q; it has %s", resource.Name, part.name, keyNames(resource))
			}
		} else if len(fields) > 1 && r.Literals[part.literal].Class != syntax.Segment {
			return nil, nil, keyFault("the key of %s has %d parts, so each needs its name; write %s", resource.Name, len(fields),
				keyExample(resource))
		}
		if given[at] {
			return nil, nil, keyFault("the key of %s gives %q twice", resource.Name, part.name)
		}
		given[at] = true
		l := r.Literals[part.literal]
		t := fields[at].Type
		if l.Class == syntax.Segment && t.Kind.Integer() {
			t = model.Int64Type // a number that is too large for the column names no row
		} else if l.Class != syntax.Segment {
			if t = query.Fitting(l.Class, t); t == nil {
				return nil, nil, keyFault("%s of %s is %s, %s is %s; write %s", fields[at].Name, resource.Name, articled(fields[at].Type), l, l.Kind(),
					keyExample(resource))
			}
		}
		values[at] = query.Value{T: t, Index: part.literal}
		if t == model.Int64Type && fields[at].Type.Kind == model.Int32 { // the database compares its own types faster
			values[at].T, values[at].Narrow = model.Int32Type, true
		}
	}
	return values, fields, nil
}

// keyFields are the fields that the parts of a key of the path are of.
func (r *Request) keyFields(i int) []*model.Field {
	h := &r.hops[i]
	named := func(fields []*model.Field) bool {
		return len(fields) == len(h.key) && !slices.ContainsFunc(h.key, func(p keyPart) bool {
			return !slices.ContainsFunc(fields, func(f *model.Field) bool { return f.Name == p.name })
		})
	}
	if h.key[0].name == "" || named(h.resource.Key) {
		return h.resource.Key
	}
	for _, other := range h.resource.Alternates() {
		if named(other) {
			return other
		}
	}
	return h.resource.Key
}

// withGiven adds to the parts of a key those that the key of the row before gives by the relation between them.
func (r *Request) withGiven(i int, parts []keyPart, fields []*model.Field) []keyPart {
	h, before := &r.hops[i], &r.hops[i-1]
	if h.via.Through != nil || before.key == nil {
		return parts
	}
	near := r.keyFields(i - 1)
	for _, p := range h.via.Pairs {
		there := slices.IndexFunc(fields, func(f *model.Field) bool { return f.Column.Name == p.There })
		own := slices.IndexFunc(near, func(f *model.Field) bool { return f.Column.Name == p.Own })
		if there < 0 || own < 0 {
			continue
		}
		name := fields[there].Name
		if slices.ContainsFunc(parts, func(p keyPart) bool { return p.name == name }) {
			continue
		}
		for k, part := range before.key {
			if part.name == near[own].Name || part.name == "" && k == own {
				parts = append(slices.Clone(parts), keyPart{name, part.literal})
			}
		}
	}
	return parts
}

// fill resolves the options of a collection or row into the query; within is the relation's path inside expand.
func fill(q *query.Query, o *syntax.Options, within string, depth int, left *budget) error {
	if depth > maxExpand {
		return fault.New(fault.Invalid, "expand.deep", "relations are expanded more than %d deep", maxExpand).On("expand")
	}
	in := func(option string) string {
		if within == "" {
			return option
		}
		return "expand"
	}
	rs, err := source(q, o, within, left)
	if err != nil {
		return err
	}
	if q.Nests != nil {
		given := []bool{o.Filter != nil, o.OrderBy != nil, o.Select != nil, o.Expand != nil, o.Search != nil, o.Compute != nil, o.Count,
			o.Skip != nil}
		if i := slices.Index(given, true); i >= 0 {
			name := []string{"filter", "orderby", "select", "expand", "search", "compute", "count", "skip"}[i]
			return fault.New(fault.Invalid, "apply.order", "nothing follows nest, which makes one row; write %s in apply, before it", name).On(name)
		}
		return nil
	}
	if err := compute(q, rs, o, in("compute")); err != nil {
		return err
	}
	if o.Search != nil {
		if q.Search, err = rs.searched(o.Search, in("search")); err != nil {
			return err
		}
	}
	wrong := &mistakes{} // of what follows, each is independent of the others
	if o.Filter != nil {
		rs.option = in("filter")
		q.Filter, err = rs.condition(o.Filter)
		wrong.add(err)
	}
	rs.option = in("orderby")
	wrong.add(order(q, rs, o.OrderBy))
	rs.option = in("select")
	selectFields(q, rs, o.Select, in("select"), wrong)
	for i := range o.Expand {
		wrong.add(expand(q, &o.Expand[i], within, depth, left))
	}
	if err := wrong.fault(); err != nil {
		return err
	}
	if q.Root.Resource.View != nil && o.Expand == nil && o.Select == nil {
		if err := showAll(q, within, depth, left); err != nil {
			return err
		}
	}
	q.Count = o.Count
	if o.Top != nil {
		q.Top = &query.Value{T: model.Int64Type, Index: o.Top.Index}
	}
	if o.Skip != nil {
		q.Skip = &query.Value{T: model.Int64Type, Index: o.Skip.Index}
	}
	return nil
}

// source resolves what comes before all other options: the rows of the resource, or what apply makes of them.
func source(q *query.Query, o *syntax.Options, within string, left *budget) (*resolver, error) {
	if o.Apply == nil {
		rs := &resolver{root: q.Root, left: left, computed: map[string]query.Expr{}}
		for rs.it = q.Root; rs.it.Parent != nil; {
			rs.it = rs.it.Parent
		}
		return rs, nil
	}
	if within != "" {
		return nil, fault.New(fault.Unsupported, "apply.unsupported", "apply inside expand is not done here").On("expand")
	}
	rs, err := resolveApply(q, o.Apply, "apply", left)
	if err != nil {
		return nil, err
	}
	for _, name := range rs.names {
		if selects(o, name) {
			q.Computed = append(q.Computed, query.Computed{Name: name, By: rs.computed[name]})
		}
	}
	return rs, nil
}

// selects reports whether the answer shows a computed value of that name: where select names it, or where there is no select.
func selects(o *syntax.Options, name string) bool {
	return o.Select == nil || slices.ContainsFunc(o.Select, func(p *syntax.SelectNode) bool { return p.Segments[0].Name == name })
}

// selectFields resolves the paths of select; nil stands for all fields. A relation that is selected adds no value: it is there for its
// link, which the answer shows with metadata=full (URL Conventions, 5.1.4).
func selectFields(q *query.Query, rs *resolver, paths []*syntax.SelectNode, option string, wrong *mistakes) {
	q.Parts = map[*model.Field]*model.Type{}
	for _, path := range paths {
		first := path.Segments[0].Name
		rel := q.Root.Resource.Relation(first)
		switch {
		case len(path.Segments) == 1 && rs.computed[first] != nil:
			continue
		case len(path.Segments) == 1 && rel != nil && path.Options == nil && q.Root.Resource.Field(first) == nil:
			q.Links = append(q.Links, rel)
			continue
		}
		f, err := selected(q.Root.Resource, path.PathNode, option)
		if err == nil && !slices.Contains(q.Select, f) {
			q.Select = append(q.Select, f)
			q.Parts[f], err = part(f, paths, option)
		}
		if err == nil && path.Options != nil {
			err = rs.list(q, f, path, option)
		}
		wrong.add(err)
	}
	if paths != nil && q.Select == nil {
		q.Select = []*model.Field{} // computed values alone
	}
}

// listOptions are the options that a selected array takes.
var listOptions = []string{"filter", "orderby", "top", "skip", "count"}

// list resolves the options of a selected array: which of its elements are shown, in which order, and their number.
func (rs *resolver) list(q *query.Query, f *model.Field, n *syntax.SelectNode, option string) error {
	if f.Type.Kind != model.Collection || len(n.Segments) > 1 {
		return rs.fault(n, "option.misplaced", "%s is %s, which takes no options in select; arrays do", n.PathNode, articled(f.Type))
	}
	o := n.Options
	if o.Select != nil || o.Expand != nil || o.Search != nil || o.Compute != nil || o.Apply != nil || o.Levels > 0 {
		return rs.fault(n, "option.misplaced", "an array in select takes %s", strings.Join(listOptions, ", "))
	}
	list := &query.List{Element: &query.Element{T: f.Type.Element}, Count: o.Count}
	inner := rs.within("$this", nil, list.Element)
	inner.option = option
	var err error
	if o.Filter != nil {
		if list.Where, err = inner.condition(o.Filter); err != nil {
			return err
		}
	}
	for _, node := range o.OrderBy {
		by, err := inner.expr(node.By)
		if err != nil {
			return err
		}
		if !query.Sortable(by.Type()) {
			return rs.unsortable(node.By, by)
		}
		list.Order = append(list.Order, query.Term{By: by, Desc: node.Desc})
	}
	if o.Top != nil {
		list.Top = rs.value(o.Top, model.Int64Type)
	}
	if o.Skip != nil {
		list.Skip = rs.value(o.Skip, model.Int64Type)
	}
	if q.Lists == nil {
		q.Lists = map[*model.Field]*query.List{}
	}
	q.Lists[f] = list
	return nil
}

// unsortable is the fault of an order by what has none.
func (rs *resolver) unsortable(n syntax.Node, e query.Expr) error {
	if _, isValue := e.(*query.Value); isValue {
		return rs.fault(n, "order.invalid", "%s is the same for every row, so it puts none before another; name a field", n)
	}
	instead := "name a field that holds single values"
	if t := e.Type(); t.Kind == model.Range && !t.Multi {
		instead = "write " + n.String() + "/lower"
	}
	return rs.fault(n, "order.invalid", "%s is %s, which can't be sorted by; %s", n, articled(e.Type()), instead)
}

// mostMistakes is how many of one request are reported.
const mostMistakes = 20

// mistakes gathers what is wrong with parts of a request that do not depend on each other.
type mistakes struct{ list []error }

func (m *mistakes) add(err error) {
	if err != nil && len(m.list) < mostMistakes {
		m.list = append(m.list, err)
	}
}

func (m *mistakes) fault() error { return fault.Join("request.invalid", "the request", m.list) }

// compute resolves the computed values; each may use those before it. The answer shows those that select names, or all.
func compute(q *query.Query, rs *resolver, o *syntax.Options, option string) error {
	rs.option = option
	for _, c := range o.Compute {
		name := c.Name.Name
		if q.Root.Resource.Field(name) != nil || q.Root.Resource.Relation(name) != nil || rs.computed[name] != nil {
			return syntax.FaultAt(option, c.Name.Pos, "name.taken", "%s has %q already; choose another name", q.Root.Resource.Name, name)
		}
		by, err := rs.expr(c.By)
		if err != nil {
			return err
		}
		if !query.Sortable(by.Type()) {
			return rs.fault(c.By, "type.mismatch", "%s is %s; single values can be computed", c.By, articled(by.Type()))
		}
		by = query.Compute(by)
		rs.computed[name] = by
		if selects(o, name) {
			q.Computed = append(q.Computed, query.Computed{Name: name, By: by})
		}
	}
	return nil
}

// searched resolves the words of a search, each of which is one of the nodes that there may be.
func (rs *resolver) searched(n *syntax.SearchNode, option string) (query.Expr, error) {
	if n.Operator == "" {
		if err := rs.left.spend(option, n.Term.Pos); err != nil {
			return nil, err
		}
		return &query.Searched{Row: rs.root, Term: &query.Value{T: model.StringType, Index: n.Term.Index}}, nil
	}
	e, err := rs.searched(n.Parts[0], option)
	if err != nil {
		return nil, err
	}
	if n.Operator == "not" {
		return &query.Call{T: model.BooleanType, Op: "not", Args: []query.Expr{e}}, nil
	}
	for _, part := range n.Parts[1:] {
		more, err := rs.searched(part, option)
		if err != nil {
			return nil, err
		}
		e = &query.Call{T: model.BooleanType, Op: n.Operator, Args: []query.Expr{e, more}}
	}
	return e, nil
}

// expand adds a relation, or every one that is not named by itself.
func expand(q *query.Query, node *syntax.ExpandNode, within string, depth int, left *budget) error {
	if !node.All {
		e, err := expansion(q, node, within, depth, left)
		if err == nil {
			q.Expand = append(q.Expand, e)
		}
		return err
	}
	for _, rel := range q.Root.Resource.Relations {
		if slices.ContainsFunc(q.Expand, func(e *query.Expansion) bool { return e.Relation == rel }) {
			continue
		}
		one := *node
		one.Path.Name, one.All = rel.Name, false
		e, err := expansion(q, &one, within, depth, left)
		if err != nil {
			return err
		}
		e.Optional = true
		q.Expand = append(q.Expand, e)
	}
	return nil
}

func expansion(q *query.Query, node *syntax.ExpandNode, within string, depth int, left *budget) (*query.Expansion, error) {
	if left.expansions--; left.expansions < 0 {
		return nil, syntax.FaultAt("expand", node.Path.Pos, "limit.expand",
			"the request expands more than %d relations; name those that are needed", maxExpansions)
	}
	from := q.Root.Resource
	rel := from.Relation(node.Path.Name)
	if rel == nil {
		if from.Field(node.Path.Name) != nil {
			return nil, syntax.FaultAt("expand", node.Path.Pos, "relation.unknown", "%q is a field of %s, not a relation; fields go into select",
				node.Path.Name, from.Name)
		}
		if err := expandMistake(from, node); err != nil {
			return nil, err
		}
		return nil, syntax.FaultAt("expand", node.Path.Pos, "relation.unknown", "%s has no relation %q%s", from.Name, node.Path.Name,
			fault.Suggest(node.Path.Name, from.RelationNames()))
	}
	for _, e := range q.Expand {
		if e.Relation == rel {
			return nil, syntax.FaultAt("expand", node.Path.Pos, "option.twice", "relation %q is expanded twice", rel.Name)
		}
	}
	if !rel.Many {
		o := node.Options
		given := []bool{o.Filter != nil, o.OrderBy != nil, o.Top != nil, o.Skip != nil, o.Count, o.Search != nil}
		if node.Only == "count" {
			return nil, syntax.FaultAt("expand", node.Path.Pos, "option.misplaced", "%s leads to one row, which is not counted", rel.Name)
		}
		if i := slices.Index(given, true); i >= 0 {
			return nil, syntax.FaultAt("expand", node.Path.Pos, "option.misplaced", "%s leads to one row, so it takes select and expand, not %s",
				rel.Name,
				[]string{"filter", "orderby", "top", "skip", "count", "search"}[i])
		}
	}
	root := &query.Row{Resource: rel.To, Parent: q.Root, Via: rel}
	if !rel.Many {
		root = q.Root.One(rel) // one join serves filter, order and expand
	}
	e := &query.Expansion{Relation: rel, Pos: node.Path.Pos, Query: &query.Query{Root: root}, Only: node.Only}
	options := node.Options
	e.OfIt = within != "" && options.UsesIt()
	if options.Levels > 1 {
		if rel.To != rel.From {
			return nil, syntax.FaultAt("expand", node.Path.Pos, "option.misplaced",
				"levels goes with a relation to the same resource; %s leads to %s", rel.Name, rel.To.Name)
		}
		deeper := *node
		deeper.Options.Levels--
		options.Expand = append(slices.Clone(options.Expand), deeper)
	}
	return e, fill(e.Query, &options, within+rel.Name+"/", depth+1, left)
}

// order resolves the caller's order, or the document's where the caller gives none, and appends the key, so that the order
// is always one and the same.
func order(q *query.Query, rs *resolver, given []syntax.OrderNode) error {
	if given == nil {
		terms, err := DefaultOrder(q.Root)
		if err != nil {
			return err
		}
		q.Order = terms
	}
	mistakes := &mistakes{}
	for _, node := range given {
		by, err := rs.expr(node.By)
		if err != nil {
			mistakes.add(err)
			continue
		}
		if isConstant(by) { // true, false and null order nothing
			continue
		}
		if _, isValue := by.(*query.Value); isValue || !query.Sortable(by.Type()) {
			mistakes.add(rs.unsortable(node.By, by))
			continue
		}
		q.Order = append(q.Order, query.Term{By: by, Desc: node.Desc})
	}
	if err := mistakes.fault(); err != nil {
		return err
	}
	settles := q.Root.Resource.Key
	if q.Root.Resource.Derived {
		settles = q.Root.Resource.Fields // no key tells groups apart, but all that is told of them does
	}
	for _, f := range settles {
		if !query.Sortable(f.Type) {
			continue
		}
		there := slices.ContainsFunc(q.Order, func(t query.Term) bool {
			by, ok := t.By.(*query.FieldOf)
			return ok && by.Field == f && by.Row == q.Root
		})
		if !there {
			q.Order = append(q.Order, query.Term{By: &query.FieldOf{Row: q.Root, Field: f}, Implied: true})
		}
	}
	return nil
}

// DefaultOrder is the order that the document gives the resource of the row.
func DefaultOrder(row *query.Row) ([]query.Term, error) {
	var terms []query.Term
	if v := row.Resource.View; v != nil {
		for _, o := range v.Order {
			terms = append(terms, query.Term{By: &query.FieldOf{Row: row, Field: o.Field}, Desc: o.Desc, Implied: true})
		}
	}
	for _, text := range row.Resource.Order {
		nodes, err := syntax.ParseOrder(text.Value)
		if err != nil {
			return nil, err
		}
		rs := &resolver{root: row, option: "order", fixed: true}
		for _, node := range nodes {
			by, err := rs.expr(node.By)
			if err != nil {
				return nil, err
			}
			terms = append(terms, query.Term{By: by, Desc: node.Desc, Implied: true})
		}
	}
	return terms, nil
}

// selected finds the field that a path of select names.
func selected(r *model.Resource, path *syntax.PathNode, option string) (*model.Field, error) {
	first := path.Segments[0]
	f := r.Field(first.Name)
	if r.Derived {
		f = r.Field(path.String())
	}
	if f == nil {
		if err := selectMistake(r, path, option); err != nil {
			return nil, err
		}
	}
	switch {
	case f == nil && r.Relation(first.Name) != nil:
		return nil, syntax.FaultAt(option, first.Pos, "field.unknown", "%q is a relation; to have its rows in the answer, write expand=%s",
			first.Name, first.Name)
	case f == nil:
		return nil, syntax.FaultAt(option, first.Pos, "field.unknown", "unknown field %q%s", first.Name, unknownField(first.Name, r))
	}
	return f, nil
}

// part is what the paths of select leave of a field: its type, or of a composite one no more than the fields they name.
func part(f *model.Field, paths []*syntax.SelectNode, option string) (*model.Type, error) {
	var below [][]syntax.SegmentNode
	for _, path := range paths {
		if path.Segments[0].Name == f.Name {
			below = append(below, path.Segments)
		}
	}
	return narrowed(f.Type, below, 1, option)
}

// narrowed takes the paths that lead through a value, whose own segment is the one before i.
func narrowed(t *model.Type, paths [][]syntax.SegmentNode, i int, option string) (*model.Type, error) {
	whole := slices.ContainsFunc(paths, func(p []syntax.SegmentNode) bool { return len(p) == i })
	deeper := map[string][][]syntax.SegmentNode{}
	parts := t.Parts()
	for _, p := range paths {
		if len(p) == i {
			continue
		}
		s := p[i]
		switch {
		case parts == nil:
			return nil, syntax.FaultAt(option, s.Pos, "field.unknown", "%q is %s, which has nothing below it to select", p[i-1].Name, articled(t))
		case !slices.ContainsFunc(parts, func(f model.SubType) bool { return f.Name == s.Name }):
			names := make([]string, len(parts))
			for i, f := range parts {
				names[i] = f.Name
			}
			return nil, syntax.FaultAt(option, s.Pos, "field.unknown", "%q has no field %q%s", p[i-1].Name, s.Name, fault.Suggest(s.Name, names))
		}
		deeper[s.Name] = append(deeper[s.Name], p)
	}
	out := *t
	out.Fields = nil
	for _, f := range parts {
		through, named := deeper[f.Name]
		if !named {
			continue
		}
		inner, err := narrowed(f.Type, through, i+1, option)
		if err != nil {
			return nil, err
		}
		out.Fields = append(out.Fields, model.SubType{Name: f.Name, Type: inner, At: f.At})
	}
	if whole {
		return t, nil
	}
	return &out, nil
}

func unknownField(name string, r *model.Resource) string {
	if near := fault.Nearest(name, r.FieldNames()); near != "" {
		return "; resource \"" + r.Name + "\" has \"" + near + "\""
	}
	return "; resource \"" + r.Name + "\" has " + strings.Join(r.FieldNames(), ", ")
}
