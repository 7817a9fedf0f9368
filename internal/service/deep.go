package service

import (
	"context"
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

// deep writes a row and what its body says of its relations, in one transaction, and reads it back as the request selects and
// expands it, at least with the relations that were written (Protocol, 11.4.2.2 and 11.4.3.1).
func (a *API) deep(ctx context.Context, c access.Caller, t *target, row *payload.Row, in Write, do func(*API, *target) (*Written, error)) (*Written, error) {
	if _, err := t.resolved(); err != nil {
		return nil, err
	}
	query := in.Query
	if !slices.Contains(t.request.Options(), "expand") {
		if expand := expandNested(t.scope, row); expand != "" {
			query = strings.TrimPrefix(query+"&expand="+url.QueryEscape(expand), "&")
		}
	}
	var w *Written
	err := a.Atomically(ctx, func(a *API) error {
		bare, err := request.Read(a.Model, in.Path, "")
		if err != nil {
			return err
		}
		q, err := bare.Resolve()
		if err != nil {
			return err
		}
		if w, err = do(a, &target{scope: t.scope, request: bare, query: q, format: t.format}); err != nil {
			return err
		}
		return a.readBack(ctx, c, w, query, in.Format)
	})
	if err != nil {
		return nil, err
	}
	return w, nil
}

// expandNested names the relations that a body writes, as far as the role may read them.
func expandNested(scope *access.Scope, row *payload.Row) string {
	var names []string
	for _, n := range row.Nested {
		if !scope.MayFollow(n.Relation) {
			continue
		}
		var below []string
		for _, item := range n.Items {
			if item.Row == nil {
				continue
			}
			if inner := expandNested(scope, item.Row); inner != "" && !slices.Contains(below, inner) {
				below = append(below, inner)
			}
		}
		name := n.Relation.Name
		if len(below) > 0 {
			name += "(expand=" + slices.MaxFunc(below, func(a, b string) int { return len(a) - len(b) }) + ")"
		}
		names = append(names, name)
	}
	return strings.Join(names, ",")
}

// readBack gives the answer of a write the row as it stands now; none where the role may not read it.
func (a *API) readBack(ctx context.Context, c access.Caller, w *Written, query string, f postgres.Format) error {
	w.Row = nil
	page, err := a.Read(ctx, c, w.Path(), query, Preferences{Format: f})
	if _, refused := fault.From(err); refused {
		return nil
	}
	if err != nil {
		return err
	}
	if !page.Empty {
		w.Row, w.Context = page.AppendRow(nil), page.Context
	}
	if tag := page.ETag(); tag != "" {
		w.ETag = tag
	}
	return page.Close()
}

// locate is the path of the row that another path leads to, by its own key.
func (a *API) locate(ctx context.Context, c access.Caller, path string, r *model.Resource) (string, error) {
	if len(r.Key) == 0 {
		return "", fault.New(fault.Invalid, "key.none", "%s has no key, so its rows can't be written", r.Name).On(r.Name)
	}
	key, err := a.keyAt(ctx, c, path, r)
	return rowPath(r, key), err
}

// keyAt is the key of the row that a path leads to, as a JSON array.
func (a *API) keyAt(ctx context.Context, c access.Caller, path string, r *model.Resource) ([]byte, error) {
	values, err := a.members(ctx, c, path, r.Key)
	if err != nil {
		return nil, err
	}
	return keyOf(r, values)
}

func keyOf(r *model.Resource, values map[string]json.RawMessage) ([]byte, error) {
	key := make([]json.RawMessage, len(r.Key))
	for i, k := range r.Key {
		key[i] = values[k.Name]
	}
	return json.Marshal(key)
}

// createWith adds a row and what stands in it.
func (a *API) createWith(ctx context.Context, c access.Caller, t *target, row *payload.Row) (*Written, error) {
	if err := a.writeHeld(ctx, c, "", row); err != nil {
		return nil, err
	}
	w, err := a.created(ctx, c, t, row)
	if err != nil {
		return nil, err
	}
	return w, a.writeTied(ctx, c, t.scope, w.Path(), w.key, row, true)
}

// updateWith changes a row and what stands in it.
func (a *API) updateWith(ctx context.Context, c access.Caller, t *target, row *payload.Row, in Write) (*Written, error) {
	if err := a.writeHeld(ctx, c, in.Path, row); err != nil {
		return nil, err
	}
	w, err := a.revised(ctx, c, t, row, in)
	if err != nil {
		return nil, err
	}
	return w, a.writeTied(ctx, c, t.scope, w.Path(), w.key, row, false)
}

// writeHeld writes what the relations lead to that the row itself holds, and gives the row its fields for them.
func (a *API) writeHeld(ctx context.Context, c access.Caller, path string, row *payload.Row) error {
	for _, n := range row.Nested {
		rel := n.Relation
		if !rel.Holds() {
			continue
		}
		own, there := ownFields(rel), thereFields(rel)
		values := map[string]json.RawMessage{}
		at := rel.Name
		if len(n.Items) > 0 {
			item := n.Items[0]
			at = item.At
			far, err := a.placed(ctx, c, rel, path, item, nil)
			if err == nil {
				values, err = a.valuesOf(ctx, c, far, rel.To, there)
			}
			if err != nil {
				return inItem(err, at)
			}
		}
		for i, f := range own {
			value := values[there[i].Name]
			if value == nil {
				value = json.RawMessage("null")
				if !f.Nullable {
					return fault.New(fault.Conflict, "link.required", "%s: a row of %s can't be without %s; link it to another row; nothing was changed", at, f.Resource.Name, f.Name).On(at)
				}
			}
			if path != "" && f.InKey {
				if err := a.staysKey(ctx, c, path, f, value); err != nil {
					return inItem(err, at)
				}
				continue
			}
			if err := row.Supply(at, f, value); err != nil {
				return err
			}
		}
	}
	return nil
}

// placedRow is a row that an item of a body has become: where it is, and its key as a JSON array.
type placedRow struct {
	path string
	key  []byte
}

// valuesOf reads fields of a row that is known by its key.
func (a *API) valuesOf(ctx context.Context, c access.Caller, row *placedRow, r *model.Resource, fields []*model.Field) (map[string]json.RawMessage, error) {
	var key []json.RawMessage
	if json.Unmarshal(row.key, &key) == nil && !slices.ContainsFunc(fields, func(f *model.Field) bool { return !slices.Contains(r.Key, f) }) {
		values := map[string]json.RawMessage{}
		for i, k := range r.Key {
			values[k.Name] = key[i]
		}
		return values, nil
	}
	return a.members(ctx, c, row.path, fields)
}

// supply is a field that the row around an item gives it, and its value.
type supply struct {
	field *model.Field
	value json.RawMessage
}

// identified finds the row that an item speaks of. "" says that it is a new one.
func (a *API) identified(ctx context.Context, c access.Caller, rel *model.Relation, parent string, item *payload.Item, supplied []supply) (string, error) {
	switch {
	case item.Ref != "":
		far, err := a.referred(rel, item.Ref)
		if err != nil {
			return "", err
		}
		return a.locate(ctx, c, far.Path(), rel.To)
	case item.Key != nil:
		key := slices.Clone(item.Key)
		for i, k := range rel.To.Key {
			for _, s := range supplied {
				if s.field == k && string(key[i]) == "null" {
					key[i] = s.value
				}
			}
		}
		item.Key = key
		text, err := json.Marshal(key)
		if err != nil {
			return "", err
		}
		return absent(a.locate(ctx, c, rowPath(rel.To, text), rel.To))
	case item.Current && parent != "":
		return absent(a.locate(ctx, c, parent+"/"+rel.Name, rel.To))
	}
	return "", nil
}

// absent takes a row that is not there as a new one.
func absent(path string, err error) (string, error) {
	if f, ok := fault.From(err); ok && f.Kind == fault.NotFound {
		return "", nil
	}
	return path, err
}

// placed writes the row that an item speaks of, and returns it.
func (a *API) placed(ctx context.Context, c access.Caller, rel *model.Relation, parent string, item *payload.Item, supplied []supply) (*placedRow, error) {
	path, err := a.identified(ctx, c, rel, parent, item, supplied)
	if err != nil {
		return nil, err
	}
	if path != "" {
		return a.changedItem(ctx, c, rel, path, item, supplied)
	}
	scope, err := a.scope(c)
	if err != nil {
		return nil, err
	}
	if item.Key != nil || item.Current {
		if scope.For(window.Create, rel.To) == nil {
			return nil, scope.Refuse(window.Create, rel.To)
		}
		if item.Key != nil && !rel.To.KeyIsChosen() {
			return nil, noRow(rel.To)
		}
		if item.Row, err = item.New(rel.To, scope, nil, fieldsOf(supplied)); err != nil {
			return nil, err
		}
	}
	for _, s := range supplied {
		if !scope.For(window.Create, rel.To).Presets(s.field) {
			if err := item.Row.Supply(item.At, s.field, s.value); err != nil {
				return nil, err
			}
		}
	}
	t, err := a.plain(c, window.Create, rel.To.Name)
	if err != nil {
		return nil, err
	}
	w, err := a.createWith(ctx, c, t, item.Row)
	if err != nil {
		return nil, err
	}
	return &placedRow{w.Path(), w.key}, nil
}

func fieldsOf(supplied []supply) []*model.Field {
	list := make([]*model.Field, len(supplied))
	for i, s := range supplied {
		list[i] = s.field
	}
	return list
}

// changedItem gives a row that is there already what the item and the row around it say.
func (a *API) changedItem(ctx context.Context, c access.Caller, rel *model.Relation, path string, item *payload.Item, supplied []supply) (*placedRow, error) {
	row := item.Row
	if row == nil {
		row = &payload.Row{}
	}
	t, err := a.plain(c, window.Update, path)
	if err != nil && (item.Row != nil || len(supplied) > 0) {
		return nil, err
	}
	if item.Row != nil {
		if err := itemVersionGiven(item, rel.To); err != nil {
			return nil, err
		}
	}
	for _, s := range supplied {
		if s.field.InKey {
			if err := a.staysKey(ctx, c, path, s.field, s.value); err != nil {
				return nil, err
			}
			continue
		}
		if d := t.scope.For(window.Update, rel.To); !d.Fields[s.field.Index] || s.field.ReadOnly {
			return nil, fault.New(fault.Forbidden, "access.field", "role %q may not update %s of %s, which ties the row to the one around it", t.scope.Name, s.field.Name, rel.To.Name)
		}
		if err := row.Supply(item.At, s.field, s.value); err != nil {
			return nil, err
		}
	}
	if len(row.Fields) > 0 || len(row.Nested) > 0 {
		w, err := a.updateWith(ctx, c, t, row, Write{Path: path, IfMatch: versions(item.Version)})
		if err != nil {
			return nil, err
		}
		return &placedRow{w.Path(), w.key}, nil
	}
	key, err := a.keyAt(ctx, c, path, rel.To)
	return &placedRow{path, key}, err
}

// staysKey refuses to give a row another key: a relation that it holds by its key leads where it does for good.
func (a *API) staysKey(ctx context.Context, c access.Caller, path string, f *model.Field, value json.RawMessage) error {
	values, err := a.members(ctx, c, path, []*model.Field{f})
	if err != nil {
		return err
	}
	if string(values[f.Name]) != string(value) {
		return fault.New(fault.Conflict, "link.key", "%s is part of the key of %s, so the row can't be taken from another one; nothing was changed", f.Name, path)
	}
	return nil
}

// plain is the target of a write at a path of its own, with no options.
func (a *API) plain(c access.Caller, op window.Operation, path string) (*target, error) {
	r, err := request.Read(a.Model, path, "")
	if err != nil {
		return nil, err
	}
	return a.target(c, op, r)
}

// writeTied writes what the relations lead to whose other ends hold them, and junctions.
func (a *API) writeTied(ctx context.Context, c access.Caller, scope *access.Scope, path string, key []byte, row *payload.Row, fresh bool) error {
	for _, n := range row.Nested {
		rel := n.Relation
		if rel.Holds() {
			continue
		}
		var supplied []supply
		if rel.Through == nil {
			own, there := ownFields(rel), thereFields(rel)
			values, err := a.valuesOf(ctx, c, &placedRow{path, key}, rel.From, own)
			if err != nil {
				return err
			}
			for i := range own {
				supplied = append(supplied, supply{there[i], values[own[i].Name]})
			}
		}
		if !n.Delta && !fresh {
			if err := a.unlinkOthers(ctx, c, path, n, supplied); err != nil {
				return err
			}
		}
		for _, item := range n.Items {
			if err := a.writeItem(ctx, c, path, rel, item, supplied); err != nil {
				return inItem(err, item.At)
			}
		}
	}
	return nil
}

func (a *API) writeItem(ctx context.Context, c access.Caller, path string, rel *model.Relation, item *payload.Item, supplied []supply) error {
	if item.Removed == payload.Stays {
		far, err := a.placed(ctx, c, rel, path, item, supplied)
		if err == nil && rel.Through != nil {
			err = a.Link(ctx, c, path+"/"+rel.Name+"/$ref", !rel.Many, func() (string, error) { return far.path, nil })
		}
		return err
	}
	far, err := a.identified(ctx, c, rel, path, item, supplied)
	if err != nil {
		return err
	}
	if far == "" {
		return noRow(rel.To)
	}
	if item.Removed == payload.Unlinked {
		return a.Unlink(ctx, c, path+"/"+rel.Name+"/$ref", far)
	}
	if _, err := a.members(ctx, c, path+"/"+rel.Name+strings.TrimPrefix(far, rel.To.Name), rel.To.Key); err != nil {
		return err
	}
	if err := itemVersionGiven(item, rel.To); err != nil {
		return err
	}
	_, err = a.Delete(ctx, c, Write{Path: far, derived: true, IfMatch: versions(item.Version)})
	return err
}

// unlinkOthers takes out of a relation every row that the body does not name. Nothing is deleted by being left out.
func (a *API) unlinkOthers(ctx context.Context, c access.Caller, path string, n *payload.Nested, supplied []supply) error {
	rel := n.Relation
	var kept []string
	for _, item := range n.Items {
		far, err := a.identified(ctx, c, rel, path, item, supplied)
		if err != nil {
			return inItem(err, item.At)
		}
		kept = append(kept, far)
	}
	related, err := a.related(ctx, c, path, rel)
	if err != nil {
		return err
	}
	for _, far := range related {
		if slices.Contains(kept, far) {
			continue
		}
		err := a.Unlink(ctx, c, path+"/"+rel.Name+"/$ref", far)
		if f, ok := fault.From(err); ok && f.Code == "link.required" && !rel.Many {
			return fault.New(fault.Conflict, "link.required", "%s: the row can't be without the one it belongs to; delete it at /%s; nothing was changed", rel.Name, far).On(rel.Name)
		} else if ok && f.Code == "link.required" {
			return fault.New(fault.Conflict, "link.required", "%s: %s is left out, and can't be without the row it belongs to. To delete it, send \"%s@delta\" with {\"@removed\":{\"reason\":\"deleted\"},\"@id\":%q}; nothing was changed", rel.Name, far, rel.Name, far).On(rel.Name)
		}
		if err != nil {
			return inItem(err, rel.Name)
		}
	}
	return nil
}

// related lists the paths of the rows that a relation leads to, as far as the role may see them.
func (a *API) related(ctx context.Context, c access.Caller, path string, rel *model.Relation) ([]string, error) {
	if !rel.Many {
		far, err := absent(a.locate(ctx, c, path+"/"+rel.Name, rel.To))
		if err != nil || far == "" {
			return nil, err
		}
		return []string{far}, nil
	}
	names := make([]string, len(rel.To.Key))
	for i, k := range rel.To.Key {
		names[i] = k.Name
	}
	page, err := a.Read(ctx, c, path+"/"+rel.Name, "select="+url.QueryEscape(strings.Join(names, ","))+"&top=1000000", Preferences{})
	if err != nil {
		return nil, err
	}
	defer page.Close()
	var list []string
	for page.Next() {
		values := map[string]json.RawMessage{}
		if err := json.Unmarshal(page.AppendRow(nil), &values); err != nil {
			return nil, err
		}
		key, err := keyOf(rel.To, values)
		if err != nil {
			return nil, err
		}
		list = append(list, rowPath(rel.To, key))
	}
	if page.more {
		return nil, fault.New(fault.Conflict, "limit.rows", "%s holds more than %d rows; change it with %q", rel.Name, len(list), rel.Name+"@delta").On(rel.Name)
	}
	return list, nil
}

// inItem says where in the body a refusal belongs.
func inItem(err error, at string) error {
	f, ok := fault.From(err)
	if !ok || len(f.Details) > 0 {
		return err
	}
	if rest, said := strings.CutPrefix(f.Message, at); said && strings.IndexAny(rest, " :/") == 0 {
		return err
	}
	told := *f
	told.Message = at + ": " + f.Message
	told.Target = at
	return &told
}
