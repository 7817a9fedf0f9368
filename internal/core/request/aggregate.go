package request

import (
	"maps"
	"slices"
	"strings"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/syntax"
)

// applied resolves the steps of apply over the rows of a resource.
type applied struct {
	rs    *resolver
	apply *query.Apply

	joined bool         // the rows at hand are those of a join
	nests  []query.Nest // what the last step has made, after which none comes
}

// resolveApply resolves apply for a query; its root becomes the row that comes out, its computed values those that are left.
func resolveApply(q *query.Query, chain []syntax.StepNode, option string, left *budget) (*resolver, error) {
	root := q.Root
	a := &applied{rs: &resolver{root: root, option: option, left: left, computed: map[string]query.Expr{}},
		apply: &query.Apply{Phases: []*query.Phase{{Root: root}}}}
	if err := a.chain(chain); err != nil {
		return nil, err
	}
	if a.joined {
		return nil, fault.New(fault.Unsupported, "apply.unsupported",
			"the rows of a join are grouped: write groupby(…) or aggregate(…) after it").On(option)
	}
	q.Apply, q.Root, q.Nests = a.apply, a.phase().Root, a.nests
	return a.rs, nil
}

func (a *applied) phase() *query.Phase { return a.apply.Phases[len(a.apply.Phases)-1] }

func (a *applied) chain(nodes []syntax.StepNode) error {
	for i := range nodes {
		if err := a.step(&nodes[i]); err != nil {
			return err
		}
	}
	return nil
}

func (a *applied) step(n *syntax.StepNode) error {
	phase, rs := a.phase(), a.rs
	var step query.Step
	var err error
	if err := a.follows(n); err != nil {
		return err
	}
	switch n.Name {
	case "identity":
		return nil
	case "filter":
		step.Where, err = rs.condition(n.Filter)
	case "search":
		if phase.Root.Resource.Derived {
			return syntax.FaultAt(rs.option, n.Pos, "apply.order",
				"search comes before what groups: afterwards there are no text fields to look into")
		}
		step.Where, err = rs.searched(n.Search, rs.option)
	case "compute":
		return a.compute(n.Compute)
	case "orderby":
		step.Order, err = a.order(n.OrderBy)
	case "top":
		step.Top = rs.value(n.Number, model.Int64Type)
	case "skip":
		step.Skip = rs.value(n.Number, model.Int64Type)
	case "groupby", "aggregate":
		return a.group(n)
	case "concat":
		return a.concat(n)
	case "join", "outerjoin":
		step, err = a.join(n)
	case "nest":
		return a.nest(n)
	default:
		step, err = a.extreme(n)
	}
	// top after orderby cuts in that order: they are one step.
	if last := len(phase.Steps) - 1; err == nil && step.Where == nil && step.Order == nil && step.Running == nil && last >= 0 &&
		phase.Steps[last].Order != nil && phase.Steps[last].Top == nil {
		if step.Skip != nil && phase.Steps[last].Skip == nil {
			phase.Steps[last].Skip = step.Skip
			return nil
		}
		if step.Top != nil {
			phase.Steps[last].Top = step.Top
			return nil
		}
	}
	phase.Steps = append(phase.Steps, step)
	return err
}

// follows refuses a step that can't follow the one before.
func (a *applied) follows(n *syntax.StepNode) error {
	if a.nests != nil {
		return syntax.FaultAt(a.rs.option, n.Pos, "apply.order", "nothing follows nest, which makes one row; write %s before it", n.Name)
	}
	switch n.Name {
	case "identity", "filter", "compute", "groupby", "aggregate":
		return nil
	}
	if a.joined {
		return fault.New(fault.Unsupported, "apply.unsupported",
			"%s is not done with the rows of a join; filter, compute, groupby and aggregate are",
			n.Name).On(a.rs.option)
	}
	return nil
}

// join resolves join and outerjoin: each row once for each row of a relation to many, which has a name from there on (Data Aggregation,
// 3.4).
func (a *applied) join(n *syntax.StepNode) (query.Step, error) {
	rs, name := a.rs, n.Names[0]
	over, err := rs.collection(n.Path)
	if err != nil {
		return query.Step{}, err
	}
	r := a.phase().Root.Resource
	switch {
	case over.Row == nil || len(n.Path.Segments) > 1:
		return query.Step{}, rs.fault(n.Path, "type.mismatch", "%s takes a relation to many of %s; %s is none", n.Name, r.Name, n.Path)
	case r.Field(name.Name) != nil || r.Relation(name.Name) != nil || rs.computed[name.Name] != nil:
		return query.Step{}, syntax.FaultAt(rs.option, name.Pos, "name.taken", "there is %q already; choose another name", name.Name)
	}
	step := query.Step{Join: over.Row, Outer: n.Name == "outerjoin"}
	a.rs = rs.within(name.Name, over.Row, nil)
	a.joined = true
	if n.Chains == nil {
		return step, nil
	}
	for _, inner := range n.Chains[0] { // which of the rows are joined
		if inner.Name != "filter" {
			return step, fault.New(fault.Unsupported, "apply.unsupported", "%s inside %s is not done here; filter is", inner.Name,
				n.Name).On(rs.option)
		}
		condition, err := rs.among(over).condition(inner.Filter)
		if err != nil {
			return step, err
		}
		step.Where = bothExprs(step.Where, condition)
	}
	return step, nil
}

// nest resolves chains that each begin with the rows that there are; the answer is one row with the results (Data Aggregation, 3.2.5).
func (a *applied) nest(n *syntax.StepNode) error {
	first := a.prefix()
	for i, chain := range n.Chains {
		name := n.Names[i]
		if slices.ContainsFunc(a.nests, func(n query.Nest) bool { return n.Name == name.Name }) {
			return syntax.FaultAt(a.rs.option, name.Pos, "name.taken", "there is %q already; choose another name", name.Name)
		}
		b := a.branch(first)
		if err := b.chain(chain); err != nil {
			return err
		}
		if b.joined || b.nests != nil || !b.phase().Root.Resource.Derived {
			return syntax.FaultAt(a.rs.option, n.Pos, "apply.order", "each chain of nest ends with groupby or aggregate")
		}
		q := &query.Query{Root: b.phase().Root, Apply: b.apply}
		if err := order(q, b.rs, nil); err != nil {
			return err
		}
		for _, computed := range b.rs.names {
			q.Computed = append(q.Computed, query.Computed{Name: computed, By: b.rs.computed[computed]})
		}
		a.nests = append(a.nests, query.Nest{Name: name.Name, Query: q})
	}
	return nil
}

func (a *applied) compute(nodes []syntax.ComputeNode) error {
	rs, r := a.rs, a.phase().Root.Resource
	for _, c := range nodes {
		name := c.Name.Name
		if r.Field(name) != nil || r.Relation(name) != nil || rs.computed[name] != nil {
			return syntax.FaultAt(rs.option, c.Name.Pos, "name.taken", "there is %q already; choose another name", name)
		}
		by, err := rs.expr(c.By)
		if err != nil {
			return err
		}
		if !query.Sortable(by.Type()) {
			return rs.fault(c.By, "type.mismatch", "%s is %s; single values can be computed", c.By, articled(by.Type()))
		}
		rs.computed[name] = query.Compute(by)
		rs.names = append(rs.names, name)
	}
	return nil
}

func (a *applied) order(nodes []syntax.OrderNode) ([]query.Term, error) {
	q := &query.Query{Root: a.phase().Root}
	err := order(q, a.rs, nodes)
	return q.Order, err
}

// extreme resolves topcount and its kin: rows in the order of a value, the greatest first or last, until there are enough.
func (a *applied) extreme(n *syntax.StepNode) (query.Step, error) {
	kind := syntax.Extremes[n.Name]
	order, err := a.order([]syntax.OrderNode{{By: n.By, Desc: kind.Top}})
	if err != nil {
		return query.Step{}, err
	}
	by := order[0].By
	if !by.Type().Kind.Numeric() && kind.By != "count" {
		return query.Step{}, a.rs.fault(n.By, "type.mismatch", "%s takes a number, but %s is %s", n.Name, n.By, articled(by.Type()))
	}
	if kind.By == "count" {
		return query.Step{Order: order, Top: a.rs.value(n.Number, model.Int64Type)}, nil
	}
	return query.Step{Order: order, Running: &query.Running{By: by, Amount: a.rs.value(n.Number, model.DecimalType),
		Percent: kind.By == "percent"}}, nil
}

// group closes the phase: what comes after sees the groups.
func (a *applied) group(n *syntax.StepNode) error {
	g := &query.Group{}
	if err := a.keys(g, n.Keys); err != nil {
		return err
	}
	aggregates, where, err := a.perGroup(n)
	if err != nil {
		return err
	}
	for _, node := range aggregates {
		if err := a.aggregate(g, node, where); err != nil {
			return err
		}
	}
	a.next(g)
	return nil
}

func (a *applied) next(g *query.Group) {
	a.phase().Group = g
	a.joined = false
	a.open(g.Fields, nil)
}

// open begins a phase over rows of these fields.
func (a *applied) open(fields []*model.Field, branches []*query.Apply) {
	from := a.apply.Phases[0].Root.Resource
	derived := model.NewDerived(from, fields)
	root := query.NewRow(derived)
	a.apply.Phases = append(a.apply.Phases, &query.Phase{Root: root, Branches: branches})
	a.rs = &resolver{root: root, option: a.rs.option, left: a.rs.left, computed: map[string]query.Expr{}}
}

// keys resolves what groupby groups by. Fields of relations keep their path as their name.
func (a *applied) keys(g *query.Group, keys []syntax.KeyPath) error {
	sets := [][]int{{}}
	rolled := false
	for _, key := range keys {
		first := len(g.Keys)
		for _, path := range a.keyPaths(key.Paths) {
			by, err := a.rs.path(path)
			if err != nil {
				return err
			}
			if !query.Sortable(by.Type()) {
				return a.rs.fault(path, "type.mismatch", "%s is %s; rows can be grouped by single values", path, articled(by.Type()))
			}
			if err := addField(g, path.String(), by.Type(), a.rs.option, path.Start()); err != nil {
				return err
			}
			g.Fields[len(g.Fields)-1].TextParts = query.TextParts(by)
			g.Keys = append(g.Keys, by)
		}
		count := len(g.Keys) - first
		least := count
		if key.Rollup {
			rolled, least = true, 1
			if key.All {
				least = 0
			}
		}
		if n := len(sets) * (count - least + 1); n > maxGroupingSets {
			return syntax.FaultAt(a.rs.option, key.Paths[0].Start(), "limit.groups",
				"rollup would make %d kinds of groups, at most %d are done at once",
				n, maxGroupingSets)
		}
		var longer [][]int
		for n := count; n >= least; n-- {
			for _, set := range sets {
				next := slices.Clone(set)
				for i := range n {
					next = append(next, first+i)
				}
				longer = append(longer, next)
			}
		}
		sets = longer
	}
	if rolled {
		g.Sets = sets
	}
	return nil
}

// keyPaths are the paths that rows are grouped by: a relation to one, and the name of joined rows, stand for the key of their row.
func (a *applied) keyPaths(paths []*syntax.PathNode) []*syntax.PathNode {
	var list []*syntax.PathNode
	for _, path := range paths {
		row := a.rs.rowAt(path)
		if row == nil || len(row.Resource.Key) == 0 {
			list = append(list, path)
			continue
		}
		for _, k := range row.Resource.Key {
			list = append(list, &syntax.PathNode{Segments: append(slices.Clone(path.Segments), syntax.SegmentNode{Pos: path.Start(), Name: k.Name})})
		}
	}
	return list
}

// unused refuses a name that the rows at hand have already.
func (a *applied) unused(name syntax.SegmentNode) error {
	r := a.phase().Root.Resource
	if r.Field(name.Name) == nil && r.Relation(name.Name) == nil && a.rs.computed[name.Name] == nil {
		return nil
	}
	return syntax.FaultAt(a.rs.option, name.Pos, "name.taken", "there is %q already; choose another name", name.Name)
}

// add adds a field to the rows that come out.
func addField(g *query.Group, name string, t *model.Type, option string, pos syntax.Pos) error {
	for _, f := range g.Fields {
		if f.Name == name || strings.HasPrefix(f.Name, name+"/") || strings.HasPrefix(name, f.Name+"/") {
			return syntax.FaultAt(option, pos, "name.taken", "the result has %q already; choose another name", f.Name)
		}
	}
	g.Fields = append(g.Fields, &model.Field{Name: name, Column: &catalog.Column{Name: name}, Type: t, Nullable: true, ReadOnly: true})
	return nil
}

// perGroup finds what is done with each group: aggregate, after filters and computed values that hold for what it takes.
func (a *applied) perGroup(n *syntax.StepNode) (list []syntax.AggregateNode, where query.Expr, err error) {
	if n.Name == "aggregate" {
		return n.Aggregates, nil, nil
	}
	if n.Chains == nil {
		return nil, nil, nil
	}
	chain := n.Chains[0]
	for i := range chain {
		step := &chain[i]
		switch step.Name {
		case "identity":
		case "compute":
			err = a.compute(step.Compute)
		case "filter":
			var condition query.Expr
			if condition, err = a.rs.condition(step.Filter); err == nil {
				where = bothExprs(where, condition)
			}
		case "aggregate":
			if i < len(chain)-1 {
				return nil, nil, syntax.FaultAt(a.rs.option, chain[i+1].Pos, "apply.order",
					"inside groupby nothing follows aggregate; write %s after groupby(…)", chain[i+1].Name)
			}
			return step.Aggregates, where, nil
		default:
			return nil, nil, fault.New(fault.Unsupported, "apply.unsupported",
				"%s inside groupby is not done here; filter, compute and aggregate are", step.Name).On(a.rs.option)
		}
		if err != nil {
			return nil, nil, err
		}
	}
	return nil, where, nil
}

func bothExprs(x, y query.Expr) query.Expr {
	if x == nil {
		return y
	}
	return &query.Call{T: model.BooleanType, Op: "and", Args: []query.Expr{x, y}}
}

var methods = []string{"sum", "min", "max", "average", "countdistinct"}

func (a *applied) aggregate(g *query.Group, n syntax.AggregateNode, where query.Expr) error {
	rs := a.rs
	if err := a.unused(n.Name); err != nil {
		return err
	}
	if n.By == nil {
		g.Aggregates = append(g.Aggregates, query.Aggregate{Method: "$count", Where: where})
		return addField(g, n.Name.Name, model.Int64Type, rs.option, n.Name.Pos)
	}
	by, err := rs.expr(n.By)
	if err != nil {
		return err
	}
	t, k := by.Type(), by.Type().Kind
	mismatch := func(takes string) error {
		return rs.fault(n.By, "type.mismatch", "%s takes %s, but %s is %s", n.Method.Name, takes, n.By, articled(t))
	}
	out := plain(t)
	switch n.Method.Name {
	case "sum", "average":
		if !k.Numeric() && k != model.Duration {
			return mismatch("numbers and durations")
		}
		if k.Integer() {
			out = model.DecimalType
		}
		if k == model.Single {
			out = model.DoubleType
		}
	case "min", "max":
		if !query.Sortable(t) || k == model.Boolean || k == model.GUID || k == model.Binary || k == model.Opaque {
			return mismatch("numbers, texts, dates and times")
		}
		if t.Kind == model.Enum || t.Kind == model.Single {
			out = t
		}
	case "countdistinct":
		if !query.Sortable(t) {
			return mismatch("single values")
		}
		out = model.Int64Type
	default:
		return syntax.FaultAt(rs.option, n.Method.Pos, "apply.method", "unknown method %q%s", n.Method.Name,
			fault.Suggest(n.Method.Name, methods))
	}
	if k == model.Instant {
		out = model.InstantType
	}
	if n.Method.Name == "countdistinct" {
		out = model.Int64Type
	}
	g.Aggregates = append(g.Aggregates, query.Aggregate{Method: n.Method.Name, By: by, Where: where})
	if err := addField(g, n.Name.Name, out, rs.option, n.Name.Pos); err != nil {
		return err
	}
	g.Fields[len(g.Fields)-1].TextParts = query.TextParts(by)
	return nil
}

// concat resolves branches, each of which begins with the rows that there are; what comes out of them stands one after the other, with
// null where a branch has no such field.
func (a *applied) concat(n *syntax.StepNode) error {
	var fields []*model.Field
	var branches []*query.Apply
	first := a.prefix()
	for _, chain := range n.Chains {
		b := a.branch(first)
		if err := b.chain(chain); err != nil {
			return err
		}
		if !b.phase().Root.Resource.Derived || len(b.rs.names) > 0 {
			return syntax.FaultAt(a.rs.option, n.Pos, "apply.order", "each chain of concat ends with groupby or aggregate")
		}
		for _, f := range b.phase().Root.Resource.Fields {
			i := slices.IndexFunc(fields, func(other *model.Field) bool { return other.Name == f.Name })
			switch {
			case i < 0:
				field := *f
				fields = append(fields, &field)
			case common(fields[i].Type, f.Type) == nil:
				return syntax.FaultAt(a.rs.option, n.Pos, "type.mismatch", "%q is %s in one chain of concat and %s in another", f.Name,
					articled(fields[i].Type), articled(f.Type))
			case fields[i].Type != f.Type:
				fields[i].Type = common(fields[i].Type, f.Type)
			}
			if i >= 0 {
				fields[i].TextParts = max(fields[i].TextParts, f.TextParts)
			}
		}
		branches = append(branches, b.apply)
	}
	a.open(fields, branches)
	return nil
}

// prefix is the phase that each branch of concat begins with: the rows that there are. What was done to get them is done once for all.
func (a *applied) prefix() query.Phase {
	last := a.phase()
	if len(a.apply.Phases) == 1 && len(last.Steps) == 0 { // nothing was done yet
		return query.Phase{Root: last.Root, Prefix: last.Prefix}
	}
	first := query.Phase{Root: last.Root, Prefix: &query.Apply{Phases: slices.Clone(a.apply.Phases)}}
	if n := len(last.Steps); n > 0 && last.Steps[n-1].Order != nil && last.Steps[n-1].Top == nil && last.Steps[n-1].Skip == nil {
		first.Steps = []query.Step{last.Steps[n-1]} // top in a branch takes rows in this order
	}
	return first
}

// branch begins a chain of concat.
func (a *applied) branch(first query.Phase) *applied {
	rs := *a.rs
	rs.computed, rs.names = maps.Clone(a.rs.computed), slices.Clone(a.rs.names)
	first.Steps = slices.Clone(first.Steps)
	return &applied{rs: &rs, apply: &query.Apply{Phases: []*query.Phase{&first}}}
}
