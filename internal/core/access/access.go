// Package access decides who may do what. A Policy is a model's roles with their row rules compiled; a Scope is one role of
// it, and answers for each operation on each resource: which fields, which rows, what is preset, or a refusal that says why.
package access

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/syntax"
	"eagerwindow/internal/core/window"
)

// Caller is who sent a request and as what.
type Caller struct {
	Subject  string         // a client's id, an account's number, an operator's address; "" without a token
	Operator bool           // one who acts as no role
	Program  bool           // a client of the window
	Roles    []string       // of the others
	Claims   map[string]any // as JSON has them: string, json.Number or float64, bool
	From     string         // the address that the request came from
}

// Policy is what every role of a model may do, row rules compiled.
type Policy struct {
	model    *model.Model
	roles    map[string]*Scope
	unions   sync.Map // of the scopes of several roles, by their names
	operator *Scope
}

// Scope is what a caller may do in its role, or in several. The scope of operators, who act as no role, holds all that the window exposes.
type Scope struct {
	Name      string // the role's, or those of all; "" for operators
	Anonymous bool
	Claims    []model.Claim
	Limits    window.Limits
	model     *model.Model
	views     map[*model.Resource]*request.SavedView
	decisions map[window.Operation][]*Decision // by Resource.Index
	parts     []*Scope                         // of a caller with several roles, the scope of each
	key       string                           // "": the name
}

// Decision is one operation on one resource for one role, or for several.
type Decision struct {
	Fields []bool // by Field.Index
	Rule   *Rule  // of one role; nil: every row
	Set    []Preset
	Pos    window.Pos // of the grant in the document
	Masks  []Mask     // fields that are not read in every row

	grants    []*Decision // of several roles, what each may do
	afterRule *Rule       // of such a grant: Rule, and the values that it sets itself
}

// Presets reports whether the service gives the field its value.
func (d *Decision) Presets(f *model.Field) bool {
	return slices.ContainsFunc(d.Set, func(p Preset) bool { return p.Field == f })
}

// Takes reports whether the caller may give the field a value in a write: it is granted, the database does not fill it, and the
// service does not preset it.
func (d *Decision) Takes(f *model.Field) bool {
	return d.Fields[f.Index] && !f.ReadOnly && !d.Presets(f)
}

// Rule limits rows; Where speaks of Root.
type Rule struct {
	Root  *query.Row
	Where query.Expr
	Text  string
}

// Preset is a field and the value that the service gives it.
type Preset struct {
	Field *model.Field
	Value query.Expr
}

// Bind binds a document to a catalog: the model, what its saved views show, and what its roles may do, in one value that never changes
// afterwards. The error is a fault that tells every mistake with its place in the document.
func Bind(doc *window.Document, cat *catalog.Catalog) (*Policy, error) {
	m, err := model.Bind(doc, cat)
	if err != nil {
		return nil, err
	}
	b := binder{model: m}
	b.views, b.mistakes = request.BindViews(m)
	p := &Policy{model: m, roles: map[string]*Scope{}, operator: operatorScope(m, b.views)}
	for _, r := range m.Resources {
		if _, err := request.DefaultOrder(query.NewRow(r)); err != nil {
			b.addError(r.Order[0].Pos, fmt.Sprintf("the order of %s", r.Name), err)
		}
	}
	for _, role := range m.Roles {
		p.roles[role.Name] = b.scope(role)
		b.expectations(role, p.roles[role.Name])
	}
	slices.SortStableFunc(b.mistakes, func(x, y fault.Detail) int { return cmp.Compare(x.Line, y.Line) })
	if err := b.mistakes.Fault(fault.Invalid, "document.invalid", "the window document does not fit the database:"); err != nil {
		return nil, err
	}
	return p, nil
}

// Model is what the roles speak of.
func (p *Policy) Model() *model.Model { return p.model }

type binder struct {
	model    *model.Model
	views    map[*model.Resource]*request.SavedView
	mistakes fault.List
}

func (b *binder) addError(at window.Pos, what string, err error) {
	code := "rule.invalid"
	if f, ok := fault.From(err); ok {
		code = f.Code
	}
	b.mistakes.Add(code, "", at.Line, at.Column, "%s: %s", what, err)
}

func (b *binder) scope(role *model.Role) *Scope {
	s := &Scope{Name: role.Name, Anonymous: role.Anonymous, Claims: role.Claims, Limits: role.Limits, model: b.model, views: b.views,
		decisions: map[window.Operation][]*Decision{}}
	for _, op := range window.Operations {
		s.decisions[op] = make([]*Decision, len(b.model.Resources)+len(b.model.Parts))
		for _, r := range b.model.Resources {
			if g := role.Grants[r][op]; g != nil {
				s.decisions[op][r.Index] = b.decision(role, r, op, g)
			}
		}
	}
	s.showParts()
	return s
}

// showParts lets a scope that may read a saved view read what it shows of relations. What lies underneath is not asked.
func (s *Scope) showParts() {
	for _, part := range s.model.Parts {
		if s.For(window.Read, part.View.Top) != nil {
			s.decisions[window.Read][part.Index] = &Decision{Fields: slices.Repeat([]bool{true}, len(part.Fields))}
		}
	}
}

// View is how a saved view, or a part of one, is read.
func (s *Scope) View(r *model.Resource) *request.SavedView { return s.views[r] }

func (b *binder) decision(role *model.Role, r *model.Resource, op window.Operation, g *model.Grant) *Decision {
	d := &Decision{Fields: g.Fields, Pos: g.Pos}
	rows := r
	if r.View != nil {
		d.Fields = slices.Repeat([]bool{true}, len(r.Fields))
		rows = r.View.Of // a row rule may speak of more than is shown
	}
	what := fmt.Sprintf("role %s, %s of %s", role.Name, op, r.Name)
	if g.Rows.Value != "" {
		rule, err := compile(g.Rows.Value, rows, role.Claims)
		if err != nil {
			b.addError(g.Rows.Pos, what, err)
		}
		d.Rule = rule
	}
	for _, set := range g.Set {
		value, err := preset(set, role.Claims)
		if err != nil {
			b.addError(set.Value.Pos, what, err)
			continue
		}
		d.Set = append(d.Set, Preset{set.Field, value})
	}
	return d
}

func compile(text string, r *model.Resource, claims []model.Claim) (*Rule, error) {
	node, err := syntax.ParseRule(text)
	if err != nil {
		return nil, err
	}
	root := query.NewRow(r)
	where, err := request.Condition(node, root, claims)
	if err != nil {
		return nil, err
	}
	query.Walk(where, func(e query.Expr) {
		if v, ok := e.(*query.Value); ok && err == nil {
			_, err = v.Arg(nil)
		}
	})
	if err != nil {
		return nil, err
	}
	return &Rule{Root: root, Where: where, Text: text}, nil
}

// preset is a literal as the field's type has it, or @caller/name.
func preset(p model.Preset, claims []model.Claim) (query.Expr, error) {
	if name, ok := strings.CutPrefix(p.Value.Value, "@caller/"); ok {
		for _, c := range claims {
			if c.Name == name {
				return &query.Claim{T: c.Type, Name: name}, nil
			}
		}
		return nil, fmt.Errorf("the role has no claim %q", name)
	}
	v := &query.Value{T: p.Field.Type, Fixed: &syntax.Literal{Class: syntax.Segment, Text: p.Value.Value, Option: "set"}}
	_, err := v.Arg(nil)
	return v, err
}

func operatorScope(m *model.Model, views map[*model.Resource]*request.SavedView) *Scope {
	s := &Scope{model: m, views: views, decisions: map[window.Operation][]*Decision{}}
	for _, op := range window.Operations {
		s.decisions[op] = make([]*Decision, len(m.Resources)+len(m.Parts))
		for _, r := range m.Resources {
			if !r.Can(op) {
				continue
			}
			all := make([]bool, len(r.Fields))
			for i := range all {
				all[i] = true
			}
			s.decisions[op][r.Index] = &Decision{Fields: all}
		}
	}
	s.showParts()
	return s
}

// Scope is the scope that a caller acts in. Roles that the document does not have any more count only where there is no other.
func (p *Policy) Scope(c Caller) (*Scope, error) {
	switch {
	case c.Operator:
		return p.operator, nil
	case len(c.Roles) == 1:
		if s, ok := p.roles[c.Roles[0]]; ok {
			return s, nil
		}
	case c.Anonymous():
		if role := p.model.AnonymousRole(); role != nil {
			return p.roles[role.Name], nil
		}
		return nil, &fault.Fault{Kind: fault.Unauthenticated, Code: "token.missing",
			Message: "this API answers only callers with a token; send it as \"Authorization: Bearer …\""}
	}
	known := make([]*model.Role, 0, len(c.Roles))
	names := ""
	for _, role := range p.model.Roles { // in the document's order, each once
		if slices.Contains(c.Roles, role.Name) {
			known = append(known, role)
			names += role.Name + " "
		}
	}
	switch len(known) {
	case 0:
		return nil, fault.New(fault.Forbidden, "role.unknown", "%s", unknown(c.Roles, p.RoleNames()))
	case 1:
		return p.roles[known[0].Name], nil
	}
	if s, ok := p.unions.Load(names); ok {
		return s.(*Scope), nil
	}
	s, _ := p.unions.LoadOrStore(names, p.union(known))
	return s.(*Scope), nil
}

func unknown(roles, known []string) string {
	if len(roles) == 0 {
		return "the caller has no role here; an operator of this API can give it one"
	}
	return fmt.Sprintf("there is no role %q here%s", roles[0], fault.Suggest(roles[0], known))
}

// RoleNames lists the roles in the document's order.
func (p *Policy) RoleNames() []string {
	names := make([]string, len(p.model.Roles))
	for i, r := range p.model.Roles {
		names[i] = r.Name
	}
	return names
}

// For is the decision for an operation on a resource, nil where it is not granted.
func (s *Scope) For(op window.Operation, r *model.Resource) *Decision {
	if r.Derived { // what its steps may touch has been checked
		return &Decision{Fields: slices.Repeat([]bool{true}, len(r.Fields))}
	}
	return s.decisions[op][r.Index]
}

// Granted lists the resources with which the role may do the operation.
func (s *Scope) Granted(op window.Operation) []string {
	var names []string
	for _, r := range s.model.Resources {
		if s.For(op, r) != nil {
			names = append(names, r.Name)
		}
	}
	return names
}

// Refuse says that the role may not do the operation on the resource, and what it may.
func (s *Scope) Refuse(op window.Operation, r *model.Resource) error {
	if !r.Can(op) {
		return fault.NotAllowed("operation.impossible", r.Methods(true, true), "%s can't be used to %s rows: it is a %s, and offers %s", r.Name,
			op, r.Kind(), offered(r)).On(r.Name)
	}
	may := "it may " + string(op) + " " + strings.Join(s.Granted(op), ", ")
	if len(s.Granted(op)) == 0 {
		may = "it may " + string(op) + " nothing"
	}
	if s.Anonymous {
		return &fault.Fault{Kind: fault.Unauthenticated, Code: "access.denied", Target: r.Name,
			Message: fmt.Sprintf("without a token the role is %q, which may not %s %s; %s. Send a token of a role that may as \"Authorization: "+
				"Bearer …\"", s.Name, op, r.Name, may)}
	}
	return &fault.Fault{Kind: fault.Forbidden, Code: "access.denied", Target: r.Name,
		Message: fmt.Sprintf("role %q may not %s %s; %s", s.Name, op, r.Name, may)}
}

func offered(r *model.Resource) string {
	ops := make([]string, len(r.Operations))
	for i, o := range r.Operations {
		ops[i] = string(o)
	}
	return strings.Join(ops, ", ")
}

// refuseField says that the role may not read a field. Without a token, another role might.
func (s *Scope) refuseField(f *model.Field) error {
	kind := fault.Forbidden
	if s.Anonymous {
		kind = fault.Unauthenticated
	}
	var may []string
	for i, ok := range s.For(window.Read, f.Resource).Fields {
		if ok {
			may = append(may, f.Resource.Fields[i].Name)
		}
	}
	return &fault.Fault{Kind: kind, Code: "access.field", Target: f.Name,
		Message: fmt.Sprintf("role %q may not read %s of %s; it may read %s", s.Name, f.Name, f.Resource.Name, strings.Join(may, ", "))}
}

// Readable lists the fields of a resource that the role may read.
func (s *Scope) Readable(r *model.Resource) []*model.Field {
	d := s.For(window.Read, r)
	if d == nil {
		return nil
	}
	var out []*model.Field
	for _, f := range r.Fields {
		if d.Fields[f.Index] {
			out = append(out, f)
		}
	}
	return out
}

// Reads reports whether the role may read all fields that an expression names.
func (s *Scope) Reads(e query.Expr) bool {
	all := true
	query.Walk(e, func(e query.Expr) {
		if f, ok := e.(*query.FieldOf); ok && s.checkField(f.Field) != nil {
			all = false
		}
	})
	return all
}

// Vectors are those of a resource whose words are all of fields that the role may read in every row.
func (s *Scope) Vectors(r *model.Resource) []*model.Vector {
	d := s.For(window.Read, r)
	if d == nil {
		return nil
	}
	open := func(f *model.Field) bool { return d.Fields[f.Index] && d.MaskOf(f) < 0 }
	var list []*model.Vector
	for _, v := range r.Vectors {
		of := v.Of
		if of == nil { // any text may be in it
			for _, c := range r.Table.Columns {
				if f := r.FieldOf(c.Name); f == nil && model.TypeOf(c.Type).Kind == model.String {
					of = nil
					break
				} else if f != nil && f.Type.Kind == model.String {
					of = append(of, f)
				}
			}
		}
		if of != nil && !slices.ContainsFunc(of, func(f *model.Field) bool { return !open(f) }) {
			list = append(list, v)
		}
	}
	return list
}

// MayLink reports whether the role may tie and untie rows along a relation: it reads both ends, and updates the row that holds the
// relation, or with a junction the one that it starts from.
func (s *Scope) MayLink(rel *model.Relation) bool {
	_, lacking := s.lacks(rel)
	return lacking == nil && s.CheckLink(rel) == nil
}

// lacks is an operation on a resource that links of a relation take and the role may not; no resource where it may all.
func (s *Scope) lacks(rel *model.Relation) (window.Operation, *model.Resource) {
	for _, r := range []*model.Resource{rel.From, rel.To} {
		if s.For(window.Read, r) == nil {
			return window.Read, r
		}
	}
	if holder := holderOf(rel); s.For(window.Update, holder) == nil {
		return window.Update, holder
	}
	return "", nil
}

// holderOf is the resource whose rows a link of the relation changes.
func holderOf(rel *model.Relation) *model.Resource {
	if rel.Through == nil && !rel.Holds() {
		return rel.To
	}
	return rel.From
}

// CheckLink is the refusal where the role may not.
func (s *Scope) CheckLink(rel *model.Relation) error {
	if op, r := s.lacks(rel); r != nil {
		return s.Refuse(op, r)
	}
	if rel.Through != nil {
		return nil
	}
	holder := holderOf(rel)
	d := s.For(window.Update, holder)
	for _, f := range rel.Holding() {
		switch {
		case f == nil:
			return fault.New(fault.Unsupported, "link.hidden", "the fields behind %s are not shown here, so it can't be written", rel.Name)
		case f.InKey:
			return fault.New(fault.Conflict, "link.required",
				"%s is part of the key of %s, so its rows can't be tied to others, or be without one; nothing was changed", f.Name,
				holder.Name).On(f.Name)
		case !d.Takes(f):
			return fault.New(fault.Forbidden, "access.field", "role %q may not update %s of %s, which ties the rows", s.Name, f.Name,
				holder.Name).On(f.Name)
		}
	}
	return nil
}

// MayName reports whether the role may make a row of a key that it names.
func (s *Scope) MayName(r *model.Resource) bool { return r.KeyIsChosen() && s.MayGive(r, r.Key) }

// MayGive reports whether the role may give fields to a new row.
func (s *Scope) MayGive(r *model.Resource, fields []*model.Field) bool {
	d := s.For(window.Create, r)
	return d != nil && !slices.ContainsFunc(fields, func(f *model.Field) bool { return !d.Fields[f.Index] || f.ReadOnly || d.Presets(f) })
}

// CheckClaims reports whether the claims are there and have the types that the role asks for. A missing one refuses the caller:
// a row rule over nothing must not let everything through.
func (s *Scope) CheckClaims(claims map[string]any) error {
	for _, c := range s.Claims {
		if _, err := ClaimValue(claims, c.Name, c.Type); err != nil {
			return err
		}
	}
	return nil
}

// ClaimValue is a claim as an argument of its type: int64, string or bool, as request.Value.Arg has them.
func ClaimValue(claims map[string]any, name string, t *model.Type) (any, error) {
	raw, ok := claims[name]
	if !ok || raw == nil {
		return nil, fault.New(fault.Forbidden, "claim.missing",
			"the caller has no claim %q, which its role needs; an operator of this API gives it, or the issuer of the token", name).On(name)
	}
	var text string
	switch raw := raw.(type) {
	case string:
		text = raw
	case json.Number:
		text = raw.String()
	case float64:
		text = strconv.FormatFloat(raw, 'f', -1, 64)
	case int:
		text = strconv.Itoa(raw)
	case int64:
		text = strconv.FormatInt(raw, 10)
	case bool:
		text = strconv.FormatBool(raw)
	default:
		return nil, fault.New(fault.Forbidden, "claim.type", "the claim %q is not a single value", name).On(name)
	}
	v := query.Value{T: t, Fixed: &syntax.Literal{Class: syntax.Segment, Text: text, Option: "claim " + name}}
	arg, err := v.Arg(nil)
	if err != nil {
		return nil, fault.New(fault.Forbidden, "claim.type", "the claim %q is %q, which is no %s", name, text, t.Kind).On(name)
	}
	return arg, nil
}

// Key tells scopes of one policy apart in caches.
func (s *Scope) Key() string { return cmp.Or(s.key, s.Name) }

// Operations lists what the role may do with a resource, in order.
func (s *Scope) Operations(r *model.Resource) []window.Operation {
	var out []window.Operation
	for _, op := range window.Operations {
		if s.For(op, r) != nil {
			out = append(out, op)
		}
	}
	return out
}

// Anonymous reports whether the caller sent no token.
func (c Caller) Anonymous() bool { return c.Subject == "" && !c.Operator && len(c.Roles) == 0 }
