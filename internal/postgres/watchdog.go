package postgres

import (
	"context"
	"net"
	"sync"
	"time"
)

// watchdog watches over a statement until its first row: when the caller goes away or the limit is reached, the connection
// breaks off, and pgx tells the database to stop.
type watchdog struct {
	clock   *watcher
	ctx     context.Context
	conn    net.Conn
	began   time.Time
	limit   time.Duration
	timer   *time.Timer // of the limit; nil before the watch begins
	forget  func() bool // ends the watch over the caller
	over    bool        // the wait is over: the connection may serve somebody else
	expired bool
	broken  bool
}

// watcher begins the watch over the statements of a source. Most are over before it looks at them, which spares them a timer of
// their own and what a context that can end costs.
type watcher struct {
	mu    sync.Mutex // of each patience too
	fresh map[*watchdog]struct{}
	timer *time.Timer // runs while there are fresh ones; nil before the first
}

// watchDelay is how long a statement runs unwatched, at least; twice that at most.
const watchDelay = 10 * time.Millisecond

func (c *watcher) start(ctx context.Context, conn net.Conn, limit time.Duration) *watchdog {
	p := &watchdog{clock: c, ctx: ctx, conn: conn, began: time.Now(), limit: limit}
	c.mu.Lock()
	defer c.mu.Unlock()
	if limit <= 2*watchDelay {
		p.watch()
		return p
	}
	switch {
	case c.timer == nil:
		c.fresh = map[*watchdog]struct{}{}
		c.timer = time.AfterFunc(watchDelay, c.look)
	case len(c.fresh) == 0:
		c.timer.Reset(watchDelay)
	}
	c.fresh[p] = struct{}{}
	return p
}

// look begins the watch over what has run for the time of grace.
func (c *watcher) look() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for p := range c.fresh {
		if time.Since(p.began) >= watchDelay {
			delete(c.fresh, p)
			p.watch()
		}
	}
	if len(c.fresh) > 0 {
		c.timer.Reset(watchDelay)
	}
}

func (p *watchdog) watch() {
	p.timer = time.AfterFunc(p.limit-time.Since(p.began), func() { p.breakOff(true) })
	p.forget = context.AfterFunc(p.ctx, func() { p.breakOff(false) })
}

func (p *watchdog) breakOff(expired bool) {
	p.clock.mu.Lock()
	defer p.clock.mu.Unlock()
	if !p.over {
		p.expired = p.expired || expired
		p.expire()
	}
}

// expire makes all that waits for the connection fail. What fails here is a connection that is closed already.
func (p *watchdog) expire() {
	p.broken = true
	_ = p.conn.SetDeadline(time.Unix(1, 0))
}

// clearDeadline makes a connection usable again that was to break off, but had nothing more to wait for.
func (p *watchdog) clearDeadline() {
	if p.broken {
		_ = p.conn.SetDeadline(time.Time{})
	}
}

// end says that the wait is over, and whether it took too long.
func (p *watchdog) end() (expired bool) {
	p.clock.mu.Lock()
	defer p.clock.mu.Unlock()
	p.over = true
	delete(p.clock.fresh, p)
	if p.timer != nil {
		p.timer.Stop()
		p.forget()
	}
	return p.expired
}
