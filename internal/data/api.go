// Package data is the data API of a window: reading and writing its rows for callers. In go paths, options, bodies and who calls; out come
// pages that are read as they arrive from the database, what a write has done, or a fault. It knows no HTTP.
package data

import (
	"eagerwindow/internal/seal"

	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/postgres"
	"eagerwindow/internal/records"
)

// API is one version of a window that answers requests: its live release, or its draft.
type API struct {
	Model   *model.Model
	Policy  *access.Policy
	Release int // 0: the draft

	pool    *postgres.Source
	place   postgres.Place // where requests run
	box     *seal.Box
	records *records.Store
	plans   *lru.Cache[planKey, *planned]
	refer   func(ref string) (path string, err error) // of a batch: the path of a row that $id stands for in a body
}

// planned is what is remembered of a shape.
type planned struct {
	query    *postgres.Statement
	resource *model.Resource
	order    []query.Term
	context  string
	refused  error // over the role's limit of cost
}

// planKey tells shapes apart: for whom, what, how continued, how limited, how written.
type planKey struct {
	role, shape, after string
	bounds             statement.Bounds
	format             encode.Format
	full               bool
	write              string // of a write, what it does with which fields
}

// maxPlans bounds the cache of plans of one API.
const maxPlans = 2000

// Options are what an API needs from its surroundings.
type Options struct {
	Policy  *access.Policy
	Source  *postgres.Source
	Box     *seal.Box      // seals next links
	Records *records.Store // keeps the answers to requests with an Idempotency-Key
	Release int            // 0: the draft
}

// New makes an API of a bound document.
func New(o Options) *API {
	plans, _ := lru.New[planKey, *planned](maxPlans) // fails for a size under 1 only
	return &API{Model: o.Policy.Model(), Policy: o.Policy, Release: o.Release, pool: o.Source, place: o.Source, box: o.Box, records: o.Records,
		plans: plans}
}

// Source is the database that the API speaks of.
func (a *API) Source() *postgres.Source { return a.pool }

// Atomically runs do with the API in one transaction, which an error undoes whole.
func (a *API) Atomically(ctx context.Context, do func(*API) error) error {
	if a.place != postgres.Place(a.pool) {
		return do(a)
	}
	return a.pool.Transact(ctx, func(tx *postgres.Tx) error { return do(a.within(tx)) })
}

// within is the API with its requests in a transaction.
func (a *API) within(tx *postgres.Tx) *API {
	w := *a
	w.place = tx
	return &w
}

// Referring is the API as the requests of a batch see it, in whose bodies $id stands for what a request before has made or read.
func (a *API) Referring(refer func(ref string) (path string, err error)) *API {
	r := *a
	r.refer = refer
	return &r
}

// Preferences are what a caller asks for besides the URL.
type Preferences struct {
	MaxPageSize     int // 0: not given
	Format          encode.Format
	Full            bool   // all control information: links and types
	Return          string // of a write: minimal, representation, "" not said
	ContinueOnError bool   // of a batch: go on after a failure
	Explain         bool   // how the database would answer, not the answer
}

// TimeLimit is how long a statement may take until its first row; a long answer may then take as long as its reader needs.
const TimeLimit = 30 * time.Second

// timeOf is how long a statement of a role may take.
func timeOf(scope *access.Scope) time.Duration {
	if own := scope.Limits.Time; own > 0 {
		return min(TimeLimit, own)
	}
	return TimeLimit
}

// Read answers a GET of the data API. path is below the window, without its name.
func (a *API) Read(ctx context.Context, c access.Caller, path, rawQuery string, prefs Preferences) (*Page, error) {
	r, err := request.Read(a.Model, path, rawQuery)
	if err != nil {
		return nil, err
	}
	return a.read(ctx, c, r, prefs)
}

func (a *API) read(ctx context.Context, c access.Caller, r *request.Request, prefs Preferences) (*Page, error) {
	scope, err := a.Scope(c)
	if err != nil {
		return nil, err
	}
	if r.View == query.Each {
		return nil, notHere(r, "method.each", []string{"PATCH", "DELETE"},
			"$each is for changing and deleting every row of the filter; leave it out to read them")
	}
	token, err := a.openToken(r)
	if err != nil {
		return nil, err
	}
	var s span
	if !r.Single {
		if s, err = spanOf(r, token, prefs, scope.Limits.Rows); err != nil {
			return nil, err
		}
	}
	p, err := a.plan(ctx, scope, r, token, s, prefs)
	r.Release()
	if err == nil {
		err = p.refused
	}
	if err != nil {
		return nil, err
	}
	page := &Page{Context: p.context, Single: r.Single, Counted: p.query.Plan.Total >= 0, View: r.View, Field: r.Field, api: a, read: r,
		plan: p}
	in := statement.Input{Literals: r.Literals, Claims: c.Claims}
	if !r.Single {
		page.span, in.Limit, in.Offset, in.After = s, s.fetch(), s.offset, token.values(p.order)
	}
	args, err := p.query.Plan.Args(in)
	if err != nil {
		return nil, err
	}
	limit := timeOf(scope)
	if prefs.Explain {
		page.Explained, err = a.explanation(ctx, p.query, args, limit)
		return page, err
	}
	if page.cursor, err = p.query.Open(ctx, a.place, args, limit); err != nil {
		return nil, err
	}
	if r.View == query.Number {
		return page, nil
	}
	if page.Empty = !page.cursor.Next(); !page.Empty {
		return page, nil
	}
	// The connection goes back before another one is asked for: requests that hold one and wait for a second could block each other.
	if err := page.cursor.Close(); err != nil {
		return nil, err
	}
	if err := a.leadsNowhere(ctx, c, r); err != nil {
		return nil, err
	}
	return page, nil
}

// leadsNowhere tells an answer without rows from a path to a row that is not there, or from one.
func (a *API) leadsNowhere(ctx context.Context, c access.Caller, r *request.Request) error {
	parent := r.Before()
	if r.Single && (parent == nil || !r.ToOne()) {
		return change.NoRow(r.Resource)
	}
	if parent == nil {
		return nil
	}
	before, err := a.read(ctx, c, parent, Preferences{})
	if err != nil {
		return err
	}
	return before.Close()
}

// Scope is what a caller may do, whose claims are those that its role asks for.
func (a *API) Scope(c access.Caller) (*access.Scope, error) {
	scope, err := a.Policy.Scope(c)
	if err != nil {
		return nil, err
	}
	return scope, scope.CheckClaims(c.Claims)
}

// plan finds or makes the plan of a request's shape for a role.
func (a *API) plan(ctx context.Context, scope *access.Scope, r *request.Request, t *nextToken, s span, prefs Preferences) (*planned,
	error) {
	bounds := s.bounds()
	key := planKey{scope.Key(), r.Shape, t.shape(), bounds, prefs.Format, prefs.Full, ""}
	if p, ok := a.plans.Get(key); ok {
		return p, nil
	}
	if scope.For(window.Read, r.Resource) == nil {
		return nil, scope.Refuse(window.Read, r.Resource) // before anything is told of what it has
	}
	q, err := r.Resolve()
	if err != nil {
		return nil, err
	}
	if q, err = scope.Check(q); err != nil {
		return nil, err
	}
	after, err := t.nulls(len(q.Order))
	if err != nil {
		return nil, err
	}
	p := &planned{resource: q.Root.Resource, order: q.Order, context: contextOf(r, q)}
	p.query = postgres.Compile(statement.Read(q, scope, after, bounds, prefs.Full), orderTypes(q.Order), prefs.Format)
	if most := scope.Limits.Cost; most > 0 {
		cost, err := p.query.Cost(ctx, a.pool)
		if err != nil {
			return nil, err
		}
		if cost > most {
			p.refused = fault.New(fault.Forbidden, "limit.cost", "the database expects this request to cost %.0f, and role %q may spend %.0f; "+
				"ask for less, or filter and sort by fields that an index serves", cost, scope.Name, most)
		}
	}
	a.plans.Add(key, p)
	return p, nil
}

// Explanation is how the database answers a request.
type Explanation struct {
	SQL       string             `json:"sql"`
	Arguments []any              `json:"arguments"`
	Took      float64            `json:"took_ms"`
	Advice    []statement.Advice `json:"advice"`
	Plan      json.RawMessage    `json:"plan"`
	Rows      *int64             `json:"rows,omitempty"` // that a write of every row of a filter would write
}

func (a *API) explanation(ctx context.Context, q *postgres.Statement, args []any, limit time.Duration) (*Explanation, error) {
	plan, err := q.Explain(ctx, a.pool, args, limit)
	if err != nil {
		return nil, err
	}
	explained, err := statement.ReadExplained(plan)
	if err != nil {
		return nil, err
	}
	return &Explanation{SQL: q.Plan.SQL, Arguments: append([]any{}, args...), Took: explained.Took,
		Advice: append([]statement.Advice{}, q.Plan.Advise(explained)...), Plan: plan}, nil
}

func orderTypes(terms []query.Term) []*model.Type {
	types := make([]*model.Type, len(terms))
	for i, t := range terms {
		types[i] = t.By.Type()
	}
	return types
}

// contextOf is the fragment of the context URL (JSON Format, 4.5.1; Protocol, 10): the resource, what of it is selected, and
// $entity for a single row; of a field, the row it stands in and its name; of links, that they are links.
func contextOf(r *request.Request, q *query.Query) string {
	name := r.Resource.Name
	switch {
	case r.View == query.Refs && r.Single:
		return "$ref"
	case r.View == query.Refs:
		return "Collection($ref)"
	case r.Field != nil:
		return name + "/" + r.Field.Name
	case r.Single:
		return name + contextSelect(q) + "/$entity"
	}
	return name + contextSelect(q)
}

func contextSelect(q *query.Query) string {
	var parts []string
	selected := q.Select
	if selected == nil && q.Root.Resource.Derived {
		selected = q.Root.Resource.Fields
	}
	if q.Root.Resource.Derived {
		parts = grouped(selected)
		selected = nil
	}
	for _, f := range selected {
		parts = appendParts(parts, f.Name, f.Type, q.Parts[f])
	}
	if q.Select != nil || q.Root.Resource.Derived {
		for _, c := range q.Computed {
			parts = append(parts, c.Name)
		}
	}
	for _, e := range q.Expand {
		inner := contextSelect(e.Query)
		if inner == "" {
			inner = "()"
		}
		parts = append(parts, e.Relation.Name+inner)
	}
	if parts == nil {
		return ""
	}
	return "(" + strings.Join(parts, ",") + ")"
}

// grouped names the fields of what apply makes: those of a relation stand in brackets after it.
func grouped(fields []*model.Field) []string {
	var parts []string
	within := map[string][]*model.Field{}
	for _, f := range fields {
		first, rest, deeper := strings.Cut(f.Name, "/")
		if !deeper {
			parts = append(parts, f.Name)
			continue
		}
		if within[first] == nil {
			parts = append(parts, first)
		}
		within[first] = append(within[first], &model.Field{Name: rest})
	}
	for i, part := range parts {
		if inner := within[part]; inner != nil {
			parts[i] = part + "(" + strings.Join(grouped(inner), ",") + ")"
		}
	}
	return parts
}

// appendParts names a field, or what is selected below it.
func appendParts(parts []string, name string, whole, part *model.Type) []string {
	if part == nil || part == whole {
		return append(parts, name)
	}
	for _, f := range part.Fields {
		i := slices.IndexFunc(whole.Fields, func(w model.SubType) bool { return w.Name == f.Name })
		parts = appendParts(parts, name+"/"+f.Name, whole.Fields[i].Type, f.Type)
	}
	return parts
}
