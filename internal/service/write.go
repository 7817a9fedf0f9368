package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

// Write is what a caller sends to change rows.
type Write struct {
	Path, Query string
	Body        func() ([]byte, error) // asked for once it is known that the caller may write
	Rows        func() ([]byte, error) // the body of a write of many rows, which may be longer
	IfMatch     []string               // versions, "*" any; nil: not sent
	MustBeNew   bool                   // If-None-Match: *
	Format      postgres.Format
	existing    bool // no new row is made
	derived     bool // a part of another write: no version is asked for
	Show        bool // of a write of every row of a filter: answer with them
}

// Written is the answer of a create, a change or a replacement.
type Written struct {
	Context string
	Row     []byte // as JSON, of many rows an array; nil where the role may not read the row
	ETag    string
	Created bool
	Many    bool  // every row of a filter was written:
	Rows    int64 // so many
	of      *model.Resource
	key     []byte // of the row, as a JSON array
}

// Path is where the row is, below the window; "" where its resource has no key.
func (w *Written) Path() string { return rowPath(w.of, w.key) }

// forWrite reads where a write leads. A filter that the write would not be held to is refused: nothing that a caller relies on is passed
// over.
func (a *API) forWrite(path, query string) (*request.Request, error) {
	r, err := request.Read(a.Model, path, query)
	if err == nil && r.Filtered() && r.View == request.Rows {
		r.Release()
		return nil, filtered()
	}
	return r, err
}

func filtered() error {
	return fault.New(fault.Invalid, "option.misplaced", "a filter in the path goes with reads, and with PATCH and DELETE of every row that meets it: …/$filter(…)/$each; nothing was changed").On("path")
}

// Create adds one row to the collection at the path. At the end of a relation to many, it is one of the row that the path leads
// through (Protocol, 11.4.2).
func (a *API) Create(ctx context.Context, c access.Caller, in Write) (*Written, error) {
	r, err := a.forWrite(in.Path, in.Query)
	if err != nil {
		return nil, err
	}
	defer func() { r.Release() }()
	if r.Parent() != "" && !r.Single && r.View == request.Rows {
		if in, err = a.through(ctx, c, r, in); err != nil {
			return nil, err
		}
		if r, err = request.Read(a.Model, in.Path, in.Query); err != nil {
			return nil, err
		}
	}
	t, err := a.target(c, window.Create, r)
	if err != nil {
		return nil, err
	}
	if r.Single {
		return nil, notHere(r, "method.row", r.Resource.Methods(false, true), "a row is added with POST to the collection /%s; the row at this path is changed with PATCH", r.Resource.Name)
	}
	in.MustBeNew = false // it always is
	if err := in.Unconditional("a row that is added has no version yet"); err != nil {
		return nil, err
	}
	t.format = in.Format
	body, err := in.Body()
	if err != nil {
		return nil, err
	}
	return asOneOf(t, window.Create, func(t *target) (*Written, error) {
		row, err := payload.Read(body, r.Resource, window.Create, t.scope)
		if err != nil {
			return nil, err
		}
		return a.createdWhole(ctx, c, t, row, in)
	})
}

// asOneOf writes one row: in all roles of the caller together, and where that is refused, in each alone.
func asOneOf(t *target, op window.Operation, write func(*target) (*Written, error)) (*Written, error) {
	written, err := write(t)
	if _, refused := fault.From(err); !refused {
		return written, err
	}
	for _, scope := range t.scope.Alone(op, t.request.Resource) {
		one := *t
		one.scope = scope
		written, again := write(&one)
		if _, refused := fault.From(again); !refused {
			return written, again
		}
	}
	return nil, err
}

// createdWhole adds a row, and in one transaction with it what stands in it.
func (a *API) createdWhole(ctx context.Context, c access.Caller, t *target, row *payload.Row, in Write) (*Written, error) {
	if row.Nested == nil {
		return a.created(ctx, c, t, row)
	}
	return a.deep(ctx, c, t, row, in, func(a *API, t *target) (*Written, error) { return a.createWith(ctx, c, t, row) })
}

// through makes of a create along a relation one at the collection itself, whose body names the row that the path leads through.
func (a *API) through(ctx context.Context, c access.Caller, r *request.Request, in Write) (Write, error) {
	parent, rel := r.Parent(), r.Via()
	own, there := ownFields(rel), thereFields(rel)
	if rel.Through != nil || slices.Contains(own, nil) || slices.Contains(there, nil) {
		return in, fault.New(fault.Unsupported, "write.path", "a row of %s is created at /%s, and linked with POST …/%s/$ref", rel.To.Name, rel.To.Name, rel.Name).On("path")
	}
	values, err := a.members(ctx, c, parent, own)
	if err != nil {
		return in, err
	}
	body := in.Body
	in.Path = rel.To.Name
	in.Body = func() ([]byte, error) {
		text, err := body()
		if err == nil {
			err = payload.Object(text)
		}
		if err != nil {
			return nil, err
		}
		var members map[string]json.RawMessage
		if err := json.Unmarshal(text, &members); err != nil {
			return nil, err
		}
		added := "{"
		for i, f := range there {
			if given, ok := members[f.Name]; ok && string(given) == string(values[own[i].Name]) {
				continue
			} else if ok {
				return nil, fault.New(fault.Invalid, "value.path", "%s: the path says %s, the body %s; leave it out", f.Name, values[own[i].Name], given).On(f.Name)
			}
			added += fmt.Sprintf("%q:%s,", f.Name, values[own[i].Name])
		}
		if len(members) == 0 {
			added = strings.TrimSuffix(added, ",")
		}
		return append([]byte(added), text[bytes.IndexByte(text, '{')+1:]...), nil
	}
	return in, nil
}

func (a *API) created(ctx context.Context, c access.Caller, t *target, row *payload.Row) (*Written, error) {
	w, err := a.write(ctx, c, t, window.Create, signature(row, ""), statement.Input{Body: row.Values}, func(q *request.Query) *statement.Plan {
		return statement.Create(q, row.Fields, t.scope)
	})
	if w != nil {
		w.Created = true
	}
	return w, err
}

// Update changes the fields that the body names in the row at the path.
func (a *API) Update(ctx context.Context, c access.Caller, in Write) (*Written, error) {
	return a.change(ctx, c, in, "changed with PATCH", false)
}

// Replace gives the row at the path the values of the body; what it leaves out goes to its default.
func (a *API) Replace(ctx context.Context, c access.Caller, in Write) (*Written, error) {
	return a.change(ctx, c, in, "replaced with PUT", true)
}

func (a *API) change(ctx context.Context, c access.Caller, in Write, what string, replace bool) (*Written, error) {
	r, err := a.forWrite(in.Path, in.Query)
	if err != nil {
		return nil, err
	}
	defer func() { r.Release() }()
	if r.Field != nil && r.View == request.Rows {
		in, replace = ofField(r, in), false
		if r, err = request.Read(a.Model, in.Path, in.Query); err != nil {
			return nil, err
		}
	}
	if !r.Single && r.View == request.Rows && r.Parent() == "" && !replace {
		return a.changeAll(ctx, c, r, in)
	}
	if r.Parent() != "" && r.Single && r.View == request.Rows {
		path, err := a.locate(ctx, c, in.Path, r.Resource)
		if f, ok := fault.From(err); ok && f.Kind == fault.NotFound && r.ToOne() && in.IfMatch == nil {
			return a.changeNone(ctx, c, r, in, err)
		}
		if err != nil {
			return nil, err
		}
		in.Path = path
		if r, err = request.Read(a.Model, in.Path, in.Query); err != nil {
			return nil, err
		}
	}
	return a.changed(ctx, c, r, in, what, replace)
}

// changeNone writes at the end of a relation to one that leads nowhere yet: what is sent becomes a new row, tied to the one before it.
func (a *API) changeNone(ctx context.Context, c access.Caller, r *request.Request, in Write, none error) (*Written, error) {
	if _, err := a.locate(ctx, c, r.Parent(), r.Via().From); err != nil {
		return nil, none
	}
	body, err := in.Body()
	if err == nil {
		err = payload.Object(body)
	}
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(map[string]json.RawMessage{r.Via().Name: body})
	if err != nil {
		return nil, err
	}
	var w *Written
	err = a.Atomically(ctx, func(a *API) error {
		if _, err := a.Update(ctx, c, Write{Path: r.Parent(), Body: func() ([]byte, error) { return text, nil }}); err != nil {
			return err
		}
		key, err := a.keyAt(ctx, c, in.Path, r.Resource)
		if err != nil {
			return err
		}
		w = &Written{Created: true, of: r.Resource, key: key}
		return a.readBack(ctx, c, w, in.Query, in.Format)
	})
	return w, err
}

func (a *API) changed(ctx context.Context, c access.Caller, r *request.Request, in Write, what string, replace bool) (*Written, error) {
	t, err := a.target(c, window.Update, r)
	if err != nil {
		return nil, err
	}
	t.format = in.Format
	if replace && r.View == request.Each {
		return nil, notEach(r)
	}
	if r.View != request.Each {
		if err := t.oneRow(what); err != nil {
			return nil, err
		}
	}
	body, err := in.Body()
	if err != nil {
		return nil, err
	}
	return asOneOf(t, window.Update, func(t *target) (*Written, error) { return a.changedAs(ctx, c, t, in, body, replace) })
}

func (a *API) changedAs(ctx context.Context, c access.Caller, t *target, in Write, body []byte, replace bool) (*Written, error) {
	var row *payload.Row
	var err error
	resource := t.request.Resource
	if replace {
		row, err = payload.Replace(body, resource, t.scope)
	} else {
		row, err = payload.Read(body, resource, window.Update, t.scope)
	}
	if err != nil {
		return nil, err
	}
	if t.request.View == request.Each {
		if err := in.Unconditional("of every row of a filter, the filter is the condition"); err != nil {
			return nil, err
		}
		if row.Nested != nil {
			return nil, fault.New(fault.Invalid, "field.unknown", "a change of every row names fields; relations are written row by row").On(row.Nested[0].Relation.Name)
		}
		variant := ""
		if in.Show {
			variant = "shown"
		}
		return a.writeEach(ctx, c, t, window.Update, signature(row, variant), statement.Input{Body: row.Values}, func(q *request.Query) *statement.Plan {
			return statement.UpdateEach(q, row.Fields, t.scope, in.Show)
		})
	}
	if in.MustBeNew {
		return a.createAt(ctx, c, t, in, body)
	}
	if in.IfMatch == nil {
		in.IfMatch = versions(row.Version)
	}
	if err := t.versionGiven(in); err != nil {
		return nil, err
	}
	var w *Written
	if row.Nested != nil {
		w, err = a.deep(ctx, c, t, row, in, func(a *API, t *target) (*Written, error) { return a.updateWith(ctx, c, t, row, in) })
	} else {
		w, err = a.revised(ctx, c, t, row, in)
	}
	if f, ok := fault.From(err); ok && f.Kind == fault.NotFound && in.IfMatch == nil && !in.existing && resource.KeyIsChosen() {
		made, err := a.createAt(ctx, c, t, in, body)
		if err == nil || replace && t.scope.For(window.Create, resource) != nil || refusedNew(err) {
			return made, err
		}
	}
	return w, err
}

// refusedNew says whether a change of a row that is not there came to nothing because the database refused the new one. That there is one
// already, which the role may not see, is not told.
func refusedNew(err error) bool {
	var refusal *postgres.Refusal
	return errors.As(err, &refusal) && refusal.Code != "row.conflict"
}

func (a *API) revised(ctx context.Context, c access.Caller, t *target, row *payload.Row, in Write) (*Written, error) {
	return a.write(ctx, c, t, window.Update, signature(row, variant(in)), statement.Input{Body: row.Values, Versions: in.IfMatch}, func(q *request.Query) *statement.Plan {
		return statement.Update(q, row.Fields, row.Defaults, t.scope, conditional(in))
	})
}

// versions are those that a row may have where a body gives one.
func versions(given string) []string {
	if given == "" {
		return nil
	}
	return []string{given}
}

// ofField makes of a change to one field of a row, with {"value":…} as its body, a change of the row (Protocol, 11.4.9).
func ofField(r *request.Request, in Write) Write {
	body := in.Body
	in.existing = true
	in.Path = in.Path[:strings.LastIndexByte(in.Path, '/')]
	in.Body = func() ([]byte, error) {
		text, err := body()
		if err != nil {
			return nil, err
		}
		value, err := payload.FieldValue(text)
		if err != nil {
			return nil, err
		}
		return json.Marshal(map[string]json.RawMessage{r.Field.Name: value})
	}
	return in
}

// createAt adds the row whose key the path gives (Protocol, 11.4.4).
func (a *API) createAt(ctx context.Context, c access.Caller, t *target, in Write, body []byte) (*Written, error) {
	r := t.request.Resource
	if t.scope.For(window.Create, r) == nil {
		return nil, t.scope.Refuse(window.Create, r)
	}
	if !t.scope.MayName(r) {
		return nil, noRow(r)
	}
	q, err := t.resolved()
	if err != nil {
		return nil, err
	}
	key, err := t.request.KeyTexts(q)
	if err != nil {
		return nil, err
	}
	row, err := payload.CreateAt(body, r, t.scope, key)
	if err != nil {
		return nil, err
	}
	made, err := a.createdWhole(ctx, c, t, row, in)
	if f, ok := fault.From(err); ok && f.Code == "row.conflict" && in.MustBeNew {
		return nil, fault.New(fault.VersionMismatch, "version.exists", "there is such a row of %s already, and If-None-Match: * asks for a new one", r.Name).On("If-None-Match")
	}
	return made, err
}

// Delete removes the row at the path, or every row of a filter.
func (a *API) Delete(ctx context.Context, c access.Caller, in Write) (*Written, error) {
	r, err := a.forWrite(in.Path, in.Query)
	if err != nil {
		return nil, err
	}
	defer func() { r.Release() }()
	if r.Field != nil && r.View == request.Rows { // a field goes to null
		in.Body = func() ([]byte, error) { return []byte(`{"value":null}`), nil }
		return a.Update(ctx, c, in)
	}
	if r.Parent() != "" && r.Single && r.View == request.Rows {
		if in.Path, err = a.locate(ctx, c, in.Path, r.Resource); err != nil {
			return nil, err
		}
		if r, err = request.Read(a.Model, in.Path, in.Query); err != nil {
			return nil, err
		}
	}
	t, err := a.target(c, window.Delete, r)
	if err != nil {
		return nil, err
	}
	if t.request.View == request.Each {
		if err := in.Unconditional("of every row of a filter, the filter is the condition"); err != nil {
			return nil, err
		}
		return a.writeEach(ctx, c, t, window.Delete, "", statement.Input{}, func(q *request.Query) *statement.Plan { return statement.DeleteEach(q, t.scope) })
	}
	if err := t.oneRow("deleted"); err != nil {
		return nil, err
	}
	if in.MustBeNew {
		return nil, in.Unconditional("what is new can't be deleted")
	}
	if err := t.versionGiven(in); err != nil {
		return nil, err
	}
	return a.write(ctx, c, t, window.Delete, variant(in), statement.Input{Versions: in.IfMatch}, func(q *request.Query) *statement.Plan {
		return statement.Delete(q, t.scope, conditional(in))
	})
}

// signature tells writes of other fields apart, and other variants.
func signature(row *payload.Row, variant string) string {
	b := make([]byte, 0, 64)
	for _, f := range row.Fields {
		b = append(b, byte(f.Index), byte(f.Index>>8))
	}
	b = append(b, "\xff\xff"...)
	for _, f := range row.Defaults {
		b = append(b, byte(f.Index), byte(f.Index>>8))
	}
	return string(append(append(b, "\xff\xff"...), variant...))
}

func variant(in Write) string {
	if conditional(in) {
		return "conditional"
	}
	return ""
}

// conditional says whether the row must have one of the versions that are given.
func conditional(in Write) bool { return in.IfMatch != nil && !slices.Contains(in.IfMatch, "*") }

// target is where a write leads.
type target struct {
	scope   *access.Scope
	format  postgres.Format // of the answer
	request *request.Request
	query   *request.Query // what the answer shows; nil until it is needed
}

// resolved is the request bound to the model, and checked.
func (t *target) resolved() (*request.Query, error) {
	if t.query != nil {
		return t.query, nil
	}
	q, err := t.request.Resolve()
	if err != nil {
		return nil, err
	}
	if t.request.HasOptions() {
		if err := t.scope.Check(q); err != nil {
			return nil, err
		}
	}
	t.query = q
	return q, nil
}

// writeOptions go with a write: what its answer shows.
var writeOptions = []string{"select", "expand", "compute"}

// target finds where a write leads, and refuses it where the role may not do the operation.
func (a *API) target(c access.Caller, op window.Operation, r *request.Request) (*target, error) {
	scope, err := a.scope(c)
	if err != nil {
		return nil, err
	}
	if scope.For(op, r.Resource) == nil {
		return nil, scope.Refuse(op, r.Resource)
	}
	if r.View == request.Each && op != window.Create && r.Parent() == "" {
		return a.each(scope, op, r)
	}
	if err := writable(r); err != nil {
		return nil, err
	}
	return &target{scope: scope, request: r}, showing(r)
}

// showing refuses options that do not go with a write: those that do say what its answer shows.
func showing(r *request.Request) error {
	for _, name := range r.Options() {
		if slices.Contains(writeOptions, name) {
			continue
		}
		hint := ""
		if !r.Single {
			hint = fmt.Sprintf("; every row of a filter is changed or deleted at /%s/$filter(…)/$each", r.Resource.Name)
		}
		return fault.New(fault.Invalid, "option.misplaced", "%s does not go with a write, which takes select, expand and compute for its answer%s", name, hint).On(name)
	}
	return nil
}

// each is the target of a write of every row that a filter meets.
func (a *API) each(scope *access.Scope, op window.Operation, r *request.Request) (*target, error) {
	if scope.For(window.Read, r.Resource) == nil {
		return nil, scope.Refuse(window.Read, r.Resource) // a filter tells of what it meets
	}
	q, err := r.Resolve()
	if err != nil {
		return nil, err
	}
	return &target{scope: scope, request: r, query: q}, scope.Check(q)
}

func (t *target) oneRow(what string) error {
	r := t.request
	if !r.Single {
		return notHere(r, "method.collection", r.Resource.Methods(true, false), "only a single row can be %s: add its key to the path, as in /%s/…", what, r.Resource.Name)
	}
	return nil
}

// notHere refuses a method where others are possible.
func notHere(r *request.Request, code string, allow []string, format string, args ...any) error {
	return fault.NotAllowed(code, allow, format, args...).On(r.Resource.Name)
}

// writable says whether the path leads to rows of a resource, where they are written, and to no part or number of them.
func writable(r *request.Request) error {
	name := r.Resource.Name
	undone := func(format string, args ...any) error {
		return fault.New(fault.Unsupported, "write.path", format, args...).On("path")
	}
	switch {
	case r.View == request.Number:
		return notHere(r, "method.collection", []string{"GET", "HEAD"}, "$count is read; rows are written at /%s", name)
	case r.View == request.Bare:
		return undone("a bare $value is not written here; send {\"value\": …} with PUT to the path before it")
	case r.Field != nil:
		return notHere(r, "method.row", r.Resource.Methods(false, true), "%s is set with PUT, and {\"value\": …} as the body", r.Field.Name)
	case r.View == request.Refs && r.Parent() == "":
		return notHere(r, "method.collection", []string{"GET", "HEAD"}, "these are links to rows; rows are written at /%s, and relations between them at /%s/…/relation/$ref", name, name)
	case r.View == request.Refs:
		return notHere(r, "method.link", linkMethods(r.Via()), "a link is made with %s and removed with DELETE; PATCH of the row changes many at once", linkMethod(r.Via()))
	case r.View == request.Each && r.Parent() == "":
		return notEach(r)
	case r.View == request.Each:
		return undone("$each is not done along a relation; filter the rows themselves: /%s/$filter(…)/$each", name)
	case r.Parent() != "" && r.Single:
		return notHere(r, "method.row", r.Resource.Methods(false, true), "a row is added with POST to the collection /%s; the one that %s leads to is changed with PATCH", name, r.Via().Name)
	case r.Parent() != "":
		return undone("rows at the end of a relation are written in the row before it: PATCH /%s with {\"%s@delta\":[…]}, or at their own resource, /%s", r.Parent(), r.Via().Name, name)
	}
	return nil
}

func notEach(r *request.Request) error {
	return notHere(r, "method.each", []string{"PATCH", "DELETE"}, "every row of a filter is changed with PATCH or deleted with DELETE")
}

// Unconditional refuses the conditions of a write that can't be held to them: nothing that a caller relies on is passed over.
func (in Write) Unconditional(instead string) error {
	if in.IfMatch != nil || in.MustBeNew {
		return fault.New(fault.Invalid, "version.condition", "If-Match and If-None-Match go with a change of one row at its path; %s. Nothing was changed", instead).On("If-Match")
	}
	return nil
}

// versionGiven refuses a change without a version where the resource asks for one (RFC 6585, 3).
func (t *target) versionGiven(in Write) error {
	if r := t.request.Resource; r.IfMatch && in.IfMatch == nil && !in.derived {
		return fault.New(fault.VersionNeeded, "version.needed", "%s is changed with If-Match alone: read the row, and send its ETag back", r.Name).On("If-Match")
	}
	return nil
}

// itemVersionGiven is the same for a row in a body.
func itemVersionGiven(item *payload.Item, r *model.Resource) error {
	if r.IfMatch && item.Version == "" {
		return fault.New(fault.VersionNeeded, "version.needed", "%s: %s is changed with its version alone: read the row with metadata=full, and send its @etag back; nothing was changed", item.At, r.Name).On(item.At)
	}
	return nil
}
