package postgres

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// level is a transaction of a connection, or what follows a savepoint in it. It begins along with its first statement, which spares a
// trip to the database; one without statements costs nothing. It may end along with its last one.
type level struct {
	begin, end, undo string
	begun            bool
	endSent, ended   bool  // along with a statement
	endErr           error // why it did not end well
}

const undoTimeout = 5 * time.Second

// newLevel is the transaction itself (0), or one of the savepoints within each other.
func newLevel(depth int) *level {
	if depth == 0 {
		return &level{begin: "begin", end: "commit", undo: "rollback"}
	}
	name := "level_" + strconv.Itoa(depth)
	return &level{begin: "savepoint " + name, end: "release savepoint " + name,
		undo: "rollback to savepoint " + name + "; release savepoint " + name}
}

// transact runs do on a level; an error of do undoes it whole, and is returned as it is.
func transact(ctx context.Context, conn *pgx.Conn, depth int, do func(*level) error) error {
	s, l := statementsOf(conn), newLevel(depth)
	s.waiting = append(s.waiting, l)
	settled := false
	defer func() {
		if !settled { // after a panic too
			s.undo(ctx, l)
		}
	}()
	if err := do(l); err != nil {
		if l.endSent && s.conn.IsClosed() {
			return unknown(err)
		}
		return err
	}
	if err := s.end(ctx, l); err != nil {
		return unsettled(translate(ctx, err), err)
	}
	settled = true
	return nil
}

// begin begins what waits for a first statement, for those that do not run by send.
func (s *statements) begin(ctx context.Context) error {
	if len(s.waiting) == 0 {
		return nil
	}
	var sql []string
	for _, l := range s.waiting {
		sql = append(sql, l.begin)
	}
	if _, err := s.conn.Exec(ctx, strings.Join(sql, "; ")).ReadAll(); err != nil {
		return err
	}
	for _, l := range s.waiting {
		l.begun = true
	}
	s.waiting = nil
	return nil
}

// end ends a level, unless that was sent along with its last statement.
func (s *statements) end(ctx context.Context, l *level) error {
	switch {
	case l.ended, l.endErr != nil:
		return l.endErr
	case !l.begun:
		s.forget(l)
		return nil
	}
	s.ending = nil
	results, err := s.conn.Exec(ctx, l.end).ReadAll()
	if err == nil {
		err = committed(l, results[0].CommandTag)
	}
	return err
}

// committed tells a commit from what the database does in its place where a statement has failed before.
func committed(l *level, done pgconn.CommandTag) error {
	if l.end == "commit" && done.String() == "ROLLBACK" {
		return pgx.ErrTxCommitRollback
	}
	return nil
}

// forget leaves a level that has not begun: the innermost, which waits unless its beginning has failed.
func (s *statements) forget(l *level) {
	s.ending = nil
	if last := len(s.waiting) - 1; last >= 0 && s.waiting[last] == l {
		s.waiting = s.waiting[:last]
	}
}

// undo undoes a level. Where that fails, the connection is not used again, which undoes as much.
func (s *statements) undo(ctx context.Context, l *level) {
	switch {
	case !l.begun:
		s.forget(l)
		return
	case l.ended, s.conn.IsClosed(), s.conn.TxStatus() == 'I': // an end that failed has undone it
		return
	}
	s.ending = nil
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), undoTimeout)
	defer cancel()
	_, _ = s.conn.Exec(ctx, l.undo).ReadAll()
}

// send sends a statement, and with it the beginnings that wait for it and the end that it is the last statement of.
func (s *statements) send(statement *pgconn.StatementDescription) (rows, error) {
	if len(s.waiting) == 0 && s.ending == nil {
		return rows{ResultReader: s.conn.ExecStatement(context.Background(), statement, s.next.values, s.next.formats, binaryRows)}, nil
	}
	r := rows{pipeline: s.conn.StartPipeline(context.Background()), ending: s.ending}
	for _, l := range s.waiting {
		r.pipeline.SendQueryParams(l.begin, nil, nil, nil, nil)
	}
	r.pipeline.SendQueryStatement(statement, s.next.values, s.next.formats, binaryRows)
	if r.ending != nil {
		r.pipeline.SendQueryParams(r.ending.end, nil, nil, nil, nil)
		r.ending.endSent = true
	}
	r.begun = s.waiting
	s.waiting, s.ending = nil, nil
	err := r.pipeline.Sync()
	for _, l := range r.begun {
		if err == nil {
			_, err = nextResult(r.pipeline)
			l.begun = err == nil
		}
	}
	if err == nil {
		r.ResultReader, err = nextResult(r.pipeline)
	}
	if err != nil {
		_ = r.pipeline.Close() // says the same
	}
	return r, err
}

// startOver undoes the levels that have begun along with a statement that failed, and lets them wait for it once more. It reports whether
// that can be done: nothing else has run on them.
func (s *statements) startOver(ctx context.Context, failed rows) bool {
	if len(failed.begun) == 0 || !failed.begun[0].begun {
		return false
	}
	if _, err := s.conn.Exec(ctx, failed.begun[0].undo).ReadAll(); err != nil {
		return false
	}
	for _, l := range failed.begun {
		l.begun = false
	}
	if s.waiting = failed.begun; failed.ending != nil {
		s.ending, failed.ending.endSent = failed.ending, false
	}
	return true
}

// nextResult is what the next of the statements of a pipeline answers.
func nextResult(p *pgconn.Pipeline) (*pgconn.ResultReader, error) {
	result, err := p.GetResults()
	r, ok := result.(*pgconn.ResultReader)
	if err == nil && !ok {
		err = errors.New("the database has not answered every statement")
	}
	return r, err
}
