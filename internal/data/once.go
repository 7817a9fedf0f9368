package data

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/postgres"
	"eagerwindow/internal/records"
)

// Answer is an answer that is kept.
type Answer = records.Answer

// Idempotent does a request that carries an Idempotency-Key, or returns what was answered when it was made before.
//
// The answer is written down, with the number of the transaction that makes it, before that transaction is committed. So
// whatever dies in between, the records say what was answered, and the database that was written to reports whether it is true: a
// repeat asks it. This holds whether or not the records and the data are in one database. do returns an error to have nothing
// done; that is not remembered.
func (a *API) Idempotent(ctx context.Context, c access.Caller, key string, fingerprint []byte, do func(*API) (Answer, error)) (Answer,
	error) {
	var none Answer
	id := records.RequestKey{API: a.Model.Name, Caller: strings.Join(c.Roles, " ") + " " + c.Subject, Key: key}
	if a.Release == 0 {
		id.API += "/draft"
	}
	for range 3 { // a request whose transaction came to nothing is made again
		promise, kept, err := a.records.Reserve(ctx, id, fingerprint)
		switch {
		case errors.Is(err, records.ErrBusy):
			return none, running()
		case err != nil:
			return none, fmt.Errorf("keep an Idempotency-Key: %w", err)
		case promise != nil:
			return a.firstTime(ctx, id, promise, do)
		case !bytes.Equal(kept.Fingerprint, fingerprint):
			return none, fault.New(fault.Unprocessable, "key.reused",
				"this Idempotency-Key came with another request before; a new request needs a new key").On("Idempotency-Key")
		case kept.Settled:
			return kept.Answer, nil
		}
		fate, err := a.pool.TxStatus(ctx, kept.Transaction)
		if err != nil {
			return none, err
		}
		switch fate {
		case postgres.Committed:
			return kept.Answer, a.records.Settle(ctx, id)
		case postgres.Running:
			return none, running()
		case postgres.Unknown:
			return none, fault.New(fault.Conflict, "key.unknown", "the request with this Idempotency-Key broke off long ago, "+
				"and the database no longer knows whether it was done; look, and send a new key").On("Idempotency-Key")
		}
		if err := a.records.Forget(ctx, id, kept.Transaction); err != nil {
			return none, err
		}
	}
	return none, running()
}

func running() error {
	return fault.New(fault.Conflict, "key.running",
		"a request with this Idempotency-Key is being done at this moment; ask again in a second").On("Idempotency-Key")
}

func (a *API) firstTime(ctx context.Context, id records.RequestKey, promise *records.Reservation,
	do func(*API) (Answer, error)) (answer Answer,
	err error) {
	defer promise.Drop(ctx)
	err = a.pool.Transact(ctx, func(tx *postgres.Tx) error {
		if answer, err = do(a.within(tx)); err != nil {
			return err
		}
		number, err := tx.ID(ctx)
		if err != nil {
			return err
		}
		if err := promise.Keep(ctx, number, answer); err != nil {
			return fmt.Errorf("keep the answer to a request: %w", err)
		}
		return nil
	})
	if err != nil {
		return answer, err
	}
	// If this fails, the next repeat finds out by itself.
	_ = a.records.Settle(context.WithoutCancel(ctx), id)
	return answer, nil
}
