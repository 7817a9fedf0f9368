package data

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/postgres"
)

// Write is what a caller sends to change rows.
type Write struct {
	Path, Query string
	Body        func() ([]byte, error) // asked for once it is known that the caller may write
	Rows        func() ([]byte, error) // the body of a write of many rows, which may be longer
	IfMatch     []string               // versions, "*" any; nil: not sent
	MustBeNew   bool                   // If-None-Match: *
	Format      encode.Format
	Show        bool // of a write of many rows: answer with them
	Quoted      bool // large numbers are strings in the body
}

// parsed is the body as it is to be read.
func (in Write) parsed(body *payload.Body, err error) (*payload.Body, error) {
	if err == nil && in.Quoted {
		return body.Quoted(), nil
	}
	return body, err
}

// Written is the answer of a create, a change or a replacement.
type Written struct {
	Context string
	Row     []byte // as JSON, of many rows an array; nil where the role may not read the row
	ETag    string
	Created bool
	Many    bool     // every row of a filter was written:
	Rows    int64    // so many
	Ignored []string // fields of the body that only the database fills
	of      *model.Resource
	key     []byte // of the row, as a JSON array
}

// Path is where the row is, below the window; "" where its resource has no key.
func (w *Written) Path() string { return rowPath(w.of, w.key) }

func filtered() error {
	return fault.New(fault.Invalid, "option.misplaced", "a filter in the path goes with reads, and with PATCH and DELETE of every row that "+
		"meets it: …/$filter(…)/$each; nothing was changed").On("path")
}

// task is one write for one caller.
type task struct {
	api     *API
	ctx     context.Context
	caller  access.Caller
	scope   *access.Scope
	in      Write
	request *request.Request
	replace bool // all of the row, not the fields that are named
	field   bool // one field of the row: no new row is made
}

// begin reads where a write leads; the request of the task is the caller's to release. A filter that the write would not be held to is
// refused: nothing that a caller relies on is passed over.
func (a *API) begin(ctx context.Context, c access.Caller, in Write) (*task, error) {
	r, err := request.Read(a.Model, in.Path, in.Query)
	if err != nil {
		return nil, err
	}
	t, err := a.task(ctx, c, r, in)
	if r.Filtered() && r.View == query.Rows {
		err = filtered()
	}
	if err != nil {
		r.Release()
		return nil, err
	}
	return t, nil
}

func (a *API) task(ctx context.Context, c access.Caller, r *request.Request, in Write) (*task, error) {
	scope, err := a.Scope(c)
	return &task{api: a, ctx: ctx, caller: c, scope: scope, in: in, request: r}, err
}

// may refuses an operation that the role may not do, and options that do not go with a write.
func (t *task) may(op window.Operation) error {
	if t.scope.For(op, t.request.Resource) == nil {
		return t.scope.Refuse(op, t.request.Resource)
	}
	return showing(t.request)
}

// compiler makes changes in a scope.
func (t *task) compiler(scope *access.Scope) *change.Compiler {
	return &change.Compiler{Scope: scope, Refer: t.api.reference}
}

// reference reads the path of a row that a body names.
func (a *API) reference(ref string) (*request.Request, error) {
	if a.refer != nil && strings.HasPrefix(ref, "$") {
		var err error
		if ref, err = a.refer(ref); err != nil {
			return nil, err
		}
	}
	return a.path(ref)
}

// path reads a path that stands for a row.
func (a *API) path(text string) (*request.Request, error) {
	return request.Read(a.Model, a.relative(text), "")
}

// relative is a reference below the window: it may be given as a whole URL.
func (a *API) relative(ref string) string {
	for _, root := range []string{"/api/", "/draft/"} {
		if _, below, ok := strings.Cut(ref, root+a.Model.Name+"/"); ok {
			return below
		}
	}
	return strings.TrimPrefix(ref, "/")
}

// try does a write in all roles of the caller together and, where that is refused, in each alone. In a transaction, what a refused try
// has done is undone.
func (t *task) try(do func(*API, *access.Scope) (*Written, error)) (*Written, error) {
	others := t.scope.PerRole(t.replace)
	if len(others) == 0 {
		return do(t.api, t.scope)
	}
	attempt := func(scope *access.Scope) (w *Written, err error) {
		if t.api.tx == nil {
			return do(t.api, scope)
		}
		err = t.api.tx.Transact(t.ctx, func(tx *postgres.Tx) (err error) {
			w, err = do(t.api.within(tx), scope)
			return err
		})
		return w, err
	}
	written, err := attempt(t.scope)
	if _, refused := fault.From(err); !refused {
		return written, err
	}
	for _, scope := range others {
		written, again := attempt(scope)
		if _, refused := fault.From(again); !refused {
			return written, again
		}
		var byDatabase *fault.Refusal
		if errors.As(again, &byDatabase) && !errors.As(err, &byDatabase) { // the role may, which says more than that all of them may not
			err = again
		}
	}
	return nil, err
}

// execute runs a change and returns what has become of the row that it is about; nil where it is about none.
func (t *task) execute(a *API, scope *access.Scope, c *change.Change, err error) (*Written, error) {
	if err != nil {
		return nil, err
	}
	x := &execution{api: a, ctx: t.ctx, caller: t.caller, scope: scope, change: c, request: t.request, format: t.in.Format}
	if len(c.Written) > 0 && t.request.HasOptions() { // before anything is written
		q, err := t.request.Resolve()
		if err == nil {
			_, err = scope.Check(q)
		}
		if err != nil {
			return nil, err
		}
	}
	err = x.execute()
	return x.written, err
}

// Create adds one row to the collection at the path. At the end of a relation to many, it is one of the row that the path leads
// through (Protocol, 11.4.2).
func (a *API) Create(ctx context.Context, c access.Caller, in Write) (*Written, error) {
	t, err := a.begin(ctx, c, in)
	if err != nil {
		return nil, err
	}
	r := t.request
	defer r.Release()
	target, gives, err := t.newRow()
	if err != nil {
		return nil, err
	}
	if r.Single {
		return nil, notHere(r, "method.row", r.Resource.Methods(false, true),
			"a row is added with POST to the collection /%s; the row at this path is changed with PATCH", r.Resource.Name)
	}
	in.MustBeNew = false // it always is
	if err := in.Unconditional("a row that is added has no version yet"); err != nil {
		return nil, err
	}
	text, err := in.Body()
	if err != nil {
		return nil, err
	}
	body, err := in.parsed(payload.Parse(text))
	if err != nil {
		return nil, err
	}
	written, err := t.try(func(a *API, scope *access.Scope) (*Written, error) {
		row, err := body.CreateUnder(r.Resource, scope, gives)
		if err != nil {
			return nil, err
		}
		made, err := t.compiler(scope).Create(target, row)
		return t.execute(a, scope, made, err)
	})
	return noting(written, body, err)
}

// noting adds what of the body was passed over to what was written.
func noting(w *Written, body *payload.Body, err error) (*Written, error) {
	if err == nil {
		w.Ignored = body.Ignored()
	}
	return w, err
}

// newRow finds where a new row goes: into the collection of the path, or to the end of a relation, whose row before it gives it fields.
func (t *task) newRow() (target change.Target, gives []*model.Field, err error) {
	r := t.request
	target = change.Target{Resource: r.Resource}
	if r.Parent() == "" || r.Single || r.View != query.Rows {
		if t.scope.For(window.Create, r.Resource) == nil {
			return target, nil, t.scope.Refuse(window.Create, r.Resource)
		}
		if err := writable(r); err != nil {
			return target, nil, err
		}
		return target, nil, showing(r)
	}
	target.Via = r.Via()
	gives = target.Via.ThereFields()
	if target.Via.Through != nil || slices.Contains(target.Via.OwnFields(), nil) || slices.Contains(gives, nil) {
		return target, nil, fault.New(fault.Unsupported, "write.path", "a row of %s is created at /%s, and linked with POST …/%s/$ref",
			r.Resource.Name, r.Resource.Name, r.Via().Name).On("path")
	}
	if err := t.may(window.Create); err != nil {
		return target, nil, err
	}
	target.Path, err = r.Before().Places()
	return target, gives, err
}

// Update changes the fields that the body names in the row at the path.
func (a *API) Update(ctx context.Context, c access.Caller, in Write) (*Written, error) {
	return a.change(ctx, c, in, false)
}

// Replace gives the row at the path the values of the body; what it leaves out goes to its default.
func (a *API) Replace(ctx context.Context, c access.Caller, in Write) (*Written, error) {
	return a.change(ctx, c, in, true)
}

func (a *API) change(ctx context.Context, c access.Caller, in Write, replace bool) (*Written, error) {
	t, err := a.begin(ctx, c, in)
	if err != nil {
		return nil, err
	}
	r := t.request
	defer r.Release()
	parse := payload.Parse
	t.replace = replace
	switch field := r.Field; {
	case r.Below() != nil:
		return nil, partOnly(r)
	case field != nil && r.View == query.Rows:
		t.request, t.replace, t.field = r.OfRow(), false, true
		parse = func(text []byte) (*payload.Body, error) {
			body, err := payload.ParseField(text, field)
			if err == nil && replace {
				body.Whole()
			}
			return body, err
		}
	case !r.Single && r.View == query.Rows && r.Parent() == "" && !replace:
		return t.delta()
	}
	if err := t.mayUpdate(); err != nil {
		return nil, err
	}
	text, err := in.Body()
	if err != nil {
		return nil, err
	}
	body, err := in.parsed(parse(text))
	if err != nil {
		return nil, err
	}
	written, err := t.update(body)
	return noting(written, body, err)
}

// partOnly refuses a write of a part of a field's value.
func partOnly(r *request.Request) error {
	return notHere(r, "method.part", reading, "a part of %s is changed with PATCH of the row: {\"%s\":{…}}", r.Field.Name, r.Field.Name)
}

// mayUpdate refuses the change of a row where it can't be done, before the body is asked for.
func (t *task) mayUpdate() error {
	r := t.request
	if t.scope.For(window.Update, r.Resource) == nil {
		return t.scope.Refuse(window.Update, r.Resource)
	}
	switch {
	case r.View == query.Each && r.Parent() == "" && t.replace:
		return notEach(r)
	case r.View == query.Each && r.Parent() == "":
		return t.filter()
	case r.View != query.Rows || !r.Single:
		if err := writable(r); err != nil {
			return err
		}
	}
	if err := showing(r); err != nil {
		return err
	}
	what := "changed with PATCH"
	if t.replace {
		what = "replaced with PUT"
	}
	return oneRow(r, what)
}

// filter checks the filter of a write of every row that meets it.
func (t *task) filter() error {
	if t.scope.For(window.Read, t.request.Resource) == nil {
		return t.scope.Refuse(window.Read, t.request.Resource) // a filter tells of what it meets
	}
	q, err := t.request.Resolve()
	if err == nil {
		_, err = t.scope.Check(q)
	}
	return err
}

// update changes the row of the path, every row of its filter, or the row that takes the place of one that is not there.
func (t *task) update(body *payload.Body) (*Written, error) {
	r := t.request
	if r.View == query.Each {
		return t.try(func(a *API, scope *access.Scope) (*Written, error) { return t.updateEach(a, scope, body) })
	}
	places, err := r.Places()
	if err != nil {
		return nil, err
	}
	at := change.Target{Resource: r.Resource, Path: places}
	return t.try(func(a *API, scope *access.Scope) (*Written, error) {
		written, err := t.updateRow(a, scope, at, body)
		if f, ok := fault.From(err); !ok || f.Kind != fault.NotFound || t.in.IfMatch != nil || t.field || t.in.MustBeNew {
			return written, err
		}
		switch {
		case len(places) > 1 && r.ToOne():
			return t.createUnder(a, scope, body, err)
		case len(places) == 1 && (places[0].Alternate() || r.Resource.KeyIsChosen()):
			made, again := t.createAt(a, scope, &places[0], body)
			if again == nil || t.replace && scope.For(window.Create, r.Resource) != nil || refusedNew(again) {
				return made, again
			}
		}
		return nil, err
	})
}

func (t *task) updateRow(a *API, scope *access.Scope, at change.Target, body *payload.Body) (*Written, error) {
	r := t.request.Resource
	var row *payload.Row
	var err error
	if t.in.MustBeNew && len(at.Path) == 1 && t.exists(a) {
		return nil, notNew(r)
	}
	if t.replace {
		row, err = body.Replace(r, scope)
	} else {
		row, err = body.Read(r, window.Update, scope)
	}
	if err != nil {
		return nil, err
	}
	if t.in.MustBeNew {
		if len(at.Path) > 1 {
			return nil, t.in.Unconditional("at the end of a relation there may be none")
		}
		return t.createAt(a, scope, &at.Path[0], body)
	}
	in := t.in
	if in.IfMatch == nil && row.Version != "" {
		in.IfMatch = []string{row.Version}
	}
	if err := in.versionGiven(r); err != nil {
		return nil, err
	}
	at.Versions = in.versions()
	c, err := t.compiler(scope).Update(at, row)
	w, err := t.execute(a, scope, c, err)
	if f, ok := fault.From(err); ok && f.Kind == fault.NotFound && in.IfMatch != nil {
		return nil, noVersion(r)
	}
	return w, err
}

// versions are those of which the row must have one; nil where it may have any.
func (in Write) versions() []string {
	if slices.Contains(in.IfMatch, "*") {
		return nil
	}
	return in.IfMatch
}

func noVersion(r *model.Resource) error {
	return fault.New(fault.VersionMismatch, "version.none",
		"there is no such row of %s any more, or none that you may see, so no version of it matches", r.Name).On("If-Match")
}

// createUnder writes at the end of a relation to one that leads nowhere yet: what is sent becomes a new row, tied to the one before it.
func (t *task) createUnder(a *API, scope *access.Scope, body *payload.Body, none error) (*Written, error) {
	rel := t.request.Via()
	if scope.For(window.Update, rel.From) == nil {
		return nil, none
	}
	before, err := t.request.Before().Places()
	if err != nil {
		return nil, err
	}
	row, err := body.Under(rel, scope)
	if err != nil {
		return nil, err
	}
	c, err := t.compiler(scope).UpdateUnder(change.Target{Resource: rel.From, Path: before}, row)
	return t.execute(a, scope, c, err)
}

// refusedNew reports whether a change of a row that is not there came to nothing because the database refused the new one. That there is
// one already, which the role may not see, is not told.
func refusedNew(err error) bool {
	var refusal *fault.Refusal
	return errors.As(err, &refusal) && refusal.Code != "row.conflict"
}

// createAt adds the row whose key the path gives (Protocol, 11.4.4).
func (t *task) createAt(a *API, scope *access.Scope, at *request.Place, body *payload.Body) (*Written, error) {
	r := t.request.Resource
	if scope.For(window.Create, r) == nil {
		return nil, scope.Refuse(window.Create, r)
	}
	if !at.Alternate() && !scope.MayName(r) || !scope.MayGive(r, at.KeyOf) {
		return nil, change.NoRow(r)
	}
	row, err := body.CreateAt(r, scope, at.KeyOf, at.Key)
	if err != nil {
		return nil, err
	}
	c, err := t.compiler(scope).Create(change.Target{Resource: r}, row)
	made, err := t.execute(a, scope, c, err)
	if f, ok := fault.From(err); ok && f.Code == "row.conflict" && t.in.MustBeNew {
		return nil, notNew(r)
	}
	return made, err
}

// exists reports whether the row of the path is there for the caller to see.
func (t *task) exists(a *API) bool {
	page, err := a.read(t.ctx, t.caller, t.request.Bare(), Preferences{})
	return err == nil && page.Close() == nil
}

// notNew refuses a write that asks for a new row where there is one.
func notNew(r *model.Resource) error {
	return fault.New(fault.VersionMismatch, "version.exists", "there is such a row of %s already, and If-None-Match: * asks for a new one",
		r.Name).On("If-None-Match")
}

// Delete removes the row at the path, or every row of a filter.
func (a *API) Delete(ctx context.Context, c access.Caller, in Write) (*Written, error) {
	t, err := a.begin(ctx, c, in)
	if err != nil {
		return nil, err
	}
	r := t.request
	defer r.Release()
	if r.Below() != nil {
		return nil, partOnly(r)
	}
	if r.Field != nil && r.View == query.Rows { // a field goes to null
		t.request, t.field = r.OfRow(), true
		if err := t.mayUpdate(); err != nil {
			return nil, err
		}
		return t.update(payload.Null(r.Field))
	}
	if t.scope.For(window.Delete, r.Resource) == nil {
		return nil, t.scope.Refuse(window.Delete, r.Resource)
	}
	if r.View == query.Each && r.Parent() == "" {
		return t.deleteEach()
	}
	if r.View != query.Rows || !r.Single {
		if err := writable(r); err != nil {
			return nil, err
		}
	}
	if err := showing(r); err != nil {
		return nil, err
	}
	if err := oneRow(r, "deleted"); err != nil {
		return nil, err
	}
	if in.MustBeNew {
		return nil, in.Unconditional("what is new can't be deleted")
	}
	if err := in.versionGiven(r.Resource); err != nil {
		return nil, err
	}
	places, err := r.Places()
	if err != nil {
		return nil, err
	}
	deleted, err := t.compiler(t.scope).Delete(change.Target{Resource: r.Resource, Path: places, Versions: in.versions()})
	w, err := t.execute(a, t.scope, deleted, err)
	if f, ok := fault.From(err); ok && f.Kind == fault.NotFound && in.IfMatch != nil {
		return nil, noVersion(r.Resource)
	}
	return w, err
}

// writeOptions go with a write: what its answer shows.
var writeOptions = []string{"select", "expand", "compute"}

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
		return fault.New(fault.Invalid, "option.misplaced",
			"%s does not go with a write, which takes select, expand and compute for its answer%s", name, hint).On(name)
	}
	return nil
}

func oneRow(r *request.Request, what string) error {
	if !r.Single {
		return notHere(r, "method.collection", r.Resource.Methods(true, false),
			"only a single row can be %s: add its key to the path, as in /%s/…", what, r.Resource.Name)
	}
	return nil
}

// notHere refuses a method where others are possible.
func notHere(r *request.Request, code string, allow []string, format string, args ...any) error {
	return fault.NotAllowed(code, allow, format, args...).On(r.Resource.Name)
}

// writable reports whether the path leads to rows of a resource, where they are written, and to no part or number of them.
func writable(r *request.Request) error {
	name := r.Resource.Name
	undone := func(format string, args ...any) error {
		return fault.New(fault.Unsupported, "write.path", format, args...).On("path")
	}
	switch {
	case r.View == query.Number:
		return notHere(r, "method.collection", []string{"GET", "HEAD"}, "$count is read; rows are written at /%s", name)
	case r.View == query.Bare:
		return undone("a bare $value is not written here; send {\"value\": …} with PUT to the path before it")
	case r.Field != nil:
		return notHere(r, "method.row", r.Resource.Methods(false, true), "%s is set with PUT, and {\"value\": …} as the body", r.Field.Name)
	case r.View == query.Refs && r.Parent() == "":
		return notHere(r, "method.collection", []string{"GET", "HEAD"},
			"these are links to rows; rows are written at /%s, and relations between them at /%s/…/relation/$ref", name, name)
	case r.View == query.Refs:
		return notHere(r, "method.link", linkMethods(r.Via()),
			"a link is made with %s and removed with DELETE; PATCH of the row changes many at once", linkMethod(r.Via()))
	case r.View == query.Each && r.Parent() == "":
		return notEach(r)
	case r.View == query.Each:
		return undone("$each is not done along a relation; filter the rows themselves: /%s/$filter(…)/$each", name)
	case r.Parent() != "" && r.Single:
		return notHere(r, "method.row", r.Resource.Methods(false, true),
			"a row is added with POST to the collection /%s; the one that %s leads to is changed with PATCH", name, r.Via().Name)
	case r.Parent() != "":
		return undone("rows at the end of a relation are written in the row before it: PATCH /%s with {\"%s@delta\":[…]}, "+
			"or at their own resource, /%s", r.Parent(), r.Via().Name, name)
	}
	return nil
}

func notEach(r *request.Request) error {
	return notHere(r, "method.each", []string{"PATCH", "DELETE"}, "every row of a filter is changed with PATCH or deleted with DELETE")
}

// Unconditional refuses the conditions of a write that can't be held to them: nothing that a caller relies on is passed over.
func (in Write) Unconditional(instead string) error {
	if in.IfMatch != nil || in.MustBeNew {
		return fault.New(fault.Invalid, "version.condition",
			"If-Match and If-None-Match go with a change of one row at its path; %s. Nothing was changed", instead).On("If-Match")
	}
	return nil
}

// versionGiven refuses a change without a version where the resource asks for one (RFC 6585, 3).
func (in Write) versionGiven(r *model.Resource) error {
	if r.IfMatch && in.IfMatch == nil {
		return fault.New(fault.VersionNeeded, "version.needed", "%s is changed with If-Match alone: read the row, and send its ETag back",
			r.Name).On("If-Match")
	}
	return nil
}
