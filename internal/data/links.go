package data

import (
	"context"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// Link ties the row at the path's beginning to the one that ref names, along the relation at its end (Protocol, 11.4.6): set says that
// it is to be the only one.
func (a *API) Link(ctx context.Context, c access.Caller, in Write, set bool) error {
	t, target, far, err := a.linkTask(ctx, c, in.Path)
	if err != nil {
		return err
	}
	if err := linkable(target.Via, far != nil, set); err != nil {
		return err
	}
	body, err := in.Body()
	if err != nil {
		return err
	}
	if set && target.Via.Many {
		return t.setLinks(target, body)
	}
	id, err := payload.Link(body)
	if err != nil {
		return err
	}
	if id == "" {
		return fault.New(fault.Invalid, "link.missing", "the body names no row; send {\"@id\":\"%s/…\"}", target.Via.To.Name).On("@id")
	}
	return t.links(func(c *change.Compiler) (*change.Change, error) { return c.Link(target, id) })
}

// setLinks ties the row to those alone that the body names: {"value":[{"@id":"tugs/3"}]} (Protocol, 11.4.6.3).
func (t *task) setLinks(target change.Target, text []byte) error {
	body, err := payload.Links(text, target.Via)
	if err != nil {
		return err
	}
	if t.scope.For(window.Update, target.Resource) == nil {
		return t.scope.Refuse(window.Update, target.Resource)
	}
	t.request = t.request.Before()
	return t.links(func(c *change.Compiler) (*change.Change, error) {
		row, err := body.Read(target.Resource, window.Update, c.Scope)
		if err != nil {
			return nil, err
		}
		return c.Update(change.Target{Resource: target.Resource, Path: target.Path}, row)
	})
}

// Unlink removes a tie. Neither row is deleted.
func (a *API) Unlink(ctx context.Context, c access.Caller, path, ref string) error {
	t, target, far, err := a.linkTask(ctx, c, path)
	if err != nil {
		return err
	}
	rel := target.Via
	switch said := far != nil || !rel.Many; {
	case said && ref != "":
		return fault.New(fault.Invalid, "option.misplaced", "the path says which link already; leave $id out").On("$id")
	case !said && ref == "":
		return fault.New(fault.Invalid, "link.missing", "say which row of %s: %s/…/$ref, or ?$id=%s/…", rel.Name,
			strings.TrimSuffix(path, "/$ref"), rel.To.Name).On("path")
	case !said:
		plain := &change.Compiler{Scope: t.scope, Refer: a.path} // $id is no place for the references of a batch
		if far, err = plain.Far(rel, ref); err != nil {
			return err
		}
	}
	return t.links(func(c *change.Compiler) (*change.Change, error) { return c.Unlink(target, far) })
}

// links runs a change of ties.
func (t *task) links(compile func(*change.Compiler) (*change.Change, error)) error {
	_, err := t.try(func(a *API, scope *access.Scope) (*Written, error) {
		c, err := compile(t.compiler(scope))
		return t.execute(a, scope, c, err)
	})
	return err
}

// linkTask reads the path of a link: the row at its beginning, the relation, and the row at the far end where the path names it.
func (a *API) linkTask(ctx context.Context, c access.Caller, path string) (t *task, target change.Target, far []request.Place, err error) {
	fail := func(err error) (*task, change.Target, []request.Place, error) { return nil, target, nil, err }
	r, err := request.Read(a.Model, path, "")
	if err != nil {
		return fail(err)
	}
	if t, err = a.task(ctx, c, r, Write{}); err != nil {
		return fail(err)
	}
	if r.View != query.Refs || r.Parent() == "" {
		return fail(fault.New(fault.Invalid, "link.path", "a link is written along a relation of a row, as in /%s/…/relation/$ref",
			r.Resource.Name).On("path"))
	}
	near := r.Before()
	if t.scope.For(window.Read, near.Resource) == nil {
		return fail(t.scope.Refuse(window.Read, near.Resource))
	}
	target = change.Target{Resource: near.Resource, Via: r.Via()}
	places, err := r.Places()
	if err != nil {
		return fail(err)
	}
	if !near.Single {
		return fail(fault.New(fault.Invalid, "link.path", "the path leads to many rows of %s; name one", near.Resource.Name).On("path"))
	}
	if err := t.scope.CheckLink(target.Via); err != nil {
		return fail(err)
	}
	if r.Filtered() {
		return fail(filtered())
	}
	last := len(places) - 1
	if target.Path = places[:last]; places[last].Key != nil {
		far = []request.Place{{Resource: r.Resource, Key: places[last].Key, KeyOf: places[last].KeyOf}}
	}
	return t, target, far, nil
}

// linkable refuses to make a link as the relation does not have it: set where it leads to one row, added where it leads to many. A path
// that names the other row has its link already.
func linkable(rel *model.Relation, named, set bool) error {
	refuse := func(allow []string, format string, args ...any) error {
		return fault.NotAllowed("method.link", allow, format, args...).On(rel.Name)
	}
	switch {
	case named:
		return refuse([]string{"GET", "HEAD", "DELETE"}, "a link is added with POST to …/%s/$ref, with the row in the body", rel.Name)
	case !rel.Many && !set:
		return refuse(linkMethods(rel), "%s leads to one row: its link is set with PUT", rel.Name)
	}
	return nil
}

// linkMethods are those of the links of a relation.
func linkMethods(rel *model.Relation) []string {
	if rel.Many {
		return []string{"GET", "HEAD", "POST", "PUT", "DELETE"}
	}
	return []string{"GET", "HEAD", "PUT", "DELETE"}
}

// linkMethod is the one that makes a link.
func linkMethod(rel *model.Relation) string {
	if rel.Many {
		return "POST"
	}
	return "PUT"
}
