package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Client is a program that calls a window's API.
type Client struct {
	ID         string
	SecretHash string
	Roles      []string
	Claims     map[string]any
	CreatedAt  time.Time
	Generation string // another one when it gets a new secret or is added anew
	Disabled   bool
	Seen
}

// Seen is when a caller was last seen, nil for never, and what it asked for.
type Seen struct {
	UsedAt      *time.Time
	LastRequest string
}

const clientColumns = `select c.id, c.secret_hash, c.roles, c.claims, c.created_at, c.generation::text, c.disabled, c.used_at,
	c.last_request
	from client c join api_window w on w.id = c.window_id where w.name = $1`

func scanClient(row pgx.CollectableRow) (*Client, error) {
	c := &Client{}
	return c, row.Scan(&c.ID, &c.SecretHash, &c.Roles, &c.Claims, &c.CreatedAt, &c.Generation, &c.Disabled, &c.UsedAt, &c.LastRequest)
}

// Callers lists the clients and the accounts of a window.
func (s *Store) Callers(ctx context.Context, window string) (clients []*Client, accounts []*Account, err error) {
	if clients, err = s.Clients(ctx, window); err != nil {
		return nil, nil, fmt.Errorf("read the clients of %q: %w", window, err)
	}
	if accounts, err = s.Accounts(ctx, window); err != nil {
		return nil, nil, fmt.Errorf("read the accounts of %q: %w", window, err)
	}
	return clients, accounts, nil
}

// Clients lists the clients of a window by id.
func (s *Store) Clients(ctx context.Context, window string) ([]*Client, error) {
	return list(ctx, s, scanClient, clientColumns+" order by c.id", window)
}

// Client finds a client of a window.
func (s *Store) Client(ctx context.Context, window, id string) (*Client, error) {
	return one(ctx, s, scanClient, clientColumns+" and c.id = $2", window, id)
}

// SaveClient adds a client or replaces it.
func (s *Store) SaveClient(ctx context.Context, window string, c *Client) error {
	a := act{"add client", window + "/client/" + c.ID, map[string]any{"roles": c.Roles, "claims": c.Claims}}
	return s.mustAct(ctx, a, `insert into client (window_id, id, secret_hash, roles, claims) select w.id, $2, $3, $4,
			$5 from api_window w where w.name = $1
		on conflict (window_id, id) do update set secret_hash = excluded.secret_hash, roles = excluded.roles, claims = excluded.claims,
		generation = gen_random_uuid(), disabled = false`, window, c.ID, c.SecretHash, c.Roles, c.Claims)
}

// mergedClaims is the claims of a row with those of an argument put over them; one that is null goes. A null argument changes nothing.
const mergedClaims = `case when $3::jsonb is null then claims else
	(select coalesce(jsonb_object_agg(k, v), '{}') from jsonb_each(claims || $3) e(k, v) where v <> 'null') end`

// ClientChange is what becomes different in a client: what is nil stays, and a claim that is null goes.
type ClientChange struct {
	Roles      []string
	Claims     map[string]any
	Disabled   *bool
	SecretHash *string // another secret: the tokens of the one before are refused
}

// ChangeClient changes no more of a client than is said.
func (s *Store) ChangeClient(ctx context.Context, window, id string, c ClientChange) error {
	a := act{"change client", window + "/client/" + id, details("roles", c.Roles, "claims", c.Claims, "disabled", c.Disabled, "secret",
		c.SecretHash)}
	return s.mustAct(ctx, a, "update client set roles = coalesce($2, roles), claims = "+mergedClaims+`, disabled = coalesce($5, disabled),
			secret_hash = coalesce($6, secret_hash), generation = case when $6::text is null then generation else gen_random_uuid() end
		where id = $1 and window_id = (select id from api_window where name = $4)`, id, c.Roles, c.Claims, window, c.Disabled, c.SecretHash)
}

// details are names and values of what is changed, apart from those that are nil. Hashes are never written down.
func details(pairs ...any) map[string]any {
	out := map[string]any{}
	for i := 0; i < len(pairs); i += 2 {
		name := pairs[i].(string)
		switch v := pairs[i+1].(type) {
		case []string:
			if v != nil {
				out[name] = v
			}
		case map[string]any:
			if v != nil {
				out[name] = v
			}
		case *bool:
			if v != nil {
				out[name] = *v
			}
		case *string:
			if v != nil {
				out[name] = "another"
			}
		}
	}
	return out
}

// RemoveClient removes a client.
func (s *Store) RemoveClient(ctx context.Context, window, id string) error {
	return s.mustAct(ctx, act{name: "remove client", target: window + "/client/" + id},
		"delete from client where id = $2 and window_id = (select id from api_window where name = $1)", window, id)
}

// SeeClient notes what a client asked for.
func (s *Store) SeeClient(ctx context.Context, window, id, request string) error {
	_, err := s.pool.Exec(ctx, "update client set used_at = now(), last_request = $3 where id = $2 and window_id = (select id from "+
		"api_window where name = $1)", window, id, request)
	return err
}

// Account is a person who signs in to a window's API.
type Account struct {
	ID           string
	Email        string
	PasswordHash string
	Roles        []string
	Claims       map[string]any
	Disabled     bool
	CreatedAt    time.Time
	Sessions     int // where it is signed in
	Seen
}

const accountColumns = `select a.id::text, a.email, a.password_hash, a.roles, a.claims, a.disabled, a.created_at, a.used_at, a.last_request,
	(select count(*) from account_session s where s.account_id = a.id and s.expires_at > now())
	from account a join api_window w on w.id = a.window_id`

func scanAccount(row pgx.CollectableRow) (*Account, error) {
	a := &Account{}
	return a, row.Scan(&a.ID, &a.Email, &a.PasswordHash, &a.Roles, &a.Claims, &a.Disabled, &a.CreatedAt, &a.UsedAt, &a.LastRequest,
		&a.Sessions)
}

// Accounts lists the accounts of a window by address.
func (s *Store) Accounts(ctx context.Context, window string) ([]*Account, error) {
	return list(ctx, s, scanAccount, accountColumns+" where w.name = $1 order by a.email", window)
}

// Account finds an account of a window by its address.
func (s *Store) Account(ctx context.Context, window, email string) (*Account, error) {
	return one(ctx, s, scanAccount, accountColumns+" where w.name = $1 and a.email = lower($2)", window, email)
}

// AccountOf finds the account of a session that has not ended.
func (s *Store) AccountOf(ctx context.Context, window, session string) (*Account, error) {
	return one(ctx, s, scanAccount, accountColumns+
		" join account_session o on o.account_id = a.id and o.expires_at > now() where w.name = $1 and o.id = $2", window, session)
}

// AddAccount adds an account; ErrNone says that the window is not there, ErrTaken that the address has one.
func (s *Store) AddAccount(ctx context.Context, window string, a *Account) error {
	added := &act{"add account", window + "/account/" + a.Email, map[string]any{"roles": a.Roles, "claims": a.Claims}}
	err := s.act(ctx, added, func(ctx context.Context, tx pgx.Tx) error {
		return tx.QueryRow(ctx, `insert into account (window_id, email, password_hash, roles, claims) select id, lower($2), $3, $4,
			$5 from api_window where name = $1
		on conflict (window_id, email) do nothing returning id::text, email, created_at`, window, a.Email, a.PasswordHash, a.Roles,
			a.Claims).Scan(&a.ID, &a.Email, &a.CreatedAt)
	})
	if none(err) == ErrNone {
		if _, err := s.Window(ctx, window); err != nil {
			return err
		}
		return ErrTaken
	}
	return err
}

// AccountChange is what becomes different in an account: what is nil stays, and a claim that is null goes.
type AccountChange struct {
	Roles        []string
	Claims       map[string]any
	Disabled     *bool
	PasswordHash *string
}

// ChangeAccount changes no more of an account than is said, so that two changes at once do not undo each other. One that is disabled is
// signed out everywhere.
func (s *Store) ChangeAccount(ctx context.Context, id string, c AccountChange) error {
	a := act{"change account", "account/" + id, details("roles", c.Roles, "claims", c.Claims, "disabled", c.Disabled, "password",
		c.PasswordHash)}
	return s.mustAct(ctx, a, `with ended as (delete from account_session where account_id = $1 and $4)
		update account set roles = coalesce($2, roles), claims = `+mergedClaims+`, disabled = coalesce($4, disabled),
		password_hash = coalesce($5, password_hash) where id = $1`, id, c.Roles, c.Claims, c.Disabled, c.PasswordHash)
}

// RemoveAccount removes an account.
func (s *Store) RemoveAccount(ctx context.Context, id string) error {
	return s.mustAct(ctx, act{name: "remove account", target: "account/" + id}, "delete from account where id = $1", id)
}

// SeeAccount notes what an account asked for.
func (s *Store) SeeAccount(ctx context.Context, id, request string) error {
	_, err := s.pool.Exec(ctx, "update account set used_at = now(), last_request = $2 where id = $1", id, request)
	return err
}

// BeginSession signs an account in, with the hash of a first refresh token, and forgets sessions that have ended.
func (s *Store) BeginSession(ctx context.Context, account string, refresh []byte, ends time.Time) (session string, err error) {
	err = s.pool.QueryRow(ctx, `with ended as (delete from account_session where expires_at < now()),
		begun as (insert into account_session (account_id, expires_at) values ($1, $3) returning id)
		insert into refresh_token (hash, session_id) select $2, id from begun returning session_id::text`, account, refresh, ends).Scan(&session)
	return session, err
}

// Refresh trades a refresh token for the next one of its session. A token that is used a second time has been copied: its session ends
// with ErrReused. ErrNone says that there is no such token, or that its session is over.
func (s *Store) Refresh(ctx context.Context, window string, old, next []byte, ends time.Time) (session string, err error) {
	reused := false
	err = s.pool.transact(ctx, func(ctx context.Context, tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `update refresh_token t set used = true from account_session s join account a on a.id = s.account_id
		join api_window w on w.id = a.window_id
			where t.hash = $1 and not t.used and s.id = t.session_id and s.expires_at > now() and w.name = $2 returning s.id::text`, old,
			window).Scan(&session)
		if none(err) == ErrNone {
			tag, err := tx.Exec(ctx, "delete from account_session where id = (select session_id from refresh_token where hash = $1 and used)", old)
			reused = err == nil && tag.RowsAffected() > 0
			if err == nil && !reused {
				err = ErrNone
			}
			return err
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "insert into refresh_token (hash, session_id) values ($1, $2)", next, session)
		if err == nil {
			_, err = tx.Exec(ctx, "update account_session set expires_at = least($2, created_at + interval '90 days') where id = $1", session, ends)
		}
		return err
	})
	if err == nil && reused {
		err = ErrReused
	}
	return session, err
}

// EndAccountSession signs an account out where it is signed in.
func (s *Store) EndAccountSession(ctx context.Context, session string) error {
	_, err := s.pool.Exec(ctx, "delete from account_session where id = $1", session)
	return err
}

// EndOtherSessions signs an account out everywhere but in one session; "" for none.
func (s *Store) EndOtherSessions(ctx context.Context, account, but string) error {
	_, err := s.pool.Exec(ctx, "delete from account_session where account_id = $1 and id::text <> $2", account, but)
	return err
}

// WrongGuesses tells how often each of some things was guessed at wrongly, and how long ago that was last.
func (s *Store) WrongGuesses(ctx context.Context, what []string) (counts map[string]int, ago map[string]time.Duration, err error) {
	rows, err := s.pool.Query(ctx, "select at_what, count, extract(epoch from now() - last_at)::float8 from wrong_guess where at_what = "+
		"any($1)", what)
	if err != nil {
		return nil, nil, err
	}
	counts, ago = map[string]int{}, map[string]time.Duration{}
	var name string
	var count int
	var seconds float64
	_, err = pgx.ForEachRow(rows, []any{&name, &count, &seconds}, func() error {
		counts[name], ago[name] = count, time.Duration(seconds*float64(time.Second))
		return nil
	})
	return counts, ago, err
}

// Guessed counts a wrong guess. Those that lie back a while are forgotten.
func (s *Store) Guessed(ctx context.Context, what []string, forget time.Duration) error {
	_, err := s.pool.Exec(ctx, `with old as (delete from wrong_guess where last_at < now() - $2::interval and at_what <> all($1))
		insert into wrong_guess (at_what, count, last_at) select what, 1, now() from unnest($1::text[]) what
		on conflict (at_what) do update set count = case when wrong_guess.last_at < now() - $2::interval then 1 else wrong_guess.count + 1 end,
		last_at = now()`, what, forget)
	return err
}

// CountIfAllowed counts one more where the counts so far allow it: of those who ask at the same time, one after the other. It returns how
// long to wait where they do not.
func (s *Store) CountIfAllowed(ctx context.Context, what string, forget time.Duration,
	wait func(count int, ago time.Duration) time.Duration) (left time.Duration, err error) {
	err = s.pool.transact(ctx, func(ctx context.Context, tx pgx.Tx) error {
		var count int
		var seconds float64
		if _, err := tx.Exec(ctx, "insert into wrong_guess (at_what, count, last_at) values ($1, 0, now()) on conflict do nothing",
			what); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, "select count, extract(epoch from clock_timestamp() - last_at)::float8 from wrong_guess where at_what = $1 "+
			"for update", what).Scan(&count, &seconds)
		if err != nil {
			return err
		}
		ago := time.Duration(seconds * float64(time.Second))
		if ago > forget {
			count = 0
		}
		if left = wait(count, ago); left > 0 {
			return nil
		}
		_, err = tx.Exec(ctx, "update wrong_guess set count = $2, last_at = clock_timestamp() where at_what = $1", what, count+1)
		return err
	})
	return left, err
}

// GuessedRight forgets the wrong guesses at something.
func (s *Store) GuessedRight(ctx context.Context, what string) error {
	_, err := s.pool.Exec(ctx, "delete from wrong_guess where at_what = $1", what)
	return err
}

// SigningKey is a key that signs tokens; the private part is sealed.
type SigningKey struct {
	ID        string
	Sealed    []byte
	CreatedAt time.Time
}

// SigningKeys lists the keys, the newest first.
func (s *Store) SigningKeys(ctx context.Context) ([]SigningKey, error) {
	return list(ctx, s, pgx.RowToStructByPos[SigningKey],
		"select id, sealed_private, created_at from signing_key order by created_at desc, id")
}

// AddSigningKey keeps a key where none is younger than that, unless another service is faster.
func (s *Store) AddSigningKey(ctx context.Context, k SigningKey, younger time.Duration) error {
	_, err := s.pool.Exec(ctx, `with one_at_a_time as materialized (select pg_advisory_xact_lock(hashtext('eager_window.signing_key')))
		insert into signing_key (id, sealed_private) select $1, $2 from one_at_a_time where not exists (select
			from signing_key where created_at > clock_timestamp() - $3::interval)`, k.ID, k.Sealed, younger)
	return err
}

// RetireSigningKeys forgets the keys that a newer one has stood beside for so long.
func (s *Store) RetireSigningKeys(ctx context.Context, since time.Duration) error {
	_, err := s.pool.Exec(ctx, "delete from signing_key k where exists (select from signing_key n where n.created_at > k.created_at and "+
		"n.created_at <= now() - $1::interval)", since)
	return err
}
