package postgres

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"eagerwindow/internal/core/fault"
)

// Share says for whom a statement runs. Nobody may hold so many connections that none are left for others: a role and a resource not more
// than three quarters of them, a caller half, and an eighth for statements that are slow; beside other callers half as many. What is not
// named has no such limit: the zero value is the service itself.
type Share struct {
	Window, Caller, Role, Resource string
	Slow                           bool
}

const (
	acquireLimit = 10 * time.Second // how long a request waits for a connection
	maxWaiting   = 256              // requests that wait; more are refused at once
	besideFor    = time.Second      // how long a caller counts as one beside others after it has asked
)

// boundedPool hands out the connections of one pool, in the order in which they are asked for, as far as shares allow.
type boundedPool struct {
	*pgxpool.Pool
	most    int
	mu      sync.Mutex
	held    int // connections that are given out
	by      map[holder]int
	waiting []*waiter

	last   [2]string // the caller who asked last: its window and name
	beside time.Time // until when there are several callers
}

// holder is one whose connections are counted: a caller, a role or a resource of a window.
type holder struct {
	kind         byte
	window, name string
}

type waiter struct {
	share Share
	ready chan struct{}
}

func (s Share) holders() [4]holder {
	list := [4]holder{{'c', s.Window, s.Caller}, {'r', s.Window, s.Role}, {'t', s.Window, s.Resource}}
	if s.Slow {
		list[3] = holder{'s', s.Window, s.Caller}
	}
	return list
}

// caps are how many connections each of the holders may have.
func (p *boundedPool) caps() [4]int {
	most, caller := max(1, p.most*3/4), p.most/2
	if time.Now().Before(p.beside) {
		caller /= 2
	}
	return [4]int{max(1, caller), most, most, max(1, caller/4)}
}

// note notes who asks: where that is another caller than the one before, there are several.
func (p *boundedPool) note(s Share) {
	if caller := [2]string{s.Window, s.Caller}; caller != p.last {
		if p.last != [2]string{} {
			p.beside = time.Now().Add(besideFor)
		}
		p.last = caller
	}
}

// take counts a connection, if there is one and the share allows it.
func (p *boundedPool) take(s Share) bool {
	if p.held >= p.most {
		return false
	}
	if s == (Share{}) {
		p.held++
		return true
	}
	holders, caps := s.holders(), p.caps()
	for i, h := range holders {
		if h.name != "" && p.by[h] >= caps[i] {
			return false
		}
	}
	if p.by == nil {
		p.by = map[holder]int{}
	}
	for _, h := range holders {
		if h.name != "" {
			p.by[h]++
		}
	}
	p.held++
	return true
}

// give counts a connection as free, and wakes those who can have it.
func (p *boundedPool) give(s Share) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.held--
	if s != (Share{}) {
		for _, h := range s.holders() {
			if h.name == "" {
				continue
			}
			if p.by[h]--; p.by[h] == 0 {
				delete(p.by, h)
			}
		}
	}
	for i := 0; i < len(p.waiting) && p.held < p.most; {
		if w := p.waiting[i]; p.take(w.share) {
			p.waiting = slices.Delete(p.waiting, i, i+1)
			close(w.ready)
			continue
		}
		i++
	}
}

func (p *boundedPool) acquire(ctx context.Context, s Share) (*pgxpool.Conn, error) {
	if err := p.wait(ctx, s); err != nil {
		return nil, err
	}
	conn, err := p.Acquire(ctx)
	if err != nil {
		p.give(s)
	}
	return conn, err
}

// wait waits until a connection is counted for the share.
func (p *boundedPool) wait(ctx context.Context, s Share) error {
	p.mu.Lock()
	if s != (Share{}) {
		p.note(s)
	}
	if p.take(s) {
		p.mu.Unlock()
		return nil
	}
	if len(p.waiting) >= maxWaiting {
		p.mu.Unlock()
		return busy()
	}
	w := &waiter{share: s, ready: make(chan struct{})}
	p.waiting = append(p.waiting, w)
	p.mu.Unlock()
	timer := time.NewTimer(acquireLimit)
	defer timer.Stop()
	err := busy()
	select {
	case <-w.ready:
		return nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-timer.C:
	}
	p.mu.Lock()
	i := slices.Index(p.waiting, w)
	if i >= 0 {
		p.waiting = slices.Delete(p.waiting, i, i+1)
	}
	p.mu.Unlock()
	if i < 0 { // it was given one at this moment
		p.give(s)
	}
	return err
}

// Use is how the connections of a pool are used: held, at most, and requests that wait for one.
type Use struct{ Held, Most, Waiting int }

// Uses are those of a source.
type Uses struct{ Reading, Writing Use }

// Uses tells how the connections are used at the moment.
func (s *Source) Uses() Uses { return Uses{s.reads.use(), s.writes.use()} }

func (p *boundedPool) use() Use {
	p.mu.Lock()
	defer p.mu.Unlock()
	return Use{p.held, p.most, len(p.waiting)}
}

func busy() error {
	return fault.New(fault.Unavailable, "database.busy",
		"all connections to the database that this caller, its role or the resource may have are in use; try again in a moment")
}

func (p *boundedPool) release(conn *pgxpool.Conn, s Share) {
	conn.Release()
	p.give(s)
}
