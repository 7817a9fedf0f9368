package records

import (
	"context"
	"errors"
	"net/http"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// RequestKey names a request that is to be done once.
type RequestKey struct{ API, Caller, Key string }

// Answer is what was answered to a request.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Repeat is the answer to a request that has been made before.
type Repeat struct {
	Answer
	Fingerprint []byte
	Transaction string // that it was made in
	Settled     bool   // that transaction is known to be committed
}

// Reservation is a request that is being made for the first time. Nobody else can begin it until the promise is kept or dropped.
type Reservation struct {
	tx  pgx.Tx
	key RequestKey
}

// ErrBusy is returned where the same request is being made at this moment.
var ErrBusy = errors.New("the same request is being made")

// kept is how long answers are remembered.
const kept = "24 hours"

// Reserve begins a request, or finds what was answered to it before. One of the two results is not nil.
func (s *Store) Reserve(ctx context.Context, key RequestKey, fingerprint []byte) (*Reservation, *Repeat, error) {
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		return nil, nil, err
	}
	p := &Reservation{tx, key}
	if _, err := tx.Exec(ctx, "set local lock_timeout = '5s'"); err != nil {
		p.Drop(ctx)
		return nil, nil, err
	}
	tag, err := tx.Exec(ctx, `with past as (delete from idempotent_request where created_at < now() - interval '`+kept+
		`' and (api, caller, key) <> ($1, $2, $3))
		insert into idempotent_request (api, caller, key, fingerprint) values ($1, $2, $3, $4) on conflict do nothing`, key.API, key.Caller,
		key.Key, fingerprint)
	if err == nil && tag.RowsAffected() == 1 {
		return p, nil, nil
	}
	p.Drop(ctx)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "55P03" {
		return nil, nil, ErrBusy
	}
	if err != nil {
		return nil, nil, err
	}
	k := &Repeat{}
	err = s.pool.QueryRow(ctx, `select fingerprint, transaction, settled, status, header, body from idempotent_request
		where (api, caller, key) = ($1, $2, $3)`, key.API, key.Caller, key.Key).Scan(&k.Fingerprint, &k.Transaction, &k.Settled, &k.Status,
		&k.Header, &k.Body)
	if errors.Is(err, pgx.ErrNoRows) { // forgotten in between
		return nil, nil, ErrBusy
	}
	return nil, k, err
}

// Keep remembers the answer and the transaction that it is made in, which must not be committed before.
func (p *Reservation) Keep(ctx context.Context, transaction string, a Answer) error {
	if _, err := p.tx.Exec(ctx, `update idempotent_request set transaction = $4, status = $5, header = $6, body = $7 where (api, caller, `+
		`key) = ($1, $2, $3)`,
		p.key.API, p.key.Caller, p.key.Key, transaction, a.Status, a.Header, a.Body); err != nil {
		return err
	}
	return p.tx.Commit(ctx)
}

// Drop forgets a promise that was not kept. After Keep it does nothing.
func (p *Reservation) Drop(ctx context.Context) { _ = p.tx.Rollback(context.WithoutCancel(ctx)) }

// Settle notes that the transaction of a kept answer is committed.
func (s *Store) Settle(ctx context.Context, key RequestKey) error {
	_, err := s.pool.Exec(ctx, "update idempotent_request set settled = true where (api, caller, key) = ($1, $2, $3)", key.API, key.Caller,
		key.Key)
	return err
}

// Forget forgets an answer whose transaction was not committed.
func (s *Store) Forget(ctx context.Context, key RequestKey, transaction string) error {
	_, err := s.pool.Exec(ctx, "delete from idempotent_request where (api, caller, key, transaction) = ($1, $2, $3, $4) and not settled",
		key.API, key.Caller, key.Key, transaction)
	return err
}
