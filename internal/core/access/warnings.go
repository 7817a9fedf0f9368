package access

import (
	"maps"
	"regexp"
	"slices"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/window"
)

// Warnings tell what a document allows and may not mean, in the order of its roles.
func (p *Policy) Warnings() fault.List {
	w := warner{model: p.model}
	for _, role := range p.model.Roles {
		w.role(role, p.roles[role.Name])
	}
	w.secrets()
	w.keys()
	return w.list
}

type warner struct {
	model *model.Model
	list  fault.List
}

func (w *warner) at(pos window.Pos, code, target, format string, args ...any) {
	w.list.Add(code, target, pos.Line, pos.Column, format, args...)
}

func (w *warner) role(role *model.Role, s *Scope) {
	w.views(role)
	for _, r := range w.model.Resources {
		for _, op := range window.Operations {
			d := s.For(op, r)
			if d == nil {
				continue
			}
			if role.Anonymous && op != window.Read {
				w.at(d.Pos, "grant.anonymous", r.Name, "role %s may %s %s: anyone may, without a token", role.Name, op, r.Name)
			}
			if d.Rule != nil {
				w.rule(role, s, op, r, d)
			}
		}
	}
}

// keys warns of a key that the document names and that nothing keeps from being given twice.
func (w *warner) keys() {
	for _, d := range w.model.Document.Resources {
		r := w.model.Resource(d.Name.Value)
		if d.Key != nil && r != nil && len(r.Key) > 0 && r.Table.Writable() && !r.KeyIsUnique() {
			w.at(d.Key[0].Pos, "key.unique", r.Name, "no constraint of %s keeps two rows from having the same key; add one, or callers will meet "+
				"several rows where they ask for one", r.Name)
		}
	}
}

// views warns of a saved view that shows all its rows to a role that may read only some of what lies underneath.
func (w *warner) views(role *model.Role) {
	limited := func(r *model.Resource) bool {
		g := role.Grants[r][window.Read]
		return g != nil && g.Rows.Value != ""
	}
	for _, view := range w.model.Resources {
		g := role.Grants[view][window.Read]
		if view.View == nil || g == nil || g.Rows.Value != "" {
			continue
		}
		for _, seen := range append([]*model.Resource{view}, w.model.Parts...) {
			if of := seen.View.Of; seen.View.Top == view && limited(of) {
				w.at(g.Pos, "view.rows", view.Name,
					"role %s may read only some rows of %s, but %s shows it those of all; if that is not meant, give the grant on %s rows of its own",
					role.Name, of.Name, view.Name, view.Name)
			}
		}
	}
}

// rule warns of a rule that is the same for every row, that looks into what the role may not read, or that no index serves.
func (w *warner) rule(role *model.Role, s *Scope, op window.Operation, r *model.Resource, d *Decision) {
	what := "role " + role.Name + ", " + string(op) + " of " + r.Name
	named, unread := false, map[*model.Resource]bool{}
	query.Walk(d.Rule.Where, func(e query.Expr) {
		switch e := e.(type) {
		case *query.FieldOf:
			named = true
			for row := e.Row; row != nil && row.Parent != nil; row = row.Parent {
				if s.For(window.Read, row.Resource) == nil && !unread[row.Resource] {
					unread[row.Resource] = true
					w.at(d.Pos, "rule.reaches", r.Name,
						"%s: the rows depend on %s, which the role may not read; which rows it sees tells something of them", what, row.Resource.Name)
				}
			}
		case *query.Quantifier, *query.Count, *query.ElementOf:
			named = true
		}
	})
	switch {
	case !named:
		w.at(d.Pos, "rule.constant", r.Name, "%s: the rule %q names no field, so it holds for every row or for none", what, d.Rule.Text)
		return
	case contradicts(d.Rule.Where):
		w.at(d.Pos, "rule.constant", r.Name, "%s: no row can meet the rule %q: one field can't have two values", what, d.Rule.Text)
		return
	}
	if f := unindexed(d.Rule); f != nil && f.Resource.Table.RowEstimate > large {
		w.at(d.Pos, "rule.slow", r.Name, "%s: the rule compares %s, which no index begins with; %s has about %d rows", what, f.Name, r.Name,
			f.Resource.Table.RowEstimate)
	}
}

// large is from how many rows on it matters that no index serves a rule.
const large = 10_000

// equalities are the comparisons of a field of the row itself with a value that all rows of a rule must meet.
func equalities(e query.Expr) map[*model.Field][]query.Expr {
	found := map[*model.Field][]query.Expr{}
	var visit func(query.Expr)
	visit = func(e query.Expr) {
		c, ok := e.(*query.Call)
		switch {
		case ok && c.Op == "and":
			for _, a := range c.Args {
				visit(a)
			}
		case ok && c.Op == "eq" && len(c.Args) == 2:
			for i, a := range c.Args {
				if f, ok := a.(*query.FieldOf); ok && f.Row.Parent == nil {
					found[f.Field] = append(found[f.Field], c.Args[1-i])
				}
			}
		}
	}
	visit(e)
	return found
}

// contradicts reports whether a rule asks one field to be two values.
func contradicts(e query.Expr) bool {
	for _, values := range equalities(e) {
		texts := map[string]bool{}
		for _, v := range values {
			if v, ok := v.(*query.Value); ok && v.Fixed != nil {
				texts[v.Fixed.Text] = true
			}
		}
		if len(texts) > 1 {
			return true
		}
	}
	return false
}

// Compared are the fields of the row itself that all rows of a rule have equal to a value, in the order of the fields.
func Compared(rule *Rule) []*model.Field {
	list := slices.Collect(maps.Keys(equalities(rule.Where)))
	slices.SortFunc(list, func(a, b *model.Field) int { return a.Index - b.Index })
	return list
}

// unindexed is a field that a rule compares with a value where no field that it compares begins an index; nil where one does.
func unindexed(rule *Rule) *model.Field {
	var first *model.Field
	for f := range equalities(rule.Where) {
		if f.Resource.Table.Indexed(f.Column.Name) {
			return nil
		}
		if first == nil || f.Index < first.Index {
			first = f
		}
	}
	return first
}

// LooksSecret reports whether a column is called like something that nobody should see.
func LooksSecret(column string) bool { return secret.MatchString(column) }

var secret = regexp.MustCompile(`(?i)(^|_)(pass(word|wd|code)?|secret|tokens?|api_?key|private_?key|salt|pin|hash)$`)

// secrets warns of fields that look like secrets, and that some role may read.
func (w *warner) secrets() {
	for _, r := range w.model.Resources {
		for _, f := range r.Fields {
			if !LooksSecret(f.Column.Name) || r.View != nil || r.Query != nil {
				continue
			}
			for _, role := range w.model.Roles {
				if g := role.Grants[r][window.Read]; g != nil && g.Fields[f.Index] {
					w.at(g.Pos, "field.secret", f.Name, "role %s may read %s of %s, which looks like a secret; if it is one, say %s: {expose: false}",
						role.Name, f.Name, r.Name, f.Column.Name)
				}
			}
		}
	}
}
