// Package data is the data API of a window: reading and writing its rows for callers. In go paths, options, bodies and who calls; out come
// pages that are read as they arrive from the database, what a write has done, or a fault. It knows no HTTP.
package data

import (
	"eagerwindow/internal/seal"

	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
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
	"eagerwindow/internal/sized"
)

// API is one version of a window that answers requests: its live release, or its draft.
type API struct {
	Model   *model.Model
	Policy  *access.Policy
	Release int // 0: the draft
	Catalog *catalog.Catalog
	ID      uint64 // no other API of the process has it

	pool      *postgres.Source
	tx        *postgres.Tx // that requests run in; nil: each by itself
	box       *seal.Box
	records   *records.Store
	plans     *sized.Cache[planKey, *planned]
	uses      *uses
	rehearsal bool                                      // tx is that of a rehearsal
	refer     func(ref string) (path string, err error) // of a batch: the path of a row that $id stands for in a body
}

// planned is what is remembered of a shape.
type planned struct {
	query    *postgres.Statement
	shape    string   // the request that it is for
	shown    string   // that, as people read it
	uses     []string // of a read: resources, and their fields and relations
	resource *model.Resource
	order    []query.Term
	context  string       // of a property, what follows the address of its row
	property *model.Field // that is answered by itself; nil: rows are
	view     query.View
	refused  error        // over the role's limit of cost
	took     atomic.Int64 // how long it takes until its first row, in nanoseconds: a moving mean; 0 before it has run
	variant  string       // of a row with a version: what its entity tag says besides it
	personal bool         // what the row shows depends on the caller's claims
}

// slowFrom is how long the first row of a statement takes that counts as slow: of those, one caller may run few at once. So does one that
// has not run yet, unless it looks for one row by its key.
const slowFrom = 20 * time.Millisecond

func (p *planned) slow() bool {
	took := p.took.Load()
	return took == 0 && !p.query.Plan.SingleKeyRead || took > int64(slowFrom)
}

// ran notes how long the statement took. That two do so at once may lose one of them.
func (p *planned) ran(took time.Duration) {
	mean := int64(took)
	if mean == 0 { // one of several reads that were answered together
		return
	}
	if before := p.took.Load(); before > 0 {
		mean = (3*before + mean) / 4
	}
	p.took.Store(mean)
}

// planKey tells shapes apart: for whom, what, how continued, how limited, how written.
type planKey struct {
	role, shape, after string
	bounds             statement.Bounds
	format             encode.Format
	write              string // of a write, what it does with which fields
}

// maxPlans bounds the cache of plans of one API: their number, and the bytes of their shapes and SQL.
const (
	maxPlans     = 2000
	maxPlansSize = 16 << 20
)

// maxSQL is how long a statement may get.
const maxSQL = 1 << 20

func (a *API) keepPlan(key planKey, p *planned) {
	p.shape, p.shown = key.shape, shownShape(key.shape)
	a.plans.Add(key, p, len(key.shape)+len(p.query.Plan.SQL))
}

// Options are what an API needs from its surroundings.
type Options struct {
	Policy  *access.Policy
	Catalog *catalog.Catalog // that the policy is bound to
	Source  *postgres.Source
	Box     *seal.Box      // seals next links
	Records *records.Store // keeps the answers to requests with an Idempotency-Key
	Release int            // 0: the draft
}

// made counts the APIs of the process.
var made atomic.Uint64

// New makes an API of a bound document.
func New(o Options) *API {
	plans := sized.New[planKey, *planned](maxPlans, maxPlansSize, nil)
	return &API{Model: o.Policy.Model(), Policy: o.Policy, Release: o.Release, Catalog: o.Catalog, ID: made.Add(1), pool: o.Source, box: o.Box,
		records: o.Records,
		plans:   plans, uses: &uses{counts: map[useKey]int64{}}}
}

// Root is the path of the API.
func (a *API) Root() string {
	if a.Release == 0 {
		return "/draft/" + a.Model.Name
	}
	return "/api/" + a.Model.Name
}

// Use is how many connections of one kind are in use, may be, and are waited for.
type Use = postgres.Use

// Use tells how the connections to the source are used.
func (a *API) Use() postgres.Uses { return a.pool.Uses() }

// Slow is a statement that takes long, and the path of the requests that it answers.
type Slow struct {
	Shape string
	Took  time.Duration // until its first row, a moving mean
	Plan  *statement.Plan
}

// Slowest are the slowest statements that the API knows of, at most so many, that take at least so long.
func (a *API) Slowest(most int, from time.Duration) []Slow {
	var list []Slow
	for _, p := range a.plans.Values() {
		if took := time.Duration(p.took.Load()); took >= from && p.query != nil && len(p.query.Plan.Uses) > 0 {
			list = append(list, Slow{p.shape, took, p.query.Plan})
		}
	}
	slices.SortFunc(list, func(a, b Slow) int { return cmp.Compare(b.Took, a.Took) })
	return list[:min(most, len(list))]
}

// planTime is how long it may take to plan a statement of a shape for an operator.
const planTime = 3 * time.Second

// Statement is what answers requests of a shape, and the database's plan for it as JSON; nil where the API has answered none.
func (a *API) Statement(ctx context.Context, shape string) (*Slow, json.RawMessage, error) {
	for _, p := range a.plans.Values() {
		if p.shown != shape || p.query == nil {
			continue
		}
		plan, err := p.query.GenericPlan(ctx, a.client(access.Caller{Operator: true}, "", ""), planTime)
		return &Slow{p.shown, time.Duration(p.took.Load()), p.query.Plan}, plan, err
	}
	return nil, nil, nil
}

// Plans is the number of shapes whose statement is remembered.
func (a *API) Plans() int { return a.plans.Len() }

// Source is the database that the API speaks of.
func (a *API) Source() *postgres.Source { return a.pool }

// Atomically runs do with the API in one transaction for a caller, which an error undoes whole.
func (a *API) Atomically(ctx context.Context, c access.Caller, do func(*API) error) error {
	switch {
	case a.rehearsal:
		return a.Attempt(ctx, do)
	case a.tx != nil:
		return do(a)
	}
	return a.client(c, "", "").Transact(ctx, func(tx *postgres.Tx) error { return do(a.within(tx)) })
}

// place is where a request runs that is about a resource first.
func (a *API) place(c access.Caller, scope *access.Scope, r *model.Resource, slow bool) postgres.Place {
	if a.tx != nil {
		return a.tx
	}
	client := a.client(c, scope.Key(), r.Name)
	client.Slow = slow
	return client
}

// client is the source as a caller uses it.
func (a *API) client(c access.Caller, role, resource string) postgres.Client {
	return a.pool.For(postgres.Share{Window: a.Model.Name, Caller: cmp.Or(c.Subject, c.From), Role: role, Resource: resource})
}

// within is the API with its requests in a transaction.
func (a *API) within(tx *postgres.Tx) *API {
	w := *a
	w.tx = tx
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
	token, err := a.openToken(r, scope.Key())
	if err != nil {
		return nil, err
	}
	var s span
	if !r.Single {
		if s, err = spanOf(r, token, prefs, scope.Limits.Rows); err != nil {
			return nil, err
		}
	}
	p, err := a.plan(ctx, c, scope, r, token, s, prefs)
	r.Release()
	if err == nil {
		err = p.refused
	}
	if err != nil {
		return nil, err
	}
	page := &Page{caller: c, role: scope.Key(), Context: p.context, Single: r.Single, Counted: p.query.Plan.Total >= 0, View: p.view,
		Field: p.property, api: a, read: r, plan: p}
	if page.Field != nil {
		page.Context = r.Address() + p.context
	}
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
		page.Explained, err = a.explanation(ctx, c, p.query, args, limit)
		return page, err
	}
	a.countRead(c, p)
	start := time.Now()
	if page.cursor, err = p.query.Open(ctx, a.place(c, scope, r.Resource, p.slow()), args, limit); err != nil {
		return nil, err
	}
	page.Waited = time.Since(start)
	p.ran(page.cursor.Took())
	if page.View == query.Number {
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
func (a *API) plan(ctx context.Context, c access.Caller, scope *access.Scope, r *request.Request, t *nextToken, s span,
	prefs Preferences) (*planned,
	error) {
	bounds := s.bounds()
	key := planKey{scope.Key(), r.Shape, t.shape(), bounds, prefs.Format, ""}
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
	if q.Metadata = prefs.Format.Metadata; r.Field != nil {
		q.Metadata = query.None // a value by itself
	}
	read := statement.Read(q, scope, after, bounds)
	if len(read.SQL) > maxSQL {
		return nil, fault.New(fault.Invalid, "limit.expression", "the request becomes a statement of %d bytes, at most %d are sent to the "+
			"database; ask for less at once", len(read.SQL), maxSQL)
	}
	p := &planned{resource: q.Root.Resource, order: q.Order, context: contextOf(r, q), property: r.Property(), view: q.View}
	p.query = postgres.Compile(read, orderTypes(q.Order), prefs.Format)
	if a.Release > 0 {
		p.uses = q.Touched(func(f *model.Field) bool {
			d := scope.For(window.Read, f.Resource)
			return d != nil && d.Fields[f.Index]
		})
	}
	if most := scope.Limits.Cost; most > 0 {
		cost, err := p.query.Cost(ctx, a.client(c, scope.Key(), r.Resource.Name), timeOf(scope))
		if err != nil {
			return nil, err
		}
		if cost > most {
			p.refused = fault.New(fault.Forbidden, "limit.cost", "the database expects this request to cost %.0f, and role %q may spend %.0f; "+
				"ask for less, or filter and sort by fields that an index serves", cost, scope.Name, most)
		}
	}
	if p.query.Plan.Version >= 0 {
		sum := fnv.New32a()
		fmt.Fprintf(sum, "%d %s %q %v", a.Release, scope.Key(), r.Shape, prefs.Format)
		p.variant, p.personal = strconv.FormatUint(uint64(sum.Sum32()), 36), len(scope.For(window.Read, r.Resource).Masks) > 0
	}
	a.keepPlan(key, p)
	return p, nil
}

// Explanation is how the database answers a request.
type Explanation struct {
	SQL       string             `json:"sql"`
	Arguments []any              `json:"arguments"`
	Took      float64            `json:"took_ms"`
	Advice    []statement.Advice `json:"advice"`
	Plan      json.RawMessage    `json:"plan"`
	Rules     []string           `json:"rules"`          // the parts of the SQL that row rules add
	Rows      *int64             `json:"rows,omitempty"` // that a write of every row of a filter would write
}

func (a *API) explanation(ctx context.Context, c access.Caller, q *postgres.Statement, args []any, limit time.Duration) (*Explanation,
	error) {
	plan, err := q.Explain(ctx, a.client(c, "", ""), args, limit)
	if err != nil {
		return nil, err
	}
	explained, err := statement.ReadExplained(plan)
	if err != nil {
		return nil, err
	}
	return &Explanation{SQL: q.Plan.SQL, Rules: append([]string{}, q.Plan.Rules...), Arguments: append([]any{}, args...), Took: explained.Took,
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
		return "/" + strings.Join(append([]string{r.Field.Name}, r.Below()...), "/")
	case r.Single:
		return name + contextSelect(q) + "/$entity"
	case !q.Root.Resource.Derived && len(r.Resource.Key) == 0: // a function's rows, which are in no set
		return "Collection(" + r.Resource.Model.Namespace() + "." + r.Resource.RowType() + ")" + contextSelect(q)
	}
	return name + contextSelect(q)
}

func contextSelect(q *query.Query) string {
	var parts []string
	for _, n := range q.Nests {
		parts = append(parts, n.Name+contextSelect(n.Query))
	}
	if parts != nil {
		return "(" + strings.Join(parts, ",") + ")"
	}
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
	all := whole.Parts()
	for _, f := range part.Fields {
		i := slices.IndexFunc(all, func(w model.SubType) bool { return w.Name == f.Name })
		parts = appendParts(parts, name+"/"+f.Name, all[i].Type, f.Type)
	}
	return parts
}
