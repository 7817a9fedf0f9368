package data

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/postgres"
)

// execution runs the steps of one change, each in one statement.
type execution struct {
	api     *API
	ctx     context.Context
	caller  access.Caller
	scope   *access.Scope
	change  *change.Change
	request *request.Request // what the answer shows of the row that is written
	query   *query.Query     // of a delta: what it shows of its rows
	format  encode.Format
	show    bool // of a delta: its rows come back

	oneByOne bool             // a statement for each row, so that it is known which one is refused
	crowded  bool             // a statement for many rows was refused
	found    map[int]*outcome // what has come of rows, by their IDs; nothing of those that are not there
	written  *Written         // the row that the answer shows
	rows     int64            // that were written
	shown    map[int][]byte   // of a delta, by ID
}

// outcome is what is known of a row that was found or written: its fields as JSON, as far as later steps refer to them.
type outcome struct {
	values map[*model.Field]json.RawMessage
}

// execute runs a change: in a transaction, unless it is one statement. Where the database refuses one of many rows, the change is run
// again row by row, to tell which.
func (x *execution) execute() error {
	if x.change.Single() && len(x.change.Written) == 0 && !x.locksFirst(x.change.Steps[0]) {
		return x.step(x.change.Steps[0])
	}
	err := x.transact()
	var refusal *fault.Refusal
	if errors.As(err, &refusal) && x.crowded && !x.change.Delta {
		x.oneByOne = true
		err = x.transact()
	}
	return err
}

// locksFirst reports whether a step takes two statements, of which the first one locks rows.
func (x *execution) locksFirst(s *change.Step) bool {
	return s.Op == change.Link && statement.LocksFirst(s.Relation.From, x.scope)
}

func (x *execution) transact() error {
	resource := x.request.Resource
	return x.api.place(x.caller, x.scope, resource, false).Transact(x.ctx, func(tx *postgres.Tx) error { return x.run(x.api.within(tx)) })
}

func (x *execution) run(api *API) error {
	outside := x.api
	x.api = api
	defer func() { x.api = outside }()
	x.found, x.shown, x.written, x.rows, x.crowded = nil, nil, nil, 0, false
	for _, s := range x.change.Steps {
		if err := x.step(s); err != nil {
			return err
		}
	}
	if x.written != nil && len(x.change.Written) > 0 {
		return x.readBack()
	}
	return nil
}

// single reports whether a row is written by a statement of its own, which answers with it.
func (x *execution) single(r *change.Row) bool { return r.ID == x.change.Root && x.change.Root >= 0 }

func (x *execution) step(s *change.Step) error {
	rows := make([]*change.Row, 0, len(s.Rows))
	for _, r := range s.Rows {
		if r.Else && x.found[r.ID] != nil || x.unreachable(r) {
			continue
		}
		if r.Refused != nil && s.Op != change.Find {
			return r.Refused
		}
		if err := x.check(s, r, false); err != nil {
			return err
		}
		rows = append(rows, r)
	}
	if len(rows) == 0 {
		return nil
	}
	x.api.countWrite(x.caller, s, rows)
	do := x.writeRows
	switch s.Op {
	case change.Find:
		do = x.find
	case change.Release:
		return x.release(s, rows)
	case change.Link:
		return x.link(s, rows)
	default:
		if x.single(rows[0]) && len(rows) == 1 && onlyKey(s) {
			do = x.writeRow
		}
	}
	if x.oneByOne && s.Op != change.Find {
		for _, r := range rows {
			if err := do(s, []*change.Row{r}); err != nil {
				return err
			}
		}
		return nil
	}
	for _, part := range parts(s, rows) {
		if err := do(s, part); err != nil {
			return err
		}
	}
	return nil
}

// onlyKey reports whether later steps need no more than the key of what a step writes.
func onlyKey(s *change.Step) bool {
	return !slices.ContainsFunc(s.Returned, func(f *model.Field) bool { return !f.InKey })
}

// parts tells rows apart that one statement can't do: new ones that give a field, and those that leave it to a default that is not known
// here; rows that are found along different ways.
func parts(s *change.Step, rows []*change.Row) [][]*change.Row {
	if len(rows) == 1 {
		return [][]*change.Row{rows}
	}
	var list [][]*change.Row
	at := map[string]int{}
	for _, r := range rows {
		kind := ""
		switch s.Op {
		case change.Insert:
			for _, f := range r.Fields {
				if !statement.DefaultIsKnown(f) {
					kind += f.Name + " "
				}
			}
		case change.Find:
			for _, h := range r.Path {
				kind += fmt.Sprintf("%p %d ", h.Via, len(h.Key))
			}
		}
		i, known := at[kind]
		if !known {
			i, at[kind] = len(list), len(list)
			list = append(list, nil)
		}
		list[i] = append(list[i], r)
	}
	return list
}

// unreachable reports whether a row is named by one that is not there.
func (x *execution) unreachable(r *change.Row) bool {
	absent := func(v change.Value) bool { return v.IsReference() && x.found[v.Of] == nil }
	if slices.ContainsFunc(r.Key, absent) {
		return true
	}
	return len(r.Path) > 0 && slices.ContainsFunc(r.Path[0].Key, absent)
}

// check checks what must hold of a row: before it is written, or once it is known to be there.
func (x *execution) check(s *change.Step, r *change.Row, there bool) error {
	for _, m := range r.Musts {
		if (m.Reason == change.SameKey) != there {
			continue
		}
		value, err := x.text(m.Value)
		if err != nil {
			return err
		}
		is, err := x.text(m.Is)
		if err != nil {
			return err
		}
		path := func() string {
			key, _ := x.texts(r.Key)
			return request.RowPath(s.Resource, key)
		}
		if err := m.Check(value, is, path); err != nil {
			return fault.Within(err, cmp.Or(m.At, r.At))
		}
	}
	return nil
}

// text is a value as PostgreSQL reads it, nil for null.
func (x *execution) text(v change.Value) (*string, error) {
	if !v.IsReference() {
		return v.Text, nil
	}
	o := x.found[v.Of]
	if o == nil || o.values[v.Field] == nil {
		return nil, fmt.Errorf("nothing is known of %s, which a step refers to", v)
	}
	return payload.Text(o.values[v.Field], v.Field.Type)
}

// texts are the values of a key; null, which no key holds, becomes a text that no row has.
func (x *execution) texts(list []change.Value) ([]string, error) {
	out := make([]string, len(list))
	for i, v := range list {
		text, err := x.text(v)
		if err != nil {
			return nil, err
		}
		if text != nil {
			out[i] = *text
		}
	}
	return out, nil
}

func (x *execution) pointers(list []change.Value) ([]*string, error) {
	if list == nil {
		return nil, nil
	}
	out := make([]*string, len(list))
	for i, v := range list {
		var err error
		if out[i], err = x.text(v); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// keep remembers what later steps refer to.
func (x *execution) keep(id int, fields []*model.Field, values []byte) error {
	o := &outcome{values: map[*model.Field]json.RawMessage{}}
	if len(fields) > 0 {
		var list []json.RawMessage
		if err := json.Unmarshal(values, &list); err != nil {
			return fmt.Errorf("read back a row: %w", err)
		}
		for i, f := range fields {
			o.values[f] = list[i]
		}
	}
	if x.found == nil {
		x.found = map[int]*outcome{}
	}
	x.found[id] = o
	return nil
}

// keyOf is the key of a row that was written, as a JSON array.
func (x *execution) keyOf(r *model.Resource, id int) []byte {
	key := make([]json.RawMessage, len(r.Key))
	for i, k := range r.Key {
		key[i] = x.found[id].values[k]
	}
	text, _ := json.Marshal(key) // of JSON that the database gave
	return text
}

// perform runs a statement whose input is lists. It is made once for each role and signature, which tells it apart from all others
// of the resource.
func (x *execution) perform(s *change.Step, signature string, plan func() *statement.Plan, lists []any) (*postgres.Written, error) {
	key := planKey{role: x.scope.Key(), format: x.format, write: s.Resource.Name + " " + signature}
	if x.change.Delta {
		key.shape = x.request.Shape // what comes back of the rows
	}
	p, ok := x.api.plans.Get(key)
	if !ok {
		p = &planned{resource: s.Resource, query: postgres.Compile(plan(), nil, x.format)}
		x.api.keepPlan(key, p)
	}
	args, err := p.query.Plan.Args(statement.Input{Lists: lists, Claims: x.caller.Claims})
	if err != nil {
		return nil, err
	}
	done, err := p.query.Write(x.ctx, x.api.place(x.caller, x.scope, s.Resource, false), args, 0, timeOf(x.scope))
	if err != nil {
		return nil, x.api.explain(err, s.Resource, x.scope)
	}
	return done, nil
}

// signatureOf joins what tells the statements of a resource apart. No name has the byte between them.
func signatureOf(parts ...string) string { return strings.Join(parts, "\x00") }

func names(fields []*model.Field) string {
	list := make([]string, len(fields))
	for i, f := range fields {
		list[i] = f.Name
	}
	return signatureOf(list...)
}

func relation(r *model.Relation) string { return signatureOf(r.From.Name, r.Name) }

// steps is the way that a path takes, whatever its keys are.
func steps(path []change.Hop) string {
	var list []string
	for _, h := range path {
		via := ""
		if h.Via != nil {
			via = relation(h.Via)
		}
		list = append(list, h.Resource.Name, via, names(h.KeyOf), strconv.Itoa(len(h.Key)))
	}
	return signatureOf(list...)
}

// refused tells where in the body a refusal of the database belongs.
func (x *execution) refused(err error, rows []*change.Row) error {
	var refusal *fault.Refusal
	if !errors.As(err, &refusal) {
		return err
	}
	if len(rows) > 1 {
		x.crowded = true
		return err
	}
	if f, ok := fault.From(fault.Within(refusal.Fault, rows[0].At)); ok {
		placed := *refusal
		placed.Fault = f
		return &placed
	}
	return err
}

// readBack gives the answer the row as it stands now, as the request selects and expands it, at least with the relations that were
// written (Protocol, 11.4.2.2 and 11.4.3.1); none where the role may not read it.
func (x *execution) readBack() error {
	w := x.written
	if w.Row = nil; len(x.request.Resource.Key) == 0 { // no path leads to it
		return nil
	}
	r := x.request.AtRow(keySegments(w.key)).Showing(x.change.Written)
	x.api.tx.EndWithNext()
	page, err := x.api.read(x.ctx, x.caller, r, Preferences{Format: x.format})
	if _, refused := fault.From(err); refused && !x.api.tx.Failed() {
		return nil
	}
	if err != nil {
		return err
	}
	if !page.Empty {
		w.Row, w.Context = page.AppendRow(nil), page.Context
	}
	if version := page.Version(); version != "" {
		w.ETag = etag(version)
	}
	err = page.Close()
	if err != nil && x.api.tx.Ended() { // it is written, and can't be shown
		w.Row, w.ETag, err = nil, "", nil
	}
	return err
}
