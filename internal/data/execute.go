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
	"eagerwindow/internal/core/window"
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

// find looks up rows, which must be there unless another step takes their place.
func (x *execution) find(s *change.Step, rows []*change.Row) error {
	var lists []any
	for h := range rows[0].Path {
		for k := range rows[0].Path[h].Key {
			list := make([]*string, len(rows))
			for i, r := range rows {
				var err error
				if list[i], err = x.text(r.Path[h].Key[k]); err != nil {
					return err
				}
			}
			lists = append(lists, list)
		}
	}
	path := rows[0].Path
	done, err := x.perform(s, signatureOf("find", steps(path), names(s.Returned)),
		func() *statement.Plan { return statement.Find(path, s.Returned, x.scope) }, lists)
	if err != nil {
		return err
	}
	for i, r := range rows {
		row, there := done.Rows[i]
		switch {
		case !there && r.Optional:
			continue
		case !there:
			return fault.Within(x.nowhere(s, r), r.At)
		case r.Refused != nil:
			return r.Refused
		}
		if err := x.keep(r.ID, s.Returned, row.Returned); err != nil {
			return err
		}
		if err := x.check(s, r, true); err != nil {
			return err
		}
	}
	return nil
}

// nowhere tells why a row was not found: where a path leads to it, which row of that is missing.
func (x *execution) nowhere(s *change.Step, r *change.Row) error {
	if last := r.Path[len(r.Path)-1]; r.At != "" || last.Key != nil {
		return change.NoRow(s.Resource)
	}
	at := x.request
	if at.Resource != s.Resource || at.View != query.Rows {
		at = at.Before()
	}
	if err := x.api.leadsNowhere(x.ctx, x.caller, at); err != nil {
		return err
	}
	return fault.New(fault.NotFound, "row.none", "there is nothing at %s", at.Path())
}

// operation is what the access rules call the operation of a step.
func operation(s *change.Step) window.Operation {
	switch s.Op {
	case change.Insert:
		return window.Create
	case change.Delete:
		return window.Delete
	}
	return window.Update
}

// writeRows inserts, changes or deletes rows in one statement.
func (x *execution) writeRows(s *change.Step, rows []*change.Row) error {
	input, err := x.input(rows)
	if err != nil {
		return err
	}
	with, lists := statement.Gather(s.Resource, s.Relation, input)
	with.Returned, with.Show = s.Returned, x.show
	done, err := x.perform(s, signatureOf(s.Op.String(), with.Signature()), func() *statement.Plan { return x.plan(s, with) }, lists)
	if err != nil {
		return x.refused(err, rows)
	}
	x.rows += done.Total
	return x.take(s, rows, done)
}

// plan plans a step that writes rows.
func (x *execution) plan(s *change.Step, with statement.Rows) *statement.Plan {
	q := &query.Query{Root: query.NewRow(s.Resource)}
	if x.change.Delta {
		q = x.query
	}
	q.Metadata = x.format.Metadata
	switch s.Op {
	case change.Insert:
		return statement.CreateRows(q, with, x.scope)
	case change.Update:
		return statement.UpdateRows(q, with, x.scope)
	}
	return statement.DeleteRows(s.Resource, with, x.scope)
}

func (x *execution) input(rows []*change.Row) ([]statement.InputRow, error) {
	input := make([]statement.InputRow, len(rows))
	for i, r := range rows {
		in := statement.InputRow{Versions: r.Versions, Fields: r.Fields}
		var err error
		if r.Key != nil {
			if in.Key, err = x.texts(r.Key); err != nil {
				return nil, err
			}
		}
		if in.Values, err = x.pointers(r.Values); err != nil {
			return nil, err
		}
		if in.LinkedTo, err = x.pointers(r.LinkedTo); err != nil {
			return nil, err
		}
		input[i] = in
	}
	return input, nil
}

// take looks at what has become of the rows of a step.
func (x *execution) take(s *change.Step, rows []*change.Row, done *postgres.Written) error {
	op := operation(s)
	if (done.Rows == nil || x.change.Delta) && !done.RuleHolds {
		return fault.New(fault.Forbidden, "access.rule",
			"role %q may %s only rows of %s that it keeps within its limits, and some of these %d would not be; nothing was changed",
			x.scope.Name, op, s.Resource.Name, done.Total).On(s.Resource.Name)
	}
	numbered := x.show || len(s.Returned) > 0
	passedOver := s.Op == change.Insert && int(done.Total) < len(rows) // by a trigger: which rows they are is not known
	if passedOver && !x.change.Delta {
		return skipped(s.Resource)
	}
	for i, r := range rows {
		var row postgres.WrittenRow
		there := !slices.Contains(done.Missing, i)
		if numbered && s.Op != change.Delete {
			if row, there = done.Rows[i]; there && !row.RuleHolds {
				return fault.Within(x.violated(op, s.Resource), r.At)
			}
		}
		switch {
		case passedOver:
			continue
		case there:
			if err := x.keep(r.ID, s.Returned, row.Returned); err != nil {
				return err
			}
			if x.single(r) {
				x.written = &Written{of: s.Resource, key: x.keyOf(s.Resource, r.ID), Created: s.Op == change.Insert}
			}
			if row.Row != nil {
				if x.shown == nil {
					x.shown = map[int][]byte{}
				}
				x.shown[r.ID] = row.Row
			}
			if err := x.check(s, r, true); err != nil {
				return err
			}
		case !r.Optional:
			return x.missing(s, r)
		}
	}
	return nil
}

func (x *execution) violated(op window.Operation, r *model.Resource) error {
	return fault.New(fault.Forbidden, "access.rule",
		"role %q may %s only rows of %s that it keeps within its limits, and this one would not be; nothing was changed",
		x.scope.Name, op, r.Name).On(r.Name)
}

// missing tells why a row could not be written that must be there.
func (x *execution) missing(s *change.Step, r *change.Row) error {
	if x.change.Delta {
		return change.Missing(r, s.Resource)
	}
	key, err := x.texts(r.Key)
	if err != nil {
		return err
	}
	if r.LinkedTo != nil {
		return fault.Within(change.NoRow(s.Resource), r.At)
	}
	return fault.Within(x.api.missed(x.ctx, x.caller, x.scope, operation(s), rowRequest(s.Resource, key), r.Versions), r.At)
}

// rowRequest is the request for a row by its key as PostgreSQL reads it.
func rowRequest(r *model.Resource, key []string) *request.Request {
	segments := make([]string, len(key))
	for i, text := range key {
		segments[i] = request.SegmentText(text, r.Key[i].Type)
	}
	return request.ForRow(r, segments)
}

// release takes out of a relation the rows that sets leave out, or tells of the first of them that can't be.
func (x *execution) release(s *change.Step, rows []*change.Row) error {
	var sets, stay []*change.Row
	for _, r := range rows {
		if r.LinkedTo != nil {
			sets = append(sets, r)
		} else {
			stay = append(stay, r)
		}
	}
	var lists []any
	add := func(rows []*change.Row, n int, value func(*change.Row, int) change.Value) error {
		for i := range n {
			list := make([]*string, len(rows))
			for k, r := range rows {
				var err error
				if list[k], err = x.text(value(r, i)); err != nil {
					return err
				}
			}
			lists = append(lists, list)
		}
		return nil
	}
	if err := add(sets, len(s.Relation.Pairs), func(r *change.Row, i int) change.Value { return r.LinkedTo[i] }); err != nil {
		return err
	}
	if len(stay) > 0 {
		if err := add(stay, len(s.Resource.Key), func(r *change.Row, i int) change.Value { return r.Key[i] }); err != nil {
			return err
		}
	}
	some := len(stay) > 0
	if s.Refused != nil {
		return x.leftOut(s, sets, some, lists)
	}
	done, err := x.perform(s, signatureOf("release", relation(s.Relation), strconv.FormatBool(some)),
		func() *statement.Plan { return statement.Release(s.Relation, some, x.scope) }, lists)
	switch {
	case err != nil:
		return x.refused(err, sets)
	case done.Total < done.Expected:
		return fault.Within(fault.New(fault.Forbidden, "access.rule",
			"role %q may read the rows of %s that are left out but not update them all: its rows for that are limited",
			x.scope.Name, s.Resource.Name), sets[0].At)
	case !done.RuleHolds:
		return fault.Within(x.violated(window.Update, s.Resource), sets[0].At)
	}
	return nil
}

// leftOut refuses that a row is left out, if there is one.
func (x *execution) leftOut(s *change.Step, sets []*change.Row, stay bool, lists []any) error {
	done, err := x.perform(s, signatureOf("left out", relation(s.Relation), strconv.FormatBool(stay)),
		func() *statement.Plan { return statement.LeftOut(s.Relation, stay, x.scope) }, lists)
	if err != nil {
		return err
	}
	for i, row := range done.Rows {
		at := sets[i].At
		if f, _ := fault.From(s.Refused); f.Code != "link.required" {
			return fault.Within(s.Refused, at)
		}
		far := rowPath(s.Resource, row.Returned)
		if !s.Relation.Many {
			return fault.New(fault.Conflict, "link.required",
				"%s: the row can't be without the one it belongs to; delete it at /%s; nothing was changed", at, far).On(at)
		}
		return fault.New(fault.Conflict, "link.required",
			"%s: %s is left out, and can't be without the row it belongs to. To delete it, "+
				"send \"%s@delta\" with {\"@removed\":{\"reason\":\"deleted\"},\"@id\":%q}; nothing was changed",
			at, far, s.Relation.Name, far).On(at)
	}
	return nil
}

// link ties rows by a junction, and unties others.
func (x *execution) link(s *change.Step, rows []*change.Row) error {
	var kinds []change.Act
	acts := make([]*string, len(rows))
	near, far := make([][]*string, len(s.Relation.From.Key)), make([][]*string, len(s.Relation.To.Key))
	for i, r := range rows {
		act := string(r.Act)
		acts[i] = &act
		if !slices.Contains(kinds, r.Act) {
			kinds = append(kinds, r.Act)
		}
		for k := range near {
			if near[k] == nil {
				near[k] = make([]*string, len(rows))
			}
			var err error
			if near[k][i], err = x.text(r.Key[k]); err != nil {
				return err
			}
		}
		for k := range far {
			if far[k] == nil {
				far[k] = make([]*string, len(rows))
			}
			if r.Far == nil {
				continue
			}
			var err error
			if far[k][i], err = x.text(r.Far[k]); err != nil {
				return err
			}
		}
	}
	lists := []any{acts}
	for _, list := range append(near, far...) {
		lists = append(lists, list)
	}
	if x.locksFirst(s) {
		lock := func() *statement.Plan { return statement.LockNear(s.Relation.From, x.scope) }
		if _, err := x.perform(s, signatureOf("lock", relation(s.Relation)), lock, lists[1:1+len(near)]); err != nil {
			return x.refused(err, rows)
		}
	}
	slices.Sort(kinds)
	done, err := x.perform(s, signatureOf("link", relation(s.Relation), fmt.Sprint(kinds)),
		func() *statement.Plan { return statement.LinkRows(s.Relation, kinds, x.scope) }, lists)
	switch {
	case err != nil:
		return x.refused(err, rows)
	case len(done.Missing) > 0:
		return fault.Within(change.NoRow(s.Relation.From), rows[done.Missing[0]].At)
	case len(done.Absent) == 0:
		return nil
	}
	r := rows[done.Absent[0]]
	if r.Act == change.Remove {
		return fault.Within(fault.New(fault.NotFound, "link.none", "there is no such link, or none that you may see").On(s.Relation.Name), r.At)
	}
	return fault.Within(change.NoRow(s.Relation.To), r.At)
}

// writeRow writes the row that the answer shows, by a statement that answers with it.
func (x *execution) writeRow(s *change.Step, rows []*change.Row) error {
	r := rows[0]
	texts, err := x.pointers(r.Values)
	if err != nil {
		return err
	}
	in := singleWrite{op: operation(s), fields: r.Fields, defaults: r.Defaults, values: texts, versions: r.Versions, optional: r.Optional}
	at := x.request
	if len(x.change.Written) > 0 { // it is read back as a whole later
		at = at.Bare()
	}
	if s.Op != change.Insert {
		if at, err = x.at(at, r); err != nil {
			return err
		}
	}
	written, err := x.api.writeSingle(x.ctx, x.caller, x.scope, at, x.format, in)
	if err != nil {
		return x.refused(err, rows)
	}
	if written == nil {
		return nil
	}
	x.written = written
	if len(x.change.Steps) == 1 || s.Op == change.Delete {
		return nil
	}
	if err := x.keep(r.ID, s.Resource.Key, written.key); err != nil {
		return err
	}
	return x.check(s, r, true)
}

// at is the request for the row that is written: its own path, or that of the row which was found at the end of its path.
func (x *execution) at(r *request.Request, row *change.Row) (*request.Request, error) {
	if r.Single && r.Parent() == "" && !r.Alternate() {
		return r, nil
	}
	segments := make([]string, len(row.Key))
	for i, v := range row.Key {
		text, err := x.text(v)
		if err != nil {
			return nil, err
		}
		segments[i] = request.SegmentText(*text, r.Resource.Key[i].Type)
	}
	return r.AtRow(segments), nil
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
