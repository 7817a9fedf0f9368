package service

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

// runWrite runs the statement of a write, which is made once for each shape, role and set of fields.
func (a *API) runWrite(ctx context.Context, c access.Caller, t *target, op window.Operation, signature string, in statement.Input, most int64, build func(*request.Query) *statement.Plan) (*planned, *postgres.Written, error) {
	r := t.request
	key := planKey{role: t.scope.Key(), shape: r.Shape, format: t.format, write: string(op) + signature}
	p, ok := a.plans.Get(key)
	if !ok {
		q, err := t.resolved()
		if err != nil {
			return nil, nil, err
		}
		plan := build(q)
		var types []*model.Type
		for i := range plan.Order {
			types = append(types, r.Resource.Key[i].Type)
		}
		p = &planned{resource: r.Resource, query: postgres.Compile(plan, types, t.format), context: r.Resource.Name + contextSelect(q)}
		if !plan.Many && plan.Total < 0 {
			p.context += "/$entity"
		}
		a.plans.Add(key, p)
	}
	in.Literals, in.Claims = r.Literals, c.Claims
	args, err := p.query.Plan.Args(in)
	if err != nil {
		return nil, nil, err
	}
	done, err := p.query.Write(ctx, a.place, args, most, timeOf(t.scope))
	return p, done, err
}

// write runs the statement of a write for one row.
func (a *API) write(ctx context.Context, c access.Caller, t *target, op window.Operation, signature string, in statement.Input, build func(*request.Query) *statement.Plan) (*Written, error) {
	r := t.request
	p, done, err := a.runWrite(ctx, c, t, op, signature, in, 0, build)
	switch {
	case err != nil:
		return nil, a.explain(err, r.Resource, t.scope)
	case !done.Found && op == window.Create:
		return nil, skipped(r.Resource)
	case !done.Found:
		return nil, a.missed(ctx, c, t.scope, op, r, in.Versions)
	case !done.Kept:
		return nil, fault.New(fault.Forbidden, "access.rule", "role %q may %s only rows of %s that it keeps within its limits, and this one would not be; nothing was changed", t.scope.Name, op, r.Resource.Name).On(r.Resource.Name)
	}
	w := &Written{Context: p.context, of: r.Resource, key: done.Key}
	if done.Version != "" {
		w.ETag = etag(done.Version)
	}
	if done.Readable && t.scope.For(window.Read, r.Resource) != nil {
		w.Row = done.Row
	}
	return w, nil
}

func etag(version string) string { return `W/"` + version + `"` }

// skipped is told where the role may write the row, and the database let it be.
func skipped(r *model.Resource) error {
	return fault.New(fault.Unprocessable, "row.skipped", "the database left this row of %s as it was, and did not say why: a trigger or a policy of its own; nothing was changed", r.Name).On(r.Name)
}

// missed tells a row that is not there from one that has changed, and from one that the role may read but not write.
func (a *API) missed(ctx context.Context, c access.Caller, scope *access.Scope, op window.Operation, r *request.Request, versions []string) error {
	page, err := a.Read(ctx, c, r.Path(), "", Preferences{})
	if err != nil && versions != nil {
		return fault.New(fault.VersionMismatch, "version.none", "there is no such row of %s any more, or none that you may see, so no version of it matches", r.Resource.Name).On("If-Match")
	}
	if err != nil {
		return noRow(r.Resource)
	}
	tag := page.ETag()
	if err := page.Close(); err != nil {
		return err
	}
	if versions != nil && tag != "" && !slices.ContainsFunc(versions, func(v string) bool { return v == "*" || etag(v) == tag }) {
		return fault.New(fault.VersionMismatch, "version.changed", "the row of %s has changed since; its version is %s now. Read it again, and send that", r.Resource.Name, tag).On("If-Match")
	}
	if versions != nil && tag == "" {
		return fault.New(fault.VersionMismatch, "version.none", "rows of %s have no versions: it is a %s; leave If-Match out", r.Resource.Name, r.Resource.Kind()).On("If-Match")
	}
	if len(scope.For(op, r.Resource).Rules(r.Resource.Fields, false)) == 0 {
		return skipped(r.Resource)
	}
	return fault.New(fault.Forbidden, "access.rule", "role %q may read this row of %s but not %s it: its rows for that are limited", scope.Name, r.Resource.Name, op).On(r.Resource.Name)
}

// rowPath is the path of a row by its key, given as a JSON array.
func rowPath(r *model.Resource, key []byte) string {
	if len(r.Key) == 0 || len(key) < 2 {
		return ""
	}
	if number := key[1 : len(key)-1]; digits(number) {
		return r.Name + "/" + string(number)
	}
	var values []json.RawMessage
	if json.Unmarshal(key, &values) != nil {
		return ""
	}
	texts := make([]string, len(values))
	for i, v := range values {
		texts[i] = string(v)
		if v[0] == '"' {
			_ = json.Unmarshal(v, &texts[i]) // a JSON string that we wrote
		}
	}
	return request.RowPath(r, texts)
}

// digits says whether a key is one whole number, as most are.
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
	var refusal *postgres.Refusal
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

func refusedColumns(refusal *postgres.Refusal, t *catalog.Table) []string {
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

// Touched says how many rows a change or deletion of every row of a filter would write, and how the database finds them. Nothing is
// written. It is refused as the write would be, as far as its body has no part in that. Other writes, for which op is "", are not told
// of.
func (a *API) Touched(ctx context.Context, c access.Caller, op window.Operation, path, query string) (*Explanation, error) {
	other := fault.New(fault.Invalid, "option.misplaced", "explain goes with reads of a draft, and with PATCH and DELETE of …/$filter(…)/$each there; nothing was written").On("Prefer")
	if op == "" || a.Release != 0 {
		return nil, other
	}
	r, err := request.Read(a.Model, path, query)
	if err != nil {
		return nil, err
	}
	defer r.Release()
	if r.View != request.Each {
		return nil, other
	}
	t, err := a.target(c, op, r)
	if err != nil {
		return nil, err
	}
	plan := statement.Touched(t.query, t.scope, op)
	args, err := plan.Args(statement.Input{Literals: r.Literals, Claims: c.Claims})
	if err != nil {
		return nil, err
	}
	compiled := postgres.Compile(plan, nil, postgres.Format{})
	cursor, err := compiled.Open(ctx, a.place, args, timeOf(t.scope))
	if err != nil {
		return nil, err
	}
	rows := cursor.Total()
	if err := cursor.Close(); err != nil {
		return nil, err
	}
	if err := tooMany(r.Resource, t.scope, op, rows); err != nil {
		return nil, err
	}
	told, err := a.explanation(ctx, compiled, args, timeOf(t.scope))
	if err != nil {
		return nil, err
	}
	told.Rows = &rows
	return told, nil
}

// tooMany refuses to write more rows at once than the role may.
func tooMany(r *model.Resource, scope *access.Scope, op window.Operation, rows int64) error {
	if most := int64(scope.Limits.Rows); most > 0 && rows > most {
		return fault.New(fault.Conflict, "limit.rows", "%d rows of %s meet the filter, and role %q may %s %d at once; nothing was changed", rows, r.Name, scope.Name, op, most).On(r.Name)
	}
	return nil
}

// writeEach runs the statement of a write of many rows and returns how many there were: all or none.
func (a *API) writeEach(ctx context.Context, c access.Caller, t *target, op window.Operation, signature string, in statement.Input, build func(*request.Query) *statement.Plan) (*Written, error) {
	r, most := t.request.Resource, int64(t.scope.Limits.Rows)
	p, done, err := a.runWrite(ctx, c, t, op, signature, in, most, build)
	if err != nil {
		return nil, a.explain(err, r, t.scope)
	}
	if err := tooMany(r, t.scope, op, done.Total); err != nil {
		return nil, err
	}
	if !done.Kept {
		return nil, fault.New(fault.Forbidden, "access.rule", "role %q may %s only rows of %s that it keeps within its limits, and some of these %d would not be; nothing was changed", t.scope.Name, op, r.Name, done.Total).On(r.Name)
	}
	return &Written{Many: true, Rows: done.Total, Row: done.Row, Context: p.context}, nil
}
