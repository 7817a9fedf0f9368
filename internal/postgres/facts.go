package postgres

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/core/doctor"
	"eagerwindow/internal/core/statement"
)

// Facts reads what the database's user is and may do, and how the database is set.
func Facts(ctx context.Context, s *Source) (doctor.Facts, error) {
	f := doctor.Facts{Tables: map[string]doctor.TableFacts{}, Needed: int(s.reads.Config().MaxConns + s.writes.Config().MaxConns)}
	conn, err := s.writes.Acquire(ctx)
	if err != nil {
		return f, unavailable(ctx, err)
	}
	defer conn.Release()
	err = conn.QueryRow(ctx, `select current_user, r.rolsuper, r.rolbypassrls and not r.rolsuper, r.rolcreaterole and not r.rolsuper,
			r.rolcreatedb and not r.rolsuper, coalesce((select ssl from pg_stat_ssl where pid = pg_backend_pid()), false),
			inet_client_addr() is null or inet_client_addr() <<= '127.0.0.0/8' or inet_client_addr() = '::1',
			current_setting('password_encryption'), current_setting('max_connections')::integer
		from pg_roles r where r.rolname = current_user`).Scan(&f.User, &f.Superuser, &f.BypassRLS, &f.CreateRole, &f.CreateDB, &f.TLS, &f.Local,
		&f.Password, &f.Most)
	if err != nil {
		return f, unread(ctx, "what the database's user may do", err)
	}
	rows, err := conn.Query(ctx,
		`select n.nspname || '.' || c.relname, has_table_privilege(c.oid, 'select'), has_table_privilege(c.oid, 'insert'),
			has_table_privilege(c.oid, 'update'), has_table_privilege(c.oid, 'delete'), c.relowner = current_user::regrole, c.relrowsecurity,
			c.relforcerowsecurity
		from pg_class c join pg_namespace n on n.oid = c.relnamespace
		where c.relkind in ('r', 'v', 'm', 'f', 'p') and n.nspname !~ '^pg_' and n.nspname not in ('information_schema', 'eager_window')`)
	if err != nil {
		return f, err
	}
	var name string
	var t doctor.TableFacts
	_, err = pgx.ForEachRow(rows, []any{&name, &t.Select, &t.Insert, &t.Update, &t.Delete, &t.Owner, &t.RowSecurity, &t.Forced}, func() error {
		f.Tables[name] = t
		return nil
	})
	return f, err
}

// Paper is what an index would change, as the planner reckons it without the index being there.
type Paper struct {
	Before, After float64 // the cost of the statement that would use it
}

// errNoPaper says that the database has no hypopg, so that indexes can't be tried.
var errNoPaper = errors.New("hypopg is not installed")

// OnPaper tries an index without making it, by the extension hypopg: nil where the database has none. What the extension needs is made in a
// transaction that is rolled back, so the database stays as it is.
func OnPaper(ctx context.Context, s *Source, ix doctor.Index) (*Paper, error) {
	ctx, cancel := context.WithTimeout(ctx, paperLimit)
	defer cancel()
	conn, err := s.writes.Acquire(ctx)
	if err != nil {
		return nil, unavailable(ctx, err)
	}
	defer conn.Release()
	out := &Paper{}
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if err := needPaper(ctx, tx); err != nil {
			return err
		}
		before, err := genericPlan(ctx, tx, ix.TryOn())
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "select hypopg_create_index($1)", ix.Definition(false)); err != nil {
			return err
		}
		after, err := genericPlan(ctx, tx, ix.TryOn())
		if err != nil {
			return err
		}
		out.Before, out.After = before.Cost, after.Cost
		if _, err := tx.Exec(ctx, "select hypopg_reset()"); err != nil {
			return err
		}
		return errRolledBack
	})
	if errors.Is(err, errNoPaper) {
		return nil, nil
	}
	if !errors.Is(err, errRolledBack) {
		return nil, fmt.Errorf("try an index on %s: %w", ix.Table.QualifiedName(), err)
	}
	return out, nil
}

// ReadsWhole reports whether the planner would read all of a table for the statement that an index is for.
func ReadsWhole(ctx context.Context, s *Source, ix doctor.Index) (whole bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, paperLimit)
	defer cancel()
	conn, err := s.writes.Acquire(ctx)
	if err != nil {
		return false, unavailable(ctx, err)
	}
	defer conn.Release()
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		plan, err := genericPlan(ctx, tx, ix.TryOn())
		if err != nil {
			return err
		}
		whole = plan.Scans(ix.Table.Name)
		return errRolledBack
	})
	if !errors.Is(err, errRolledBack) {
		return false, fmt.Errorf("look at the plan of %s: %w", ix.Table.QualifiedName(), err)
	}
	return whole, nil
}

// paperLimit is how long it may take to try an index.
const paperLimit = 5 * time.Second

var errRolledBack = errors.New("done, and rolled back")

// needPaper makes the functions of hypopg available in a transaction.
func needPaper(ctx context.Context, tx pgx.Tx) error {
	var there, available, may bool
	err := tx.QueryRow(ctx, `select exists (select from pg_extension where extname = 'hypopg'),
		exists (select from pg_available_extensions where name = 'hypopg'),
			(select rolsuper from pg_roles where rolname = current_user)`).Scan(&there,
		&available, &may)
	switch {
	case err != nil || there:
		return err
	case !available || !may:
		return errNoPaper
	}
	_, err = tx.Exec(ctx, "create extension hypopg")
	return err
}

// genericPlan is the planner's plan for a statement whatever its arguments are.
func genericPlan(ctx context.Context, tx pgx.Tx, sql string) (*statement.Step, error) {
	pg := tx.Conn().PgConn()
	described, err := pg.Prepare(ctx, "", sql, nil)
	if err != nil {
		return nil, err
	}
	results, err := pg.Exec(ctx, genericSQL(sql, len(described.ParamOIDs))+"; deallocate eager_plan").ReadAll()
	if err != nil {
		return nil, err
	}
	return planIn(results)
}
