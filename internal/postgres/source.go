package postgres

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgxpool"

	"eagerwindow/internal/core/fault"
)

// Source is a database that is exposed: a pool of connections for writing, and one of connections that can't write, whatever a
// statement says, for reading.
type Source struct {
	boundedPool // of connections for writing
	reads       boundedPool
	clock       watcher // of the statements that run
}

// readBuffer is how much is read from a connection at once: rows come faster in large parts.
const readBuffer = 64 << 10

// Connect opens a source and tries it.
func Connect(ctx context.Context, dsn string) (*Source, error) {
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
	reading := config.Copy()
	reading.ConnConfig.RuntimeParams["default_transaction_read_only"] = "on"
	s := &Source{}
	s.most, s.reads.most = config.MaxConns, config.MaxConns
	if s.Pool, err = pgxpool.NewWithConfig(ctx, config); err != nil {
		return nil, err
	}
	if s.reads.Pool, err = pgxpool.NewWithConfig(ctx, reading); err != nil {
		s.Pool.Close()
		return nil, err
	}
	if err := s.reads.Ping(ctx); err != nil {
		s.Close()
		return nil, fault.New(fault.Unavailable, "source.unreachable", "the database does not answer: %s", scrub(err))
	}
	return s, nil
}

// Close ends all connections.
func (s *Source) Close() {
	s.reads.Close()
	s.Pool.Close()
}

// scrub is the last part of a connection error, which holds neither the user's name nor the password.
func scrub(err error) string {
	for inner := errors.Unwrap(err); inner != nil; inner = errors.Unwrap(err) {
		err = inner
	}
	return fmt.Sprint(err)
}

// acquireLimit is how long a request waits for a connection while others hold them all.
const acquireLimit = 10 * time.Second

// boundedPool hands out the connections of one pool. Only where one may have to be waited for is the wait bounded: that costs.
type boundedPool struct {
	*pgxpool.Pool
	most int32
	busy atomic.Int32 // connections that are held or waited for
}

func (l *boundedPool) acquire(ctx context.Context) (*pgxpool.Conn, error) {
	if l.busy.Add(1) > l.most {
		waiting, cancel := context.WithTimeout(ctx, acquireLimit)
		defer cancel()
		conn, err := l.Pool.Acquire(waiting)
		if err != nil && ctx.Err() == nil && waiting.Err() != nil {
			err = fault.New(fault.Unavailable, "database.busy", "all connections to the database are in use; try again in a moment")
		}
		return l.taken(conn, err)
	}
	return l.taken(l.Pool.Acquire(ctx))
}

func (l *boundedPool) taken(conn *pgxpool.Conn, err error) (*pgxpool.Conn, error) {
	if err != nil {
		l.busy.Add(-1)
	}
	return conn, err
}

func (l *boundedPool) release(conn *pgxpool.Conn) {
	conn.Release()
	l.busy.Add(-1)
}
