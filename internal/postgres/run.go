// Package postgres speaks to the databases that are exposed: it reads their catalog, runs planned statements, and writes
// rows as JSON straight from the binary values that arrive, without a value in between.
package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/encode"
)

// Statement is a plan with the encoders of its rows.
type Statement struct {
	Plan      *statement.Plan
	rows      encode.Rows
	order     []encode.Appender
	given     []encode.Appender // of a write of many: of the fields that come back
	types     []uint32          // OIDs of the columns, as far as they are known: 0 where not
	coalescer coalescer         // of a short plan
}

// Compile chooses the encoders of a plan's rows. types are those of the plan's order values.
func Compile(plan *statement.Plan, types []*model.Type, format encode.Format) *Statement {
	q := &Statement{Plan: plan, rows: format.Rows(plan.Columns)}
	encode.ColumnTypes(plan.Columns, q.expect)
	for i, t := range types {
		q.order = append(q.order, encode.AppenderOf(t, encode.Format{}))
		if i < len(plan.Order) { // one row has none
			q.expect(plan.Order[i], encode.TypeOID(t))
		}
	}
	for i, f := range plan.Returned {
		q.given = append(q.given, encode.AppenderOf(f.Type, encode.Format{}))
		q.expect(plan.Values[i], encode.TypeOID(f.Type))
	}
	return q
}

// expect notes the type that a column must have.
func (q *Statement) expect(at int, oid uint32) {
	for at >= len(q.types) {
		q.types = append(q.types, 0)
	}
	if oid != 0 {
		q.types[at] = oid
	}
}

// Cursor is the answer of a reading statement, row by row. It holds a connection until it is closed.
type Cursor struct {
	ctx    context.Context // of the statement, to tell a time limit from other ends
	q      *Statement
	at     Place
	conn   *pgxpool.Conn
	wait   *watchdog
	rows   rows
	values [][]byte // of the one row, where no connection is held
	first  bool     // the first row has been fetched, but not been handed out
	more   bool
	total  int64
	took   time.Duration // until the first row, on the connection; 0 of a read that was answered together with others
	failed error         // a row could not be read
}

// Open runs the statement and waits for its first row or its end, so that a statement that fails at once is reported by the error.
// The wait may take as long as the limit.
func (q *Statement) Open(ctx context.Context, at Place, args []any, limit time.Duration) (*Cursor, error) {
	if c, ok := at.(Client); ok && q.Plan.SingleKeyRead {
		return q.openCoalesced(ctx, c, args, limit)
	}
	return q.open(ctx, at, args, limit)
}

// open runs the statement. Where the connection turns out to be broken, as all are after the database has restarted, it is run once more,
// on a new one.
func (q *Statement) open(ctx context.Context, at Place, args []any, limit time.Duration) (*Cursor, error) {
	c, err := q.openOnce(ctx, at, args, limit)
	if client, outside := at.(Client); outside && err != nil && errors.Is(err, errBroken) && ctx.Err() == nil {
		client.reads.Reset()
		c, err = q.openOnce(ctx, at, args, limit)
	}
	return c, err
}

func (q *Statement) openOnce(ctx context.Context, at Place, args []any, limit time.Duration) (*Cursor, error) {
	conn, err := at.acquire(ctx)
	if err != nil {
		return nil, unavailable(ctx, err)
	}
	c := &Cursor{ctx: ctx, q: q, at: at, conn: conn, wait: at.watch(ctx, conn.Conn(), limit), first: true}
	if q.Plan.Isolated {
		s := statementsOf(conn.Conn())
		s.ending = nil // what undoes its settings comes after it
		if err = s.begin(ctx); err == nil {
			_, err = conn.Conn().PgConn().Exec(context.Background(), at.isolation().begin).ReadAll()
		}
	}
	if err == nil {
		c.rows, c.more, err = q.run(conn.Conn(), args)
	}
	if q.Plan.Isolated && outdated(err) { // what was prepared has been forgotten, and the transaction is over
		around := at.isolation()
		if _, err = conn.Conn().PgConn().Exec(context.Background(), around.end+"; "+around.begin).ReadAll(); err == nil {
			c.rows, c.more, err = q.run(conn.Conn(), args)
		}
	}
	c.took = time.Since(c.wait.began)
	expired := c.wait.end()
	if !c.more {
		c.release()
		switch {
		case err != nil && !expired && ctx.Err() == nil && broken(err):
			return nil, errors.Join(errBroken, translate(ctx, err))
		case err != nil:
			return nil, ended(ctx, expired, limit, translate(ctx, err))
		}
		return c, nil
	}
	if q.Plan.Total >= 0 {
		values := c.rows.Values()
		c.total = encode.Total(values[q.Plan.Total])
		c.more = q.Plan.Present < 0 || values[q.Plan.Present] != nil
	}
	return c, nil
}

// errBroken is the error of a read whose connection broke off before its first row.
var errBroken = errors.New("the connection to the database broke off")

// ended tells a statement that was broken off from one that failed.
func ended(ctx context.Context, expired bool, limit time.Duration, err error) error {
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("the caller has gone away: %w", ctx.Err())
	case !expired:
		return err
	}
	return fault.New(fault.TimedOut, "time.limit",
		"the database took longer than the limit of %s; ask for less, or by fields that an index serves", limit)
}

// Next moves to the next row and reports whether there is one.
func (c *Cursor) Next() bool {
	if c.first {
		c.first = false
		return c.more
	}
	c.more = c.more && c.conn != nil && c.rows.NextRow()
	return c.more
}

// AppendRow writes the row as the format has it. Where a value inside it has another type than the release was made for, nothing is
// written, no row follows, and Close reports it.
func (c *Cursor) AppendRow(dst []byte, links encode.Links) (out []byte) {
	defer func() {
		if words, mismatch := recover().(encode.TypeMismatch); mismatch {
			out, c.more, c.failed = dst, false, changed(string(words))
		}
	}()
	return c.q.rows.Append(dst, c.row(), links)
}

// row is the values of the row at hand.
func (c *Cursor) row() [][]byte {
	if c.conn == nil {
		return c.values
	}
	return c.rows.Values()
}

// AppendHeader writes what comes before the rows: the names of CSV.
func (q *Statement) AppendHeader(dst []byte) []byte {
	return encode.Header(dst, q.rows)
}

// AppendOrder writes the row's order values as a JSON array.
func (c *Cursor) AppendOrder(dst []byte) []byte { return c.q.appendOrder(dst, c.row()) }

func (q *Statement) appendOrder(dst []byte, values [][]byte) []byte {
	return encode.AppendValues(dst, values, q.Plan.Order, q.order)
}

// Version is the version of the row at hand: the number of the transaction that wrote it.
func (c *Cursor) Version() uint32 {
	return binary.BigEndian.Uint32(c.row()[c.q.Plan.Version])
}

// Took is how long the statement took until its first row, without the wait for a connection; 0 where that is not known.
func (c *Cursor) Took() time.Duration { return c.took }

// Total is the number of rows of the filter, where the plan counts them.
func (c *Cursor) Total() int64 { return c.total }

// Close ends the statement and gives the connection back. It returns what went wrong on the way, if anything did. Rows that
// nobody waits for any more are not read to their end: the connection breaks off.
func (c *Cursor) Close() error {
	if c.conn == nil {
		return c.failed
	}
	if c.more && c.ctx.Err() != nil {
		c.wait.expire()
	}
	err := c.rows.close()
	c.release()
	if err != nil {
		return ended(c.ctx, false, 0, translate(c.ctx, err))
	}
	return c.failed
}

// release gives the connection back.
func (c *Cursor) release() {
	c.wait.clearDeadline()
	if c.q.Plan.Isolated && !c.conn.Conn().IsClosed() { // what fails here closes the connection, which undoes as much
		ctx, cancel := context.WithTimeout(context.WithoutCancel(c.ctx), isolationTimeout)
		_, _ = c.conn.Conn().PgConn().Exec(ctx, c.at.isolation().end).ReadAll()
		cancel()
	}
	c.at.release(c.conn)
	c.conn = nil
}

// Written is what a write did to its row, or to its rows.
type Written struct {
	Found     bool   // there was a row that the rule of the write covers
	RuleHolds bool   // the row as written still meets the rule; else nothing was changed
	Readable  bool   // the role may read the row
	Row       []byte // the row as stored, as JSON; of a write of many rows that are shown, an array, nil where they are too many
	Key       []byte // its key, as a JSON array
	Version   string // "" where it has none
	Total     int64  // of a write of many rows, their number
	Expected  int64  // of a release, how many there should have been
	Missing   []int  // of a write of many, the rows of the input, from 0, that there were none for
	Absent    []int  // of ties, those that lack the far end

	Rows map[int]WrittenRow // of a write of many whose rows come back, by their number in the input, from 0
}

// WrittenRow is one row of a write of many.
type WrittenRow struct {
	Row       []byte // as JSON: nil where the role may not read it, and everywhere where there are too many
	Returned  []byte // the fields that later steps refer to, as a JSON array
	RuleHolds bool
}

// maxShown is how many bytes of rows a write of many answers with.
const maxShown = 4 << 20

// each takes up the rows of a write of many, and hands on what is to be shown of them.
func (w *Written) each(q *Statement, rows rows, first [][]byte, show func(values [][]byte, readable bool)) {
	for values := first; values != nil; {
		w.Total++
		w.RuleHolds = w.RuleHolds && guard(values, q.Plan.Guards.RuleHolds)
		show(values, guard(values, q.Plan.Guards.Readable))
		values = nil
		if rows.NextRow() {
			values = rows.Values()
		}
	}
}

// numbered gathers the rows of a write of many that come back with their numbers.
func (w *Written) numbered(q *Statement, rows rows, first [][]byte) {
	w.Rows = map[int]WrittenRow{}
	size := 0
	w.each(q, rows, first, func(values [][]byte, readable bool) {
		row := WrittenRow{RuleHolds: guard(values, q.Plan.Guards.RuleHolds)}
		if readable && q.Plan.Columns != nil && size <= maxShown {
			row.Row = q.rows.Append(nil, values, nil)
			size += len(row.Row)
		}
		if q.given != nil {
			row.Returned = encode.AppendValues(nil, values, q.Plan.Values, q.given)
		}
		w.Rows[int(encode.Total(values[q.Plan.InputOrdinal]))-1] = row
	})
	if size > maxShown {
		for i, row := range w.Rows {
			row.Row = nil
			w.Rows[i] = row
		}
	}
}

// many gathers the rows of a write of every row of a filter.
func (w *Written) many(q *Statement, rows rows, first [][]byte) {
	w.Row = append(w.Row, '[')
	w.each(q, rows, first, func(values [][]byte, readable bool) {
		if !readable || w.Row == nil {
			return
		}
		if len(w.Row) > 1 {
			w.Row = append(w.Row, ',')
		}
		if w.Row = q.rows.Append(w.Row, values, nil); len(w.Row) > maxShown {
			w.Row = nil
		}
	})
	if w.Row != nil {
		w.Row = append(w.Row, ']')
	}
}

// Write runs a writing statement, for as long as the limit allows. Where a row as written breaks the role's rule, or more rows are
// written than may be at once (0: no limit), all is undone.
func (q *Statement) Write(ctx context.Context, at Place, args []any, most int64, limit time.Duration) (*Written, error) {
	w := &Written{RuleHolds: true, Readable: true}
	err := at.write(ctx, q.Plan.Guards.RuleHolds >= 0 || most > 0, func(conn *pgx.Conn) error {
		wait := at.watch(ctx, conn, limit)
		err := q.write(conn, args, w)
		expired := wait.end()
		wait.clearDeadline()
		if err != nil {
			return ended(ctx, expired, limit, q.blame(unsettled(translate(ctx, err), err)))
		}
		if !w.RuleHolds || most > 0 && w.Total > most {
			return errRuleViolated
		}
		return nil
	})
	if err != nil && !errors.Is(err, errRuleViolated) {
		return nil, err
	}
	return w, nil
}

// write reads what a writing statement answers. The watch over it is the caller's.
func (q *Statement) write(conn *pgx.Conn, args []any, w *Written) error {
	rows, found, err := q.run(conn, args)
	if !found {
		switch {
		case q.Plan.ReturnsRows:
			w.Row = []byte("[]")
		case q.Plan.Affected:
			w.Total = statementsOf(conn).done
		}
		return err
	}
	if err := q.read(rows, w); err != nil {
		_ = rows.close() // the first error tells more
		return err
	}
	return rows.close()
}

// read takes up the rows of a writing statement, from the first on.
func (q *Statement) read(rows rows, w *Written) (err error) {
	values := rows.Values()
	w.Found = true
	switch {
	case q.Plan.InputOrdinal >= 0:
		w.numbered(q, rows, values)
		return nil
	case q.Plan.ReturnsRows:
		w.many(q, rows, values)
		return nil
	}
	w.RuleHolds = guard(values, q.Plan.Guards.RuleHolds)
	w.Readable = guard(values, q.Plan.Guards.Readable)
	if at := q.Plan.Total; at >= 0 {
		w.Total = encode.Total(values[at])
		if e := q.Plan.Expected; e >= 0 {
			w.Expected = encode.Total(values[e])
		}
		if w.Missing, err = ordinals(values, q.Plan.Missing); err != nil {
			return err
		}
		if w.Absent, err = ordinals(values, q.Plan.Absent); err != nil {
			return err
		}
	} else {
		w.Row = q.rows.Append(make([]byte, 0, 512), values, nil)
	}
	if at := q.Plan.Version; at >= 0 {
		w.Version = strconv.FormatUint(uint64(binary.BigEndian.Uint32(values[at])), 10)
	}
	if len(q.order) > 0 {
		w.Key = q.appendOrder(nil, values)
	}
	return nil
}

// ordinals are the numbers of rows of the input that are in a column as text, from 0.
func ordinals(values [][]byte, at int) ([]int, error) {
	if at < 0 || values[at] == nil {
		return nil, nil
	}
	var list []int
	for n := range strings.SplitSeq(string(values[at]), ",") {
		i, err := strconv.Atoi(n)
		if err != nil {
			return nil, err
		}
		list = append(list, i-1)
	}
	return list, nil
}

func guard(values [][]byte, at int) bool { return at < 0 || values[at] != nil && values[at][0] == 1 }
