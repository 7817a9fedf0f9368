package records

import (
	"context"
	"errors"
	"io"
	"net"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"eagerwindow/internal/core/fault"
)

// callLimit is how long one call to the records may take, waiting for a connection included. The database ends its statements and waits
// for locks before that by itself, so that what failed is known.
const (
	callLimit      = 5 * time.Second
	statementLimit = "4s"
	lockLimit      = "3s"
)

// pool is the connections to the records, each of whose calls has a limit.
type pool struct{ of *pgxpool.Pool }

// away makes a refusal of an error that is of the connection to the records, not of what was asked of them.
func away(err error) error {
	var refused *pgconn.PgError
	var connect *pgconn.ConnectError
	var network net.Error
	switch {
	case errors.As(err, &refused) && slices.Contains([]string{"57", "08", "53"}, refused.Code[:2]):
	case errors.As(err, &connect), errors.As(err, &network), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, context.DeadlineExceeded), err != nil && pgconn.SafeToRetry(err):
	default:
		return err
	}
	return &fault.Refusal{Fault: fault.New(fault.Unavailable, "records.unavailable", "the service's records are away; try again in a moment"),
		Words: err.Error()}
}

func (p pool) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	tag, err := p.of.Exec(ctx, sql, args...)
	return tag, away(err)
}

// row ends the limit of its call when it is read.
type row struct {
	pgx.Row
	cancel context.CancelFunc
}

func (r row) Scan(into ...any) error {
	defer r.cancel()
	return away(r.Row.Scan(into...))
}

func (p pool) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	return row{p.of.QueryRow(ctx, sql, args...), cancel}
}

// rows end the limit of their call when they are closed.
type rows struct {
	pgx.Rows
	cancel context.CancelFunc
}

func (r rows) Close() {
	r.Rows.Close()
	r.cancel()
}

func (r rows) Err() error { return away(r.Rows.Err()) }

func (p pool) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	found, err := p.of.Query(ctx, sql, args...)
	if err != nil {
		cancel()
		return nil, away(err)
	}
	return rows{found, cancel}, nil
}

// transact runs do in a transaction.
func (p pool) transact(ctx context.Context, do func(context.Context, pgx.Tx) error) error {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	return away(pgx.BeginFunc(ctx, p.of, func(tx pgx.Tx) error { return do(ctx, tx) }))
}

// SendBatch runs statements in one transaction and one round trip.
func (p pool) SendBatch(ctx context.Context, b *pgx.Batch) error {
	return p.transact(ctx, func(ctx context.Context, tx pgx.Tx) error { return tx.SendBatch(ctx, b).Close() })
}
