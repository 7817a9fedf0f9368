package postgres

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"eagerwindow/internal/core/catalog"
)

//go:embed catalog/*.sql
var catalogSQL embed.FS

// duplicatesLimit is how long it may take to look for rows with the same key.
const duplicatesLimit = 3 * time.Second

// HasDuplicates reports whether two rows of a table or view have the same values in some columns. A table that is too large to be looked
// through is not.
func HasDuplicates(ctx context.Context, from *Source, t *catalog.Table, columns []string) (found bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, duplicatesLimit)
	defer cancel()
	quoted := make([]string, len(columns))
	for i, c := range columns {
		quoted[i] = catalog.Quote(c)
	}
	err = from.reads.QueryRow(ctx, "select exists (select from "+t.QualifiedName()+" group by "+strings.Join(quoted, ", ")+
		" having count(*) > 1)").Scan(&found)
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return false, nil
	}
	return found, err
}

// Introspect reads the catalog of a database: five statements in one round trip, however many tables there are. System
// schemas, temporary tables and the parts of partitioned tables are left out. Each of the queries is prepared besides, which
// tells its columns or what is wrong with it.
func Introspect(ctx context.Context, from *Source, queries ...*catalog.NamedQuery) (*catalog.Catalog, error) {
	in := &introspection{
		cat:    &catalog.Catalog{},
		tables: map[uint32]*catalog.Table{},
		types:  map[uint32]*catalog.Type{},
	}
	batch := &pgx.Batch{}
	for _, step := range []struct {
		file string
		read func(pgx.Rows) error
	}{
		{"tables", in.table}, {"types", in.typ}, {"columns", in.column}, {"constraints", in.constraint}, {"indexes", in.index},
	} {
		sql, err := catalogSQL.ReadFile("catalog/" + step.file + ".sql")
		if err != nil {
			return nil, err
		}
		batch.Queue(string(sql)).Query(func(rows pgx.Rows) error {
			for rows.Next() {
				if err := step.read(rows); err != nil {
					return fmt.Errorf("read %s: %w", step.file, err)
				}
			}
			return rows.Err()
		})
	}
	batch.Queue("select current_database(), current_setting('server_version_num')::int").QueryRow(func(row pgx.Row) error {
		return row.Scan(&in.cat.Database, &in.cat.Version)
	})
	if err := from.writes.SendBatch(ctx, batch).Close(); err != nil {
		return nil, unread(ctx, "the catalog", err)
	}
	for _, q := range queries {
		if err := in.query(ctx, from, q); err != nil {
			return nil, unread(ctx, "query "+q.Name, err)
		}
	}
	return in.cat, nil
}

// query lets the database read a statement, without running it.
func (in *introspection) query(ctx context.Context, from *Source, q *catalog.NamedQuery) error {
	conn, err := from.reads.Acquire(ctx)
	if err != nil {
		return unavailable(ctx, err)
	}
	defer conn.Release()
	in.cat.Queries = append(in.cat.Queries, q)
	known, err := conn.Conn().PgConn().Prepare(ctx, "", q.SQL, nil)
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		q.Mistake = &catalog.Mistake{Message: refused.Message, Position: int(refused.Position)}
		return nil
	}
	if err != nil {
		return err
	}
	for _, f := range known.Fields {
		t := in.resolve(f.DataTypeOID, f.TypeModifier, "", 0)
		q.Columns = append(q.Columns, &catalog.Column{Name: f.Name, Type: t})
	}
	return nil
}

type introspection struct {
	cat    *catalog.Catalog
	tables map[uint32]*catalog.Table
	types  map[uint32]*catalog.Type
	parts  map[uint32]typeParts
}

func (in *introspection) table(rows pgx.Rows) error {
	t := &catalog.Table{}
	if err := rows.Scan(&t.OID, &t.Schema, &t.Name, &t.Kind, &t.Partitioned, &t.Comment, &t.RowEstimate, &t.Insertable, &t.Updatable,
		&t.Deletable); err != nil {
		return err
	}
	in.cat.Tables = append(in.cat.Tables, t)
	in.tables[t.OID] = t
	return nil
}

// typ reads types so that what one is made of comes before it: the statement orders them by depth only as far as base
// types, enums and composites go, so elements are linked when a column asks for them.
func (in *introspection) typ(rows pgx.Rows) error {
	t := &catalog.Type{}
	var element uint32
	var mod int32
	var checks []catalog.Check
	if err := rows.Scan(&t.OID, &t.Kind, &t.Schema, &t.Name, &t.SQL, &element, &mod, &t.NotNull, &t.Values, &checks, &t.Ordered); err != nil {
		return err
	}
	t.Checks = checks
	in.types[t.OID] = t
	if in.parts == nil {
		in.parts = map[uint32]typeParts{}
	}
	in.parts[t.OID] = typeParts{element: element, mod: mod}
	return nil
}

type typeParts struct {
	element uint32
	mod     int32
}

// column reads the columns of tables and the fields of composite types, which stand first.
func (in *introspection) column(rows pgx.Rows) error {
	var owner, typeOID uint32
	var composite bool
	var mod int32
	var sqlType string
	c := &catalog.Column{}
	if err := rows.Scan(&owner, &composite, &c.Name, &typeOID, &mod, &sqlType, &c.NotNull, &c.Default, &c.Generated, &c.Identity,
		&c.Comment, &c.Expression, &c.ReadOnly); err != nil {
		return err
	}
	c.Type = in.resolve(typeOID, mod, sqlType, 0)
	if composite {
		if t := in.types[owner]; t != nil {
			t.Fields = append(t.Fields, c)
		}
		return nil
	}
	if t := in.tables[owner]; t != nil {
		t.Columns = append(t.Columns, c)
	}
	return nil
}

// resolve is the type with its modifier; sql is "" where it should be the type's own.
func (in *introspection) resolve(oid uint32, mod int32, sql string, depth int) *catalog.Type {
	known := in.types[oid]
	if known == nil || depth > 8 {
		return &catalog.Type{OID: oid, Kind: catalog.Scalar, Name: "unknown", SQL: sql}
	}
	t := *known
	if sql != "" {
		t.SQL = sql
	}
	part := in.parts[oid]
	switch t.Kind {
	case catalog.Array:
		t.Element = in.resolve(part.element, mod, "", depth+1)
	case catalog.Range, catalog.Multirange:
		t.Element = in.resolve(part.element, -1, "", depth+1)
	case catalog.Domain:
		t.Element = in.resolve(part.element, part.mod, "", depth+1)
		t.Length, t.Precision, t.Scale = t.Element.Length, t.Element.Precision, t.Element.Scale
	}
	if mod >= 4 {
		switch t.Name {
		case "varchar", "bpchar":
			t.Length = int(mod - 4)
		case "numeric":
			t.Precision, t.Scale = int((mod-4)>>16)&0xffff, int(mod-4)&0x7ff
		}
	}
	return &t
}

func (in *introspection) constraint(rows pgx.Rows) error {
	var owner uint32
	var kind, name, toSchema, toTable, expression string
	var columns, toColumns []string
	if err := rows.Scan(&owner, &kind, &name, &columns, &toSchema, &toTable, &toColumns, &expression); err != nil {
		return err
	}
	t := in.tables[owner]
	if t == nil {
		return nil
	}
	switch kind {
	case "p":
		t.Primary = columns
	case "f":
		t.ForeignKeys = append(t.ForeignKeys, catalog.ForeignKey{Name: name, Columns: columns, ToSchema: toSchema, ToTable: toTable,
			ToColumns: toColumns})
	case "c":
		t.Checks = append(t.Checks, catalog.Check{Name: name, Expression: expression, Columns: columns})
	}
	return nil
}

func (in *introspection) index(rows pgx.Rows) error {
	var owner uint32
	var primary, plain bool
	ix := catalog.Index{}
	if err := rows.Scan(&owner, &ix.Name, &ix.Method, &ix.Columns, &ix.Unique, &primary, &ix.Partial, &plain, &ix.Definition,
		&ix.Expression); err != nil {
		return err
	}
	t := in.tables[owner]
	if t == nil {
		return nil
	}
	t.Indexes = append(t.Indexes, ix)
	if ix.Unique && plain && !ix.Partial && !primary {
		t.Uniques = append(t.Uniques, catalog.Unique{Name: ix.Name, Columns: ix.Columns})
	}
	return nil
}
