package postgres

import (
	"context"
	_ "embed"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

//go:embed catalog/notice.sql
var noticeSQL string

// noticeChannel is where a database tells that its tables have changed.
const noticeChannel = "eager_window_ddl"

// TellChanges lets a database tell when its tables change, by an event trigger, which only a superuser may make. It reports whether the
// database does so now.
func TellChanges(ctx context.Context, s *Source) (bool, error) {
	conn, err := s.writes.Acquire(ctx)
	if err != nil {
		return false, unavailable(ctx, err)
	}
	defer conn.Release()
	var there, may bool
	err = conn.QueryRow(ctx, `select exists (select from pg_event_trigger where evtname = 'eager_window_ddl'),
		(select rolsuper from pg_roles where rolname = current_user)`).Scan(&there, &may)
	if err != nil || there || !may {
		return there, err
	}
	_, err = conn.Exec(ctx, noticeSQL)
	var refused *pgconn.PgError
	if errors.As(err, &refused) && (refused.Code == "42710" || refused.Code == "23505") { // another instance was faster
		return true, nil
	}
	return err == nil, err
}

// StopTelling takes back what TellChanges has made. The schema stays where it holds anything else, such as the service's records.
func StopTelling(ctx context.Context, s *Source) error {
	conn, err := s.writes.Acquire(ctx)
	if err != nil {
		return unavailable(ctx, err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "drop event trigger if exists eager_window_ddl; drop event trigger if exists eager_window_drop; "+
		"drop function if exists eager_window.tell_ddl()"); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, "drop schema if exists eager_window restrict")
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == "2BP01" { // something else is in it
		return nil
	}
	return err
}

// ChangesOf calls changed whenever a database tells that its tables have changed, over a connection of its own, until the context ends.
func ChangesOf(ctx context.Context, s *Source, changed func()) {
	for ctx.Err() == nil {
		listenTo(ctx, s, changed)
		select {
		case <-ctx.Done():
		case <-time.After(listenAgain):
		}
	}
}

// listenAgain is how long to wait before a connection that was lost is made anew.
const listenAgain = 5 * time.Second

func listenTo(ctx context.Context, s *Source, changed func()) {
	conn, err := pgx.ConnectConfig(ctx, s.writes.Config().ConnConfig)
	if err != nil {
		return
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "listen "+noticeChannel); err != nil {
		return
	}
	for {
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return
		}
		changed()
	}
}
