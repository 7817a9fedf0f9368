package identity

import (
	"context"
	"fmt"
	"math"
	"time"

	"github.com/alexedwards/argon2id"

	"eagerwindow/internal/core/fault"
)

// Hashing is what a hash of a password costs; the zero value is RFC 9106's second recommendation: 64 MiB, three passes.
type Hashing struct {
	Memory uint32 // in KiB
	Passes uint32
}

func (h Hashing) params() *argon2id.Params {
	if h.Memory == 0 {
		h = Hashing{64 * 1024, 3}
	}
	return &argon2id.Params{Memory: h.Memory, Iterations: h.Passes, Parallelism: 2, SaltLength: 16, KeyLength: 32}
}

// hashersAtOnce bounds the memory that guessing can take.
const hashersAtOnce = 4

// Guessing slows down: after some wrong guesses each further one must wait twice as long as the one before, until none comes for a while.
const (
	freeForOne    = 5   // at one caller from one address
	freeForPlace  = 30  // from one address
	freeForCaller = 100 // at one caller, from anywhere
	freeSignUps   = 20  // from one address: each tells whether an address has an account
	longestWait   = 15 * time.Minute
	guessesKept   = time.Hour
)

// guess is one try at a password or secret, or signing up.
type guess struct{ what, from string }

const signingUp = "sign up"

// keys are what is counted, and how much of it is free.
func (g guess) keys() ([]string, []int) {
	if g.what == signingUp {
		return []string{signingUp + " from " + g.from}, []int{freeSignUps}
	}
	return []string{g.what + " from " + g.from, "from " + g.from, g.what}, []int{freeForOne, freeForPlace, freeForCaller}
}

// matches reports whether a secret is the one of a hash; "" is the hash of nobody, which takes as long to find out. Who guesses too often
// is refused before.
func (s *Directory) matches(ctx context.Context, g guess, secret, hash string) (bool, error) {
	select {
	case s.hashers <- struct{}{}:
		defer func() { <-s.hashers }()
	case <-ctx.Done():
		return false, ctx.Err()
	}
	if err := s.mayGuess(ctx, g); err != nil {
		return false, err
	}
	ok := false
	if hash == "" {
		_, _ = argon2id.CreateHash(secret, s.hashing)
	} else {
		match, err := argon2id.ComparePasswordAndHash(secret, hash)
		ok = err == nil && match
	}
	keys, _ := g.keys()
	var err error
	if ok {
		err = s.records.GuessedRight(ctx, keys[0])
	} else {
		err = s.records.Guessed(ctx, keys, guessesKept)
	}
	if err != nil {
		return false, fmt.Errorf("count guesses: %w", err)
	}
	return ok, nil
}

func (s *Directory) mayGuess(ctx context.Context, g guess) error {
	keys, free := g.keys()
	counts, ago, err := s.records.WrongGuesses(ctx, keys)
	if err != nil {
		return fmt.Errorf("count guesses: %w", err)
	}
	var wait time.Duration
	for i, key := range keys {
		if over := counts[key] - free[i]; over >= 0 {
			wait = max(wait, backoff(over)-ago[key])
		}
	}
	if wait <= 0 {
		return nil
	}
	f := fault.New(fault.TooMany, "sign_in.throttled", "too many tries; the next one in %d s", int(math.Ceil(wait.Seconds())))
	f.Wait = wait
	return f
}

// backoff is how long a guess must wait after so many over those that are free.
func backoff(over int) time.Duration {
	if over > 20 {
		return longestWait
	}
	return min(longestWait, time.Second<<over)
}

// hash is what is kept of a password or secret.
func (s *Directory) hash(ctx context.Context, secret string) (string, error) {
	select {
	case s.hashers <- struct{}{}:
		defer func() { <-s.hashers }()
	case <-ctx.Done():
		return "", ctx.Err()
	}
	return argon2id.CreateHash(secret, s.hashing)
}
