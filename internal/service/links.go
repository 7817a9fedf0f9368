package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

// tie is a relation of a row, and the row at its other end.
type tie struct {
	scope *access.Scope
	path  string // of the near row
	rel   *model.Relation
	near  *request.Request
	far   *request.Request // nil where the path does not name it
}

// Link ties the row at the path's beginning to the one that ref names, along the relation at its end (Protocol, 11.4.6): set says that
// it is to be the only one. ref is asked for once it is known that the caller may.
func (a *API) Link(ctx context.Context, c access.Caller, path string, set bool, ref func() (string, error)) error {
	t, err := a.tie(c, path)
	if err != nil {
		return err
	}
	if err := t.linkable(set); err != nil {
		return err
	}
	id, err := ref()
	if err != nil {
		return err
	}
	if id == "" {
		return fault.New(fault.Invalid, "link.missing", "the body names no row; send {\"@id\":\"%s/…\"}", t.rel.To.Name).On("@id")
	}
	if t.far, err = a.far(ctx, c, t.rel, id); err != nil {
		return err
	}
	if t.rel.Through != nil {
		done, err := a.junction(ctx, c, t, statement.Tie)
		if err == nil && done == 0 {
			return noRow(t.rel.From)
		}
		return err
	}
	own, there := ownFields(t.rel), thereFields(t.rel)
	if slices.Contains(own, nil) || slices.Contains(there, nil) {
		return hiddenKey(t.rel)
	}
	if t.rel.Many {
		return a.copyKey(ctx, c, t.path, own, t.far.Path(), there)
	}
	return a.copyKey(ctx, c, t.far.Path(), there, t.path, own)
}

// Unlink removes a tie. Neither row is deleted.
func (a *API) Unlink(ctx context.Context, c access.Caller, path, ref string) error {
	t, err := a.tie(c, path)
	if err != nil {
		return err
	}
	switch said := t.far != nil || !t.rel.Many; {
	case said && ref != "":
		return fault.New(fault.Invalid, "option.misplaced", "the path says which link already; leave $id out").On("$id")
	case !said && ref == "":
		return fault.New(fault.Invalid, "link.missing", "say which row of %s: %s/…/$ref, or ?$id=%s/…", t.rel.Name, strings.TrimSuffix(path, "/$ref"), t.rel.To.Name).On("path")
	case !said:
		if t.far, err = a.far(ctx, c, t.rel, ref); err != nil {
			return err
		}
	}
	if t.rel.Through != nil {
		done, err := a.junction(ctx, c, t, statement.Untie)
		if err == nil && done == 0 {
			return fault.New(fault.NotFound, "link.none", "there is no such link, or none that you may see").On(t.rel.Name)
		}
		return err
	}
	holder, fields := t.path, ownFields(t.rel)
	if t.rel.Many {
		holder, fields = t.far.Path(), thereFields(t.rel)
		member := t.path + "/" + t.rel.Name + strings.TrimPrefix(holder, t.rel.To.Name)
		if _, err := a.members(ctx, c, member, nil); err != nil {
			return err
		}
	}
	body := map[string]json.RawMessage{}
	for _, f := range fields {
		if f == nil {
			return hiddenKey(t.rel)
		}
		if !f.Nullable {
			return fault.New(fault.Conflict, "link.required", "a row of %s can't be without %s: link it to another one, or delete it; nothing was changed", f.Resource.Name, f.Name).On(f.Name)
		}
		body[f.Name] = json.RawMessage("null")
	}
	return a.set(ctx, c, holder, body)
}

// tie reads the path of a link.
func (a *API) tie(c access.Caller, path string) (*tie, error) {
	scope, err := a.scope(c)
	if err != nil {
		return nil, err
	}
	r, err := request.Read(a.Model, path, "")
	if err != nil {
		return nil, err
	}
	if r.View != request.Refs || r.Parent() == "" {
		return nil, fault.New(fault.Invalid, "link.path", "a link is written along a relation of a row, as in /%s/…/relation/$ref", r.Resource.Name).On("path")
	}
	t := &tie{scope: scope, path: r.Parent()}
	if t.near, err = request.Read(a.Model, t.path, ""); err != nil {
		return nil, err
	}
	if scope.For(window.Read, t.near.Resource) == nil {
		return nil, scope.Refuse(window.Read, t.near.Resource)
	}
	q, err := r.Resolve()
	if err != nil {
		return nil, err
	}
	last := q.Path[len(q.Path)-1]
	t.rel = last.Via
	if !t.near.Single {
		return nil, fault.New(fault.Invalid, "link.path", "the path leads to many rows of %s; name one", t.near.Resource.Name).On("path")
	}
	if err := scope.CheckTie(t.rel); err != nil {
		return nil, err
	}
	if r.Filtered() {
		return nil, filtered()
	}
	if last.Key == nil {
		return t, nil
	}
	texts, err := r.KeyTexts(q)
	if err != nil {
		return nil, err
	}
	t.far, err = request.Read(a.Model, request.RowPath(t.rel.To, texts), "")
	return t, err
}

// linkable says whether a link is to be made as the relation has it: set where it leads to one row, added where it leads to many. A path
// that names the other row has its link already.
func (t *tie) linkable(set bool) error {
	rel := t.rel
	refuse := func(allow []string, format string, args ...any) error {
		return fault.NotAllowed("method.link", allow, format, args...).On(rel.Name)
	}
	switch {
	case t.far != nil:
		return refuse([]string{"GET", "HEAD", "DELETE"}, "a link is added with POST to …/%s/$ref, with the row in the body", rel.Name)
	case rel.Many && set:
		return refuse(linkMethods(rel), "%s leads to many rows: a link is added with POST; PATCH of the row with {\"%s\":[…]} sets them all", rel.Name, rel.Name)
	case !rel.Many && !set:
		return refuse(linkMethods(rel), "%s leads to one row: its link is set with PUT", rel.Name)
	}
	return nil
}

// linkMethods are those of the links of a relation.
func linkMethods(rel *model.Relation) []string {
	return []string{"GET", "HEAD", linkMethod(rel), "DELETE"}
}

// linkMethod is the one that makes a link.
func linkMethod(rel *model.Relation) string {
	if rel.Many {
		return "POST"
	}
	return "PUT"
}

// far reads the row that a link names, by its own path.
func (a *API) far(ctx context.Context, c access.Caller, rel *model.Relation, ref string) (*request.Request, error) {
	at, err := a.referred(rel, ref)
	if err != nil || at.Parent() == "" {
		return at, err
	}
	path, err := a.locate(ctx, c, at.Path(), rel.To)
	if err != nil {
		return nil, err
	}
	return request.Read(a.Model, path, "")
}

// referred reads what an @id refers to: a row at the end of a relation.
func (a *API) referred(rel *model.Relation, ref string) (*request.Request, error) {
	at, err := request.Read(a.Model, a.relative(ref), "")
	if err == nil && !isRow(at, rel.To) {
		err = fault.New(fault.Invalid, "link.target", "%s leads to rows of %s, and %q is none; write %s/…", rel.Name, rel.To.Name, ref, rel.To.Name).On("@id")
	}
	return at, err
}

// isRow says whether a path leads to one row of a resource, as it is.
func isRow(at *request.Request, r *model.Resource) bool {
	return at.Resource == r && at.Single && at.View == request.Rows && at.Field == nil && !at.Filtered()
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

func (a *API) junction(ctx context.Context, c access.Caller, t *tie, plan func(*model.Relation, *request.Query, *request.Query, *access.Scope) *statement.Plan) (int64, error) {
	near, err := t.near.Resolve()
	if err != nil {
		return 0, err
	}
	far, err := t.far.Resolve()
	if err != nil {
		return 0, err
	}
	far.Fix(t.far.Literals) // one statement speaks of both paths
	p := plan(t.rel, near, far, t.scope)
	args, err := p.Args(statement.Input{Literals: t.near.Literals, Claims: c.Claims})
	if err != nil {
		return 0, err
	}
	done, err := postgres.Compile(p, nil, postgres.Format{}).Write(ctx, a.place, args, 0, timeOf(t.scope))
	if err != nil {
		return 0, a.explain(err, t.rel.From, t.scope)
	}
	return done.Total, nil
}

// copyKey sets fields of one row to the values of fields of another, which must be there.
func (a *API) copyKey(ctx context.Context, c access.Caller, from string, source []*model.Field, to string, fields []*model.Field) error {
	values, err := a.members(ctx, c, from, source)
	if err != nil {
		return err
	}
	body := map[string]json.RawMessage{}
	for i, f := range fields {
		body[f.Name] = values[source[i].Name]
	}
	return a.set(ctx, c, to, body)
}

func hiddenKey(rel *model.Relation) error {
	return fault.New(fault.Unsupported, "link.hidden", "the fields behind %s are not shown here, so it can't be written", rel.Name)
}

// members reads fields of a row.
func (a *API) members(ctx context.Context, c access.Caller, path string, fields []*model.Field) (map[string]json.RawMessage, error) {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	query := ""
	if names := strings.Join(names, ","); names != "" {
		query = "select=" + url.QueryEscape(names)
	}
	page, err := a.Read(ctx, c, path, query, Preferences{})
	if err != nil {
		return nil, err
	}
	defer page.Close()
	values := map[string]json.RawMessage{}
	if page.Empty {
		return nil, fault.New(fault.NotFound, "row.none", "there is nothing at %s", path)
	}
	if err := json.Unmarshal(page.AppendRow(nil), &values); err != nil {
		return nil, fmt.Errorf("read back a row: %w", err)
	}
	return values, nil
}

func (a *API) set(ctx context.Context, c access.Caller, path string, body map[string]json.RawMessage) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	_, err = a.Update(ctx, c, Write{Path: path, existing: true, derived: true, Body: func() ([]byte, error) { return text, nil }})
	if f, ok := fault.From(err); ok && f.Code == "access.field" {
		refused := *f
		refused.Kind = fault.Forbidden // the caller did not send the field: the link is what is not allowed
		return &refused
	}
	return err
}

func ownFields(rel *model.Relation) []*model.Field {
	list := make([]*model.Field, len(rel.Pairs))
	for i, p := range rel.Pairs {
		list[i] = rel.From.FieldOf(p.Own)
	}
	return list
}

func thereFields(rel *model.Relation) []*model.Field {
	list := make([]*model.Field, len(rel.Pairs))
	for i, p := range rel.Pairs {
		list[i] = rel.To.FieldOf(p.There)
	}
	return list
}
