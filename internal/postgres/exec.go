package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/sized"
)

// binaryRows asks for every column in its binary form.
var binaryRows = []int16{pgx.BinaryFormatCode}

// maxPrepared is how many statements a connection keeps prepared, and how many bytes of SQL: the database holds some hundred times as much
// memory for their plans.
const (
	maxPrepared    = 512
	maxPreparedSQL = 128 << 10
)

// statements are those that are prepared on one connection, by their SQL.
type statements struct {
	conn  *pgconn.PgConn
	known *sized.Cache[string, *pgconn.StatementDescription]
	made  int
	ran   int
	next  arguments // of the one that is run next
	done  int64     // how many rows the last one that has ended has written, or read

	waiting []*level // that begin along with the next statement, the outermost first
	ending  *level   // that ends along with the next statement
}

const statementsKey = "statements"

func statementsOf(conn *pgx.Conn) *statements {
	of := conn.PgConn().CustomData()
	s, ok := of[statementsKey].(*statements)
	if !ok {
		s = &statements{conn: conn.PgConn()}
		s.known = sized.New(maxPrepared, maxPreparedSQL, s.drop)
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

// prepared is the statement of a plan; it is prepared when it is run for the first time.
func (s *statements) prepared(q *Statement) (*pgconn.StatementDescription, error) {
	if known, ok := s.known.Get(q.Plan.SQL); ok {
		return known, nil
	}
	s.made++
	made, err := s.conn.Prepare(context.Background(), "plan_"+strconv.Itoa(s.made), q.Plan.SQL, nil)
	if err != nil {
		return nil, err
	}
	if err := q.checkTypes(made.Fields); err != nil {
		_ = s.conn.Deallocate(context.Background(), made.Name)
		return nil, err
	}
	s.known.Add(q.Plan.SQL, made, len(q.Plan.SQL))
	return made, nil
}

// checkTypes compares the types of a statement's columns with those that the release was made for. Values of others would be misread.
func (q *Statement) checkTypes(columns []pgconn.FieldDescription) error {
	for at, want := range q.types {
		if want != 0 && at < len(columns) && encode.Alike(columns[at].DataTypeOID) != want {
			return changed(fmt.Sprintf("column %d of the statement has type %d in place of %d: %s", at+1, columns[at].DataTypeOID, want, q.Plan.SQL))
		}
	}
	return nil
}

// changed is the refusal of a statement that the database's tables no longer have what it needs for.
func changed(words string) error {
	return &fault.Refusal{Fault: fault.New(fault.Unavailable, "database.changed", "the tables behind this have changed since it was "+
		"published; whoever runs this API has to save the draft anew and publish it"), Words: words}
}

// arguments are those of a statement as they travel: nil for null, and the format of each.
type arguments struct {
	values  [][]byte
	formats []int16
	buf     []byte
}

// maxBuf is how much is kept from one statement to the next.
const maxBuf = 4 << 10

// take writes the arguments of one statement.
func (a *arguments) take(args []any, oids []uint32, types *pgtype.Map) error {
	if len(args) != len(oids) {
		return fmt.Errorf("the statement takes %d arguments, not %d", len(oids), len(args))
	}
	a.values, a.formats, a.buf = a.values[:0], a.formats[:0], a.buf[:0]
	if a.buf == nil || cap(a.buf) > maxBuf {
		a.buf = make([]byte, 0, 256) // never nil: an empty text is no null
	}
	for i, arg := range args {
		value, format, err := a.encoded(arg, oids[i], types)
		if err != nil {
			return fmt.Errorf("argument %d: %w", i+1, err)
		}
		a.values, a.formats = append(a.values, value), append(a.formats, format)
	}
	return nil
}

// encoded is one argument. Texts and whole numbers, which most are, travel as they are written; all else as pgx prefers for the type, or
// as it can.
func (a *arguments) encoded(arg any, oid uint32, types *pgtype.Map) (value []byte, format int16, err error) {
	begin := len(a.buf)
	switch v := arg.(type) {
	case int64:
		a.buf = strconv.AppendInt(a.buf, v, 10)
		return a.buf[begin:], pgx.TextFormatCode, nil
	case string:
		a.buf = append(a.buf, v...)
		return a.buf[begin:], pgx.TextFormatCode, nil
	case *string:
		if v == nil {
			return nil, pgx.TextFormatCode, nil
		}
		if moment, ok := momentOf(*v, oid); ok {
			a.buf = binary.BigEndian.AppendUint64(a.buf, moment)
			return a.buf[begin:], pgx.BinaryFormatCode, nil
		}
		a.buf = append(a.buf, *v...)
		return a.buf[begin:], pgx.TextFormatCode, nil
	case []*string:
		if oid == pgtype.TextArrayOID {
			a.buf = appendTexts(a.buf, v)
			return a.buf[begin:], pgx.BinaryFormatCode, nil
		}
	}
	format = types.FormatCodeForOID(oid)
	written, err := types.Encode(oid, format, arg, a.buf)
	if err != nil {
		other := pgx.BinaryFormatCode - format
		if again, refused := types.Encode(oid, other, arg, a.buf); refused == nil {
			written, format, err = again, other, nil
		}
	}
	if err != nil || written == nil {
		return nil, format, err
	}
	a.buf = written
	return a.buf[begin:], format, nil
}

// appendTexts writes an array of texts, which all input of many rows is, as array_recv reads it.
func appendTexts(buf []byte, texts []*string) []byte {
	const dimensions, hasNulls, first = 1, 1, 1
	for _, n := range []uint32{dimensions, hasNulls, pgtype.TextOID, uint32(len(texts)), first} {
		buf = binary.BigEndian.AppendUint32(buf, n)
	}
	for _, text := range texts {
		if text == nil {
			buf = binary.BigEndian.AppendUint32(buf, math.MaxUint32) // -1
			continue
		}
		buf = append(binary.BigEndian.AppendUint32(buf, uint32(len(*text))), *text...)
	}
	return buf
}

// epoch is when PostgreSQL's time begins, in microseconds of Unix time.
var epoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()

// momentOf is a timestamp in the database's own form, for its reader of texts is slow. Left to that are digits past the microseconds, which
// it rounds.
func momentOf(text string, oid uint32) (uint64, bool) {
	if oid != pgtype.TimestamptzOID || len(text) > len("2026-07-01T12:30:00.000000Z") {
		return 0, false
	}
	t, err := time.Parse(time.RFC3339, text)
	return uint64(t.UnixMicro() - epoch), err == nil
}

// finish passes on how a statement ended. One that failed for more than its values is prepared anew the next time: the tables that it
// was made for may have changed.
func (s *statements) finish(q *Statement, err error) error {
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
	of       *statements
	q        *Statement
	pipeline *pgconn.Pipeline // of one that begins or ends a level
	begun    []*level
	ending   *level
}

// run sends a plan's statement to the database and reports whether there is a first row. Where the database has changed so that what was
// prepared no longer holds, it is prepared anew, and nobody notices.
func (q *Statement) run(conn *pgx.Conn, args []any) (rows, bool, error) {
	s := statementsOf(conn)
	for again := true; ; again = false {
		statement, err := s.prepared(q)
		if err != nil {
			return rows{}, false, err
		}
		if err := s.next.take(args, statement.ParamOIDs, conn.TypeMap()); err != nil {
			return rows{}, false, err
		}
		s.ran++
		r, err := s.send(statement)
		r.of, r.q = s, q
		if err == nil {
			if r.NextRow() {
				return r, true, nil
			}
			err = r.close()
		} else {
			err = s.finish(q, err)
		}
		if err == nil || !again || !outdated(err) || s.conn.TxStatus() != 'I' && !s.startOver(context.Background(), r) {
			return rows{}, false, err
		}
	}
}

// outdated reports whether a statement failed because the database has changed since it was prepared.
func outdated(err error) bool {
	c := code(err)
	return c == "0A000" || c == "26000"
}

// close ends the statement and says what went wrong with it, if anything did. How the level ended that it was the last statement of is
// noted there.
func (r rows) close() error {
	tag, err := r.Close()
	r.of.done = tag.RowsAffected()
	if r.pipeline == nil {
		return r.of.finish(r.q, err)
	}
	if err == nil && r.ending != nil {
		var end *pgconn.ResultReader
		if end, r.ending.endErr = nextResult(r.pipeline); end != nil {
			done, _ := end.Close()
			r.ending.endErr = committed(r.ending, done)
			r.ending.ended = r.ending.endErr == nil
		}
	}
	if closed := r.pipeline.Close(); err == nil && (r.ending == nil || r.ending.endErr == nil) {
		err = closed
	}
	return r.of.finish(r.q, err)
}
