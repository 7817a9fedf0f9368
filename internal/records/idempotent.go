package records

import (
	"context"
	"errors"
	"net/http"

	"github.com/jackc/pgx/v5"
)

// RequestKey names a request that is to be done once.
type RequestKey struct{ API, Caller, Key string }

// Answer is what was answered to a request.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Repeat is a request that has been made before.
type Repeat struct {
	Answer      // of one whose transaction is not committed, not to be relied on
	Fingerprint []byte
	Transaction string // that it is made in
	Settled     bool   // that transaction is known to be committed
}

// kept is how long answers are remembered.
const kept = "24 hours"

// Past finds the request with a key, nil where there was none.
func (s *Store) Past(ctx context.Context, key RequestKey) (*Repeat, error) {
	r := &Repeat{}
	err := s.pool.QueryRow(ctx, `select fingerprint, transaction, settled, coalesce(status, 0), header, body from idempotent_request
		where (api, caller, key) = ($1, $2, $3)`, key.API, key.Caller, key.Key).Scan(&r.Fingerprint, &r.Transaction, &r.Settled, &r.Status,
		&r.Header, &r.Body)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return r, err
}

// Reserve notes that a request is made for the first time, in that transaction. While it runs, nobody else can make the request; when it
// has come to nothing, the request is as if it had not been. It reports whether nobody was faster.
func (s *Store) Reserve(ctx context.Context, key RequestKey, fingerprint []byte, transaction string) (bool, error) {
	tag, err := s.pool.Exec(ctx, `insert into idempotent_request (api, caller, key, fingerprint, transaction) values ($1, $2, $3, $4, $5)
		on conflict do nothing`, key.API, key.Caller, key.Key, fingerprint, transaction)
	return err == nil && tag.RowsAffected() == 1, err
}

// Keep remembers the answer of a request, whose transaction must not be committed before.
func (s *Store) Keep(ctx context.Context, key RequestKey, transaction string, a Answer) error {
	return s.must(ctx, `update idempotent_request set status = $5, header = $6, body = $7
		where (api, caller, key, transaction) = ($1, $2, $3, $4)`, key.API, key.Caller, key.Key, transaction, a.Status, a.Header, a.Body)
}

// Settle notes that the transaction of a kept answer is committed.
func (s *Store) Settle(ctx context.Context, key RequestKey) error {
	_, err := s.pool.Exec(ctx, "update idempotent_request set settled = true where (api, caller, key) = ($1, $2, $3)", key.API, key.Caller,
		key.Key)
	return err
}

// Forget forgets a request whose transaction was not committed.
func (s *Store) Forget(ctx context.Context, key RequestKey, transaction string) error {
	_, err := s.pool.Exec(ctx, "delete from idempotent_request where (api, caller, key, transaction) = ($1, $2, $3, $4) and not settled",
		key.API, key.Caller, key.Key, transaction)
	return err
}

// ForgetOld forgets answers that have been remembered long enough, some at a time, and none that somebody works on.
func (s *Store) ForgetOld(ctx context.Context) error {
	for {
		tag, err := s.pool.Exec(ctx, `delete from idempotent_request where (api, caller, key) in (select api, caller, key
			from idempotent_request where created_at < now() - interval '`+kept+`' limit 1000 for update skip locked)`)
		if err != nil || tag.RowsAffected() < 1000 {
			return err
		}
	}
}
