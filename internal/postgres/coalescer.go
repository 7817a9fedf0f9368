package postgres

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// coalescer lets reads of one row by its key share round trips with others of the same plan. While few round trips are under way a read
// starts its own at once. Beyond that, reads wait for one to end and then travel as one batch: one message, one connection. The busier
// the service, the less each read costs it and the database. Such reads can't delay each other much, as each reads one row of one table.
type coalescer struct {
	mu         sync.Mutex
	roundTrips int // under way
	waiting    []*pendingRead
}

const (
	maxRoundTrips = 4  // of one plan at a time
	maxBatch      = 64 // reads in one round trip
)

// pendingRead is one read and its answer.
type pendingRead struct {
	args  []any
	since time.Time
	turn  chan bool // receives true: lead the next batch; false: the answer is here
	row   [][]byte  // nil: there is none
	done  bool      // else it is to run by itself
	err   error
}

// read answers one of the reads of a plan, in a round trip of its own or in a batch with others. A caller that leaves while it waits is
// no longer waited for.
func (g *coalescer) read(ctx context.Context, args []any, roundTrip func([]*pendingRead)) *pendingRead {
	a := &pendingRead{args: args, since: time.Now()}
	g.mu.Lock()
	if g.roundTrips < maxRoundTrips {
		g.roundTrips++
	} else {
		a.turn = make(chan bool, 1)
		g.waiting = append(g.waiting, a)
		g.mu.Unlock()
		if leads := g.await(ctx, a); !leads {
			return a
		}
		g.mu.Lock()
	}
	n := min(len(g.waiting), maxBatch-1)
	batch := append([]*pendingRead{a}, g.waiting[:n]...)
	g.waiting = g.waiting[n:]
	g.mu.Unlock()
	defer func() {
		for _, other := range batch[1:] {
			other.turn <- false
		}
		g.passTurn()
	}()
	roundTrip(batch)
	return a
}

// await waits for the turn of a read, and reports whether it is to lead the next batch.
func (g *coalescer) await(ctx context.Context, a *pendingRead) (leads bool) {
	select {
	case leads = <-a.turn:
		return leads
	case <-ctx.Done():
	}
	g.mu.Lock()
	i := slices.Index(g.waiting, a)
	if i >= 0 {
		g.waiting = slices.Delete(g.waiting, i, i+1)
	}
	g.mu.Unlock()
	if i < 0 { // a turn is on its way to it: to answer, which is its leader's to write, or to lead, which goes to the next
		if leads := <-a.turn; !leads {
			return false
		}
		g.passTurn()
	}
	a.err = fmt.Errorf("the caller has gone away: %w", ctx.Err())
	return false
}

// passTurn lets the first waiting read lead the next batch.
func (g *coalescer) passTurn() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.waiting) == 0 {
		g.waiting = nil
		g.roundTrips--
		return
	}
	g.waiting[0].turn <- true
	g.waiting = g.waiting[1:]
}

// openCoalesced runs a read of one row by its key. A lone read, and any that the batch could not answer, runs by itself and reports its
// own error.
func (q *Statement) openCoalesced(ctx context.Context, s Client, args []any, limit time.Duration) (c *Cursor, err error) {
	a := q.coalescer.read(ctx, args, func(batch []*pendingRead) {
		alone := len(batch) == 1
		for len(batch) > 0 && time.Since(batch[0].since) >= limit { // those who have waited too long; the oldest stand first
			batch[0].err = ended(context.Background(), true, limit, nil)
			batch = batch[1:]
		}
		switch {
		case len(batch) == 0:
		case alone:
			c, err = q.open(ctx, s, args, limit)
		default:
			q.roundTrip(ctx, s, batch, limit)
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

// roundTrip asks the database for all that go together, for as long as the first of them may wait. Callers that go away do not end it,
// as it is not theirs alone.
func (q *Statement) roundTrip(ctx context.Context, s Client, batch []*pendingRead, limit time.Duration) {
	conn, err := s.acquire(ctx)
	if err != nil {
		for _, a := range batch {
			if ctx.Err() == nil { // else it is only that the first has gone away
				a.err = unavailable(ctx, err)
			}
		}
		return
	}
	defer s.release(conn)
	wait := s.watch(context.WithoutCancel(ctx), conn.Conn(), limit-time.Since(batch[0].since))
	err = q.pipeline(conn.Conn(), batch)
	wait.end()
	wait.clearDeadline()
	for _, a := range batch {
		if !a.done && time.Since(a.since) >= limit {
			a.err = ended(context.Background(), true, limit, err)
		}
	}
}

// pipeline sends the reads as one pipeline and takes up the answers. The first that fails ends it for those after it.
func (q *Statement) pipeline(conn *pgx.Conn, batch []*pendingRead) error {
	known := statementsOf(conn)
	statement, err := known.prepared(q)
	if err != nil {
		return err
	}
	pipe := conn.PgConn().StartPipeline(context.Background())
	for _, a := range batch {
		if err := known.next.take(a.args, statement.ParamOIDs, conn.TypeMap()); err != nil {
			break // and goes alone, as do those after it
		}
		pipe.SendQueryStatement(statement, known.next.values, known.next.formats, binaryRows)
	}
	if err := pipe.Sync(); err != nil {
		return err
	}
	for _, a := range batch {
		if err = a.take(pipe); err != nil {
			break
		}
	}
	return known.finish(q, cmp.Or(err, pipe.Close()))
}

// take takes up the answer of one of the reads.
func (a *pendingRead) take(pipe *pgconn.Pipeline) error {
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
