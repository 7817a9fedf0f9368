package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Place is where statements run: a Client, where each runs by itself, or a Tx.
type Place interface {
	// acquire and release take and give back the connection that a reading statement runs on.
	acquire(context.Context) (*pgxpool.Conn, error)
	release(*pgxpool.Conn)
	// isolation is what stands around a statement that must leave nothing behind.
	isolation() isolation
	// watch begins the watch over a statement.
	watch(ctx context.Context, conn *pgx.Conn, limit time.Duration) *watchdog
	// Transact runs do in a transaction, which an error undoes whole: that of do is returned as it is. In a transaction that runs
	// already it is a savepoint.
	Transact(ctx context.Context, do func(*Tx) error) error
	// write runs one writing statement. Where it may have to be undone, all that do has written goes with its error.
	write(ctx context.Context, undoable bool, do func(*pgx.Conn) error) error
}

// Client is a source as somebody uses it.
type Client struct {
	*Source
	Share
}

// For is the source for somebody.
func (s *Source) For(share Share) Client { return Client{s, share} }

// isolation is SQL that keeps a statement from writing and undoes its settings. The locks that outlive a transaction are given back too.
type isolation struct{ begin, end string }

const isolationTimeout = 5 * time.Second

func (Client) isolation() isolation {
	return isolation{"begin read only", "rollback; select pg_advisory_unlock_all()"}
}

func (*Tx) isolation() isolation {
	return isolation{"savepoint isolated; set transaction read only", "rollback to savepoint isolated; release savepoint isolated"}
}

func (c Client) acquire(ctx context.Context) (*pgxpool.Conn, error) {
	return c.reads.acquire(ctx, c.Share)
}

func (c Client) release(conn *pgxpool.Conn) { c.reads.release(conn, c.Share) }

func (s *Source) watch(ctx context.Context, conn *pgx.Conn, limit time.Duration) *watchdog {
	return s.clock.start(ctx, conn.PgConn().Conn(), limit)
}

func (c Client) write(ctx context.Context, undoable bool, do func(*pgx.Conn) error) error {
	conn, err := c.writes.acquire(ctx, c.Share)
	if err != nil {
		return unavailable(ctx, err)
	}
	defer c.writes.release(conn, c.Share)
	if !undoable { // a statement is a transaction already
		return do(conn.Conn())
	}
	return transact(ctx, conn.Conn(), 0, func(*level) error { return do(conn.Conn()) })
}

// Tx is a transaction that several statements run in, one after the other. What one of them has written the next ones read.
type Tx struct {
	source *Source
	conn   *pgxpool.Conn
	depth  int // of savepoints
	level  *level
}

// Transact runs do in a transaction of its own.
func (c Client) Transact(ctx context.Context, do func(*Tx) error) error {
	conn, err := c.writes.acquire(ctx, c.Share)
	if err != nil {
		return unavailable(ctx, err)
	}
	defer c.writes.release(conn, c.Share)
	return transact(ctx, conn.Conn(), 0, func(l *level) error { return do(&Tx{c.Source, conn, 0, l}) })
}

// Transact runs do after a savepoint.
func (t *Tx) Transact(ctx context.Context, do func(*Tx) error) error {
	depth := t.depth + 1
	return transact(ctx, t.conn.Conn(), depth, func(l *level) error { return do(&Tx{t.source, t.conn, depth, l}) })
}

// EndWithNext says that the next statement is the last one, so that the transaction can end along with it.
func (t *Tx) EndWithNext() { statementsOf(t.conn.Conn()).ending = t.level }

// Ended reports whether the transaction has ended well, along with a statement.
func (t *Tx) Ended() bool { return t.level.ended }

// Failed reports whether a statement of the transaction has failed, so that it can only be undone.
func (t *Tx) Failed() bool { return t.conn.Conn().PgConn().TxStatus() == 'E' }

func (t *Tx) acquire(context.Context) (*pgxpool.Conn, error) { return t.conn, nil }

func (t *Tx) release(*pgxpool.Conn) {}

func (t *Tx) watch(ctx context.Context, conn *pgx.Conn, limit time.Duration) *watchdog {
	return t.source.watch(ctx, conn, limit)
}

func (t *Tx) write(_ context.Context, _ bool, do func(*pgx.Conn) error) error {
	return do(t.conn.Conn())
}

// ID is the number of the transaction, by which its fate can be asked for later.
func (t *Tx) ID(ctx context.Context) (id string, err error) {
	if err = t.begin(ctx); err == nil {
		err = t.conn.QueryRow(ctx, "select pg_current_xact_id()::text").Scan(&id)
	}
	return id, err
}

// TxStatus is what has become of a transaction.
type TxStatus string

// The fates. Of a transaction of long ago the database no longer knows, nor of one of another database that stood in its place.
const (
	Committed TxStatus = "committed"
	Aborted   TxStatus = "aborted"
	Running   TxStatus = "in progress"
	Unknown   TxStatus = ""
)

// TxStatus asks what has become of the transaction of that number.
func (s *Source) TxStatus(ctx context.Context, id string) (TxStatus, error) {
	var fate *string
	err := s.writes.QueryRow(ctx, "select pg_xact_status($1::text::xid8)", id).Scan(&fate)
	var p *pgconn.PgError
	switch {
	case errors.As(err, &p) && p.Code == "22023": // a number that it has not come to yet
		return Unknown, nil
	case err != nil:
		return Unknown, translate(ctx, err)
	case fate == nil:
		return Unknown, nil
	}
	return TxStatus(*fate), nil
}

var errRuleViolated = errors.New("the write breaks a rule of the role")

// Ran is how many statements of plans have run on the connection of the transaction, those before it too.
func (t *Tx) Ran() int { return statementsOf(t.conn.Conn()).ran }

// Broken reports whether the connection of the transaction is gone, and the transaction with it.
func (t *Tx) Broken() bool { return t.conn.Conn().IsClosed() }

// CheckDeferred checks the constraints that are put off until the end of the transaction, and leaves them as they are.
func (t *Tx) CheckDeferred(ctx context.Context) error {
	err := t.Transact(ctx, func(t *Tx) error {
		if err := t.exec(ctx, "set constraints all immediate"); err != nil {
			return err
		}
		return errChecked // which sets them back
	})
	if errors.Is(err, errChecked) {
		return nil
	}
	return err
}

var errChecked = errors.New("the deferred constraints hold")

// WaitLittle makes the statements of the transaction wait a second at most for a lock, so that one that never lasts holds up nobody for
// long.
func (t *Tx) WaitLittle(ctx context.Context) error {
	return t.exec(ctx, "set local lock_timeout = '1s'")
}

// begin begins the transaction if no statement has done so.
func (t *Tx) begin(ctx context.Context) error { return statementsOf(t.conn.Conn()).begin(ctx) }

func (t *Tx) exec(ctx context.Context, sql string) error {
	err := t.begin(ctx)
	if err == nil {
		_, err = t.conn.Exec(ctx, sql)
	}
	if err != nil {
		return translate(ctx, err)
	}
	return nil
}
