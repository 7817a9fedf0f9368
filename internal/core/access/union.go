package access

import (
	"cmp"
	"maps"
	"reflect"
	"slices"
	"strings"

	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// A caller with several roles may do what one of them may do alone: it reaches the rows of each, and in a row only the fields of
// the roles that reach it. The decision of such a caller keeps the grants that it is made of.

// Mask is a field that a caller with several roles may read only in rows that meet one of the rules.
type Mask struct {
	Field *model.Field
	Rules AnyOf
}

// AnyOf are rules of which a row must meet one.
type AnyOf []*Rule

// Rules are what a row must meet: one of each list. fields are those that a write gives; with after, it is the row as the write
// leaves it, which has the values that its grant sets.
func (d *Decision) Rules(fields []*model.Field, after bool) []AnyOf {
	if d.grants == nil {
		if d.Rule == nil {
			return nil
		}
		return []AnyOf{{d.Rule}}
	}
	var all []AnyOf
	add := func(covers func(*Decision) bool) {
		any, open := d.anyOf(covers, after)
		if !open && !slices.ContainsFunc(all, func(other AnyOf) bool { return slices.Equal(any, other) }) {
			all = append(all, any)
		}
	}
	add(func(*Decision) bool { return true })
	for _, f := range fields {
		add(func(g *Decision) bool { return g.Fields[f.Index] })
	}
	return all
}

// anyOf are the rules of some of the grants; open says that one of them has none.
func (d *Decision) anyOf(covers func(*Decision) bool, after bool) (any AnyOf, open bool) {
	for _, g := range d.grants {
		if !covers(g) {
			continue
		}
		rule := g.Rule
		if after && g.afterRule != nil {
			rule = g.afterRule
		}
		if rule == nil {
			return nil, true
		}
		any = append(any, rule)
	}
	return any, false
}

// union is the scope of a caller with several roles.
func (p *Policy) union(roles []*model.Role) *Scope {
	parts := make([]*Scope, len(roles))
	s := &Scope{model: p.model, views: p.operator.views, decisions: map[window.Operation][]*Decision{}, parts: parts}
	names := make([]string, len(roles))
	for i, role := range roles {
		part := p.roles[role.Name]
		parts[i], names[i] = part, part.Name
		for _, c := range part.Claims {
			if !slices.ContainsFunc(s.Claims, func(o model.Claim) bool { return o.Name == c.Name && o.Type == c.Type }) {
				s.Claims = append(s.Claims, c)
			}
		}
		if s.Limits = widest(s.Limits, part.Limits); i == 0 {
			s.Limits = part.Limits
		}
	}
	s.Name = strings.Join(names, " and ")
	for _, op := range window.Operations {
		s.decisions[op] = make([]*Decision, len(p.model.Resources)+len(p.model.Parts))
		for _, r := range p.model.Resources {
			var grants []*Decision
			for _, part := range parts {
				if d := part.decisions[op][r.Index]; d != nil {
					grants = append(grants, d)
				}
			}
			if len(grants) > 0 {
				s.decisions[op][r.Index] = merge(r, op, grants)
			}
		}
	}
	s.showParts()
	return s
}

// PerRole are the scopes in which a caller with several roles writes as a single one of them what that role may write. What one role
// sets and another lets the caller say, or what a replacement takes back, depends on which of them covers the row. There are none where
// no role sets anything: then the caller may do together all that it may do in one of its roles.
func (s *Scope) PerRole(replace bool) []*Scope {
	if !replace && !slices.ContainsFunc(s.parts, (*Scope).sets) {
		return nil
	}
	list := make([]*Scope, len(s.parts))
	for i, part := range s.parts {
		list[i] = s.as(part)
	}
	return list
}

// sets reports whether the role sets a field of any resource.
func (s *Scope) sets() bool {
	for _, decisions := range s.decisions {
		if slices.ContainsFunc(decisions, func(d *Decision) bool { return d != nil && len(d.Set) > 0 }) {
			return true
		}
	}
	return false
}

// as is the scope in which what one of the roles may write is written as that role.
func (s *Scope) as(part *Scope) *Scope {
	one := *s
	one.key = s.Name + " as " + part.Name
	one.decisions = maps.Clone(s.decisions)
	for _, op := range window.Operations {
		if op == window.Read {
			continue
		}
		one.decisions[op] = slices.Clone(s.decisions[op])
		for i, d := range one.decisions[op] {
			if d != nil && d.grants != nil && part.decisions[op][i] != nil {
				one.decisions[op][i] = part.decisions[op][i]
			}
		}
	}
	return &one
}

// merge is the decision of a caller with several grants of one operation.
func merge(r *model.Resource, op window.Operation, grants []*Decision) *Decision {
	if len(grants) == 1 {
		return grants[0]
	}
	d := &Decision{Fields: make([]bool, len(r.Fields)), Pos: grants[0].Pos}
	for _, g := range grants {
		for i, may := range g.Fields {
			d.Fields[i] = d.Fields[i] || may && !g.Presets(r.Fields[i])
		}
	}
	// What one of the roles may send is the caller's to say; what none may, the first role that sets it sets.
	for _, g := range grants {
		for _, p := range g.Set {
			if !d.Fields[p.Field.Index] && !d.Presets(p.Field) {
				d.Set = append(d.Set, p)
			}
		}
	}
	for _, g := range grants {
		d.grants = append(d.grants, g.asPart(r, d))
	}
	if op == window.Read {
		d.mask(r)
	}
	return d
}

// asPart is a grant as a part of a decision. It covers the fields that it sets itself, and a write meets it only if it leaves in them
// what the grant would have set.
func (d *Decision) asPart(r *model.Resource, whole *Decision) *Decision {
	g := &Decision{Fields: slices.Clone(d.Fields), Rule: d.Rule, Pos: d.Pos}
	root, where := query.NewRow(r), query.Expr(nil)
	if d.Rule != nil {
		root, where = d.Rule.Root, d.Rule.Where
	}
	plain := where
	for _, p := range d.Set {
		g.Fields[p.Field.Index] = true
		if slices.ContainsFunc(whole.Set, func(o Preset) bool { return reflect.DeepEqual(o, p) }) {
			continue
		}
		same := query.Expr(&query.Call{T: model.BooleanType, Op: "eq", Args: []query.Expr{&query.FieldOf{Row: root, Field: p.Field}, p.Value}})
		if where != nil {
			same = &query.Call{T: model.BooleanType, Op: "and", Args: []query.Expr{where, same}}
		}
		where = same
	}
	if where != plain {
		g.afterRule = &Rule{Root: root, Where: where}
	}
	return g
}

// mask finds the fields that are not to be read in every row. A field of the key, by which rows are found and put in order, can't be
// hidden in some of them: it is readable where every role may read it.
func (d *Decision) mask(r *model.Resource) {
	for _, f := range r.Fields {
		covers := func(g *Decision) bool { return g.Fields[f.Index] }
		if !d.Fields[f.Index] || !slices.ContainsFunc(d.grants, func(g *Decision) bool { return !covers(g) }) {
			continue
		}
		switch any, open := d.anyOf(covers, false); {
		case open:
		case f.InKey:
			d.Fields[f.Index] = false
		default:
			d.Masks = append(d.Masks, Mask{f, any})
		}
	}
}

// MaskOf is the place of a field in Masks, -1 where it is read in every row.
func (d *Decision) MaskOf(f *model.Field) int {
	return slices.IndexFunc(d.Masks, func(m Mask) bool { return m.Field == f })
}

// widest takes of each limit the one that allows more; 0 is none.
func widest(a, b window.Limits) window.Limits {
	w := window.Limits{Rows: wider(a.Rows, b.Rows), Depth: wider(a.Depth, b.Depth), Cost: wider(a.Cost, b.Cost), Time: wider(a.Time, b.Time),
		Requests: a.Requests, Concurrent: wider(a.Concurrent, b.Concurrent)}
	if b.Requests.Count == 0 || a.Requests.Count > 0 &&
		float64(b.Requests.Count)/b.Requests.Per.Seconds() > float64(a.Requests.Count)/a.Requests.Per.Seconds() {
		w.Requests = b.Requests
	}
	return w
}

func wider[T cmp.Ordered](a, b T) T {
	var none T
	if a == none || b == none {
		return none
	}
	return max(a, b)
}

// Includes reports whether the scope is of several roles, and this is one of them.
func (s *Scope) Includes(role *Scope) bool { return slices.Contains(s.parts, role) }
