// Package postgres speaks to the databases that are exposed: it reads their catalog, runs planned statements, and writes
// rows as JSON straight from the binary values that arrive, without a value in between.
package postgres

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgxpool"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/statement"
)

// Query is a plan with the encoders of its rows.
type Query struct {
	Plan    *statement.Plan
	columns []column
	order   []appender
}

// Compile chooses the encoders of a plan's rows. types are those of the plan's order values.
func Compile(plan *statement.Plan, types []*model.Type) *Query {
	q := &Query{Plan: plan, columns: compile(plan.Columns)}
	for _, t := range types {
		q.order = append(q.order, appenderOf(t))
	}
	return q
}

// Cursor is the answer of a reading statement, row by row. It holds a connection until it is closed.
type Cursor struct {
	ctx   context.Context // of the statement, to tell a time limit from other ends
	q     *Query
	conn  *pgxpool.Conn
	rows  pgx.Rows
	first bool // the first row has been fetched, but not been handed out
	more  bool
	total int64
}

// Open runs the statement and waits for its first row or its end, so that a statement that fails at once is told by the error.
func (q *Query) Open(ctx context.Context, pool *pgxpool.Pool, args []any) (*Cursor, error) {
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return nil, unavailable(ctx, err)
	}
	rows, err := conn.Query(ctx, q.Plan.SQL, append([]any{pgx.QueryResultFormats{pgx.BinaryFormatCode}}, args...)...)
	if err != nil {
		conn.Release()
		return nil, translate(ctx, err)
	}
	c := &Cursor{ctx: ctx, q: q, conn: conn, rows: rows, first: true, more: rows.Next()}
	if !c.more {
		if rows.Err() != nil {
			return nil, c.Close()
		}
		return c, nil
	}
	if q.Plan.Total >= 0 {
		values := rows.RawValues()
		c.total = total(values[q.Plan.Total])
		c.more = q.Plan.Present < 0 || values[q.Plan.Present] != nil
	}
	return c, nil
}

// Next moves to the next row and says whether there is one.
func (c *Cursor) Next() bool {
	if c.first {
		c.first = false
		return c.more
	}
	c.more = c.more && c.rows.Next()
	return c.more
}

// AppendRow writes the row as a JSON object.
func (c *Cursor) AppendRow(dst []byte) []byte {
	return appendObject(dst, c.rows.RawValues(), c.q.columns)
}

// AppendOrder writes the row's order values as a JSON array.
func (c *Cursor) AppendOrder(dst []byte) []byte {
	values := c.rows.RawValues()
	dst = append(dst, '[')
	for i, at := range c.q.Plan.Order {
		if i > 0 {
			dst = append(dst, ',')
		}
		if values[at] == nil {
			dst = append(dst, "null"...)
		} else {
			dst = c.q.order[i](dst, values[at])
		}
	}
	return append(dst, ']')
}

// Version is the version of the row at hand.
func (c *Cursor) Version() string { return string(c.rows.RawValues()[c.q.Plan.Version]) }

// Total is the number of rows of the filter, where the plan counts them.
func (c *Cursor) Total() int64 { return c.total }

// Close ends the statement and gives the connection back. It returns what went wrong on the way, if anything did.
func (c *Cursor) Close() error {
	c.rows.Close()
	err := c.rows.Err()
	c.conn.Release()
	if err != nil {
		return translate(c.ctx, err)
	}
	return nil
}

// Written is what a write did to its row.
type Written struct {
	Found    bool   // there was a row that the rule of the write covers
	Kept     bool   // the row as written still meets the rule; else nothing was changed
	Readable bool   // the role may read the row
	Row      []byte // the row as stored, as JSON
	Key      []byte // its key, as a JSON array
}

// Write runs a writing statement of one row. Where the row as written breaks the role's rule, all is undone.
func (q *Query) Write(ctx context.Context, pool *pgxpool.Pool, args []any) (*Written, error) {
	w := &Written{Kept: true, Readable: true}
	err := pgx.BeginFunc(ctx, pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, q.Plan.SQL, append([]any{pgx.QueryResultFormats{pgx.BinaryFormatCode}}, args...)...)
		if err != nil {
			return err
		}
		defer rows.Close()
		if !rows.Next() {
			return rows.Err()
		}
		values := rows.RawValues()
		w.Found = true
		w.Kept = guard(values, q.Plan.Guards.Kept)
		w.Readable = guard(values, q.Plan.Guards.Readable)
		w.Row = appendObject(nil, values, q.columns)
		if len(q.order) > 0 {
			w.Key = (&Cursor{q: q, rows: rows}).AppendOrder(nil)
		}
		rows.Close()
		if rows.Err() == nil && !w.Kept {
			return errUndone
		}
		return rows.Err()
	})
	if err != nil && !errors.Is(err, errUndone) {
		return nil, translate(ctx, err)
	}
	return w, nil
}

var errUndone = errors.New("the row breaks the rule of its write")

func guard(values [][]byte, at int) bool { return at < 0 || values[at] != nil && values[at][0] == 1 }

// readBuffer is how much is read from a connection at once: rows come faster in large parts.
const readBuffer = 64 << 10

// Connect opens a pool for a source and tries it.
func Connect(ctx context.Context, dsn string) (*pgxpool.Pool, error) {
	config, err := pgxpool.ParseConfig(dsn)
	if err != nil {
		return nil, fault.New(fault.Invalid, "source.dsn", "the DSN can't be read: %s", scrub(err))
	}
	config.ConnConfig.RuntimeParams["application_name"] = "eager window"
	config.ConnConfig.RuntimeParams["timezone"] = "UTC"
	config.MaxConns = max(config.MaxConns, 16)
	config.ConnConfig.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		return pgproto3.NewFrontend(bufio.NewReaderSize(r, readBuffer), w)
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fault.New(fault.Unavailable, "source.unreachable", "the database does not answer: %s", scrub(err))
	}
	return pool, nil
}

// scrub is the last part of a connection error, which holds neither the user's name nor the password.
func scrub(err error) string {
	for inner := errors.Unwrap(err); inner != nil; inner = errors.Unwrap(err) {
		err = inner
	}
	return fmt.Sprint(err)
}
