package data

import (
	"context"
	"errors"
	"sync"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/postgres"
)

// Rehearsal is a transaction in which requests run for real, one after the other, each seeing what those before have written. It is always
// rolled back. A request that fails leaves it as it was before.
type Rehearsal struct {
	pool  *postgres.Source
	tx    *postgres.Tx
	turn  chan struct{} // holds one token while no request runs
	stop  chan struct{}
	once  sync.Once
	ended chan struct{}
	count int
}

// maxRehearsed is how many requests one rehearsal may have.
const maxRehearsed = 100_000

var errRehearsed = errors.New("a rehearsal is rolled back")

// Rehearse begins a rehearsal for a caller; after the limit it ends by itself.
func (a *API) Rehearse(ctx context.Context, c access.Caller, limit time.Duration) (*Rehearsal, error) {
	r := &Rehearsal{pool: a.pool, turn: make(chan struct{}, 1), stop: make(chan struct{}), ended: make(chan struct{})}
	begun, failed := make(chan *postgres.Tx, 1), make(chan error, 1)
	// It lives longer than the request that begins it, and is rolled back whatever becomes of that.
	go func() {
		defer close(r.ended)
		failed <- a.client(c, "", "").Transact(context.WithoutCancel(ctx), func(tx *postgres.Tx) error {
			if err := tx.WaitLittle(context.WithoutCancel(ctx)); err != nil {
				return err
			}
			begun <- tx
			timer := time.NewTimer(limit)
			defer timer.Stop()
			select {
			case <-r.stop:
			case <-timer.C:
				r.once.Do(func() { close(r.stop) })
			}
			<-r.turn // a request that runs comes to its end first
			return errRehearsed
		})
	}()
	select {
	case r.tx = <-begun:
		r.turn <- struct{}{}
		return r, nil
	case err := <-failed:
		return nil, err
	}
}

// Close rolls the rehearsal back, and returns when that is done.
func (r *Rehearsal) Close() {
	r.once.Do(func() { close(r.stop) })
	<-r.ended
}

// Ended reports whether nothing can be rehearsed any more.
func (r *Rehearsal) Ended() bool {
	select {
	case <-r.stop:
		return true
	default:
		return false
	}
}

func rehearsalOver() error {
	return fault.New(fault.NotFound, "rehearsal.ended", "the rehearsal has ended and was rolled back; begin another one").On("Rehearsal")
}

// Do runs a request in the rehearsal; requests at the same time take turns.
func (r *Rehearsal) Do(ctx context.Context, api *API, do func(*API) error) error {
	if api.pool != r.pool {
		return fault.New(fault.Invalid, "rehearsal.source", "the rehearsal is of another database").On("Rehearsal")
	}
	select {
	case <-r.turn:
	case <-r.stop:
		return rehearsalOver()
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { r.turn <- struct{}{} }()
	if r.Ended() {
		return rehearsalOver()
	}
	if r.count++; r.count > maxRehearsed {
		return fault.New(fault.Conflict, "rehearsal.long", "a rehearsal has at most %d requests; begin another one", maxRehearsed)
	}
	within := api.within(r.tx)
	within.rehearsal = true
	err := do(within)
	if r.tx.Broken() { // a request broke off and took the connection with it
		r.once.Do(func() { close(r.stop) })
	}
	return err
}

// Ran counts the statements of requests, from any beginning: what two calls differ by has run between them. No request runs meanwhile.
func (r *Rehearsal) Ran() int { return r.tx.Ran() }

// Rehearses reports whether requests run in a rehearsal.
func (a *API) Rehearses() bool { return a.rehearsal }

// Attempt runs one request of a rehearsal: an error undoes what it has done, and no more. What the database checks at the end of a
// transaction is checked at the end of the request.
func (a *API) Attempt(ctx context.Context, do func(*API) error) error {
	return a.tx.Transact(ctx, func(tx *postgres.Tx) error {
		if err := do(a.within(tx)); err != nil {
			return err
		}
		return tx.CheckDeferred(ctx)
	})
}
