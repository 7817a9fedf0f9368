package service

import (
	"bytes"
	"context"
	"encoding/json"
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

// bulk is a change of a whole collection by a delta: a statement for what goes, one for what changes, one for what is new,
// however many rows there are, in one transaction (Protocol, 11.4.13).
type bulk struct {
	api   *API
	call  access.Caller
	scope *access.Scope
	query *request.Query
	lines []line
	rows  int64    // that were written
	show  [][]byte // what the answer has for each line; nil: they are not shown
	as    postgres.Format
}

// line is an item of the delta, its place there, and the key it names, nil for a new row.
type line struct {
	*payload.Item
	at  int
	key []string
}

// changeAll is a PATCH of a collection.
func (a *API) changeAll(ctx context.Context, c access.Caller, r *request.Request, in Write) (*Written, error) {
	scope, err := a.scope(c)
	if err != nil {
		return nil, err
	}
	resource := r.Resource
	if !slices.ContainsFunc([]window.Operation{window.Update, window.Create, window.Delete}, func(op window.Operation) bool { return scope.For(op, resource) != nil }) {
		return nil, scope.Refuse(window.Update, resource)
	}
	if err := showing(r); err != nil {
		return nil, err
	}
	b := &bulk{call: c, scope: scope, as: in.Format}
	if b.query, err = r.Resolve(); err != nil {
		return nil, err
	}
	if scope.For(window.Read, resource) != nil {
		if err := scope.Check(b.query); err != nil {
			return nil, err
		}
	}
	if err := in.Unconditional("in a delta, each row takes its @etag"); err != nil {
		return nil, err
	}
	body, err := in.Rows()
	if err != nil {
		return nil, err
	}
	items, err := payload.Delta(body, resource, scope)
	if err != nil {
		return nil, err
	}
	if most := scope.Limits.Rows; most > 0 && len(items) > most {
		return nil, fault.New(fault.Conflict, "limit.rows", "the body has %d rows, and role %q may write %d at once; nothing was changed", len(items), scope.Name, most).On(resource.Name)
	}
	if b.lines, err = a.lines(resource, items); err != nil {
		return nil, err
	}
	if in.Show && scope.For(window.Read, resource) != nil {
		b.show = make([][]byte, len(b.lines))
	}
	err = a.Atomically(ctx, func(a *API) error {
		b.api = a
		return b.write(ctx)
	})
	if err != nil {
		return nil, err
	}
	w := &Written{Many: true, Rows: b.rows, Context: resource.Name + contextSelect(b.query) + "/$delta"}
	if b.show != nil && !slices.ContainsFunc(b.show, func(row []byte) bool { return row == nil }) {
		w.Row = slices.Concat([]byte("["), bytes.Join(b.show, []byte(",\n")), []byte("]"))
	}
	return w, nil
}

// lines finds the key that each item names. No row may be named twice.
func (a *API) lines(r *model.Resource, items []*payload.Item) ([]line, error) {
	lines := make([]line, len(items))
	named := make(map[string]string, len(items))
	for i, item := range items {
		lines[i].Item, lines[i].at = item, i
		var err error
		switch {
		case item.Ref != "":
			lines[i].key, err = a.keyOfRef(r, item.Ref)
		case item.Key != nil:
			lines[i].key, err = payload.KeyTexts(r, item.Key)
		default:
			continue
		}
		if err != nil {
			return nil, inItem(err, item.At)
		}
		key := strings.Join(lines[i].key, "\x00")
		if first := named[key]; first != "" {
			return nil, fault.New(fault.Invalid, "row.twice", "%s: %s names this row already", item.At, first).On(item.At)
		}
		named[key] = item.At
	}
	return lines, nil
}

func (a *API) keyOfRef(r *model.Resource, ref string) ([]string, error) {
	at, err := request.Read(a.Model, a.relative(ref), "")
	if err != nil {
		return nil, err
	}
	if !isRow(at, r) || at.Parent() != "" {
		return nil, fault.New(fault.Invalid, "link.target", "%q is no row of %s; write %s/…", ref, r.Name, r.Name)
	}
	q, err := at.Resolve()
	if err != nil {
		return nil, err
	}
	return at.KeyTexts(q)
}

func (b *bulk) resource() *model.Resource { return b.query.Root.Resource }

func (b *bulk) write(ctx context.Context) error {
	var removed, changed, added []line
	for _, l := range b.lines {
		if l.key == nil {
			added = append(added, l)
			continue
		}
		if err := itemVersionGiven(l.Item, b.resource()); err != nil {
			return err
		}
		if l.Removed != payload.Stays {
			removed = append(removed, l)
		} else {
			changed = append(changed, l)
		}
	}
	if err := b.remove(ctx, removed); err != nil {
		return err
	}
	more, err := b.change(ctx, changed)
	if err != nil {
		return err
	}
	return b.add(ctx, append(added, more...))
}

func (b *bulk) remove(ctx context.Context, lines []line) error {
	if len(lines) == 0 {
		return nil
	}
	if b.scope.For(window.Delete, b.resource()) == nil {
		return b.scope.Refuse(window.Delete, b.resource())
	}
	keys, versioned := b.keys(lines)
	done, err := b.run(ctx, window.Delete, statement.DeleteRows(b.resource(), versioned, b.scope), keys)
	if err == nil && len(done.Missing) > 0 {
		err = b.missing(lines[done.Missing[0]])
	}
	if b.show != nil && err == nil {
		for _, l := range lines {
			b.show[l.at], err = b.gone(l)
		}
	}
	return err
}

// change returns the lines whose rows are not there, and which may be made.
func (b *bulk) change(ctx context.Context, lines []line) (added []line, err error) {
	r := b.resource()
	if b.scope.For(window.Update, r) == nil { // what is not the role's to change may be new
		return b.fresh(lines)
	}
	if len(lines) == 0 {
		return nil, nil
	}
	given, lists := columns(r, lines)
	keys, versioned := b.keys(lines)
	done, err := b.run(ctx, window.Update, statement.UpdateRows(b.query, versioned, given, b.scope, b.show != nil), append(keys, lists...))
	if err != nil {
		return nil, err
	}
	b.shown(lines, done)
	for _, i := range done.Missing {
		added = append(added, lines[i])
	}
	return b.fresh(added)
}

// fresh reads lines that name a key as new rows.
func (b *bulk) fresh(lines []line) ([]line, error) {
	r := b.resource()
	for i, l := range lines {
		if l.Version != "" || !b.scope.MayName(r) {
			return nil, b.missing(l)
		}
		row, err := l.New(r, b.scope, l.key, nil)
		if err != nil {
			return nil, err
		}
		item := *l.Item
		item.Row = row
		lines[i].Item = &item
	}
	return lines, nil
}

// missing is the fault of a line that there is no row for.
func (b *bulk) missing(l line) error {
	if l.Version != "" {
		return fault.New(fault.VersionMismatch, "version.changed", "%s: the row of %s has changed since, or there is none any more that you may see. Read it again; nothing was changed", l.At, b.resource().Name).On(l.At)
	}
	return inItem(noRow(b.resource()), l.At)
}

func (b *bulk) add(ctx context.Context, lines []line) error {
	if len(lines) == 0 {
		return nil
	}
	given, lists := columns(b.resource(), lines)
	for _, g := range given {
		if c := g.Field.Column; g.Some && c.Type.NotNull && c.Default == "" {
			return fault.New(fault.Unsupported, "field.some", "%s is given in some of the new rows and not in others; its default is not known here, so send it in all of them, or in none", g.Field.Name).On(g.Field.Name)
		}
	}
	done, err := b.run(ctx, window.Create, statement.CreateRows(b.query, given, b.scope, b.show != nil), lists)
	if err == nil && int(done.Total) == len(lines) { // else a trigger has passed some over
		b.shown(lines, done)
	}
	return err
}

// shown takes the rows that were written into the answer, and where they are shown, finds the lines that there were none for.
func (b *bulk) shown(lines []line, done *postgres.Written) {
	if b.show == nil {
		return
	}
	for i, l := range lines {
		row, found := done.Rows[i]
		if b.show[l.at] = row; !found {
			done.Missing = append(done.Missing, i)
		}
	}
}

// gone is what the answer has for a row that was deleted.
func (b *bulk) gone(l line) ([]byte, error) {
	id, removed := "@id", "@removed"
	if b.as.V40 {
		id, removed = "@odata.id", "@odata.removed"
	}
	return json.Marshal(map[string]any{removed: map[string]string{"reason": "deleted"}, id: request.RowPath(b.resource(), l.key)})
}

// run runs one statement for many rows.
func (b *bulk) run(ctx context.Context, op window.Operation, plan *statement.Plan, lists []any) (*postgres.Written, error) {
	args, err := plan.Args(statement.Input{Lists: lists, Claims: b.call.Claims})
	if err != nil {
		return nil, err
	}
	done, err := postgres.Compile(plan, nil, b.as).Write(ctx, b.api.place, args, 0, timeOf(b.scope))
	if err != nil {
		return nil, b.api.explain(err, b.resource(), b.scope)
	}
	if !done.Kept {
		return nil, fault.New(fault.Forbidden, "access.rule", "role %q may %s only rows of %s that it keeps within its limits, and some of these %d would not be; nothing was changed", b.scope.Name, op, b.resource().Name, done.Total).On(b.resource().Name)
	}
	b.rows += done.Total
	return done, nil
}

// keys are the lists of the keys, field by field, and of the versions, where any is given.
func (b *bulk) keys(lines []line) (lists []any, versioned bool) {
	lists = make([]any, len(b.resource().Key), len(b.resource().Key)+1)
	for k := range lists {
		list := make([]string, len(lines))
		for i, l := range lines {
			list[i] = l.key[k]
		}
		lists[k] = list
	}
	given := make([]*string, len(lines))
	for i, l := range lines {
		if l.Version != "" {
			given[i], versioned = &lines[i].Version, true
		}
	}
	if versioned {
		lists = append(lists, given)
	}
	return lists, versioned
}

// columns are the fields that any of the lines gives, and the lists of what each gives.
func columns(r *model.Resource, lines []line) (given []statement.Given, lists []any) {
	values := make([][]*string, len(r.Fields))
	has := make([][]bool, len(r.Fields))
	count := make([]int, len(r.Fields))
	for i, l := range lines {
		for n, f := range l.Row.Fields {
			if values[f.Index] == nil {
				values[f.Index], has[f.Index] = make([]*string, len(lines)), make([]bool, len(lines))
			}
			values[f.Index][i], has[f.Index][i] = l.Row.Values[n], true
			count[f.Index]++
		}
	}
	for _, f := range r.Fields {
		if values[f.Index] == nil {
			continue
		}
		g := statement.Given{Field: f, Some: count[f.Index] < len(lines)}
		given, lists = append(given, g), append(lists, values[f.Index])
		if g.Some {
			lists = append(lists, has[f.Index])
		}
	}
	return given, lists
}
