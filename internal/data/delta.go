package data

import (
	"bytes"
	"encoding/json"
	"slices"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

// delta is a PATCH of a collection: a statement for what goes, one for what changes, one for what is new, however many rows there are,
// in one transaction (Protocol, 11.4.13).
func (t *task) delta() (*Written, error) {
	r := t.request.Resource
	operations := []window.Operation{window.Update, window.Create, window.Delete}
	if !slices.ContainsFunc(operations, func(op window.Operation) bool { return t.scope.For(op, r) != nil }) {
		return nil, t.scope.Refuse(window.Update, r)
	}
	if err := showing(t.request); err != nil {
		return nil, err
	}
	q, err := t.request.Resolve()
	if err != nil {
		return nil, err
	}
	if t.scope.For(window.Read, r) != nil {
		if q, err = t.scope.Check(q); err != nil {
			return nil, err
		}
	}
	if err := t.in.Unconditional("in a delta, each row takes its @etag"); err != nil {
		return nil, err
	}
	text, err := t.in.Rows()
	if err != nil {
		return nil, err
	}
	body, err := t.in.parsed(payload.Parse(text))
	if err != nil {
		return nil, err
	}
	written, err := t.try(func(a *API, scope *access.Scope) (*Written, error) { return t.deltaAs(a, scope, q, body) })
	return noting(written, body, err)
}

func (t *task) deltaAs(a *API, scope *access.Scope, q *query.Query, body *payload.Body) (*Written, error) {
	r := t.request.Resource
	items, err := body.Delta(r, scope)
	if err != nil {
		return nil, err
	}
	if most := scope.Limits.Rows; most > 0 && len(items) > most {
		return nil, fault.New(fault.Conflict, "limit.rows", "the body has %d rows, and role %q may write %d at once; nothing was changed",
			len(items), scope.Name, most).On(r.Name)
	}
	c, err := t.compiler(scope).Delta(r, items)
	if err != nil {
		return nil, err
	}
	show := t.in.Show && scope.For(window.Read, r) != nil
	x := &execution{api: a, ctx: t.ctx, caller: t.caller, scope: scope, change: c, request: t.request, query: q, format: t.in.Format,
		show: show}
	if err := x.execute(); err != nil {
		return nil, err
	}
	w := &Written{Many: true, Rows: x.rows, Context: r.Name + contextSelect(q) + "/$delta"}
	if show {
		if w.Row, err = x.deltaRows(items); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// deltaRows are the rows of the answer to a delta, in its order: as they are now, or that they are gone. There are none where one of them
// is not to be shown.
func (x *execution) deltaRows(items []*payload.Item) ([]byte, error) {
	rows := make([][]byte, len(items))
	for i, it := range items {
		rows[i] = x.shown[i]
		if it.Removed != payload.NotRemoved {
			var err error
			if rows[i], err = x.gone(i); err != nil {
				return nil, err
			}
		}
		if rows[i] == nil {
			return nil, nil
		}
	}
	return slices.Concat([]byte("["), bytes.Join(rows, []byte(",\n")), []byte("]")), nil
}

// gone is what the answer has for a row that was deleted.
func (x *execution) gone(id int) ([]byte, error) {
	name, removed := "@id", "@removed"
	if x.format.V40 {
		name, removed = "@odata.id", "@odata.removed"
	}
	for _, s := range x.change.Steps {
		for _, row := range s.Rows {
			if row.ID == id && row.Key != nil {
				key, err := x.texts(row.Key)
				if err != nil {
					return nil, err
				}
				return json.Marshal(map[string]any{removed: map[string]string{"reason": "deleted"}, name: request.RowPath(s.Resource, key)})
			}
		}
	}
	return nil, nil
}
