package postgres

import (
	"cmp"
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// gather lets short reads of one plan share round trips. Those that come while enough trips are under way wait for one to end, and
// go together: in one message, on one connection. So the busier the service, the less each of them costs it and the database; one
// that comes alone goes at once. They can't hold each other up, as each reads one row by its key from the same table.
type gather struct {
	mu      sync.Mutex
	trips   int // under way
	waiting []*ask
}

const (
	mostTrips    = 4  // of one plan at a time
	mostTogether = 64 // on one trip
)

// ask is one read that is to be gathered, and its answer.
type ask struct {
	args  []any
	since time.Time
	turn  chan bool // true: lead the next trip; false: the answer is here
	row   [][]byte  // nil: there is none
	done  bool      // else it is to go alone
	err   error
}

// read answers one of the reads of a plan, on a trip of its own or with others.
func (g *gather) read(args []any, trip func([]*ask)) *ask {
	a := &ask{args: args, since: time.Now()}
	g.mu.Lock()
	if g.trips < mostTrips {
		g.trips++
	} else {
		a.turn = make(chan bool, 1)
		g.waiting = append(g.waiting, a)
		g.mu.Unlock()
		if leads := <-a.turn; !leads {
			return a
		}
		g.mu.Lock()
	}
	n := min(len(g.waiting), mostTogether-1)
	party := append([]*ask{a}, g.waiting[:n]...)
	g.waiting = g.waiting[n:]
	g.mu.Unlock()
	defer func() {
		for _, other := range party[1:] {
			other.turn <- false
		}
		g.hand()
	}()
	trip(party)
	return a
}

// hand gives the place of a trip that is over to the first that waits.
func (g *gather) hand() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.waiting) == 0 {
		g.waiting = nil
		g.trips--
		return
	}
	g.waiting[0].turn <- true
	g.waiting = g.waiting[1:]
}

// openShort runs a short plan together with others. A read that has no company goes alone, as does what a trip could not answer:
// there it is told what is wrong.
func (q *Query) openShort(ctx context.Context, s *Source, args []any, limit time.Duration) (c *Cursor, err error) {
	a := q.short.read(args, func(party []*ask) {
		alone := len(party) == 1
		for len(party) > 0 && time.Since(party[0].since) >= limit { // those who have waited too long; the oldest stand first
			party[0].err = ended(context.Background(), true, limit, nil)
			party = party[1:]
		}
		switch {
		case len(party) == 0:
		case alone:
			c, err = q.open(ctx, s, args, limit)
		default:
			q.trip(ctx, s, party, limit)
		}
	})
	switch {
	case c != nil || err != nil:
		return c, err
	case a.err != nil:
		return nil, a.err
	case !a.done:
		return q.open(ctx, s, args, limit)
	}
	return &Cursor{ctx: ctx, q: q, values: a.row, first: true, more: a.row != nil}, nil
}

// trip asks the database for all that go together, for as long as the first of them may wait. Callers that go away do not end it,
// as it is not theirs alone.
func (q *Query) trip(ctx context.Context, s *Source, party []*ask, limit time.Duration) {
	conn, err := s.acquire(ctx)
	if err != nil {
		for _, a := range party {
			if ctx.Err() == nil { // else it is only that the first has gone away
				a.err = unavailable(ctx, err)
			}
		}
		return
	}
	defer s.release(conn)
	wait := s.watch(context.WithoutCancel(ctx), conn.Conn(), limit-time.Since(party[0].since))
	err = q.together(conn.Conn(), party)
	wait.end()
	wait.mend()
	for _, a := range party {
		if !a.done && time.Since(a.since) >= limit {
			a.err = ended(context.Background(), true, limit, err)
		}
	}
}

// together sends the reads as one pipeline and takes up the answers. The first that fails ends it for those after it.
func (q *Query) together(conn *pgx.Conn, party []*ask) error {
	known := statementsOf(conn)
	statement, err := known.of(q)
	if err != nil {
		return err
	}
	pipe := conn.PgConn().StartPipeline(context.Background())
	for _, a := range party {
		if err := known.next.take(a.args, statement.ParamOIDs, conn.TypeMap()); err != nil {
			break // and goes alone, as do those after it
		}
		pipe.SendQueryStatement(statement, known.next.values, known.next.formats, binaryRows)
	}
	if err := pipe.Sync(); err != nil {
		return err
	}
	for _, a := range party {
		if err = a.take(pipe); err != nil {
			break
		}
	}
	return known.told(q, cmp.Or(err, pipe.Close()))
}

// take takes up the answer of one of the reads.
func (a *ask) take(pipe *pgconn.Pipeline) error {
	results, err := pipe.GetResults()
	if err != nil {
		return err
	}
	reader, ok := results.(*pgconn.ResultReader)
	if !ok {
		return nil // it was not sent
	}
	var row [][]byte
	if reader.NextRow() {
		row = copied(reader.Values())
	}
	if _, err := reader.Close(); err != nil {
		return err
	}
	a.row, a.done = row, true
	return nil
}

// copied is a row that stays as it is when the connection reads on.
func copied(values [][]byte) [][]byte {
	size := 0
	for _, v := range values {
		size += len(v)
	}
	room, out := make([]byte, 0, size), make([][]byte, len(values))
	for i, v := range values {
		if v != nil {
			room = append(room, v...)
			out[i] = room[len(room)-len(v) : len(room) : len(room)]
		}
	}
	return out
}
