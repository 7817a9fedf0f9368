package postgres_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/postgres"
)

// A transaction that begins along with its first statement and ends along with its last one keeps what one does that is begun and ended
// by itself: all of it or nothing, and the connection is fit for the next one.
func TestTransactions(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	source := connect(t, harbourtest.Database(t, true))
	execute(t, source, `create table harbour.kept (id int primary key, of int references harbour.kept deferrable initially deferred)`)
	run := func(tx *postgres.Tx, sql string) error {
		plan := &statement.Plan{SQL: sql, Total: -1, Present: -1, Version: -1}
		c, err := postgres.Compile(plan, nil, encode.Format{}).Open(ctx, tx, nil, time.Minute)
		if err != nil {
			return err
		}
		for c.Next() {
		}
		return c.Close()
	}
	add := func(tx *postgres.Tx, values string) error {
		return run(tx, "insert into harbour.kept values "+values+" returning id")
	}
	last := func(tx *postgres.Tx, sql string) error {
		tx.EndWithNext()
		return run(tx, sql)
	}
	refused := errors.New("refused")
	for _, tt := range []struct {
		name string
		do   func(tx *postgres.Tx) error
		want string // the code of the fault, "refused" or nothing
		kept string // the rows that are there afterwards
	}{
		{"nothing", func(*postgres.Tx) error { return nil }, "", ""},
		{"nothing, refused", func(*postgres.Tx) error { return refused }, "refused", ""},
		{"one statement", func(tx *postgres.Tx) error { return add(tx, "(1)") }, "", "1"},
		{"refused after it", func(tx *postgres.Tx) error { return errors.Join(add(tx, "(1)"), refused) }, "refused", ""},
		{"the first one fails", func(tx *postgres.Tx) error { return add(tx, "(1), (1)") }, "row.conflict", ""},
		{"a failure that is passed over", func(tx *postgres.Tx) error { _ = add(tx, "(1), (1)"); return nil }, "*", ""},
		{"ended along with the last one", func(tx *postgres.Tx) error {
			err := errors.Join(add(tx, "(1)"), last(tx, "select 1"))
			if !tx.Ended() {
				t.Error("it has not ended")
			}
			return err
		}, "", "1"},
		{"one statement that is both", func(tx *postgres.Tx) error {
			return last(tx, "insert into harbour.kept values (1) returning id")
		}, "", "1"},
		{"an end without a statement", func(tx *postgres.Tx) error { err := add(tx, "(1)"); tx.EndWithNext(); return err }, "", "1"},
		{"the last one fails", func(tx *postgres.Tx) error {
			err := errors.Join(add(tx, "(1)"), last(tx, "select 1 / 0"))
			if !tx.Failed() || tx.Ended() {
				t.Error("it has not failed")
			}
			return err
		}, "value.division", ""},
		{"the last one fails after a row", func(tx *postgres.Tx) error {
			return errors.Join(add(tx, "(1)"), last(tx, "select 1 / (3 - n) from generate_series(1, 3) n"))
		}, "value.division", ""},
		{"the end is refused", func(tx *postgres.Tx) error { return errors.Join(add(tx, "(1, 7)"), last(tx, "select 1")) }, "row.reference", ""},
		{"an end of its own is refused", func(tx *postgres.Tx) error { return add(tx, "(1, 7)") }, "row.reference", ""},
		{"the connection breaks off at the end", func(tx *postgres.Tx) error {
			return errors.Join(add(tx, "(1)"), last(tx, "select pg_terminate_backend(pg_backend_pid())"))
		}, "write.unknown", ""},
		{"savepoints", func(tx *postgres.Tx) error {
			return tx.Transact(ctx, func(tx *postgres.Tx) error {
				inner := tx.Transact(ctx, func(tx *postgres.Tx) error { return errors.Join(add(tx, "(1)"), refused) })
				if inner == nil {
					t.Error("the inner one is not refused")
				}
				return errors.Join(add(tx, "(2)"), tx.Transact(ctx, func(tx *postgres.Tx) error {
					return errors.Join(add(tx, "(3)"), last(tx, "select 1"))
				}))
			})
		}, "", "2,3"},
		{"a savepoint that fails", func(tx *postgres.Tx) error {
			_ = tx.Transact(ctx, func(tx *postgres.Tx) error { return add(tx, "(1), (1)") })
			return add(tx, "(2)")
		}, "", "2"},
		{"a part that is refused after its end", func(tx *postgres.Tx) error {
			_ = tx.Transact(ctx, func(tx *postgres.Tx) error {
				return errors.Join(add(tx, "(1)"), last(tx, "select 1"), refused)
			})
			return add(tx, "(2)")
		}, "", "1,2"},
		{"a part that its caller has left", func(tx *postgres.Tx) error {
			left, leave := context.WithCancel(ctx)
			leave()
			err := add(tx, "(1)")
			if tx.Transact(left, func(tx *postgres.Tx) error { return tx.WaitLittle(left) }) == nil {
				t.Error("it is not told")
			}
			return errors.Join(err, add(tx, "(2)"))
		}, "", "1,2"},
		{"a part of what has failed", func(tx *postgres.Tx) error {
			err := add(tx, "(1), (1)")
			return errors.Join(tx.Transact(ctx, func(tx *postgres.Tx) error { return add(tx, "(2)") }), err)
		}, "*", ""},
		{"a savepoint without statements", func(tx *postgres.Tx) error {
			_ = tx.Transact(ctx, func(*postgres.Tx) error { return refused })
			return add(tx, "(2)")
		}, "", "2"},
		{"constraints at the end of a part", func(tx *postgres.Tx) error {
			return errors.Join(add(tx, "(1, 7)"), tx.CheckDeferred(ctx))
		}, "row.reference", ""},
		{"a panic", func(tx *postgres.Tx) error { _ = add(tx, "(1)"); panic(refused) }, "refused", ""},
	} {
		err := func() (err error) {
			defer func() {
				if told, ok := recover().(error); ok {
					err = told
				}
			}()
			return source.For(postgres.Share{}).Transact(ctx, tt.do)
		}()
		got := ""
		if f, ok := fault.From(err); ok {
			got = f.Code
		} else if err != nil {
			got = err.Error()
		}
		if got != tt.want && (tt.want != "*" || err == nil) {
			t.Errorf("%s: %q (%v), want %q", tt.name, got, err, tt.want)
		}
		if kept := strings.Join(texts(t, source, "select id::text from harbour.kept order by id"), ","); kept != tt.kept {
			t.Errorf("%s: rows %s, want %s", tt.name, kept, tt.kept)
		}
		execute(t, source, "delete from harbour.kept")
	}
}

// Where the tables have changed since a statement was prepared, it is prepared anew, also where it is the first one of a transaction or
// of a part of it, and nobody notices; one that others went before is refused.
func TestOutdatedStatements(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	source := connect(t, harbourtest.Database(t, true))
	execute(t, source, "create table harbour.grown (id int); insert into harbour.grown values (1)")
	run := func(tx *postgres.Tx, sql string) error {
		plan := &statement.Plan{SQL: sql, Total: -1, Present: -1, Version: -1}
		c, err := postgres.Compile(plan, nil, encode.Format{}).Open(ctx, tx, nil, time.Minute)
		if err != nil {
			return err
		}
		return c.Close()
	}
	const all, other = "select * from harbour.grown", "select 1"
	for i, tt := range []struct {
		name string
		do   func(tx *postgres.Tx) error
		fine bool
	}{
		{"the first of a transaction", func(tx *postgres.Tx) error { return run(tx, all) }, true},
		{"the first and last", func(tx *postgres.Tx) error { tx.EndWithNext(); return run(tx, all) }, true},
		{"the first of a part that is the first", func(tx *postgres.Tx) error {
			return tx.Transact(ctx, func(tx *postgres.Tx) error { return run(tx, all) })
		}, true},
		{"the first of a part", func(tx *postgres.Tx) error {
			return errors.Join(run(tx, other), tx.Transact(ctx, func(tx *postgres.Tx) error { return run(tx, all) }), run(tx, other))
		}, true},
		{"a later one", func(tx *postgres.Tx) error { return errors.Join(run(tx, other), run(tx, all)) }, false},
	} {
		client := source.For(postgres.Share{})
		if err := client.Transact(ctx, func(tx *postgres.Tx) error { return run(tx, all) }); err != nil { // so that it is prepared
			t.Fatal(err)
		}
		execute(t, source, fmt.Sprintf("alter table harbour.grown add column c%d int", i))
		if err := client.Transact(ctx, tt.do); (err == nil) != tt.fine {
			t.Errorf("%s: %v", tt.name, err)
		}
	}
}

func texts(t *testing.T, source *postgres.Source, sql string) (list []string) {
	t.Helper()
	rows, err := source.Pool().Query(context.Background(), sql)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			t.Fatal(err)
		}
		list = append(list, text)
	}
	return list
}
