package records

import (
	"context"
	"crypto/hmac"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Actor is the operator who acts, and the address that the request came from.
type Actor struct{ Who, From string }

type actorKey struct{}

// As makes a context in which an operator acts: what is changed with it has an entry in the audit.
func As(ctx context.Context, a Actor) context.Context { return context.WithValue(ctx, actorKey{}, a) }

// By is who acts in a context, "" for nobody but the service.
func By(ctx context.Context) string {
	a, _ := ctx.Value(actorKey{}).(Actor)
	return a.Who
}

// act is what is done: a name such as publish, what it is done to, and what changed.
type act struct {
	name, target string
	details      map[string]any
}

// Entry is an entry of the audit.
type Entry struct {
	ID      int64           `json:"id"`
	At      time.Time       `json:"at"`
	Who     string          `json:"who"`
	From    string          `json:"from"`
	Act     string          `json:"act"`
	Target  string          `json:"target"`
	Details json.RawMessage `json:"details"`
	Seal    string          `json:"seal"` // hexadecimal
}

// act runs do in a transaction that also appends an entry to the audit, so that nothing is changed without one. What do learns it can add
// to the details. Without an actor there is no entry.
func (s *Store) act(ctx context.Context, a *act, do func(context.Context, pgx.Tx) error) error {
	actor, acts := ctx.Value(actorKey{}).(Actor)
	return s.pool.transact(ctx, func(ctx context.Context, tx pgx.Tx) error {
		if err := do(ctx, tx); err != nil || !acts {
			return err
		}
		return s.append(ctx, tx, actor, a)
	})
}

// Note appends an entry of something that is done outside of one transaction, before it is done.
func (s *Store) Note(ctx context.Context, name, target string, details map[string]any) error {
	return s.act(ctx, &act{name, target, details}, func(context.Context, pgx.Tx) error { return nil })
}

// mustAct is an act of one statement; ErrNone says that what it changes is not there.
func (s *Store) mustAct(ctx context.Context, a act, sql string, args ...any) error {
	return s.act(ctx, &a, func(ctx context.Context, tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, sql, args...)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNone
		}
		return err
	})
}

const entryColumns = "select id, at, who, address, act, target, details, encode(seal, 'hex') from audit"

func scanEntry(row pgx.CollectableRow) (e Entry, err error) {
	var details string
	err = row.Scan(&e.ID, &e.At, &e.Who, &e.From, &e.Act, &e.Target, &details, &e.Seal)
	e.At, e.Details = e.At.UTC(), json.RawMessage(details)
	return e, err
}

// append adds an entry after the last one. One acts at a time, so that the chain has no forks.
func (s *Store) append(ctx context.Context, tx pgx.Tx, actor Actor, a *act) error {
	details, err := json.Marshal(a.details)
	if err != nil {
		return err
	}
	if a.details == nil {
		details = []byte("{}")
	}
	if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(hashtext('eager_window.audit'))"); err != nil {
		return err
	}
	var last Entry
	var now time.Time
	rows, err := tx.Query(ctx, entryColumns+" order by id desc limit 1")
	if err != nil {
		return err
	}
	if last, err = pgx.CollectOneRow(rows, scanEntry); err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return err
	}
	if err := tx.QueryRow(ctx, "select clock_timestamp()").Scan(&now); err != nil {
		return err
	}
	e := Entry{ID: last.ID + 1, At: now.UTC(), Who: actor.Who, From: actor.From, Act: a.name, Target: a.target, Details: details}
	seal := s.mac(e.sealed(last.Seal))
	_, err = tx.Exec(ctx, "insert into audit (id, at, who, address, act, target, details, seal) values ($1, $2, $3, $4, $5, $6, $7, $8)", e.ID,
		e.At, e.Who, e.From, e.Act, e.Target, string(details), seal)
	return err
}

// sealed is what the seal of an entry is of: the seal before it, and all of the entry, as JSON.
func (e Entry) sealed(before string) []byte {
	e.Seal = before
	text, _ := json.Marshal(e) // of texts, a number, a time and JSON
	return text
}

// Audit lists entries, the newest first: of a target, or of those below it ("" for all), before an id (0 for the last).
func (s *Store) Audit(ctx context.Context, target string, before int64, limit int) ([]Entry, error) {
	return list(ctx, s, scanEntry, entryColumns+` where ($1 = '' or target = $1 or starts_with(target, $1 || '/')) and ($2 = 0 or id < $2)
		order by id desc limit $3`, target, before, limit)
}

// Verified is what is known of the audit after looking through it.
type Verified struct {
	Entries int64  `json:"entries"`
	Seal    string `json:"seal"`   // of the last entry that is as it was written
	Broken  int64  `json:"broken"` // the first entry that is not, 0 for none
	Why     string `json:"why,omitempty"`
}

// VerifyAudit looks through all entries. It can't know of entries that were removed from the end: whoever has noted a seal finds out by
// looking for it.
func (s *Store) VerifyAudit(ctx context.Context, noted string) (*Verified, error) {
	out, seen := &Verified{}, noted == ""
	const page = 1000
	for {
		entries, err := list(ctx, s, scanEntry, entryColumns+" where id > $1 order by id limit $2", out.Entries, page)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			seal, err := hex.DecodeString(e.Seal)
			switch {
			case e.ID != out.Entries+1:
				out.Broken, out.Why = out.Entries+1, fmt.Sprintf("entry %d is missing", out.Entries+1)
			case err != nil || !hmac.Equal(seal, s.mac(e.sealed(out.Seal))):
				out.Broken, out.Why = e.ID, fmt.Sprintf("entry %d is not as it was written, or EAGER_SECRET is another one", e.ID)
			default:
				out.Entries, out.Seal = e.ID, e.Seal
				seen = seen || e.Seal == noted
				continue
			}
			return out, nil
		}
		if len(entries) < page {
			break
		}
	}
	if !seen {
		out.Broken, out.Why = out.Entries+1, "the seal that was noted is not among the entries: some were removed from the end"
	}
	return out, nil
}
