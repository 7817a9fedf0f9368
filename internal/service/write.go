package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

// Written is the answer of a create or an update.
type Written struct {
	Context string
	Row     []byte // as JSON; nil where the role may not read the row
	Path    string // of the row, below the window; "" where the resource has no key
}

// Create adds one row to the collection at path.
func (a *API) Create(ctx context.Context, c access.Caller, path, rawQuery string, body []byte) (*Written, error) {
	scope, r, err := a.target(c, window.Create, path, rawQuery)
	if err != nil {
		return nil, err
	}
	if r.Single {
		return nil, &fault.Fault{Kind: fault.MethodNotAllowed, Code: "method.row", Target: r.Resource.Name, Allow: []string{"GET", "HEAD", "PATCH", "DELETE"},
			Message: fmt.Sprintf("a row is added with POST to the collection /%s; the row at this path is changed with PATCH", r.Resource.Name)}
	}
	decision := scope.For(window.Create, r.Resource)
	row, err := payload.Read(body, r.Resource, window.Create, decision)
	if err != nil {
		return nil, err
	}
	return a.write(ctx, c, scope, window.Create, r, statement.Create(r.Resource, row.Fields, scope), row.Values)
}

// Update changes the fields that the body names in the row at path.
func (a *API) Update(ctx context.Context, c access.Caller, path, rawQuery string, body []byte) (*Written, error) {
	scope, r, err := a.target(c, window.Update, path, rawQuery)
	if err != nil {
		return nil, err
	}
	q, err := oneRow(r, "changed with PATCH")
	if err != nil {
		return nil, err
	}
	row, err := payload.Read(body, r.Resource, window.Update, scope.For(window.Update, r.Resource))
	if err != nil {
		return nil, err
	}
	return a.write(ctx, c, scope, window.Update, r, statement.Update(q, row.Fields, scope), row.Values)
}

// Delete removes the row at path.
func (a *API) Delete(ctx context.Context, c access.Caller, path, rawQuery string) error {
	scope, r, err := a.target(c, window.Delete, path, rawQuery)
	if err != nil {
		return err
	}
	q, err := oneRow(r, "deleted")
	if err != nil {
		return err
	}
	plan := statement.Delete(q, scope)
	args, err := plan.Args(statement.Input{Literals: r.Literals, Claims: c.Claims})
	if err != nil {
		return err
	}
	done, err := postgres.Compile(plan, nil, postgres.Format{}).Write(ctx, a.pool, args)
	if err != nil {
		return a.explain(err, r.Resource, scope)
	}
	if !done.Found {
		return a.missed(ctx, c, window.Delete, r)
	}
	return nil
}

// target reads the path of a write and refuses it where the role may not do the operation.
func (a *API) target(c access.Caller, op window.Operation, path, rawQuery string) (*access.Scope, *request.Request, error) {
	scope, err := a.scope(c)
	if err != nil {
		return nil, nil, err
	}
	r, err := request.Read(a.Model, path, rawQuery)
	if err != nil {
		return nil, nil, err
	}
	if rawQuery != "" {
		return nil, nil, fault.New(fault.Invalid, "option.misplaced", "a write takes no query options")
	}
	if r.Parent() != "" || r.Field != nil || r.View != request.Rows {
		return nil, nil, fault.New(fault.Unsupported, "write.path", "rows are written at the path of their own resource, /%s; along a relation or to a field it is not done yet", r.Resource.Name).On("path")
	}
	if scope.For(op, r.Resource) == nil {
		return nil, nil, scope.Refuse(op, r.Resource)
	}
	return scope, r, nil
}

func oneRow(r *request.Request, what string) (*request.Query, error) {
	if !r.Single {
		return nil, &fault.Fault{Kind: fault.MethodNotAllowed, Code: "method.collection", Target: r.Resource.Name, Allow: []string{"GET", "HEAD", "POST"},
			Message: fmt.Sprintf("only a single row can be %s: add its key to the path, as in /%s/…", what, r.Resource.Name)}
	}
	return r.Resolve()
}

func (a *API) write(ctx context.Context, c access.Caller, scope *access.Scope, op window.Operation, r *request.Request, plan *statement.Plan, body []*string) (*Written, error) {
	args, err := plan.Args(statement.Input{Literals: r.Literals, Claims: c.Claims, Body: body})
	if err != nil {
		return nil, err
	}
	types := make([]*model.Type, len(r.Resource.Key))
	for i, f := range r.Resource.Key {
		types[i] = f.Type
	}
	done, err := postgres.Compile(plan, types, postgres.Format{}).Write(ctx, a.pool, args)
	switch {
	case err != nil:
		return nil, a.explain(err, r.Resource, scope)
	case !done.Found:
		return nil, a.missed(ctx, c, op, r)
	case !done.Kept:
		return nil, fault.New(fault.Forbidden, "access.rule", "role %q may %s only rows of %s that it keeps within its limits, and this one would not be; nothing was changed", scope.Name, op, r.Resource.Name).On(r.Resource.Name)
	}
	w := &Written{Context: r.Resource.Name + "/$entity", Path: rowPath(r.Resource, done.Key)}
	if done.Readable && scope.For(window.Read, r.Resource) != nil {
		w.Row = done.Row
	}
	return w, nil
}

// missed tells a row that is not there from one that the role may read but not write.
func (a *API) missed(ctx context.Context, c access.Caller, op window.Operation, r *request.Request) error {
	page, err := a.Read(ctx, c, r.Path(), "", Preferences{})
	if err != nil {
		return noRow(r.Resource)
	}
	if err := page.Close(); err != nil {
		return err
	}
	return fault.New(fault.Forbidden, "access.rule", "role %q may read this row of %s but not %s it: its rows for that are limited", c.Role, r.Resource.Name, op).On(r.Resource.Name)
}

// rowPath is the path of a row by its key, given as a JSON array.
func rowPath(r *model.Resource, key []byte) string {
	var values []json.RawMessage
	if len(r.Key) == 0 || json.Unmarshal(key, &values) != nil {
		return ""
	}
	segments := []string{r.Name}
	for _, v := range values {
		text := string(v)
		if v[0] == '"' {
			_ = json.Unmarshal(v, &text) // a JSON string that we wrote
		}
		segments = append(segments, url.PathEscape(text))
	}
	return strings.Join(segments, "/")
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
	if refusal.Table != t.Name {
		return nil
	}
	if refusal.Column != "" {
		return []string{refusal.Column}
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
