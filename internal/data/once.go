package data

import (
	"bytes"
	"cmp"
	"context"
	"errors"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/postgres"
	"eagerwindow/internal/records"
)

// Answer is an answer that is kept.
type Answer = records.Answer

// Idempotent does a request that carries an Idempotency-Key, or returns what was answered when it was made before.
//
// The request is noted with the number of the transaction that makes it before anything is done, and its answer before that transaction is
// committed. So whatever dies in between, the database that is written to can say what has become of the request: a repeat asks it. This
// holds whether or not the records and the data are in one database, and no connection to the records is held meanwhile. do returns an
// error to have nothing done; that is not remembered.
func (a *API) Idempotent(ctx context.Context, c access.Caller, key string, fingerprint []byte, do func(*API) (Answer, error)) (Answer,
	error) {
	if a.rehearsal { // nothing of it lasts, so nothing is remembered
		return do(a)
	}
	var none Answer
	id := records.RequestKey{API: a.Model.Name, Caller: cmp.Or(c.Subject, "from "+c.From), Key: key}
	if a.Release == 0 {
		id.API += "/draft"
	}
	for range 3 { // a request whose transaction came to nothing is made again
		past, err := a.records.Past(ctx, id)
		switch {
		case err != nil:
			return none, keyUnavailable(err)
		case past == nil:
			answer, err := a.firstTime(ctx, c, id, fingerprint, do)
			if errors.Is(err, errFaster) {
				continue
			}
			return answer, err
		case !bytes.Equal(past.Fingerprint, fingerprint):
			return none, fault.New(fault.Unprocessable, "key.reused",
				"this Idempotency-Key came with another request before; a new request needs a new key").On("Idempotency-Key")
		case past.Settled:
			return past.Answer, nil
		}
		fate, err := a.pool.TxStatus(ctx, past.Transaction)
		if err != nil {
			return none, err
		}
		switch {
		case fate == postgres.Committed && past.Status == 0: // it was kept and committed since it was read
			continue
		case fate == postgres.Committed:
			return past.Answer, a.records.Settle(ctx, id)
		case fate == postgres.Running:
			return none, running()
		case fate == postgres.Unknown:
			return none, fault.New(fault.Conflict, "key.unknown", "the request with this Idempotency-Key broke off long ago, "+
				"and the database no longer knows whether it was done; look, and send a new key").On("Idempotency-Key")
		}
		if err := a.records.Forget(ctx, id, past.Transaction); err != nil {
			return none, keyUnavailable(err)
		}
	}
	return none, running()
}

func running() error {
	return fault.New(fault.Conflict, "key.running",
		"a request with this Idempotency-Key is being done at this moment; ask again in a second").On("Idempotency-Key")
}

func keyUnavailable(err error) error {
	return &fault.Refusal{Fault: fault.New(fault.Unavailable, "records.unavailable",
		"an Idempotency-Key can't be kept now, so nothing was done; try again in a moment"), Words: err.Error()}
}

// errFaster says that another request with the same key has begun first.
var errFaster = errors.New("the same request is being made")

func (a *API) firstTime(ctx context.Context, c access.Caller, id records.RequestKey, fingerprint []byte,
	do func(*API) (Answer, error)) (answer Answer, err error) {
	number, kept := "", false
	err = a.client(c, "", "").Transact(ctx, func(tx *postgres.Tx) error {
		var err error
		if number, err = tx.ID(ctx); err != nil {
			return err
		}
		first, err := a.records.Reserve(ctx, id, fingerprint, number)
		if err != nil {
			return keyUnavailable(err)
		}
		if !first {
			return errFaster
		}
		if answer, err = do(a.within(tx)); err != nil {
			return err
		}
		if err := a.records.Keep(ctx, id, number, answer); err != nil {
			return keyUnavailable(err)
		}
		kept = true
		return nil
	})
	// If these fail, the next repeat finds out by itself.
	switch lasting := context.WithoutCancel(ctx); {
	case err == nil:
		_ = a.records.Settle(lasting, id)
	case !kept && number != "" && !errors.Is(err, errFaster):
		_ = a.records.Forget(lasting, id, number)
	}
	return answer, err
}
