package postgres

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgxpool"

	"eagerwindow/internal/core/fault"
)

// Source is a database that is exposed: a pool of connections for writing, and one of connections that can't write, whatever a
// statement says, for reading.
type Source struct {
	writes, reads boundedPool
	clock         watcher // of the statements that run
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
	s := &Source{writes: boundedPool{most: int(config.MaxConns)}, reads: boundedPool{most: int(config.MaxConns)}}
	if s.writes.Pool, err = pgxpool.NewWithConfig(ctx, config); err != nil {
		return nil, err
	}
	if s.reads.Pool, err = pgxpool.NewWithConfig(ctx, reading); err != nil {
		s.writes.Close()
		return nil, err
	}
	if err := s.reads.Ping(ctx); err != nil {
		s.Close()
		return nil, unreachable(err)
	}
	return s, nil
}

// unreachable is the fault of a source that can't be connected to: what of its DSN the database refuses, or that it does not answer.
func unreachable(err error) error {
	refused := func(what string) error {
		return fault.New(fault.Invalid, "source.refused", "the database refuses the connection: %s", what)
	}
	var p *pgconn.PgError
	if errors.As(err, &p) {
		switch p.Code {
		case "28P01", "28000":
			return refused("the user or the password of the DSN is wrong; a password with special characters is percent-encoded")
		case "3D000":
			return refused("it has no database of the name in the DSN")
		case "53300":
			return fault.New(fault.Unavailable, "source.unreachable", "the database has no connection left; raise its max_connections")
		}
	}
	return fault.New(fault.Unavailable, "source.unreachable", "the database does not answer: %s", strings.Split(scrub(err), "\n")[0])
}

// Ping reports whether the database answers, on a connection of its own: those of the pool may all be in use.
func (s *Source) Ping(ctx context.Context) error {
	conn, err := pgx.ConnectConfig(ctx, s.reads.Config().ConnConfig)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	return conn.Ping(ctx)
}

// Refresh makes all connections anew, each when it is not in use: what they have prepared may be of tables that have changed since.
func (s *Source) Refresh() {
	s.reads.Reset()
	s.writes.Reset()
}

// Close ends all connections.
func (s *Source) Close() {
	s.reads.Close()
	s.writes.Close()
}

// scrub is the last part of a connection error, which holds neither the user's name nor the password.
func scrub(err error) string {
	for inner := errors.Unwrap(err); inner != nil; inner = errors.Unwrap(err) {
		err = inner
	}
	return fmt.Sprint(err)
}
