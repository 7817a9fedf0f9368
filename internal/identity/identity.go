// Package identity establishes who calls, and how often they may: operators, clients, accounts, their tokens and the keys that sign them,
// tokens of other issuers, guesses at passwords, and the limits of roles.
package identity

import (
	"context"
	"log/slog"
	"time"

	"github.com/MicahParks/keyfunc/v3"
	"github.com/alexedwards/argon2id"
	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/hashicorp/golang-lru/v2/expirable"

	"eagerwindow/internal/records"
	"eagerwindow/internal/seal"
	"eagerwindow/internal/windows"
)

// Directory is those who call the windows of one set of records.
type Directory struct {
	records *records.Store
	windows *windows.Registry
	box     *seal.Box
	log     *slog.Logger
	limiter *limiter
	keys    keys
	issuers issuers
	hashing *argon2id.Params
	hashers chan struct{}
	tokens  *lru.Cache[tokenKey, *verified]   // whose signature has been checked
	callers *expirable.LRU[callerKey, *known] // by client, or by the session of an account
	end     context.CancelFunc
}

// New makes a directory over records whose keys are sealed with the box, and makes the first key where there is none.
func New(ctx context.Context, store *records.Store, registry *windows.Registry, box *seal.Box, hashing Hashing,
	log *slog.Logger) (*Directory, error) {
	tokens, _ := lru.New[tokenKey, *verified](10_000) // fails for a size under 1 only
	lasting, end := context.WithCancel(context.WithoutCancel(ctx))
	s := &Directory{records: store, windows: registry, box: box, hashing: hashing.params(), log: log, limiter: newLimiter(), tokens: tokens,
		callers: expirable.NewLRU[callerKey, *known](10_000, nil, fresh), hashers: make(chan struct{}, hashersAtOnce), end: end,
		issuers: issuers{sets: map[string]keyfunc.Keyfunc{}, ctx: lasting, log: log}}
	if _, err := s.ring(ctx, time.Now()); err != nil {
		end()
		return nil, err
	}
	return s, nil
}

// Close ends what goes on beside requests.
func (s *Directory) Close() { s.end() }
