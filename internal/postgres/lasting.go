package postgres

import (
	"context"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/core/catalog"
)

// NumbersLast says that a rollback does not give back the numbers of sequences.
const NumbersLast = "the numbers that sequences give out stay used"

// Lasting lists what writes of a catalog's tables do that a rollback does not undo: the numbers that sequences give out, and triggers
// that may reach outside of the database.
func Lasting(ctx context.Context, s *Source, cat *catalog.Catalog) ([]string, error) {
	var tables []uint32
	for _, t := range cat.Tables {
		if t.Kind == catalog.Base {
			tables = append(tables, t.OID)
		}
	}
	const statement = `
select '` + NumbersLast + `'
where exists (select from pg_depend d join pg_class s on s.oid = d.objid and s.relkind = 'S'
  where d.classid = 'pg_class'::regclass and d.refclassid = 'pg_class'::regclass and d.refobjid = any($1) and d.deptype in ('a', 'i'))
union
select format('the trigger %I of %s may reach outside of the database (%s)', t.tgname, t.tgrelid::regclass, p.proname)
from pg_trigger t join pg_proc p on p.oid = t.tgfoid join pg_language l on l.oid = p.prolang
where t.tgrelid = any($1) and not t.tgisinternal
  and (l.lanname not in ('internal', 'sql', 'plpgsql') or p.prosrc ~* '\m(dblink|http_|copy\s.*program|lo_export|pg_file_write)')
order by 1`
	conn, err := s.reads.Acquire(ctx)
	if err != nil {
		return nil, unavailable(ctx, err)
	}
	defer conn.Release()
	rows, err := conn.Query(ctx, statement, tables)
	if err != nil {
		return nil, unread(ctx, "what a rollback does not undo", err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, unread(ctx, "what a rollback does not undo", err)
	}
	return list, nil
}
