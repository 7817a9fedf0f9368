package data

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/postgres"
)

// singleWrite is what the statement of a write is made of that writes one row, or every row of a filter.
type singleWrite struct {
	op       window.Operation
	fields   []*model.Field
	values   []*string
	defaults []*model.Field
	versions []string // one of which the row must have; nil: any
	show     bool     // of every row of a filter: answer with them
	optional bool     // the row may be missing
	lock     bool     // the rows of a filter are locked, and no more
}

// signature tells apart the statements of writes of one shape.
func (w singleWrite) signature() string {
	b := make([]byte, 0, 64)
	b = append(append(b, w.op...), ' ')
	for _, f := range w.fields {
		b = append(b, byte(f.Index), byte(f.Index>>8))
	}
	b = append(b, "\xff\xff"...)
	for _, f := range w.defaults {
		b = append(b, byte(f.Index), byte(f.Index>>8))
	}
	b = append(b, "\xff\xff"...)
	if w.versions != nil {
		b = append(b, "versions"...)
	}
	if w.show {
		b = append(b, "shown"...)
	}
	if w.lock {
		b = append(b, "locked"...)
	}
	return string(b)
}

// plan makes the statement.
func (w singleWrite) plan(q *query.Query, scope *access.Scope) *statement.Plan {
	each := q.View == query.Each
	switch {
	case w.lock:
		return statement.LockEach(q, w.op, scope)
	case each && w.op == window.Delete:
		return statement.DeleteEach(q, scope)
	case each:
		return statement.UpdateEach(q, w.fields, scope, w.show)
	case w.op == window.Create:
		return statement.Create(q, w.fields, scope)
	case w.op == window.Delete:
		return statement.Delete(q, scope, w.versions != nil)
	}
	return statement.Update(q, w.fields, w.defaults, scope, w.versions != nil)
}

// runWrite runs the statement of a write, which is made once for each shape, role and set of fields. most is how many rows it may write
// at once; 0: no limit.
func (a *API) runWrite(ctx context.Context, c access.Caller, scope *access.Scope, r *request.Request, f encode.Format, w singleWrite,
	most int64) (*planned, *postgres.Written, error) {
	key := planKey{role: scope.Key(), shape: r.Shape, format: f, write: w.signature()}
	p, ok := a.plans.Get(key)
	if !ok {
		q, err := r.Resolve()
		if err != nil {
			return nil, nil, err
		}
		if r.HasOptions() {
			if q, err = scope.Check(q); err != nil {
				return nil, nil, err
			}
		}
		q.Metadata = f.Metadata
		plan := w.plan(q, scope)
		var types []*model.Type
		for i := range plan.Order {
			types = append(types, r.Resource.Key[i].Type)
		}
		p = &planned{resource: r.Resource, query: postgres.Compile(plan, types, f), context: r.Resource.Name + contextSelect(q)}
		if !plan.ReturnsRows && plan.Total < 0 {
			p.context += "/$entity"
		}
		a.keepPlan(key, p)
	}
	args, err := p.query.Plan.Args(statement.Input{Literals: r.Literals, Claims: c.Claims, Body: w.values, Versions: w.versions})
	if err != nil {
		return nil, nil, err
	}
	done, err := p.query.Write(ctx, a.place(c, scope, r.Resource, false), args, most, timeOf(scope))
	return p, done, err
}

// writeSingle runs the statement of a write for one row. It returns nil where the row is missing and may be.
func (a *API) writeSingle(ctx context.Context, c access.Caller, scope *access.Scope, r *request.Request, f encode.Format,
	w singleWrite) (*Written, error) {
	p, done, err := a.runWrite(ctx, c, scope, r, f, w, 0)
	switch {
	case err != nil:
		return nil, a.explain(err, r.Resource, scope)
	case !done.Found && w.op == window.Create:
		return nil, skipped(r.Resource)
	case !done.Found && w.optional:
		return nil, nil
	case !done.Found:
		return nil, a.missed(ctx, c, scope, w.op, r.Bare(), w.versions)
	case !done.RuleHolds:
		return nil, fault.New(fault.Forbidden, "access.rule",
			"role %q may %s only rows of %s that it keeps within its limits, and this one would not be; nothing was changed", scope.Name, w.op,
			r.Resource.Name).On(r.Resource.Name)
	}
	written := &Written{Context: p.context, of: r.Resource, key: done.Key, Created: w.op == window.Create}
	if done.Version != "" {
		written.ETag = etag(done.Version)
	}
	if done.Readable && scope.For(window.Read, r.Resource) != nil {
		written.Row = done.Row
	}
	return written, nil
}

func etag(version string) string { return `W/"` + version + `"` }

// skipped is reported where the role may write the row, and the database let it be.
func skipped(r *model.Resource) error {
	return fault.New(fault.Unprocessable, "row.skipped",
		"the database left this row of %s as it was, and did not say why: a trigger or a policy of its own; nothing was changed",
		r.Name).On(r.Name)
}

// missed tells a row that is not there from one that has changed, and from one that the role may read but not write.
func (a *API) missed(ctx context.Context, c access.Caller, scope *access.Scope, op window.Operation, r *request.Request,
	versions []string) error {
	page, err := a.read(ctx, c, r, Preferences{})
	if err != nil && versions != nil {
		return noVersion(r.Resource)
	}
	if err != nil {
		return change.NoRow(r.Resource)
	}
	version := page.Version()
	if err := page.Close(); err != nil {
		return err
	}
	if versions != nil && version != "" && !slices.ContainsFunc(versions, func(v string) bool { return v == "*" || v == version }) {
		return fault.New(fault.VersionMismatch, "version.changed",
			"the row of %s has changed since; its version is %s now. Read it again, and send that", r.Resource.Name,
			etag(version)).On("If-Match")
	}
	if versions != nil && version == "" {
		return fault.New(fault.VersionMismatch, "version.none", "rows of %s have no versions: it is a %s; leave If-Match out", r.Resource.Name,
			r.Resource.Kind()).On("If-Match")
	}
	if len(scope.For(op, r.Resource).Rules(r.Resource.Fields, false)) == 0 {
		return skipped(r.Resource)
	}
	return fault.New(fault.Forbidden, "access.rule", "role %q may read this row of %s but not %s it: its rows for that are limited",
		scope.Name, r.Resource.Name, op).On(r.Resource.Name)
}

// rowPath is the path of a row by its key, given as a JSON array.
func rowPath(r *model.Resource, key []byte) string {
	if len(r.Key) == 0 || len(key) < 2 {
		return ""
	}
	if number := key[1 : len(key)-1]; digits(number) {
		return r.Name + "/" + string(number)
	}
	return request.RowPath(r, keySegments(key))
}

// keySegments are the parts of a key, given as a JSON array, as segments of a path have them.
func keySegments(key []byte) []string {
	var values []json.RawMessage
	if json.Unmarshal(key, &values) != nil {
		return nil
	}
	texts := make([]string, len(values))
	for i, v := range values {
		texts[i] = string(v)
		if v[0] == '"' {
			_ = json.Unmarshal(v, &texts[i]) // a JSON string that we wrote
		}
	}
	return texts
}

// digits reports whether a key is one whole number, as most are.
func digits(text []byte) bool {
	for _, c := range text {
		if c < '0' || c > '9' {
			return false
		}
	}
	return len(text) > 0
}

// explain names the fields that a refusal of the database is about, as far as the role may read them.
func (a *API) explain(err error, r *model.Resource, scope *access.Scope) error {
	var refusal *fault.Refusal
	if !errors.As(err, &refusal) {
		return err
	}
	columns := refusedColumns(refusal, r.Table)
	var names []string
	for _, f := range scope.Readable(r) {
		if slices.Contains(columns, f.Column.Name) {
			names = append(names, f.Name)
		}
	}
	if len(names) == 0 || len(names) < len(columns) {
		return refusal
	}
	f, told := *refusal.Fault, *refusal
	f.Target = strings.Join(names, ",")
	f.Message = strings.Join(names, ", ") + ": " + f.Message
	told.Fault = &f
	return &told
}

func refusedColumns(refusal *fault.Refusal, t *catalog.Table) []string {
	if refusal.Column != "" && (refusal.Table == t.Name || refusal.Table == "") { // a RAISE may tell the column alone
		return []string{refusal.Column}
	}
	if refusal.Table != t.Name {
		return nil
	}
	for _, k := range t.ForeignKeys {
		if k.Name == refusal.Constraint {
			return k.Columns
		}
	}
	for _, c := range t.Checks {
		if c.Name == refusal.Constraint {
			return c.Columns
		}
	}
	for _, ix := range t.Indexes {
		if ix.Name == refusal.Constraint {
			return ix.Columns
		}
	}
	return nil
}

// EstimateWrite says how many rows a change or deletion of every row of a filter would write, and how the database finds them. Nothing is
// written. It is refused as the write would be, as far as its body has no part in that. Other writes, for which op is "", are not told
// of.
func (a *API) EstimateWrite(ctx context.Context, c access.Caller, op window.Operation, path, options string) (*Explanation, error) {
	other := fault.New(fault.Invalid, "option.misplaced",
		"explain goes with reads of a draft, and with PATCH and DELETE of …/$filter(…)/$each there; nothing was written").On("Prefer")
	if op == "" || a.Release != 0 {
		return nil, other
	}
	r, err := request.Read(a.Model, path, options)
	if err != nil {
		return nil, err
	}
	defer r.Release()
	if r.View != query.Each {
		return nil, other
	}
	t, err := a.task(ctx, c, r, Write{})
	if err == nil && t.scope.For(op, r.Resource) == nil {
		err = t.scope.Refuse(op, r.Resource)
	}
	if err == nil && r.Parent() != "" {
		err = writable(r)
	}
	if err == nil {
		err = t.filter()
	}
	if err != nil {
		return nil, err
	}
	q, err := r.Resolve()
	if err != nil {
		return nil, err
	}
	plan := statement.EstimateWrite(q, t.scope, op)
	args, err := plan.Args(statement.Input{Literals: r.Literals, Claims: c.Claims})
	if err != nil {
		return nil, err
	}
	compiled := postgres.Compile(plan, nil, encode.Format{})
	cursor, err := compiled.Open(ctx, a.place(c, t.scope, r.Resource, true), args, timeOf(t.scope))
	if err != nil {
		return nil, err
	}
	rows := cursor.Total()
	if err := cursor.Close(); err != nil {
		return nil, err
	}
	if err := overLimit(r.Resource, t.scope, op, rows); err != nil {
		return nil, err
	}
	told, err := a.explanation(ctx, c, compiled, args, timeOf(t.scope))
	if err != nil {
		return nil, err
	}
	told.Rows = &rows
	return told, nil
}

// overLimit refuses to write more rows at once than the role may.
func overLimit(r *model.Resource, scope *access.Scope, op window.Operation, rows int64) error {
	if most := int64(scope.Limits.Rows); most > 0 && rows > most {
		return fault.New(fault.Conflict, "limit.rows", "%d rows of %s meet the filter, and role %q may %s %d at once; nothing was changed", rows,
			r.Name, scope.Name, op, most).On(r.Name)
	}
	return nil
}

// updateEach changes every row of a filter.
func (t *task) updateEach(a *API, scope *access.Scope, body *payload.Body) (*Written, error) {
	row, err := body.Read(t.request.Resource, window.Update, scope)
	if err != nil {
		return nil, err
	}
	if err := t.in.Unconditional(filterIsCondition); err != nil {
		return nil, err
	}
	if row.Nested != nil {
		return nil, fault.New(fault.Invalid, "field.unknown",
			"a change of every row names fields; relations are written row by row").On(row.Nested[0].Relation.Name)
	}
	return t.writeEach(a, scope, singleWrite{op: window.Update, fields: row.Fields, values: row.Values, show: t.in.Show})
}

const filterIsCondition = "of every row of a filter, the filter is the condition"

// deleteEach deletes every row of a filter.
func (t *task) deleteEach() (*Written, error) {
	if err := t.filter(); err != nil {
		return nil, err
	}
	if err := t.in.Unconditional(filterIsCondition); err != nil {
		return nil, err
	}
	return t.writeEach(t.api, t.scope, singleWrite{op: window.Delete})
}

// writeEach writes every row of a filter and returns how many there were: all or none.
func (t *task) writeEach(a *API, scope *access.Scope, w singleWrite) (written *Written, err error) {
	r := t.request.Resource
	if !statement.LocksFirst(r, scope) {
		return t.writeMatching(a, scope, w)
	}
	err = a.place(t.caller, scope, r, false).Transact(t.ctx, func(tx *postgres.Tx) error {
		within := a.within(tx)
		if _, _, err := within.runWrite(t.ctx, t.caller, scope, t.request, t.in.Format, singleWrite{op: w.op, lock: true}, 0); err != nil {
			return a.explain(err, r, scope)
		}
		written, err = t.writeMatching(within, scope, w)
		return err
	})
	return written, err
}

// writeMatching runs the statement of a write of every row of a filter.
func (t *task) writeMatching(a *API, scope *access.Scope, w singleWrite) (*Written, error) {
	r := t.request.Resource
	p, done, err := a.runWrite(t.ctx, t.caller, scope, t.request, t.in.Format, w, int64(scope.Limits.Rows))
	if err != nil {
		return nil, a.explain(err, r, scope)
	}
	if err := overLimit(r, scope, w.op, done.Total); err != nil {
		return nil, err
	}
	if !done.RuleHolds {
		return nil, fault.New(fault.Forbidden, "access.rule",
			"role %q may %s only rows of %s that it keeps within its limits, and some of these %d would not be; nothing was changed", scope.Name,
			w.op, r.Name, done.Total).On(r.Name)
	}
	return &Written{Many: true, Rows: done.Total, Row: done.Row, Context: p.context}, nil
}
