package data

import (
	"fmt"
	"slices"
	"strconv"

	"eagerwindow/internal/core/change"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/postgres"
)

// The steps of a change, each by the statement that does it.

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
