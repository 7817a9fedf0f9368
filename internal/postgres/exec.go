package postgres

import (
	"context"
	"errors"
	"strconv"

	"github.com/hashicorp/golang-lru/v2/simplelru"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// binaryRows asks for every column in its binary form.
var binaryRows = []int16{pgx.BinaryFormatCode}

// mostPrepared is how many statements a connection keeps prepared.
const mostPrepared = 512

// statements are those that are prepared on one connection, by their SQL.
type statements struct {
	conn  *pgconn.PgConn
	known *simplelru.LRU[string, *pgconn.StatementDescription]
	made  int
	build pgx.ExtendedQueryBuilder // of the arguments of the next one
}

const statementsKey = "statements"

func statementsOf(conn *pgx.Conn) *statements {
	of := conn.PgConn().CustomData()
	s, ok := of[statementsKey].(*statements)
	if !ok {
		s = &statements{conn: conn.PgConn()}
		s.known, _ = simplelru.NewLRU(mostPrepared, s.drop) // fails for a size under 1 only
		of[statementsKey] = s
	}
	return s
}

// drop lets the database forget a statement. What fails here is a connection that is lost, and its statements with it.
func (s *statements) drop(_ string, old *pgconn.StatementDescription) {
	if !s.conn.IsClosed() {
		_ = s.conn.Deallocate(context.Background(), old.Name)
	}
}

// of is the statement of a plan; it is prepared when it is run for the first time.
func (s *statements) of(q *Query) (*pgconn.StatementDescription, error) {
	if known, ok := s.known.Get(q.Plan.SQL); ok {
		return known, nil
	}
	s.made++
	made, err := s.conn.Prepare(context.Background(), "plan_"+strconv.Itoa(s.made), q.Plan.SQL, nil)
	if err != nil {
		return nil, err
	}
	s.known.Add(q.Plan.SQL, made)
	return made, nil
}

// told passes on how a statement ended. One that failed for more than its values is prepared anew the next time: the tables that it
// was made for may have changed.
func (s *statements) told(q *Query, err error) error {
	if err == nil {
		return nil
	}
	switch code(err)[:2] {
	case "0A", "26", "42", "XX":
		s.known.Remove(q.Plan.SQL)
	}
	return err
}

// code is what the database says of an error (PostgreSQL, appendix A); "00000" where it says nothing.
func code(err error) string {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return refused.Code
	}
	return "00000"
}

// rows are the rows of a statement that runs, one at a time.
type rows struct {
	*pgconn.ResultReader
	of *statements
	q  *Query
}

// run sends a plan's statement to the database and says whether there is a first row. Where the database has changed so that what was
// prepared no longer holds, it is prepared anew, and nobody notices.
func (q *Query) run(conn *pgx.Conn, args []any) (rows, bool, error) {
	s := statementsOf(conn)
	for again := true; ; again = false {
		statement, err := s.of(q)
		if err != nil {
			return rows{}, false, err
		}
		if err := s.build.Build(conn.TypeMap(), statement, args); err != nil {
			return rows{}, false, err
		}
		r := rows{s.conn.ExecStatement(context.Background(), statement, s.build.ParamValues, s.build.ParamFormats, binaryRows), s, q}
		if r.NextRow() {
			return r, true, nil
		}
		if err = r.close(); err == nil || !again || s.conn.TxStatus() != 'I' {
			return rows{}, false, err
		}
		if c := code(err); c != "0A000" && c != "26000" {
			return rows{}, false, err
		}
	}
}

// close ends the statement and says what went wrong, if anything did.
func (r rows) close() error {
	_, err := r.Close()
	return r.of.told(r.q, err)
}
